"""Positions of a shift lens before a camera that stands still: rows on the sensor plane, within the image circle."""

from __future__ import annotations

import math

import numpy as np

from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField

#: Kept back at a frame's sides, so that rounding of shifts opens no gap.
_KEPT_BACK_PX = 2
#: Shifts are set to hundredths of a millimetre; a corner keeps that far inside the circle.
_ROUNDING_MM = 0.01


def shift_grid(rig: Rig, target_field: TargetField) -> tuple[GridFrame, ...]:
    """Frames that cover the field as far as the lens goes, top row first.

    A frame of width w and height h shifted by (x, y) keeps its corners in an image circle of radius r while
    (w / 2 + |x|)^2 + (h / 2 + |y|)^2 <= r^2, so rows far up or down are shorter than the middle one.
    """
    width, height = (v * rig.pixel_mm for v in rig.frame_size)
    kept = 2 * _KEPT_BACK_PX * rig.pixel_mm
    middle_yaw = (target_field.left_deg + target_field.right_deg) / 2
    half = math.radians(min(target_field.sweep_deg, 178.0) / 2)
    wide = rig.focal_mm * math.tan(half)
    # a line of one altitude bows outward on the plane: its ends lie farthest up
    bow = math.cos(half)
    low, high = (
        rig.focal_mm * math.tan(math.radians(max(-89.0, min(89.0, v)))) / bow
        for v in (target_field.low_deg, target_field.high_deg)
    )
    frames: list[GridFrame] = []
    up = _places(low, high, height - kept, target_field.between_rows, _reach(rig, height, width, 0.0))
    for r, y in enumerate(reversed(up)):
        across = _places(-wide, wide, width - kept, target_field.overlap, _reach(rig, width, height, abs(y)))
        for c, x in enumerate(across):
            frames.append(
                GridFrame(
                    len(frames) + 1, r + 1, c + 1, middle_yaw, 0.0, shift_right_mm=round(x, 2), shift_up_mm=round(y, 2)
                )
            )
    return tuple(frames)


def _reach(rig: Rig, along_mm: float, beside_mm: float, beside_shift_mm: float) -> float:
    """How far the lens may go one way when it is shifted so far the other way, by its own range and the image circle."""
    if rig.image_circle_mm <= 0:
        return rig.shift_mm
    corner = math.sqrt(max(0.0, (rig.image_circle_mm / 2) ** 2 - (beside_mm / 2 + beside_shift_mm) ** 2))
    return min(rig.shift_mm, max(0.0, corner - along_mm / 2 - _ROUNDING_MM))


def limited_by_circle(rig: Rig, right_mm: float, up_mm: float) -> bool:
    """Whether a place on the sensor plane that no frame shows lies within the lens's range, so that the circle keeps it out."""
    width, height = (v * rig.pixel_mm for v in rig.frame_size)
    return abs(right_mm) <= rig.shift_mm + width / 2 and abs(up_mm) <= rig.shift_mm + height / 2


def _places(low: float, high: float, side: float, overlap: float, reach: float) -> list[float]:
    """Middles along one side of the plane so that ``low`` to ``high`` is covered, within ``reach``."""
    first, last = max(-reach, low + side / 2), min(reach, high - side / 2)
    if last - first < side / 1000:
        return [max(-reach, min(reach, (low + high) / 2))]
    count = 1 + math.ceil((last - first) / (side * (1 - overlap)) - 1e-9)
    return [float(v) for v in np.linspace(first, last, count)]
