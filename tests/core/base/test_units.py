"""Quantities as people write them."""

from __future__ import annotations

import pytest

from idle_lantern.core.base import units
from idle_lantern.core.base.errors import InputError


@pytest.mark.parametrize(
    ("text", "value"),
    [("1/125", 1 / 125), ("2.5s", 2.5), ("2,5 s", 2.5), ("0.004", 0.004), ("2 min", 120), ("8 ms", 0.008)],
)
def test_times(text: str, value: float):
    assert units.parse_time_s(text) == pytest.approx(value)


@pytest.mark.parametrize(
    ("text", "value"),
    [("50", 50), ("1.8 m", 1800), ("6ft", 1828.8), ("5' 10\"", 1778), ("12 in", 304.8), ("35 mm", 35), ("2,4cm", 24)],
)
def test_lengths(text: str, value: float):
    """One inch is 25.4 mm by definition (international yard and pound, 1959)."""
    assert units.parse_length_mm(text) == pytest.approx(value)


@pytest.mark.parametrize(
    ("text", "value"), [("35 %", 0.35), ("0.35", 0.35), ("1/3", 1 / 3), ("1:3", 1 / 3), ("35", 0.35), ("100%", 1.0)]
)
def test_shares(text: str, value: float):
    assert units.parse_share(text) == pytest.approx(value)


@pytest.mark.parametrize(("text", "value"), [("15", 15), ("-7,5°", -7.5), ("−12 deg", -12), ("+3.25", 3.25)])
def test_angles(text: str, value: float):
    assert units.parse_angle_deg(text) == pytest.approx(value)


@pytest.mark.parametrize("parse", [units.parse_angle_deg, units.parse_share, units.parse_length_mm, units.parse_time_s])
@pytest.mark.parametrize("text", ["", "  ", "abc", "1e999x", "--5", "1/0/3", "nan", "٣؛"])
def test_nonsense_is_refused_in_one_sentence(parse, text: str):
    """The sentence repeats the text and shows how to write it."""
    with pytest.raises(InputError) as caught:
        parse(text)
    assert "Write it like" in caught.value.sentence


def test_writing():
    assert units.angle(-12.34) == "−12.3°"
    assert units.angle(-0.01) == "0.0°"
    assert units.exposure_time(1 / 125) == "1/125 s"
    assert units.exposure_time(2.5) == "2.5 s"
    assert units.duration(250) == "4 min 10 s"
    assert units.duration(3900) == "1 h 05 min"
    assert units.megapixels(1.25e9) == "1.25 Gpx"
    assert units.grouped(11000) == "11\u202f000"
    assert units.length(1800) == "1.80 m"
    assert units.length(914.4, imperial=True) == "3.0 ft"
    assert units.file_size(3_400_000) == "3.4 MB"


@pytest.mark.parametrize(
    ("value", "sigma", "text"),
    [
        (1385.5712, 0.0273, "1385.57 ± 0.03"),
        (1385.5712, 0.3, "1385.6 ± 0.3"),
        (1385.5712, 41.0, "1386 ± 41"),
        (1385.5712, float("nan"), "1385.6"),
        (1385.5712, 0.0, "1385.6"),
    ],
)
def test_measured_values_show_the_digits_that_are_known(value: float, sigma: float, text: str):
    assert units.measured(value, sigma) == text


@pytest.mark.parametrize(
    ("text", "iso"),
    [
        ("2026-12-31", "2026-12-31"), ("31.12.2026", "2026-12-31"), ("1. 2. 2026", "2026-02-01"), ("31 Dec 2026", "2026-12-31"),
        ("December 31, 2026", "2026-12-31"), ("29.2.2028", "2028-02-29"), (" 2026/05/14 ", "2026-05-14"), ("3rd May 2026", "2026-05-03"),
    ],
)  # fmt: skip
def test_dates_as_people_write_them(text: str, iso: str):
    assert units.parse_date(text) == iso


@pytest.mark.parametrize(
    ("text", "clock"),
    [
        ("19:30", "19:30"), ("7.30 pm", "19:30"), ("7:30pm", "19:30"), ("7 pm", "19:00"), ("12 am", "00:00"), ("12.15 p.m.", "12:15"),
        ("1930", "19:30"), ("19 h 30", "19:30"), ("6", "06:00"), ("19.30", "19:30"), ("06:05:30", "06:05"),
    ],
)  # fmt: skip
def test_times_of_day_as_people_write_them(text: str, clock: str):
    assert units.parse_clock(text) == clock


@pytest.mark.parametrize(
    ("text", "value"),
    [
        ("55.5 N", 55.5),
        ("33° 52' S", -33.8667),
        ("-33,9", -33.9),
        ("55° 30' 36\" n", 55.51),
        ("0", 0.0),
        ("12 south", -12.0),
    ],
)
def test_latitudes_as_people_write_them(text: str, value: float):
    assert units.parse_latitude_deg(text) == pytest.approx(value, abs=1e-4)
    east_west = text.lower().replace("south", "s").replace("s", "w").replace("n", "e")
    assert units.parse_longitude_deg(east_west) == pytest.approx(value, abs=1e-4)


@pytest.mark.parametrize(
    ("parse", "text"),
    [
        (units.parse_date, "31.2.2026"), (units.parse_date, "12/31/2026"), (units.parse_date, "today"), (units.parse_date, ""),
        (units.parse_clock, "25:00"), (units.parse_clock, "13 pm"), (units.parse_clock, "19:60"), (units.parse_clock, "19:30+02:00"),
        (units.parse_clock, "7 m"), (units.parse_clock, "noon"), (units.parse_latitude_deg, "-5 N"), (units.parse_latitude_deg, "5 E"),
        (units.parse_longitude_deg, "8 N"), (units.parse_latitude_deg, "5° 61'"), (units.parse_longitude_deg, "x"),
    ],
)  # fmt: skip
def test_what_no_date_time_or_place_can_be_is_refused(parse, text: str):
    with pytest.raises(InputError, match="Write it like"):
        parse(text)
