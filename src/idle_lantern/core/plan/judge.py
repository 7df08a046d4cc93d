"""What a practitioner would say of a plan: each rule looks at it and says at most one thing of its kind.

Every judgement carries its number, its reason and what to do; where the remedy is an
edit of the brief, ``remedies.py`` applies it by the judgement's ``remedy_id``.
"""

from __future__ import annotations

from idle_lantern.core.base.judgement import Judgement
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.plan.rules_count import judge_count
from idle_lantern.core.plan.rules_evening import judge_evening, judge_light, judge_output, judge_time
from idle_lantern.core.plan.rules_exposure import judge_exposure, judge_filters, judge_shallow, judge_sharpness
from idle_lantern.core.plan.rules_field import judge_field, judge_sides, judge_sphere
from idle_lantern.core.plan.rules_grid import judge_overlap, judge_rows
from idle_lantern.core.plan.rules_marks import judge_marks
from idle_lantern.core.plan.rules_support import judge_pupil, judge_support


def judge(plan: Plan) -> tuple[Judgement, ...]:
    """All that speaks against the plan, the heaviest first."""
    rules = (
        judge_field,
        judge_overlap,
        judge_rows,
        judge_count,
        judge_marks,
        judge_sides,
        judge_sphere,
        judge_support,
        judge_pupil,
        judge_sharpness,
        judge_shallow,
        judge_exposure,
        judge_filters,
        judge_light,
        judge_evening,
        judge_time,
        judge_output,
    )
    found = [j for rule in rules for j in rule(plan)]
    return tuple(sorted(found, key=lambda j: -j.severity))
