"""Depth of field, diffraction and blur by thin-lens optics.

H = f^2 / (N c) + f; near limit s (H - f) / (H + s - 2 f); far limit s (H - f) / (H - s):
the textbook formulas with f focal length, N aperture, c circle of confusion, s focus
distance from the lens.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

from idle_lantern.core.plan.brief import Exposure, Scene, Target
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField

#: Green light, where the eye is sharpest.
_WAVELENGTH_MM = 0.00055
#: What an eye of normal sight tells apart: one minute of arc (ISO 8596 normal acuity).
EYE_RAD = math.radians(1 / 60)
#: Share of the diagonal that the usual tables take for the circle of confusion.
_DIAGONAL_SHARE = 1500.0
_SHARPEST = (8.0, 11.0)
_STAR = 18.0


def hyperfocal_m(focal_mm: float, aperture: float, coc_mm: float) -> float:
    """Nearest focus distance whose far limit is infinity."""
    return (focal_mm**2 / (aperture * coc_mm) + focal_mm) / 1000


def limits_m(focal_mm: float, aperture: float, coc_mm: float, focus_m: float) -> tuple[float, float]:
    """Nearest and farthest distance that is sharp; the far one may be infinite."""
    f = focal_mm / 1000
    h = hyperfocal_m(focal_mm, aperture, coc_mm)
    if focus_m <= f:  # nothing so near has a picture
        return focus_m, focus_m
    if math.isinf(focus_m):
        return h - f, math.inf
    near = focus_m * (h - f) / (h + focus_m - 2 * f)
    far = focus_m * (h - f) / (h - focus_m) if focus_m < h else math.inf
    return near, far


def blur_disc_mm(focal_mm: float, aperture: float, focus_m: float, distance_m: float) -> float:
    """Diameter on the sensor of the blur disc of a point at ``distance_m``."""
    f = focal_mm / 1000
    if math.isinf(focus_m):
        return 0.0 if math.isinf(distance_m) else focal_mm * f / aperture / distance_m
    share = 1.0 if math.isinf(distance_m) else abs(distance_m - focus_m) / distance_m
    return focal_mm / aperture * f / max(focus_m - f, 1e-9) * share


def between(near_m: float, far_m: float) -> float:
    """Focus distance that blurs the nearest and the farthest thing alike: 2 n F / (n + F)."""
    return 2 * near_m if math.isinf(far_m) else 2 * near_m * far_m / (near_m + far_m)


def aperture_for(focal_mm: float, coc_mm: float, near_m: float, far_m: float) -> float:
    """Widest aperture (smallest number) that keeps both ends within the circle of confusion."""
    return blur_disc_mm(focal_mm, 1.0, between(near_m, far_m), near_m) / coc_mm


def airy_mm(aperture: float) -> float:
    """Diameter of the Airy disc to its first dark ring: 2.44 lambda N."""
    return 2.44 * _WAVELENGTH_MM * aperture


def coc_sensor_mm(rig: Rig) -> float:
    """Circle of confusion by the sensor's diagonal."""
    return math.hypot(rig.sensor_width_mm, rig.sensor_height_mm) / _DIAGONAL_SHARE


def coc_print_mm(rig: Rig, target: Target, joined_px: int) -> float:
    """Circle of confusion by what the eye sees on the joined print from its viewing distance.

    Never below a pixel: the sensor shows nothing finer. Infinite where no print is wanted.
    """
    if target.print_mm <= 0:
        return math.inf
    on_print_mm = target.viewing_m * 1000 * EYE_RAD
    pixels = on_print_mm * joined_px / target.print_mm
    return max(pixels, 1.0) * rig.pixel_mm


@dataclass(frozen=True)
class Sharpness:
    """What is sharp with the chosen aperture and focus; blur in pixels of the frame.

    Distances lie on the line of sight. A lens is focused on a plane square to it, so ``corner_blur_px`` is how soft a
    thing at the focus distance is in the corner of a frame (0 for a fisheye, whose focus is no plane that we know), and
    ``wall_blur_px`` how soft a wall that stands square to the picture's middle at that distance is in the field's corners.
    """

    aperture: float
    focus_m: float
    coc_mm: float
    coc_from: str
    hyperfocal_m: float
    near_limit_m: float
    far_limit_m: float
    needed_aperture: float
    airy_px: float
    near_blur_px: float
    far_blur_px: float
    background_blur_px: float
    corner_blur_px: float
    wall_blur_px: float
    reason: str


