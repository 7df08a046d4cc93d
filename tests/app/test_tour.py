"""A tour through the real window: places added, moved on the plan, turned by what is seen, named, taken back, written."""

from __future__ import annotations

import json
import math
import re
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from msgspec.structs import replace
from PIL import Image
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QApplication, QFileDialog, QPushButton
from pytestqt.qtbot import QtBot
from tests.helpers.layout import faults
from tests.helpers.spheres import sphere_pixels

from idle_lantern.app import tour_model as model
from idle_lantern.app.tour_dialog import TourDialog
from idle_lantern.app.window import Window

LEFT = Qt.MouseButton.LeftButton
Settled = Callable[[Window], None]


@pytest.fixture
def spheres(tmp_path: Path) -> list[Path]:
    paths = [tmp_path / f"{name}.jpg" for name in ("yard", "roof", "gate")]
    for path in paths:
        Image.fromarray(sphere_pixels(400)).save(path)
    return paths


@pytest.fixture
def tour(window: Window) -> TourDialog:
    window.trigger("outing.tour")
    assert window.tour is not None
    return window.tour


def _press(qtbot: QtBot, tour: TourDialog, name: str) -> None:
    qtbot.mouseClick(tour.findChild(QPushButton, f"tour-{name}"), LEFT)


def _typed(qtbot: QtBot, field: object, text: str) -> None:
    field.setFocus()  # type: ignore[attr-defined]
    field.selectAll()  # type: ignore[attr-defined]
    qtbot.keyClicks(field, text)
    qtbot.keyClick(field, Qt.Key.Key_Return)


def test_a_tour_is_put_together_and_written(
    qtbot: QtBot, window: Window, tour: TourDialog, spheres: list[Path], settled: Settled, tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
):  # fmt: skip
    assert not tour.write_button.isEnabled()
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *_a, **_k: ([str(p) for p in spheres], ""))
    _press(qtbot, tour, "add")
    tour.add([spheres[0]])
    assert "each once" in tour.told.text()
    settled(window)
    assert [place.at_m for place in tour.tour.places] == [(0, 0), (5, 0), (10, 0)]
    # by keys on the plan, by hand on it, by typing
    tour.list.setCurrentRow(1)
    qtbot.keyClick(tour.plan, Qt.Key.Key_Up)
    qtbot.keyClick(tour.plan, Qt.Key.Key_Left, Qt.KeyboardModifier.ShiftModifier)
    assert tour.tour.places[1].at_m == (4.9, 1)
    here, scale = tour.plan.place_px(2).toPoint(), tour.plan._fit[2]
    qtbot.mousePress(tour.plan, LEFT, pos=here)
    qtbot.mouseMove(tour.plan, here + QPoint(0, -40))
    qtbot.mouseRelease(tour.plan, LEFT, pos=here + QPoint(0, -40))
    assert tour.list.currentRow() == 2
    assert tour.tour.places[2].at_m == pytest.approx((10, 40 / scale), abs=1.5 / scale)
    _typed(qtbot, tour.east, "20,5")
    _typed(qtbot, tour.north_m, "20")
    assert tour.tour.places[2].at_m == (20.5, 20)
    _typed(qtbot, tour.name, "yard")
    assert "a name of its own" in tour.told.text()
    _typed(qtbot, tour.name, "Gate")
    # where the roof is seen in the picture of the gate tells which way that faces
    settled(window)
    mark = next(m for m in tour.strip._marks if m.name.startswith("roof"))
    room = tour.strip.picture_rect()
    at = QPoint(round(room.left() + mark.x * room.width()), 60)
    qtbot.mousePress(tour.strip, LEFT, pos=at)
    qtbot.mouseMove(tour.strip, at + QPoint(120, 0))
    qtbot.mouseRelease(tour.strip, LEFT, pos=at + QPoint(120, 0))
    north = tour.tour.places[2].north_deg
    assert north == pytest.approx(360 - 120 / room.width() * 360, abs=0.1)
    assert next(m.x for m in tour.strip._marks if m.name.startswith("roof")) == pytest.approx(
        mark.x + 120 / room.width(), abs=1e-3
    )
    qtbot.keyClick(tour.strip, Qt.Key.Key_Right)
    assert tour.tour.places[2].north_deg == pytest.approx(north - 0.5)
    tour.undo()
    assert tour.tour.places[2].north_deg == north
    tour.begins.click()
    # the page steps towards where the places lie
    page = tmp_path / "page.html"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(page), ""))
    _press(qtbot, tour, "write")
    settled(window)
    assert str(page.name) in tour.told.text()
    told = re.search(r'\[\{"name": ?"Gate".*?"links": ?(\[.*?\])', page.read_text(errors="replace"), re.S)
    assert told is not None
    (link,) = json.loads(told[1])
    bearing = math.degrees(math.atan2(4.9 - 20.5, 1 - 20))
    assert (link["yaw_deg"] - bearing + north + 180) % 360 - 180 == pytest.approx(0, abs=1e-6)
    # the next window goes on with it
    assert model.last(tour._file) == tour.tour


