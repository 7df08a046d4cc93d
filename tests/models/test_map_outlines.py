"""Frames as the map draws them, against what the lens model says that it sees: for every kind of lens, pitch and form."""

from __future__ import annotations

import math

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPolygonF

from idle_lantern.app.widgets.map_forms import STRIP_PX, MapLook, angles_of, fitted, form_of, holds
from idle_lantern.app.widgets.map_hands import frame_at
from idle_lantern.app.widgets.map_shapes import outlines
from idle_lantern.core.geometry.frame_outlines import POLE_DEG
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.sphere import direction
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.target_field import TargetField

#: Flat, 8 and 15 mm fisheyes of each kind on a camera of 24 x 36 mm, one whose circle ends in the frame, one that looks behind itself.
LENSES = {
    "flat 20 mm": Lens("rectilinear", 1000, 1200, 1800),
    "flat 12 mm": Lens("rectilinear", 600, 1800, 1200),
    "equisolid 15 mm": Lens("equisolid", 750, 1200, 1800),
    "equisolid 8 mm, circle": Lens("equisolid", 400, 1200, 1800, circle_px=560),
    "equidistant 10 mm": Lens("equidistant", 500, 1800, 1200),
    "equidistant, 220 degrees": Lens("equidistant", 300, 1200, 1200, circle_px=300 * math.radians(110)),
    "stereographic 8 mm": Lens("stereographic", 400, 1200, 1800),
    "orthographic 11 mm": Lens("orthographic", 550, 1200, 1200),
}
FIELD = TargetField(-100, 100, -30, 30, 0.3)


def _directions(count: int) -> tuple[np.ndarray, np.ndarray]:
    """Evenly spread azimuths and altitudes in degrees."""
    i = np.arange(count) + 0.5
    return (i * 180 * (3 - math.sqrt(5)) + 180) % 360 - 180, np.degrees(np.arcsin(1 - 2 * i / count))


