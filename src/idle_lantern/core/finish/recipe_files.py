"""Files that a recipe names: pictures of its masks, which lie beside it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.finish.masks import Joined, Mask, Picture
from idle_lantern.core.finish.recipe import Recipe

#: Where the picture of a mask lies, by what the recipe calls it.
MaskFile = Callable[[str], Path]


def masks_beside(recipe: Path) -> MaskFile:
    """Masks lie in the folder of the recipe, or below it."""
    folder = recipe.resolve().parent

    def file(name: str) -> Path:
        path = (folder / name).resolve()
        if not path.is_relative_to(folder):
            raise InputError(
                "lies outside the folder of the recipe", where=name, remedy="Put the mask beside the recipe"
            )
        return path

    return file


def mask_pictures(recipe: Recipe) -> tuple[str, ...]:
    """What the pictures of a recipe's masks are called, each once."""
    named = (name for step in recipe.steps if step.mask is not None for name in _named(step.mask))
    return tuple(dict.fromkeys(named))


def mask_files(recipe: Recipe, file: MaskFile) -> list[Path]:
    """Where they lie."""
    return [file(name) for name in mask_pictures(recipe)]


def _named(mask: Mask) -> Iterator[str]:
    if isinstance(mask, Picture):
        yield mask.asset
    elif isinstance(mask, Joined):
        for part in mask.of:
            yield from _named(part)
