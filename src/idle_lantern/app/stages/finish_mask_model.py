"""Where a step of a recipe works, as the Finish stage shows and draws it: no Qt, tested without a window."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

import numpy as np
from msgspec import structs

from idle_lantern.app.stages.finish_edits import step_replaced, title_of
from idle_lantern.app.stages.finish_figures import Row, figure_like, with_at
from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.figures import Figure
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.finish import masks
from idle_lantern.core.finish.drawn import Stroke
from idle_lantern.core.finish.masks import Mask
from idle_lantern.core.finish.step import Step
from idle_lantern.core.join.request import JoinResult
from idle_lantern.core.outing.edits import Edit
from idle_lantern.core.outing.model import Outing
from idle_lantern.core.pictures.source import PictureSource, reduced_in

#: Limits of what masks are told by, beside the figures of their types.
_YAW = Figure("", "", -360, 360, "degrees", "", 0.0, 1.0)
_PITCH = Figure("", "", -90, 90, "degrees", "", 0.0, 1.0)
_SHARE = Figure("", "", 0, 1, "", "", 0.0, 0.01)
#: The sky is sought in the picture reduced so far, and must be seen over so many places of its skyline.
_SKY_PX, _LEAST_SKYLINE = 2048, 20

#: Where a step works, in words; the first is no mask.
MASKS: tuple[tuple[str, str], ...] = (
    ("all of the picture", ""), ("painted parts", "brush"), ("a gradient", "gradient"), ("a round part", "round"),
    ("the sky", "sky"), ("a part of the circle", "directions"), ("a brightness", "brightness"), ("a colour", "colour"),
)  # fmt: skip
OTHER_MASK = "a mask from a recipe"


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
    return step_replaced(title or f"Where {title_of(outing, at)} works", at, step, merge)


def stroked(outing: Outing, at: int, stroke: Stroke) -> Edit:
    """The edit that adds a stroke to what a step is painted on."""
    mask, elsewhere = inner_mask(outing.finish.steps[at].mask)
    before = mask if isinstance(mask, masks.Brush) else masks.Brush()
    title = f"Erase where {title_of(outing, at)} works" if stroke.rubs else f"Paint where {title_of(outing, at)} works"
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
        figure = figure_like(like, f"mask {name} {k}", title)
        return row(figure, values[k], lambda v: structs.replace(mask, **{name: with_at(values, k, v)}))

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
    return Stroke(tuple(places), angle_deg(joined, points[len(points) // 2], radius_px), rubs)


def angle_deg(joined: JoinResult, at: tuple[float, float], radius_px: float) -> float:
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
