"""Lens, turns, inverse distances and the right rail setting, adjusted together over all pairs of a no-parallax measurement.

The camera stands ``rail - setting`` ahead of the turning axis, so that a turn carries it by ``(rail - setting) (R z - z)`` in
the frame of the left picture, z being where it looks. Each thing has one inverse distance, from the axis, in all pairs that show it. For given
lens, turns and setting those are found at once, one by one (variable projection: Golub and Pereyra 1973), and what is left is
adjusted with weights that fall with the miss (Cauchy), so that what moves or was matched wrongly hardly counts.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from cachetools import LRUCache

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens

#: The focal length told (natural logarithm), no distortion (k1) and the middle of the settings (mm) are believed within these.
_PRIORS = np.array([0.06, 0.1, 60.0])
#: Settings beyond those tried are sought so far, in such steps.
_BEYOND_MM, _STEP_MM = 60.0, 4.0
#: Things lie further off than the inverse of this, and mostly much further.
_NEAREST_PER_M, _USUAL_PER_M = 5.0, 1.0
#: Places are known to this at best, and a miss is judged by so many times the usual one.
_BEST_PX, _CAUCHY = 0.25, 2.0
#: A thing is explained by a start that misses it by less than this.
_UNEXPLAINED_PX = 3.0
_ROUNDS = 5
#: A thing is near where it is nearer than this share of the nearest, and its distance so many times its error.
_NEAR_SHARE, _TELLS = 0.5, 4.0
#: Matches of at least this weight are told to people.
_GOOD = 0.3
#: Matches of one thing share what is wrong with them: errors are so many times what chance alone would leave.
_TOGETHER = 1.2


@dataclass(frozen=True)
class PairSeen:
    """A pair at a rail setting: places (N, 2) in the left and right frame, a number for each thing (N,), and a first turn (3, 3)."""

    rail_mm: float
    left: Array
    right: Array
    things: Array
    turn: Array


@dataclass(frozen=True)
class PupilFit:
    """The right setting and its standard error; how many things are near; by pair how far those moved against the ground."""

    setting_mm: float
    sigma_mm: float
    near: int
    shifts_px: tuple[float, ...]
    shift_sigmas_px: tuple[float, ...]


def fitted(pairs: Sequence[PairSeen], lens: Lens) -> PupilFit:
    """Adjust all; ``lens`` is what the files tell, without distortion."""
    fit = _Fit(pairs, lens)
    unknown = np.concatenate([[0.0, 0.0, 0.0], np.concatenate([rotations.to_vector(p.turn) for p in pairs])])
    weights = fit.weights(unknown)
    # without a setting first, as if all stood far, then from the best of many
    for _ in range(2):
        unknown = fit.adjusted(unknown, weights, setting=False)
        weights = fit.weights(unknown)
    rails = [p.rail_mm for p in pairs]
    tried = np.arange(min(rails) - _BEYOND_MM, max(rails) + _BEYOND_MM, _STEP_MM) - fit.middle_mm
    starts = [np.concatenate([unknown[:2], [s], unknown[3:]]) for s in tried]
    unknown = min(starts, key=fit.cost)
    for _ in range(_ROUNDS):
        weights = fit.weights(unknown)
        unknown = fit.adjusted(unknown, weights, setting=True)
    return fit.result(unknown)


class _Fit:
    """The observations of all pairs on end. Unknown are log focal length, k1, the setting (mm from the middle) and a turn for each pair."""

    def __init__(self, pairs: Sequence[PairSeen], lens: Lens) -> None:
        self.pairs, self.lens = pairs, lens
        self.middle_mm = float(np.mean([p.rail_mm for p in pairs]))
        _names, self.thing = np.unique(np.concatenate([p.things for p in pairs]), return_inverse=True)
        self.count = int(self.thing.max()) + 1
        #: Observations of things that several pairs show: one pair alone says nothing of the setting.
        self.again = np.bincount(self.thing)[self.thing] > 1
        ends = np.cumsum([len(p.left) for p in pairs])
        self.pair = np.repeat(np.arange(len(pairs)), np.diff(ends, prepend=0))
        self.things = np.split(self.thing, ends[:-1])
        # a numeric derivative changes one number at a time: most pairs, and nearly all rays, are those of the step before
        self._rays: LRUCache[tuple[int, bytes], Array] = LRUCache(4 * len(pairs))
        self._moved: LRUCache[tuple[int, bytes], tuple[Array, Array]] = LRUCache(6 * len(pairs))
        self.about = np.zeros(self.count)

    @property
    def about(self) -> Array:
        """By thing the inverse distance about which the moves are taken as straight."""
        return self._about

    @about.setter
    def about(self, inverse: Array) -> None:
        self._about = inverse
        self._moved.clear()

    def moves(self, unknown: Array) -> tuple[Array, Array]:
        """By observation what the turn leaves, and what an inverse distance of 1/m adds, (N, 2) pixels each, about ``about``."""
        found = []
        for k, turn in enumerate(unknown[3:].reshape(-1, 3)):
            key = k, np.concatenate([unknown[:3], turn]).tobytes()
            if key not in self._moved:
                self._moved[key] = self._moves_of(k, unknown[:3], turn)
            found.append(self._moved[key])
        left, by_distance = zip(*found)
        return np.concatenate(left), np.concatenate(by_distance)

    def _moves_of(self, k: int, shared: Array, turn: Array) -> tuple[Array, Array]:
        """``moves`` of the pair ``k``; ``shared`` (3,) are log focal length, k1 and the setting."""
        pair, about = self.pairs[k], self._about[self.things[k], None]
        lens = replace(self.lens, focal_px=self.lens.focal_px * math.exp(shared[0]), k1=float(shared[1]))
        key = k, shared[:2].tobytes()
        if key not in self._rays:
            self._rays[key] = lens.unproject(pair.left)
        rays, turned = self._rays[key], rotations.from_vector(turn)
        ahead_m = (pair.rail_mm - self.middle_mm - shared[2]) / 1000
        z = np.array([0.0, 0.0, 1.0])
        moved = -ahead_m * (z - turned @ z)
        # from the camera, which stands ahead of the axis from which distances are counted
        nearer = 1 / (1 - about * ahead_m * rays[:, 2:])
        there = rays @ turned.T + about * nearer * moved
        by_distance = nearer**2 * (lens.project_slope(there) @ moved)
        return pair.right - np.nan_to_num(lens.project(there)[0], nan=1e4) + about * by_distance, by_distance

    def inverse_distances(self, left: Array, by_distance: Array, weights: Array) -> tuple[Array, Array]:
        """Of each thing in 1/m, and what it rests on (the inverse square of its error in units of a pixel's)."""
        known = np.bincount(self.thing, weights * (by_distance**2).sum(1), self.count) + (_BEST_PX / _USUAL_PER_M) ** 2
        told = np.bincount(self.thing, weights * (by_distance * left).sum(1), self.count)
        return np.clip(told / known, 0.0, _NEAREST_PER_M), known

    def misses(self, unknown: Array, weights: Array) -> Array:
        """What is left of each observation, (N, 2) pixels."""
        left, by_distance = self.moves(unknown)
        inverse, _known = self.inverse_distances(left, by_distance, weights)
        return np.asarray(left - inverse[self.thing, None] * by_distance)

    def weights(self, unknown: Array) -> Array:
        """Cauchy weights (N,), and inverse distances to go on from: some rounds, since each depends on the other."""
        weights = np.ones(len(self.thing))
        self.about = np.zeros(self.count)
        for _ in range(3):
            left, by_distance = self.moves(unknown)
            self.about = self.inverse_distances(left, by_distance, weights)[0]
            miss = np.linalg.norm(left - self.about[self.thing, None] * by_distance, axis=1)
            scale = _CAUCHY * max(_BEST_PX, float(np.median(miss)))
            weights = 1 / (1 + (miss / scale) ** 2)
        return weights

    def cost(self, unknown: Array) -> float:
        """Of a start: how many things that several pairs show it does not explain; fractions of a pixel say nothing here."""
        miss = np.linalg.norm(self.misses(unknown, self.weights(unknown)), axis=1)
        return float(np.log1p((miss[self.again] / _UNEXPLAINED_PX) ** 2).sum())

    def adjusted(self, unknown: Array, weights: Array, *, setting: bool) -> Array:
        """Better values under given weights; without ``setting`` all things stand far."""
        # loaded when it is needed: the window knows this module from the start
        from scipy.optimize import least_squares

        root = np.sqrt(weights)[:, None]
        if not setting:
            self.about = np.zeros(self.count)

        def left(free: Array) -> Array:
            now = free if setting else np.concatenate([free[:2], [0.0], free[2:]])
            miss = self.misses(now, weights) if setting else self.moves(now)[0]
            prior = _BEST_PX * now[:3] / _PRIORS
            return np.concatenate([(miss * root).ravel(), prior])

        start = unknown if setting else np.delete(unknown, 2)
        solved = least_squares(left, start, x_scale=self._scales(len(start), setting), max_nfev=15, method="trf")
        return solved.x if setting else np.insert(solved.x, 2, 0.0)

    @staticmethod
    def _scales(count: int, setting: bool) -> Array:
        return np.array([0.01, 0.01, *([1.0] if setting else []), *[0.001] * (count - 2 - setting)])

    def result(self, unknown: Array) -> PupilFit:
        """The setting with its error by the law of propagation, and what the near things did."""
        weights = self.weights(unknown)
        left, by_distance = self.moves(unknown)
        inverse, known = self.inverse_distances(left, by_distance, weights)
        miss = left - inverse[self.thing, None] * by_distance
        spare = max(1.0, 2 * float(weights.sum()) - self.count - len(unknown))
        pixel = max(_BEST_PX / 2, math.sqrt(float((weights[:, None] * miss**2).sum()) / spare))
        slopes = np.empty((miss.size, len(unknown)))
        for k, scale in enumerate(self._scales(len(unknown), True)):
            step = np.zeros(len(unknown))
            step[k] = 0.1 * scale
            change = self.misses(unknown + step, weights) - self.misses(unknown - step, weights)
            slopes[:, k] = (np.sqrt(weights)[:, None] * change / (0.2 * scale)).ravel()
        normal = slopes.T @ slopes
        normal[np.diag_indices(3)] += (pixel / _PRIORS) ** 2
        sigma = _TOGETHER * pixel * math.sqrt(max(0.0, float(np.linalg.pinv(normal, hermitian=True)[2, 2])))
        sure = inverse * np.sqrt(known) > _TELLS * pixel
        nearest = float(np.percentile(inverse[sure], 90)) if sure.any() else math.inf
        near = sure & (inverse > _NEAR_SHARE * nearest)
        shifts, sigmas = [], []
        for k in range(len(self.pairs)):
            here = (self.pair == k) & (weights > _GOOD)
            mine, ground = here & near[self.thing], here & ~near[self.thing]
            told = mine.any() and ground.any()
            shifts.append(float(np.median(left[mine, 0]) - np.median(left[ground, 0])) if told else math.nan)
            sigmas.append(pixel / math.sqrt(max(1, int(mine.sum()))))
        return PupilFit(self.middle_mm + float(unknown[2]), sigma, int(near.sum()), tuple(shifts), tuple(sigmas))
