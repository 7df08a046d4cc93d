"""What ``idle-lantern join`` is told in words, as values: crop, level, profile, lens."""

from __future__ import annotations

import argparse
import math
import re
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.strict_json import read_bytes
from idle_lantern.core.colour.profiles import named_space
from idle_lantern.core.colour.space import ColourSpace
from idle_lantern.core.frames.frameset import FrameSet
from idle_lantern.core.optics.known import KnownLens, read_lens
from idle_lantern.core.request.choices import Level


def crop_of(told: str) -> tuple[str, tuple[float, float] | None]:
    """Whether and to what ratio of sides the picture is cut.

    Raises
    ------
    InputError
        It is neither a word nor a ratio.
    """
    if told in ("none", "largest"):
        return told, None
    sides = re.fullmatch(r"(\d+(?:\.\d+)?):(\d+(?:\.\d+)?)", told)
    if sides is None or not all(0 < float(v) <= 1000 for v in sides.groups()):
        raise InputError(f"'{told}' is no crop", remedy="Give none, largest, or a ratio of width to height like 3:1")
    return "ratio", (float(sides[1]), float(sides[2]))


def level_of(told: str) -> Level:
    """How the picture is to stand.

    Raises
    ------
    InputError
        It is neither a word nor three angles.
    """
    if told == "auto" or told == "none":
        return "auto" if told == "auto" else "none"
    return angles_of("level", told, "auto, none, or ")


def angles_of(name: str, told: str, words: str = "") -> tuple[float, float, float]:
    """Yaw, pitch and roll in degrees; ``words`` are others that could be given.

    Raises
    ------
    InputError
        It is no three angles.
    """
    try:
        yaw, pitch, roll = (float(v) for v in told.split(","))
    except ValueError:
        yaw = pitch = roll = math.nan
    if not all(math.isfinite(v) and abs(v) <= 360 for v in (yaw, pitch, roll)):
        raise InputError(f"'{told}' is no {name}", remedy=f"Give {words}three angles like 0,2.5,-1")
    return yaw, pitch, roll


def share_of(name: str, least: float, most: float, *, whole: bool = False) -> Callable[[str], Any]:
    """A number within limits, as argparse takes it."""

    def read(told: str) -> float | int:
        try:
            value = int(told) if whole else float(told)
        except ValueError:
            value = math.nan
        if not least <= value <= most:
            raise argparse.ArgumentTypeError(f"'{told}' is not {name} from {least:g} to {most:g}")
        return value

    return read


def named(told: str, names: Sequence[str]) -> str:
    """The frame of the set that is called so, by its name or the end of its path.

    Raises
    ------
    InputError
        None is, or more than one.
    """
    found = [name for name in names if told == name] or [name for name in names if Path(name).name == Path(told).name]
    if len(found) != 1:
        why = "is none of the frames" if not found else "is the name of several frames"
        raise InputError(
            f"'{told}' {why}", remedy=f"Give one of {', '.join(names[:4])}{' ...' if len(names) > 4 else ''}"
        )
    return found[0]


def profile_of(told: str) -> ColourSpace | None:
    """The colour space of the picture, None for that of the frames.

    Raises
    ------
    InputError
        The file is missing or no profile of red, green and blue.
    """
    if told == "keep":
        return None
    if told in ("srgb", "p3"):
        return named_space(told)
    return named_space(told, read_bytes(Path(told), remedy="Give keep, srgb, p3, or an ICC profile"))


def known_lens_of(told: str, frames: FrameSet) -> KnownLens | None:
    """The lens that was asked for.

    Raises
    ------
    InputError
        It is not known, or does not fit the frames.
    """
    if not told:
        return None
    first = frames.infos[0]
    if told == "database":
        from idle_lantern.core.optics.database import lens_from_database  # a library of its own

        known = lens_from_database(first.metadata, first.width, first.height)
    elif told.lower().endswith(".json"):
        known = read_lens(Path(told))
    else:
        from idle_lantern.core.gear.library import Library, gear_file  # which few joins ask

        measured = Library(gear_file()).measured_lenses()
        if told not in measured:
            names = ", ".join(sorted(measured)) or "none so far"
            raise InputError(f"'{told}' is no measured lens of the gear library", remedy=f"There are: {names}")
        known = measured[told]
    if known.for_frame(first.width, first.height) is None or not known.fits_focal(first.metadata.focal_mm):
        raise InputError(
            f"The lens was measured for {known.width} x {known.height} pixels"
            + (f" at {known.focal_mm:g} mm" if known.focal_mm else "")
            + ", the frames are others",
            where=told,
            remedy="Let the join find the lens, or measure it at this setting",
        )
    return known
