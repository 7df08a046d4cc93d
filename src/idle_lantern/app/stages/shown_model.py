"""Which frames the joined picture shows at a place, and what each of them shows there by itself: no Qt, tested without a window."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.compositing.canvas.warp import Tile
from idle_lantern.core.compositing.render.single_frame import frame_alone, frames_showing
from idle_lantern.core.frames.reading import read_again
from idle_lantern.core.join.request import JoinResult


@dataclass(frozen=True)
class Candidate:
    """A frame that shows a place: its number in the poses, id and file name."""

    at: int
    frame: str
    name: str


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
