"""How likely a run leaves a hole: by trying it out."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.sphere import azimuth_altitude
from idle_lantern.core.plan.brief import Support
from idle_lantern.core.plan.coverage import cameras_of, covered, outline, samples_of
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.pointing import pointing_errors
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import LEAST_SIDE_DEG, TargetField

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
        errors = pointing_errors(rng, replace(support, pointing_deg=error_times * support.pointing), len(frames))
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
    sweep, height = target_field.sweep_deg, target_field.high_deg - target_field.low_deg
    # no smaller than a field may be
    wide = 0.0 if target_field.full_circle else min(rim_deg, sweep / 4, (sweep - LEAST_SIDE_DEG) / 2)
    tall = min(rim_deg, height / 4, (height - LEAST_SIDE_DEG) / 2)
    return replace(
        target_field,
        left_deg=target_field.left_deg + wide,
        right_deg=target_field.right_deg - wide,
        low_deg=target_field.low_deg if target_field.low_deg < -89 else target_field.low_deg + tall,
        high_deg=target_field.high_deg if target_field.high_deg > 89 else target_field.high_deg - tall,
    )
