"""The vertical by a plain horizon: where water or a plain meets the sky, and nothing upright stands.

The frames' rows about the cameras' own level are laid out by azimuth and altitude. A horizon is where brightness steps the same way
along one plane through the camera, all across the view: altitude = a cos(azimuth) + b sin(azimuth). Every plane that leans by a few
degrees is tried; the best is placed exactly by where each column steps.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array, Flags
from idle_lantern.core.geometry.sphere import direction
from idle_lantern.core.registration.match.features import WorkingFrame
from idle_lantern.core.registration.solve.jackknife import sigma_by_parts
from idle_lantern.core.registration.solve.poses import Poses
from idle_lantern.core.registration.solve.sky_border import HIGH_DEG, PX_PER_DEG, sky_border

#: Planes are tried that lean up to this from the cameras' own level, in such steps.
_REACH_RAD, _TRIED_RAD = math.radians(6.0), math.radians(0.15)
#: Columns are means over so much azimuth: waves and noise even out, a leaning horizon hardly.
_COLUMN_RAD = math.radians(1.0)
#: Rows lie so far apart; of a frame this share of its width is laid out, and no more than that angle.
_ROW_RAD, _INSIDE, _WIDEST_RAD = math.radians(0.12), 0.9, math.radians(120.0)
#: Steps of brightness count up to so many times their usual size: a few steep ones must not outweigh the rest.
_STEEPEST = 4.0
#: A column bears a plane out that steps within this of it, so many times as steeply as usual.
_NEAR_RAD, _STEEP = math.radians(0.2), 2.0
#: Share of the columns that must, angle that they must span, and how much better than any other plane.
_LEAST_SHARE, _LEAST_SPAN_RAD, _BETTER = 0.45, math.radians(40.0), 1.5
#: A far shore is no horizon: by what its distances differ it lies deeper at one end, from 10 m above water at 3 to 4 km so much.
_SHORE_RAD = math.radians(0.05)
#: The sky ends so far above a horizon, below a low far shore at most, in such a share of the columns of which such a share is known.
_SHORE_DEG, _SKY_OVER, _SKY_KNOWN = (-0.7, 2.5), 0.7, 0.25
#: So many planes are placed exactly and compared.
_TRIED_CLOSELY = 8
#: A plane that leans this much from the best is another one.
_OTHER_RAD = math.radians(0.6)


@dataclass(frozen=True)
class Horizon:
    """Down (3,) by a horizon, its standard error in the less known direction, and the share of the view's columns that bear it out."""

    down: Array
    sigma_rad: float
    share: float


@dataclass(frozen=True)
class _Columns:
    """Steps of brightness upwards (N, rows) in units of their usual size, by azimuth (N,) and altitude (rows,), rad."""

    azimuth: Array
    altitude: Array
    steps: Array

    @property
    def waves(self) -> Array:
        """How the altitude of a column changes with the plane, (N, 2)."""
        return np.stack([np.cos(self.azimuth), np.sin(self.azimuth)], -1)

    def at(self, altitude: Array) -> Array:
        """Steps of the columns at altitudes (N,)."""
        first, step = self.altitude[0], self.altitude[1] - self.altitude[0]
        row = np.clip(np.rint((altitude - first) / step).astype(int), 0, len(self.altitude) - 1)
        return np.asarray(self.steps[np.arange(len(self.azimuth)), row])


def horizon(poses: Poses, working: Sequence[WorkingFrame], chosen: Sequence[int]) -> Horizon | None:
    """The horizon that some frames of upright poses show, by place; None where no plane stands out.

    ``working`` are the reduced frames in the order of ``poses.frames``.
    """
    parts = [found for i in chosen if (found := _columns(poses, i, working[i])) is not None]
    if not parts:
        return None
    seen = _Columns(
        np.concatenate([p.azimuth for p in parts]), parts[0].altitude, np.concatenate([p.steps for p in parts])
    )
    if _span(seen.azimuth) < _LEAST_SPAN_RAD:
        return None
    side = np.arange(-_REACH_RAD, _REACH_RAD + _TRIED_RAD / 2, _TRIED_RAD)
    tried = np.stack(np.meshgrid(side, side), -1).reshape(-1, 2)
    tried = tried[np.hypot(*tried.T) <= _REACH_RAD]
    clipped = replace(seen, steps=np.clip(seen.steps, -_STEEPEST, _STEEPEST))
    score = np.stack([clipped.at(seen.waves @ plane).mean() for plane in tried])
    closely = sorted(
        (_placed(seen, tried[k], float(np.sign(score[k]))) for k in _peaks(tried, np.abs(score))),
        key=lambda p: -p.share,
    )
    best = closely[0]
    others = [p.share for p in closely if np.hypot(*(p.plane - best.plane)) > _OTHER_RAD]
    if best.share < max(_LEAST_SHARE, _BETTER * max(others, default=0.0)):
        return None

    if not _below_sky(poses, working, chosen, best.plane):
        return None

    def told(kept: Flags) -> Array:
        return _fitted(seen.waves[kept], best.altitude[kept], best.steep[kept], best.plane)[0]

    by_parts = sigma_by_parts(seen.azimuth, np.ones(len(seen.azimuth)), told)
    sigma = math.hypot(_SHORE_RAD, by_parts, _by_height(seen, best))
    a, b = np.tan(best.plane)  # tan(altitude) = a cos(azimuth) + b sin(azimuth) exactly
    down = np.array([b, 1.0, a])
    return Horizon(down / np.linalg.norm(down), sigma, best.share)


