"""What is lost at the crop, and how likely a hand leaves a hole: both by trying it out."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.core.geometry.rectangles import largest_rectangle
from idle_lantern.core.geometry.sphere import azimuth_altitude
from idle_lantern.core.plan.brief import Support
from idle_lantern.core.plan.coverage import cameras_of, covered, outline, samples_of, shown
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField

#: Tries until the share is known well enough for a judgement.
_SURE_TRIES = 8  # where all agree
_LEAST_TRIES = 20  # where they do not
_MOST_TRIES = 100
_GOOD_ENOUGH = 0.05  # standard error of the share
_MOST_FRAMES = 240
#: Answers kept: most of what is changed in a plan leaves its frames where they are.
_KEPT = 16
#: Places on all outlines together in one try.
_POINTS = 8000
#: Cells of the coarse picture in which the crop is looked for.
_CELLS = 100_000  # where few frames have to be asked
_FEWEST = 12_000
_ASKED = 6_000_000  # cells times frames at most


@dataclass(frozen=True)
class CropLoss:
    """Share of the joined picture outside its largest rectangle, as planned and with the support's lean and errors."""

    planned: float
    expected: float


@lru_cache(maxsize=_KEPT)
def crop_loss(
    rig: Rig, frames: tuple[GridFrame, ...], target_field: TargetField, support: Support, projection: str
) -> CropLoss:
    """Project the union of all frames coarsely and find its largest rectangle.

    The expected loss leans the base and lets the pointing err as the support does, the
    same way each time.
    """
    cameras = cameras_of(frames)
    planned = _loss(rig, frames, cameras, target_field, projection)
    rng = np.random.default_rng(7)
    lean = rotations.about_z(math.radians(support.base_tilt_deg))
    # where the lens moves and the camera stands, only the base can lean
    errors = _errors(rng, support, len(frames)) if rig.motion == "turn" else np.eye(3)
    return CropLoss(planned, max(planned, _loss(rig, frames, lean @ cameras @ errors, target_field, projection)))


