"""Edits of a recipe: steps added, taken away, switched, moved, changed. No Qt."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from msgspec import structs

from idle_lantern.core.base.figures import figures
from idle_lantern.core.finish.recipe import Recipe
from idle_lantern.core.finish.registry import step_named
from idle_lantern.core.finish.step import Step
from idle_lantern.core.outing import edits
from idle_lantern.core.outing.edits import Edit
from idle_lantern.core.outing.model import Outing


def added(outing: Outing, name: str, after: int | None) -> tuple[Edit, int]:
    """The edit that adds a step, and where it will stand: where it usually does among those there, unless the recipe has another order."""
    kind = step_named(name)
    steps = outing.finish.steps
    orders = [type(step).order for step in steps]
    if orders == sorted(orders):
        at = sum(order <= kind.order for order in orders)
    else:
        at = len(steps) if after is None else after + 1
    return steps_changed(f"Add {kind.title.lower()}", lambda s: (*s[:at], kind(), *s[at:])), at


def advised(outing: Outing, title: str, step: Step) -> tuple[Edit, int]:
    """The edit that takes a proposed step, in the place of one of its kind with the same mask, or else where it usually stands; and where."""
    steps = outing.finish.steps
    for at, present in enumerate(steps):
        if type(present) is type(step) and present.on and present.mask == step.mask:
            return step_replaced(title, at, step), at
    at = sum(type(s).order <= type(step).order for s in steps)
    return steps_changed(title, lambda s: (*s[:at], step, *s[at:])), at


def removed(outing: Outing, at: int) -> Edit:
    """The edit that takes a step away."""
    return steps_changed(f"Remove {title_of(outing, at)}", lambda s: (*s[:at], *s[at + 1 :]))


def switched(outing: Outing, at: int) -> Edit:
    """The edit that switches a step off, or on again."""
    step = outing.finish.steps[at]
    word = "off" if step.on else "on"
    return step_replaced(f"Switch {title_of(outing, at)} {word}", at, structs.replace(step, on=not step.on))


def moved(outing: Outing, at: int, by: int) -> Edit:
    """The edit that lets a step change places with the one before or after it."""

    def change(steps: tuple[Step, ...]) -> Sequence[Step]:
        made = list(steps)
        made.insert(at + by, made.pop(at))
        return made

    return steps_changed(f"Move {title_of(outing, at)} {'earlier' if by < 0 else 'later'}", change)


def set_step(outing: Outing, at: int, step: Step, key: str) -> Edit:
    """The edit that gives a step another figure; a row of such edits counts as one."""
    title = next((f.title for f in figures(type(step)) if f.name == key), type(step).title)
    return step_replaced(title, at, step, f"finish {at} {key}")


def plain(outing: Outing, at: int) -> Edit:
    """The edit that brings a step's figures back to where they begin; its mask stays."""
    step = outing.finish.steps[at]
    made = step if step.needs_file else type(step)(on=step.on, mask=step.mask)
    return step_replaced(f"Reset {title_of(outing, at)}", at, made)


def all_taken(title: str, recipe: Recipe) -> Edit:
    """The edit that takes over a whole recipe."""
    return steps_changed(title, lambda _s: recipe.steps)


def title_of(outing: Outing, at: int) -> str:
    """A step in the middle of a sentence."""
    return type(outing.finish.steps[at]).title.lower()


def steps_changed(title: str, change: Callable[[tuple[Step, ...]], Sequence[Step]], merge: str = "") -> Edit:
    """The edit that changes the steps of a recipe; edits of the same ``merge`` count as one."""
    return edits.finish_by(title, change, merge=merge)


def step_replaced(title: str, at: int, step: Step, merge: str = "") -> Edit:
    """The edit that lets another step stand in the place of one."""
    return steps_changed(title, lambda s: (*s[:at], step, *s[at + 1 :]), merge)
