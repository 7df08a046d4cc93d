"""Looking around in a sphere without a graphics card: the faces of a cube, each laid onto the view by one flat projection."""

from __future__ import annotations

import math
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.base.runners import in_order
from idle_lantern.core.colour.convert import converted, eight_bit
from idle_lantern.core.colour.space import ColourSpace
from idle_lantern.core.deliver.ball import Ball, Shown
from idle_lantern.core.deliver.cube import FACES, face_px
from idle_lantern.core.deliver.sight import Sight
from idle_lantern.core.pictures.source import TILE

#: Fields of view across the longer side, degrees; how many screen pixels a pixel of the picture may take.
WIDEST_DEG, _MOST_LARGE = 120.0, 4.0
#: Side of the faces that are held: they are as sharp as a window 1600 px wide at 75 degrees shows.
HELD_PX = 2048
_THREADS = 2
#: Side of the pieces that a view is made of.
_PIECE_PX = 128
#: Which face is shown is decided for cells of a view, not for each pixel: the held faces are so much wider that both show its rim.
_CELLS_PX, _WIDER = (8, 4, 2, 1), 1.05
#: Where the faces look, (3, 6).
_OUTWARDS = np.stack([face.world_from_face[:, 2] for face in FACES], -1)


@dataclass(frozen=True)
class Limits:
    """How far one can look and zoom."""

    shown: Shown
    closest_deg: float

    def held(self, yaw_deg: float, pitch_deg: float, field_deg: float) -> Sight:
        """The nearest sight within them."""
        yaw = (yaw_deg + 180) % 360 - 180
        if self.shown.yaw_deg is not None:
            low, high = self.shown.yaw_deg
            yaw = min(max(yaw + 360 * round(((low + high) / 2 - yaw) / 360), low), high)
        pitch = min(max(pitch_deg, self.shown.pitch_deg[0]), self.shown.pitch_deg[1])
        return Sight(yaw, pitch, min(max(field_deg, self.closest_deg), WIDEST_DEG))


class HeldSphere:
    """A sphere ready to be looked round in: its faces (6, side, side, 3) uint8 in a space, and the picture itself for views at rest."""

    def __init__(self, ball: Ball, space: ColourSpace, progress: Progress = SILENT) -> None:
        self._ball, self._space = ball, space
        shown = ball.shown()
        closest = 2 * math.degrees(math.atan(640 / (_MOST_LARGE * ball.px_per_rad)))
        self.limits = Limits(shown, min(closest, 60.0))
        yaw, pitch = shown.middle_deg
        self.first = self.limits.held(yaw, pitch, 75.0)
        side = min(HELD_PX, face_px(ball.px_per_rad))
        # what moves may be a little softer than what rests
        level = self._level(side / 2 / math.sqrt(2))
        self._faces = [np.zeros((side, side, 3), np.uint8) for _face in FACES]
        places = [
            (k, top, left) for k in range(len(FACES)) for top in range(0, side, TILE) for left in range(0, side, TILE)
        ]
        progress.begin("faces", len(places))

        def fill(place: tuple[int, int, int]) -> None:
            k, top, left = place
            y, x = (np.arange(a, min(a + TILE, side)) for a in (top, left))
            across, down = (((a + 0.5) * (2 / side) - 1) * _WIDER for a in np.meshgrid(x, y))
            rays = np.dstack([across, down, np.ones_like(across)]) @ FACES[k].world_from_face.T
            self._faces[k][top : top + TILE, left : left + TILE] = self._shown(rays, level)

        with ThreadPoolExecutor(_THREADS) as pool:
            for _done in in_order(fill, places, pool, _THREADS):
                progress.advance()

    @property
    def px_per_rad(self) -> float:
        """Pixels of the picture for a radian in its middle."""
        return self._ball.px_per_rad

    def _level(self, px_per_unit: float) -> int:
        """The coarsest level that is as fine as so many pixels for a radian."""
        reduction = self._ball.px_per_rad / max(px_per_unit, 1e-9)
        return min(len(self._ball.picture.sizes) - 1, max(0, math.floor(math.log2(max(1.0, reduction)) + 0.1)))

    def _shown(self, rays: Array, level: int) -> Array:
        seen = self._ball.seen.pixels(rays, level)
        return eight_bit(converted(seen[..., :3], self._ball.picture.space, self._space))

    def quick(self, sight: Sight, size: tuple[int, int]) -> Array:
        """The view (h, w, 3) uint8 of ``size`` (width, height), from the held faces: for moving about.

        Piece by piece: most lie on one face, and only those that show an edge of the cube take more.
        """
        width, height = size
        made = np.zeros((height, width, 3), np.uint8)
        f, turn = sight.focal_px(size), sight.turn()
        plane_from_view = np.array([[1 / f, 0, -(width - 1) / 2 / f], [0, 1 / f, -(height - 1) / 2 / f], [0, 0, 1.0]])
        drawn = [
            _DrawnFace(pixels, _pixel_from_face(len(pixels)) @ (turn @ face.world_from_face).T @ plane_from_view)
            for face, pixels in zip(FACES, self._faces)
        ]
        cell = next(side for side in _CELLS_PX if side <= max(1.0, f / 60))
        y, x = np.mgrid[cell // 2 : height + cell : cell, cell // 2 : width + cell : cell]
        outwards = (plane_from_view.T @ turn @ _OUTWARDS).astype(np.float32)
        on = (np.dstack([x, y, np.ones_like(x)]).astype(np.float32) @ outwards).argmax(-1).astype(np.uint8)
        cells = _PIECE_PX // cell
        for top in range(0, height, _PIECE_PX):
            for left in range(0, width, _PIECE_PX):
                piece = made[top : top + _PIECE_PX, left : left + _PIECE_PX]
                row, column = top // cell, left // cell
                shown = on[row : row + cells, column : column + cells]
                first, *others = np.unique(shown).tolist()
                drawn[first].lay(piece, left, top)
                for k in others:
                    whole = np.empty_like(piece)
                    drawn[k].lay(whole, left, top)
                    wide = cv2.resize(
                        (shown == k).astype(np.uint8), None, fx=cell, fy=cell, interpolation=cv2.INTER_NEAREST
                    )
                    cv2.copyTo(whole, wide[: piece.shape[0], : piece.shape[1]], piece)
        return made

    def sharp(self, sight: Sight, size: tuple[int, int]) -> Array:
        """The same view (h, w, 3) straight from the picture, as sharp as it is: for looking at."""
        width, height = size
        f = sight.focal_px(size)
        x, y = np.meshgrid((np.arange(width) - (width - 1) / 2) / f, (np.arange(height) - (height - 1) / 2) / f)
        return self._shown(np.dstack([x, y, np.ones_like(x)]) @ sight.turn(), self._level(f))


@dataclass(frozen=True)
class _DrawnFace:
    """A face as a view shows it: where on the face (in pixels) a pixel of the view looks, as a projective matrix (3, 3)."""

    pixels: Array
    face_from_view: Array

    def lay(self, piece: Array, left: int, top: int) -> None:
        """Fill a piece of the view whose corner lies there."""
        cv2.warpPerspective(
            self.pixels,
            self.face_from_view @ np.array([[1, 0, left], [0, 1, top], [0, 0, 1.0]]),
            (piece.shape[1], piece.shape[0]),
            dst=piece,
            flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP,
            borderMode=cv2.BORDER_REPLICATE,
        )


def _pixel_from_face(side: int) -> Array:
    scale = side / 2 / _WIDER
    return np.array([[scale, 0, (side - 1) / 2], [0, scale, (side - 1) / 2], [0, 0, 1]])