def _loss(rig: Rig, frames: Sequence[GridFrame], cameras: Array, target_field: TargetField, projection: str) -> float:
    kind = Projection(projection)
    lens = rig.lens()
    middle = math.radians((target_field.left_deg + target_field.right_deg) / 2)
    half = math.radians(min(360.0, target_field.sweep_deg) / 2) + (
        0 if target_field.full_circle else 0.6 * lens.field_rad()[0]
    )
    tall = 0.6 * lens.field_rad()[1]
    low = max(-math.pi / 2, math.radians(target_field.low_deg) - tall)
    high = min(math.pi / 2, math.radians(target_field.high_deg) + tall)
    if projection == "rectilinear":
        half, low, high = min(half, 1.35), max(low, -1.3), min(high, 1.3)
        left_u, right_u, top_v, bottom_v = -math.tan(half), math.tan(half), -math.tan(high), -math.tan(low)
    else:
        half = min(half, math.pi)
        left_u, right_u = -half, half
        if projection == "cylindrical":
            low, high = max(low, -1.3), min(high, 1.3)
            top_v, bottom_v = -math.tan(high), -math.tan(low)
        else:
            top_v, bottom_v = -high, -low

    def raster(left: float, right: float, top: float, bottom: float, cells: int) -> tuple[Array, Array, Array]:
        """The union of the frames on a part of the picture, and where its columns and rows lie."""
        rows = int(np.clip(math.sqrt(cells * max(1e-6, bottom - top) / (right - left)), 48, 400))
        columns = int(np.clip(cells / rows, 48, 1200))
        across = left + (right - left) * (np.arange(columns) + 0.5) / columns
        down = top + (bottom - top) * (np.arange(rows) + 0.5) / rows
        u, v = np.meshgrid(across, down)
        directions = kind.inverse(np.stack([u, v], -1).reshape(-1, 2))
        known = np.isfinite(directions[:, 0])
        directions = np.where(known[:, None], directions, 0.0) @ rotations.about_y(middle).T
        mask = (shown(rig, frames, cameras, directions) & known).reshape(rows, columns)
        return mask, across, down

    # first where the picture lies at all, then that part finely
    mask, across, down = raster(left_u, right_u, top_v, bottom_v, _FEWEST // 2)
    if not mask.any():
        return 1.0
    within = [np.flatnonzero(mask.any(axis)) for axis in (0, 1)]
    (x0, x1), (y0, y1) = (
        (max(start, at[found[0]] - step), min(end, at[found[-1]] + step))
        for at, found, step, start, end in (
            (across, within[0], across[1] - across[0], left_u, right_u),
            (down, within[1], down[1] - down[0], top_v, bottom_v),
        )
    )
    mask, _, _ = raster(x0, x1, y0, y1, int(np.clip(_ASKED / len(cameras), _FEWEST, _CELLS)))
    return 1.0 - largest_rectangle(mask).area / float(mask.sum())


@dataclass(frozen=True)
class HoleChance:
    """Share of tried runs that left a hole, and the standard error of that share."""

    share: float
    error: float
    tries: int


@lru_cache(maxsize=_KEPT)
def hole_chance(
    rig: Rig, frames: tuple[GridFrame, ...], target_field: TargetField, support: Support
) -> HoleChance | None:
    """How often the wanted field gets a hole when the pointing errs as the support does.

    A hole inside the field ends at the outline of some frame, so it is enough to ask whether the outlines, from just
    outside, lie in another frame each: slivers between frames are found that samples of the area miss. A rim
    that moves by the error itself is no hole: the outermost three times the error is left to the crop. None where
    the plan is too large to try in time.
    """
    if rig.motion != "turn" or len(frames) > _MOST_FRAMES:
        return None
    lens, cameras = rig.lens(), cameras_of(frames)
    inner = _inner(target_field, 3 * support.pointing)
    inside = samples_of(inner, 260)
    edges = outline(lens, int(np.clip(_POINTS / (4 * len(frames)), 20, 160)))
    rng = np.random.default_rng(11)

    def holed(error_times: float) -> bool:
        errors = _errors(rng, replace(support, pointing_deg=error_times * support.pointing), len(frames))
        return _has_hole(lens, cameras @ errors, inside, edges, inner)

    # where three times the error opens nothing in a few tries, the error itself does so next to never
    if not any(holed(3.0) for _ in range(_SURE_TRIES)):
        return HoleChance(0.0, 0.01, _SURE_TRIES)
    found = 0
    for tries in range(1, _MOST_TRIES + 1):
        found += holed(1.0)
        # a share of 0 or 1 is not known for certain either (the rule of succession)
        likely = (found + 1) / (tries + 2)
        error = math.sqrt(likely * (1 - likely) / tries)
        if tries >= _LEAST_TRIES and error < _GOOD_ENOUGH:
            break
    return HoleChance(found / tries, error, tries)


def _has_hole(lens: Lens, cameras: Array, inside: Array, edges: Array, inner: TargetField) -> bool:
    if not covered(lens, cameras, inside).all():
        return True
    rims = (edges[None] @ np.swapaxes(cameras, 1, 2)).reshape(-1, 3)
    rims = rims[_lies_in(inner, rims)]
    return not covered(lens, cameras, rims).all()


def _lies_in(target_field: TargetField, directions: Array) -> Array:
    azimuth, altitude = (np.degrees(a) for a in azimuth_altitude(directions))
    turned = np.mod(azimuth - target_field.left_deg, 360.0)
    result: Array = (
        (turned <= target_field.sweep_deg) & (altitude >= target_field.low_deg) & (altitude <= target_field.high_deg)
    )
    return result


def _inner(target_field: TargetField, rim_deg: float) -> TargetField:
    """The field without its rim; poles and closed circles have none."""
    wide = 0.0 if target_field.full_circle else min(rim_deg, target_field.sweep_deg / 4)
    tall = min(rim_deg, (target_field.high_deg - target_field.low_deg) / 4)
    return replace(
        target_field,
        left_deg=target_field.left_deg + wide,
        right_deg=target_field.right_deg - wide,
        low_deg=target_field.low_deg if target_field.low_deg < -89 else target_field.low_deg + tall,
        high_deg=target_field.high_deg if target_field.high_deg > 89 else target_field.high_deg - tall,
    )


def _errors(rng: np.random.Generator, support: Support, count: int) -> Array:
    """Small turns in the camera's own frame; hands roll about as much as they point wrong."""
    yaw, pitch, roll = np.radians(rng.normal(0, support.pointing, (3, count)))
    return rotations.from_yaw_pitch_roll(yaw, pitch, roll * (1.0 if support.kind == "hand" else 0.4))
