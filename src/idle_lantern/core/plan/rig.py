"""The camera and lens a picture is planned with."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Annotated

from idle_lantern.core.base.checks import one_of, within
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.geometry.lenses import MODELS, Lens, focal_px_from_mm
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.limits import check_limits, limit

#: How a rig reaches the parts of a picture.
MOTIONS = ("turn", "lens-shift", "two-lens")
#: A fisheye of which no image circle is told shows half the sphere.
_FISHEYE_HALF_RAD = math.pi / 2
#: Data sheets round, and some count pixels that no picture has; beyond that sensor and pixels do not belong together.
MOST_PIXEL_ASPECT = 1.25


@dataclass(frozen=True)
class Rig:
    """Camera, lens and how the camera is held.

    Sensor and pixels are given sideways (longer side first); ``upright`` turns the
    camera by 90 degrees. ``image_circle_mm`` and ``rail_mm`` are 0 where unknown.
    ``exposures_each`` counts what a sensor-shift camera takes for one frame.
    """

    sensor_width_mm: Annotated[float, limit("sensor_width_mm")] = 24.0
    sensor_height_mm: Annotated[float, limit("sensor_height_mm")] = 16.0
    width_px: Annotated[int, limit("width_px")] = 1800
    height_px: Annotated[int, limit("height_px")] = 1200
    focal_mm: Annotated[float, limit("focal_mm")] = 20.0
    lens_model: str = "rectilinear"
    upright: bool = True
    motion: str = "turn"
    camera: str = ""
    lens_name: str = ""
    raw_mb: Annotated[float, limit("raw_mb")] = 28.0
    bits: Annotated[int, limit("bits")] = 14
    base_iso: Annotated[float, limit("base_iso")] = 100.0
    range_stops: Annotated[float, limit("range_stops")] = 13.0
    exposures_each: Annotated[int, limit("exposures_each")] = 1
    widest_aperture: Annotated[float, limit("widest_aperture")] = 2.8
    narrowest_aperture: float = 22.0
    image_circle_mm: Annotated[float, limit("image_circle_mm")] = 0.0
    shift_mm: Annotated[float, limit("shift_mm")] = 0.0
    corner_loss_stops: Annotated[float, limit("corner_loss_stops")] = 1.0
    rail_mm: Annotated[float, limit("rail_mm")] = 0.0
    rail_doubt_mm: Annotated[float, limit("rail_doubt_mm")] = 2.0

    def __post_init__(self) -> None:
        check_limits(self)
        one_of("Lens kind", self.lens_model, MODELS)
        one_of("Motion", self.motion, MOTIONS)
        if self.motion == "lens-shift" and self.lens_model != "rectilinear":
            raise InputError(
                "a fisheye does not shift: only a lens that draws straight lines straight has one flat picture",
                where="Lens kind",
                remedy="Choose 'rectilinear', or turn the camera instead",
            )
        within("Narrowest aperture", self.narrowest_aperture, self.widest_aperture, 128, "")
        if not 1 / MOST_PIXEL_ASPECT <= self.pixel_aspect <= MOST_PIXEL_ASPECT:
            raise InputError(
                f"{self.sensor_width_mm:g} x {self.sensor_height_mm:g} mm with {self.width_px} x {self.height_px} px "
                f"would make pixels {self.pixel_aspect:.2f} times as high as wide",
                where="Sensor height",
                remedy="Sensor and picture have the same ratio of sides; give both as the camera's data sheet does",
            )

    @property
    def frame_px(self) -> tuple[int, int]:
        """Width and height of a frame as held."""
        return (self.height_px, self.width_px) if self.upright else (self.width_px, self.height_px)

    @property
    def frame_size(self) -> tuple[float, float]:
        """Width and height of a frame as held, in steps of ``pixel_mm``: what the sensor's own sides make it."""
        across, up = float(self.width_px), self.sensor_height_mm / self.pixel_mm
        return (up, across) if self.upright else (across, up)

    @property
    def pixel_aspect(self) -> float:
        """Height of a pixel by its width, as sensor and pixel numbers tell; 1 for square ones."""
        return (self.sensor_height_mm / self.height_px) / self.pixel_mm

    @property
    def focal_px(self) -> float:
        """Focal length in pixels."""
        return focal_px_from_mm(self.focal_mm, self.sensor_width_mm, self.width_px)

    @property
    def pixel_mm(self) -> float:
        """Pitch of the pixels."""
        return self.sensor_width_mm / self.width_px

    def lens(self) -> Lens:
        """The lens with the frame as held."""
        width, height = self._whole_size
        return Lens(self.lens_model, self.focal_px, width, height, circle_px=self._circle_px())

    def lens_of(self, frame: GridFrame) -> Lens:
        """The lens as it stands for one frame: a shifted lens moves the principal point."""
        if not (frame.shift_right_mm or frame.shift_up_mm):
            return self.lens()
        width, height = self._whole_size
        right, up = frame.shift_right_mm / self.pixel_mm, frame.shift_up_mm / self.pixel_mm
        return Lens(self.lens_model, self.focal_px, width, height, cx=-right, cy=up, circle_px=self._circle_px())

    @property
    def _whole_size(self) -> tuple[int, int]:
        width, height = self.frame_size
        return round(width), round(height)

    def _circle_px(self) -> float:
        if self.image_circle_mm > 0:
            return self.image_circle_mm / 2 / self.pixel_mm
        if self.lens_model == "rectilinear":
            return math.inf
        width, height = self._whole_size
        return float(Lens(self.lens_model, self.focal_px, width, height).radius_px(_FISHEYE_HALF_RAD))

    @property
    def crop_factor(self) -> float:
        """Diagonal of a 36 x 24 mm frame by the sensor's."""
        return math.hypot(36, 24) / math.hypot(self.sensor_width_mm, self.sensor_height_mm)
