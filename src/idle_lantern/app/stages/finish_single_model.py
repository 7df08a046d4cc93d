"""Which frame of an outing may stand for one wide frame of the place: no Qt, tested without a window."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from pathlib import Path
from statistics import median

from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.frames.reading import probe
from idle_lantern.core.join.request import JoinResult
from idle_lantern.core.outing.model import FrameRef, Outing

PICTURES = "Pictures (*.jpg *.jpeg *.png *.tif *.tiff *.dng *.nef *.cr2 *.cr3 *.arw *.raf *.orf *.rw2);;All files (*)"
#: A frame of so much shorter a focal length shows the place in one; at most so many files are asked.
_SHORTER, _MOST_ASKED = 0.75, 60


def likely_frame(outing: Outing, joined: JoinResult | None, path_of: Callable[[FrameRef], Path]) -> Path | None:
    """A frame that was brought in and not joined, of a shorter focal length than those that were; else where the frames lie."""
    if joined is None or not outing.frames:
        return None
    used = {i for i, row in zip(joined.frame_ids, joined.report.frames) if row.used}
    lengths = {ref.id: _focal_mm(path_of(ref)) for ref in outing.frames[:_MOST_ASKED]}
    joined_mm = [mm for i, mm in lengths.items() if i in used and mm]
    if joined_mm:
        short = _SHORTER * median(joined_mm)
        wide = [(mm, ref) for ref in outing.frames if ref.id not in used and (mm := lengths.get(ref.id)) and mm < short]
        if wide:
            return path_of(min(wide, key=lambda pair: pair[0])[1])
    return path_of(outing.frames[0]).parent


def _focal_mm(path: Path) -> float | None:
    with contextlib.suppress(LanternError):
        return probe(path).metadata.focal_mm
    return None
