"""The least-squares problem of a join: rotations and lens intrinsics against tie points.

In pixels, with a Cauchy weight against wrong matches. The Jacobian is analytic, and sparse: each
link touches two frames and its lenses.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.match.links import BEST_PX, Link
from idle_lantern.core.registration.solve.poses import Poses

#: Distortion at the frame's corner that lenses usually stay below, as share of the radius; keeps
#: k1 and k2 from running away on narrow fields, where they hardly show.
_CORNER_DISTORTION = 0.04
#: Logarithm of the focal length in pixels beyond which nothing is sought.
_MOST_LOG_FOCAL = 14.0
#: The same for the offset of the principal point, as share of the focal length.
_MOST_OFF_CENTRE = 0.5
#: Offset of the principal point that lenses usually stay below, as share of the focal length.
_OFF_CENTRE = 0.01
_HELD = 1e-9
#: Standard errors of tie points to the distance from which they lose weight.
_SCALES_A_NOISE = 3.0
#: Numbers of a lens in an adjustment: log focal length, k1, k2, k3, and the principal point's offset
#: across and down as share of the focal length.
LENS_INTRINSICS = 6
_NO_INTRINSICS = np.zeros(LENS_INTRINSICS)
#: Which of them an adjustment may free.
FOCAL = (0,)
BENT = (0, 1, 2)
OFF_CENTRE = (0, 4, 5)
BENT_OFF_CENTRE, ALL = (0, 1, 2, 4, 5), (0, 1, 2, 3, 4, 5)


@dataclass(frozen=True)
class State:
    """What an adjustment changes: rotations (F, 3, 3) and the intrinsics of each lens (G, 6)."""

    rotation: Array
    intrinsics: Array


class Adjustment:
    """A least-squares problem: points of all links in flat arrays (P, ...), sorted by link."""

    def __init__(
        self,
        poses: Poses,
        links: Sequence[Link],
        camera_group: Sequence[int],
        scale_px: float,
        focal_from_exif: bool,
        free: Sequence[int],
        most_points: int,
        prior_weight: float | None = None,
    ) -> None:
        self.poses, self.scale_px = poses, scale_px
        # what lenses usually are weighs against the misses as in units of their noise, or as told
        self.prior_weight = min(1.0, (scale_px / _SCALES_A_NOISE) ** 2) if prior_weight is None else prior_weight
        place = {f: i for i, f in enumerate(poses.frames)}
        inside = [k for k in links if k.a in place and k.b in place and k.inliers]
        chosen = [_thinned(k.inlier, most_points) for k in inside]
        self.by_hand = any(k.by_hand for k in inside)
        self.a = np.array([place[k.a] for k in inside], int)
        self.b = np.array([place[k.b] for k in inside], int)
        self.points_a = np.concatenate([k.points_a[c] for k, c in zip(inside, chosen)] or [np.zeros((0, 2))])
        self.points_b = np.concatenate([k.points_b[c] for k, c in zip(inside, chosen)] or [np.zeros((0, 2))])
        sqrt_information = [
            k.sqrt_information[c] if len(k.sqrt_information) else _alike(len(c)) for k, c in zip(inside, chosen)
        ]
        self.sqrt_information = np.concatenate(sqrt_information or [_alike(0)])
        sizes = np.array([len(c) for c in chosen], int)
        self.link = np.repeat(np.arange(len(inside)), sizes)
        self.starts = np.concatenate([[0], np.cumsum(sizes)[:-1]]).astype(int)
        labels = [camera_group[f] for f in poses.frames]
        order = {label: i for i, label in enumerate(dict.fromkeys(labels))}
        self.group = np.array([order[label] for label in labels])
        self.groups = len(order)
        with_groups = [(with_intrinsics(lens, _NO_INTRINSICS), int(g)) for lens, g in zip(poses.lenses, self.group)]
        self.distinct = list(dict.fromkeys(with_groups))
        self.kind = np.array([self.distinct.index(w) for w in with_groups])
        first = [int(np.flatnonzero(self.group == g)[0]) for g in range(self.groups)]
        intrinsics = np.array([intrinsics_of(poses.lenses[i]) for i in first])
        corner = np.array([_corner_tangent(poses.lenses[i]) for i in first])
        self.start = intrinsics * np.array([1, 0, 0, 0, 0, 0])
        usual = [np.full(self.groups, 0.05 if focal_from_exif else 0.5)]
        usual += [_CORNER_DISTORTION / corner**power for power in (2, 4, 6)]
        usual += [np.full(self.groups, _OFF_CENTRE)] * 2
        self.sigma = np.stack(usual, -1)
        # counted at the corner: on narrow fields honest coefficients are large
        most = [np.full(self.groups, _MOST_LOG_FOCAL), *(corner**-power for power in (2.0, 4.0, 6.0))]
        self.most = np.stack([*most, *[np.full(self.groups, _MOST_OFF_CENTRE)] * 2], -1)
        # frames of one camera turned on its side have their principal point turned too: it stays in the middle
        sizes_of = [
            {(poses.lenses[i].width, poses.lenses[i].height) for i in np.flatnonzero(self.group == g)}
            for g in range(self.groups)
        ]
        self.free = np.zeros((self.groups, LENS_INTRINSICS), bool)
        self.free[:, list(free)] = True
        self.free[[len(s) > 1 for s in sizes_of], 4:] = False
        self.start[~self.free], self.sigma[~self.free] = intrinsics[~self.free], _HELD
        self.state = State(poses.world_from_camera.copy(), intrinsics)

    def lenses(self, intrinsics: Array) -> list[Lens]:
        """The distinct lenses under these intrinsics (G, 6); ``kind`` tells which one each frame has."""
        return [with_intrinsics(lens, intrinsics[g]) for lens, g in self.distinct]

    def _by_lens(self, lenses: list[Lens], frame_of_link: Array) -> list[tuple[Lens, Array | slice]]:
        """Points that go through the same lens; most sets have one and need no picking."""
        if len(lenses) == 1:
            return [(lenses[0], slice(None))]
        which = self.kind[frame_of_link][self.link]
        return [(lens, np.flatnonzero(which == i)) for i, lens in enumerate(lenses)]

    def rays(self, lenses: list[Lens]) -> Array:
        """Directions of the points in their frames a, (P, 3)."""
        result = np.empty((len(self.link), 3))
        for lens, at in self._by_lens(lenses, self.a):
            result[at] = lens.unproject(self.points_a[at])
        return result

    def b_from_a(self, rotation: Array) -> Array:
        """For each link, (L, 3, 3)."""
        return np.asarray(np.swapaxes(rotation[self.b], 1, 2) @ rotation[self.a])

    def residuals_of(self, lenses: list[Lens], local: Array) -> Array:
        """Pixels by which directions in frame b miss the points there, (P, 2); NaN where the lens shows nothing.

        Weighted: what is known less counts for less.
        """
        result = np.empty((len(self.link), 2))
        for lens, at in self._by_lens(lenses, self.b):
            pixels, valid = lens.project(local[at])
            result[at] = np.where(valid[:, None], pixels - self.points_b[at], np.nan)
        return np.asarray(np.einsum("pij,pj->pi", self.sqrt_information, result))

    def aimed(self, state: State, rays: Array) -> tuple[Array, Array]:
        """Directions in frames b that points seen along ``rays`` in frames a should have, and the turns (P, 3, 3)."""
        turn = self.b_from_a(state.rotation)[self.link]
        return np.einsum("pij,pj->pi", turn, rays), turn

    def residuals(self, state: State) -> Array:
        """All misses, (P, 2)."""
        lenses = self.lenses(state.intrinsics)
        return self.residuals_of(lenses, self.aimed(state, self.rays(lenses))[0])

    def cost(self, state: State) -> float:
        """Cauchy cost of all points plus that of leaving what lenses usually are."""
        intrinsics = state.intrinsics
        if np.any(np.abs(intrinsics) > self.most):
            return math.inf
        prior_weight = self.prior_weight * float((((intrinsics - self.start) / self.sigma) ** 2).sum())
        c2 = self.scale_px**2
        squared = (self.residuals(state) ** 2).sum(1)
        squared = np.where(np.isfinite(squared), squared, 1e6 * c2)
        return prior_weight + c2 * float(np.log1p(squared / c2).sum())

    def linearised(self) -> tuple[Array, Array, Array]:
        """Misses r (P, 2), weights (P,), and their change J (P, 2, 6 + shared) with turns of a, b and shared intrinsics."""
        state = self.state
        lenses = self.lenses(state.intrinsics)
        rays = self.rays(lenses)
        local, turn = self.aimed(state, rays)
        r = self.residuals_of(lenses, local)
        good: Array = np.asarray(np.isfinite(r).all(1))
        r = np.where(good[:, None], r, 0)
        # points beyond what a lens can show weigh nothing, and must not spoil the sums either
        rays, local = np.where(good[:, None], rays, 0), np.where(good[:, None], local, [0, 0, 1])
        weight = good / (1 + (r**2).sum(1) / self.scale_px**2)
        slope = np.where(good[:, None, None], self.slopes(lenses, local), 0)
        columns = self.turned_columns(slope, turn, rays, local)
        columns.append(np.where(good[:, None, None], self.lens_columns(lenses, slope, turn, rays, local), 0))
        return r, weight, np.concatenate(columns, -1)

    def slopes(self, lenses: list[Lens], local: Array) -> Array:
        """Change of the misses with the directions in frames b, (P, 2, 3)."""
        slope = np.empty((len(local), 2, 3))
        for lens, at in self._by_lens(lenses, self.b):
            slope[at] = lens.project_slope(local[at])
        return np.asarray(self.sqrt_information @ slope)

    def turned_columns(self, slope: Array, turn: Array, rays: Array, local: Array) -> list[Array]:
        """Change (P, 2, 3) of the misses with a turn of camera a and of camera b: world_from_camera @ exp(w)."""
        return [slope @ (turn @ -rotations.skew(rays)), slope @ rotations.skew(local)]

    def lens_columns(self, lenses: list[Lens], slope: Array, turn: Array, rays: Array, local: Array) -> Array:
        """Change of the misses with the intrinsics of each lens, (P, 2, 6 G): through the rays of a, and the pixels of b."""
        columns = np.zeros((len(self.link), 2, self.groups, LENS_INTRINSICS))
        by_ray = slope @ turn
        groups = [group for _lens, group in self.distinct]
        for group, (lens, at) in zip(groups, self._by_lens(lenses, self.a)):
            columns[at, :, group] += by_ray[at] @ np.nan_to_num(lens.unproject_by_lens(self.points_a[at], rays[at]))
        for group, (lens, at) in zip(groups, self._by_lens(lenses, self.b)):
            columns[at, :, group] += self.sqrt_information[at] @ lens.project_by_lens(local[at])
        return np.where(self.free, columns, 0).reshape(len(columns), 2, -1)

    def normal_equations(self) -> tuple[Array, Array]:
        """J^T W J (U, U) and -J^T W r (U,); a turn of all frames together, which nothing fixes, is held."""
        r, weight, j = self.linearised()
        return self.assembled(j, j * weight[:, None, None], r)

    def size(self, columns: int) -> int:
        """How many unknowns there are, from the columns of one link: turns of all frames, then what is shared."""
        return 3 * len(self.poses.frames) + columns - 6

    def unknowns(self, a: int, b: int, columns: int) -> Array:
        """Which unknowns (columns,) the columns of a link between these frames stand for."""
        f = 3 * len(self.poses.frames)
        return np.concatenate([np.arange(3 * a, 3 * a + 3), np.arange(3 * b, 3 * b + 3), f + np.arange(columns - 6)])

    def assembled(self, j: Array, weighted: Array, r: Array) -> tuple[Array, Array]:
        """Normal equations from slopes, weighted slopes (P, 2, columns of a link) and misses."""
        f = len(self.poses.frames)
        size = self.size(j.shape[2])
        blocks = np.add.reduceat(np.swapaxes(weighted, 1, 2) @ j, self.starts, axis=0)
        sides = np.add.reduceat(np.einsum("pki,pk->pi", weighted, r), self.starts, axis=0)
        normal, gradient = np.zeros((size, size)), np.zeros(size)
        for a, b, block, side in zip(self.a.tolist(), self.b.tolist(), blocks, sides):
            at = self.unknowns(a, b, j.shape[2])
            normal[np.ix_(at, at)] += block
            gradient[at] -= side
        lens = np.arange(3 * f, 3 * f + LENS_INTRINSICS * self.groups)
        inverse = self.prior_weight / self.sigma**2
        normal[lens, lens] += inverse.ravel()
        gradient[lens] -= ((self.state.intrinsics - self.start) * inverse).ravel()
        together = np.concatenate(list(self.state.rotation), axis=1)  # (3, 3F): sum of turns in the world
        held = together.T @ together
        normal[: 3 * f, : 3 * f] += held * (np.trace(normal[: 3 * f, : 3 * f]) / (3 * f))
        return normal, gradient

    def stepped(self, step: Array) -> State:
        """State after a step (U,).

        With a longer lens all angles between frames shrink alike. The step goes along that bow, not along its
        tangent: on narrow fields, where the focal length is known least, it may so be corrected by half at once.
        """
        f = len(self.poses.frames)
        turns = step[: 3 * f].reshape(f, 3)
        lens = step[3 * f : 3 * f + LENS_INTRINSICS * self.groups].reshape(self.groups, LENS_INTRINSICS)
        rotation = self.state.rotation
        longer = lens[self.group, :1]
        from_middle = rotations.to_vector(rotations.nearest(rotation.sum(0)).T @ rotation)
        shrunk = rotation @ rotations.from_vector(np.expm1(-longer) * from_middle)
        turned = shrunk @ rotations.from_vector(turns + longer * from_middle)
        return replace(self.state, rotation=turned, intrinsics=self.state.intrinsics + lens)

    def result(self) -> Poses:
        """Poses with the error of the fit, and how well each is known."""
        lenses = self.lenses(self.state.intrinsics)
        squared, weight = self._squared_misses()
        # what is known well sets the figure
        trust = weight * (self.sqrt_information**2).sum((1, 2)) / 2
        rms = math.sqrt(float((weight * squared).sum() / max(trust.sum(), 1e-9)))
        focal_sigma, turn_sigma = self._sigmas()
        return replace(
            self.poses,
            lenses=tuple(lenses[k] for k in self.kind),
            world_from_camera=self.state.rotation,
            rms_px=rms,
            focal_sigma=focal_sigma,
            sigma_rad=turn_sigma,
        )

    def _squared_misses(self) -> tuple[Array, Array]:
        """Squared weighted misses (P,), and their Cauchy weights, so that a few wrong matches set no figure."""
        squared = (self.residuals(self.state) ** 2).sum(1)
        seen = np.isfinite(squared)
        squared = np.where(seen, squared, 0)
        return squared, seen / (1 + squared / self.scale_px**2)

    def variance(self) -> float:
        """Of a weighted miss in one direction."""
        squared, weight = self._squared_misses()
        found = float((weight * squared).sum() / max(weight.sum(), 1e-9)) / 2
        # a few ties that a person set meet exactly by as many turns: they are known no better than told
        return max(found, BEST_PX**2) if self.by_hand else found

    def _sigmas(self) -> tuple[float, Array]:
        """Standard errors of the focal length (a share) and of each rotation against all (rad, largest direction)."""
        f = len(self.poses.frames)
        normal, _ = self.normal_equations()
        try:
            covariance = np.linalg.inv(normal) * self.variance()
        except np.linalg.LinAlgError:
            return math.nan, np.full(f, math.nan)
        blocks = np.stack([covariance[3 * i : 3 * i + 3, 3 * i : 3 * i + 3] for i in range(f)])
        largest = np.linalg.eigvalsh(blocks)[:, -1]
        return math.sqrt(max(float(covariance[3 * f, 3 * f]), 0.0)), np.sqrt(np.maximum(largest, 0))


def intrinsics_of(lens: Lens) -> list[float]:
    """The intrinsics of a lens in the order of an adjustment."""
    return [math.log(lens.focal_px), lens.k1, lens.k2, lens.k3, lens.cx / lens.focal_px, lens.cy / lens.focal_px]


def with_intrinsics(lens: Lens, intrinsics: Array) -> Lens:
    """The lens under other intrinsics (6,)."""
    focal_px = math.exp(intrinsics[0])
    k1, k2, k3, right, down = intrinsics[1:].tolist()
    return replace(lens, focal_px=focal_px, k1=k1, k2=k2, k3=k3, cx=right * focal_px, cy=down * focal_px)


def _alike(count: int) -> Array:
    """Whitening of points that are all known alike."""
    return np.broadcast_to(np.eye(2), (count, 2, 2))


def _thinned(inlier: Array, most: int) -> Array:
    """At most ``most`` of the inliers, evenly taken from their order (which follows the frame's rows)."""
    at = np.flatnonzero(inlier)
    return at if len(at) <= most else at[np.linspace(0, len(at) - 1, most).astype(int)]


def _corner_tangent(lens: Lens) -> float:
    """The radial variable at the frame's corner: tangent for rectilinear, angle for fisheye."""
    radius = math.hypot(lens.width, lens.height) / 2 / lens.focal_px
    return radius if lens.model == "rectilinear" else min(radius, math.pi / 2)
