"""A sphere as the six faces of a cube: pictures of their own, and the ground of a page to look around in."""

from __future__ import annotations

import contextlib
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from idle_lantern.core.base.arrays import Array, Rotations
from idle_lantern.core.base.atomic import replacing
from idle_lantern.core.base.progress import SILENT, InParts, Progress
from idle_lantern.core.base.runners import Runner
from idle_lantern.core.deliver.ball import Ball
from idle_lantern.core.deliver.formats import check_target, format_of
from idle_lantern.core.deliver.proof import proved_picture
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write_part
from idle_lantern.core.pictures.source import TILE


@dataclass(frozen=True)
class Face:
    """A side of the cube: ``world_from_face`` turns its own directions (x right, y down, z out of it) into those of the sphere."""

    name: str
    world_from_face: Rotations


def _face(name: str, right: tuple[int, int, int], down: tuple[int, int, int]) -> Face:
    return Face(name, np.stack([right, down, np.cross(right, down)], -1).astype(float))


#: As one sees them from the middle: four round the horizon, the upper and the lower one with azimuth 0 below and above.
FACES: tuple[Face, ...] = (
    _face("front", (1, 0, 0), (0, 1, 0)),
    _face("right", (0, 0, -1), (0, 1, 0)),
    _face("back", (-1, 0, 0), (0, 1, 0)),
    _face("left", (0, 0, 1), (0, 1, 0)),
    _face("up", (1, 0, 0), (0, 0, 1)),
    _face("down", (1, 0, 0), (0, 0, -1)),
)


def face_px(px_per_rad: float) -> int:
    """Side of the faces that lose nothing of a sphere with so many pixels for a radian: in its middle a face has half its side for one."""
    return max(2, round(2 * px_per_rad))


class FacePicture:
    """A side of the cube as a picture of ``side_px``; what the sphere does not show is see-through."""

    def __init__(self, ball: Ball, face: Face, side_px: int) -> None:
        self._seen, self._face = ball.seen, face
        self.sizes: tuple[tuple[int, int], ...] = ((side_px, side_px),)
        self.tile_px, self.space = TILE, ball.picture.space

    def tile(self, level: int, row: int, column: int) -> Array:
        """One tile (h, w, 4); raises as the sphere's picture."""
        side = self.sizes[0][0]
        top, left = row * TILE, column * TILE
        y, x = (np.arange(a, min(a + TILE, side)) for a in (top, left))
        across, down = np.meshgrid((x + 0.5) * (2 / side) - 1, (y + 0.5) * (2 / side) - 1)
        return self._seen.pixels(np.dstack([across, down, np.ones_like(across)]) @ self._face.world_from_face.T)


def cube_files(target: Path) -> list[Path]:
    """The six files that are written for a target: its name, and that of the face."""
    return [target.with_name(f"{target.stem}_{face.name}{target.suffix}") for face in FACES]


def write_cube(
    ball: Ball, target: Path, options: WriteOptions, progress: Progress = SILENT, runner: Runner | None = None
) -> Path:
    """Write the six faces, in the format of the target's ending, all or none; returns the first file.

    Raises
    ------
    InputError
        A file cannot be written; those that were there stay.
    Cancelled
        Stopped; as above.
    """
    side = face_px(ball.px_per_rad)
    files = cube_files(target)
    for file in files:
        check_target(file, side, side)
    counted = InParts(progress, len(FACES))
    with contextlib.ExitStack() as stack:
        parts = [stack.enter_context(replacing(file)) for file in files]
        for face, part in zip(FACES, parts):
            picture = FacePicture(ball, face, side)
            write_part(picture, part, options, counted, runner)
            proved_picture(part, format_of(target), picture)
    return files[0]
