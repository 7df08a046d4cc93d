"""What the Plan stage's right column shows, as plain values: no Qt, tested without a window."""

from __future__ import annotations

from idle_lantern.core.base import units
from idle_lantern.core.plan.planner import Plan

FACTS = (("overlap", "Smallest overlap"), ("size", "Joined"), ("time", "Time to shoot"))
ALL_WELL = "Nothing speaks against this plan: the whole field is covered, as sampled on the sphere."


def count(plan: Plan) -> str:
    """How many frames in how many rows."""
    n, rows = len(plan.frames), len(plan.rows)
    return f"{n} frame{'s' if n != 1 else ''}" + (f" in {rows} rows" if rows > 1 else " in one row")


def rows(plan: Plan) -> str:
    """Frames of each row, exposures where they are more, and the projection that suits."""
    shown = plan.rows if len(plan.rows) <= 5 else plan.rows[:4]
    described = ", ".join(f"{len(r)} at {units.angle(r[0].pitch_deg)}" for r in shown)
    more = f" and {len(plan.rows) - 4} rows more" if len(plan.rows) > 5 else ""
    made = plan.time.exposures - (2 if plan.brief.run.bookends else 0)  # without the hands before the lens
    exposures = f" {made} exposures." if made > len(plan.frames) else ""
    return f"{described}{more}.{exposures} {plan.size.projection.capitalize()}."


def facts(plan: Plan) -> dict[str, str]:
    """Key figures, by the keys of ``FACTS``."""
    c, s = plan.coverage, plan.size
    overlap = "no neighbour"
    if c.smallest_overlap is not None and c.smallest_between is not None:
        one, other = c.smallest_between
        overlap = f"{units.share(c.smallest_overlap)} (frames {one} and {other})"
    return {
        "overlap": overlap,
        "size": f"{units.grouped(s.width_px)} × {units.grouped(s.height_px)} px",
        "time": f"{units.duration(plan.shoot_s)}, until {plan.end:%H:%M}",
    }
