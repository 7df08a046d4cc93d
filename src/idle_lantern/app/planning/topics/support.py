"""What holds the camera, and the no-parallax point."""

from __future__ import annotations

import datetime

from PyQt6.QtWidgets import QPushButton

from idle_lantern.app.planning.brief_binding import narrow, number_with
from idle_lantern.app.planning.drawings import PupilDrawing
from idle_lantern.app.planning.topics.base import Topic
from idle_lantern.app.planning.topics.quantities import (
    DEG,
    METRES,
    MM,
    or_unknown,
)
from idle_lantern.app.widgets.basics import button, column, form, row
from idle_lantern.app.widgets.blocks import Blocks
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.core.base import units
from idle_lantern.core.gear.entries import LensEntry, RailKnown
from idle_lantern.core.outing import edits
from idle_lantern.core.plan.planner import Plan


class SupportTopic(Topic):
    """What holds the camera, its stops and scale, and the no-parallax point."""

    title = "Support and pupil"

    def build(self, box: Blocks) -> None:
        n, b = self.bound.number, self.bound
        self.head = Chooser()
        self.head.setAccessibleName("head of the gear library")
        self.head.setObjectName("gear-head")
        narrow(self.head)
        self.head.activated.connect(lambda i: self.commands.take_gear("head", self.head.itemData(i)))
        kinds = [
            ("head", "panoramic head", "turns about the lens's no-parallax point"),
            ("tripod", "tripod, ball", "turns about the tripod screw"),
            ("hand", "held by hand", "enough today for wide lenses and far scenes, say some"),
            ("air", "hovering", "pointed by remote"),
        ]
        ways = [(True, "to the right", ""), (False, "to the left", "")]
        stops = (units.parse_angle_deg, lambda v: "none" if v == 0 else units.angle(v))
        box.add(
            column(
                form(
                    [
                        ("From the library", self.head),
                        ("Support", b.choice("support", "kind", "Support", kinds)),
                        ("Head's stops", n("support", "step_deg", "Stops of the head", *stops)),
                        ("Tilt's stops", n("support", "tilt_step_deg", "Stops of the tilt", *stops)),
                        ("Scale at yaw 0", n("support", "scale_start_deg", "Scale at yaw 0", *DEG)),
                        ("Scale grows", b.choice("support", "scale_clockwise", "Scale numbers", ways)),
                        ("Tilts down to", n("support", "tilt_low_deg", "Lowest tilt", *DEG)),
                        ("Tilts up to", n("support", "tilt_high_deg", "Highest tilt", *DEG)),
                        (
                            "Feet across",
                            n("support", "leg_circle_mm", "Circle of the feet", units.parse_length_mm, or_unknown),
                        ),
                        ("First leg at yaw", n("support", "first_leg_deg", "First leg at yaw", *DEG)),
                        (
                            "Weight of legs",
                            n("support", "legs_kg", "Weight of the legs", number_with("kg", "2"), _kg_or_unknown),
                        ),
                    ]
                ),
                None,
            ),
        )
        fields = form(
            [
                ("Axis off pupil", n("support", "pupil_off_mm", "Axis off the pupil", *MM, step=5)),
                ("Rail setting", n("rig", "rail_mm", "Rail setting", units.parse_length_mm, or_unknown)),
                ("Rail, ±", n("rig", "rail_doubt_mm", "Doubt of the rail setting", *MM)),
            ]
        )
        errors = form(
            [
                ("Base leans", n("support", "base_tilt_deg", "Lean of the base", *DEG, step=0.1)),
                (
                    "Pointing error",
                    n("support", "pointing_deg", "Pointing error", units.parse_angle_deg, _usual_or_angle, step=0.1),
                ),
                ("Nearest thing", n("scene", "near_m", "Nearest thing", *METRES)),
            ]
        )
        box.add(fields)
        box.add(errors)
        right = column(
            self.drawing(PupilDrawing("What a wrong pupil setting shows", 136)),
            self.told(self._tell_pupil, "fact-pupil", "", later=True),
            row(self.told(self._tell_rail, "fact-rail"), button("Use this rail", self._take_rail, name="take-rail")),
            row(button("Measure it …", self.commands.measure_pupil, name="measure-pupil"), None),
            None,
        )
        box.add(right, 2)
        self.show_gear()

    def show_plan(self, plan: Plan) -> None:
        super().show_plan(plan)
        kind = plan.brief.support.kind
        # a hand and a hovering camera have neither scale nor stops, and only a head has a rail
        self.show_rows(("step_deg", "tilt_step_deg", "scale_start_deg", "scale_clockwise"), kind in ("head", "tripod"))
        self.show_rows(("legs_kg", "leg_circle_mm", "first_leg_deg", "base_tilt_deg"), kind in ("head", "tripod"))
        self.show_rows(("rail_mm", "rail_doubt_mm"), kind == "head")

    def show_gear(self) -> None:
        """Fill the list from the library."""
        self.head.clear()
        self.head.addItem("choose …", None)
        for entry in self.commands.gear_entries("head"):
            self.head.addItem(entry.name, entry.name)

    def _rail(self, plan: Plan) -> RailKnown | None:
        """What the library knows of the rail for the lens and focal length in use."""
        entry = next((e for e in self.commands.gear_entries("lens") if e.name == plan.rig.lens_name), None)
        if entry is None or not isinstance(entry.facts, LensEntry):
            return None
        return entry.facts.rail_known(plan.rig.focal_mm, plan.rig.camera, datetime.date.today())

    def _tell_rail(self, plan: Plan) -> str:
        known = self._rail(plan)
        take = self.findChild(QPushButton, "take-rail")
        if take is not None:
            take.setVisible(known is not None)
        if known is None:
            return "" if not plan.rig.lens_name else f"The gear library has no rail setting for {plan.rig.lens_name}."
        why = f" ({known.words})" if known.words else ""
        return f"By the gear library for {plan.rig.focal_mm:g} mm: {known.setting_mm:.0f} mm, known within {known.doubt_mm:.1f} mm{why}."

    def _take_rail(self) -> None:
        known = self._rail(self.state.plan)
        if known is not None:
            self.state.apply(
                edits.set_rig(
                    "Take the rail setting", rail_mm=round(known.setting_mm, 1), rail_doubt_mm=round(known.doubt_mm, 1)
                )
            )

    def _tell_pupil(self, plan: Plan) -> str:
        p = plan.pupil
        if plan.rig.motion != "turn":
            return "Nothing turns: the pupil stays where it is."
        chance = plan.hole_chance
        hole = (
            ""
            if chance is None
            else f" Pointed like this, {units.share(chance.share)} of tried runs leave a hole (± {units.share(chance.error)})."
        )
        if p.tolerance_mm > 1000:
            return f"Far scene: the axis may stand anywhere near the camera.{hole}"
        return (
            f"Turning by {units.angle(p.step_deg)} with things {units.distance(p.near_m)} away, the axis must stand within "
            f"{p.tolerance_mm:.0f} mm of the no-parallax point for at most {p.allowed_px:g} px.{hole}"
        )

    def summary(self, plan: Plan) -> str:
        t = plan.pupil.tolerance_mm
        return f"{plan.brief.support.kind}, " + (f"± {t:.0f} mm" if t < 1000 else "pupil free")


def _kg_or_unknown(value: float) -> str:
    return "unknown" if value == 0 else f"{value:g} kg"


def _usual_or_angle(value: float) -> str:
    return "as usual" if value == 0 else units.angle(value)
