"""The field solved from composition: a shape, where the subject stands, where the horizon lies, what must be whole.

On the plane of a projection a picture is a rectangle, so shape, thirds and margins are told there. The width is found by
bisection where marks must be held, since each of them asks for at least some width and none for less.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.core.geometry.sphere import azimuth_altitude, direction
from idle_lantern.core.plan.brief import Brief, Mark
from idle_lantern.core.plan.planner import Plan, make_plan
from idle_lantern.core.plan.rules_marks import MARGIN_DEG
from idle_lantern.core.plan.target_field import TargetField

LEFT_THIRD = 1 / 3
MIDDLE = 1 / 2
RIGHT_THIRD = 2 / 3
_STEPS, _LEAST_DEG = 60, 2.0
#: Points along each edge of the plane by which its field in azimuth and altitude is told.
_EDGE = 33


@dataclass(frozen=True)
class Composition:
    """What is wanted of the picture.

    Attributes
    ----------
    ratio : float
        Width by height on the plane of ``projection``.
    across : float or None
        Share of the width from the left at which the subject stands; None leaves the middle where it is.
    horizon : float or None
        Share of the height from the top at which the horizon lies; None leaves the middle height where it is.
    hold : bool
        As narrow as the marks that must be whole allow; else as wide as the field is now.
    """

    ratio: float
    across: float | None = None
    horizon: float | None = None
    hold: bool = False
    projection: str = "cylindrical"

    def __post_init__(self) -> None:
        if not (math.isfinite(self.ratio) and 0.02 <= self.ratio <= 50):
            raise InputError(f"{self.ratio:g} is no shape of a picture", where="Ratio", remedy="Write it like 3:1")
        for name, share in (("Place of the subject", self.across), ("Place of the horizon", self.horizon)):
            if share is not None and not 0.02 <= share <= 0.98:
                raise InputError("must lie inside the picture", where=name, remedy="One third is usual")


def composed(
    field: TargetField, wanted: Composition, marks: Sequence[Mark], subject: Mark | None = None
) -> TargetField:
    """The field of a picture composed so; overlap and all else stay.

    Raises
    ------
    InputError
        The projection cannot show so much, or no width holds all marks.
    """
    plane = Projection(wanted.projection)
    middle = math.radians((field.left_deg + field.right_deg) / 2)
    level = math.radians((field.low_deg + field.high_deg) / 2)
    hold = [m for m in marks if m.role in ("whole", "subject")] if wanted.hold else []
    across = wanted.across if subject is not None else None
    limit = plane.limits
    most = math.pi if plane.wraps else min(limit.longitude_rad, math.radians(70))

    def frame(half: float) -> tuple[float, tuple[float, float, float, float]]:
        """Azimuth of the plane's middle, and its left, top, right and bottom, for half a width in azimuth."""
        wide = float(2 * plane.forward(direction(half, 0.0))[0])
        tall = wide / wanted.ratio
        turn = middle
        if across is not None and subject is not None:
            at = (across - 0.5) * wide
            turn = math.radians(subject.yaw_deg) - float(azimuth_altitude(plane.inverse(np.array([at, 0.0])))[0])
        up = wanted.horizon
        top = -up * tall if up is not None else float(plane.forward(direction(0.0, level))[1]) - tall / 2
        return turn, (-wide / 2, top, wide / 2, top + tall)

    def holds(half: float) -> bool:
        turn, (left, top, right, bottom) = frame(half)
        for mark in hold:
            u, v = plane.forward(_rim(mark) @ rotations.about_y(-turn).T).T
            if not (
                np.isfinite(u).all() and u.min() >= left and u.max() <= right and v.min() >= top and v.max() <= bottom
            ):
                return False
        return True

    half = min(math.radians(field.sweep_deg) / 2, most)
    if hold:
        half = _narrowest(holds, most)
    turn, box = frame(half)
    return _as_field(field, plane, turn, box, half)


