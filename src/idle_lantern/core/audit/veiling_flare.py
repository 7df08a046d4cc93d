"""Light that is not of the scene: flare that wanders from frame to frame, and the dark band of a polariser in the sky."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np

from idle_lantern.core.audit.evenness import RunLight
from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry.sphere import azimuth_altitude
from idle_lantern.core.registration.match.features import WorkingFrame
from idle_lantern.core.registration.solve.poses import Poses

#: Cells across and down in which light is compared.
_CELLS = 25
#: A veil that is told, in EV, and the cells that it covers at least.
_LEAST_VEIL_EV, _LEAST_CELLS = 0.22, 16
#: The detail under a veil is that of the neighbour; where it is not, something moved.
_LEAST_ALIKE = 0.3
_LEAST_FRAMES = 4
_SKY_DEG = (6.0, 50.0)  # altitudes between which sky is looked at
_BIN_DEG = 10.0  # of azimuth
_LEAST_SWEEP_DEG = 90.0  # narrower pictures tell nothing of the sky's band
#: Depth of the band in EV on both sides, and how much bluer it is (logarithm to 2 of blue over red).
_LEAST_BAND_EV, _BLUER = 0.7, 0.25


@dataclass(frozen=True)
class Flare:
    """A veil over a part of a frame that its neighbours do not have there: EV, share of the frame, its middle."""

    ev: float
    share: float
    u: float
    v: float


@dataclass(frozen=True)
class SkyBand:
    """A band in the sky darker than on either side: where, and by how much."""

    yaw_deg: float
    ev: float
    frame: int


def flares(poses: Poses, run: RunLight) -> dict[int, Flare]:
    """By place in the poses. What all frames have alike, fall-off and dust, is none, nor is another exposure."""
    count = len(poses.frames)
    if count < _LEAST_FRAMES:
        return {}
    over: list[list[Array]] = [[] for _ in range(count)]
    alike: list[list[Array]] = [[] for _ in range(count)]
    for pair in run.pairs:
        brighter = pair.ev[:, 1] - (run.gain_ev[pair.i, 1] - run.gain_ev[pair.j, 1])
        a, b = pair.contrast.T
        same = a * b / (a**2 + b**2 + 1e-9)
        for k, points, sign in ((pair.i, pair.points_i, 1.0), (pair.j, pair.points_j, -1.0)):
            over[k].append(_on_cells(points, sign * brighter, poses.lenses[k].width, poses.lenses[k].height))
            alike[k].append(_on_cells(points, same, poses.lenses[k].width, poses.lenses[k].height))
    # a neighbour may have a flare itself: the least of what any tells counts
    each = np.array([_least(maps) for maps in over])
    seen = np.isfinite(each).sum(0)
    with np.errstate(invalid="ignore"):
        common = np.where(seen >= _LEAST_FRAMES, _median(each), 0.0)
    found = {}
    for i in range(count):
        flare = _flare_of(each[i] - common, alike[i], poses.lenses[i].width, poses.lenses[i].height)
        if flare is not None:
            found[i] = flare
    return found


def _flare_of(brighter: Array, alike: Sequence[Array], width: int, height: int) -> Flare | None:
    veiled = (np.nan_to_num(brighter, nan=0.0) > _LEAST_VEIL_EV).astype(np.uint8)
    count, labels, stats, centres = cv2.connectedComponentsWithStats(veiled)
    best = max(range(1, count), key=lambda k: stats[k, cv2.CC_STAT_AREA], default=0)
    if not best or stats[best, cv2.CC_STAT_AREA] < _LEAST_CELLS:
        return None
    inside = labels == best
    detail = np.concatenate([m[inside][np.isfinite(m[inside])] for m in alike] or [np.zeros(0)])
    if len(detail) and float(detail.mean()) < _LEAST_ALIKE / 2:
        return None  # other things are there: they moved
    x, y = centres[best]
    return Flare(
        float(np.median(brighter[inside])),
        float(inside.mean()),
        (float(x) + 0.5) / _CELLS * width,
        (float(y) + 0.5) / _CELLS * height,
    )


def _on_cells(points: Array, values: Array, width: int, height: int) -> Array:
    """Means by cell (cells, cells), NaN where nothing is known."""
    column = np.clip(((points[:, 0] + 0.5) / width * _CELLS).astype(int), 0, _CELLS - 1)
    row = np.clip(((points[:, 1] + 0.5) / height * _CELLS).astype(int), 0, _CELLS - 1)
    total, number = np.zeros((2, _CELLS, _CELLS))
    np.add.at(total, (row, column), values)
    np.add.at(number, (row, column), 1)
    return np.asarray(np.where(number > 0, total / np.maximum(number, 1), np.nan))


def _least(maps: Sequence[Array]) -> Array:
    if not maps:
        return np.full((_CELLS, _CELLS), np.nan)
    stacked = np.stack(maps)
    lowest = np.where(np.isfinite(stacked), stacked, np.inf).min(0)
    return np.asarray(np.where(np.isfinite(lowest), lowest, np.nan))


def _median(each: Array) -> Array:
    known = np.isfinite(each)
    filled = np.where(known, each, 0.0)
    result = np.zeros(each.shape[1:])
    for at in np.ndindex(*result.shape):
        mine = filled[(slice(None), *at)][known[(slice(None), *at)]]
        result[at] = float(np.median(mine)) if len(mine) else 0.0
    return result


def sky_band(poses: Poses, working: Sequence[WorkingFrame]) -> SkyBand | None:
    """The band that a polariser leaves in a wide clear sky: darker and bluer than on either side."""
    angles, lightness, blue, frames = (
        np.concatenate(a) for a in zip(*(_sky(poses, working, i) for i in range(len(working))))
    )
    if len(angles) < 100:
        return None
    bins = np.floor(angles / _BIN_DEG).astype(int)
    known = [b for b in np.unique(bins) if (bins == b).sum() >= 6]
    if len(known) * _BIN_DEG < _LEAST_SWEEP_DEG:
        return None
    # begin after the widest gap: a run through the back of the circle is one
    known_at = np.array(sorted(known))
    gaps = np.diff(np.append(known_at, known_at[0] + round(360 / _BIN_DEG)))
    order = np.roll(known_at, -(int(gaps.argmax()) + 1))
    level = np.array([float(np.median(lightness[bins == b])) for b in order])
    hue = np.array([float(np.median(blue[bins == b])) for b in order])
    at = int(level.argmin())
    if at in (0, len(order) - 1):
        return None
    left, right = int(level[:at].argmax()), at + 1 + int(level[at + 1 :].argmax())
    depth = min(level[left], level[right]) - level[at]
    if depth < _LEAST_BAND_EV or hue[at] - max(hue[left], hue[right]) < _BLUER:
        return None
    mine = frames[bins == order[at]]
    return SkyBand((order[at] + 0.5) * _BIN_DEG, float(depth), int(np.bincount(mine).argmax()))


def _sky(poses: Poses, working: Sequence[WorkingFrame], i: int) -> tuple[Array, Array, Array, Array]:
    """Clear sky of one frame: azimuths in degrees, lightness in EV, blueness, and the frame's number."""
    frame, lens = working[i], poses.lenses[i]
    points = lens.places_px(_CELLS).reshape(-1, 2)
    world = np.nan_to_num(poses.directions(i, points))
    azimuth, altitude = (np.degrees(a) for a in azimuth_altitude(world))
    linear = frame.picture.light()
    there = ((points + 0.5) / np.asarray(frame.scale) - 0.5).astype(np.float32)[None]
    smooth = cv2.remap(
        cv2.GaussianBlur(linear, (0, 0), 2.5), there, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE
    )[0]
    logs = np.log2(np.maximum(cv2.GaussianBlur(linear[..., 1], (0, 0), 1.0), 1e-4))
    uneven = cv2.remap(
        np.abs(logs - cv2.GaussianBlur(logs, (0, 0), 4.0)),
        there,
        None,
        cv2.INTER_LINEAR,
        borderMode=cv2.BORDER_REPLICATE,
    )[0]
    red, green, blue = (np.maximum(smooth[:, c], 1e-4) for c in range(3))
    sky = (altitude > _SKY_DEG[0]) & (altitude < _SKY_DEG[1]) & (blue > 1.15 * red) & (uneven < 0.06) & (blue < 0.95)
    return azimuth[sky], np.log2(green[sky]), np.log2(blue[sky] / red[sky]), np.full(int(sky.sum()), i)