def _by_height(seen: _Columns, best: _Placed) -> float:
    """By how much the plane would lean otherwise if the line stood a little above the horizon all along, as a shore does.

    A line at one altitude is no plane through the eye; over a narrow view the two can hardly be told apart.
    """
    near = (np.abs(best.altitude - seen.waves @ best.plane) < _NEAR_RAD) & (best.steep > _STEEP)
    if near.sum() < 4:
        return math.inf
    raised = np.column_stack([seen.waves[near], np.ones(int(near.sum()))])
    return float(np.hypot(*(np.linalg.lstsq(raised, best.altitude[near], rcond=None)[0][:2] - best.plane)))


def _below_sky(poses: Poses, working: Sequence[WorkingFrame], chosen: Sequence[int], plane: Array) -> bool:
    """Whether the sky ends at a plane, or at a low shore above it: the foot of a row of houses is as straight as a horizon."""
    over = []
    for i in chosen:
        azimuth, ends = sky_ends(poses, i, working[i])
        line = np.degrees(np.cos(azimuth) * plane[0] + np.sin(azimuth) * plane[1])
        over.append(ends - line)
    above = np.concatenate(over)
    known = np.isfinite(above)
    if known.mean() < _SKY_KNOWN:
        return False
    return bool(((above[known] > _SHORE_DEG[0]) & (above[known] < _SHORE_DEG[1])).mean() >= _SKY_OVER)


def sky_ends(poses: Poses, i: int, frame: WorkingFrame) -> tuple[Array, Array]:
    """Azimuths (N,) in rad of the columns of a frame, and the altitudes in degrees at which its sky ends."""
    lens, rotation = poses.lenses[i], poses.world_from_camera[i]
    middle = math.atan2(rotation[0, 2], rotation[2, 2])
    half = math.degrees(min(lens.field_rad()[0], _WIDEST_RAD)) * _INSIDE / 2
    azimuth = middle + np.radians(np.arange(-half, half, 1 / PX_PER_DEG))
    altitude = np.radians(HIGH_DEG - (np.arange(round(2 * HIGH_DEG * PX_PER_DEG)) + 0.5) / PX_PER_DEG)
    places, valid = poses.pixels(i, direction(azimuth[None], altitude[:, None]))
    places = (places + 0.5) / np.asarray(frame.scale) - 0.5
    pixels = frame.picture.pixels[..., :3]
    height, width = pixels.shape[:2]
    shown = valid & (places >= 1).all(-1) & (places[..., 0] < width - 2) & (places[..., 1] < height - 2)
    even = cv2.GaussianBlur(
        pixels, (0, 0), max(0.3, 0.3 * lens.focal_px / frame.scale[0] * math.radians(1 / PX_PER_DEG))
    )
    laid = cv2.remap(even, np.where(shown[..., None], places, 0).astype(np.float32), None, cv2.INTER_LINEAR)
    return azimuth, sky_border(laid, shown)[0]


@dataclass(frozen=True)
class _Placed:
    """A plane (2,), the altitudes (N,) at which the columns step near it and how steeply, and the share of them that bear it out."""

    plane: Array
    altitude: Array
    steep: Array
    share: float


def _placed(seen: _Columns, plane: Array, sign: float) -> _Placed:
    altitude, steep = _steepest(seen, seen.waves @ plane, sign)
    plane, near = _fitted(seen.waves, altitude, steep, plane)
    return _Placed(plane, altitude, steep, float(near.mean()))


