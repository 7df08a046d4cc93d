"""Overlap, frames by number, and the focal length that a print asks for."""

from __future__ import annotations

from collections.abc import Callable

from idle_lantern.app.planning.brief_binding import narrow, number_with, plain
from idle_lantern.app.planning.topics.base import Topic
from idle_lantern.app.planning.topics.quantities import (
    COUNT,
    METRES,
    SHARE,
    mm_or_none,
    or_needed,
)
from idle_lantern.app.widgets.basics import button, column, form, label
from idle_lantern.app.widgets.blocks import Blocks
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.app.widgets.quantity_edit import QuantityEdit
from idle_lantern.core.base import units
from idle_lantern.core.outing import edits
from idle_lantern.core.plan.brief import OVERLAP_SCHOOLS
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.plan.size import (
    focal_for_pixels,
    focal_for_px_per_degree,
    told_focal_mm,
)
from idle_lantern.core.plan.target_field import AS_NEEDED


class OverlapTopic(Topic):
    """How much frames overlap, how many there shall be, and the lens for a print of some size."""

    title = "Overlap and size"

    def build(self, box: Blocks) -> None:
        n, b = self.bound.number, self.bound
        self.school = Chooser()
        self.school.setAccessibleName("Overlap by school")
        narrow(self.school, 18)
        self.school.addItem("usual overlaps …")
        for key, text in (
            ("quick", "15 %: quick, long lens"),
            ("long", "20 %: long lens, firm tripod"),
            ("third", "one third: the usual default"),
            ("thrice", "40 %: each thing in three frames"),
            ("half", "50 %: only the sharp middle is used"),
        ):
            self.school.addItem(text, OVERLAP_SCHOOLS[key])
        self.school.activated.connect(self._take_school)
        grid = form(
            [
                ("Overlap", n("target_field", "overlap", "Overlap", *SHARE, step=0.05)),
                (
                    "Between rows",
                    n(
                        "target_field",
                        "overlap_rows",
                        "Overlap between rows",
                        units.parse_share,
                        _same_or_share,
                        step=0.05,
                    ),
                ),
                ("Crop reserve", n("target_field", "reserve", "Reserve for the crop", *SHARE, step=0.05)),
                ("Beyond ends", n("target_field", "spare_ends", "Frames beyond each end", *COUNT, whole=True)),
                ("In each row", n("target_field", "row_frames", "Frames in each row", *or_needed(0), whole=True)),
                (
                    "At the zenith",
                    n("target_field", "zenith_frames", "Zenith frames", *or_needed(AS_NEEDED), whole=True),
                ),
                ("At the nadir", n("target_field", "nadir_frames", "Nadir frames", *or_needed(AS_NEEDED), whole=True)),
            ]
        )
        fewest = b.switch("target_field", "fewest", "Fewest frames")
        loss = self.facts(("The crop loses", "crop", lambda p: p.crop.told), later=True)
        box.add(column(grid, None))
        box.add(column(label("Usual overlaps", "head"), self.school, fewest, loss, None))
        b.number("target", "print_mm", "Print", units.parse_length_mm, mm_or_none, step=100)
        b.number("target", "dpi", "Resolution", number_with("dpi", "240"), plain(4, "dpi"), step=10)
        b.number("target", "viewing_m", "Seen from", *METRES, step=0.5)
        back = form(
            [
                (t, b.numbers[k])
                for t, k in (("Longer side", "print_mm"), ("Printed at", "dpi"), ("Seen from", "viewing_m"))
            ]
        )
        self.wanted = [
            button("", self._use_print, name="use-print"),
            button("", self._use_megapixels, name="use-megapixels"),
            button("", self._use_density, name="use-density"),
        ]
        self.megapixels = plain_number("Megapixels", 100, self._show_wanted, "field-megapixels")
        self.density = plain_number("Pixels per degree", 60, self._show_wanted, "field-density")
        more = form([("Megapixels", self.megapixels), ("Pixels per °", self.density)])
        box.add(column(label("The lens for a print", "head"), back, self.wanted[0], more, *self.wanted[1:], None))

    def summary(self, plan: Plan) -> str:
        return f"{units.share(plan.target_field.overlap)}, {plan.size.width_px * plan.size.height_px / 1e6:.3g} MP"

    def show_plan(self, plan: Plan) -> None:
        super().show_plan(plan)
        self._show_wanted()

    def _take_school(self, index: int) -> None:
        value = self.school.itemData(index)
        if value is not None:
            self.state.apply(edits.set_target_field("Change the overlap", overlap=float(value)))
        self.school.setCurrentIndex(0)

    def _focal_lengths(self) -> tuple[float, float, float]:
        plan = self.state.plan
        t, s = plan.brief.target, plan.size
        by_print = plan.rig.focal_mm * (t.print_mm / 25.4 * t.dpi) / max(s.width_px, s.height_px, 1)
        return (
            by_print,
            focal_for_pixels(plan.rig, plan.target_field, max(0.1, self.megapixels.value) * 1e6),
            focal_for_px_per_degree(plan.rig, max(0.1, self.density.value)),
        )

    def _show_wanted(self, *_: object) -> None:
        needs = self._focal_lengths()
        names = ("this print", "so many megapixels", "that density")
        for made, focal, name in zip(self.wanted, needs, names):
            fits = 1 <= focal <= 3000
            made.setEnabled(fits)
            made.setText(
                f"Plan with {told_focal_mm(focal):g} mm"
                if fits
                else "no print given"
                if made is self.wanted[0]
                else "out of reach"
            )
            made.setAccessibleName(f"Plan with {told_focal_mm(focal):g} mm for {name}")

    def _use(self, which: int) -> None:
        self.state.apply(edits.set_rig("Take that focal length", focal_mm=told_focal_mm(self._focal_lengths()[which])))

    def _use_print(self) -> None:
        self._use(0)

    def _use_megapixels(self) -> None:
        self._use(1)

    def _use_density(self) -> None:
        self._use(2)


def _same_or_share(value: float) -> str:
    return "the same" if value == 0 else units.share(value)


def plain_number(name: str, value: float, use: Callable[[], object], object_name: str) -> QuantityEdit:
    """A number that belongs to the page and not to the brief."""
    field = QuantityEdit(name, units.parse_number, plain(5))
    field.setObjectName(object_name)
    field.show_value(value)

    def take(new: float) -> None:
        field.show_value(max(0.1, new))
        use()

    field.submitted.connect(take)
    return field
