"""What scouting pictures tell, for programs and for people."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from idle_lantern.core.base import units
from idle_lantern.core.scouting.detail import Detail, detail_of
from idle_lantern.core.scouting.ground import Ground
from idle_lantern.core.scouting.readings import LightReading, readings_of
from idle_lantern.core.scouting.reprojection import laid_as
from idle_lantern.core.scouting.scout_picture import SURE_CELL, SkylineRow, matching_word
from idle_lantern.core.scouting.skyline import skyline_of

#: Distance in metres, its standard error, azimuth and altitude in degrees.
Nearest = tuple[float, float, float, float]
_NEAREST = ("metres", "sigma_m", "azimuth_deg", "altitude_deg")
SCHEMA = "idle-lantern/scout-report/1"


@dataclass(frozen=True)
class Facts:
    """What was read from a ground; ``nearest`` only where two photographs a step apart tell it."""

    readings: Sequence[LightReading]
    details: Sequence[Detail]
    skyline: Sequence[SkylineRow]
    facing_deg: float | None = None
    nearest: Nearest | None = None


def facts_of(ground: Ground, facing_deg: float | None, nearest: Nearest | None = None) -> Facts:
    """All that a ground tells by itself, beside what was found out about it."""
    line = skyline_of(laid_as(ground.picture, ground.canvas))
    return Facts(readings_of(ground.glances), detail_of(ground.glances), line, facing_deg, nearest)


def as_json(ground: Ground, facts: Facts) -> dict[str, Any]:
    """The scout report of the contract."""
    canvas, nearest = ground.canvas, facts.nearest
    told = {} if nearest is None else {"nearest": dict(zip(_NEAREST, (round(v, 4) for v in nearest)))}
    return {
        **told,
        "schema": SCHEMA,
        "ground": {
            "projection": canvas.projection.name,
            "parameters": dict(canvas.projection.parameters),
            "width": canvas.width,
            "height": canvas.height,
            "px_per_rad": canvas.px_per_rad,
            "centre_px": list(canvas.centre_px),
            "rotation": canvas.canvas_from_world.tolist(),
            "full_circle": canvas.full_circle,
        },
        "horizon": {
            "pitch_deg": round(ground.pitch_deg, 4),
            "roll_deg": round(ground.roll_deg, 4),
            "sigma_deg": round(ground.sigma_deg, 4),
        },
        "readings": [[r.azimuth_deg, round(r.ev, 3), r.bound] for r in facts.readings],
        "detail": [[d.azimuth_deg, d.altitude_deg, round(d.share, 3)] for d in facts.details],
        "matching": [[d.azimuth_deg, d.altitude_deg, matching_word(d.share, SURE_CELL)] for d in facts.details],
        "skyline": [list(row) for row in facts.skyline],
        "facing_deg": None if facts.facing_deg is None else round(facts.facing_deg, 3),
        "told": list(ground.told),
    }


def as_text(ground: Ground, facts: Facts) -> str:
    """The same for people."""
    canvas, nearest, readings, facing_deg = ground.canvas, facts.nearest, facts.readings, facts.facing_deg
    lines = [
        f"{len(ground.paths)} picture{'s' * (len(ground.paths) != 1)}: a {canvas.projection.name} ground of "
        f"{units.grouped(canvas.width)} x {units.grouped(canvas.height)} px",
        f"Horizon: pitch {ground.pitch_deg:+.1f}°, roll {ground.roll_deg:+.1f}°, known to {ground.sigma_deg:.1f}°",
        f"Facing: {facing_deg:.0f}°" if facing_deg is not None else "Facing: not known; --sun X,Y with --at tells it",
        *ground.told,
    ]
    if nearest is not None:
        metres, sigma, azimuth, altitude = nearest
        lines.append(f"Nearest thing: {units.measured(metres, sigma)} m, at {azimuth:+.0f}°/{altitude:+.0f}°")
    if readings:
        lines.append("Light (EV at ISO 100):")
        words = {"ok": "", "at least": " at least", "at most": " at most"}
        lines += [f"  {r.azimuth_deg:+6.0f}°{words[r.bound]} {r.ev:.1f}" for r in readings]
        each = [r.ev for r in readings]
        lines.append(f"  from {min(each):.1f} to {max(each):.1f}: {max(each) - min(each):.1f} EV apart")
    else:
        lines.append("Light: the files do not tell their exposure")
    if facts.skyline:
        top = max(facts.skyline, key=lambda row: row[1])
        lines.append(
            f"Skyline: up to {top[1]:.1f}° high at {top[0]:+.0f}°, known to {math.hypot(top[2], ground.sigma_deg):.1f}°"
        )
    for word, told in (("nothing", "Nothing to match"), ("weak", "Weak to match")):
        cells = [d for d in facts.details if matching_word(d.share, SURE_CELL) == word]
        if cells:
            where = ", ".join(f"{d.azimuth_deg:+.0f}°/{d.altitude_deg:+.0f}°" for d in cells[:12])
            more = f" and {len(cells) - 12} more" if len(cells) > 12 else ""
            lines.append(f"{told} (azimuth/altitude): {where}{more}")
    return "\n".join(lines) + "\n"
