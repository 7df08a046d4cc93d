"""The frames of a join as layers: each drawn where it lies on the picture, with what the picture shows of it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.compositing.canvas.warp import Tile
from idle_lantern.core.compositing.render.single_frame import frame_alone
from idle_lantern.core.deliver.layers import Drawn
from idle_lantern.core.frames.reading import read_again
from idle_lantern.core.join.request import JoinResult

#: Places across the canvas by which it is looked at where a frame lies.
_ACROSS = 400


@dataclass(frozen=True)
class LayerOfFrame:
    """The ``at``-th frame that has a place."""

    joined: JoinResult
    at: int

    @property
    def _row(self) -> int:
        assert self.joined.solution is not None
        return self.joined.solution.poses.frames[self.at]

    @property
    def name(self) -> str:
        """The name of its file."""
        return Path(self.joined.report.frames[self._row].file).name

    def drawn(self) -> Drawn | None:
        """The frame on the canvas, None where it shows nothing; raises UnreadableFrame where its file is gone or damaged."""
        joined, solution = self.joined, self.joined.solution
        assert solution is not None
        tile = self._box()
        if tile is None:
            return None
        row = joined.report.frames[self._row]
        space = solution.frames.space
        picture = read_again(solution.frames.infos[self._row]).in_space(space)
        gain = np.asarray(row.gain, float)
        pixels = frame_alone(solution.poses, joined.canvas, self.at, picture, gain, joined.report.falloff_terms, tile)
        if pixels is None:
            return None
        shown = np.zeros(pixels.shape[:2], np.uint8)
        lines = [np.asarray(line, np.int32) - [tile.left, tile.top] for line in row.outlines_px]
        cv2.fillPoly(shown, [line.astype(np.int32) for line in lines], 255)
        return Drawn(tile.left, tile.top, pixels, shown, space)

    def _box(self) -> Tile | None:
        """Where on the canvas it lies, a little wider."""
        canvas, solution = self.joined.canvas, self.joined.solution
        assert solution is not None
        poses = solution.poses
        step = max(1, canvas.width // _ACROSS)
        u, v = np.meshgrid(
            np.arange(0, canvas.width + step, step, dtype=float), np.arange(0, canvas.height + step, step, dtype=float)
        )
        with np.errstate(invalid="ignore"):
            rays = canvas.directions(np.stack([u, v], -1)) @ poses.world_from_camera[self.at]
            lens = poses.lenses[self.at]
            places, valid = lens.project(rays)
            x, y = places[..., 0], places[..., 1]
            inside = valid & (x >= -0.5) & (y >= -0.5) & (x < lens.width - 0.5) & (y < lens.height - 0.5)
        if not inside.any():
            return None
        rows, columns = np.flatnonzero(inside.any(1)), np.flatnonzero(inside.any(0))
        left, top = max(0, (columns[0] - 1) * step), max(0, (rows[0] - 1) * step)
        right = min(canvas.width, (columns[-1] + 2) * step)
        bottom = min(canvas.height, (rows[-1] + 2) * step)
        return Tile(int(left), int(top), int(right - left), int(bottom - top))


def frame_layers(joined: JoinResult) -> Sequence[LayerOfFrame]:
    """A layer for each frame that has a place, in their order.

    Raises
    ------
    InputError
        The frames are gone.
    """
    if joined.solution is None:
        raise InputError("The frames are not there any more", remedy="Bring their folder back, or write TIFF")
    return [LayerOfFrame(joined, i) for i in range(len(joined.solution.poses.frames))]