def test_pictures_that_are_no_spheres_are_told(
    window: Window, tour: TourDialog, spheres: list[Path], settled: Settled, tmp_path: Path
):
    Image.fromarray(np.zeros((80, 120, 3), np.uint8)).save(tmp_path / "flat.png")
    tour.add([tmp_path / "flat.png"])
    settled(window)
    assert "not twice as wide as high" in tour.strip._words
    tour.write(tmp_path / "page.html")
    settled(window)
    assert "not twice as wide as high" in tour.told.text()
    assert not (tmp_path / "page.html").exists()
    tour.write(tmp_path / "flat.png")
    assert "End it in .html" in tour.told.text()
    tour.findChild(QPushButton, "tour-drop").click()
    assert tour.tour.places == []


def test_nothing_is_cut_where_text_is_large(window: Window, spheres: list[Path], settled: Settled):
    window.set_text_size(2)
    window.set_look("light")
    window.trigger("outing.tour")
    window.trigger("outing.queue")
    assert window.tour is not None
    window.tour.add(spheres)
    settled(window)
    for dialog in (window.tour, window.queue):
        assert dialog is not None
        dialog.resize(1100, 740)
        QApplication.processEvents()
        assert faults(dialog) == [], dialog.objectName()


def test_reports_and_names_are_found_and_places_by_satellite_may_be_moved(
    window: Window, tour: TourDialog, spheres: list[Path], settled: Settled, tmp_path: Path
):
    """A file beside a picture is its report only where it is one; two pictures of one name are two places."""
    spheres[0].with_suffix(".json").write_text('{"notes": "no report"}')
    (tmp_path / "other").mkdir()
    exif = Image.Exif()
    exif.get_ifd(0x8825).update({1: "N", 2: (55.0, 6.0, 0.0), 3: "E", 4: (12.0, 12.0, 0.0)})
    Image.fromarray(sphere_pixels(400)).save(tmp_path / "other" / "yard.jpg", exif=exif)
    tour.add([spheres[0], tmp_path / "other" / "yard.jpg"])
    settled(window)
    one, other = tour.tour.places
    assert (one.report, one.name, other.name, other.at_m) == (None, "yard", "yard 2", None)
    assert "move it where that is off" in tour.where.text()
    tour.plan.moved.emit(1, 3.0, 4.0)
    assert tour.tour.places[1].at_m == (3, 4)


def test_a_saved_tour_moves_with_its_folder(spheres: list[Path], tmp_path: Path):
    tour = model.changed(model.added(model.EMPTY, spheres), 0, name="Yard", note="from the gate")
    tour = model.changed(replace(tour, first="Yard", links=[("Yard", "roof")]), 0, name="Court")
    assert (tour.first, tour.links) == ("Court", [("Court", "roof")])
    model.save(tour, tmp_path / "tour.json")
    there = tmp_path.parent / f"{tmp_path.name}-moved"
    tmp_path.rename(there)
    found = model.read(there / "tour.json")
    assert [Path(place.picture) for place in found.places] == [there / path.name for path in spheres]
    assert model.without(found, 0).links == []
    assert "nothing leads to Court" in model.Laid.of(replace(found, links=[("roof", "gate")])).summed_up()
