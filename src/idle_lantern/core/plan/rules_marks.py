"""Rules about the marks: what the picture must hold whole, and what no seam may cross."""

from __future__ import annotations

import math
from collections.abc import Iterator

from idle_lantern.core.base import units
from idle_lantern.core.base.errors import shortened
from idle_lantern.core.base.judgement import Judgement, Severity
from idle_lantern.core.plan.brief import Mark
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.plan.target_field import TargetField

#: Characters of a mark's name by which a remark on it is known.
_MOST_NAMED = 80
#: Room that is kept between a thing and the edge of the picture (common practice, no source).
MARGIN_DEG = 1.0
#: A thing is well inside a frame this share of its width from the middle.
_INSIDE = 0.45


def judge_marks(plan: Plan) -> Iterator[Judgement]:
    """Whether the picture cuts what it must hold, and a seam what it must not cross."""
    field = plan.target_field
    for mark in plan.brief.scene.marks:
        name = shortened(mark.name, _MOST_NAMED)
        missing = missing_deg(field, mark) if mark.role in ("whole", "subject") else {}
        if missing:
            edge = max(missing, key=lambda e: missing[e])
            more = ", ".join(f"{units.angle(by)} more {_SIDES[edge]}" for edge, by in missing.items())
            yield Judgement(
                f"cut-{name}",
                Severity.CARE,
                f"{_EDGES[edge]} cuts '{name}': {more}.",
                "Let the picture reach beyond it, or move the mark if it stands elsewhere.",
                "hold-marks",
            )
        if mark.role != "bare" and mark.keep_off_seams and not missing and plan.frames:
            nearest, turn, tilt = _nearest(plan, mark)
            if turn or tilt:
                moves = [
                    f"{units.angle(abs(by))} {way[by > 0]}"
                    for by, way in ((turn, ("to the left", "to the right")), (tilt, ("down", "up")))
                    if by
                ]
                yield Judgement(
                    f"seam-on-{name}",
                    Severity.CARE,
                    f"No frame holds '{name}' ({units.angle(mark.width_deg)} wide) well inside: a seam would cross it. "
                    f"Frame {nearest.number} comes nearest; it would have to look {' and '.join(moves)}.",
                    "Take more overlap, so that one frame holds it whole.",
                    "overlap-half",
                )


_EDGES = {"left": "The left end", "right": "The right end", "low": "The lower edge", "high": "The upper edge"}
_SIDES = {"left": "to the left", "right": "to the right", "low": "down", "high": "up"}


def missing_deg(field: TargetField, mark: Mark) -> dict[str, float]:
    """By how many degrees each edge of the field would have to move to hold a mark whole with some room; empty where it does."""
    middle = (field.left_deg + field.right_deg) / 2
    yaw = middle + (mark.yaw_deg - middle + 180) % 360 - 180
    wide, tall = mark.width_deg / 2 + MARGIN_DEG, mark.tall_deg / 2 + MARGIN_DEG
    short = {
        "left": 0.0 if field.full_circle else field.left_deg - (yaw - wide),
        "right": 0.0 if field.full_circle else yaw + wide - field.right_deg,
        "low": field.low_deg - max(-90.0, mark.pitch_deg - tall),
        "high": min(90.0, mark.pitch_deg + tall) - field.high_deg,
    }
    return {edge: by for edge, by in short.items() if by > 0.05}


def holding(field: TargetField, marks: tuple[Mark, ...]) -> dict[str, float]:
    """Edges of a field that holds all marks that must be whole, as changes of a ``TargetField``."""
    edges = {"left": field.left_deg, "right": field.right_deg, "low": field.low_deg, "high": field.high_deg}
    for mark in marks:
        if mark.role in ("whole", "subject"):
            for edge, by in missing_deg(field, mark).items():
                outward = -1 if edge in ("left", "low") else 1
                now = getattr(field, f"{edge}_deg") + outward * by
                edges[edge] = outward * max(outward * edges[edge], outward * now)
    if edges["right"] - edges["left"] > 360:
        middle = (edges["left"] + edges["right"]) / 2
        edges["left"], edges["right"] = middle - 180, middle + 180
    return {f"{edge}_deg": round(value, 2) for edge, value in edges.items()}


def _nearest(plan: Plan, mark: Mark) -> tuple[GridFrame, float, float]:
    """The frame that shows a thing best, and by how many degrees it misses holding it well inside, sideways and in height."""
    wide, tall = (math.degrees(v) for v in plan.rig.lens().field_rad())
    best: tuple[float, GridFrame, float, float] | None = None
    for frame in plan.frames:
        turn = (mark.yaw_deg - frame.yaw_deg + 180) % 360 - 180
        narrow = math.cos(math.radians(mark.pitch_deg))
        across = max(0.0, abs(turn) * narrow + mark.width_deg / 2 - _INSIDE * wide)
        tilt = mark.pitch_deg - frame.pitch_deg
        up = max(0.0, abs(tilt) + mark.tall_deg / 2 - _INSIDE * tall)
        if best is None or across + up < best[0]:
            best = (
                across + up,
                frame,
                math.copysign(across / max(narrow, 0.05), turn) if across else 0.0,
                math.copysign(up, tilt) if up else 0.0,
            )
    assert best is not None
    return best[1:]
