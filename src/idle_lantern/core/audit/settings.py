"""Settings that one frame has and the others have not, as the files tell them."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Callable, Sequence

from idle_lantern.core.audit.findings import Finding
from idle_lantern.core.base import units
from idle_lantern.core.sorting.positions import Position

_SAME_SHARE = 0.06


def setting_findings(positions: Sequence[Position]) -> list[Finding]:
    """Frames whose aperture, ISO, focal length or exposure time is another than most have."""
    bases = [p.base for p in positions]
    kinds: tuple[tuple[str, str, Callable[[float], str], str], ...] = (
        (
            "aperture",
            "EV",
            lambda v: f"f/{v:g}",
            "Depth and fall-off differ: use a repeat, or watch its seams at 100 %",
        ),
        ("iso", "EV", lambda v: f"ISO {v:g}", "Noise differs; even the brightness out"),
        ("focal_mm", "mm", lambda v: f"{v:g} mm", "The zoom was moved: leave it out, or use a repeat"),
        ("exposure_s", "EV", units.exposure_time, "Even it out, or use a repeat"),
    )
    found = []
    for name, unit, words, remedy in kinds:
        values = [getattr(look.info.metadata, name) for look in bases]
        known = [v for v in values if v]
        if len(known) < 3:
            continue
        usual, often = Counter(round(math.log(v) / _SAME_SHARE) for v in known).most_common(1)[0]
        if often < 0.6 * len(known):
            continue
        middle = next(v for v in known if round(math.log(v) / _SAME_SHARE) == usual)
        for look, value in zip(bases, values):
            if not value or abs(math.log(value / middle)) <= _SAME_SHARE:
                continue
            what = {"focal_mm": "focal_length", "exposure_s": "exposure"}.get(name, name)
            figure = _difference(name, value, middle)
            sentence = f"{words(value)} where the others have {words(middle)}"
            found.append(
                Finding(
                    look.path,
                    what,
                    figure,
                    unit,
                    sentence,
                    remedy,
                    cure="even_out" if what in ("exposure", "iso") else "",
                )
            )
    return found


def _difference(name: str, value: float, usual: float) -> float:
    """In EV, more is brighter; of the focal length in millimetres."""
    if name == "focal_mm":
        return value - usual
    return math.log2(value / usual) * (-2 if name == "aperture" else 1)
