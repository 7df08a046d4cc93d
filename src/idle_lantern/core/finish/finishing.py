"""A recipe bound to a picture: the finished picture, tile by tile, the same from the preview to the file."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from typing import Literal

import msgspec
import numpy as np

from idle_lantern.core.base.arrays import Array, Float32Image
from idle_lantern.core.finish.once import once
from idle_lantern.core.finish.recipe import Recipe
from idle_lantern.core.finish.step import Apply, Step, Whole
from idle_lantern.core.finish.tile_look import Form, Ground, TileLook
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.operations import OperatedPicture, Operation, TilePlace
from idle_lantern.core.pictures.source import PictureSource, reduced

#: Steps that look at all of the picture see it with so many pixels on its longer side.
WHOLE_PX = 1024


def finished(source: PictureSource, recipe: Recipe, ground: Ground) -> PictureSource:
    """The picture as the recipe makes it; the very same one where the recipe changes nothing.

    Raises
    ------
    InputError
        A mask cannot be used with this picture.
    """
    check(recipe, ground)
    steps = recipe.working
    return OperatedPicture(source, [Finish(steps, source, ground)]) if steps else source


def check(recipe: Recipe, ground: Ground) -> None:
    """Say before the work starts whether a recipe can be used with a picture; raises InputError."""
    for step in recipe.working:
        if step.mask is not None:
            step.mask.check(ground)


class Finish(Operation):
    """Steps one after the other on a tile, from one form of values to the next without rounding."""

    name = "finish"

    def __init__(self, steps: Sequence[Step], source: PictureSource, ground: Ground) -> None:
        self._steps, self._source, self._ground = tuple(steps), source, ground
        self._given: Form = "linear" if source.space.is_linear else "display"
        #: What the operation is given: values of light come as light.
        self.works_in: Literal["display", "linear"] = "linear" if source.space.is_linear else "display"  # type: ignore[misc]
        self._applied: list[tuple[Step, Apply]] = []
        for at, step in enumerate(self._steps):
            self._applied.append((step, step.bound(ground, once(lambda at=at: self._whole_before(at)))))  # type: ignore[misc]

    @property
    def halo_px(self) -> float:
        """As of ``Operation``."""
        return sum(step.halo_px for step in self._steps)

    @property
    def key(self) -> str:
        """As of ``Operation``."""
        return hashlib.sha256(msgspec.json.encode(self._steps)).hexdigest()

    def touches(self, at: TilePlace) -> bool:
        """As of ``Operation``."""
        return bool(self._steps)

    def apply(self, tile: Float32Image, at: TilePlace) -> Float32Image:
        """As of ``Operation``."""
        look = self._run(tile, at, len(self._applied))
        values = self._ground.changed(look.values, look.form, self._given)
        return np.dstack([values, tile[..., 3:]])

    def _run(self, tile: Float32Image, at: TilePlace, count: int) -> TileLook:
        """The values after the first ``count`` steps."""
        look = TileLook(self._ground, at, tile[..., 3], np.ascontiguousarray(tile[..., :3]), self._given)
        for step, apply in self._applied[:count]:
            if step.mask is None:
                look.go_on(apply(look.seen(step.form), look), step.form)
                continue
            strength = step.mask.strength(look)
            if not strength.any():
                continue
            before = look.seen("display")
            made = self._ground.changed(apply(look.seen(step.form), look), step.form, "display")
            look.go_on(before + strength[..., None] * (made - before), "display")
        return look

    def _whole_before(self, count: int) -> Whole:
        """The reduced picture as it is before the step of that number, in the form of that step."""
        pixels = reduced(self._source, WHOLE_PX)
        full = np.float32(1 if pixels.dtype.kind == "f" else np.iinfo(pixels.dtype).max)
        tile = np.ones((*pixels.shape[:2], 4), np.float32)
        tile[..., : pixels.shape[2]] = pixels / full
        h, w = tile.shape[:2]
        look = self._run(tile, TilePlace(Rectangle(0, 0, w, h), (w, h), self._source.sizes[0]), count)
        return Whole(look.seen(self._steps[count].form), tile[..., 3])


def histogram(source: PictureSource, bins: int = 128) -> Array:
    """How often each display value is shown, by colour, (3, bins) shares of the reduced picture; the first and last hold what is cut."""
    pixels = reduced(source, WHOLE_PX)
    values = pixels[..., :3].reshape(-1, 3)
    if source.space.is_linear:
        values = source.space.up_to(1.0).from_linear(np.clip(values, 0, 1))
    if pixels.dtype.kind != "f":
        values = values / np.iinfo(pixels.dtype).max
    if pixels.shape[2] == 4:
        values = values[pixels[..., 3].ravel() > 0]
    counted = [np.histogram(values[:, c], bins, (0, 1))[0] for c in range(3)]
    return np.asarray(counted) / max(1, len(values))
