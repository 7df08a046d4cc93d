"""Spaces of red, green and blue: primaries, white point and transfer curve."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import lru_cache
from typing import Any, Literal

import numpy as np

from idle_lantern.core.base.arrays import Array

#: CIE 1931 chromaticities of red, green, blue and white: (x, y) each.
Chromaticities = tuple[tuple[float, float], tuple[float, float], tuple[float, float], tuple[float, float]]

#: CIE standard illuminant D65, as IEC 61966-2-1 rounds it.
D65 = (0.3127, 0.3290)


@dataclass(frozen=True)
class Transfer:
    """From display values to linear light, both 0 to 1 and beyond.

    Attributes
    ----------
    kind : the curve of sRGB (IEC 61966-2-1), none at all, a power, or samples
    power : of ``power``
    samples : three rows (red, green, blue) of linear light at display values evenly spread from 0 to 1, of ``sampled``
    white : the light that full display white stands for
        Beyond 1 light is compressed for each colour by ``x (1 + x / w^2) / (1 + x)`` (Reinhard and others 2002, equation 4), scaled
        so that middle grey stays what it is, before the curve is applied: how merged brackets are shown.
    """

    kind: Literal["srgb", "linear", "power", "sampled"] = "srgb"
    power: float = 1.0
    samples: tuple[tuple[float, ...], ...] = field(default=(), repr=False)
    white: float = 1.0

    def to_linear(self, shown: Array) -> Array:
        """Linear light of display values (..., 3) or, where the colours share a curve, of any shape; same dtype."""
        shown = np.asarray(shown)
        y = self._base_to_linear(shown)
        if self.white <= 1:
            return y
        w2, lift = np.asarray([(self.white * self._lift) ** 2, self._lift], shown.dtype)
        # the positive root of x^2 / w^2 + (1 - y) x - y = 0
        return np.asarray(w2 / 2 * (np.sqrt((1 - y) ** 2 + 4 * y / w2) - (1 - y)) / lift)

    def signed_to_linear(self, shown: Array) -> Array:
        """As ``to_linear`` (..., 3), below nought as above it."""
        return self._signed(self.to_linear, np.asarray(shown), 12.92 * _MEET)

    def signed_from_linear(self, linear: Array) -> Array:
        """As ``from_linear`` (..., 3), but nothing is cut: below nought as above it."""
        return self._signed(self._from_light, np.asarray(linear), _MEET)

    def _signed(self, curve: Callable[[Array], Array], values: Array, straight: float) -> Array:
        """A curve that is ``straight`` so far about nought where it is that of sRGB; where nothing is below that costs nothing."""
        least = values.min() if values.size else 0
        if least >= 0 or (self.kind == "srgb" and self.white <= 1 and least > -straight):
            return curve(values)
        return np.copysign(curve(np.abs(values)), values)

    def from_linear(self, linear: Array) -> Array:
        """Display values of linear light; what is below 0 is cut. Any shape (..., 3); shapes and dtype as of ``to_linear``."""
        x = np.asarray(linear)
        return self._from_light(np.maximum(x, 0) if x.size and x.min() < 0 else x)

    def _from_light(self, x: Array) -> Array:
        if self.white > 1:
            white, lift = np.asarray([self.white, self._lift], x.dtype)
            x = np.minimum(x, white) * lift
            x = x * (1 + x / (white * lift) ** 2) / (1 + x)
        return self._base_from_linear(x)

    @property
    def _lift(self) -> float:
        """What keeps middle grey (0.18) in place under ``white``."""
        g, w = 0.18, self.white
        # k g (1 + g / (k w^2)) / (1 + k g) = g, solved for k
        return (1 - g / w**2) / (1 - g)

    def _base_to_linear(self, shown: Array) -> Array:
        if self.kind == "srgb":
            return _pieced(shown, 12.92 * _MEET, 1 / 12.92, _srgb_light)
        if self.kind == "power":
            return np.asarray(np.maximum(shown, 0) ** self.power, shown.dtype)
        if self.kind == "sampled":
            return self._looked_up(shown, lambda grid, row, values: np.interp(values, grid, row))
        return shown

    def _base_from_linear(self, x: Array) -> Array:
        if self.kind == "srgb":
            return _pieced(x, _MEET, 12.92, _srgb_shown)
        if self.kind == "power":
            return np.asarray(x ** (1 / self.power), x.dtype)
        if self.kind == "sampled":
            return self._looked_up(x, lambda grid, row, values: np.interp(values, row, grid))
        return x

    def _looked_up(self, values: Array, look_up: Any) -> Array:
        rows = np.asarray(self.samples)
        grid = np.linspace(0, 1, rows.shape[1])
        if values.ndim == 0 or values.shape[-1] != 3 or not self.by_colour:
            return np.asarray(look_up(grid, rows[1], values), values.dtype)
        made = [look_up(grid, row, values[..., c]) for c, row in enumerate(rows)]
        return np.stack(made, -1).astype(values.dtype)

    @property
    def by_colour(self) -> bool:
        """Whether red, green and blue have curves of their own."""
        return len(set(self.samples)) > 1


#: The light at which both parts of the curve of sRGB meet; the standard rounds it to 0.0031308.
_MEET = 0.003130668442443587


def _pieced(values: Array, to: float, slope: float, curve: Callable[[Array], Array]) -> Array:
    """A curve that is straight up to a value, of the same dtype: beyond it the curve alone moves, below it the straight part alone. No value
    is chosen one by one, which costs more than both; nought stays nought. ``curve`` may write into what it is given."""
    least = values.min() if values.size else to
    if least >= to:
        return np.asarray(curve(np.array(values)))
    # clipping to two limits takes half the time of the greater of two
    bent = np.clip(values, np.array(to, values.dtype), np.array(np.inf, values.dtype))
    below = np.asarray(values - bent)
    below *= np.asarray(slope, values.dtype)
    made = np.asarray(curve(bent))
    made += below
    if least <= 0:
        np.copyto(made, 0, where=values == 0)
    return made


def _srgb_light(shown: Array) -> Array:
    shown += 0.055
    shown /= 1.055
    shown **= 2.4
    return shown


def _srgb_shown(light: Array) -> Array:
    # the root of 2.4 is 5 twelfths: a cube root and a fourth root of that, which take half the time of a power
    root = np.cbrt(light)
    light = np.sqrt(np.sqrt(root))
    light *= root
    light *= 1.055
    light -= 0.055
    return light


@dataclass(frozen=True)
class ColourSpace:
    """What the numbers of a picture mean.

    Spaces are the same where primaries and curve are: many devices' profiles differ by name only.

    Attributes
    ----------
    name : as people call it
    chromaticities : of red, green, blue and white, not adapted to another white
    transfer : from display values to linear light
    icc : the profile that a file told it by, None where no profile told it
    """

    name: str = field(default="sRGB", compare=False)
    chromaticities: Chromaticities = ((0.64, 0.33), (0.30, 0.60), (0.15, 0.06), D65)
    transfer: Transfer = field(default_factory=Transfer)
    icc: bytes | None = field(default=None, compare=False, repr=False)

    def to_linear(self, shown: Array) -> Array:
        """Linear light of display values (..., 3); as ``Transfer.to_linear``."""
        return self.transfer.to_linear(shown)

    def from_linear(self, linear: Array) -> Array:
        """Display values of linear light (..., 3); as ``Transfer.from_linear``."""
        return self.transfer.from_linear(linear)

    @property
    def is_linear(self) -> bool:
        """Whether its values are light itself."""
        return self.transfer.kind == "linear"

    @property
    def in_light(self) -> ColourSpace:
        """Linear light in the same primaries."""
        return self if self.is_linear else replace(self, name=f"{self.name}, linear", transfer=LINEAR, icc=None)

    def up_to(self, white: float) -> ColourSpace:
        """The same with display white standing for so much light."""
        return replace(self, transfer=replace(self.transfer, white=white))

    @property
    def luminance(self) -> Array:
        """How much red, green and blue light weigh in luminance, (3,), sum 1."""
        return np.asarray(rgb_to_xyz(self.chromaticities)[1])

    def light_table(self, full_scale: int) -> Array:
        """Linear light of each whole display value, (values, 3) float32 of ``full_scale`` + 1 values."""
        return _light_table(self.transfer, full_scale)


LINEAR = Transfer("linear")
#: IEC 61966-2-1.
SRGB = ColourSpace()
#: Primaries of SMPTE EG 432-1 under D65, with the curve of sRGB.
DISPLAY_P3 = ColourSpace("Display P3", ((0.680, 0.320), (0.265, 0.690), (0.150, 0.060), D65))


#: From XYZ to the cone responses of the linear Bradford model (ICC.1:2022, annex E).
BRADFORD = np.array([[0.8951, 0.2664, -0.1614], [-0.7502, 1.7135, 0.0367], [0.0389, -0.0685, 1.0296]])


def adaptation(white_xyz: Array, to_xyz: Array) -> Array:
    """The matrix (3, 3) that takes XYZ under one white to XYZ under another (linear Bradford; ICC.1:2022, annex E)."""
    cones = np.diag((BRADFORD @ to_xyz) / (BRADFORD @ white_xyz))
    return np.asarray(np.linalg.inv(BRADFORD) @ cones @ BRADFORD)


def light_matrix(source: ColourSpace, target: ColourSpace) -> Array:
    """The matrix (3, 3) from linear light of one space to that of another, values beyond white included."""
    one, other = rgb_to_xyz(source.chromaticities), rgb_to_xyz(target.chromaticities)
    return np.asarray(np.linalg.inv(other) @ adaptation(one.sum(1), other.sum(1)) @ one)


@lru_cache(maxsize=16)
def _light_table(transfer: Transfer, full_scale: int) -> Array:
    shown = np.linspace(0, 1, full_scale + 1)[:, None].repeat(3, 1)
    table = np.asarray(transfer.to_linear(shown), np.float32)
    table.setflags(write=False)
    return table


@lru_cache(maxsize=32)
def rgb_to_xyz(chromaticities: Chromaticities) -> Array:
    """The matrix (3, 3) from linear red, green and blue to CIE XYZ under the space's own white.

    Derived as in SMPTE RP 177-1993: the columns are the primaries, scaled so that equal parts of all give the white.
    """
    x, y = np.asarray(chromaticities).T
    columns = np.stack([x / y, np.ones(4), (1 - x - y) / y])
    scale = np.linalg.solve(columns[:, :3], columns[:, 3])
    matrix: Array = columns[:, :3] * scale
    matrix.setflags(write=False)
    return matrix
