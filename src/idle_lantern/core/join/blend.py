"""Tiles of the canvas: warp the frames that win there and melt them along the seams.

Multi-band blending (Burt & Adelson 1983) in the form of differences: with C the
hard composite and D_k = frame k minus C where frame k shows anything, the blend
is C plus the sum over bands of (blurred mask k) x (band of D_k). The masks add up
to one, so this is the classic blend; but where only one frame shows, all D are
zero and the picture is that frame exactly, rim included: no halo. It works on
display values: bands of equal visible step melt evenly there, while in linear
light bright sides would bleed into dark ones.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.base.picture import Picture
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.join.canvas import Canvas
from idle_lantern.core.join.gains import gain_table, with_gain
from idle_lantern.core.join.poses import Poses
from idle_lantern.core.join.warp import Tile, coarse_directions, covered, frame_map, grid_step, sample

Array = NDArray[Any]

TILE = 1024
_BANDS = 6
#: The widest band reaches about so far beyond a tile.
HALO = 2 ** (_BANDS + 1)


def tiles_of(canvas: Canvas, size: int = TILE) -> list[Tile]:
    """Tiles row by row."""
    return [
        Tile(left, top, min(size, canvas.width - left), min(size, canvas.height - top))
        for top in range(0, canvas.height, size)
        for left in range(0, canvas.width, size)
    ]


class Compositor:
    """Makes tiles of the joined picture from solved frames.

    Parameters
    ----------
    poses, canvas
        Geometry.
    load : callable
        Index into ``poses.frames`` -> full-size Picture; may cache.
    label : (h, w) int array
        Winning frame on the reduced canvas.
    gains : (F, 3) array
    full_scale : int
        255 or 65535.
    """

    def __init__(
        self, poses: Poses, canvas: Canvas, load: Callable[[int], Picture], label: Array, gains: Array, full_scale: int
    ) -> None:
        self.poses, self.canvas, self.load, self.label = poses, canvas, load, label
        self.full_scale = full_scale
        self.tables = [gain_table(g, full_scale) if np.abs(g - 1).max() > 1e-3 else None for g in gains]
        self.reach = [_reach_rad(lens.width, lens.height, lens.focal_px, lens.limit_rad) for lens in poses.lenses]

    def tile(self, tile: Tile) -> tuple[Array, Array]:
        """Pixels (H, W, 3) and alpha (H, W) of one tile."""
        big = Tile(tile.left - HALO, tile.top - HALO, tile.width + 2 * HALO, tile.height + 2 * HALO)
        if not self.canvas.full_circle or self.canvas.width < big.width:
            left, right = max(0, big.left), min(self.canvas.width, big.left + big.width)
            big = Tile(left, big.top, right - left, big.height)
        top, bottom = max(0, big.top), min(self.canvas.height, big.top + big.height)
        big = Tile(big.left, top, big.width, bottom - top)
        pixels, alpha = self._blended(big)
        cut = (
            slice(tile.top - big.top, tile.top - big.top + tile.height),
            slice(tile.left - big.left, tile.left - big.left + tile.width),
        )
        return pixels[cut], alpha[cut]

    def _blended(self, tile: Tile) -> tuple[Array, Array]:
        dtype = np.uint8 if self.full_scale == 255 else np.uint16
        shares = self._shares(tile)
        maps, inside = self._places(tile, list(shares))
        empty = np.zeros((tile.height, tile.width, 3), dtype)
        if not maps:
            return empty, np.zeros((tile.height, tile.width), dtype)
        winner = _winners({k: shares.get(k) for k in maps}, inside)
        winners = [k for k in maps if (winner == k).any()]
        shown = winner >= 0
        frames = {k: self._warped(k, maps[k]) for k in winners}
        composite = empty
        for k in winners:
            np.copyto(composite, frames[k], where=(winner == k)[..., None])
        if len(winners) > 1:
            composite = _melted(composite, frames, {k: inside[k] & shown for k in winners}, winner, self.full_scale)
        alpha = np.where(shown, self.full_scale, 0).astype(dtype)
        return composite, alpha

    def _shares(self, tile: Tile) -> dict[int, Array]:
        """For each frame that wins near the tile: its share of the label, enlarged smoothly."""
        h, w = self.label.shape
        fx, fy = w / self.canvas.width, h / self.canvas.height
        columns = np.arange(math.floor(tile.left * fx) - 2, math.ceil((tile.left + tile.width) * fx) + 3)
        rows = np.arange(math.floor(tile.top * fy) - 2, math.ceil((tile.top + tile.height) * fy) + 3)
        part = self.label[
            np.ix_(np.clip(rows, 0, h - 1), columns % w if self.canvas.full_circle else np.clip(columns, 0, w - 1))
        ]
        x = (np.arange(tile.width, dtype=np.float32) + tile.left + 0.5) * fx - 0.5 - columns[0]
        y = (np.arange(tile.height, dtype=np.float32) + tile.top + 0.5) * fy - 0.5 - rows[0]
        winners = [int(k) for k in np.unique(part) if k >= 0]
        if len(winners) == 1:
            return {winners[0]: np.ones((tile.height, tile.width), np.float32)}
        places = np.stack(np.meshgrid(x.astype(np.float32), y.astype(np.float32)), -1)
        return {
            k: cv2.remap(
                (part == k).astype(np.float32), places, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE
            )
            for k in winners
        }

    def _places(self, tile: Tile, winners: list[int]) -> tuple[dict[int, Array], dict[int, Array]]:
        """Maps and coverage of the winners; of all frames where the winners leave a rim uncovered."""
        step = grid_step(self.canvas)
        directions = coarse_directions(self.canvas, tile, step)
        maps: dict[int, Array] = {}
        inside: dict[int, Array] = {}

        def add(k: int) -> None:
            lens = self.poses.lenses[k]
            places = frame_map(directions, lens, self.poses.world_from_camera[k], tile, step)
            if places is not None:
                shows = covered(places, lens)
                if shows.any():
                    maps[k], inside[k] = places, shows

        for k in winners:
            add(k)
        union = np.zeros((tile.height, tile.width), bool)
        for shows in inside.values():
            union |= shows
        if not union.all():
            for k in self._near(directions):
                if k not in maps:
                    add(k)
        return maps, inside

    def _near(self, directions: Array) -> list[int]:
        """Frames whose field may touch the tile."""
        flat = directions.reshape(-1, 3)
        flat = flat[np.isfinite(flat[:, 0])]
        if len(flat) == 0:
            return []
        axes = self.poses.world_from_camera[:, :, 2]
        nearest = np.arccos(np.clip((flat @ axes.T).max(0), -1, 1))
        return [k for k in range(len(axes)) if nearest[k] <= self.reach[k]]

    def _warped(self, k: int, places: Array) -> Array:
        picture = self.load(k)
        pixels = picture.pixels
        if self.full_scale == 65535 and pixels.dtype == np.uint8:
            pixels = pixels.astype(np.uint16) * 257
        warped = sample(pixels, places)
        table = self.tables[k]
        return warped if table is None else with_gain(warped, table)


def compose(
    compositor: Compositor, threads: int, progress: Progress = SILENT, size: int = TILE
) -> Iterator[tuple[Tile, Array, Array]]:
    """All tiles in order, made by ``threads`` workers, a few ahead of the reader."""
    tiles = tiles_of(compositor.canvas, size)
    progress.begin("blend", len(tiles))
    with ThreadPoolExecutor(threads) as pool:
        ahead = threads + 1
        waiting = [pool.submit(compositor.tile, t) for t in tiles[:ahead]]
        try:
            for i, tile in enumerate(tiles):
                pixels, alpha = waiting.pop(0).result()
                if i + ahead < len(tiles):
                    waiting.append(pool.submit(compositor.tile, tiles[i + ahead]))
                yield tile, pixels, alpha
                progress.advance()
        finally:
            for future in waiting:
                future.cancel()


def _reach_rad(width: int, height: int, focal_px: float, limit_rad: float) -> float:
    """Angle that certainly holds the whole frame."""
    return min(limit_rad, math.hypot(width, height) / 2 / focal_px * 1.6) + 0.02


def _winners(shares: dict[int, Array | None], inside: dict[int, Array]) -> Array:
    """Index of the winning frame for each pixel, -1 where none shows anything."""
    shape = next(iter(inside.values())).shape
    winner = np.full(shape, -1, np.int16)
    best = np.full(shape, -1.0, np.float32)
    for k, shows in inside.items():
        share = shares.get(k)
        # a frame that the label does not name still fills what the named ones leave open
        score = share if share is not None else np.float32(-0.5)
        better = shows & (score > best)
        winner[better] = k
        best = np.where(better, score, best)
    return winner


def _melted(
    composite: Array, frames: dict[int, Array], inside: dict[int, Array], winner: Array, full_scale: int
) -> Array:
    """Multi-band blend of the frames along the seams of ``winner``."""
    base = composite.astype(np.float32)
    bands = min(_BANDS, int(math.log2(max(4, min(winner.shape)))) - 1)
    total: list[Array] | None = None
    for k, pixels in frames.items():
        difference = pixels.astype(np.float32) - base
        difference *= inside[k][..., None]
        if not difference.any():
            continue
        mask = (winner == k).astype(np.float32)
        levels: list[Array] = []
        for _ in range(bands):
            smaller, small_mask = cv2.pyrDown(difference), cv2.pyrDown(mask)
            band = difference - cv2.pyrUp(smaller, dstsize=(difference.shape[1], difference.shape[0]))
            levels.append(band * mask[..., None])
            difference, mask = smaller, small_mask
        levels.append(difference * mask[..., None])
        total = levels if total is None else [t + level for t, level in zip(total, levels)]
    if total is None:
        return composite
    result = total[-1]
    for band in reversed(total[:-1]):
        result = cv2.pyrUp(result, dstsize=(band.shape[1], band.shape[0])) + band
    blended = np.rint(np.clip(base + result, 0, full_scale)).astype(composite.dtype)
    return np.asarray(np.where((winner >= 0)[..., None], blended, 0))


__all__: Sequence[str] = ("HALO", "TILE", "Compositor", "compose", "tiles_of")
