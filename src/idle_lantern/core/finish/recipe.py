"""A recipe: steps in their order, as open JSON."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Any

import msgspec
from msgspec import Meta

from idle_lantern.core.base.errors import InputError, LanternError, shortened
from idle_lantern.core.base.strict_json import read_json
from idle_lantern.core.finish.registry import STEPS, AnyStep, name_of
from idle_lantern.core.finish.step import Step

SCHEMA = "idle-lantern/recipe/1"
#: Steps of one recipe; no picture needs so many.
MOST_STEPS = 200
#: Characters of what is wrong that are told.
_MOST_TOLD = 160


class Recipe(msgspec.Struct, frozen=True):
    """What is done to a picture, in this order; values out of range are cut after the last step only."""

    steps: Annotated[tuple[AnyStep, ...], Meta(max_length=MOST_STEPS)] = ()

    @property
    def working(self) -> tuple[Step, ...]:
        """The steps that change anything."""
        return tuple(step for step in self.steps if step.on and not step.idle)


def read_recipe(path: Path) -> Recipe:
    """The recipe in a file.

    Raises
    ------
    InputError
        It is missing or damaged; tells the step and the figure.
    """
    return parsed(read_json(path, remedy="Give a recipe as JSON"), str(path))


def parsed(told: Any, where: str) -> Recipe:
    """Plain values of JSON as a recipe.

    Raises
    ------
    InputError
        A step or a figure is not known or out of its limits; tells which.
    """
    if not isinstance(told, dict) or told.get("schema", SCHEMA) != SCHEMA or not {"schema", "steps"} & set(told):
        raise InputError("Is no recipe", where=where, remedy=f'Begin it with "schema": "{SCHEMA}"')
    steps = told.get("steps", [])
    names = {name_of(kind) for kind in STEPS}
    for at, step in enumerate(steps if isinstance(steps, list) else [], 1):
        name = step.get("do") if isinstance(step, dict) else None
        if name not in names:
            called = "has no name" if not isinstance(name, str) else f"'{shortened(name, 40)}' is not known"
            raise InputError(f"Step {at} {called}", where=where, remedy=f"Known are {', '.join(sorted(names))}")
    rest = {key: value for key, value in told.items() if key != "schema"}
    unknown = set(rest) - {"steps"}
    if unknown:
        raise InputError(
            f"Has the unknown part '{shortened(sorted(unknown)[0], 40)}'",
            where=where,
            remedy="It holds schema and steps",
        )
    try:
        return msgspec.convert(rest, Recipe)
    except msgspec.ValidationError as error:
        what, _, place = str(error).partition(" - at `$")
        raise InputError(
            f"Is wrong at {_place(place, steps) or 'its top'}: {shortened(what, _MOST_TOLD)}",
            where=where,
            remedy="Mend it there",
        ) from error
    except LanternError as error:
        raise InputError(f"Holds what cannot be: {shortened(error.sentence, _MOST_TOLD)}", where=where) from error


def text_of(recipe: Recipe) -> str:
    """A recipe as JSON text."""
    told = {"schema": SCHEMA, **msgspec.to_builtins(recipe)}
    return msgspec.json.format(msgspec.json.encode(told), indent=1).decode()


def json_schema() -> dict[str, Any]:
    """The published JSON schema, made from the steps."""
    made = msgspec.json.schema(Recipe)
    recipe = made["$defs"]["Recipe"]
    recipe["properties"]["schema"] = {"const": SCHEMA}
    recipe["required"] = ["schema", *recipe["required"]]
    head = {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "A recipe of Idle Lantern"}
    result: dict[str, Any] = json.loads(json.dumps({**head, **made}))
    return result


def _place(path: str, steps: Any) -> str:
    """Where in a recipe, in words: of ``.steps[2].ev`` the third step by its name, and the figure."""
    path = path.rstrip("`")
    if not path.startswith(".steps["):
        return path.lstrip(".")
    number, _, rest = path.removeprefix(".steps[").partition("]")
    name = ""
    if number.isdecimal() and isinstance(steps, list) and int(number) < len(steps):
        name = f" ({steps[int(number)]['do']})"
    return f"step {int(number) + 1 if number.isdecimal() else number}{name}{', ' + rest.lstrip('.') if rest else ''}"
