"""Things that stand in two places of the picture, or that a seam cuts: what moved between two frames.

Worked out on the reduced canvas of the seams, and for small things near a seam on the windows along it. Where two frames
differ by more than slopes explain, one of them shows a
figure and the other the ground behind it. Two such places, each shown by another frame, are one figure twice where what
is shown is alike in both, and stands out from what is round it more than what is hidden does.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.colours import largest, total
from idle_lantern.core.colour.space import ColourSpace
from idle_lantern.core.compositing.canvas.overview import Overview, Patch, meeting
from idle_lantern.core.compositing.light.gains import gain_table, with_gain

_DIFFERENT = 22.0  # display values by which a difference counts
_OF_SLOPE = 1.3  # beside so much of the steepest slope there
_LEAST = 10  # pixels of a figure
#: Two figures are one where they are alike within these.
_SAME_COLOUR = 34.0  # display values
_SAME_SIZE = 5.0  # times
_SAME_HEIGHT = 1.2  # in the picture, times its own height
#: How much taller one may be; and the share of a figure's pixels that differ most, by which its colour is told.
_SAME_TALL, _CORE = 2.2, 0.5
#: Share of a figure that must lie in one frame's part of the picture to be shown by it.
_SHOWN = 0.75
#: Where the hidden frame shows the figure's colour too nothing moved.
_BESIDE_COLOUR = 18.0  # within so many display values
_WITHIN = 0.35  # over such a share of the place
_BESIDE = 0.7  # or such a share of what lies round it
_ASIDE = 13  # side of what lies round it, in pixels
#: Display values by which two figures together stand out more than the grounds they hide.
_STANDS = 12.0
#: Display values by which the shown must be more alike than the hidden.
_MORE_ALIKE = 10.0


@dataclass(frozen=True)
class Figure:
    """A place where two frames differ, in pixels of the canvas on which it was found, and what the picture shows there.

    ``frame`` is the one that the picture shows, ``other`` the one it hides; ``box`` is column, row, width and height;
    ``colour`` what is shown and ``hidden`` what is not, ``stands`` how much more the first stands out from its surroundings.
    """

    frame: int
    other: int
    box: tuple[int, int, int, int]
    area: int
    colour: Array
    hidden: Array
    stands: float


@dataclass(frozen=True)
class Doubled:
    """One figure shown by two frames."""

    one: Figure
    two: Figure
    alike: float


def figures(overview: Overview, gains: Array, label: Array) -> list[Figure]:
    """What moved between each two frames that overlap; ``gains`` (F, 3), ``label`` (h, w)."""
    even = [_even(p, gains, overview.space) for p in overview.patches]
    found = []
    for i, others in enumerate(meeting(overview)):
        for j in others:
            found += _between(overview, i, j, even, label)
    return found


def doubled(found: Sequence[Figure]) -> list[Doubled]:
    """Figures that the picture shows in two places, from two frames."""
    pairs = []
    for n, one in enumerate(found):
        for two in found[n + 1 :]:
            if (one.frame, one.other) != (two.other, two.frame):
                continue
            colour, hidden = (
                float(np.abs(x - y).max()) for x, y in ((one.colour, two.colour), (one.hidden, two.hidden))
            )
            # the figure is what is the same in both places; where ground and figure both are, it stands out; and where what is
            # hidden stands out more, the same ground is shown twice and the figure nowhere
            stands = one.stands + two.stands
            if stands < -_STANDS or (colour + _MORE_ALIKE > hidden and stands < _STANDS):
                continue
            size = max(one.area, two.area) / max(1, min(one.area, two.area))
            tall, low = max(one.box[3], two.box[3]), min(one.box[3], two.box[3])
            height = abs(one.box[1] + one.box[3] / 2 - two.box[1] - two.box[3] / 2) / max(1, tall)
            if colour < _SAME_COLOUR and size < _SAME_SIZE and height < _SAME_HEIGHT and tall < _SAME_TALL * low:
                alike = 1 - (colour / _SAME_COLOUR + (size - 1) / (_SAME_SIZE - 1) + height / _SAME_HEIGHT) / 3
                pairs.append(Doubled(one, two, alike))
    # a figure stands in two places, not in three pairs of them
    taken: set[int] = set()
    told = []
    for pair in sorted(pairs, key=lambda p: -p.alike):
        if taken.isdisjoint((id(pair.one), id(pair.two))):
            taken |= {id(pair.one), id(pair.two)}
            told.append(pair)
    return told


def _even(patch: Patch, gains: Array, space: ColourSpace) -> Array:
    return np.asarray(
        cv2.GaussianBlur(
            with_gain(patch.pixels, gain_table(gains[patch.frame], 255, space)).astype(np.float32), (3, 3), 0
        )
    )


def _between(overview: Overview, i: int, j: int, even: Sequence[Array], label: Array) -> list[Figure]:
    one, two = overview.patches[i], overview.patches[j]
    columns = np.intersect1d(one.columns, two.columns, assume_unique=True)
    top = max(one.top, two.top)
    bottom = min(one.top + one.inside.shape[0], two.top + two.inside.shape[0])
    if not len(columns) or bottom <= top:
        return []
    width = overview.canvas.width
    gap = np.flatnonzero(np.diff(columns) > 1)
    if len(gap):  # across the end of a full circle
        columns = np.concatenate([columns[gap[-1] + 1 :], columns[: gap[-1] + 1]])
    parts = []
    for patch, pixels in ((one, even[i]), (two, even[j])):
        at = _places(patch, columns)
        rows = slice(top - patch.top, bottom - patch.top)
        parts.append((pixels[rows][:, at], patch.inside[rows][:, at]))
    (a, in_a), (b, in_b) = parts
    both = cv2.erode((in_a & in_b).astype(np.uint8), np.ones((3, 3), np.uint8)) > 0
    across = slice(columns[0], columns[-1] + 1) if _in_a_row(columns) else columns
    found = differing(a, b, both, label[top:bottom, across], (one.frame, two.frame))
    return [replace(f, box=(int(columns[f.box[0]]) % width, top + f.box[1], *f.box[2:])) for f in found]


def differing(a: Array, b: Array, both: Array, winner: Array, pair: tuple[int, int]) -> list[Figure]:
    """Places where two frames ``pair`` differ, of what they show (h, w, 3) float32 on the same piece of canvas, ``both`` where both do;
    ``winner`` (h, w) is the frame that the picture shows."""
    if both.sum() < 4 * _LEAST:
        return []
    slope = np.maximum(_steepest(a), _steepest(b))
    differs = largest(cv2.absdiff(a, b))
    marked = ((differs > _DIFFERENT + _OF_SLOPE * slope) & both).astype(np.uint8)
    marked = cv2.morphologyEx(marked, cv2.MORPH_CLOSE, np.ones((3, 3), np.uint8))
    count, labels, stats, _centres = cv2.connectedComponentsWithStats(marked)
    told = []
    for k in range(1, count):
        x, y, w, h, area = (int(v) for v in stats[k])
        if area < _LEAST or area > 0.2 * both.sum():
            continue
        mine = labels == k
        ring = (cv2.dilate(mine.astype(np.uint8), np.ones((7, 7), np.uint8)) > 0) & ~mine & both
        if ring.sum() < _LEAST:
            continue
        # the core of it: at its rim figure and ground are mixed
        core = mine & (differs >= np.quantile(differs[mine], _CORE))
        colours = [np.median(p[core], 0) for p in (a, b)]
        stands = [float(np.abs(c - np.median(p[ring], 0)).max()) for c, p in zip(colours, (a, b))]
        shown, hidden = (0, 1) if (winner[mine] == pair[0]).mean() > _SHOWN else (1, 0)
        if (winner[mine] == pair[shown]).mean() < _SHOWN:
            continue  # the seam runs through it, or a third frame shows the place
        figure = int(stands[1] > stands[0])  # which of both shows it, and which the ground behind it
        there = largest(cv2.absdiff((a, b)[1 - figure], _plain(colours[figure], a.shape))) < _BESIDE_COLOUR
        about = (cv2.dilate(mine.astype(np.uint8), np.ones((_ASIDE, _ASIDE), np.uint8)) > 0) & ~mine & both
        if (there & mine).sum() > _WITHIN * area or (there & about).sum() > _BESIDE * area:
            continue  # the other frame shows it too, a little aside: it lies near, or is a stripe, and nothing moved
        stand = stands[shown] - stands[hidden]
        told.append(Figure(pair[shown], pair[hidden], (x, y, w, h), area, colours[shown], colours[hidden], stand))
    return told


def _places(patch: Patch, columns: Array) -> Array | slice:
    """Where canvas columns stand in a patch: a slice, unless it runs across the end of a full circle."""
    first = int(columns[0] - patch.columns[0])
    if _in_a_row(columns) and _in_a_row(patch.columns):
        return slice(first, first + len(columns))
    order = np.argsort(patch.columns)
    return np.asarray(order[np.searchsorted(patch.columns[order], columns)])


def _plain(colour: Array, shape: tuple[int, ...]) -> Array:
    """One colour all over, (h, w, 3) float32."""
    return np.broadcast_to(colour.astype(np.float32), shape).copy()


def _in_a_row(columns: Array) -> bool:
    return int(columns[-1] - columns[0]) == len(columns) - 1


def _steepest(pixels: Array) -> Array:
    grey = total(pixels) / np.float32(3)
    slope = cv2.magnitude(cv2.Sobel(grey, cv2.CV_32F, 1, 0), cv2.Sobel(grey, cv2.CV_32F, 0, 1)) / np.float32(8)
    return np.asarray(cv2.dilate(slope, np.ones((3, 3), np.uint8)))
