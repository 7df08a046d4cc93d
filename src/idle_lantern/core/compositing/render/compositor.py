"""Tiles of the canvas: warp the frames that win there and blend them along the seams.

Multi-band blending (Burt & Adelson 1983) in the form of differences: with C the
hard composite and D_k = frame k minus C where frame k shows anything, the blend
is C plus the sum over bands of (blurred mask k) x (band of D_k). The masks add up
to one, so this is the classic blend; but where only one frame shows, all D are
zero and the picture is that frame exactly, rim included: no halo. It works on
display values: bands of equal visible step blend evenly there, while in linear
light bright sides would bleed into dark ones.
"""

from __future__ import annotations

import hashlib
import math
from collections.abc import Callable

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.colour.space import SRGB, ColourSpace
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.compositing.canvas.warp import Tile, coarse_directions, frame_map, grid_step, sample, shifted
from idle_lantern.core.compositing.light.gains import gain_table, with_gain
from idle_lantern.core.compositing.render.bands import masked_bands
from idle_lantern.core.compositing.render.frame_views import (
    FrameView,
    Levels,
    Piece,
    between,
    present,
    reach_rad,
    spread_out,
    winners,
)
from idle_lantern.core.compositing.render.tile_boxes import (
    BANDS,
    HALO,
    Box,
    aligned,
    both_boxes,
    doubled,
    grown,
    halved,
    on_grid,
    part_of,
    reached,
    seam_box,
    within,
)
from idle_lantern.core.frames.masks import Masks
from idle_lantern.core.optics.known import Lateral
from idle_lantern.core.registration.solve.poses import Poses, farthest_px

#: Pixels of a frame round a tile whose mask counts as the tile's, beside what a local warp moves.
_SPARE_PX = 16


