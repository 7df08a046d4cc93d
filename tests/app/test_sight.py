"""Which part of a picture a widget shows: places go to the screen and back, and the picture stays in sight."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st
from PyQt6.QtCore import QPointF

from idle_lantern.app.widgets.sight import Sight

SIZES = st.tuples(st.integers(1, 60_000), st.integers(1, 60_000))
PLACES = st.tuples(st.floats(-70_000, 70_000), st.floats(-70_000, 70_000))


@given(PLACES, st.floats(0.001, 16), SIZES, st.tuples(st.integers(1, 4000), st.integers(1, 3000)), PLACES)
def test_places_go_there_and_back_and_the_picture_stays_in_sight(centre, zoom: float, picture, widget, place):
    sight = Sight(centre, zoom, widget, picture)
    back = sight.to_picture(sight.to_widget(QPointF(*place)))
    assert (back.x(), back.y()) == pytest.approx(place, rel=1e-9, abs=1e-6)
    kept = Sight(sight.kept_centre, zoom, widget, picture)
    assert kept.kept_centre == pytest.approx(kept.centre)
    for low, size, seen in zip(
        (kept.shown.left(), kept.shown.top()), picture, (kept.shown.width(), kept.shown.height())
    ):
        if seen < size:  # nothing beside it
            assert -1e-6 <= low <= size - seen + 1e-6
        else:  # all of it, in the middle
            assert low + seen / 2 == pytest.approx(size / 2)


def test_a_pixel_of_a_dense_screen_is_met_exactly():
    sight = Sight((10.0, 10.0), 0.5, (101, 51), (20, 20), 2.0)
    assert sight.screen_zoom == 1.0
    at = sight.snapped(QPointF(3.3, 4.9))
    assert (2 * at.x()).is_integer()
    assert abs(at.x() - sight.to_widget(QPointF(3.3, 4.9)).x()) <= 0.25