def _truth(lens: Lens, frame: GridFrame, azimuth: np.ndarray, altitude: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Which directions the lens sees, and which lie clear of its rim, by the lens model."""
    rays = direction(np.radians(azimuth), np.radians(altitude)) @ frame.world_from_camera
    seen = lens.sees(rays)
    shift = math.radians(1.5)
    near = np.zeros(len(seen), bool)
    for axis in np.eye(3):
        for way in (-shift, shift):
            moved = rays + way * axis
            near |= lens.sees(moved / np.linalg.norm(moved, axis=-1, keepdims=True)) != seen
    return seen, ~near


@pytest.mark.parametrize("name", LENSES)
@pytest.mark.parametrize("form_name", ["unrolled", "globe", "poles"])
def test_what_is_drawn_of_a_frame_is_what_its_lens_sees(name: str, form_name: str):
    lens, size = LENSES[name], QSize(1200, 500)
    azimuth, altitude = _directions(170)
    wrong, asked = 0, 0
    for pitch in (-90.0, -60.0, 0.0, 35.0, 90.0):
        for yaw in (0.0, 175.0):
            frame = GridFrame(1, 1, 1, yaw, pitch)
            (shape,) = outlines(lens, [frame])
            form = form_of(MapLook(form_name, circle=True), FIELD, [], size)
            drawn = form.polygons(shape)
            seen, clear = _truth(lens, frame, azimuth, altitude)
            for a, b, truth, sure in zip(azimuth, altitude, seen, clear):
                place = form.point(float(a), float(b))
                if (
                    place is None
                    or not sure
                    or (form_name == "poles" and abs(b) < 2)
                    or _at_edge(form, form_name, place)
                ):
                    continue
                inside = sum(area.containsPoint(place, Qt.FillRule.OddEvenFill) for area in drawn) > 0
                wrong, asked = wrong + (inside != bool(truth)), asked + 1
    assert asked > 600
    assert wrong <= asked / 600, f"{wrong} of {asked}"


def _at_edge(form: object, name: str, place: QPointF) -> bool:
    """Places at the very edge of a globe stand for many directions."""
    if name != "globe":
        return False
    edge = form.outline[0]
    box = edge.boundingRect() if isinstance(edge, QPolygonF) else QRectF(edge)
    return math.hypot(place.x() - box.center().x(), place.y() - box.center().y()) > 0.97 * box.width() / 2


@pytest.mark.parametrize("name", LENSES)
def test_the_drawn_rim_lies_on_the_rim_of_what_the_lens_sees(name: str):
    """No spike and no line at a pole or across the back: every drawn piece is short, and a degree beside it the lens changes its mind."""
    lens = LENSES[name]
    form = fitted(FIELD, [], QSize(1200, 500), MapLook(circle=True))
    for pitch in (-90.0, -40.0, 0.0, 35.0, 90.0):
        frame = GridFrame(1, 1, 1, 150.0, pitch)
        (shape,) = outlines(lens, [frame])
        lines = form.rims(shape)
        assert lines
        for line in lines:
            at = np.array([form.angles(QPointF(x, y)) for x, y in angles_of(line)])
            rays = direction(*np.radians(at).T)
            steps = np.degrees(np.arccos(np.clip((rays[1:] * rays[:-1]).sum(-1), -1, 1)))
            assert steps.max() < 25
            middles = at[np.abs(at[:, 1]) < 89.9]
            _seen, clear = _truth(lens, frame, *middles.T)
            assert not clear.any(), f"{name}, pitch {pitch}: {middles[clear][:3]}"


def test_an_area_round_a_pole_reaches_to_it_and_one_round_both_is_all_but_a_hole():
    zenith = outlines(LENSES["flat 20 mm"], [GridFrame(1, 1, 1, 40.0, 90.0)])[0]
    assert holds(zenith, 0.0, 89.0)
    assert holds(zenith, 179.0, 80.0)
    assert not holds(zenith, 0.0, 0.0)
    assert {y for _x, y in angles_of(zenith) if abs(y) == POLE_DEG} == {POLE_DEG}
    all_round = outlines(LENSES["equidistant, 220 degrees"], [GridFrame(1, 1, 1, 30.0, 0.0)])[0]
    assert all(holds(all_round, *at) for at in ((0.0, 90.0), (30.0, -89.0), (130.0, 0.0)))
    assert not holds(all_round, -150.0, 0.0)


def test_a_click_finds_the_frame_under_it_in_every_form():
    lens = LENSES["equisolid 8 mm, circle"]
    frames = [GridFrame(i + 1, 1, i + 1, yaw, 0.0) for i, yaw in enumerate((-180.0, -90.0, 0.0, 90.0))]
    shapes = outlines(lens, frames)
    for form_name in ("unrolled", "globe"):
        form = form_of(MapLook(form_name, circle=True), FIELD, [], QSize(1200, 500))
        assert frame_at(frames, shapes, form, form.point(10.0, 20.0)) == 3
        assert frame_at(frames, shapes, form, form.point(60.0, -10.0)) == 4
    strip = form_of(MapLook("globe"), TargetField(-180, 180, -45, 45, 0.3), [], QSize(1200, STRIP_PX))
    assert strip.strip
    assert frame_at(frames, shapes, strip, strip.point(-170.0, 0.0)) == 1
    assert frame_at(frames, shapes, strip, strip.point(175.0, 0.0)) == 1


def test_a_strip_takes_the_whole_width_and_the_map_fits_what_is_planned_or_the_circle():
    size, grid = QSize(1280, 400), TargetField(-22, 22, -15, 15, 0.3)
    plain = fitted(grid, [], size, MapLook())
    left, right = (plain.point(a, 0.0).x() for a in (-22.0, 22.0))
    assert right - left > 0.4 * size.width()
    wide = fitted(grid, [], size, MapLook(circle=True))
    left, right = (wide.point(a, 0.0).x() for a in (-179.9, 179.9))
    assert 0.9 * size.width() < right - left <= size.width()
    strip = fitted(grid, [], QSize(1280, STRIP_PX), MapLook(zoom=4.0))
    left, right = (strip.point(a, 0.0).x() for a in (-22.0, 22.0))
    assert right - left > 0.95 * size.width()
