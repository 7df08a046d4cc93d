"""A recipe bound to a picture: the finished picture, tile by tile, the same from the preview to the file."""

from __future__ import annotations

import contextlib
import hashlib
import itertools
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from threading import Lock
from typing import Any, Literal

import msgspec
import numpy as np
from cachetools import LRUCache

from idle_lantern.core.base.arrays import Array, Float32Image
from idle_lantern.core.finish.once import once
from idle_lantern.core.finish.recipe import Recipe
from idle_lantern.core.finish.step import Apply, Step, Whole
from idle_lantern.core.finish.tile_look import STRIP, Form, Ground, TileLook, for_each_colour
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.operations import OperatedPicture, Operation, TilePlace
from idle_lantern.core.pictures.source import PictureSource, reduced

#: Steps that look at all of the picture see it with so many pixels on its longer side.
WHOLE_PX = 1024
#: Whole pictures, reduced, that are kept.
_WHOLES = 4
#: Values within a half of an 8-bit level of an end are cut.
CUT = 0.5 / 255


def finished(source: PictureSource, recipe: Recipe, ground: Ground) -> PictureSource:
    """The picture as the recipe makes it; the very same one where the recipe changes nothing.

    Raises
    ------
    InputError
        A mask cannot be used with this picture.
    """
    check(recipe, ground)
    steps, begun = recipe.working, begun_on(source, recipe, ground)
    return OperatedPicture(begun, [Finish(steps, begun, ground)]) if steps else source


def begun_on(source: PictureSource, recipe: Recipe, ground: Ground) -> PictureSource:
    """The joined picture as the steps of a recipe begin on it; raises InputError where they cannot."""
    for step in recipe.working:
        source = step.begun_on(source, ground)
    return source


def check(recipe: Recipe, ground: Ground) -> None:
    """Say before the work starts whether a recipe can be used with a picture; raises InputError."""
    for step in recipe.working:
        step.check(ground)


class KeptLooks:
    """What need not be done again while the figures of one step change: tiles and the whole picture as they are before it, and the
    picture as the steps begin on it. All of one joined picture."""

    def __init__(self, most_bytes: int) -> None:
        self._begun: tuple[bytes, PictureSource] | None = None
        self._wholes: LRUCache[bytes, Whole] = LRUCache(_WHOLES)
        self._kept: LRUCache[tuple[bytes, TilePlace], tuple[Float32Image, Form]] = LRUCache(
            most_bytes, getsizeof=lambda kept: kept[0].nbytes
        )
        self._lock = Lock()

    def get(self, key: tuple[bytes, TilePlace]) -> tuple[Float32Image, Form] | None:
        """Values (h, w, 3) and their form, where they are kept."""
        with self._lock:
            return self._kept.get(key)

    def begun_on(self, source: PictureSource, recipe: Recipe, ground: Ground) -> PictureSource:
        """As ``begun_on``, made anew only where its steps changed."""
        key = _key_of_beginning(recipe.working)
        if self._begun is None or self._begun[0] != key:
            self._begun = key, begun_on(source, recipe, ground)
        return self._begun[1]

    def whole(self, key: bytes, make: Callable[[], Whole]) -> Whole:
        """The whole picture before some steps."""
        with self._lock:
            known = self._wholes.get(key)
        if known is None:
            known = make()
            with self._lock:
                self._wholes[key] = known
        return known

    def put(self, key: tuple[bytes, TilePlace], values: Float32Image, form: Form) -> None:
        """Keep them, as long as there is room."""
        with self._lock, contextlib.suppress(ValueError):  # a tile larger than all the room
            self._kept[key] = values, form


