"""Files that a recipe names, pictures of masks and retouched ones: they lie beside it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.finish.recipe import Recipe

#: Where a file lies, by what the recipe calls it.
RecipeFile = Callable[[str], Path]


def files_beside(recipe: Path) -> RecipeFile:
    """They lie in the folder of the recipe, or below it."""
    folder = recipe.resolve().parent

    def file(name: str) -> Path:
        path = (folder / name).resolve()
        if not path.is_relative_to(folder):
            raise InputError("lies outside the folder of the recipe", where=name, remedy="Put it beside the recipe")
        return path

    return file


def named_files(recipe: Recipe) -> tuple[str, ...]:
    """What the files of a recipe are called, each once."""
    return tuple(dict.fromkeys(name for step in recipe.steps for name in step.files))


def paths_of(recipe: Recipe, file: RecipeFile) -> list[Path]:
    """Where they lie."""
    return [file(name) for name in named_files(recipe)]
