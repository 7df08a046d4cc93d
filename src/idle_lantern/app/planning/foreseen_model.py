"""What the Foreseen page shows, as plain values: the picture, its costs, the light of another hour. No Qt."""

from __future__ import annotations

import datetime
import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from idle_lantern.app import words
from idle_lantern.core.base import units
from idle_lantern.core.geometry.sphere import azimuth_altitude, direction
from idle_lantern.core.plan.brief import Mark
from idle_lantern.core.plan.depth import blur_disc_mm
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.plan.sun import BLUE_DEG, GOLDEN_DEG, day, lit_from, sun_at
from idle_lantern.core.scouting.scout_picture import ScoutPicture, ends_of

if TYPE_CHECKING:
    from collections.abc import Sequence

    from idle_lantern.core.scouting.foreseen import Foreseen
    from idle_lantern.core.scouting.reprojection import ReprojectedScouts

PROJECTIONS: Mapping[str, str] = {
    "auto": "As it suits",
    **words.PROJECTIONS,
}
#: Shapes by their words; None is whatever loses least.
SHAPES: tuple[tuple[str, float | None], ...] = (
    ("largest", None), ("3 : 1", 3.0), ("2 : 1", 2.0), ("16 : 9", 16 / 9), ("3 : 2", 1.5), ("5 : 4", 1.25), ("square", 1.0),
    ("2 : 3", 2 / 3), ("1 : 2", 0.5), ("1 : 3", 1 / 3),
)  # fmt: skip
PLACES: tuple[tuple[str, float | None], ...] = (
    ("where it is", None), ("left third", 1 / 3), ("middle", 0.5), ("right third", 2 / 3),
)  # fmt: skip
HEIGHTS: tuple[tuple[str, float | None], ...] = (
    ("where it is", None), ("upper third", 1 / 3), ("middle", 0.5), ("lower third", 2 / 3),
)  # fmt: skip
#: Crops, bows and stretches below these are not worth a word (common practice, no source).
_MUCH_LOSS = 0.25  # share of what the frames show that the crop leaves out
_MUCH_BOW = 0.05  # share of a line's length
_MUCH_STRETCH = 1.8  # times as large at the rim


@dataclass(frozen=True)
class Wanted:
    """What the page is set to. ``turned`` draws the plan with the camera held the other way."""

    projection: str = "auto"
    shape: float | None = None
    turned: bool = False


@dataclass(frozen=True)
class ForeseenFacts:
    """The foreseen picture in words: what it costs, and what is judged of it."""

    title: str
    costs: str
    warning: str = ""


def foreseen(
    plan: Plan, scout_grounds: Sequence[ReprojectedScouts], wanted: Wanted, most_px: int, *, costs: bool = True
) -> tuple[Plan, Foreseen]:
    """The picture that a plan would give, with the plan that it was drawn for.

    Raises
    ------
    LanternError
        The plan with the camera turned cannot be made.
    """
    from idle_lantern.core.plan.planner import make_plan
    from idle_lantern.core.scouting.foreseen import foresee

    if wanted.turned:
        plan = make_plan(replace(plan.brief, rig=replace(plan.rig, upright=not plan.rig.upright)), past=plan.past)
    return plan, foresee(
        plan, scout_grounds, projection=wanted.projection, ratio=wanted.shape, most_px=most_px, costs=costs
    )


def told(plan: Plan, seen: Foreseen, scouts: Sequence[ScoutPicture]) -> ForeseenFacts:
    """Title, costs and warning of a foreseen picture; what bends is asked of the straight things that were scouted."""
    names = {**PROJECTIONS, "auto": PROJECTIONS[seen.canvas.projection.name]}
    held = "upright" if plan.rig.upright else "sideways"
    crop = seen.crop
    scale = seen.full_px[0] / seen.canvas.width
    size = f"{units.grouped(crop.width * scale)} × {units.grouped(crop.height * scale)} px"
    title = (
        f"{names[seen.canvas.projection.name].capitalize()}, {units.counted(len(plan.frames), 'frame')} {held}: {size}"
    )
    parts = [f"crop loses {units.share(seen.loss)}", f"rim drawn {seen.stretch:.1f} × as large"]
    bent = _most_bent(seen, scouts)
    if bent is not None and bent[0] > 0.003:
        parts.append(f"straight things bow by up to {units.share(bent[0], 1)}")
    warnings = []
    if seen.loss > _MUCH_LOSS:
        warnings.append("Much is lost at the crop: another shape or projection loses less.")
    if bent is not None and bent[0] > _MUCH_BOW:
        warnings.append(f"What runs straight at {units.angle(bent[1], 0)}, {units.angle(bent[2], 0)} will look bent.")
    if seen.stretch > _MUCH_STRETCH:
        warnings.append("Things and people at the rim will look pulled out.")
    if seen.unscouted > 0.05:
        warnings.append(f"{units.share(seen.unscouted)} of it was not scouted (hatched).")
    cut = [m.name for m in plan.brief.scene.marks if m.role in ("whole", "subject") and not _inside(seen, m)]
    if cut:
        warnings.insert(0, f"The crop cuts {', '.join(cut[:3])}.")
    return ForeseenFacts(title, "; ".join(parts).capitalize() + ".", " ".join(warnings[:2]))