class Finish(Operation):
    """Steps one after the other on a tile, from one form of values to the next without rounding.

    ``kept`` holds tiles before the step ``held``, of this picture and the same steps before it.
    """

    name = "finish"

    def __init__(
        self,
        steps: Sequence[Step],
        source: PictureSource,
        ground: Ground,
        *,
        kept: KeptLooks | None = None,
        held: int = 0,
    ) -> None:
        self._steps, self._source, self._ground = tuple(steps), source, ground
        self._kept, self._held = kept, min(held, len(self._steps))
        self._before = self._key(self._held)
        self._given: Form = "linear" if source.space.is_linear else "display"
        #: What the operation is given: values of light come as light.
        self.works_in: Literal["display", "linear"] = "linear" if source.space.is_linear else "display"  # type: ignore[misc]
        self._applied: list[tuple[Step, Apply]] = []
        for at, step in enumerate(self._steps):
            self._applied.append((step, step.bound(ground, once(lambda at=at: self._whole_before(at)))))  # type: ignore[misc]

    def __reduce__(self) -> tuple[Any, ...]:
        # what is kept stays in this process
        return Finish, (self._steps, self._source, self._ground)

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
        colours, alpha = self.apply_parts(np.ascontiguousarray(tile[..., :3]), np.ascontiguousarray(tile[..., 3]), at)
        return np.dstack([colours, alpha])

    def apply_parts(
        self, colours: Float32Image, alpha: Float32Image, at: TilePlace
    ) -> tuple[Float32Image, Float32Image]:
        """As of ``Operation``."""
        look = self._run(colours, alpha, at, len(self._applied))
        return self._ground.changed(look.values, look.form, self._given), alpha

    def _run(self, colours: Float32Image, alpha: Float32Image, at: TilePlace, count: int) -> TileLook:
        """The values after the first ``count`` steps."""
        look = TileLook(self._ground, at, alpha, colours, self._given)
        if self._kept is None or not 0 < self._held <= count:
            self._go(look, self._applied[:count])
            return look
        known = self._kept.get((self._before, at))
        if known is None:
            self._go(look, self._applied[: self._held])
            self._kept.put((self._before, at), look.values, look.form)
        else:
            look.go_on(*known)
        self._go(look, self._applied[self._held : count])
        return look

    def _go(self, look: TileLook, applied: Sequence[tuple[Step, Apply]]) -> None:
        for pointwise, group in itertools.groupby(applied, lambda pair: pair[0].halo_px == 0):
            if pointwise:
                self._in_strips(look, list(group))
            else:
                for step, apply in group:
                    self._do(look, step, apply, None if step.mask is None else step.mask.strength(look))

    def _in_strips(self, look: TileLook, applied: Sequence[tuple[Step, Apply]]) -> None:
        """Steps that look at a pixel alone, a few rows at a time."""
        masked = [(step, apply, _strength_of_place(step, look)) for step, apply in applied]
        masked = [(step, apply, share) for step, apply, share in masked if share is None or share.any()]
        if not masked:
            return
        last = masked[-1][0]
        form: Form = last.form if last.mask is None else "display"
        made, box = np.empty_like(look.values), look.at.box
        for top in range(0, box.height, STRIP):
            rows = slice(top, min(top + STRIP, box.height))
            at = replace(look.at, box=Rectangle(box.left, box.top + top, box.width, rows.stop - top))
            strip = TileLook(self._ground, at, look.alpha[rows], look.values[rows], look.form)
            for step, apply, share in masked:
                if step.mask is not None:
                    share = step.mask.strength(strip) if share is None else share[rows]
                self._do(strip, step, apply, share)
            made[rows] = self._ground.changed(strip.values, strip.form, form)
        look.go_on(made, form)

    def _do(self, look: TileLook, step: Step, apply: Apply, share: Array | None) -> None:
        """One step, as far as its mask lets it."""
        if share is None or share.min() >= 1:
            look.go_on(apply(look.seen(step.form), look), step.form)
        elif share.any():
            before = look.seen("display")
            made = self._ground.changed(apply(look.seen(step.form), look), step.form, "display") - before
            made *= for_each_colour(share)
            made += before
            look.go_on(made, "display")

    def _key(self, count: int) -> bytes:
        """All that decides what stands after the first steps."""
        return _key_of_beginning(self._steps) + msgspec.json.encode(self._steps[:count])

    def _whole_before(self, count: int) -> Whole:
        """The reduced picture as it is before the step of that number, in the form of that step."""
        if self._kept is None:
            return self._whole_made(count)
        return self._kept.whole(self._key(count) + self._steps[count].form.encode(), lambda: self._whole_made(count))

    def whole(self, form: Form) -> Whole:
        """The reduced picture after all steps, in a form of choice, cut nowhere."""
        return self._whole_after(len(self._steps), form)

    def _whole_made(self, count: int) -> Whole:
        """The reduced picture before the step of that number, in its form."""
        return self._whole_after(count, self._steps[count].form)

    def _whole_after(self, count: int, form: Form) -> Whole:
        pixels = reduced(self._source, WHOLE_PX)
        full = np.float32(1 if pixels.dtype.kind == "f" else np.iinfo(pixels.dtype).max)
        colours = (pixels[..., :3] / full).astype(np.float32)
        alpha = (
            (pixels[..., 3] / full).astype(np.float32)
            if pixels.shape[2] == 4
            else np.ones(pixels.shape[:2], np.float32)
        )
        h, w = alpha.shape
        look = self._run(colours, alpha, TilePlace(Rectangle(0, 0, w, h), (w, h), self._source.sizes[0]), count)
        return Whole(look.seen(form), alpha)


def _key_of_beginning(steps: Sequence[Step]) -> bytes:
    """All that decides how the steps begin."""
    return msgspec.json.encode([step for step in steps if type(step).begun_on is not Step.begun_on])


def _strength_of_place(step: Step, look: TileLook) -> Array | None:
    """The strength of a mask that asks for the place alone, over all of a tile; None for others."""
    return step.mask.strength(look) if step.mask is not None and step.mask.of_place else None


@dataclass(frozen=True)
class Tones:
    """How often each display value is shown by colour, (3, bins) as shares; and the shares that are cut to white and to black."""

    shares: Array
    white: float
    black: float


def tones(source: PictureSource, bins: int = 128) -> Tones:
    """Of all of a picture, reduced."""
    pixels = reduced(source, WHOLE_PX)
    values = pixels[..., :3].reshape(-1, 3)
    if source.space.is_linear:
        values = source.space.up_to(1.0).from_linear(np.clip(values, 0, 1))
    if pixels.dtype.kind != "f":
        values = values / np.iinfo(pixels.dtype).max
    if pixels.shape[2] == 4:
        values = values[pixels[..., 3].ravel() > 0]
    if not len(values):
        return Tones(np.zeros((3, bins)), 0.0, 0.0)
    counted = np.asarray([np.histogram(values[:, c], bins, (0, 1))[0] for c in range(3)]) / len(values)
    most = values.max(1)
    return Tones(counted, float((most >= 1 - CUT).mean()), float((most <= CUT).mean()))
