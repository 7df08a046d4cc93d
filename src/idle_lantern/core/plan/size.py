"""How large the joined picture gets: pixels, paper, bytes, and what formats hold it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

from idle_lantern.core.geometry.projections import suited
from idle_lantern.core.plan.brief import Target
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField

_INCH_MM = 25.4
#: Usual resolutions of prints, dots per inch.
USUAL_DPI = (96.0, 150.0, 240.0, 300.0)
#: X and Y of a frame header are 16-bit numbers (ITU-T T.81, B.2.2).
JPEG_SIDE_PX = 65535
#: Offsets of a classic TIFF are 32-bit numbers (TIFF 6.0, section 2).
TIFF_BYTES = 2**32
#: A0 has one square metre at a ratio of 1 : sqrt 2; each next size halves it, whole millimetres (ISO 216).
_A0_MM = (841, 1189)


@dataclass(frozen=True)
class JoinedSize:
    """The wished field on its canvas at the frames' own scale."""

    projection: str
    width_px: int
    height_px: int

    @property
    def pixels(self) -> int:
        """Width times height."""
        return self.width_px * self.height_px

    @property
    def tiff16_bytes(self) -> int:
        """Uncompressed with alpha at 16 bit."""
        return self.pixels * 8

    def print_mm(self, dpi: float) -> tuple[float, float]:
        """Paper size at that many pixels per inch."""
        return self.width_px / dpi * _INCH_MM, self.height_px / dpi * _INCH_MM


def joined_size(rig: Rig, target_field: TargetField) -> JoinedSize:
    """Size on the projection that the join would choose for the field by itself."""
    scale = rig.focal_px
    sweep = math.radians(target_field.sweep_deg)
    low, high = math.radians(target_field.low_deg), math.radians(target_field.high_deg)
    name = suited(sweep, low, high)
    width = 2 * math.tan(sweep / 2) if name == "rectilinear" else sweep
    height = high - low if name == "equirectangular" else math.tan(high) - math.tan(low)
    return JoinedSize(name, round(width * scale), round(height * scale))


def canvas_px(rig: Rig, target_field: TargetField, frames: Sequence[GridFrame]) -> int:
    """About how many pixels the join makes before the crop: from the first frame's edge to the last one's."""
    if rig.motion != "turn" or not frames:
        return joined_size(rig, target_field).pixels
    wide, tall = (math.degrees(v) for v in rig.lens().field_rad())
    middle = (target_field.left_deg + target_field.right_deg) / 2
    yaws = [(f.yaw_deg - middle + 180) % 360 - 180 for f in frames]
    pitches = [f.pitch_deg for f in frames]
    half = 180.0 if target_field.full_circle else min(180.0, max(map(abs, yaws)) + wide / 2)
    low, high = max(-90.0, min(pitches) - tall / 2), min(90.0, max(pitches) + tall / 2)
    reached = replace(target_field, left_deg=middle - half, right_deg=middle + half, low_deg=low, high_deg=high)
    return joined_size(rig, reached).pixels


def a_size_mm(number: int) -> tuple[int, int]:
    """Short and long side of A0, A1, ... in millimetres."""
    short, long_side = _A0_MM
    for _ in range(number):
        short, long_side = long_side // 2, short
    return short, long_side


def largest_sheet(size: JoinedSize, dpi: float) -> str | None:
    """The largest A size that the picture fills along its longer side at that resolution; None below A6."""
    longer = max(size.print_mm(dpi))
    return next((f"A{n}" for n in range(7) if a_size_mm(n)[1] <= longer + 0.5), None)


def needed_px(target: Target) -> int:
    """Pixels along the longer side for the wanted print."""
    return math.ceil(target.print_mm / _INCH_MM * target.dpi)


def told_focal_mm(focal_mm: float) -> float:
    """A focal length to a tenth of a millimetre that is still long enough."""
    return math.ceil(focal_mm * 10 - 1e-6) / 10


def focal_for_px(rig: Rig, target_field: TargetField, longer_px: float) -> float:
    """Focal length in mm whose joined picture has that many pixels along its longer side."""
    size = joined_size(rig, target_field)
    return rig.focal_mm * longer_px / max(size.width_px, size.height_px)


def focal_for_pixels(rig: Rig, target_field: TargetField, pixels: float) -> float:
    """Focal length in mm whose joined picture has that many pixels in all."""
    return rig.focal_mm * math.sqrt(pixels / joined_size(rig, target_field).pixels)


def focal_for_px_per_degree(rig: Rig, px_per_degree: float) -> float:
    """Focal length in mm that draws a degree in the middle of the frame with so many pixels."""
    return math.degrees(px_per_degree) * rig.pixel_mm


def unfit_formats(size: JoinedSize) -> list[tuple[str, str]]:
    """Formats that cannot hold the picture, and what to use instead."""
    found = []
    if max(size.width_px, size.height_px) > JPEG_SIDE_PX:
        found.append(("JPEG", "a side of at most 65 535 px; deliver as TIFF or in tiles"))
    if size.tiff16_bytes >= TIFF_BYTES:
        found.append(("classic TIFF", "less than 4 GiB; the big variant is written by itself"))
    return found
