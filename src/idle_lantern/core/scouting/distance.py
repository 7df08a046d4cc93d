"""How far things are, by two photographs of a place taken one step apart.

Two-view geometry (Hartley and Zisserman, *Multiple View Geometry*, 2nd ed., chapters 9 and 12): the essential matrix of the
matches gives turn and direction of the step, its length is told, and each pair of rays is met by triangulation. Both are
refined together over all matches, so that each distance has a standard error.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from scipy.optimize import least_squares

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import InputError, JoinError
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.frames.decoded import DecodedFrames
from idle_lantern.core.frames.frameset import gather
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.match.features import working_frame
from idle_lantern.core.scouting.dense_distance import DenseDistances, dense_distances
from idle_lantern.core.scouting.ground import UnknownAngle

#: Size at which the photographs are looked at.
_LOOK_MP = 1.0
_POINTS = 4000  # sought in a picture
_LEAST = 30  # matches that a pair needs
_WITHIN_PX = 1.0  # of the turn that most agree on
#: Standard error of a point in a photograph at the size of a look.
_POINT_PX = 0.35
#: Things that are known worse than this share of their distance are told as far.
_WORST = 0.25
#: Share of its distance by which what only one picture shows may stand nearer than the nearest thing known.
_UNSEEN = 0.015
#: Pictures with fewer points hold too little to tell distances by.
_BARE_POINTS = 300
#: About a place that is asked for.
_ABOUT_DEG = 2.0  # points so near are taken together
_GROUP = 4  # so many of them must agree
_GROUP_SHARE = 1 / 3  # and such a share


@dataclass(frozen=True)
class Distances:
    """Distances of matched points from the first photograph.

    Attributes
    ----------
    azimuth_deg, altitude_deg : (N,)
        Directions in the camera of the first photograph, to the right and up.
    metres, sigma_m : (N,)
        Distance and its standard error; infinite where the step shows no shift.
    b_from_a : (3, 3)
        Turn of the second camera against the first.
    step : (3,)
        Where the second stood, in metres in the first's frame.
    dense : DenseDistances or None
        Those between the points, where the step leads aside.
    """

    azimuth_deg: Array
    altitude_deg: Array
    metres: Array
    sigma_m: Array
    b_from_a: Array
    step: Array
    dense: DenseDistances | None = None

    def about(self, azimuth_deg: float, altitude_deg: float) -> tuple[float, float] | None:
        """Distance of what stands about a direction, and its standard error in metres; None where nothing there was matched.

        Of several things there the nearest that enough points agree on: repeated patterns are matched wrongly in small groups.
        """
        off = np.hypot(
            (self.azimuth_deg - azimuth_deg) * math.cos(math.radians(altitude_deg)), self.altitude_deg - altitude_deg
        )
        near = (off <= _ABOUT_DEG) & np.isfinite(self.metres) & (self.sigma_m <= _WORST * self.metres)
        found = _agreed(self.metres[near], self.sigma_m[near])
        if found is None and self.dense is not None:
            return self.dense.about(azimuth_deg, altitude_deg, _ABOUT_DEG)
        return found

    def nearest(self) -> tuple[float, float, float, float] | None:
        """Distance that one hundredth of the first picture comes nearer than, its standard error, and the direction there.

        None where all is far. What only one of the pictures shows may be nearer: that is in the error, as simulated pairs have it.
        """
        dense = None if self.dense is None else self.dense.nearest()
        found = min((n for n in (dense, self._nearest_point()) if n is not None), default=None)
        if found is None:
            return None
        metres, sigma, azimuth, altitude = found
        return metres, math.hypot(sigma, _UNSEEN * metres), azimuth, altitude

    def _nearest_point(self) -> tuple[float, float, float, float] | None:
        """Of the nearest point that others about it bear out."""
        known = np.isfinite(self.metres) & (self.sigma_m <= _WORST * self.metres)
        for i in np.argsort(np.where(known, self.metres, np.inf))[: known.sum()]:
            found = self.about(float(self.azimuth_deg[i]), float(self.altitude_deg[i]))
            # a single point before all others is a wrong match
            if found is not None and found[0] <= 1.2 * self.metres[i]:
                return (*found, float(self.azimuth_deg[i]), float(self.altitude_deg[i]))
        return None


def _agreed(metres: Array, sigma: Array) -> tuple[float, float] | None:
    """The nearest group of distances that agree, weighted by what is known of each (inverse distances are even in pixels)."""
    order = np.argsort(metres)
    near, errors = 1 / metres[order], sigma[order] / metres[order] ** 2
    for start in range(len(near)):
        agree = np.abs(near - near[start]) <= 3 * np.hypot(errors, errors[start])
        if agree.sum() >= max(_GROUP, _GROUP_SHARE * len(near)):
            weights = 1 / errors[agree] ** 2
            mean = float((near[agree] * weights).sum() / weights.sum())
            spread = float(np.sqrt(max(1 / weights.sum(), np.var(near[agree]) / agree.sum())))
            return 1 / mean, spread / mean**2
    return None


def distances(first: Array, second: Array, lens_a: Lens, lens_b: Lens, step_m: float) -> Distances:
    """Distances by two photographs (h, w, 3) through their lenses, taken ``step_m`` apart.

    Raises
    ------
    JoinError
        They do not show the same place, or from one and the same spot.
    """
    places_a, places_b = _matches(first, second)
    rays_a, rays_b = (lens.unproject(p) for lens, p in ((lens_a, places_a), (lens_b, places_b)))
    good = (rays_a[:, 2] > 0.1) & (rays_b[:, 2] > 0.1)
    if good.sum() < _LEAST:
        raise JoinError("The two pictures do not show the same place", remedy="Take both of one view, a step apart")
    rays_a, rays_b = rays_a[good], rays_b[good]
    flat_a, flat_b = (r[:, :2] / r[:, 2:] for r in (rays_a, rays_b))
    focal = math.sqrt(lens_a.focal_px * lens_b.focal_px)
    essential, mask = cv2.findEssentialMat(
        flat_a, flat_b, np.eye(3), method=cv2.USAC_MAGSAC, prob=0.9999, threshold=_WITHIN_PX / focal
    )
    if essential is None or essential.shape != (3, 3) or int(mask.sum()) < _LEAST:
        raise JoinError("The two pictures do not show the same place", remedy="Take both of one view, a step apart")
    _n, turn, moved, _m = cv2.recoverPose(essential, flat_a, flat_b, np.eye(3), mask=mask.copy())
    keep = mask.ravel() > 0
    rays_a, rays_b = rays_a[keep], rays_b[keep]
    turn, moved = _refined(rays_a, rays_b, turn, moved.ravel(), _POINT_PX / focal)
    metres, sigma = _triangulated(rays_a, rays_b, turn, moved * step_m, _POINT_PX / focal)
    if np.isfinite(metres).mean() < 0.05:
        raise JoinError("Nothing shifts between the two pictures", remedy="Take a longer step to the side")
    azimuth = np.degrees(np.arctan2(rays_a[:, 0], rays_a[:, 2]))
    altitude = np.degrees(np.arctan2(-rays_a[:, 1], np.hypot(rays_a[:, 0], rays_a[:, 2])))
    found = Distances(azimuth, altitude, metres, sigma, turn, -turn.T @ moved * step_m)
    nearest = found.nearest()
    dense = dense_distances(first, second, lens_a, lens_b, turn, found.step, 5.0 if nearest is None else nearest[0])
    return replace(found, dense=dense)


def _matches(first: Array, second: Array) -> tuple[Array, Array]:
    sift: Any = cv2.SIFT_create(_POINTS)  # type: ignore[attr-defined]
    found, fewest = [], _POINTS
    for pixels in (first, second):
        points, described = sift.detectAndCompute(
            cv2.cvtColor(np.ascontiguousarray(pixels[..., :3]), cv2.COLOR_RGB2GRAY), None
        )
        if described is None or len(points) < _LEAST:
            raise _not_known()
        fewest = min(fewest, len(points))
        found.append((np.array([p.pt for p in points], float), described))
    (at_a, one), (at_b, two) = found
    pairs = [
        pair[0]
        for pair in cv2.BFMatcher(cv2.NORM_L2).knnMatch(one, two, 2)
        if len(pair) == 2 and pair[0].distance < 0.8 * pair[1].distance
    ]
    if len(pairs) < _LEAST:
        if fewest < _BARE_POINTS:
            raise _not_known()
        raise JoinError("The two pictures do not show the same place", remedy="Take both of one view, a step apart")
    return at_a[[p.queryIdx for p in pairs]], at_b[[p.trainIdx for p in pairs]]


def _not_known() -> JoinError:
    return JoinError(
        "The distance is not known here: a bare wall or sky holds too little to match",
        remedy="Let things with detail stand in both pictures, or measure it by hand",
    )


def _refined(a: Array, b: Array, turn: Array, moved: Array, sigma_rad: float) -> tuple[Array, Array]:
    """Turn and direction of the step by the angles at which rays miss the planes that they should meet in (Sampson-like)."""
    a, b = (r / np.linalg.norm(r, axis=1, keepdims=True) for r in (a, b))
    start = moved / np.linalg.norm(moved)
    across = np.linalg.svd(start[None])[2][1:]  # two directions square to the step

    def of(parameters: Array) -> tuple[Array, Array]:
        small = rotations.from_vector(parameters[:3]) @ turn
        along = start + parameters[3:] @ across
        return small, along / np.linalg.norm(along)

    def misses(parameters: Array) -> Array:
        r, t = of(parameters)
        normal = np.cross(t, a @ r.T)
        size = np.linalg.norm(normal, axis=1)
        return np.asarray((normal * b).sum(1) / np.maximum(size, 0.02) / sigma_rad)

    found = least_squares(misses, np.zeros(5), loss="soft_l1", f_scale=1.5, max_nfev=60)
    return of(found.x)


def _triangulated(a: Array, b: Array, turn: Array, moved: Array, sigma_rad: float) -> tuple[Array, Array]:
    """Distances along the first rays where they come nearest to the second, and their standard errors."""
    a, b = (r / np.linalg.norm(r, axis=1, keepdims=True) for r in (a, b))
    back = b @ turn  # the second rays in the first camera's frame
    stand = -turn.T @ moved
    cosine = (a * back).sum(1)
    sine2 = np.maximum(1 - cosine**2, 1e-18)
    metres = ((a @ stand) - cosine * (back @ stand)) / sine2
    beyond = ((a @ stand) * cosine - back @ stand) / sine2
    parallax = np.sqrt(sine2)
    # an error of the angle between the rays moves the meeting by d / parallax
    sigma = np.abs(metres) * math.sqrt(2) * sigma_rad / parallax
    far = (metres <= 0) | (beyond <= 0) | (parallax < 2 * math.sqrt(2) * sigma_rad)
    return np.where(far, np.inf, metres), np.where(far, np.inf, sigma)


def of_photographs(
    first: Path, second: Path, step_m: float, field_deg: float | None = None, progress: Progress = SILENT
) -> Distances:
    """As ``distances``, of two files; ``field_deg`` is the angle across where their metadata do not tell it.

    Raises
    ------
    UnreadableFrame
        One cannot be read.
    UnknownAngle
        Nothing tells the angle of view.
    InputError
        They are one and the same file, or the step is no length.
    JoinError
        As ``distances``.
    """
    if not (math.isfinite(step_m) and 0.02 <= step_m <= 200):
        raise InputError(f"A step of {step_m:g} m is none", remedy="Give the length of the step in metres, like 0.7")
    frames = gather([first, second])
    if len(frames.infos) != 2:
        raise InputError("Two pictures are needed", remedy="Take one, step aside, take the other")
    progress.begin("read", 2)
    looks, lenses = [], []
    for at, info in enumerate(frames.infos):
        look = working_frame(at, DecodedFrames(frames.infos, 0), _LOOK_MP)
        focal = info.metadata.focal_px(info.width, info.height)
        if field_deg is not None:
            focal = info.width / 2 / math.tan(math.radians(field_deg) / 2)
        if focal is None:
            raise UnknownAngle(
                "Does not tell its angle of view", where=info.path.name, remedy="Give it in degrees across with --field"
            )
        height, width = look.picture.pixels.shape[:2]
        lenses.append(Lens("rectilinear", focal * width / info.width, width, height))
        looks.append(look.picture.pixels)
        progress.advance()
    return distances(looks[0], looks[1], lenses[0], lenses[1], step_m)
