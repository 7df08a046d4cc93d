"""What is found at a frame, in one sentence, and what to do about it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

#: How much each kind hurts a join, the worst first.
WORST_FIRST = (
    "unreadable", "blur", "shake", "focus", "overlap", "exposure", "white_balance", "aperture", "focal_length", "iso",
    "tilt", "featureless", "clipped", "dust", "flare", "polariser",
)  # fmt: skip


@dataclass(frozen=True)
class Finding:
    """One thing that is not as it should be.

    ``u``, ``v`` is the place in the upright frame where it shows best, in pixels, None for the whole frame.
    ``cure`` names what can be done at once: ``leave_out``, ``use_repeat``, ``even_out``, or nothing.
    """

    path: Path
    what: str
    figure: float
    unit: str
    sentence: str
    remedy: str
    u: float | None = None
    v: float | None = None
    cure: str = ""

    def as_json(self, name: str) -> dict[str, Any]:
        """As the report tells it, under the file's name."""
        return {
            "file": name, "what": self.what, "figure": round(self.figure, 3), "unit": self.unit, "u": self.u, "v": self.v,
            "sentence": self.sentence, "remedy": self.remedy,
        }  # fmt: skip


def worst_first(findings: Sequence[Finding]) -> list[Finding]:
    """Findings by how much they hurt, then by size."""
    return sorted(findings, key=lambda f: (WORST_FIRST.index(f.what), -abs(f.figure)))
