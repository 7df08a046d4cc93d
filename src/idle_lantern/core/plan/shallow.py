"""The joined grid as one imaginary frame: same view, same entrance pupil."""

from __future__ import annotations

import math
from dataclasses import dataclass

from idle_lantern.core.base.judgement import Judgement, Severity
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField

#: A flat single frame wider than this is no lens that exists.
_WIDEST_DEG = 150.0


@dataclass(frozen=True)
class SingleShot:
    """One frame that would look alike.

    ``focal_mm`` and ``aperture`` are for a 36 x 24 mm sensor, ``sensor_width_mm`` is
    what sensor this very lens would need; ``same_camera_mm`` is the focal length with
    which the camera at hand shows the whole view (for framing).
    """

    focal_mm: float
    aperture: float
    sensor_width_mm: float
    sensor_height_mm: float
    same_camera_mm: float


def single_shot(rig: Rig, target_field: TargetField, aperture: float) -> SingleShot | None:
    """The equivalent of the joined picture; None where no flat frame could be so wide.

    The blur of a distant point is the entrance pupil f / N seen against the subject,
    whatever sensor lies behind: the pupil stays, the view grows.
    """
    tall_deg = target_field.high_deg - target_field.low_deg
    if target_field.sweep_deg > _WIDEST_DEG or tall_deg > _WIDEST_DEG:
        return None
    wide, tall = (2 * math.tan(math.radians(v) / 2) for v in (target_field.sweep_deg, tall_deg))
    # framed by the diagonal, as equivalents usually are
    diagonal = math.hypot(wide, tall)
    focal = math.hypot(36, 24) / diagonal
    pupil_mm = rig.focal_mm / aperture
    long_side, short_side = max(wide, tall), min(wide, tall)
    fits = min(rig.sensor_width_mm / long_side, rig.sensor_height_mm / short_side)
    return SingleShot(focal, focal / pupil_mm, rig.focal_mm * wide, rig.focal_mm * tall, fits)


def distance_advice(subject_m: float, background_m: float) -> list[Judgement]:
    """What practitioners say of the distances (common practice, no source)."""
    found = []
    if 0 < subject_m < 1.8:
        found.append(
            Judgement(
                "subject-near",
                Severity.CARE,
                f"The subject stands {subject_m:.1f} m away: its own depth falls out of focus and straight lines bend.",
                "1.8 to 3.7 m suits people, 4.5 to 6 m with straight edges.",
            )
        )
    elif subject_m > 9:
        found.append(
            Judgement(
                "subject-far",
                Severity.CARE,
                f"At {subject_m:.0f} m the background hardly blurs: it will look like an ordinary panorama.",
                "Go nearer: 1.8 to 3.7 m for people.",
            )
        )
    if subject_m > 0 and background_m < 3 * subject_m:
        found.append(
            Judgement(
                "background-near",
                Severity.NOTE,
                f"The background lies only {background_m / subject_m:.1f} times as far away as the subject.",
                "Choose a spot with a background as far away as can be.",
            )
        )
    return found
