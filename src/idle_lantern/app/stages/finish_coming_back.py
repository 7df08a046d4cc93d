"""A picture that was gone on with in another program is taken in again: chosen, told from the joined one, and laid over it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec import structs
from PyQt6.QtWidgets import QFileDialog, QWidget

from idle_lantern.app.context import AppContext
from idle_lantern.app.cropping import crop_box
from idle_lantern.app.stages import finish_model as model
from idle_lantern.app.stages.finish_edits import steps_changed
from idle_lantern.core.finish.recipe import Recipe
from idle_lantern.core.finish.step import Step
from idle_lantern.core.finish.steps.retouched import Retouched
from idle_lantern.core.outing import assets
from idle_lantern.core.outing.edits import Edit

if TYPE_CHECKING:
    from idle_lantern.core.deliver.coming_back import TakenIn

TAKING_IN = "Taking in the retouched picture"
_PICTURES = "Pictures (*.tif *.tiff *.png *.jpg *.jpeg *.webp *.avif *.jxl)"


def ask(context: AppContext, parent: QWidget) -> None:
    """Choose the picture that came back."""
    begin = context.state.folder or Path.home()
    name, _ = QFileDialog.getOpenFileName(parent, "Take in a retouched picture", str(begin.parent), _PICTURES)
    if name:
        take(context, Path(name))


def take(context: AppContext, path: Path) -> None:
    """Take a picture in, off the thread."""
    state = context.state
    joined, picture, place, outing = state.joined, state.picture, state.place, state.outing
    if joined is None or picture is None or place is None:
        return

    def work(task: Any) -> TakenIn:
        from idle_lantern.core.deliver.coming_back import take_in  # loaded when needed

        ground = model.ground_of(joined, picture, place.folder)
        handed_on = tuple(model.shown(picture, recipe, ground) for recipe in _handed_on(outing.finish))
        folder = place.folder / assets.FOLDER
        return take_in(
            path, picture, (handed_on[0], handed_on[1]), crop_box(outing, joined), joined.canvas, folder, task
        )

    def done(found: TakenIn) -> None:
        if state.apply_to(place, taken(found)):
            context.tell(told(found, any(not isinstance(s, Retouched) for s in outing.finish.working)), problem=False)

    context.start(TAKING_IN, work, done, lambda error: context.tell(error.sentence))


def _handed_on(recipe: Recipe) -> tuple[Recipe, Recipe]:
    """What may have been handed on: the picture as joined, with what came back before, and the finished one."""
    return Recipe(tuple(step for step in recipe.steps if isinstance(step, Retouched))), recipe


def taken(found: TakenIn) -> Edit:
    """The edit that lays it over the joined picture, in the place of what came back before; the other steps go on from it, or are
    switched off where they are in it."""
    step = Retouched(asset=found.asset, looks_deg=found.looks_deg)

    def change(steps: tuple[Step, ...]) -> list[Step]:
        others = [s for s in steps if not isinstance(s, Retouched)]
        return [step, *(structs.replace(s, on=False) if found.of_finished else s for s in others)]

    return steps_changed("Take in the retouched picture", change)


def told(found: TakenIn, has_steps: bool) -> str:
    """What was found, in a sentence or two; of a recipe that has other steps also what becomes of them."""
    share = f"{100 * found.changed:.1f} %" if found.changed >= 0.001 else "Less than 0.1 %"
    changed = f"{share} of the picture was changed there."
    if not has_steps:
        return changed
    if found.of_finished:
        return f"{changed} It was made of the finished picture: its steps are in it, and are switched off here."
    return f"{changed} It was made of the joined picture: the steps go on from it."
