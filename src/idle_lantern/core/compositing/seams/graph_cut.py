"""Which frame wins where, cut along the path on which neighbours differ least.

Frames are laid one after another; each time a minimum cut (Boykov & Kolmogorov
2004, by the PyMaxflow library) decides where the new one takes over, as in
Kwatra et al., *Graphcut Textures* (2003).
"""

from __future__ import annotations

import cv2
import maxflow
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.colours import total
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.compositing.canvas.overview import Overview, Patch
from idle_lantern.core.compositing.light.gains import gain_table, with_gain

NOBODY = -1
#: Price of a step of seam where both frames are alike: keeps seams short.
_STEP = 2.0
#: Prices are whole numbers for the cut; so many units make one grey level.
_UNIT = 8
#: Pull towards the frame whose middle is nearer, per pixel; far below any visible difference.
_MIDDLE = 1.5
#: A pixel nearer by so much to one frame's middle than to the other's is not worth asking about.
_CLEAR = 0.6
_HARD = 1_000_000_000
#: Belts of more pixels are cut at half size first; near that cut, within so many pixels, again.
_WIDE, _NEAR = 12000, 6


def find_seams(overview: Overview, gains: Array, progress: Progress = SILENT) -> Array:
    """Label (H, W) int16 of the overview canvas: index of the winning frame, or ``NOBODY``."""
    shape = (overview.canvas.height, overview.canvas.width)
    label = np.full(shape, NOBODY, np.int16)
    value = np.zeros((*shape, 3), np.float32)
    weight = np.zeros(shape, np.float32)
    kept = np.zeros(shape, bool)
    progress.begin("seams", len(overview.patches))
    for patch in _laying_order(overview):
        progress.advance()
        pixels: Array = with_gain(patch.pixels, gain_table(gains[patch.frame], 255, overview.space)).astype(np.float32)
        pixels = cv2.GaussianBlur(pixels, (3, 3), 0)
        there = label[patch.index]
        take = _cut(there != NOBODY, patch, value[patch.index], pixels, weight[patch.index], kept[patch.index])
        label[patch.index] = np.where(take, patch.frame, there)
        value[patch.index] = np.where(take[..., None], pixels, value[patch.index])
        weight[patch.index] = np.where(take, patch.weight, weight[patch.index])
        if patch.kept is not None:
            kept[patch.index] |= take & patch.kept
    return label


