"""What a frame covers of the sphere, as an area on the unrolled sphere: cut at the poles and never torn at the back."""

from __future__ import annotations

import numpy as np

from idle_lantern.core.base.arrays import Array, Directions, Rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.sphere import azimuth_altitude

#: Altitude of the points that only close an area at a pole; no point of a rim has it.
POLE_DEG = 90.0
#: No point of a rim lies higher or lower.
HIGHEST_DEG = 89.99
_POINTS_PER_SIDE = 24
#: Lenses that see less than this from their axis have short, plain rims.
_NARROW_RAD = 0.9
#: Lines of an area are no longer than this in azimuth, as far as so many places between two of a rim allow.
_STEP_DEG, _MOST_BETWEEN = 5.0, 24


def areas_deg(lens: Lens, cameras: Rotations) -> list[Array]:
    """Areas (N, 2) of azimuth and altitude in degrees that frames show, for cameras (F, 3, 3) given as world from camera.

    Each area is one closed line, to be filled by the even-odd rule and repeated every 360 degrees of azimuth. Points whose
    altitude is ``POLE_DEG``, up or down, belong to no rim: an area that holds a pole reaches to it all the way round, and one
    that holds both is everything but a hole.
    """
    rim = lens.rim_rays(10 if max(lens.field_rad()) / 2 < _NARROW_RAD else _POINTS_PER_SIDE)
    up, down = (lens.sees(cameras.transpose(0, 2, 1) @ np.array([0.0, y, 0.0])) for y in (-1.0, 1.0))
    world = np.einsum("fij,nj->fni", cameras, rim)
    azimuth, altitude = (np.degrees(v) for v in azimuth_altitude(world))
    steps = (np.diff(azimuth, axis=1, append=azimuth[:, :1]) + 180) % 360 - 180
    # nearly all frames: no pole in them nor near, so that their rims run on as they are
    plain = ~(up | down) & (np.abs(steps).max(1) <= _STEP_DEG)
    run = azimuth[:, :1] + np.cumsum(np.concatenate([np.zeros_like(steps[:, :1]), steps[:, :-1]], axis=1), axis=1)
    middle = np.degrees(azimuth_altitude(cameras[:, :, 2])[0])
    run += 360 * np.round((middle - (run.min(1) + run.max(1)) / 2) / 360)[:, None]
    return [
        np.stack([run[f], altitude[f]], -1)
        if plain[f]
        else area_deg(world[f], cameras[f, :, 2], above=bool(up[f]), below=bool(down[f]))
        for f in range(len(cameras))
    ]


def area_deg(rim: Directions, middle: Directions, *, above: bool, below: bool) -> Array:
    """The area (N, 2) in degrees within a closed rim of world directions (N, 3), as ``areas_deg``.

    ``middle`` (3,) is a direction within, or the one across from the hole; ``above`` and ``below`` say whether the zenith and
    the nadir lie in it.
    """
    azimuth, altitude = azimuth_altitude(_dense(rim))
    az, alt = np.degrees(azimuth), np.degrees(altitude)
    middle_deg = float(np.degrees(azimuth_altitude(middle)[0]))
    steps = (np.diff(az, append=az[:1]) + 180) % 360 - 180
    run = az[0] + np.concatenate([[0.0], np.cumsum(steps)])  # ends where it began, or a full turn beside
    alt = np.clip(np.append(alt, alt[0]), -HIGHEST_DEG, HIGHEST_DEG)
    if abs(run[-1] - run[0]) > 180:  # round a pole
        pole = POLE_DEG if above else -POLE_DEG
        # cut where the rim is nearest to the pole: no other part of it lies between
        first = int(np.argmax(alt[:-1] * np.sign(pole)))
        turn = run[-1] - run[0]
        run = np.concatenate([run[first:-1], run[: first + 1] + turn])
        alt = np.concatenate([alt[first:-1], alt[: first + 1]])
        if run[-1] < run[0]:
            run, alt = run[::-1], alt[::-1]
        run = run + 360 * np.round((middle_deg - (run[0] + run[-1]) / 2) / 360)
        ends = np.array([[run[-1], pole], [run[0], pole]])
        return np.concatenate([np.stack([run, alt], -1), ends])
    centre = (run.min() + run.max()) / 2
    if above and below:
        centre -= 360 * np.round((centre - middle_deg) / 360)
        run = run + 360 * np.round((centre - run.mean()) / 360)
        left, right = centre - 180, centre + 180
        corners = np.array([[left, 1], [right, 1], [right, -1], [left, -1], [left, 1]]) * [1, POLE_DEG]
        return np.concatenate([corners, np.stack([run, alt], -1), corners[:1]])
    run = run + 360 * np.round((middle_deg - centre) / 360)
    return np.stack([run, alt], -1)[:-1]


def _dense(rim: Directions) -> Directions:
    """The rim with places between where its azimuth runs: near a pole a straight line on the map is a detour on the sphere."""
    azimuth, _ = azimuth_altitude(rim)
    steps = np.abs((np.degrees(np.diff(azimuth, append=azimuth[:1])) + 180) % 360 - 180)
    counts = np.clip(np.ceil(steps / _STEP_DEG), 1, _MOST_BETWEEN).astype(int)
    if counts.max() == 1:
        return rim
    at = np.repeat(np.arange(len(rim)), counts)
    share = np.concatenate([np.arange(n) / n for n in counts])[:, None]
    between = rim[at] * (1 - share) + rim[(at + 1) % len(rim)] * share
    return np.asarray(between / np.linalg.norm(between, axis=-1, keepdims=True))
