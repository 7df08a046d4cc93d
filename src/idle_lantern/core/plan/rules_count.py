"""Why a plan takes more frames than the rule done in the head."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from idle_lantern.core.base import units
from idle_lantern.core.base.judgement import Judgement, Severity
from idle_lantern.core.plan.coverage import covered, prove
from idle_lantern.core.plan.grid import numbered, plan_grid
from idle_lantern.core.plan.grid_row import cameras_of_rows
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.plan.required import Required
from idle_lantern.core.plan.row_rule import row_rule

_SAMPLES = 4400


def judge_count(plan: Plan) -> Iterator[Judgement]:
    """Tells it where reserve, frames beyond the ends and frames at the poles do not explain it, since those are wished."""
    if plan.given or plan.rig.motion != "turn":
        return
    field, lens = plan.target_field, plan.rig.lens()
    ruled = sum(len(row.yaws_rad) for row in row_rule(lens, field))
    grown = sum(len(row.yaws_rad) for row in row_rule(lens, Required.of(lens, field).grown))
    roles = [frame.role for frame in plan.frames]
    beyond, poles = roles.count("spare"), roles.count("zenith") + roles.count("nadir")
    unexplained = len(plan.frames) - grown - beyond - poles
    if unexplained <= 0:
        return
    parts = [
        f"{count} {why}"
        for count, why in (
            (grown - ruled, "for the reserve"),
            (beyond, "beyond the ends"),
            (poles, "straight up and down"),
        )
        if count
    ]
    why, todo, remedy = _reason(plan, unexplained)
    yield Judgement(
        "beyond-rule",
        Severity.NOTE,
        f"The rule in the head, with all rows alike, takes {units.counted(ruled, 'frame')}; this plan takes {len(plan.frames)}: "
        + ", ".join([*parts, f"{unexplained} because {why}"])
        + ".",
        todo,
        remedy,
    )


def _reason(plan: Plan, more: int) -> tuple[str, str, str]:
    """Why, what to do, and the remedy that does it."""
    field, support = plan.target_field, plan.brief.support.as_used()
    if field.row_frames:
        wished = units.counted(field.row_frames, "frame")
        return (
            f"{wished} in each row {'is' if field.row_frames == 1 else 'are'} wished",
            "More of them keep seams off people and things; the overlap alone asks for fewer.",
            "row-as-needed",
        )
    if support.step_deg or support.tilt_step_deg:
        free = len(plan_grid(plan.rig, field, replace(support, step_deg=0.0, tilt_step_deg=0.0)))
        if free < len(plan.frames):
            saved = "all of these" if len(plan.frames) - free >= more else str(len(plan.frames) - free)
            return (
                "the head's stops allow no wider steps",
                f"Set finer stops, or turn by the scale: that saves {saved}.",
                "no-stops",
            )
    lens = plan.rig.lens()
    required = Required.of(lens, field)
    rows = row_rule(lens, required.grown)
    out = 1 - covered(lens, cameras_of_rows(rows), required.samples(_SAMPLES)).mean()
    if out > 0:
        told = units.share(out, 1) if out >= 0.001 else "a part below 0.1 %"
        return (
            f"by that rule {told} of {'the field and its reserve' if field.reserve else 'the field'} would lie in no frame",
            "Want a little less height or width to save them.",
            "",
        )
    shared = prove(plan.rig, numbered([(row, 0) for row in rows]), field).smallest_overlap
    told = f"frames would share only {units.share(shared)}" if shared is not None else "the head does not tilt so far"
    return f"by that rule {told}", "Wish a little less overlap to save them.", ""
