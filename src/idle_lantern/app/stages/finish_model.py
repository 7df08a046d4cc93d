"""What the Finish stage shows and changes, as plain values: no Qt, tested without a window."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from msgspec import structs

from idle_lantern.core.base import units
from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.atomic import write_text
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.figures import Figure, figures
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.finish import masks
from idle_lantern.core.finish.drawn import Stroke
from idle_lantern.core.finish.evenness import SEEN_EV, SEEN_WARMTH, Drift
from idle_lantern.core.finish.finishing import Finish, KeptLooks, begun_on, check
from idle_lantern.core.finish.healing import Spot, ground_for, place_of
from idle_lantern.core.finish.masks import Mask
from idle_lantern.core.finish.overlays import CutShown, MaskShown
from idle_lantern.core.finish.recipe import Recipe, read_recipe, text_of
from idle_lantern.core.finish.recipe_files import mask_pictures
from idle_lantern.core.finish.registry import STEPS, name_of, step_named
from idle_lantern.core.finish.step import Step
from idle_lantern.core.finish.steps.black_white import BlackWhite
from idle_lantern.core.finish.steps.curve import Curve
from idle_lantern.core.finish.steps.heal import Heal
from idle_lantern.core.finish.steps.sweep import Sweep
from idle_lantern.core.finish.steps.white_balance import WhiteBalance
from idle_lantern.core.finish.tile_look import Ground
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.join.request import JoinResult
from idle_lantern.core.outing import assets, document, edits
from idle_lantern.core.outing.edits import Edit
from idle_lantern.core.outing.model import Outing
from idle_lantern.core.pictures.operations import OperatedPicture, Operation
from idle_lantern.core.pictures.source import PictureSource, light_of, reduced_in, region

#: A picked grey is the mean of a square of so many pixels; darker than this, in linear light, it tells nothing.
_PICKED_PX, _DARK = 9, 0.004
#: Spots that one stroke of healing makes at most.
_MOST_SPOTS = 200
#: The sky is sought in the picture reduced so far, and must be seen over so many places of its skyline.
_SKY_PX, _LEAST_SKYLINE = 2048, 20
#: Limits of what masks are told by, beside the figures of their types.
_YAW = Figure("", "", -360, 360, "degrees", "", 0.0, 1.0)
_PITCH = Figure("", "", -90, 90, "degrees", "", 0.0, 1.0)
_SHARE = Figure("", "", 0, 1, "", "", 0.0, 0.01)
_WEIGHT = Figure("", "", -2, 3, "", "", 0.0, 0.02)

#: Where a step works, in words; the first is no mask.
MASKS: tuple[tuple[str, str], ...] = (
    ("all of the picture", ""), ("painted parts", "brush"), ("a gradient", "gradient"), ("a round part", "round"),
    ("the sky", "sky"), ("a part of the circle", "directions"), ("a brightness", "brightness"), ("a colour", "colour"),
)  # fmt: skip
OTHER_MASK = "a mask from a recipe"
#: Characters that a line of the list of steps holds.
_LINE = 24


@dataclass(frozen=True)
class Row:
    """A figure of a step or a mask on the panel: its value, and the step that another value makes."""

    figure: Figure
    value: float
    changed: Callable[[float], Step]

    @property
    def key(self) -> str:
        """What tells it from the others of its step."""
        return self.figure.name


# --- steps -------------------------------------------------------------------------


def kinds() -> list[tuple[str, str, str]]:
    """Title, name and meaning of every step, in their usual order."""
    return [(kind.title, name_of(kind), kind.meaning) for kind in STEPS]


def added(outing: Outing, name: str, after: int | None) -> tuple[Edit, int]:
    """The edit that adds a step, and where it will stand: where it usually does among those there, unless the recipe has another order."""
    kind = step_named(name)
    steps = outing.finish.steps
    orders = [type(step).order for step in steps]
    if orders == sorted(orders):
        at = sum(order <= kind.order for order in orders)
    else:
        at = len(steps) if after is None else after + 1
    return _steps(f"Add {kind.title.lower()}", lambda s: (*s[:at], kind(), *s[at:])), at


def removed(outing: Outing, at: int) -> Edit:
    """The edit that takes a step away."""
    return _steps(f"Remove {_title(outing, at)}", lambda s: (*s[:at], *s[at + 1 :]))


def switched(outing: Outing, at: int) -> Edit:
    """The edit that switches a step off, or on again."""
    step = outing.finish.steps[at]
    word = "off" if step.on else "on"
    return _replaced(f"Switch {_title(outing, at)} {word}", at, structs.replace(step, on=not step.on))


def moved(outing: Outing, at: int, by: int) -> Edit:
    """The edit that lets a step change places with the one before or after it."""

    def change(steps: tuple[Step, ...]) -> Sequence[Step]:
        made = list(steps)
        made.insert(at + by, made.pop(at))
        return made

    return _steps(f"Move {_title(outing, at)} {'earlier' if by < 0 else 'later'}", change)


def set_step(outing: Outing, at: int, step: Step, key: str) -> Edit:
    """The edit that gives a step another figure; a row of such edits counts as one."""
    title = next((f.title for f in figures(type(step)) if f.name == key), type(step).title)
    return _replaced(title, at, step, f"finish {at} {key}")


def plain(outing: Outing, at: int) -> Edit:
    """The edit that brings a step's figures back to where they begin; its mask stays."""
    step = outing.finish.steps[at]
    return _replaced(f"Reset {_title(outing, at)}", at, type(step)(on=step.on, mask=step.mask))


