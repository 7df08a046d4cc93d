"""Before a place is healed: does another frame show it without what shall go? No Qt, tested without a window."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np

from idle_lantern.app.stages.hands_model import show_there
from idle_lantern.app.stages.shown_model import Candidate, alone, shown_at
from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.colour.convert import converted, eight_bit
from idle_lantern.core.compositing.canvas.warp import Tile
from idle_lantern.core.compositing.render.single_frame import FrameArea, frames_showing
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.join.request import JoinResult
from idle_lantern.core.outing.edits import Edit
from idle_lantern.core.outing.model import Outing
from idle_lantern.core.pictures.source import PictureSource, region

#: Places of more pixels a side are not looked at in other frames.
_MOST_PX = 3000
#: Another frame shows something else where it differs inside so many times as much as about the place, and by so many 8-bit levels.
_TIMES, _LEVELS = 3.0, 5.0
#: What most of a part differs by counts: a thing rarely fills the brush. So much of the place and of what lies about it must be seen by the frame.
_MOST, _SEEN_INSIDE, _SEEN_ABOUT = 0.95, 0.95, 0.4
#: Frames lie on each other to a few pixels: both are smoothed by this before they are compared.
_SMOOTH_PX = 2.0


@dataclass(frozen=True)
class CleanFrame:
    """A frame that shows something else at a place and the same about it; ``seen`` (h, w, 3) uint8 is what it shows there."""

    candidate: Candidate
    points: tuple[tuple[float, float], ...]
    radius_px: float
    seen: Array

    @property
    def sentence(self) -> str:
        """What is offered."""
        return (
            f"{self.candidate.name} shows something else here, and the same about it. Take what it saw rather than invent: the picture "
            "is made anew there."
        )


def clean_frame(
    joined: JoinResult, picture: PictureSource, points: Sequence[tuple[float, float]], radius_px: float
) -> CleanFrame | None:
    """The frame that shows most otherwise what a stroke covers; None where all that see it show the same, or the frames are gone."""
    solution = joined.solution
    if solution is None or not points:
        return None
    at = np.asarray(points, float)
    canvas, reach = joined.canvas, 2.0 * radius_px
    left, top = (max(0, int(v)) for v in at.min(0) - reach)
    right, bottom = (min(most, int(v) + 1) for v, most in zip(at.max(0) + reach, (canvas.width, canvas.height)))
    tile = Tile(left, top, right - left, bottom - top)
    if not 0 < max(tile.width, tile.height) <= _MOST_PX or min(tile.width, tile.height) <= 0:
        return None
    shown = {i for u, v in points if (i := shown_at(joined, u, v)) is not None}
    seeing = set.intersection(*(set(frames_showing(solution.poses, canvas, u, v)) for u, v in points)) - shown
    seen_now = region(picture, Rectangle(left, top, tile.width, tile.height))[..., :3]
    present = _smooth(eight_bit(converted(seen_now, picture.space, solution.frames.space)))
    inside, about = _where(FrameArea.stroke(points, radius_px), tile)
    best: tuple[float, CleanFrame] | None = None
    for i in seeing:
        f = solution.poses.frames[i]
        candidate = Candidate(i, joined.frame_ids[f], solution.frames.names[f])
        try:
            seen = alone(joined, candidate, tile)
        except LanternError:
            continue  # a frame that is gone offers nothing
        there = None if seen is None else seen[..., 3] > 0
        if seen is None or there is None or there[inside].mean() < _SEEN_INSIDE or there[about].mean() < _SEEN_ABOUT:
            continue
        off = np.abs(_smooth(seen[..., :3]) - present).mean(-1)
        differs, agrees = (float(np.quantile(off[part & there], _MOST)) for part in (inside, about))
        if differs > _TIMES * agrees + _LEVELS and (best is None or differs - agrees > best[0]):
            best = differs - agrees, CleanFrame(candidate, tuple(points), radius_px, seen[..., :3])
    return None if best is None else best[1]


def let_show_there(outing: Outing, folder: Path, joined: JoinResult, clean: CleanFrame) -> Edit:
    """The edit that lets that frame show at the place.

    Raises
    ------
    InputError
        The frames of the join are gone, or a mask cannot be read or kept.
    """
    return show_there(outing, folder, joined, clean.candidate, FrameArea.stroke(clean.points, clean.radius_px))


def _smooth(pixels: Array) -> Array:
    return np.asarray(cv2.GaussianBlur(pixels.astype(np.float32), (0, 0), _SMOOTH_PX))


def _where(area: FrameArea, tile: Tile) -> tuple[Array, Array]:
    """Where of a tile a stroke lies, and what lies about it, (h, w) bool each."""
    x, y = np.meshgrid(np.arange(tile.width) + tile.left, np.arange(tile.height) + tile.top)
    inside = area.holds(np.stack([x, y], -1).astype(float))
    return inside, ~cv2.dilate(inside.astype(np.uint8), np.ones((5, 5), np.uint8)).astype(bool)
