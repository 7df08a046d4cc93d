"""Which way a ground faces: by the compass in the files, or by the sun at its time."""

from __future__ import annotations

import contextlib
import datetime
import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, Literal

import numpy as np
from PIL import Image

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.plan.brief import Site
from idle_lantern.core.plan.sun import moon_at, sun_at
from idle_lantern.core.plan.zone import place_offset_h
from idle_lantern.core.scouting.ground import Ground

#: EXIF 2.32, 4.6.6: the directory of positions, and its tags.
_GPS = 0x8825
_LAT_REF = 1
_LAT = 2
_LON_REF = 3
_LON = 4
_DIRECTION = 17
#: A click on something this far from where the sun stands is no click on the sun.
_NO_SUN_DEG = 8.0


@dataclass(frozen=True)
class Found:
    """Where a picture was taken and which way it looked, as its file tells."""

    latitude_deg: float | None = None
    longitude_deg: float | None = None
    compass_deg: float | None = None


def position_of(path: Path) -> Found:
    """What EXIF tells; nothing where it is absent or damaged."""
    with contextlib.suppress(Exception), Image.open(path) as image:
        gps = image.getexif().get_ifd(_GPS)
        compass = _number(gps.get(_DIRECTION))
        return Found(
            _angle(gps.get(_LAT), gps.get(_LAT_REF), "S", 90),
            _angle(gps.get(_LON), gps.get(_LON_REF), "W", 180),
            compass % 360 if compass is not None and 0 <= compass <= 360 else None,
        )
    return Found()


def by_compass(ground: Ground) -> float | None:
    """Bearing of the ground's yaw 0, the mean of what the files tell; None where none does."""
    each = [
        math.radians(found.compass_deg - middle)
        for path, middle in zip(ground.paths, ground.middles_deg)
        if (found := position_of(path)).compass_deg is not None
    ]
    if not each:
        return None
    return math.degrees(math.atan2(sum(map(math.sin, each)), sum(map(math.cos, each)))) % 360


def by_sun(
    ground: Ground, u: float, v: float, local: datetime.datetime, place: tuple[float, float]
) -> tuple[float, float]:
    """Bearing of the ground's yaw 0 by the sun at a pixel of it, and how far the altitude there misses the sun's, in degrees.

    Raises
    ------
    InputError
        The pixel looks nowhere, or nowhere near the sun's height.
    """
    ray = ground.canvas.directions(np.array([u, v]))
    if not np.isfinite(ray).all() or not (0 <= u < ground.canvas.width and 0 <= v < ground.canvas.height):
        raise InputError(f"{u:g}, {v:g} lies outside the picture", remedy="Give a pixel of the ground")
    azimuth = math.degrees(math.atan2(ray[0], ray[2]))
    altitude = math.degrees(math.asin(max(-1.0, min(1.0, float(-ray[1])))))
    return bearing_of_yaw_0(
        site_at(local, place),
        local.replace(tzinfo=None),
        azimuth,
        altitude,
        within_deg=max(_NO_SUN_DEG, 3 * ground.sigma_deg),
    )


def site_at(local: datetime.datetime, place: tuple[float, float]) -> Site:
    """A place (latitude and longitude in degrees) at a time, by the offset that the time tells, else by the zone of the place."""
    site = Site(latitude_deg=place[0], longitude_deg=place[1], date=f"{local:%Y-%m-%d}", start=f"{local:%H:%M}")
    told = local.utcoffset()
    return replace(site, utc_offset_h=place_offset_h(site) if told is None else told.total_seconds() / 3600)


def bearing_of_yaw_0(
    site: Site,
    local: datetime.datetime,
    azimuth_deg: float,
    altitude_deg: float,
    *,
    body: Literal["sun", "moon"] = "sun",
    within_deg: float = _NO_SUN_DEG,
) -> tuple[float, float]:
    """Bearing of azimuth 0 where the sun or the moon stands at a direction, and how far its height there misses, in degrees.

    Raises
    ------
    InputError
        It stands nowhere near that height then.
    """
    at = sun_at(site, local) if body == "sun" else moon_at(site, local)
    miss = altitude_deg - at.altitude_deg
    if abs(miss) > within_deg:
        raise InputError(
            f"The {body} stands {at.altitude_deg:.1f}° high then, and that place looks {altitude_deg:.1f}° high",
            remedy="Check the time, the place and what was pointed at",
        )
    return (at.bearing_deg - azimuth_deg) % 360, miss


def _angle(parts: Any, reference: Any, negative: str, most: float) -> float | None:
    numbers: Sequence[float | None] = [_number(p) for p in parts] if parts is not None else []
    if len(numbers) != 3 or any(n is None for n in numbers):
        return None
    degrees, minutes, seconds = (n or 0.0 for n in numbers)
    value = degrees + minutes / 60 + seconds / 3600
    if not 0 <= value <= most:
        return None
    return -value if str(reference).strip("\0 ").upper() == negative else value


def _number(value: Any) -> float | None:
    try:
        number = float(value)
    except (TypeError, ValueError, ZeroDivisionError):
        return None
    return number if math.isfinite(number) else None
