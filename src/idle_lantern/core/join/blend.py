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
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.join.canvas import Canvas
from idle_lantern.core.join.gains import gain_table, with_gain
from idle_lantern.core.join.poses import Poses
from idle_lantern.core.join.warp import Tile, coarse_directions, covered, frame_map, grid_step, sample

Array = NDArray[Any]

TILE = 512
_BANDS = 5
#: The widest band reaches about so far beyond a tile.
HALO = 2 ** (_BANDS + 1)


def tiles_of(canvas: Canvas, size: int = TILE, region: Rectangle | None = None) -> list[Tile]:
    """Tiles of the canvas, or of a region of it, row by row."""
    box = region or Rectangle(0, 0, canvas.width, canvas.height)
    right, bottom = box.left + box.width, box.top + box.height
    return [
        Tile(left, top, min(size, right - left), min(size, bottom - top))
        for top in range(box.top, bottom, size)
        for left in range(box.left, right, size)
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
    with_alpha : set of int
        Frames that bring an alpha of their own: what it hides is never shown.
    """

    def __init__(
        self,
        poses: Poses,
        canvas: Canvas,
        load: Callable[[int], Picture],
        label: Array,
        gains: Array,
        full_scale: int,
        with_alpha: frozenset[int] = frozenset(),
    ) -> None:
        self.with_alpha = with_alpha
        self.poses, self.canvas, self.load, self.label = poses, canvas, load, label
        self.full_scale = full_scale
        self.tables = [gain_table(g, full_scale) if np.abs(g - 1).max() > 1e-3 else None for g in gains]
        self.reach = [_reach_rad(lens) for lens in poses.lenses]

    def tile(self, tile: Tile) -> tuple[Array, Array]:
        """Pixels (H, W, 3) and alpha (H, W) of one tile."""
        alone = self._alone(tile)
        if alone is not None:
            return alone
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

    def _alone(self, tile: Tile) -> tuple[Array, Array] | None:
        """The tile when one frame wins it and all that blending could bring in; None otherwise."""
        near = Tile(tile.left - HALO, tile.top - HALO, tile.width + 2 * HALO, tile.height + 2 * HALO)
        part, _rows, _columns = self._label_part(near)
        k = int(part[0, 0])
        if k < 0 or (part != k).any() or k in self.with_alpha:
            return None
        step, lens = grid_step(self.canvas), self.poses.lenses[k]
        directions = coarse_directions(self.canvas, tile, step)
        places = frame_map(directions, lens, self.poses.world_from_camera[k], tile, step)
        if places is None or not covered(places, lens).all():
            return None
        alpha = np.full((tile.height, tile.width), self.full_scale, np.uint8 if self.full_scale == 255 else np.uint16)
        return self._warped(k, places), alpha

    def _label_part(self, tile: Tile) -> tuple[Array, Array, Array]:
        """The label under a tile with two reduced pixels to spare, and its rows and columns there."""
        h, w = self.label.shape
        fx, fy = w / self.canvas.width, h / self.canvas.height
        columns = np.arange(math.floor(tile.left * fx) - 2, math.ceil((tile.left + tile.width) * fx) + 3)
        rows = np.arange(math.floor(tile.top * fy) - 2, math.ceil((tile.top + tile.height) * fy) + 3)
        across = columns % w if self.canvas.full_circle else np.clip(columns, 0, w - 1)
        return self.label[np.ix_(np.clip(rows, 0, h - 1), across)], rows, columns

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
        # each frame only where it wins and as far round that as blending reaches
        boxes = {k: _round(winner == k) for k in winners}
        frames = {k: self._warped_in(k, maps[k], boxes[k]) for k in winners}
        for k in winners:
            inside[k] = _only_in(inside[k], boxes[k])
        composite = frames[winners[0]] if len(winners) == 1 else empty
        if len(winners) > 1:
            for k in winners:
                cv2.copyTo(frames[k], (winner == k).astype(np.uint8), composite)
        elif not shown.all():
            composite[~shown] = 0
        if len(winners) > 1:
            composite = _melted(composite, frames, {k: inside[k] & shown for k in winners}, winner, self.full_scale)
        alpha = np.where(shown, self.full_scale, 0).astype(dtype)
        return composite, alpha

    def _shares(self, tile: Tile) -> dict[int, Array]:
        """For each frame that wins near the tile: its share of the label, enlarged smoothly."""
        h, w = self.label.shape
        fx, fy = w / self.canvas.width, h / self.canvas.height
        part, rows, columns = self._label_part(tile)
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
                if k in self.with_alpha:
                    shows &= self._opaque(k, places)
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

    def _opaque(self, k: int, places: Array) -> Array:
        alpha = self.load(k).alpha
        if alpha is None:
            return np.ones(places.shape[:2], bool)
        return np.asarray(sample(alpha, places, cv2.INTER_LINEAR) >= self.load(k).full_scale * 0.98)

    def _warped_in(self, k: int, places: Array, box: tuple[slice, slice]) -> Array:
        """A frame's pixels inside a box of the tile, nothing outside."""
        part = self._warped(k, np.ascontiguousarray(places[box]))
        if part.shape[:2] == places.shape[:2]:
            return part
        whole = np.zeros((*places.shape[:2], 3), part.dtype)
        whole[box] = part
        return whole

    def _warped(self, k: int, places: Array) -> Array:
        picture = self.load(k)
        pixels = picture.pixels
        if self.full_scale == 65535 and pixels.dtype == np.uint8:
            pixels = pixels.astype(np.uint16) * 257
        warped = sample(pixels, places)
        table = self.tables[k]
        return warped if table is None else with_gain(warped, table)


def compose(
    compositor: Compositor,
    threads: int,
    progress: Progress = SILENT,
    size: int = TILE,
    region: Rectangle | None = None,
) -> Iterator[tuple[Tile, Array, Array]]:
    """All tiles in order, made by ``threads`` workers, a few ahead of the reader."""
    tiles = tiles_of(compositor.canvas, size, region)
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


def _reach_rad(lens: Lens) -> float:
    """Angle from the axis to the farthest corner, a little more."""
    corner = float(lens.angle_rad(math.hypot(lens.width / 2 + abs(lens.cx), lens.height / 2 + abs(lens.cy))))
    return (corner if math.isfinite(corner) else lens.limit_rad) + 0.02


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
    """Multi-band blend of the frames along the seams of ``winner``.

    The finest band needs no full-size arithmetic per band: where frame k wins, D_k is
    zero, so its band there is just minus the enlarged half-size D_k.
    """
    box = _seam_box(winner)
    if box is None:
        return composite
    winner = winner[box]
    base = np.ascontiguousarray(composite[box])
    size = (base.shape[1], base.shape[0])
    depth, steps = (cv2.CV_16S, 8) if full_scale == 255 else (cv2.CV_32F, 1)
    bands = max(1, min(_BANDS, int(math.log2(max(4, min(winner.shape)))) - 1))
    own: Array | None = None
    total: list[Array] | None = None
    for k, pixels in frames.items():
        mask = winner == k
        # in eighths of a grey level, so that whole numbers do not round visibly
        difference = cv2.addWeighted(np.ascontiguousarray(pixels[box]), steps, base, -steps, 0, dtype=depth)
        difference = cv2.copyTo(difference, np.ascontiguousarray(inside[k][box]).view(np.uint8))
        half, half_mask = cv2.pyrDown(difference), cv2.pyrDown(mask.astype(np.float32))
        back = cv2.pyrUp(half, dstsize=size)
        own = np.zeros_like(back) if own is None else own
        cv2.copyTo(back, mask.astype(np.uint8), own)
        levels = _masked_bands(half.astype(np.float32), half_mask, bands - 1)
        total = levels if total is None else [t + level for t, level in zip(total, levels)]
    assert total is not None
    assert own is not None
    result = total[-1]
    for band in reversed(total[:-1]):
        result = cv2.pyrUp(result, dstsize=(band.shape[1], band.shape[0])) + band
    change = cv2.subtract(cv2.pyrUp(result, dstsize=size), own, dtype=cv2.CV_32F)
    wanted = cv2.CV_8U if full_scale == 255 else cv2.CV_16U
    blended = cv2.addWeighted(base, 1, change, 1 / steps, 0, dtype=wanted)
    blended[winner < 0] = 0
    composite[box] = blended
    return composite


def _masked_bands(picture: Array, mask: Array, count: int) -> list[Array]:
    """Bands of a picture, each weighed by the mask blurred to its scale; the last is what remains."""
    levels = []
    for _ in range(count):
        smaller, small_mask = cv2.pyrDown(picture), cv2.pyrDown(mask)
        band = picture - cv2.pyrUp(smaller, dstsize=(picture.shape[1], picture.shape[0]))
        levels.append(band * mask[..., None])
        picture, mask = smaller, small_mask
    levels.append(picture * mask[..., None])
    return levels


def _round(mask: Array) -> tuple[slice, slice]:
    """Rows and columns of a mask and as far round it as blending reaches."""
    rows, columns = np.flatnonzero(mask.any(1)), np.flatnonzero(mask.any(0))
    return (
        slice(max(0, int(rows[0]) - HALO), min(mask.shape[0], int(rows[-1]) + 1 + HALO)),
        slice(max(0, int(columns[0]) - HALO), min(mask.shape[1], int(columns[-1]) + 1 + HALO)),
    )


def _only_in(inside: Array, box: tuple[slice, slice]) -> Array:
    result = np.zeros_like(inside)
    result[box] = inside[box]
    return result


def _seam_box(winner: Array) -> tuple[slice, slice] | None:
    """Rows and columns that blending can change: seams and the widest band round them."""
    across, down = winner[:, 1:] != winner[:, :-1], winner[1:] != winner[:-1]
    rows = np.flatnonzero(across.any(1)).tolist() + np.flatnonzero(down.any(1)).tolist()
    columns = np.flatnonzero(across.any(0)).tolist() + np.flatnonzero(down.any(0)).tolist()
    if not rows:
        return None
    top, bottom = max(0, min(rows) - HALO), min(winner.shape[0], max(rows) + 2 + HALO)
    left, right = max(0, min(columns) - HALO), min(winner.shape[1], max(columns) + 2 + HALO)
    return slice(top, bottom), slice(left, right)


__all__: Sequence[str] = ("HALO", "TILE", "Compositor", "compose", "tiles_of")
