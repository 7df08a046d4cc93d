"""Edits that tests make often."""

from __future__ import annotations

from collections.abc import Sequence

from idle_lantern.core.outing.edits import Edit
from idle_lantern.core.outing.position_edits import BroughtPosition, bring_positions


def bring_frames(files: Sequence[str]) -> Edit:
    """Single pictures from elsewhere."""
    return bring_positions([BroughtPosition((file,)) for file in files])