def all_taken(title: str, recipe: Recipe) -> Edit:
    """The edit that takes over a whole recipe."""
    return _steps(title, lambda _s: recipe.steps)


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


def rows(step: Step) -> list[Row]:
    """The figures of a step."""
    made = [_row_of(step, f, (f.name,)) for f in figures(type(step))]
    if isinstance(step, BlackWhite):
        for k, colour in enumerate(("Red", "Green", "Blue")):
            figure = _figure_like(_WEIGHT, f"weights {colour.lower()}", colour)
            made.append(Row(figure, step.weights[k], partial(_weighted, step, k)))
    return made


def _weighted(step: BlackWhite, at: int, value: float) -> Step:
    return structs.replace(step, weights=_with(step.weights, at, value))


def _figure_like(like: Figure, name: str, title: str) -> Figure:
    """A figure with the limits of another."""
    return Figure(name, title, like.least, like.most, like.unit, like.usual, like.default, like.step)


def _row_of(step: Step, figure: Figure, path: tuple[str, ...]) -> Row:
    return Row(figure, float(getattr(step, figure.name)), lambda v: structs.replace(step, **{figure.name: v}))


def _with(values: tuple[Any, ...], at: int, value: Any) -> tuple[Any, ...]:
    return (*values[:at], value, *values[at + 1 :])


def _title(outing: Outing, at: int) -> str:
    return type(outing.finish.steps[at]).title.lower()


def _steps(title: str, change: Callable[[tuple[Step, ...]], Sequence[Step]], merge: str = "") -> Edit:
    return edits.finish_by(title, change, merge=merge)


def _replaced(title: str, at: int, step: Step, merge: str = "") -> Edit:
    return _steps(title, lambda s: (*s[:at], step, *s[at + 1 :]), merge)


# --- figures as people read and write them ------------------------------------------

_UNITS = {"degrees": "°", "% of the longer side": " %", "EV above": " EV"}


def write(figure: Figure, value: float) -> str:
    """A figure with its unit and, where it can be below nothing, its sign."""
    digits = max(0, min(3, -math.floor(math.log10(figure.step)))) if figure.step < 1 else 0
    signed = figure.least < 0 and figure.default == 0 and figure.unit != "degrees"
    text = f"{value:+.{digits}f}" if signed and value else f"{value:.{digits}f}"
    unit = _UNITS.get(figure.unit, f" {figure.unit}" if figure.unit else "")
    return text.replace("-", "−") + unit


def parse(figure: Figure, text: str) -> float:
    """A figure as people write it; raises InputError."""
    plain_text = text.strip().lower().replace("−", "-").removeprefix("+")
    for unit in ("°", "degrees", "deg", "%", "px", "ev", "k"):
        plain_text = plain_text.removesuffix(unit).strip()
    value = units.parse_number(plain_text, "a number", f"{figure.default or figure.step:g}")
    return figure.checked(value)


def clamped(figure: Figure, value: float) -> float:
    """A value within a figure's limits, as the arrow keys set it, rounded to what is shown."""
    return round(min(max(value, figure.least), figure.most), 6)