class Compositor:
    """Makes tiles of the joined picture from solved frames.

    Parameters
    ----------
    poses, canvas
        Geometry.
    load : callable
        Index into ``poses.frames`` -> Levels; may cache.
    label : (h, w) int array
        Winning frame on the reduced canvas.
    gains : (F, 3) array
    full_scale : int
        255 or 65535.
    with_alpha : set of int
        Frames that bring an alpha of their own: what it hides is never shown.
    masks : mapping of int to Mask
        Painted masks by index into ``poses.frames``; what they hide is never shown.
    blend : bool
        Blend along the seams; a rough picture does without.
    lateral : pair of (a, b) or None
        Lateral colour of red and blue (``KnownLens``).
    space : ColourSpace
        Of the frames and of the picture.
    """

    def __init__(
        self,
        poses: Poses,
        canvas: Canvas,
        load: Callable[[int], Levels],
        label: Array,
        gains: Array,
        full_scale: int,
        with_alpha: frozenset[int] = frozenset(),
        masks: Masks | None = None,
        *,
        blend: bool = True,
        lateral: tuple[Lateral, Lateral] | None = None,
        space: ColourSpace = SRGB,
    ) -> None:
        self.lateral = lateral
        self.with_alpha, self.masks, self.blend = with_alpha, masks or {}, blend
        self.poses, self.canvas, self.load, self.label = poses, canvas, load, label
        self.full_scale, self.gains = full_scale, gains
        self.dtype = np.uint8 if full_scale == 255 else np.uint16
        self.tables = [gain_table(g, full_scale, space) if np.abs(g - 1).max() > 1e-3 else None for g in gains]
        self.reach = [reach_rad(lens) for lens in poses.lenses]

    def tile(self, tile: Tile) -> tuple[Array, Array]:
        """Pixels (H, W, 3) and alpha (H, W) of one tile."""
        piece = self._piece(tile, 1)
        composite = self._composite(tile, piece)
        alpha = np.where(piece.winner >= 0, self.full_scale, 0).astype(self.dtype)
        if not self.blend:
            return composite, alpha
        near = Tile(tile.left - HALO, tile.top - HALO, tile.width + 2 * HALO, tile.height + 2 * HALO)
        label = self._label_part(near)[0]
        if (label != label.flat[0]).any() or len(piece.winners) > 1:
            composite = self._blended(tile, piece, composite)
        return composite, alpha

    def covered(self, tile: Tile) -> Array:
        """Alpha (H, W) of one tile, without making its pixels."""
        return np.where(self._piece(tile, 1).winner >= 0, self.full_scale, 0).astype(self.dtype)

    def made_from(self, tile: Tile) -> object:
        """What decides the pixels of one tile beside what all tiles have in common: who wins there and round it, and of
        each frame near it the gain and what is painted hidden. Two plans that agree in it make the same tile."""
        big = self._with_halo(tile)
        step = grid_step(self.canvas)
        directions = coarse_directions(self.canvas, big, step)
        near = [(k, self.gains[k].tobytes(), self._hidden_near(k, directions)) for k in self._near(directions)]
        return hashlib.sha256(self._label_part(big)[0].tobytes()).hexdigest(), near

    def _hidden_near(self, k: int, directions: Array) -> bytes:
        """The part of a frame's mask that a tile can touch."""
        if k not in self.masks:
            return b""
        lens, hide = self.poses.lenses[k], self.masks[k].hide
        pixels, valid = self.poses.pixels(k, directions)
        pixels = pixels[valid]
        if len(pixels) == 0:
            return b""
        scale = np.array([hide.shape[1] / lens.width, hide.shape[0] / lens.height])
        bend = self.poses.bend(k)
        moved = _SPARE_PX + (0.0 if bend is None else farthest_px(bend))
        low = np.floor((pixels.min(0) - moved) * scale).astype(int) - 2
        high = np.ceil((pixels.max(0) + moved) * scale).astype(int) + 3
        part = hide[max(0, low[1]) : max(0, high[1]), max(0, low[0]) : max(0, high[0])]
        return hashlib.sha256(part.tobytes()).digest() if part.any() else b""

    def _piece(self, tile: Tile, every: int, spread: int = 0) -> Piece:
        """Views and winners at every ``every``-th pixel of a tile.

        Each winner of the label is looked at where it can win and ``spread`` pixels round that.
        """
        size = -(-tile.height // every), -(-tile.width // every)
        step = grid_step(self.canvas)
        directions = coarse_directions(self.canvas, tile, step, every)
        views: dict[int, FrameView] = {}
        for k, (box, share) in self._shares(tile, every, spread).items():
            view = self._view(k, directions, box, share, step, every)
            if view is not None:
                views[k] = view
        shown = np.zeros(size, bool)
        for view in views.values():
            shown[view.box] |= view.inside
        if not shown.all():
            # a rim that the label's winners leave open is filled by whoever shows it
            for k in self._near(directions):
                wanting = ~shown
                if k in views:
                    wanting[views[k].box] = False
                if not wanting.any() or not self._shows_some(k, directions, wanting, step, every):
                    continue
                box = on_grid(grown(wanting, spread), step)
                box = box if k not in views else both_boxes(box, views[k].box)
                whole = None if k not in views else spread_out(views[k], box)
                view = self._view(k, directions, box, whole, step, every)
                if view is not None:
                    views[k] = view
        if len(views) == 1 and shown.all():
            return Piece(views, np.full(size, next(iter(views)), np.int16))
        return Piece(views, winners(views, size))

    def _shows_some(self, k: int, directions: Array, wanting: Array, step: int, every: int) -> bool:
        """Whether a frame shows any of some pixels of a tile."""
        view = self._view(k, directions, on_grid(grown(wanting, 0), step), None, step, every)
        return view is not None and bool((view.inside & wanting[view.box]).any())

    def _view(
        self, k: int, directions: Array, box: Box, share: Array | None, step: int, every: int
    ) -> FrameView | None:
        """Frame ``k`` in a box of the tile, whose corner must stand on the coarse grid; None if it shows nothing."""
        rows, columns = box
        size = rows.stop - rows.start, columns.stop - columns.start
        first_row, first_column = rows.start // step, columns.start // step
        part = directions[
            first_row : first_row - (-size[0] // step) + 2, first_column : first_column - (-size[1] // step) + 2
        ]
        lens = self.poses.lenses[k]
        found = frame_map(part, lens, self.poses.world_from_camera[k], size, step, every, self.poses.bend(k))
        if found is None:
            return None
        places, shows = found
        if k in self.with_alpha:
            shows &= self._opaque(k, places)
        if k in self.masks:
            shows &= ~self.masks[k].hidden_at(places, lens)
        return FrameView(box, places, shows, share) if shows.any() else None

    def _composite(self, tile: Tile, piece: Piece) -> Array:
        """Each pixel from its winner, nothing blended."""
        result = np.zeros((tile.height, tile.width, 3), self.dtype)
        for k, view in piece.views.items():
            mask = piece.winner[view.box] == k
            if not mask.any():
                continue
            box = grown(mask, 0)
            pixels = self._evened(k, self._sampled(k, self._pixels(self.load(k).picture.pixels), view.places[box]))
            if mask.size == piece.winner.size and mask.all():
                return pixels
            cv2.copyTo(pixels, np.ascontiguousarray(mask[box]).view(np.uint8), result[view.box][box])
        return result

    def _blended(self, tile: Tile, piece: Piece, composite: Array) -> Array:
        """Multi-band blend of the tile along its seams and those near it.

        The finest band is cut hard at the seam, so only its winner is needed at full size.
        All below is reckoned from halves, on the tile and as far round it as the widest band
        reaches.
        """
        big = self._with_halo(tile)
        around = self._piece(big, 2, HALO // 2)
        box = seam_box(around.winner) if len(around.winners) > 1 else None
        if box is None:
            return composite
        # what of the half-size box lies on the tile, in full-size pixels of the box
        x, y = tile.left - big.left - 2 * box[1].start, tile.top - big.top - 2 * box[0].start
        height, width = 2 * (box[0].stop - box[0].start), 2 * (box[1].stop - box[1].start)
        on_box = (slice(max(0, y), min(height, y + tile.height)), slice(max(0, x), min(width, x + tile.width)))
        on_tile = (slice(on_box[0].start - y, on_box[0].stop - y), slice(on_box[1].start - x, on_box[1].stop - x))
        if on_box[0].start >= on_box[0].stop or on_box[1].start >= on_box[1].stop:
            return composite
        mine = np.full((height, width), -1, np.int16)
        mine[on_box] = piece.winner[on_tile]
        change, steps = self._change(around, box, mine)
        wanted = cv2.CV_8U if self.full_scale == 255 else cv2.CV_16U
        blended = cv2.addWeighted(
            np.ascontiguousarray(composite[on_tile]),
            1,
            np.ascontiguousarray(change[on_box]),
            1 / steps,
            0,
            dtype=wanted,
        )
        blended[piece.winner[on_tile] < 0] = 0
        composite[on_tile] = blended
        return composite

    def _change(self, around: Piece, box: Box, mine: Array) -> tuple[Array, int]:
        """What blending adds to the hard composite in a box of the half-size tile, in full-size pixels, and in which
        parts of a grey level.

        ``mine`` are the full-size winners there. Each frame counts only where it wins and as
        far round that as the widest band reaches.
        """
        winner = np.ascontiguousarray(around.winner[box])
        count = max(1, min(BANDS - 1, int(math.log2(max(4, min(winner.shape)))) - 1))
        base = np.zeros((*winner.shape, 3), self.dtype)
        halves: list[tuple[int, Box, Array, Array]] = []
        for k in around.winners:
            mask = winner == k
            if mask.any():
                part = aligned(grown(mask, HALO // 2), 2**count, winner.shape)
                pixels, covers = self._half(k, around.views[k], within(box, part))
                cv2.copyTo(pixels, mask[part].astype(np.uint8), base[part])
                halves.append((k, part, pixels, covers & (winner[part] >= 0)))
        # in eighths of a grey level, so that whole numbers do not round visibly
        depth, steps = (cv2.CV_16S, 8) if self.full_scale == 255 else (cv2.CV_32F, 1)
        own = np.zeros((*mine.shape, 3), np.int16 if depth == cv2.CV_16S else np.float32)
        total = [np.zeros((*halved(winner.shape, level), 3), np.float32) for level in range(count + 1)]
        for k, part, pixels, covers in halves:
            difference = cv2.addWeighted(pixels, steps, np.ascontiguousarray(base[part]), -steps, 0, dtype=depth)
            difference = cv2.copyTo(difference, covers)
            whole = doubled(part)
            cv2.copyTo(cv2.pyrUp(difference), (mine[whole] == k).astype(np.uint8), own[whole])
            bands = masked_bands(difference.astype(np.float32), (winner[part] == k).astype(np.float32), count)
            for level, band in enumerate(bands):
                top, left = part[0].start >> level, part[1].start >> level
                total[level][top : top + band.shape[0], left : left + band.shape[1]] += band
        result = total[-1]
        for band in reversed(total[:-1]):
            result = cv2.add(cv2.pyrUp(result, dstsize=(band.shape[1], band.shape[0])), band)
        if depth == cv2.CV_16S:  # whole numbers are many times as fast at full size
            result = np.rint(result).astype(np.int16)
        return cv2.subtract(cv2.pyrUp(result), own), steps

    def _with_halo(self, tile: Tile) -> Tile:
        """The tile and what is near enough to reach into it, inside the canvas."""
        left, right = tile.left - HALO, tile.left + tile.width + HALO
        if not self.canvas.full_circle or self.canvas.width < right - left:
            left, right = max(0, left), min(self.canvas.width, right)
        top, bottom = max(0, tile.top - HALO), min(self.canvas.height, tile.top + tile.height + HALO)
        return Tile(left, top, right - left, bottom - top)

    def _label_part(self, tile: Tile) -> tuple[Array, Array, Array]:
        """The label under a tile with two reduced pixels to spare, and its rows and columns there."""
        h, w = self.label.shape
        fx, fy = w / self.canvas.width, h / self.canvas.height
        columns = np.arange(math.floor(tile.left * fx) - 2, math.ceil((tile.left + tile.width) * fx) + 3)
        rows = np.arange(math.floor(tile.top * fy) - 2, math.ceil((tile.top + tile.height) * fy) + 3)
        across = columns % w if self.canvas.full_circle else np.clip(columns, 0, w - 1)
        return self.label[np.ix_(np.clip(rows, 0, h - 1), across)], rows, columns

    def _shares(self, tile: Tile, every: int, spread: int) -> dict[int, tuple[Box, Array]]:
        """For each frame that wins near the tile: the box where it can, and its share of the label there."""
        h, w = self.label.shape
        fx, fy = w / self.canvas.width, h / self.canvas.height
        part, rows, columns = self._label_part(tile)
        u, v = np.arange(0, tile.width, every), np.arange(0, tile.height, every)
        x = (u + tile.left + 0.5) * fx - 0.5 - columns[0]
        y = (v + tile.top + 0.5) * fy - 0.5 - rows[0]
        winners = present(part)
        if len(winners) == 1:
            return {winners[0]: ((slice(0, len(v)), slice(0, len(u))), np.ones((len(v), len(u)), np.float32))}
        found = {}
        step = grid_step(self.canvas)
        across, down = between(x, part.shape[1]), between(y, part.shape[0])
        for k in winners:
            mask = part == k
            ys, xs = np.flatnonzero(mask.any(1)), np.flatnonzero(mask.any(0))
            box = (reached(y, ys[0], ys[-1], spread, step), reached(x, xs[0], xs[-1], spread, step))
            if box[0].start < box[0].stop and box[1].start < box[1].stop:
                found[k] = box, down[box[0]] @ mask.astype(np.float32) @ across[box[1]].T
        return found

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
        picture = self.load(k).picture
        if picture.alpha is None:
            return np.ones(places.shape[:2], bool)
        return np.asarray(sample(picture.alpha, places, cv2.INTER_LINEAR) >= picture.full_scale * 0.98)

    def _half(self, k: int, view: FrameView, box: Box) -> tuple[Array, Array]:
        """A frame's half and its coverage (uint8) in a box of the half-size tile, nothing outside its view."""
        size = box[0].stop - box[0].start, box[1].stop - box[1].start
        pixels, covers = np.zeros((*size, 3), self.dtype), np.zeros(size, np.uint8)
        on_box, on_view = part_of(view.box, box), part_of(box, view.box)
        if on_box is not None and on_view is not None:
            places = view.places[on_view] * np.float32(0.5) - np.float32(0.25)
            pixels[on_box] = self._evened(
                k, self._sampled(k, self._pixels(self.load(k).half), places, cv2.INTER_LINEAR, 0.5)
            )
            covers[on_box] = view.inside[on_view]
        return pixels, covers

    def _sampled(
        self, k: int, pixels: Array, places: Array, interpolation: int = cv2.INTER_CUBIC, scale: float = 1.0
    ) -> Array:
        """A frame's pixels, reduced by ``scale``, at places; red and blue where lateral colour put them."""
        if self.lateral is None:
            return sample(pixels, places, interpolation)
        lens = self.poses.lenses[k]
        red, blue = (shifted(places, lens, shift, scale) for shift in self.lateral)
        channels = [
            sample(np.ascontiguousarray(pixels[..., c]), p, interpolation) for c, p in enumerate((red, places, blue))
        ]
        return np.asarray(cv2.merge(channels))

    def _pixels(self, pixels: Array) -> Array:
        """In the picture's depth."""
        if self.full_scale == 65535 and pixels.dtype == np.uint8:
            return pixels.astype(np.uint16) * 257
        return pixels

    def _evened(self, k: int, pixels: Array) -> Array:
        """With the frame's gain applied."""
        table = self.tables[k]
        return pixels if table is None else with_gain(pixels, table)