def _narrowest(holds: Any, most: float) -> float:
    low, high = math.radians(_LEAST_DEG) / 2, most - 1e-6
    if not holds(high):
        raise InputError(
            "No picture of that shape holds all that must be whole",
            where="Composition",
            remedy="Choose another shape, or let the horizon and the subject stand more in the middle",
        )
    for _ in range(_STEPS):
        half = (low + high) / 2
        low, high = (low, half) if holds(half) else (half, high)
    return high


def _rim(mark: Mark) -> Array:
    """Directions round a mark, with the room that is kept about it, (N, 3)."""
    wide, tall = mark.width_deg / 2 + MARGIN_DEG, mark.tall_deg / 2 + MARGIN_DEG
    x, y = np.meshgrid(np.linspace(-wide, wide, 9), np.linspace(-tall, tall, 9))
    altitude = np.clip(mark.pitch_deg + y.ravel(), -90, 90)
    return direction(np.radians(mark.yaw_deg + x.ravel()), np.radians(altitude))


def _as_field(
    field: TargetField, plane: Projection, turn: float, box: tuple[float, float, float, float], half: float
) -> TargetField:
    left, top, right, bottom = box
    along = np.linspace(0, 1, _EDGE)
    u = np.concatenate([left + along * (right - left)] * 2 + [np.full(_EDGE, left), np.full(_EDGE, right)])
    v = np.concatenate([np.full(_EDGE, top), np.full(_EDGE, bottom)] + [top + along * (bottom - top)] * 2)
    rays = plane.inverse(np.stack([u, v], -1))
    reach = math.degrees(plane.limits.latitude_rad)
    azimuth, altitude = (np.degrees(a) for a in azimuth_altitude(rays))
    if not np.isfinite(altitude).all() or np.abs(altitude).max() > reach + 1e-6:
        raise InputError(
            f"So high a picture does not fit the {plane.name} projection",
            where="Composition",
            remedy="Choose a wider shape, a narrower field or another projection",
        )
    if plane.wraps:
        ends = math.degrees(turn - half), math.degrees(turn + half)
    else:
        ends = math.degrees(turn) + float(azimuth.min()), math.degrees(turn) + float(azimuth.max())
    shift = -360 * round((sum(ends) / 2) / 360)
    return replace(
        field,
        left_deg=round(ends[0] + shift, 2),
        right_deg=round(ends[1] + shift, 2),
        low_deg=round(float(altitude.min()), 2),
        high_deg=round(float(altitude.max()), 2),
    )


@dataclass(frozen=True)
class CropChoice:
    """A way to shoot a field: focal length and orientation, with what it takes."""

    plan: Plan
    lens_name: str
    reason: str


def ways_to_shoot(brief: Brief, lenses: Sequence[tuple[str, float]], least_px: float = 0.0) -> tuple[CropChoice, ...]:
    """Plans of a field with each lens (name, focal length), upright and sideways: those with enough pixels first, then the fewest frames.

    ``least_px`` is the wanted longer side of the picture. Only rectilinear lenses are tried; what cannot be planned is left out.
    """
    found = []
    for name, focal in lenses:
        for upright in (True, False):
            rig = replace(brief.rig, focal_mm=focal, upright=upright, lens_name=name, lens_model="rectilinear")
            try:
                plan = make_plan(replace(brief, rig=rig))
            except InputError:
                continue
            longer = max(plan.size.width_px, plan.size.height_px)
            enough = longer >= least_px
            held = "upright" if upright else "sideways"
            many = "frame" if len(plan.frames) == 1 else "frames"
            reason = f"{len(plan.frames)} {many}, held {held}, {longer:,.0f} px on the longer side".replace(
                ",", "\u202f"
            )
            found.append((not enough, len(plan.frames), -longer, CropChoice(plan, name, reason)))
    return tuple(row[-1] for row in sorted(found, key=lambda r: r[:3]))