def _laying_order(overview: Overview) -> list[Patch]:
    """Outwards from the canvas middle, so that each new frame meets what is laid on one side."""
    middle = np.array([overview.canvas.height, overview.canvas.width]) / 2

    def distance(patch: Patch) -> float:
        at = np.array([patch.top + patch.inside.shape[0] / 2, patch.columns[len(patch.columns) // 2]])
        return float(np.abs(at - middle) @ np.array([0.3, 1.0]))

    return sorted(overview.patches, key=distance)


def _cut(laid: Array, patch: Patch, old: Array, new: Array, old_weight: Array, old_kept: Array) -> Array:
    """Where the new frame takes over, (h, w) bool; what a mask keeps of the old one is not given up."""
    only_new = patch.inside & ~laid
    both = patch.inside & laid
    if not both.any():
        return only_new
    lead = patch.weight - old_weight
    # outside the belt where both frames are about equally good the choice is plain; inside it is cut
    new_kept = np.zeros_like(both) if patch.kept is None else patch.kept & ~old_kept
    surely_new = only_new | (both & ((lead > _CLEAR) & ~old_kept | new_kept))
    surely_old = (laid & ~patch.inside) | (both & ((lead < -_CLEAR) & ~new_kept | old_kept))
    belt = both & ~surely_new & ~surely_old
    if not belt.any():
        return np.asarray(surely_new & patch.inside)
    rows, columns = np.flatnonzero(belt.any(1)), np.flatnonzero(belt.any(0))
    window = (slice(rows[0], rows[-1] + 1), slice(columns[0], columns[-1] + 1))
    difference = total(cv2.absdiff(old[window], new[window]))
    old_side, new_side = _beside(surely_old, belt)[window], _beside(surely_new, belt)[window]
    take = np.zeros_like(both)
    take[window] = _through(belt[window], old_side, new_side, difference, lead[window])
    return np.asarray(take | (surely_new & patch.inside))


def _through(belt: Array, old_side: Array, new_side: Array, difference: Array, lead: Array) -> Array:
    """Which pixels of the belt go to the new frame, (h, w) bool.

    Wide belts are cut at half their size first, then exactly near where that cut runs.
    """
    if np.count_nonzero(belt) < _WIDE:
        return _least_cut(belt, old_side, new_side, difference, lead)
    # a block belongs to the belt if all of it does, and differs where anything in it does; it holds four
    # pixels' pull towards the middle at the price of two steps of seam
    inner: Array = np.asarray(_blocks(belt).all((1, 3)))
    rough = _through(
        inner,
        _beside(np.asarray(_blocks(old_side).any((1, 3))), inner),
        _beside(np.asarray(_blocks(new_side).any((1, 3))), inner),
        _blocks(difference).max((1, 3)),
        2 * _blocks(lead).mean((1, 3)),
    )
    h, w = belt.shape
    whole = [part.repeat(2, 0).repeat(2, 1)[:h, :w] for part in (rough, inner)]
    new_there, old_there = whole[0], whole[1] & ~whole[0]
    # what the half-size cut does not know, and what lies near its border, is cut again
    open_to = _grown(new_there) & _grown(old_there) | ~whole[1]
    fixed_new, fixed_old = belt & new_there & ~open_to, belt & old_there & ~open_to
    narrow = belt & open_to
    take = _least_cut(
        narrow,
        narrow & old_side | _beside(fixed_old, narrow),
        narrow & new_side | _beside(fixed_new, narrow),
        difference,
        lead,
    )
    return take | fixed_new


def _least_cut(belt: Array, old_side: Array, new_side: Array, difference: Array, lead: Array) -> Array:
    """The minimum cut through a belt whose rims are held by ``old_side`` and ``new_side``: what the new frame gets."""
    price = np.where(belt, difference + _STEP, 0).round().astype(np.int32) * _UNIT
    graph = maxflow.GraphInt()
    nodes = graph.add_grid_nodes(belt.shape)
    graph.add_grid_edges(nodes, _pair_price(price, 1), structure=_arrow(0, 1), symmetric=True)
    graph.add_grid_edges(nodes, _pair_price(price, 0), structure=_arrow(1, 0), symmetric=True)
    lean = (_UNIT * _MIDDLE * lead).round().astype(np.int32)
    # maxflow's "source" side is the old frame, its "sink" side the new one
    old_pull = np.where(belt, np.maximum(-lean, 0), 0) + _HARD * old_side
    new_pull = np.where(belt, np.maximum(lean, 0), 0) + _HARD * (new_side & ~old_side)
    graph.add_grid_tedges(nodes, old_pull, new_pull)
    graph.maxflow()
    return np.asarray(graph.get_grid_segments(nodes) & belt)


def _blocks(values: Array) -> Array:
    """Blocks of two by two as (h, 2, w, 2), the last row and column repeated where they are odd."""
    h, w = values.shape
    even = np.pad(values, ((0, h % 2), (0, w % 2)), mode="edge")
    return even.reshape((h + 1) // 2, 2, (w + 1) // 2, 2)


def _grown(region: Array) -> Array:
    """The region and what lies within a few pixels of it."""
    return np.asarray(cv2.dilate(region.astype(np.uint8), np.ones((2 * _NEAR + 1, 2 * _NEAR + 1), np.uint8)) > 0)


def _pair_price(difference: Array, axis: int) -> Array:
    """Price of cutting between a pixel and its next along ``axis``; 0 at the last and off the overlap."""
    following = np.roll(difference, -1, axis)
    price = np.where((difference > 0) & (following > 0), difference + following, 0)
    last = [slice(None), slice(None)]
    last[axis] = slice(-1, None)
    price[tuple(last)] = 0
    return np.asarray(price)


def _arrow(dy: int, dx: int) -> Array:
    structure = np.zeros((3, 3))
    structure[1 + dy, 1 + dx] = 1
    return structure


def _beside(region: Array, within: Array) -> Array:
    """Pixels of ``within`` that touch ``region``."""
    grown = cv2.dilate(region.astype(np.uint8), np.ones((3, 3), np.uint8)) > 0
    return np.asarray(grown & within)