def write_points(points: Sequence[tuple[float, float]]) -> str:
    """Points of a curve as text, in hundredths."""
    return "   ".join(f"{100 * x:.3g} → {100 * y:.3g}" for x, y in points)


def parse_points(text: str) -> tuple[tuple[float, float], ...]:
    """Points of a curve as people write them: pairs in hundredths, ``0 → 0   50 → 60   100 → 100``.

    Raises
    ------
    InputError
        They are none.
    """
    for sign in ("→", ">", "-", ",", ";", ":"):
        text = text.replace(sign, " ")
    numbers = [units.parse_number(word, "a point", "50 → 60") / 100 for word in text.split()]
    if len(numbers) < 4 or len(numbers) % 2 or any(not 0 <= v <= 1 for v in numbers):
        raise InputError(
            "A curve is pairs of numbers from 0 to 100", remedy="Write such as 0 → 0   50 → 60   100 → 100"
        )
    return tuple(sorted(zip(numbers[::2], numbers[1::2])))


def curve_of(step: Curve, points: Sequence[tuple[float, float]]) -> Curve:
    """A curve through other points; raises InputError."""
    made: Curve = structs.replace(step, points=tuple(points))
    return made


# --- masks -----------------------------------------------------------------------------


def inner_mask(mask: Mask | None) -> tuple[Mask | None, bool]:
    """The mask that is set on the panel, and whether the step works everywhere else."""
    if isinstance(mask, masks.Not) and len(mask.of) == 1:
        return mask.of[0], True
    return mask, False


def mask_kind(mask: Mask | None) -> str:
    """The word of ``MASKS`` for a mask, ``other`` for one that only a recipe can hold."""
    inner, _elsewhere = inner_mask(mask)
    if inner is None:
        return ""
    name = str(type(inner).__struct_config__.tag)
    return name if name in {word for _text, word in MASKS} else "other"


def mask_words(mask: Mask) -> str:
    """A mask in words."""
    _inner, elsewhere = inner_mask(mask)
    kind = mask_kind(mask)
    words = next((text for text, word in MASKS if word == kind), OTHER_MASK)
    return f"all but {words}" if elsewhere else words


def mask_hint(mask: Mask | None) -> str:
    """What to do with a mask that the panel alone does not set."""
    inner, _elsewhere = inner_mask(mask)
    if isinstance(inner, masks.Brush) and not inner.strokes:
        return "Nothing is painted yet: press P and paint on the picture."
    return ""


def mask_of_kind(kind: str, middle_deg: tuple[float, float]) -> Mask | None:
    """A mask to begin with, about a direction."""
    yaw, pitch = middle_deg
    made: dict[str, Callable[[], Mask]] = {
        "brush": masks.Brush,
        "gradient": lambda: masks.Gradient(begin_deg=(yaw, _altitude(pitch - 5)), end_deg=(yaw, _altitude(pitch + 25))),
        "round": lambda: masks.Round(centre_deg=middle_deg, radius_deg=15.0, feather_deg=15.0),
        "directions": lambda: masks.Directions(yaw_deg=(yaw - 20, yaw + 20), feather_deg=20.0),
        "brightness": lambda: masks.Brightness(range=(0.7, 1.0), feather=0.2),
        "colour": lambda: masks.Colour(hue_deg=250.0),
    }
    return made[kind]() if kind else None


def _altitude(pitch: float) -> float:
    return min(max(pitch, -90.0), 90.0)


def sky_mask(joined: JoinResult, picture: PictureSource) -> Mask:
    """The sky of the joined picture, found by its skyline.

    Raises
    ------
    InputError
        None is found.
    """
    from idle_lantern.core.scouting.skyline import sky_over  # what sees it, which no start needs

    pixels = reduced_in(picture, _SKY_PX, SRGB)
    skyline = sky_over(pixels if pixels.dtype.kind != "f" else _shown_whole(pixels), joined.canvas)
    if len(skyline) < _LEAST_SKYLINE:
        raise InputError(
            "No sky over a skyline is found in this picture", remedy="Draw a gradient with L, or paint it with P"
        )
    return masks.Sky(skyline=skyline)


def _shown_whole(light: Array) -> Array:
    """Light as 8-bit display values, (h, w, 3 or 4)."""
    shown = np.clip(SRGB.from_linear(light[..., :3]), 0, 1)
    return np.rint(np.concatenate([shown, light[..., 3:]], -1) * 255).astype(np.uint8)


