"""What is lost at the crop, and how likely a hand leaves a hole: both by trying it out."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.core.geometry.rectangles import largest_rectangle
from idle_lantern.core.plan.brief import Support
from idle_lantern.core.plan.coverage import cameras_of, covered, samples_of
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField

Array = NDArray[Any]

_TRIALS = 40
_MOST_FRAMES = 240


@dataclass(frozen=True)
class CropLoss:
    """Share of the joined picture outside its largest rectangle, as planned and with the support's lean and errors."""

    planned: float
    expected: float


def crop_loss(
    rig: Rig, frames: Sequence[GridFrame], target_field: TargetField, support: Support, projection: str
) -> CropLoss:
    """Project the union of all frames coarsely and find its largest rectangle.

    The expected loss leans the base and lets the pointing err as the support does, the
    same way each time.
    """
    cameras = cameras_of(frames)
    planned = _loss(rig, cameras, target_field, projection)
    rng = np.random.default_rng(7)
    lean = rotations.about_z(math.radians(support.base_tilt_deg))
    shaken = lean @ cameras @ _errors(rng, support, len(frames))
    return CropLoss(planned, max(planned, _loss(rig, shaken, target_field, projection)))


def _loss(rig: Rig, cameras: Array, target_field: TargetField, projection: str) -> float:
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
    aspect = (right_u - left_u) / max(1e-6, bottom_v - top_v)
    rows = int(np.clip(math.sqrt(3000 / aspect), 24, 120))
    columns = int(np.clip(rows * aspect, 24, 300))
    u, v = np.meshgrid(np.linspace(left_u, right_u, columns), np.linspace(top_v, bottom_v, rows))
    directions = kind.inverse(np.stack([u, v], -1).reshape(-1, 2))
    shown = np.isfinite(directions[:, 0])
    directions = np.where(shown[:, None], directions, 0.0) @ rotations.about_y(middle).T
    mask = (covered(lens, cameras, directions) & shown).reshape(rows, columns)
    if not mask.any():
        return 1.0
    return 1.0 - largest_rectangle(mask).area / float(mask.sum())


def hole_chance(rig: Rig, frames: Sequence[GridFrame], target_field: TargetField, support: Support) -> float | None:
    """Share of trials in which the wanted field gets a hole when the pointing errs as the support does.

    A rim that moves by the error itself is no hole: the outermost three times the error
    is left to the crop. None where the plan is too large to try in time.
    """
    if rig.motion != "turn" or len(frames) > _MOST_FRAMES:
        return None
    lens, cameras = rig.lens(), cameras_of(frames)
    directions = samples_of(_inner(target_field, 3 * support.pointing), 260)
    rng = np.random.default_rng(11)
    holed = 0
    for _ in range(_TRIALS):
        shaken = cameras @ _errors(rng, support, len(frames))
        holed += not covered(lens, shaken, directions).all()
    return holed / _TRIALS


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
