"""Order and time."""

from __future__ import annotations

from idle_lantern.app.planning.brief_binding import number_with, plain
from idle_lantern.app.planning.topics.base import Topic
from idle_lantern.app.planning.topics.quantities import (
    COUNT,
    SECONDS,
)
from idle_lantern.app.widgets.basics import column, form
from idle_lantern.app.widgets.blocks import Blocks
from idle_lantern.core.base import units
from idle_lantern.core.plan.order import REASONS
from idle_lantern.core.plan.planner import Plan


class RunTopic(Topic):
    """In what order, how often, how long."""

    title = "Order and time"

    def build(self, box: Blocks) -> None:
        n, b = self.bound.number, self.bound
        titles = {
            "rows": "rows",
            "rows-left": "rows from right",
            "snake": "snake",
            "columns": "columns, down",
            "columns-up": "columns, up",
            "subject": "subject first",
            "mirrored": "both sides alike",
            "rings": "rings",
            "sun": "sunny side first",
        }
        box.add(
            column(
                form(
                    [
                        (
                            "Order",
                            b.choice("run", "order", "Order", [(k, t, REASONS[k]) for k, t in titles.items()]),
                        ),
                        ("Each frame", n("run", "repeats", "Repeats", *COUNT, whole=True)),
                        ("Settling", n("run", "settle_s", "Settling", *SECONDS)),
                        ("Delay", n("run", "delay_s", "Delay of the shutter", *SECONDS)),
                        ("Turning", n("run", "turn_deg_per_s", "Turning", number_with("°/s", "12"), plain(3, "°/s"))),
                    ]
                ),
                b.switch("run", "bookends", "Bookends: a hand before the lens"),
                None,
            ),
        )
        box.add(
            column(
                self.told(lambda p: REASONS[p.brief.run.order], "order-reason", ""),
                self.facts(
                    ("The whole run", "run", lambda p: units.duration(p.shoot_s)),
                    ("Exposing", "exposing", lambda p: units.duration(p.time.exposing_s)),
                    ("Settling", "settling", lambda p: units.duration(p.time.settling_s)),
                    (
                        "Turning",
                        "turning",
                        lambda p: f"{units.duration(p.time.turning_s)}, {p.time.turning_deg:.0f}° in all",
                    ),
                    ("Exposures", "exposures", lambda p: f"{p.time.exposures}"),
                    ("Ends at", "end", lambda p: f"{p.end:%H:%M:%S}"),
                ),
                self.told(self._marks, "fact-marks", "dim"),
                None,
            ),
            2,
        )

    def _marks(self, plan: Plan) -> str:
        marks = plan.brief.scene.marks
        return f"Marks: {', '.join(f'{m.name} at {units.angle(m.yaw_deg, 0)}' for m in marks)}." if marks else ""

    def summary(self, plan: Plan) -> str:
        return f"{plan.brief.run.order}, {units.duration(plan.shoot_s)}"