def _peaks(tried: Array, score: Array) -> list[int]:
    """The best of the planes that were tried, each at least so far from the better ones that it is another."""
    found: list[int] = []
    for k in np.argsort(-score).tolist():
        if all(np.hypot(*(tried[k] - tried[other])) > _OTHER_RAD for other in found):
            found.append(k)
            if len(found) == _TRIED_CLOSELY:
                break
    return found


def _columns(poses: Poses, i: int, frame: WorkingFrame) -> _Columns | None:
    """The steps of one frame about the cameras' level; None where it does not show it."""
    lens, rotation = poses.lenses[i], poses.world_from_camera[i]
    middle = math.atan2(rotation[0, 2], rotation[2, 2])
    wide = min(lens.field_rad()[0], _WIDEST_RAD) * _INSIDE
    across = int(wide / _COLUMN_RAD)
    if across < 4:
        return None
    fine = max(1, round(_COLUMN_RAD / _ROW_RAD))
    azimuth = middle + (np.arange(across * fine) / fine - across / 2) * _COLUMN_RAD
    altitude = np.arange(-_REACH_RAD - 4 * _ROW_RAD, _REACH_RAD + 4.5 * _ROW_RAD, _ROW_RAD)
    alt, az = np.meshgrid(altitude, azimuth, indexing="ij")
    directions = np.stack([np.cos(alt) * np.sin(az), -np.sin(alt), np.cos(alt) * np.cos(az)], -1)
    places, valid = poses.pixels(i, directions)
    places = (places + 0.5) / np.asarray(frame.scale) - 0.5
    grey = cv2.cvtColor(frame.picture.pixels, cv2.COLOR_RGB2GRAY).astype(np.float32)
    h, w = grey.shape
    inside = valid & (places >= 1).all(-1) & (places[..., 0] < w - 2) & (places[..., 1] < h - 2)
    laid = cv2.remap(grey, places.astype(np.float32), None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    whole = inside.reshape(len(altitude), across, fine).all(2)
    means = cv2.GaussianBlur(laid.reshape(len(altitude), across, fine).mean(2), (0, 0), sigmaX=1e-3, sigmaY=1.0)
    steps = np.where(whole[2:] & whole[:-2], means[2:] - means[:-2], 0.0)
    usual = 1.4826 * float(np.median(np.abs(steps[steps != 0]))) if np.any(steps) else 0.0
    if usual <= 0:
        return None
    shown = whole.mean(0) > 0.5
    return _Columns(azimuth.reshape(across, fine).mean(1)[shown], altitude[1:-1], steps.T[shown] / max(usual, 0.25))


def _steepest(seen: _Columns, near: Array, sign: float) -> tuple[Array, Array]:
    """Where each column steps most steeply that way, within two tries of ``near`` (N,), to a part of a row, and how steeply."""
    pixel = seen.altitude[1] - seen.altitude[0]
    reach = max(1, round(2 * _TRIED_RAD / pixel))
    offsets = np.arange(-reach, reach + 1)
    found = sign * np.stack([seen.at(near + k * pixel) for k in offsets], -1)
    best = np.clip(found.argmax(1), 1, len(offsets) - 2)
    rows = np.arange(len(best))
    left, middle, right = (found[rows, best + k] for k in (-1, 0, 1))
    bend = np.minimum(left - 2 * middle + right, -1e-6)
    part = np.clip((left - right) / (2 * bend), -0.5, 0.5)
    row = np.rint((near - seen.altitude[0]) / pixel)
    return seen.altitude[0] + (row + offsets[best] + part) * pixel, middle


def _fitted(waves: Array, altitude: Array, steep: Array, plane: Array) -> tuple[Array, Array]:
    """The plane (2,) by least squares over the columns near it, and which those are."""
    near = np.zeros(len(altitude), bool)
    for _ in range(5):
        near = (np.abs(altitude - waves @ plane) < _NEAR_RAD) & (steep > _STEEP)
        if near.sum() < 4:
            break
        plane = np.linalg.lstsq(waves[near], altitude[near], rcond=None)[0]
    return plane, near


def _span(azimuth: Array) -> float:
    """Angle that directions span, outside the widest gap between two of them."""
    if not len(azimuth):
        return 0.0
    turned = np.sort(np.mod(azimuth, 2 * math.pi))
    gaps = np.diff(np.append(turned, turned[0] + 2 * math.pi))
    return float(2 * math.pi - gaps.max())
