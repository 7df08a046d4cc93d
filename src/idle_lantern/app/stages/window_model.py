"""What the line of stages tells of each: what it still lacks; and where the part of a picture that is shown lies. No Qt."""

from __future__ import annotations

import math
import time
from collections.abc import Sequence

import numpy as np

from idle_lantern.app.cropping import crop_box
from idle_lantern.app.stages.finish_model import lacks as finish_lacks
from idle_lantern.app.stages.join_request_model import differs
from idle_lantern.core.base import units
from idle_lantern.core.base.arrays import Array
from idle_lantern.core.deliver.sight import Sight
from idle_lantern.core.geometry.frame_outlines import area_deg
from idle_lantern.core.geometry.sphere import direction
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
        "finish": finish_lacks(outing.finish) if joined is not None else "waits for the join",
        "deliver": units.megapixels(area)
        if joined is not None
        else "opening the picture"
        if opening
        else "waits for the join",
        "logbook": "outings so far",
    }


def looked_at(sight: Sight, size: tuple[int, int]) -> Array:
    """What one sees while looking around, in a window of that size, as an area (N, 2) in degrees."""
    f, turn = sight.focal_px(size), sight.turn()
    t = np.linspace(-1, 1, 12, endpoint=False)
    one = np.ones(12)
    rim = np.concatenate(
        [np.stack([t, -one], -1), np.stack([one, t], -1), np.stack([-t, one], -1), np.stack([-one, -t], -1)]
    )
    half = np.array(size) / 2 / f
    rays = np.column_stack([rim * half, np.ones(len(rim))]) @ turn
    poles = np.array([[0.0, -1.0, 0.0], [0.0, 1.0, 0.0]]) @ turn.T
    above, below = (bool(p[2] > 0 and abs(p[0]) < half[0] * p[2] and abs(p[1]) < half[1] * p[2]) for p in poles)
    return area_deg(rays, turn[2], above=above, below=below)


def sight(joined: JoinResult, shown: Sequence[float]) -> Array | None:
    """The part of a picture that stands in the window as an area (N, 2) in degrees; None where all of it does.

    ``shown`` are left, top, right and bottom in pixels of the picture.
    """
    canvas = joined.canvas
    left, top = max(0.0, shown[0]), max(0.0, shown[1])
    right, bottom = min(canvas.width - 1.0, shown[2]), min(canvas.height - 1.0, shown[3])
    whole = left <= 1 and top <= 1 and right >= canvas.width - 2 and bottom >= canvas.height - 2
    if whole or right <= left or bottom <= top:
        return None
    t = np.linspace(0, 1, 12, endpoint=False)
    across, down = left + t * (right - left), top + t * (bottom - top)
    rim = np.concatenate(
        [
            np.stack([across, np.full(12, top)], -1),
            np.stack([np.full(12, right), down], -1),
            np.stack([across[::-1] + (right - left) / 12, np.full(12, bottom)], -1),
            np.stack([np.full(12, left), down[::-1] + (bottom - top) / 12], -1),
        ]
    )
    rays = canvas.directions(rim)
    rays = rays[np.isfinite(rays).all(-1)]
    middle = canvas.directions(np.array([(left + right) / 2, (top + bottom) / 2]))
    if len(rays) < 3 or not np.isfinite(middle).all():
        return None
    poles = canvas.pixels(np.array([[0.0, -1.0, 0.0], [0.0, 1.0, 0.0]]))
    above, below = (bool(left <= u <= right and top <= v <= bottom) for u, v in poles)
    return area_deg(rays, middle, above=above, below=below)


def place_of(joined: JoinResult, azimuth_deg: float, altitude_deg: float) -> tuple[float, float] | None:
    """The pixel of a picture that shows a direction; None where it shows it nowhere."""
    u, v = joined.canvas.pixels(direction(math.radians(azimuth_deg), math.radians(altitude_deg)))
    inside = 0 <= u < joined.canvas.width and 0 <= v < joined.canvas.height
    return (float(u), float(v)) if inside else None
