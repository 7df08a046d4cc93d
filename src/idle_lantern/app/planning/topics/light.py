"""Sun, moon and the evening."""

from __future__ import annotations

from idle_lantern.app.planning.brief_binding import number_with, plain
from idle_lantern.app.planning.drawings import SunDrawing, TourDrawing
from idle_lantern.app.planning.topics.base import Topic
from idle_lantern.app.planning.topics.quantities import (
    DEG,
)
from idle_lantern.app.widgets.basics import button, column, form, row
from idle_lantern.app.widgets.blocks import Blocks
from idle_lantern.core.base import units
from idle_lantern.core.outing import edits
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.plan.sun import day, lit_from


class LightTopic(Topic):
    """Place and date: sun, moon, which light when, and the evening's other scenes."""

    title = "Light"

    def build(self, box: Blocks) -> None:
        n, b = self.bound.number, self.bound
        box.add(
            column(
                form(
                    [
                        ("Place", b.text("site", "name", "Place")),
                        ("Latitude", n("site", "latitude_deg", "Latitude", units.parse_latitude_deg, _four)),
                        ("Longitude", n("site", "longitude_deg", "Longitude", units.parse_longitude_deg, _four)),
                        ("Date", b.text("site", "date", "Date", parse=units.parse_date)),
                        ("Start", b.text("site", "start", "Start", parse=units.parse_clock)),
                        (
                            "Hours from UTC",
                            n("site", "utc_offset_h", "Hours from UTC", number_with("h", "1"), plain(4, "h")),
                        ),
                        ("Yaw 0 faces", n("site", "facing_deg", "Bearing of yaw 0", *DEG)),
                        (
                            "Skyline",
                            b.text("site", "skyline_deg", "Skyline at the sun", _skyline, _read_skyline),
                        ),
                    ]
                ),
                None,
            ),
        )
        box.add(
            column(
                self.drawing(SunDrawing("Sun and moon through the day", 116)),
                self.told(self._sun, "fact-sun", ""),
                self.told(self._evening, "fact-evening", ""),
                row(
                    button("At golden light", lambda: self._start_at("golden light begins"), name="start-golden"),
                    button("Best order", self.commands.best_order, name="best-order"),
                    None,
                ),
                row(
                    button("Another scene …", self.commands.add_stop, name="add-stop"),
                    button("Drop the last", self.commands.drop_stop, quiet=True, name="drop-stop"),
                    None,
                ),
                row(
                    button("Plan a scene …", lambda: self.context.ask("outing.scene"), name="plan-scene"),
                    button("Calendar …", self.commands.save_calendar, name="save-calendar"),
                    None,
                ),
                self.drawing(TourDrawing("Where the scenes lie", 96)),
                None,
            ),
            2,
        )
        box.add(
            self.facts(
                ("Sunrise, sunset", "rise", lambda p: _times(p, "sunrise", "sunset")),
                ("Golden light", "golden", lambda p: _times(p, "golden light begins", "blue light begins")),
                ("Blue light", "blue", lambda p: _times(p, "blue light begins", "blue light ends, evening")),
                ("Sun and skyline", "skyline-sun", self._skyline),
                ("Even light", "even", self._even),
                ("Moon", "moon", lambda p: f"{units.share(day(p.brief.site).moon_lit)} lit"),
            )
        )

    def _sun(self, plan: Plan) -> str:
        yaw = plan.brief.site.yaw_of(plan.sun.bearing_deg)
        height = plan.sun.altitude_deg
        stands = f"{units.angle(height)} up" if height >= 0 else f"{units.angle(-height)} below the horizon"
        lit = (
            f", {lit_from(yaw, (plan.target_field.left_deg + plan.target_field.right_deg) / 2)}" if height > -1 else ""
        )
        return f"Sun at the start: bearing {units.angle(plan.sun.bearing_deg, 0)}, yaw {units.angle(yaw, 0)}, {stands}{lit}"

    def _skyline(self, plan: Plan) -> str:
        facts = self.state.scouted
        if self.state.judgements is None:  # reckoned with them
            return "…"
        if plan.brief.site.skyline_deg is None and not facts.skyline:
            return "not scouted"
        over = f"over it at {facts.sun_over:%H:%M}" if facts.sun_over else ""
        behind = f"behind it at {facts.sun_behind:%H:%M}" if facts.sun_behind else ""
        return ", ".join(t for t in (over, behind) if t) or "not seen where the sun goes"

    def _even(self, plan: Plan) -> str:
        minutes = plan.even_light_min
        return "4 h or more" if minutes >= 240 else f"{units.duration(minutes * 60)} (⅓ stop)"

    def _evening(self, plan: Plan) -> str:
        slots = [
            f"{v.begin:%H:%M}–{v.end:%H:%M} {v.name} (sun {units.angle(v.sun_begin_deg, 0)}{'' if v.gets else f', not {v.wants}'})"
            for v in plan.evening.visits
        ]
        walk = plan.evening.walk_minutes
        return "Evening: " + " · ".join(slots) + (f" · {units.duration(walk * 60)} of walking" if walk else "")

    def _start_at(self, event: str) -> None:
        at = day(self.state.outing.brief.site).first(event)
        if at is None:
            self.state.message.emit("There is no golden light at that place on that day.", True)
        else:
            self.state.apply(edits.set_part("site", "At golden light", start=f"{at:%H:%M}"))

    def summary(self, plan: Plan) -> str:
        return f"{plan.brief.site.start}, sun {units.angle(plan.sun.altitude_deg, 0)}"


_AS_SCOUTED = "as scouted"


def _skyline(value: float | None) -> str:
    return _AS_SCOUTED if value is None else units.angle(value)


def _read_skyline(text: str) -> float | None:
    """An altitude, or nothing for what the scouting pictures tell."""
    return None if text.strip().lower() in ("", _AS_SCOUTED) else units.parse_angle_deg(text)


def _four(value: float) -> str:
    return units.angle(value, 4)


def _times(plan: Plan, first: str, second: str) -> str:
    found = day(plan.brief.site)
    a, b = found.first(first), found.first(second)
    return f"{f'{a:%H:%M}' if a else 'none'} – {f'{b:%H:%M}' if b else 'none'}"
