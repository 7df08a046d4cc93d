"""One setting for all frames."""

from __future__ import annotations

from idle_lantern.app.planning.brief_binding import number_with, plain
from idle_lantern.app.planning.topics.base import Topic
from idle_lantern.app.planning.topics.quantities import (
    COUNT,
    STOPS,
)
from idle_lantern.app.widgets.basics import button, column, form, label, row
from idle_lantern.app.widgets.blocks import Blocks
from idle_lantern.core.base import units
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.plan.light import filter_factor
from idle_lantern.core.plan.planner import Plan


def parse_readings(text: str) -> tuple[tuple[float, float], ...]:
    """Meter readings as people write them: ``13.5, 14, 12.5`` or ``-90: 13.5, 0: 14``.

    Bare values are spread over the sweep by the caller's azimuths 0, 1, 2 ... of the field.
    """
    found = []
    for piece in filter(None, (p.strip() for p in text.replace(";", ",").split(","))):
        azimuth, colon, ev = piece.partition(":")
        if not colon:
            raise InputError(f"'{piece}' lacks its azimuth", remedy="Write azimuth: EV, like -90: 13.5, 0: 14")
        found.append(
            (
                units.parse_angle_deg(azimuth),
                units.parse_number(ev.lower().replace("ev", ""), "an exposure value", "0: 14"),
            )
        )
    if not found:
        raise InputError("needs at least one value", remedy="Write azimuth: EV, like 0: 14")
    return tuple(found)


def write_readings(readings: tuple[tuple[float, float], ...]) -> str:
    """The readings as ``parse_readings`` takes them."""
    return ", ".join(f"{a:g}: {ev:g}" for a, ev in readings).replace("-", "−")


class ExposureTopic(Topic):
    """One setting for all frames, from readings round the sweep."""

    title = "Exposure"

    def build(self, box: Blocks) -> None:
        n, b = self.bound.number, self.bound
        schools = [
            ("brightest", "brightest part", "nothing clips; shadows are lifted later"),
            ("subject", "the subject", "the first mark, or the middle"),
            ("average", "average of all", "a spread of about one EV either way is fine"),
            ("middle", "the middle", "between brightest and darkest; never start on the sun or farthest from it"),
        ]
        moving = [
            ("still", "nothing", ""),
            ("leaves", "leaves, grass", ""),
            ("walking", "people walking", ""),
            ("running", "people running", ""),
        ]
        skies = [
            ("clear", "clear sky", ""),
            ("clouds", "clouds", ""),
            ("overcast", "overcast", ""),
            ("indoors", "indoors", ""),
        ]
        readings = b.text("exposure", "readings", "Meter readings", write_readings, parse_readings)
        box.add(
            column(
                label("Azimuth: EV at ISO 100", wrap=True),
                readings,
                row(button("Take them from the sun", self.commands.readings_by_sun, name="readings-sun"), None),
                form(
                    [
                        ("Meter by", b.choice("exposure", "metering", "Metering", schools)),
                        ("ISO", n("exposure", "iso", "ISO", number_with("", "100"), plain(6), step=100)),
                        (
                            "White balance",
                            n(
                                "exposure",
                                "white_balance_k",
                                "White balance",
                                number_with("K", "5500"),
                                plain(6, "K"),
                                step=100,
                            ),
                        ),
                        ("What moves", b.choice("scene", "subject", "What moves", moving)),
                        ("Wind", n("scene", "wind_ms", "Wind", number_with("m/s", "3"), plain(3, "m/s"))),
                        ("Sky", b.choice("scene", "sky", "Sky", skies)),
                    ]
                ),
                None,
            ),
        )
        box.add(
            column(
                form(
                    [
                        ("Filter", n("exposure", "filter_stops", "Filter", *STOPS)),
                        ("Bracket of", n("exposure", "bracket_count", "Exposures of a bracket", *COUNT, whole=True)),
                        (
                            "Bracket step",
                            n(
                                "exposure",
                                "bracket_step_ev",
                                "Step of a bracket",
                                number_with("EV", "2"),
                                plain(3, "EV"),
                                step=0.5,
                            ),
                        ),
                        (
                            "Bracket shift",
                            n(
                                "exposure",
                                "bracket_shift_ev",
                                "Shift of a bracket",
                                number_with("EV", "1.3"),
                                _signed_ev,
                                step=0.5,
                            ),
                        ),
                        (
                            "Bracket above",
                            n(
                                "exposure",
                                "bracket_only_above_ev",
                                "Brackets only above",
                                number_with("EV", "15"),
                                _ev_or_all,
                            ),
                        ),
                    ]
                ),
                b.switch("exposure", "polariser", "Polariser on the lens"),
                None,
            ),
        )
        box.add(
            column(
                self.facts(
                    ("Time", "exposure", lambda p: units.exposure_time(p.setting.time_s)),
                    ("Aperture, ISO", "exposure-rest", lambda p: f"f/{p.setting.aperture:g}, ISO {p.setting.iso:g}"),
                    ("Exposed for", "ev", lambda p: f"{p.setting.ev:.1f} EV"),
                    (
                        "Filter factor",
                        "factor-filter",
                        lambda p: f"{filter_factor(p.brief.exposure.filter_stops):.0f}×",
                    ),
                    ("Highlights", "white", lambda p: _held(p.setting.white_left_stops, "clip")),
                    ("Shadows", "shadow", lambda p: _held(-p.setting.shadow_left_stops, "drown")),
                    ("To hold all", "brackets", _needed),
                ),
                self.told(self._limits, "fact-limits"),
                None,
            ),
        )

    def _exposure(self, plan: Plan) -> str:
        s = plan.setting
        return f"f/{s.aperture:g}, {units.exposure_time(s.time_s)}, ISO {s.iso:g}"

    def _limits(self, plan: Plan) -> str:
        limits = [f"{units.exposure_time(x.time_s)}: {x.reason}" for x in plan.setting.limits]
        told = f"Metered {plan.setting.reason}."
        if len(plan.setting.times_s) > 1:
            told += f" Bracket: {', '.join(units.exposure_time(t) for t in plan.setting.times_s)}."
        return told + (" No longer than " + "; ".join(limits) + "." if limits else " Nothing limits the time.")

    def summary(self, plan: Plan) -> str:
        return self._exposure(plan)


def _held(lost_stops: float, how: str) -> str:
    """What is lost at one end of the range, or how much room there is."""
    if lost_stops > 0.05:
        return f"{how} by {lost_stops:.1f} stops"
    return f"hold, {-lost_stops:.1f} stops of room" if lost_stops < -0.05 else "hold"


def _needed(plan: Plan) -> str:
    count, shift_ev = plan.setting.bracket_needed
    shifted = f", {_signed_ev(shift_ev)}" if abs(shift_ev) > 0.05 else ""
    return ("one exposure" if count == 1 else f"{count} exposures") + shifted


def _signed_ev(value: float) -> str:
    return f"{value:+.1f} EV".replace("-", "−") if abs(value) > 0.01 else "0 EV"


def _ev_or_all(value: float) -> str:
    return "everywhere" if value == 0 else f"{value:g} EV"
