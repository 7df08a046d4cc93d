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