def sharpness(
    rig: Rig, scene: Scene, exposure: Exposure, target: Target, joined_px: int, target_field: TargetField
) -> Sharpness:
    """Aperture by school, focus for the nearest and farthest thing (or as told), and what follows."""
    by_sensor, by_print = coc_sensor_mm(rig), coc_print_mm(rig, target, joined_px)
    coc, coc_from = (by_print, "the print") if by_print < by_sensor else (by_sensor, "the sensor")
    shallow = exposure.aperture_school == "open" and scene.subject_m > 0
    needed = aperture_for(rig.focal_mm, coc, scene.near_m, scene.far_m)
    aperture, reason = _by_school(rig, exposure, needed)
    focus = exposure.focus_m or (scene.subject_m if shallow else between(scene.near_m, scene.far_m))
    near, far = limits_m(rig.focal_mm, aperture, coc, focus)

    def blur(distance_m: float) -> float:
        return blur_disc_mm(rig.focal_mm, aperture, focus, distance_m) / rig.pixel_mm

    return Sharpness(
        aperture,
        focus,
        coc,
        coc_from,
        hyperfocal_m(rig.focal_mm, aperture, coc),
        near,
        far,
        needed,
        airy_mm(aperture) / rig.pixel_mm,
        blur(scene.near_m),
        blur(scene.far_m),
        blur(scene.background_m),
        _corner_blur_px(rig, blur, focus),
        _wall_blur_px(target_field, blur, focus),
        reason,
    )


def _corner_blur_px(rig: Rig, blur: Callable[[float], float], focus_m: float) -> float:
    """Of a thing at the focus distance that stands in a frame's corner, by cos(half diagonal) of it before the lens."""
    if rig.lens_model != "rectilinear" or math.isinf(focus_m):
        return 0.0
    half = math.atan(math.hypot(rig.sensor_width_mm, rig.sensor_height_mm) / 2 / rig.focal_mm)
    return blur(focus_m * math.cos(half))


def _wall_blur_px(field: TargetField, blur: Callable[[float], float], focus_m: float) -> float:
    """In the middle of the frame that looks at a corner of the field, where the wall stands 1 / cos(angle) as far away."""
    level = math.radians(field.low_deg + field.high_deg) / 2
    corners = [
        math.sin(level) * math.sin(v) + math.cos(level) * math.cos(v) * math.cos(math.radians(field.sweep_deg) / 2)
        for v in (math.radians(field.low_deg), math.radians(field.high_deg))
    ]
    least = min(corners)
    return blur(focus_m / least) if least > 1e-6 else blur(math.inf)


def _by_school(rig: Rig, exposure: Exposure, needed: float) -> tuple[float, str]:
    widest, narrowest = rig.widest_aperture, rig.narrowest_aperture

    def fit(value: float) -> float:
        return min(max(value, widest), narrowest)

    school = exposure.aperture_school
    if school == "open":
        return widest, "Wide open: the shallow look."
    if school == "star":
        return fit(_STAR), "f/18 draws rays round the sun; the whole picture softens a little by diffraction."
    if school == "depth":
        value = fit(thirds_up(max(needed, 1.0)))
        return value, "As far closed as the nearest and the farthest thing need, no further."
    if school == "sharpest":
        value = fit(min(max(thirds_up(max(needed, 1.0)), _SHARPEST[0]), _SHARPEST[1]))
        return value, "f/8 to f/11: past the lens's weak corners, before diffraction."
    return exposure.aperture, "As typed."


def closed_enough(rig: Rig, sharp: Sharpness) -> float:
    """The widest aperture that this lens has and that keeps both ends sharp."""
    return min(max(thirds_up(sharp.needed_aperture), rig.widest_aperture), rig.narrowest_aperture)


def thirds_up(aperture: float) -> float:
    """The next aperture on the scale of third stops, N = 2^(k / 6), as engraved where a name is usual."""
    steps = math.ceil(6 * math.log2(max(aperture, 0.5)) - 1e-6)
    exact = 2 ** (steps / 6)
    engraved = min(_ENGRAVED, key=lambda n: abs(math.log2(n / exact)))
    return engraved if abs(math.log2(engraved / exact)) < 0.1 else round(exact, 1)


#: Names of the third stops as engraved on lenses (ISO 517 marks the full ones).
_ENGRAVED = (
    0.5, 0.56, 0.63, 0.7, 0.8, 0.9, 1.0, 1.1, 1.2, 1.4, 1.6, 1.8, 2.0, 2.2, 2.5, 2.8, 3.2, 3.5, 4.0, 4.5, 5.0, 5.6,
    6.3, 7.1, 8.0, 9.0, 10.0, 11.0, 13.0, 14.0, 16.0, 18.0, 20.0, 22.0, 25.0, 29.0, 32.0, 36.0, 40.0, 45.0, 51.0, 57.0, 64.0,
)  # fmt: skip
