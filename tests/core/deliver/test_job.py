"""Jobs of delivery: limits and words of each figure come from the type, and hold for window, command line and document alike."""

from __future__ import annotations

import msgspec
import pytest

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.figures import figure
from idle_lantern.core.deliver.job import CoverNadir, DeliverJob, TellInvented


@pytest.mark.parametrize(
    ("of", "name", "least", "most", "unit", "default"),
    [
        (DeliverJob, "quality", 40, 100, "", 92),
        (DeliverJob, "dpi", 20, 2400, "dpi", 300),
        (DeliverJob, "long_side_px", 16, 1_000_000, "px", None),
        (CoverNadir, "radius_deg", 1, 45, "degrees", 12),
    ],
)
def test_a_figure_holds_within_its_limits_and_the_document_keeps_the_same(
    of: type, name: str, least: float, most: float, unit: str, default: float | None
):
    found = figure(of, name)
    assert (found.least, found.most, found.unit, found.default) == (least, most, unit, default)
    assert found.title[0].isupper()
    decoder = msgspec.json.Decoder(of)
    needed = {"do": "cover-nadir", "how": "blur"} if of is CoverNadir else {}
    for end, beyond in ((least, least - 1), (most, most + 1)):
        assert found.checked(end) == end
        assert getattr(decoder.decode(msgspec.json.encode(needed | {name: end})), name) == end
        with pytest.raises(InputError, match=f"{found.title} .* lies outside"):
            found.checked(beyond)
        with pytest.raises(msgspec.ValidationError):
            decoder.decode(msgspec.json.encode(needed | {name: beyond}))


def test_what_is_no_figure_is_none():
    with pytest.raises(KeyError):
        figure(DeliverJob, "profile")


def test_steps_are_found_among_the_operations():
    nadir = CoverNadir("blur")
    assert (DeliverJob().nadir, DeliverJob().tells_invented) == (None, False)
    both = DeliverJob(operations=(TellInvented(), nadir))
    assert (both.nadir, both.tells_invented) == (nadir, True)
    assert not DeliverJob(operations=(nadir,)).tells_invented
