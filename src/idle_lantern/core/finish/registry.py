"""All steps there are: every module of ``steps`` is one."""

from __future__ import annotations

import importlib
import pkgutil
from typing import TYPE_CHECKING, Union

from idle_lantern.core.finish import steps
from idle_lantern.core.finish.step import Step


def _found() -> tuple[type[Step], ...]:
    for module in pkgutil.iter_modules(steps.__path__):
        importlib.import_module(f"{steps.__name__}.{module.name}")
    return tuple(sorted(Step.__subclasses__(), key=lambda kind: kind.order))


#: In the order in which they usually stand.
STEPS: tuple[type[Step], ...] = _found()

if TYPE_CHECKING:
    AnyStep = Step
else:
    #: Any of them, as the reader of recipes and documents takes it.
    AnyStep = Union[STEPS]  # noqa: UP007  # made of what was found


def name_of(kind: type[Step]) -> str:
    """What a recipe calls a step."""
    return str(kind.__struct_config__.tag)


def step_named(name: str) -> type[Step]:
    """The step that a recipe calls so; raises KeyError."""
    return {name_of(kind): kind for kind in STEPS}[name]
