"""Rows and columns of tiles: grown, halved, aligned, cut."""

from __future__ import annotations

import numpy as np

from idle_lantern.core.base.arrays import Array

BANDS = 5
#: The widest band reaches about so far beyond a tile.
HALO = 2 ** (BANDS + 1)
Box = tuple[slice, slice]


def reached(places: Array, first: int, last: int, spread: int, step: int) -> slice:
    """Pixels (N,) whose ``places`` (N,) on the label lie within a step of ``first`` to ``last``, and ``spread`` round them.

    Begins on the coarse grid.
    """
    near = np.flatnonzero((places > first - 1) & (places < last + 1))
    if len(near) == 0:
        return slice(0, 0)
    start = max(0, int(near[0]) - spread) // step * step
    return slice(start, min(len(places), int(near[-1]) + 1 + spread))


def aligned(box: Box, step: int, shape: tuple[int, ...]) -> Box:
    """The box grown to multiples of ``step``, so that its halves lie on the halves of the whole."""
    rows, columns = (
        slice(side.start // step * step, min(size, -(-side.stop // step) * step)) for side, size in zip(box, shape)
    )
    return rows, columns


def on_grid(box: Box, step: int) -> Box:
    """The box with its corner on the coarse grid."""
    rows, columns = (slice(side.start // step * step, side.stop) for side in box)
    return rows, columns


def both_boxes(one: Box, other: Box) -> Box:
    """The smallest box that holds two."""
    rows, columns = (slice(min(a.start, b.start), max(a.stop, b.stop)) for a, b in zip(one, other))
    return rows, columns


def within(outer: Box, inner: Box) -> Box:
    """A box counted from the corner of another, counted from where that one is."""
    rows, columns = (slice(o.start + i.start, o.start + i.stop) for o, i in zip(outer, inner))
    return rows, columns


def doubled(box: Box) -> Box:
    """The box in pixels of half the size."""
    rows, columns = (slice(2 * side.start, 2 * side.stop) for side in box)
    return rows, columns


def halved(shape: tuple[int, ...], times: int) -> tuple[int, int]:
    """Height and width after so many reductions by two, each rounded up."""
    return -(-shape[0] // 2**times), -(-shape[1] // 2**times)


def grown(mask: Array, by: int) -> Box:
    """Rows and columns of a mask (h, w) that is set somewhere, and ``by`` round them."""
    rows, columns = np.flatnonzero(mask.any(1)), np.flatnonzero(mask.any(0))
    return (
        slice(max(0, int(rows[0]) - by), min(mask.shape[0], int(rows[-1]) + 1 + by)),
        slice(max(0, int(columns[0]) - by), min(mask.shape[1], int(columns[-1]) + 1 + by)),
    )


def part_of(box: Box, frame: Box) -> Box | None:
    """What of ``box`` lies in ``frame``, counted from its corner; None for nothing."""
    cut = tuple(slice(max(b.start, f.start) - f.start, min(b.stop, f.stop) - f.start) for b, f in zip(box, frame))
    if any(c.start >= c.stop for c in cut):
        return None
    return cut[0], cut[1]


def seam_box(winner: Array) -> Box | None:
    """Rows and columns of a half-size label (h, w) that blending can change: seams and the widest band round them."""
    across, down = winner[:, 1:] != winner[:, :-1], winner[1:] != winner[:-1]
    rows = np.flatnonzero(across.any(1)).tolist() + np.flatnonzero(down.any(1)).tolist()
    columns = np.flatnonzero(across.any(0)).tolist() + np.flatnonzero(down.any(0)).tolist()
    if not rows:
        return None
    reach = HALO // 2
    top, bottom = max(0, min(rows) - reach), min(winner.shape[0], max(rows) + 2 + reach)
    left, right = max(0, min(columns) - reach), min(winner.shape[1], max(columns) + 2 + reach)
    return slice(top, bottom), slice(left, right)
