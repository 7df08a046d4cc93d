"""Card, join, formats, paper."""

from __future__ import annotations

from collections.abc import Callable

from idle_lantern.app.planning.brief_binding import number_with, plain
from idle_lantern.app.planning.topics.base import Topic
from idle_lantern.app.widgets.basics import column, form
from idle_lantern.app.widgets.blocks import Blocks
from idle_lantern.core.base import units
from idle_lantern.core.plan.cost import cards_needed
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.plan.size import (
    USUAL_DPI,
    largest_sheet,
    unfit_formats,
)


def _told(value: float, within: float, words: Callable[[float], str]) -> str:
    """About so much, or from and to where nothing on this machine tells it better."""
    return f"about {words(value)}" if within <= 1 else f"{words(value / within)} to {words(value * within)}"


class CostTopic(Topic):
    """Card, join, formats, paper."""

    title = "Cost and size"

    def build(self, box: Blocks) -> None:
        box.add(
            column(
                self.facts(
                    ("Exposures", "cost-exposures", lambda p: f"{p.cost.exposures}"),
                    ("Card space", "card", self._card),
                    (
                        "Time to join",
                        "join-time",
                        lambda p: _told(p.cost.join_s, p.cost.seconds_within, units.duration),
                    ),
                    (
                        "Memory to join",
                        "join-memory",
                        lambda p: f"{_told(p.cost.join_mib, p.cost.mib_within, units.grouped)} MiB",
                    ),
                    (
                        "Joined",
                        "joined",
                        lambda p: f"{units.grouped(p.size.width_px)} × {units.grouped(p.size.height_px)} px",
                    ),
                    ("TIFF, 16 bit", "tiff", lambda p: units.file_size(p.size.tiff16_bytes)),
                    ("Fits into", "fits", self._fits),
                ),
                self.told(
                    lambda p: (
                        f"By this machine's last {p.cost.from_joins} joins."
                        if p.cost.from_joins
                        else "Nothing has been joined on this machine yet: usual figures."
                    ),
                    "cost-reason",
                ),
                None,
            ),
        )
        card = self.bound.number("run", "card_gb", "One card", number_with("GB", "64"), plain(6, "GB"), step=32)
        prints = self.facts(*((f"Print at {dpi:.0f} dpi", f"print-{dpi:.0f}", self._print(dpi)) for dpi in USUAL_DPI))
        box.add(
            column(
                form([("One card holds", card)]),
                prints,
                self.told(lambda _p: "Sheets are the largest of ISO 216 filled along the longer side."),
                None,
            ),
        )

    def _card(self, plan: Plan) -> str:
        one = plan.brief.run.card_gb
        return f"{plan.cost.card_gb:.1f} GB, {cards_needed(plan.cost.card_gb, one)} × {one:g} GB"

    def _fits(self, plan: Plan) -> str:
        unfit = unfit_formats(plan.size)
        return "every format" if not unfit else "not " + ", ".join(name for name, _ in unfit)

    def _print(self, dpi: float) -> Callable[[Plan], str]:
        def tell(plan: Plan) -> str:
            w, h = plan.size.print_mm(dpi)
            imperial = self.context.settings.imperial
            sheet = largest_sheet(plan.size, dpi)
            return f"{units.length(w, imperial)} × {units.length(h, imperial)}" + (f", {sheet}" if sheet else "")

        return tell

    def summary(self, plan: Plan) -> str:
        return f"{units.megapixels(plan.size.pixels)}, {plan.cost.card_gb:.1f} GB"