def _most_bent(seen: Foreseen, scouts: Sequence[ScoutPicture]) -> tuple[float, float, float] | None:
    """The greatest bow of a straight thing inside the crop, as a share of its length, with the direction of its middle."""
    from idle_lantern.core.scouting.lines import bow

    crop, worst = seen.crop, None
    for picture in scouts:
        for line in picture.lines if picture.shown else ():
            middle = (ends_of(line) @ picture.world_from_ground.T).sum(0)
            with np.errstate(invalid="ignore"):
                u, v = seen.canvas.pixels(middle)
            if not (crop.left <= u < crop.left + crop.width and crop.top <= v < crop.top + crop.height):
                continue
            share = bow(line, seen.canvas, picture.world_from_ground)
            if worst is None or share > worst[0]:
                azimuth, altitude = (math.degrees(float(a)) for a in azimuth_altitude(middle))
                worst = (share, azimuth, altitude)
    return worst


def mark_box(seen: Foreseen, mark: Mark) -> tuple[float, float, float, float] | None:
    """Left, top, right and bottom of a mark in pixels of the foreseen picture, None where it has no place there."""
    x, y = np.meshgrid(np.linspace(-0.5, 0.5, 5), np.linspace(-0.5, 0.5, 5))
    altitude = np.clip(mark.pitch_deg + y * mark.tall_deg, -90, 90)
    with np.errstate(invalid="ignore"):
        places = seen.canvas.pixels(
            direction(np.radians(mark.yaw_deg + x * mark.width_deg), np.radians(altitude))
        ).reshape(-1, 2)
    if not np.isfinite(places).all() or np.ptp(places[:, 0]) > seen.canvas.width / 2:
        return None
    (x0, y0), (x1, y1) = places.min(0).tolist(), places.max(0).tolist()
    return x0, y0, x1, y1


def mark_words(plan: Plan, seen: Foreseen, mark: Mark) -> tuple[str, float]:
    """A mark's name, with its blur where its distance is known, and that blur's diameter in pixels of the foreseen picture."""
    if mark.distance_m <= 0:
        return mark.name, 0.0
    sharp = plan.sharpness
    blur_px = blur_disc_mm(plan.rig.focal_mm, sharp.aperture, sharp.focus_m, mark.distance_m) / plan.rig.pixel_mm
    told = "sharp" if blur_px < 1.5 else f"blur {blur_px:.0f} px"
    return f"{mark.name}, {units.distance(mark.distance_m)}: {told}", blur_px * seen.canvas.width / seen.full_px[0]


def _inside(seen: Foreseen, mark: Mark) -> bool:
    box = mark_box(seen, mark)
    if box is None:
        return False
    crop = seen.crop
    return (
        box[0] >= crop.left
        and box[1] >= crop.top
        and box[2] <= crop.left + crop.width
        and box[3] <= crop.top + crop.height
    )


@dataclass(frozen=True)
class HourLight:
    """The light of an hour: where the sun stands on the picture, None beside it, and what that means."""

    at: tuple[float, float] | None
    words: str


def light_at(plan: Plan, seen: Foreseen, minutes: int) -> HourLight:
    """Sun, side of the light and its colour at so many minutes after midnight of the day."""
    site = plan.brief.site
    when = datetime.datetime.combine(site.begin.date(), datetime.time()) + datetime.timedelta(minutes=minutes)
    sun = sun_at(site, when)
    yaw = site.yaw_of(sun.bearing_deg)
    at = None
    if sun.altitude_deg > -1:
        place = seen.canvas.pixels(direction(math.radians(yaw), math.radians(sun.altitude_deg)))
        if np.isfinite(place).all() and 0 <= place[0] < seen.canvas.width and 0 <= place[1] < seen.canvas.height:
            at = float(place[0]), float(place[1])
    middle = (plan.target_field.left_deg + plan.target_field.right_deg) / 2
    return HourLight(at, f"{when:%H:%M}  {_light(sun.altitude_deg, yaw, middle, at is not None)}")


def _light(altitude_deg: float, yaw_deg: float, middle_deg: float, inside: bool) -> str:
    off = (yaw_deg - middle_deg + 180) % 360 - 180
    side = "right" if off > 0 else "left"
    if altitude_deg < BLUE_DEG[0]:
        return "night"
    if altitude_deg < BLUE_DEG[1]:
        return "blue light"
    colour = "golden light, " if GOLDEN_DEG[0] <= altitude_deg <= GOLDEN_DEG[1] else ""
    where = "in the picture" if inside else f"{units.angle(abs(off), 0)} to the {side} of the middle"
    if altitude_deg < 0:
        return f"{colour}sun below the horizon, {where}"
    return f"{colour}sun {units.angle(altitude_deg, 0)} up, {where}; {lit_from(yaw_deg, middle_deg)}"


def hours(plan: Plan) -> tuple[int, int]:
    """From when to when the light of the day is worth a look, in minutes after midnight."""
    found = day(plan.brief.site)
    rise, fall = found.first("sunrise"), found.first("sunset")
    if rise is None or fall is None or rise >= fall:
        return 0, 1439
    return max(0, rise.hour * 60 + rise.minute - 60), min(1439, fall.hour * 60 + fall.minute + 60)