def masked(
    outing: Outing, at: int, mask: Mask | None, *, elsewhere: bool = False, title: str = "", merge: str = ""
) -> Edit:
    """The edit that lets a step work where a mask says, or everywhere else."""
    whole = masks.Not(of=(mask,)) if elsewhere and mask is not None else mask
    step = structs.replace(outing.finish.steps[at], mask=whole)
    return _replaced(title or f"Where {_title(outing, at)} works", at, step, merge)


def stroked(outing: Outing, at: int, stroke: Stroke) -> Edit:
    """The edit that adds a stroke to what a step is painted on."""
    mask, elsewhere = inner_mask(outing.finish.steps[at].mask)
    before = mask if isinstance(mask, masks.Brush) else masks.Brush()
    title = f"Erase where {_title(outing, at)} works" if stroke.rubs else f"Paint where {_title(outing, at)} works"
    kept = elsewhere and isinstance(mask, masks.Brush)
    return masked(outing, at, structs.replace(before, strokes=(*before.strokes, stroke)), elsewhere=kept, title=title)


def mask_rows(step: Step) -> list[Row]:
    """The figures of a step's mask."""
    mask, elsewhere = inner_mask(step.mask)
    if mask is None or mask_kind(step.mask) == "other":
        return []

    def row(figure: Figure, value: float, change: Callable[[float], Mask]) -> Row:
        def changed(v: float) -> Step:
            inner = change(v)
            return structs.replace(step, mask=masks.Not(of=(inner,)) if elsewhere else inner)

        return Row(figure, value, changed)

    def part(name: str, k: int, title: str, like: Figure) -> Row:
        values = getattr(mask, name)
        figure = _figure_like(like, f"mask {name} {k}", title)
        return row(figure, values[k], lambda v: structs.replace(mask, **{name: _with(values, k, v)}))

    def whole(name: str, title: str, least: float, most: float, unit: str, step_by: float) -> Row:
        figure = Figure(f"mask {name}", title, least, most, unit, "", getattr(mask, name), step_by)
        return row(figure, getattr(mask, name), lambda v: structs.replace(mask, **{name: v}))

    feather = ("Feather", 0, 180, "degrees", 1.0)
    if isinstance(mask, masks.Directions):
        return [
            part("yaw_deg", 0, "From azimuth", _YAW), part("yaw_deg", 1, "To azimuth", _YAW),
            part("pitch_deg", 0, "From altitude", _PITCH), part("pitch_deg", 1, "To altitude", _PITCH),
            whole("feather_deg", *feather),
        ]  # fmt: skip
    if isinstance(mask, masks.Gradient):
        return [
            part("begin_deg", 0, "Nothing at azimuth", _YAW), part("begin_deg", 1, "Nothing at altitude", _PITCH),
            part("end_deg", 0, "All at azimuth", _YAW), part("end_deg", 1, "All at altitude", _PITCH),
        ]  # fmt: skip
    if isinstance(mask, masks.Round):
        return [
            part("centre_deg", 0, "Middle azimuth", _YAW), part("centre_deg", 1, "Middle altitude", _PITCH),
            whole("radius_deg", "Radius", 0.1, 180, "degrees", 1.0), whole("feather_deg", *feather),
        ]  # fmt: skip
    if isinstance(mask, masks.Brightness):
        return [
            part("range", 0, "From brightness", _SHARE), part("range", 1, "To brightness", _SHARE),
            whole("feather", "Feather", 0, 1, "", 0.01),
        ]  # fmt: skip
    if isinstance(mask, masks.Colour):
        return [
            whole("hue_deg", "Hue", 0, 360, "degrees", 1.0), whole("width_deg", "Width", 0, 360, "degrees", 1.0),
            whole("feather_deg", *feather),
        ]  # fmt: skip
    if isinstance(mask, masks.Sky):
        return [whole("feather_deg", "Feather", 0, 20, "degrees", 0.1)]
    return [whole("soft", "Soft rim", 0, 1, "", 0.05)]


# --- places of the picture -----------------------------------------------------------------


def place_deg(joined: JoinResult, u: float, v: float) -> tuple[float, float] | None:
    """Azimuth and altitude of a pixel; None where the picture has no direction."""
    d = joined.canvas.directions(np.array([u, v]))
    if not np.isfinite(d).all():
        return None
    return (
        round(math.degrees(math.atan2(d[0], d[2])), 4),
        round(math.degrees(math.atan2(-d[1], math.hypot(d[0], d[2]))), 4),
    )


