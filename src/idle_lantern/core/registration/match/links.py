"""Two frames and what ties them; which frames belong together, and which links fix the whole."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from idle_lantern.core.base.arrays import Array

#: Standard error of a well-shown tie point, by which others are weighed.
BEST_PX = 0.05
#: Links of a frame that are kept for their strength, and the angle within which two point the same way.
_STRONGEST, _SAME_WAY_RAD = 3, math.radians(50.0)


@dataclass(frozen=True)
class Link:
    """Two frames and what ties them.

    Attributes
    ----------
    a, b : int
        Frame indices, a < b.
    points_a, points_b : (M, 2) float64
        Matched places in full-size pixels.
    b_from_a : (3, 3)
        Rotation that carries directions of camera a to camera b.
    inlier : (M,) bool
        Which matches that rotation explains.
    rms_px : float
        Of the inliers, after the last adjustment.
    sqrt_information : (M, 2, 2) or (0, 2, 2)
        What misses in frame b are multiplied with so that all are known alike: ``BEST_PX`` over the
        standard error, by direction. Empty while all are.
    by_hand : bool
        A person set its points: nothing throws them out.
    assumed : int
        So many of its last points were seen by nobody: they stand for how the frames are held, and count for nothing else.
    """

    a: int
    b: int
    points_a: Array
    points_b: Array
    b_from_a: Array = field(default_factory=lambda: np.eye(3))
    inlier: Array = field(default_factory=lambda: np.zeros(0, bool))
    rms_px: float = 0.0
    sqrt_information: Array = field(default_factory=lambda: np.zeros((0, 2, 2)))
    by_hand: bool = False
    assumed: int = 0

    @property
    def sigma_px(self) -> Array:
        """Standard error of each place in b, in its less known direction (M,); ``BEST_PX`` while all are known alike."""
        if not len(self.sqrt_information):
            return np.full(len(self.points_b), BEST_PX)
        return np.asarray(BEST_PX / np.maximum(np.linalg.eigvalsh(self.sqrt_information)[:, 0], 1e-9))

    @property
    def inliers(self) -> int:
        """How many matches agree."""
        return int(self.inlier[: len(self.inlier) - self.assumed].sum())

    @property
    def strength(self) -> float:
        """Inliers weighed by how well they spread over the frame: clumps tie poorly."""
        if not self.inlier.any():
            return 0.0
        spread = self.points_a[self.inlier].std(0).mean()
        return self.inliers * float(min(1.0, spread / 100))


def groups_of(count: int, links: Sequence[Link]) -> list[list[int]]:
    """Frames tied to each other, largest group first."""
    # some lines instead of a graph library, whose loading would cost every join half a second
    label = np.arange(count)
    before = label - 1
    a, b = np.array([link.a for link in links], int), np.array([link.b for link in links], int)
    while not np.array_equal(label, before):
        before = label.copy()
        np.minimum.at(label, a, before[b])
        np.minimum.at(label, b, before[a])
        label = label[label]
    groups = [np.flatnonzero(label == k).tolist() for k in np.unique(label)]
    return sorted(groups, key=lambda g: (-len(g), g[0]))


def best_tied(links: Sequence[Link], world_from_camera: Mapping[int, Array]) -> list[Link]:
    """The links that fix the whole, turned by rotations (3, 3): more would tell little new.

    A link is kept while one of its frames has few, when it is that frame's strongest one that way
    (rows that overlap much must not crowd out what ties row to row), and when it holds two parts together.
    """
    ways: dict[int, list[float]] = {f: [] for f in world_from_camera}
    part = {f: f for f in world_from_camera}
    kept = []
    for link in sorted(links, key=lambda k: -k.strength):
        ends = (link.a, link.b)
        way = [_way_to(world_from_camera[f], world_from_camera[g]) for f, g in (ends, ends[::-1])]
        fresh = any(all(_between_ways(w, other) > _SAME_WAY_RAD for other in ways[f]) for f, w in zip(ends, way))
        apart = part[link.a] != part[link.b]
        if link.by_hand or apart or fresh or min(len(ways[f]) for f in ends) < _STRONGEST:
            kept.append(link)
            for f, w in zip(ends, way):
                ways[f].append(w)
            old, new = part[link.a], part[link.b]
            part = {f: new if p == old else p for f, p in part.items()}
    return sorted(kept, key=lambda k: (k.a, k.b))


def _way_to(here: Array, there: Array) -> float:
    """Angle in the picture of one frame (rotations ``world_from_camera``) towards another's axis."""
    x, y, _z = here.T @ there[:, 2]
    return math.atan2(y, x)


def _between_ways(one: float, other: float) -> float:
    """Angle between two ways, 0 to pi."""
    return abs((one - other + math.pi) % (2 * math.pi) - math.pi)
