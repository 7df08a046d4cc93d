"""The camera and lens a picture is planned with."""

from __future__ import annotations

import math
from dataclasses import dataclass

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.geometry.lenses import MODELS, Lens, focal_px_from_mm


@dataclass(frozen=True)
class Rig:
    """Camera, lens and how the camera is held.

    Sensor and pixels are given sideways (longer side first); ``upright`` turns the
    camera by 90 degrees.
    """

    sensor_width_mm: float = 24.0
    sensor_height_mm: float = 16.0
    width_px: int = 1800
    height_px: int = 1200
    focal_mm: float = 20.0
    lens_model: str = "rectilinear"
    upright: bool = True

    def __post_init__(self) -> None:
        _within("Sensor width", self.sensor_width_mm, 1, 200, "mm")
        _within("Sensor height", self.sensor_height_mm, 1, 200, "mm")
        _within("Pixels across", self.width_px, 100, 60000, "px")
        _within("Pixels up", self.height_px, 100, 60000, "px")
        _within("Focal length", self.focal_mm, 1, 3000, "mm")
        if self.lens_model not in MODELS:
            raise InputError(f"'{self.lens_model}' is no lens kind", remedy=f"Use one of {', '.join(MODELS)}")

    @property
    def frame_px(self) -> tuple[int, int]:
        """Width and height of a frame as held."""
        return (self.height_px, self.width_px) if self.upright else (self.width_px, self.height_px)

    @property
    def focal_px(self) -> float:
        """Focal length in pixels."""
        return focal_px_from_mm(self.focal_mm, self.sensor_width_mm, self.width_px)

    def lens(self) -> Lens:
        """The lens with the frame as held."""
        width, height = self.frame_px
        return Lens(self.lens_model, self.focal_px, width, height)

    @property
    def crop_factor(self) -> float:
        """Diagonal of a 36 x 24 mm frame by the sensor's."""
        return math.hypot(36, 24) / math.hypot(self.sensor_width_mm, self.sensor_height_mm)


def _within(name: str, value: float, low: float, high: float, unit: str) -> None:
    if not (math.isfinite(value) and low <= value <= high):
        raise InputError(f"{name} must lie between {low} and {high} {unit}, not {value:g}", where=name)
