"""One basic development for all frames of a set: exposure, white balance, shadows, highlights; originals stay as they are."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.checks import within
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.strict_json import read_json
from idle_lantern.core.colour.picture import Picture, deep
from idle_lantern.core.colour.space import SRGB, ColourSpace
from idle_lantern.core.merging.film import Film, film_from

SCHEMA = "idle-lantern/development/1"
#: Least and most of each value.
LIMITS = {"exposure_ev": (-5.0, 5.0), "shadows": (-1.0, 1.0), "highlights": (-1.0, 1.0)}
_BALANCE = (0.1, 10.0)
_TITLES = {"exposure_ev": "Exposure", "shadows": "Shadows", "highlights": "Highlights"}
#: How far full shadows or highlights move display values at most.
_REACH = 0.2


@dataclass(frozen=True)
class Development:
    """Values of the development; as they stand by default nothing is changed.

    Attributes
    ----------
    exposure_ev : linear light times two to this power
    white_balance : gains of red, green and blue on linear light
    shadows, highlights : -1 to 1, lift or lower what is dark, or what is bright
    clipped : what becomes of a raw file's places where one colour is full
    film : Film or None
        The frames are scans of film: cut and turned into what was seen before anything else.
    """

    exposure_ev: float = 0.0
    white_balance: tuple[float, float, float] = (1.0, 1.0, 1.0)
    shadows: float = 0.0
    highlights: float = 0.0
    clipped: Literal["clip", "blend", "rebuild"] = "clip"
    film: Film | None = None

    def __post_init__(self) -> None:
        for name, (low, high) in LIMITS.items():
            within(_TITLES[name], getattr(self, name), low, high, "EV" if name == "exposure_ev" else "")
        if len(self.white_balance) != 3:
            raise InputError("has no three factors", where="White balance", remedy="Give red, green and blue")
        for gain in self.white_balance:
            within("White balance", gain, *_BALANCE, "")

    @property
    def changes_nothing(self) -> bool:
        """Whether display values stay as they are."""
        return self.film is None and (self.exposure_ev, self.white_balance, self.shadows, self.highlights) == (
            0.0,
            (1.0, 1.0, 1.0),
            0.0,
            0.0,
        )

    def gains(self) -> Array:
        """Factors (3,) of linear red, green and blue."""
        return np.asarray(self.white_balance, np.float32) * np.float32(2.0**self.exposure_ev)

    def toned(self, shown: Array) -> Array:
        """Display values (..., 3), 0 to 1, with shadows and highlights moved; black and white stay where they are."""
        lift = self.shadows * _REACH * 6.75 * shown * (1 - shown) ** 2
        drop = self.highlights * _REACH * 6.75 * shown**2 * (1 - shown)
        return np.asarray(np.clip(shown + lift + drop, 0, 1))

    def table(self, full_scale: int = 255, space: ColourSpace = SRGB) -> Array:
        """What becomes of each display value of ``space``, 0 to 1, by colour: (3, ``full_scale`` + 1)."""
        light = space.to_linear(np.linspace(0, 1, full_scale + 1)[:, None].repeat(3, 1))
        light = light if self.film is None else self.film.light(light)
        return self.toned(np.clip(space.from_linear(light * self.gains()), 0, 1)).T

    def applied(self, picture: Picture) -> Picture:
        """A picture developed, 16 bit, so that no steps come up in a sky."""
        if self.changes_nothing:
            return picture
        pixels, alpha = picture.pixels, picture.alpha
        if self.film is not None:
            left, top, width, height = self.film.box(picture.width, picture.height)
            inside = np.s_[top : top + height, left : left + width]
            pixels, alpha = pixels[inside], None if alpha is None else alpha[inside]
        made = np.empty(pixels.shape, np.uint16)
        for c, shown in enumerate(self.table(picture.full_scale, picture.space)):
            made[..., c] = np.rint(shown * 65535).astype(np.uint16)[pixels[..., c]]
        if self.film is not None and self.film.kind == "grey":
            made[...] = np.rint(made.mean(2)).astype(np.uint16)[..., None]
        return Picture(made, None if alpha is None else deep(alpha), picture.space)


def read_development(path: Path) -> Development:
    """A development from a JSON file.

    Raises
    ------
    InputError
        It is missing, damaged, or a value is none.
    """
    told = read_json(path)
    if not isinstance(told, dict) or told.get("schema", SCHEMA) != SCHEMA:
        raise InputError("Is no development of frames", where=str(path), remedy=f'Begin it with "schema": "{SCHEMA}"')
    unknown = set(told) - {"schema", *LIMITS, "white_balance", "clipped", "film"}
    if unknown:
        raise InputError(
            f"Has the unknown value {sorted(unknown)[0]}",
            where=str(path),
            remedy=f"Known are {', '.join(LIMITS)}, white_balance, clipped, film",
        )
    values: dict[str, Any] = {}
    for name, (low, high) in LIMITS.items():
        if name in told:
            values[name] = _number(path, name, told[name], low, high)
    if "white_balance" in told:
        gains = told["white_balance"]
        if not isinstance(gains, list) or len(gains) != 3:
            raise InputError("white_balance has no three factors", where=str(path), remedy="Give [red, green, blue]")
        values["white_balance"] = tuple(_number(path, "white_balance", g, *_BALANCE) for g in gains)
    if "clipped" in told:
        if told["clipped"] not in ("clip", "blend", "rebuild"):
            raise InputError("clipped is none of clip, blend, rebuild", where=str(path), remedy="Choose one of them")
        values["clipped"] = told["clipped"]
    if told.get("film") is not None:
        values["film"] = film_from(told["film"], str(path))
    return Development(**values)


def _number(path: Path, name: str, value: object, low: float, high: float) -> float:
    if isinstance(value, bool) or not isinstance(value, (int, float)) or not low <= value <= high:
        raise InputError(f"{name} is no number from {low:g} to {high:g}", where=str(path), remedy="Mend it there")
    return float(value)
