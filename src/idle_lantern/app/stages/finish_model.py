"""What the Finish stage shows and writes, as plain values: no Qt, tested without a window."""

from __future__ import annotations

import contextlib
from functools import partial
from pathlib import Path

import numpy as np
from msgspec import structs

from idle_lantern.app.stages.finish_edits import all_taken, step_replaced, steps_changed
from idle_lantern.app.stages.finish_figures import write
from idle_lantern.app.stages.finish_mask_model import mask_words
from idle_lantern.core.advice.advice import FrameOutline, Medium
from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.atomic import write_text
from idle_lantern.core.base.errors import InputError, LanternError
from idle_lantern.core.base.figures import figures
from idle_lantern.core.colour.space import ColourSpace
from idle_lantern.core.deliver.delivery import delivered_space
from idle_lantern.core.finish.finishing import Finish, KeptLooks, begun_on, check
from idle_lantern.core.finish.masks import Mask
from idle_lantern.core.finish.overlays import CutShown, MaskShown
from idle_lantern.core.finish.recipe import Recipe, read_recipe, text_of
from idle_lantern.core.finish.recipe_files import named_files
from idle_lantern.core.finish.registry import STEPS, name_of
from idle_lantern.core.finish.step import Step
from idle_lantern.core.finish.steps.curve import Curve
from idle_lantern.core.finish.steps.heal import Heal
from idle_lantern.core.finish.steps.white_balance import WhiteBalance
from idle_lantern.core.finish.tile_look import Ground
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.join.request import JoinResult
from idle_lantern.core.outing import assets, document
from idle_lantern.core.outing.edits import Edit
from idle_lantern.core.outing.model import Outing
from idle_lantern.core.pictures.operations import OperatedPicture, Operation
from idle_lantern.core.pictures.source import PictureSource, light_of, region

#: A picked grey is the mean of a square of so many pixels; darker than this, in linear light, it tells nothing.
_PICKED_PX, _DARK = 9, 0.004
#: Characters that a line of the list of steps holds.
_LINE = 24


def kinds() -> list[tuple[str, str, str]]:
    """Title, name and meaning of every step, in their usual order."""
    return [(kind.title, name_of(kind), kind.meaning) for kind in STEPS if not kind.needs_file]


def told(step: Step) -> str:
    """What a step does, in a few words beside its title: the figures that are not as they begin."""
    said = [
        write(f, getattr(step, f.name))
        for f in figures(type(step))
        if f.default is not None and abs(getattr(step, f.name) - f.default) > 1e-9
    ]
    if isinstance(step, Curve) and not step.idle:
        said = [f"{len(step.points)} points"]
    if isinstance(step, Heal) and step.spots:
        said = [f"{len(step.spots)} places"]
    where = "" if step.mask is None else " · " + mask_words(step.mask)
    return ", ".join(said[:2]) + where


def line(step: Step) -> str:
    """A step in a line of the list: its title, and what it does where there is room for it."""
    said = told(step)
    return f"{step.title}   {said}" if said and len(step.title) + len(said) <= _LINE else step.title