def stroke_of(
    joined: JoinResult, points: Sequence[tuple[float, float]], radius_px: float, *, rubs: bool
) -> Stroke | None:
    """A stroke through pixels of the picture; None where it has no directions."""
    places = [place for u, v in points if (place := place_deg(joined, u, v)) is not None]
    if not places:
        return None
    return Stroke(tuple(places), _angle_deg(joined, points[len(points) // 2], radius_px), rubs)


def _angle_deg(joined: JoinResult, at: tuple[float, float], radius_px: float) -> float:
    """How many degrees so many pixels are, about a pixel: the mean of both ways."""
    u, v = at
    d = joined.canvas.directions(np.array([[u, v], [u + 1, v], [u, v + 1]]))
    one = np.degrees(np.linalg.norm(d[1:] - d[0], axis=1))
    one = one[np.isfinite(one)]
    a_pixel = float(one.max()) if len(one) else math.degrees(1 / joined.canvas.px_per_rad)
    return min(max(radius_px * a_pixel, 1e-4), 90.0)


def middle_deg(joined: JoinResult, centre: tuple[float, float]) -> tuple[float, float]:
    """The direction of the middle of what is shown."""
    return place_deg(joined, *centre) or (0.0, 0.0)


def drawn_gradient(joined: JoinResult, one: tuple[float, float], other: tuple[float, float]) -> Mask | None:
    """A gradient from one pixel to another."""
    begin, end = place_deg(joined, *one), place_deg(joined, *other)
    return None if begin is None or end is None or begin == end else masks.Gradient(begin_deg=begin, end_deg=end)


def drawn_round(
    joined: JoinResult, middle: tuple[float, float], rim: tuple[float, float], feather: float
) -> Mask | None:
    """A round part about a pixel, out to another."""
    d = joined.canvas.directions(np.array([middle, rim]))
    centre = place_deg(joined, *middle)
    if centre is None or not np.isfinite(d).all():
        return None
    radius = math.degrees(2 * math.asin(min(1.0, float(np.linalg.norm(d[0] - d[1])) / 2)))
    return masks.Round(centre_deg=centre, radius_deg=max(0.1, round(radius, 3)), feather_deg=feather)


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
        return _replaced("Pick a grey", at, step)
    place = sum(type(s).order <= WhiteBalance.order for s in steps)
    return _steps("Pick a grey", lambda s: (*s[:place], step, *s[place:]))


# --- healing -------------------------------------------------------------------------------


def heal_at(steps: Sequence[Step]) -> int | None:
    """Where the step stands that heals."""
    return next((k for k, step in enumerate(steps) if isinstance(step, Heal)), None)


def spots_of(
    joined: JoinResult, picture: PictureSource, ground: Ground, points: Sequence[tuple[float, float]], radius_px: float
) -> list[Spot]:
    """Spots along a stroke through pixels of the picture, each with the ground that covers it.

    Raises
    ------
    InputError
        No clean ground is found beside the first of them.
    """
    middles = [np.array(points[0])]
    for point in points[1:]:
        while (far := float(np.hypot(*(np.array(point) - middles[-1])))) > radius_px:
            middles.append(middles[-1] + (np.array(point) - middles[-1]) * radius_px / far)
    made = []
    for middle in middles[:_MOST_SPOTS]:
        place = place_deg(joined, *middle)
        if place is None:
            continue
        radius = _angle_deg(joined, (float(middle[0]), float(middle[1])), radius_px)
        source = ground_for(picture, ground, place, radius)
        if source is not None:
            made.append(Spot(place, radius, source))
    if not made:
        raise InputError("There is no clean ground beside this place", remedy="Take a smaller brush, or another place")
    return made


def healed(outing: Outing, spots: Sequence[Spot]) -> Edit:
    """The edit that heals some more places."""
    at = heal_at(outing.finish.steps)
    title = "Heal a place" if len(spots) == 1 else "Heal along a stroke"
    if at is None:
        return _steps(title, lambda s: (Heal(spots=tuple(spots)), *s))
    step = outing.finish.steps[at]
    assert isinstance(step, Heal)
    return _replaced(title, at, structs.replace(step, on=True, spots=(*step.spots, *spots)))


def other_ground(outing: Outing, number: int, source_deg: tuple[float, float]) -> Edit | None:
    """The edit that covers a place by other ground."""
    at = heal_at(outing.finish.steps)
    step = None if at is None else outing.finish.steps[at]
    if at is None or not isinstance(step, Heal) or not 0 <= number < len(step.spots):
        return None
    spot = structs.replace(step.spots[number], source_deg=source_deg)
    return _replaced("Cover a place by other ground", at, structs.replace(step, spots=_with(step.spots, number, spot)))


def not_healed(outing: Outing, number: int) -> Edit | None:
    """The edit that leaves a place as it was joined."""
    at = heal_at(outing.finish.steps)
    step = None if at is None else outing.finish.steps[at]
    if at is None or not isinstance(step, Heal) or not 0 <= number < len(step.spots):
        return None
    spots = (*step.spots[:number], *step.spots[number + 1 :])
    return _replaced("Leave a place as joined", at, structs.replace(step, spots=spots))


def spot_places(outing: Outing, joined: JoinResult) -> list[tuple[float, float, float, float] | None]:
    """Middle, width and height in pixels of each healed place; None where the picture does not show it."""
    at = heal_at(outing.finish.steps)
    step = None if at is None else outing.finish.steps[at]
    if not isinstance(step, Heal):
        return []
    size = joined.canvas.width, joined.canvas.height
    found = (place_of(spot, joined.canvas, size, size) for spot in step.spots)
    return [None if p is None else (p.x, p.y, 2 * p.across, 2 * p.down) for p in found]


def healing_told(count: int, present: int | None) -> str:
    """What the panel says of healed places."""
    if not count:
        return "Nothing is healed yet: press H and paint over what shall go. Where another frame shows a place clean, D under Join shows the truth."
    here = (
        ""
        if present is None
        else f", {present + 1} is chosen (N goes on, W then a click takes other ground, Backspace leaves it as joined)"
    )
    return f"{count} place{'s' if count != 1 else ''} healed{here}."


# --- the picture ------------------------------------------------------------------------------


def ground_of(joined: JoinResult, picture: PictureSource, folder: Path) -> Ground:
    """What masks are told by."""
    return Ground(
        picture.space, picture.sizes[0], joined.canvas, lambda name: assets.path(folder, name, document.MASK_ASSET)
    )


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


def drift_told(outing: Outing, drift: Drift, *, full_circle: bool) -> str:
    """What is said of light or colour that drifts across; empty where nothing need be, or where it was evened already."""
    evened = any(isinstance(step, Sweep) and step.on for step in outing.finish.steps)
    if full_circle or evened or not drift.is_seen:
        return ""
    parts = []
    if abs(drift.ev) >= SEEN_EV:
        parts.append(f"{abs(drift.ev):.1f} EV {'brighter' if drift.ev > 0 else 'darker'}")
    if abs(drift.warmth) >= SEEN_WARMTH:
        parts.append(f"{'warmer' if drift.warmth > 0 else 'cooler'} by {abs(drift.warmth):.2f} EV of red against blue")
    return f"Above, the right end is {' and '.join(parts)} than the left. The sun may do that; if it should not show, even it out."


def evened(outing: Outing, drift: Drift) -> tuple[Edit, int]:
    """The edit that evens a drift, and where its step stands."""
    ev = -round(drift.ev, 2) if abs(drift.ev) >= SEEN_EV else 0.0
    warmth = -round(drift.warmth, 2) if abs(drift.warmth) >= SEEN_WARMTH else 0.0
    step = Sweep(ev=min(max(ev, -4.0), 4.0), warmth=min(max(warmth, -2.0), 2.0))
    at = sum(type(s).order <= Sweep.order for s in outing.finish.steps)
    return _steps("Even it out across", lambda s: (*s[:at], step, *s[at:])), at


# --- recipes elsewhere ----------------------------------------------------------------------------


def save_recipe(outing: Outing, path: Path) -> None:
    """Write the recipe as a file.

    Raises
    ------
    InputError
        It cannot be written, or holds painted pictures that lie in this outing alone.
    """
    if mask_pictures(outing.finish):
        raise InputError(
            "The recipe holds pictures of masks, which lie in this outing alone", remedy="Take these masks away first"
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
    if mask_pictures(recipe):
        raise InputError(
            "Names pictures of masks, which lie elsewhere", where=where, remedy="Take these masks away there first"
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
