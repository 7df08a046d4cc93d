"""What the line of stages tells of each: what it still lacks. No Qt."""

from __future__ import annotations

import time

from idle_lantern.app.cropping import crop_box
from idle_lantern.app.stages.join_request_model import differs
from idle_lantern.core.base import units
from idle_lantern.core.join.request import JoinResult
from idle_lantern.core.outing.model import Outing
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.shoot.guide import Guide


def saving(unsaved_since: float | None, *, reading: bool, open_: bool) -> tuple[str, str]:
    """What stands beside the outing's name, and how: whether its changes are safe."""
    if unsaved_since is not None:
        return f"◆ NOT SAVED since {time.strftime('%H:%M', time.localtime(unsaved_since))}", "warn"
    if reading:
        return "◆ open in another window: to look at only", "warn"
    return ("saves itself" if open_ else ""), "dim"


def lacks(
    plan: Plan, outing: Outing, guide: Guide, joined: JoinResult | None, *, opening: bool = False
) -> dict[str, str]:
    """By stage, in a few words; ``opening`` while a joined picture is there and is being opened."""
    n, files = len(plan.frames), len(outing.frames)
    planned = f"{n} frame{'s' if n != 1 else ''}" + ("" if plan.coverage.complete else ", with a hole")
    taken = f"{guide.shot} of {n} shot" if guide.missing or guide.shot else "nothing shot yet"
    if not outing.shows_plan:
        planned, taken = "none made", "from photographs"
    join = {"": "joined", "frames": "frames changed since", "choices": "choices changed since"}
    join |= {"lens": "another lens chosen since", "files": "other files chosen since", "points": "points set since"}
    join |= {"cut": "a link cut since"}
    area = 0
    if joined is not None:
        area = crop_box(outing, joined).area
    return {
        "plan": planned,
        "field": taken,
        "frames": f"{files} file{'s' if files != 1 else ''}" if files else "none yet",
        "join": join[differs(outing, joined)]
        if joined is not None
        else "opening the picture"
        if opening
        else "not joined yet",
        "deliver": units.megapixels(area)
        if joined is not None
        else "opening the picture"
        if opening
        else "waits for the join",
        "logbook": "outings so far",
    }