def balanced(outing: Outing, picture: PictureSource, ground: Ground, u: float, v: float) -> Edit:
    """The edit that makes a place of the picture grey: by the white balance that is there, or a new one.

    Raises
    ------
    InputError
        The place is too dark, or burnt out.
    """
    from idle_lantern.core.finish.grey import light_for_grey  # what solves it, which no start needs

    width, height = picture.sizes[0]
    side = min(_PICKED_PX, width, height)
    left, top = (int(min(max(0, a - side // 2), most - side)) for a, most in ((u, width), (v, height)))
    steps = outing.finish.steps
    at = next((k for k, step in enumerate(steps) if isinstance(step, WhiteBalance) and step.on), None)
    before = Finish([s for s in steps[: at or 0] if s.on and not s.idle], picture, ground) if at else None
    source: PictureSource = OperatedPicture(picture, [before]) if before else picture
    pixels = region(source, Rectangle(left, top, side, side))
    full = 1 if pixels.dtype.kind == "f" else np.iinfo(pixels.dtype).max
    light = light_of(pixels, picture.space)[..., :3].reshape(-1, 3).mean(0)
    if light.min() < _DARK or pixels[..., :3].min() >= full:
        raise InputError("This place is too dark or burnt out to tell a grey", remedy="Pick another one")
    present = steps[at] if at is not None else WhiteBalance()
    assert isinstance(present, WhiteBalance)
    kelvin, tint = light_for_grey(light, picture.space, present.from_kelvin)
    step = structs.replace(present, kelvin=float(kelvin), tint=float(tint))
    if at is not None:
        return step_replaced("Pick a grey", at, step)
    place = sum(type(s).order <= WhiteBalance.order for s in steps)
    return steps_changed("Pick a grey", lambda s: (*s[:place], step, *s[place:]))


def ground_of(joined: JoinResult, picture: PictureSource, folder: Path) -> Ground:
    """What masks are told by."""
    return Ground(picture.space, picture.sizes[0], joined.canvas, partial(document.finish_file, folder))


def shown(
    picture: PictureSource,
    recipe: Recipe,
    ground: Ground,
    *,
    kept: KeptLooks | None = None,
    held: int = 0,
    mask: Mask | None = None,
    cut: bool = False,
) -> PictureSource:
    """The picture as it is looked at: finished, with what a mask leaves out or what is cut laid over it.

    ``held`` is the step in hand, by its place in the recipe: ``kept`` holds what stands before it.

    Raises
    ------
    InputError
        A mask cannot be used.
    """
    check(recipe, ground)
    steps = recipe.working
    picture = begun_on(picture, recipe, ground) if kept is None else kept.begun_on(picture, recipe, ground)
    made: list[Operation] = []
    if steps:
        before = sum(step.on and not step.idle for step in recipe.steps[:held])
        made.append(Finish(steps, picture, ground, kept=kept, held=before))
    if mask is not None:
        made.append(MaskShown(mask, ground))
    if cut:
        made.append(CutShown())
    return OperatedPicture(picture, made) if made else picture


def cut_told(white: float, black: float) -> tuple[str, bool]:
    """What is cut, in a sentence, and whether that should be looked at."""
    if max(white, black) < 5e-4:
        return "Nothing is cut to white or black.", False
    told = f"{100 * white:.1f} % is cut to white, {100 * black:.1f} % to black."
    if white > 0.03:
        return f"{told} More than 3 % white: hold the highlights back, or darken it.", True
    return told, False


def medium_of(outing: Outing, folder: Path, space: ColourSpace) -> Medium:
    """What the picture is finished for, by what is chosen in Deliver and by the plan; a profile that is gone counts as the picture's own."""
    job, wanted = outing.delivery, outing.brief.target
    with contextlib.suppress(LanternError):
        space = delivered_space(job.profile, space, partial(assets.path, folder))
    return Medium(space, job.dpi, wanted.viewing_m if wanted.print_mm > 0 else Medium(space).viewing_m)


def outlines_of(joined: JoinResult) -> tuple[FrameOutline, ...]:
    """What the joined picture shows of each frame."""
    return tuple(
        FrameOutline(Path(row.file).name, tuple(np.asarray(line, float) for line in row.outlines_px))
        for row in joined.report.frames
        if row.used
    )


def save_recipe(outing: Outing, path: Path) -> None:
    """Write the recipe as a file.

    Raises
    ------
    InputError
        It cannot be written, or holds painted pictures that lie in this outing alone.
    """
    if named_files(outing.finish):
        raise InputError(
            "The recipe holds a retouched picture or pictures of masks, which lie in this outing alone",
            remedy="Take these away first",
        )
    write_text(path, text_of(outing.finish))


def from_file(path: Path) -> Edit:
    """The edit that finishes by the recipe of a file.

    Raises
    ------
    InputError
        It is none, or names pictures of masks.
    """
    return all_taken(f"Finish by {path.stem}", _without_pictures(read_recipe(path), path.name))


def from_outing(folder: Path) -> Edit:
    """The edit that finishes by the recipe of another outing; raises DocumentError, InputError."""
    other = document.load(folder)
    if not other.finish.steps:
        raise InputError(f"'{other.name}' is not finished by any step", remedy="Choose another outing")
    return all_taken(f"Finish as {other.name}", _without_pictures(other.finish, other.name))


def _without_pictures(recipe: Recipe, where: str) -> Recipe:
    if named_files(recipe):
        raise InputError(
            "Names a retouched picture or pictures of masks, which lie elsewhere",
            where=where,
            remedy="Take these away there first",
        )
    return recipe


def lacks(recipe: Recipe) -> str:
    """What the line of stages tells."""
    count = len(recipe.working)
    return f"{count} step{'s' if count != 1 else ''}" if count else "as joined"


def histogram_path(shares: Array) -> Array:
    """Heights of a histogram (3, n) from 0 to 1: the root, so that what is rare is seen beside what is common."""
    inner = shares[:, 1:-1] if shares.shape[1] > 2 else shares
    most = float(inner.max()) if inner.size else 0.0
    return np.sqrt(np.clip(shares / most, 0, 1)) if most > 0 else shares * 0.0
