"""Healed places as the Finish stage makes, tells and walks them: no Qt, tested without a window."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from msgspec import structs

from idle_lantern.app.stages.finish_edits import step_replaced, steps_changed
from idle_lantern.app.stages.finish_figures import with_at
from idle_lantern.app.stages.finish_mask_model import angle_deg, place_deg
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.finish.healing import Spot, ground_for, place_of, rims_of
from idle_lantern.core.finish.step import Step
from idle_lantern.core.finish.steps.heal import Heal
from idle_lantern.core.finish.tile_look import Ground
from idle_lantern.core.join.request import JoinResult
from idle_lantern.core.outing.edits import Edit
from idle_lantern.core.outing.model import Outing
from idle_lantern.core.pictures.source import PictureSource

#: Spots that one stroke of healing makes at most.
_MOST_SPOTS = 200


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
        radius = angle_deg(joined, (float(middle[0]), float(middle[1])), radius_px)
        source = ground_for(picture, ground, place, radius)
        if source is not None:
            spot = Spot(place, radius, source)
            made.append(structs.replace(spot, seen=rims_of(picture, ground, spot)))
    if not made:
        raise InputError("There is no clean ground beside this place", remedy="Take a smaller brush, or another place")
    return made


def healed(outing: Outing, spots: Sequence[Spot]) -> Edit:
    """The edit that heals some more places."""
    at = heal_at(outing.finish.steps)
    title = "Heal a place" if len(spots) == 1 else "Heal along a stroke"
    if at is None:
        return steps_changed(title, lambda s: (Heal(spots=tuple(spots)), *s))
    step = outing.finish.steps[at]
    assert isinstance(step, Heal)
    return step_replaced(title, at, structs.replace(step, on=True, spots=(*step.spots, *spots)))


def other_ground(
    outing: Outing, picture: PictureSource, ground: Ground, number: int, source_deg: tuple[float, float]
) -> Edit | None:
    """The edit that covers a place of a picture by other ground."""
    at = heal_at(outing.finish.steps)
    step = None if at is None else outing.finish.steps[at]
    if at is None or not isinstance(step, Heal) or not 0 <= number < len(step.spots):
        return None
    spot = structs.replace(step.spots[number], source_deg=source_deg)
    spot = structs.replace(spot, seen=rims_of(picture, ground, spot))
    return step_replaced(
        "Cover a place by other ground", at, structs.replace(step, spots=with_at(step.spots, number, spot))
    )


def not_healed(outing: Outing, number: int) -> Edit | None:
    """The edit that leaves a place as it was joined."""
    at = heal_at(outing.finish.steps)
    step = None if at is None else outing.finish.steps[at]
    if at is None or not isinstance(step, Heal) or not 0 <= number < len(step.spots):
        return None
    spots = (*step.spots[:number], *step.spots[number + 1 :])
    return step_replaced("Leave a place as joined", at, structs.replace(step, spots=spots))


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
