"""Which frames the joined picture shows at a place, and what each of them shows there by itself: no Qt, tested without a window."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.compositing.canvas.warp import Tile
from idle_lantern.core.compositing.render.single_frame import FrameArea, frame_alone, frames_showing
from idle_lantern.core.frames.reading import read_again
from idle_lantern.core.join.request import JoinResult


@dataclass(frozen=True)
class Candidate:
    """A frame that shows a place: its number in the poses, id and file name, and whether the picture shows the place by it alone."""

    at: int
    frame: str
    name: str
    shown: bool = False


def alone(joined: JoinResult, candidate: Candidate, tile: Tile) -> Array | None:
    """A frame by itself on a window of the picture, (h, w, 4) uint8, in the space of the set.

    Raises
    ------
    UnreadableFrame
        Its file is gone or damaged.
    """
    solution = joined.solution
    assert solution is not None
    f = solution.poses.frames[candidate.at]
    row = joined.report.frames[f]
    picture = read_again(solution.frames.infos[f]).in_space(solution.frames.space)
    return frame_alone(
        solution.poses, joined.canvas, candidate.at, picture, np.asarray(row.gain, float),
        joined.report.falloff_terms, tile,
    )  # fmt: skip


def sharpest_of(found: Sequence[Candidate], views: Mapping[str, Array]) -> int | None:
    """Which of the frames of a place shows most fine detail there, by their views of it as ``alone`` gives them; None while one of them
    is not there, or where there is nothing to choose from."""
    from idle_lantern.core.inspection.sharpness import sharpest  # loads the engine, which no start needs

    if len(found) < 2 or any(c.frame not in views for c in found):
        return None
    return sharpest([views[c.frame] for c in found])


#: Outlines are told to a few pixels: of an area that a frame shows alone so much may seem to lie beside them.
_LEAST_SHARE = 0.99


def shows_alone(joined: JoinResult, frame: int, area: FrameArea) -> bool:
    """Whether the picture shows all of an area by one frame (by place in the poses)."""
    solution = joined.solution
    f = None if solution is None else solution.poses.frames[frame]
    if f is None or f >= len(joined.report.frames):
        return False
    lines = joined.report.frames[f].outlines_px
    offset = np.array([area.left, area.top])
    drawn = [np.rint((np.asarray(line, float) - offset) / area.scale).astype(np.int32) for line in lines]
    shown = cv2.fillPoly(np.zeros(area.raster.shape, np.uint8), drawn, 1) if drawn else np.zeros_like(area.raster)
    h, w = area.raster.shape
    column, row = area.left + np.arange(w) * area.scale, area.top + np.arange(h)[:, None] * area.scale
    canvas = (column >= 0) & (column < joined.canvas.width) & (row >= 0) & (row < joined.canvas.height)
    asked = (area.raster > 0) & canvas
    return bool(asked.any()) and float((shown[asked] > 0).mean()) >= _LEAST_SHARE


def shown_at(joined: JoinResult, u: float, v: float) -> int | None:
    """Place in the poses of the frame that the picture shows at a pixel, None where nothing can be told."""
    solution = joined.solution
    if solution is None:
        return None
    showing = frames_showing(solution.poses, joined.canvas, u, v)
    rows = joined.report.frames
    for i in showing:
        f = solution.poses.frames[i]
        for outline in rows[f].outlines_px if f < len(rows) else ():
            if cv2.pointPolygonTest(np.asarray(outline, np.float32), (float(u), float(v)), measureDist=False) >= 0:
                return i
    return showing[0] if showing else None
