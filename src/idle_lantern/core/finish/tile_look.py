"""What steps and masks may ask of a tile: where it lies, where it looks, what is seen there."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Literal

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array, Float32Image
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.colour.oklab import from_oklab, to_oklab
from idle_lantern.core.colour.space import SRGB, ColourSpace
from idle_lantern.core.pictures.directions import CanvasDirections
from idle_lantern.core.pictures.operations import TilePlace

#: Values of a picture: as they are shown, as light, or as Oklab's lightness and colour. None is cut at 0 or 1.
Form = Literal["display", "linear", "oklab"]
#: Directions are asked of the canvas for every so many pixels, and lie straight between.
_GRID_PX = 16
#: Rows that are done at once: what stays in the processor's own memory costs a third.
STRIP = 32


def no_assets(name: str) -> Path:
    """Where nothing lies beside a recipe.

    Raises
    ------
    InputError
        Always.
    """
    raise InputError("is named by a mask and lies nowhere", where=name, remedy="Put it beside the recipe")


@dataclass(frozen=True)
class Ground:
    """What is known of the whole picture: its space, its full size in pixels, where it looks, and where its masks lie."""

    space: ColourSpace
    size: tuple[int, int]
    canvas: CanvasDirections | None = None
    assets: Callable[[str], Path] = no_assets

    @property
    def direction_canvas(self) -> CanvasDirections:
        """The canvas.

        Raises
        ------
        InputError
            Nobody told where this picture looks.
        """
        if self.canvas is None:
            raise InputError(
                "What works in directions needs the report of the join",
                remedy="Give --report REPORT.json, or leave the mask away",
            )
        return self.canvas

    def changed(self, values: Float32Image, have: Form, want: Form) -> Float32Image:
        """Values (h, w, 3) in another form."""
        if have == want:
            return values
        if len(values) <= STRIP:
            return self._changed(values, have, want)
        made = np.empty(values.shape, np.float32)
        for top in range(0, len(values), STRIP):
            made[top : top + STRIP] = self._changed(values[top : top + STRIP], have, want)
        return made

    def _changed(self, values: Float32Image, have: Form, want: Form) -> Float32Image:
        if have == "display":
            values = self._light(values)
        elif have == "oklab":
            values = from_oklab(values, self.space)
        if want == "display":
            return self._shown(values)
        return values if want == "linear" else to_oklab(values, self.space)

    def brightness(self, light: Float32Image) -> Float32Image:
        """The display value of the luminance of linear light (h, w, 3), (h, w)."""
        luminance = luminance_of(light, self.space)
        if self.space.transfer.by_colour:
            return self._shown(luminance[..., None].repeat(3, -1))[..., 0]
        return self._shown(luminance)

    # a picture of light is shown by the curve of sRGB; below black a curve goes on as it does above

    def _light(self, shown: Float32Image) -> Float32Image:
        return (SRGB if self.space.is_linear else self.space).transfer.signed_to_linear(shown)

    def _shown(self, light: Float32Image) -> Float32Image:
        return (SRGB if self.space.is_linear else self.space).transfer.signed_from_linear(light)


def for_each_colour(share: Array) -> Array:
    """A value a pixel (h, w) three times, (h, w, 3): numpy multiplies colours by one value each at ten times the cost."""
    return np.asarray(cv2.merge((share, share, share)))


def luminance_of(light: Float32Image, space: ColourSpace) -> Float32Image:
    """Luminance (h, w) of linear light (h, w, 3)."""
    return np.asarray(cv2.transform(np.ascontiguousarray(light), space.luminance.astype(np.float32)[None]))


@dataclass
class TileLook:
    """A tile on its way through the steps.

    Attributes
    ----------
    ground : of the picture
    at : where the tile lies
    alpha : (h, w), 0 to 1
    values, form : (h, w, 3) as they are before the step that asks
    """

    ground: Ground
    at: TilePlace
    alpha: Array
    values: Float32Image
    form: Form = "display"
    _other: dict[Form, Float32Image] = field(default_factory=dict)

    def seen(self, form: Form) -> Float32Image:
        """The values before the step, in a form of choice."""
        if form not in self._other:
            self._other[form] = self.ground.changed(self.values, self.form, form)
        return self._other[form]

    def go_on(self, values: Float32Image, form: Form) -> None:
        """Take what a step made."""
        self.values, self.form, self._other = values, form, {}

    @cached_property
    def directions(self) -> Array:
        """Directions of the pixels, (3, h, w) float32 of x, y down and z, of length 1 within 1e-4; NaN where the canvas has none.

        Raises
        ------
        InputError
            Nobody told where this picture looks.
        """
        canvas, box, (fx, fy) = self.ground.direction_canvas, self.at.box, self.at.scale
        columns, across = grid_nodes(box.left, box.width, self.at.size[0])
        rows, down = grid_nodes(box.top, box.height, self.at.size[1])
        x, y = (columns + 0.5) * fx - 0.5, (rows + 0.5) * fy - 0.5
        grid = np.asarray(canvas.directions(np.stack(np.meshgrid(x, y), -1)), np.float32)
        return np.stack([down @ grid[..., k] @ across.T for k in range(3)])

    @cached_property
    def angles_deg(self) -> tuple[Array, Array]:
        """Azimuth and altitude of the pixels, (h, w) each; NaN where there are none."""
        x, y, z = self.directions
        turn = np.float32(180 / math.pi)
        return np.arctan2(x, z) * turn, np.arctan2(-y, np.sqrt(x * x + z * z)) * turn


def grid_nodes(first: int, length: int, whole: int) -> tuple[Array, Array]:
    """Places (n,) along a side of ``whole`` pixels at which directions are asked for pixels from ``first`` on, and weights (length, n).

    They are the same places for all tiles, so that tiles of any size agree.
    """
    last = first + length - 1
    at = np.arange(first // _GRID_PX, last // _GRID_PX + 2) * float(_GRID_PX)
    at = np.clip(at, min(0, first), max(whole - 1, last))
    place = np.arange(first, last + 1)
    low = np.clip(np.searchsorted(at, place, side="right") - 1, 0, len(at) - 2)
    share = ((place - at[low]) / np.maximum(at[low + 1] - at[low], 1e-9)).astype(np.float32)
    weights = np.zeros((length, len(at)), np.float32)
    weights[np.arange(length), low] = 1 - share
    weights[np.arange(length), low + 1] = share
    return at, weights
