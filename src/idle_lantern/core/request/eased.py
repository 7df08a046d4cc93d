"""Places of a picture that its projection draws bent or drawn out, and that shall be drawn otherwise: told in directions, kept with the request."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Annotated

import msgspec
import numpy as np
from msgspec import Meta

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.strict_json import read_json

Yaw = Annotated[float, Meta(ge=-720, le=720)]
Pitch = Annotated[float, Meta(ge=-90, le=90)]
#: Azimuth and altitude in degrees of the world that the frames' poses are told in.
Place = tuple[Yaw, Pitch]


class StraightLine(msgspec.Struct, frozen=True, tag_field="do", tag="line", forbid_unknown_fields=True):
    """What is straight between two places is drawn straight."""

    from_deg: Place
    to_deg: Place


class RoundThing(msgspec.Struct, frozen=True, tag_field="do", tag="round", forbid_unknown_fields=True):
    """Within an angle of a place things keep their shape: faces, wheels, globes near the rim."""

    centre_deg: Place
    radius_deg: Annotated[float, Meta(ge=0.1, le=45)]


Eased = StraightLine | RoundThing
#: So many places at most.
MOST_EASED = 100
EasedPlaces = Annotated[tuple[Eased, ...], Meta(max_length=MOST_EASED)]


def ray_of(place_deg: tuple[float, float]) -> Array:
    """The unit direction (3,) of an azimuth and altitude in degrees, y down."""
    yaw, pitch = np.radians(place_deg)
    return np.array([math.sin(yaw) * math.cos(pitch), -math.sin(pitch), math.cos(yaw) * math.cos(pitch)])


def read_eased(path: Path) -> tuple[Eased, ...]:
    """Places to be eased from a file (``docs/formats/eased.md``).

    Raises
    ------
    InputError
        It cannot be read, or a place in it is wrong; tells which.
    """
    told = read_json(path)
    try:
        return msgspec.convert(told, EasedPlaces)
    except msgspec.ValidationError as error:
        what, _, place = str(error).partition(" - at `$")
        number = place.removeprefix("[").partition("]")[0]
        where = f"place {int(number) + 1}" if number.isdecimal() else "its top"
        raise InputError(
            f"Is wrong at {where}: {what}",
            where=str(path),
            remedy="Lines have from_deg and to_deg, round things centre_deg and radius_deg",
        ) from error
