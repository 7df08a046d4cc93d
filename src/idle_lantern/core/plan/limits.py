"""What each number of a brief may be: the one place of its name, limits and unit.

Gear entries hold facts under the same names and share the limits.
"""

from __future__ import annotations

from dataclasses import fields
from typing import Any

from msgspec import Meta

from idle_lantern.core.base.checks import within
from idle_lantern.core.base.errors import InputError

#: Field -> its name for people, lowest and highest value, unit.
LIMITS: dict[str, tuple[str, float, float, str]] = {
    "aperture": ("Aperture", 0.5, 128, ""),
    "base_iso": ("Base ISO", 1, 6400, ""),
    "base_tilt_deg": ("Lean of the base", 0, 20, "°"),
    "bits": ("Bits", 8, 16, "bit"),
    "bracket_count": ("Exposures of a bracket", 1, 15, ""),
    "bracket_only_above_ev": ("Brackets only above", 0, 24, "EV"),
    "bracket_shift_ev": ("Shift of a bracket", -10, 10, "EV"),
    "bracket_step_ev": ("Step of a bracket", 0.3, 5, "EV"),
    "capacity_gb": ("Capacity", 0.1, 100000, "GB"),
    "card_gb": ("One card", 0.1, 100000, "GB"),
    "corner_loss_stops": ("Light lost in the corners", 0, 6, "stops"),
    "delay_s": ("Delay of the shutter", 0, 60, "s"),
    "dpi": ("Print resolution", 10, 2400, "dpi"),
    "exposures_each": ("Exposures for one frame", 1, 32, ""),
    "facing_deg": ("Bearing of yaw 0", -360, 360, "°"),
    "filter_stops": ("Filter", 0, 20, "stops"),
    "first_leg_deg": ("First leg at yaw", -360, 360, "°"),
    "focal_mm": ("Focal length", 1, 3000, "mm"),
    "focus_m": ("Focus", 0, 1e6, "m"),
    "height_px": ("Pixels up", 100, 60000, "px"),
    "highest_m": ("Height", 0.1, 20, "m"),
    "image_circle_mm": ("Image circle", 0, 400, "mm"),
    "iso": ("ISO", 1, 409600, ""),
    "latitude_deg": ("Latitude", -90, 90, "°"),
    "leg_circle_mm": ("Circle of the feet", 0, 5000, "mm"),
    "legs_kg": ("Weight of the legs", 0, 200, "kg"),
    "longitude_deg": ("Longitude", -180, 180, "°"),
    "nadir_frames": ("Nadir frames", -1, 4, ""),
    "near_m": ("Nearest thing", 0.05, 1e6, "m"),
    "pointing_deg": ("Pointing error", 0, 15, "°"),
    "print_mm": ("Longer side of the print", 0, 200000, "mm"),
    "pupil_off_mm": ("Axis off the pupil", 0, 500, "mm"),
    "rail_doubt_mm": ("Doubt of the rail setting", 0, 100, "mm"),
    "rail_mm": ("Rail setting", -300, 300, "mm"),
    "range_stops": ("Sensor's range", 4, 20, "stops"),
    "raw_mb": ("File of one exposure", 0.1, 4000, "MB"),
    "repeats": ("Repeats", 1, 20, ""),
    "reserve": ("Crop reserve", 0, 0.6, ""),
    "row_frames": ("Frames in a row", 0, 400, ""),
    "scale_start_deg": ("Scale at yaw 0", -360, 360, "°"),
    "sensor_height_mm": ("Sensor height", 1, 200, "mm"),
    "sensor_width_mm": ("Sensor width", 1, 200, "mm"),
    "settle_s": ("Settling", 0, 120, "s"),
    "shift_mm": ("Lens shift", 0, 60, "mm"),
    "shortest_mm": ("Shortest focal length", 1, 3000, "mm"),
    "spare_ends": ("Frames beyond each end", 0, 5, ""),
    "step_deg": ("Stops of the head", 0, 90, "°"),
    "subject_m": ("Subject", 0, 1e6, "m"),
    "tilt_high_deg": ("Highest tilt", 0, 90, "°"),
    "tilt_low_deg": ("Lowest tilt", -90, 0, "°"),
    "tilt_step_deg": ("Stops of the tilt", 0, 45, "°"),
    "turn_deg_per_s": ("Turning", 0.1, 360, "°/s"),
    "utc_offset_h": ("Hours from UTC", -14, 14, "h"),
    "viewing_m": ("Viewing distance", 0.1, 1000, "m"),
    "weight_kg": ("Weight", 0.1, 100, "kg"),
    "white_balance_k": ("White balance", 1500, 15000, "K"),
    "widest_aperture": ("Widest aperture", 0.5, 64, ""),
    "width_px": ("Pixels across", 100, 60000, "px"),
    "wind_ms": ("Wind", 0, 60, "m/s"),
    "zenith_frames": ("Zenith frames", -1, 4, ""),
}


def limit(name: str) -> Meta:
    """The limits of a field as the schema of documents knows them, for ``Annotated``."""
    title, low, high, unit = LIMITS[name]
    return Meta(ge=low, le=high, title=title, extra_json_schema={"unit": unit} if unit else None)


def check_limits(part: Any) -> None:
    """Refuse a dataclass with a field outside its limits.

    Raises
    ------
    InputError
        For the first such field, with name, limits and value.
    """
    for f in fields(part):
        if f.name in LIMITS:
            check_limit(f.name, getattr(part, f.name), whole=str(f.type).startswith(("int", "Annotated[int")))


def check_limit(field: str, value: Any, *, whole: bool) -> None:
    """Refuse a value of a field outside its limits, or one that is not ``whole`` and must be.

    Raises
    ------
    InputError
        With name, limits and value.
    """
    name, low, high, unit = LIMITS[field]
    within(name, value, low, high, unit)
    if whole and not isinstance(value, int):
        raise InputError(f"must be a whole number, not {value:g}", where=name, remedy=f"Use {low:g} to {high:g}")
