"""Scouting through the real window: pictures on the map, marks, facts taken over, the picture foreseen, the piece in Field."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import pytest
from PIL import Image
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QWheelEvent
from PyQt6.QtWidgets import QFileDialog, QInputDialog, QLabel, QLineEdit, QMenu, QPushButton
from pytestqt.qtbot import QtBot
from tests.helpers.sets import FrameFiles
from tests.helpers.telephone import telephone_sweep

from idle_lantern.app.settings import Settings
from idle_lantern.app.widgets.map_forms import FORMS
from idle_lantern.app.widgets.map_paint import edges
from idle_lantern.app.window import Window
from idle_lantern.core.outing import assets, document, edits, scout_edits
from idle_lantern.core.plan.kinds import kind_of
from idle_lantern.core.scouting.scout import scouted as scouted_from
from idle_lantern.core.scouting.scout_picture import ScoutPicture

#: A camera with few pixels.
SMALL = {"width_px": 480, "height_px": 320}
LEFT = Qt.MouseButton.LeftButton
Settled = Callable[[Window], None]


@pytest.fixture(scope="session")
def telephone(tmp_path_factory: pytest.TempPathFactory) -> FrameFiles:
    """Three frames of the place."""
    return telephone_sweep(tmp_path_factory.mktemp("telephone"), -26.0, 3)


@pytest.fixture(scope="session")
def laid(telephone: FrameFiles) -> tuple[ScoutPicture, bytes]:
    """What an outing keeps of them, made once for all tests."""
    return scouted_from(telephone.paths)


@pytest.fixture
def scouted(qtbot: QtBot, window: Window, settled: Settled, laid: tuple[ScoutPicture, bytes]) -> Window:
    """An outing in which they lie on the map."""
    kept, data = laid
    folder = window.state.folder
    assert folder is not None
    kept = replace(kept, asset=assets.put(folder, data, document.SCOUT_ASSET))
    window.state.apply(scout_edits.add_scout(kept))
    window.plan_stage.show_page(window.plan_stage.scouting)
    settled(window)
    qtbot.waitUntil(lambda: window.map.scouted is not None, timeout=10_000)
    return window


def _press(qtbot: QtBot, window: Window, name: str) -> None:
    made = window.findChild(QPushButton, name)
    assert made is not None, name
    assert made.isVisible(), name
    assert made.isEnabled(), name
    qtbot.mouseClick(made, LEFT)


def _at(window: Window, azimuth: float, altitude: float) -> QPoint:
    place = window.map.form.point(azimuth, altitude)
    assert place is not None
    return place.toPoint()


def _mark(window: Window, monkeypatch, name: str, words: str, place: tuple[float, float], metres: float = 5.0) -> None:
    """Mark a place by the map's menu."""
    monkeypatch.setattr(QInputDialog, "getText", lambda *_a, **_k: (name, True))
    monkeypatch.setattr(QInputDialog, "getDouble", lambda *_a, **_k: (metres, True))
    window.plan_stage.show_map_menu(window.map.mapToGlobal(_at(window, *place)), *place)
    (menu,) = window.plan_stage.findChildren(QMenu)
    next(a for a in menu.actions() if words in a.text().replace("&", "")).trigger()
    menu.close()
    menu.setParent(None)


def test_pictures_of_the_place_become_the_ground_of_the_map(
    qtbot: QtBot, window: Window, settled: Settled, telephone: FrameFiles, monkeypatch
):
    """Brought in by the page's button."""
    scouted = window
    scouted.plan_stage.show_page(scouted.plan_stage.scouting)
    names = [str(p) for p in telephone.paths]
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *_a, **_k: (names, ""))
    _press(qtbot, scouted, "scout-bring")
    settled(scouted)
    qtbot.waitUntil(lambda: scouted.map.scouted is not None, timeout=10_000)
    (kept,) = scouted.state.outing.scouts
    assert kept.name == "f00.jpg and 2 more"
    assert scouted.state.outing.frames == (), "they are no frames of the picture"
    assert not scouted.join_stage.can_join()
    sheet = scouted.map.scouted
    assert sheet is not None
    colours = {scouted.map.grab().toImage().pixel(_at(scouted, a, 12)) for a in (-20, -10, 10, 20)}
    assert len(colours) > 2, "the map shows them"
    # it is kept: another window shows it too, and undo takes it away
    scouted.state.save_now()
    assert document.scout_file(scouted.state.folder, kept).is_file()
    again = Window(Settings())
    assert again.open_outing(scouted.state.folder)
    qtbot.waitUntil(lambda: again.map.scouted is not None, timeout=10_000)
    again.tasks.cancel_all()
    again.close()
    scouted.state.undo()
    settled(scouted)
    assert scouted.map.scouted is None
    scouted.state.redo()
    qtbot.waitUntil(lambda: scouted.map.scouted is not None, timeout=10_000)


def test_a_picture_is_turned_by_hand_by_number_and_hidden(qtbot: QtBot, scouted: Window, settled: Settled):
    page = scouted.plan_stage.scouting
    start, end = _at(scouted, 0, 5), _at(scouted, 12, 5)
    qtbot.keyClick(scouted, Qt.Key.Key_G)
    assert page.drag.isChecked()
    qtbot.mousePress(scouted.map, LEFT, pos=start)
    for k in (1, 2, 3):
        qtbot.mouseMove(scouted.map, start + (end - start) * k / 3)
    qtbot.mouseRelease(scouted.map, LEFT, pos=end)
    qtbot.keyClick(scouted, Qt.Key.Key_G)
    assert scouted.state.outing.scouts[0].turn_deg[0] == pytest.approx(12, abs=0.5)
    assert page.turns[0].value == scouted.state.outing.scouts[0].turn_deg[0]
    scouted.state.undo()
    assert scouted.state.outing.scouts[0].turn_deg[0] == 0.0, "a drag is one step"
    page.turns[0].setFocus()
    page.turns[0].selectAll()
    qtbot.keyClicks(page.turns[0], "-20")
    qtbot.keyClick(page.turns[0], Qt.Key.Key_Return)
    assert scouted.state.outing.scouts[0].turn_deg[0] == -20
    item = page.pictures.item(0)
    item.setCheckState(Qt.CheckState.Unchecked)
    settled(scouted)
    assert not scouted.state.outing.scouts[0].shown
    qtbot.waitUntil(lambda: scouted.map.scouted is None, timeout=5000)
    _press(qtbot, scouted, "scout-front")
    assert scouted.state.outing.scouts[0].shown
    _press(qtbot, scouted, "scout-drop")
    assert scouted.state.outing.scouts == ()


def test_a_wrong_picture_is_one_sentence_and_leaves_the_plan(
    qtbot: QtBot, window: Window, settled: Settled, tmp_path: Path, telephone: FrameFiles
):
    for kind in ["damaged", "text", "small"]:
        data = telephone.paths[0].read_bytes()
        bad = tmp_path / "bad.jpg"
        bad.write_bytes({"damaged": data[: len(data) // 3], "text": b"no picture at all", "small": b""}[kind])
        before = window.state.outing
        window.plan_stage.commands.scouting.bring([bad])
        settled(window)
        assert window.state.outing == before
        assert "bad.jpg" in window.message_text()
        assert window.message_text().count("\n") == 0


def test_a_picture_without_an_angle_is_asked_for_it_once(
    qtbot: QtBot, window: Window, settled: Settled, tmp_path: Path, telephone: FrameFiles, monkeypatch
):
    plain = tmp_path / "screen.png"
    with Image.open(telephone.paths[1]) as image:
        image.save(plain)
    asked: list[str] = []
    monkeypatch.setattr(QInputDialog, "getDouble", lambda *a, **_k: (asked.append(a[2]), (46.0, True))[1])
    window.plan_stage.commands.scouting.bring([plain])
    settled(window)
    assert len(asked) == 1
    assert "screen.png" in asked[0]
    (kept,) = window.state.outing.scouts
    # by hand: half of 480 px over the tangent of half of 46 degrees
    assert kept.px_per_rad == pytest.approx(kept.width / 2 / math.tan(math.radians(23)), rel=0.01)
    # the whole circle of another picture lies behind it
    Image.fromarray(np.full((800, 1600, 3), 90, np.uint8)).save(tmp_path / "sphere.png")
    window.plan_stage.commands.scouting.bring([tmp_path / "sphere.png"])
    settled(window)
    assert [p.full_circle for p in window.state.outing.scouts] == [True, False]


def test_an_earlier_outings_picture_is_the_ground_where_it_faced(
    qtbot: QtBot, joined: Window, settled: Settled, monkeypatch
):
    """Its canvas is known, so that a thing lies on the map where its frames showed it, turned by the bearings of both."""
    folder, before = joined.state.folder, joined.state.joined
    assert before is not None
    joined.state.apply(edits.set_part("site", "Faces", facing_deg=100.0))
    joined.outings.begin("Later")
    joined.state.apply(edits.set_part("site", "Faces", facing_deg=70.0))
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_a, **_k: str(folder))
    page = joined.plan_stage.scouting
    joined.plan_stage.show_page(page)
    _press(qtbot, joined, "scout-outing")
    settled(joined)
    (first,) = joined.state.outing.scouts
    # the first picture tells which way yaw 0 faces
    assert (first.turn_deg[0], joined.state.outing.brief.site.facing_deg) == (0.0, 100.0)
    joined.state.apply(edits.set_part("site", "Faces", facing_deg=70.0))
    _press(qtbot, joined, "scout-outing")
    settled(joined)
    assert joined.state.outing.scouts[0].turn_deg[0] == pytest.approx(30.0)
    ground = joined.context.scout_grounds.shown()[1]
    direction = before.canvas.directions(np.array([before.canvas.width / 2, before.canvas.height / 2]))
    at = ground.canvas.pixels(direction) / (ground.canvas.width, ground.canvas.height)
    assert at == pytest.approx((0.5, 0.5), abs=0.01)
    # a folder that holds no picture is told
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_a, **_k: str(joined.state.folder))
    _press(qtbot, joined, "scout-outing")
    settled(joined)
    assert len(joined.state.outing.scouts) == 2
    assert "joined" in joined.message_text()


def test_facts_are_told_and_taken_over(qtbot: QtBot, scouted: Window, settled: Settled):
    scouted.state.apply(edits.set_target_field("Narrow", left_deg=-40.0, right_deg=40.0))
    settled(scouted)
    page = scouted.plan_stage.scouting
    assert [
        j.key for j in scouted.state.judgements if j.key == "readings-scouted"
    ] == [] or page.take_readings.isEnabled()
    _press(qtbot, scouted, "scout-readings")
    readings = scouted.state.outing.brief.exposure.readings
    told = {round(a): ev for a, ev, _ in scouted.state.outing.scouts[0].readings}
    assert len(readings) >= 7
    assert {round(a): ev for a, ev in readings} == {a: round(ev, 1) for a, ev in told.items() if -45 <= a <= 45}
    settled(scouted)
    assert not [j for j in scouted.state.judgements if j.key == "readings-scouted"]


def test_marks_are_made_by_the_menu_and_the_plan_follows(qtbot: QtBot, scouted: Window, settled: Settled, monkeypatch):
    state = scouted.state
    _mark(scouted, monkeypatch, "tower", "subject", (-1.0, 8.0), 30.0)
    _mark(scouted, monkeypatch, "railing", "nearest", (10.0, -15.0), 2.5)
    _mark(scouted, monkeypatch, "mast", "must not be cut", (99.0, 8.0))
    assert [(m.name, m.role) for m in state.outing.brief.scene.marks] == [
        ("tower", "subject"), ("railing", "nearest"), ("mast", "whole"),
    ]  # fmt: skip
    assert (state.outing.brief.scene.subject_m, state.outing.brief.scene.near_m) == (30.0, 2.5)
    assert [m.distance_m for m in state.outing.brief.scene.marks] == [30.0, 2.5, 0.0]
    settled(scouted)
    (told,) = [j for j in state.judgements if j.key == "cut-mast"]
    assert "more to the right" in told.sentence
    scouted.plan_stage.commands.apply_remedy("hold-marks")
    settled(scouted)
    assert not [j for j in state.judgements if j.key == "cut-mast"]
    # a mark is moved by the hand, changed and taken away in the list
    start = _at(scouted, -1.0, 8.0)
    qtbot.mousePress(scouted.map, LEFT, pos=start)
    qtbot.mouseMove(scouted.map, start + QPoint(20, 0))
    qtbot.mouseRelease(scouted.map, LEFT, pos=start + QPoint(20, 0))
    moved = state.outing.brief.scene.marks[0].yaw_deg
    assert moved == pytest.approx(-1.0 + 20 / scouted.map.form.px_per_deg, abs=0.3)
    page = scouted.plan_stage.scouting
    page.marks.setCurrentRow(0)
    page.role.setCurrentIndex(page.role.findData("whole"))
    page.role.activated.emit(page.role.currentIndex())
    assert state.outing.brief.scene.marks[0].role == "whole"
    page.marks.setCurrentRow(1)
    _press(qtbot, scouted, "drop-mark")
    assert [m.name for m in state.outing.brief.scene.marks] == ["tower", "mast"]
    _press(qtbot, scouted, "field-from-marks")
    assert state.outing.target_field.left_deg < moved < 99 < state.outing.target_field.right_deg


def test_ends_and_the_sun_are_set_at_a_place_of_the_map(qtbot: QtBot, scouted: Window, monkeypatch):
    state = scouted.state
    _mark(scouted, monkeypatch, "", "ends here on the left", (-70.0, 0.0))
    _mark(scouted, monkeypatch, "", "Up to here", (0.0, 18.0))
    assert (state.outing.target_field.left_deg, state.outing.target_field.high_deg) == (-70.0, 18.0)
    # the sun where it stands by the ephemeris, 40 degrees to the left of yaw 0
    sun = state.plan.sun
    _mark(scouted, monkeypatch, "", "sun stands here", (-40.0, sun.altitude_deg))
    assert state.outing.brief.site.facing_deg == pytest.approx((sun.bearing_deg + 40) % 360, abs=0.1)
    before = state.outing
    _mark(scouted, monkeypatch, "", "sun stands here", (-40.0, -30.0))
    assert state.outing == before
    assert "high then" in scouted.message_text()


def test_the_planned_picture_is_foreseen_in_every_projection(
    qtbot: QtBot, scouted: Window, settled: Settled, monkeypatch
):
    stage, page = scouted.plan_stage, scouted.plan_stage.foreseen
    scouted.state.apply(edits.set_target_field("Narrow", left_deg=-30.0, right_deg=30.0, low_deg=-15.0, high_deg=15.0))
    stage.show_page(page)
    settled(scouted)
    qtbot.waitUntil(lambda: page.views[0].shown is not None, timeout=5000)
    seen = []
    for i in range(page.projection.count()):
        page.projection.setCurrentIndex(i)
        page.projection.activated.emit(i)
        qtbot.waitUntil(lambda i=i: "loses" in page.costs[0].text() and _drawn_as(page, i), timeout=5000)
        settled(scouted)
        seen.append(page.views[0].grab().toImage())
    assert len({(im.width(), im.height(), bytes(im.constBits().asstring(im.sizeInBytes()))) for im in seen}) >= 5
    page.aids["seams"].setChecked(True)
    qtbot.waitUntil(lambda: page.views[0].shown is not None and page.views[0].shown.seams is not None, timeout=5000)
    seams = page.views[0].shown.seams
    assert 0 < seams.mean() < 0.1
    # two side by side, the plan changed under them
    page.beside.setCurrentIndex(page.beside.findData("turned"))
    page.redraw()
    settled(scouted)
    qtbot.waitUntil(lambda: page.views[1].isVisible() and page.views[1].shown is not None, timeout=5000)
    qtbot.waitUntil(lambda: "sideways" in page.titles[1].text(), timeout=5000)
    before = page.titles[0].text()
    scouted.state.apply(edits.set_target_field("Wider", right_deg=60.0))
    qtbot.waitUntil(lambda: page.titles[0].text() != before, timeout=5000)
    # light of another hour
    page.hour.show_value(0.0)
    page._set_hour(12 * 60)
    qtbot.waitUntil(lambda: page.light.text().startswith("12:00"), timeout=5000)
    assert "sun" in page.light.text()
    page.clock.setValue(page.clock.maximum())
    qtbot.waitUntil(lambda: "below the horizon" in page.light.text() or "light" in page.light.text(), timeout=5000)
    assert round(page.hour.value) == page.clock.maximum()
    # framed by composition: 3 to 1 with the mast on the left third
    _mark(scouted, monkeypatch, "mast", "subject", (10.0, 5.0))
    qtbot.waitUntil(lambda: any("mast, 5.00 m" in m.name for m in page.views[0].shown.marks), timeout=5000)
    page.shape.setCurrentIndex(page.shape.findText("3 : 1"))
    page.projection.setCurrentIndex(page.projection.findData("cylindrical"))
    page.place.setCurrentIndex(page.place.findText("left third"))
    page.level.setCurrentIndex(page.level.findText("lower third"))
    _press(qtbot, scouted, "compose-field")
    w = scouted.state.outing.target_field
    assert (10.0 - w.left_deg) / w.sweep_deg == pytest.approx(1 / 3, abs=0.01)
    tall = math.tan(math.radians(w.high_deg)) - math.tan(math.radians(w.low_deg))
    assert math.radians(w.sweep_deg) / tall == pytest.approx(3, rel=0.01)
    assert math.tan(math.radians(w.high_deg)) / tall == pytest.approx(2 / 3, abs=0.01)
    settled(scouted)


def _drawn_as(page, index: int) -> bool:
    wanted = page.projection.itemData(index)
    words = page.projection.itemText(index)
    return wanted == "auto" or page.titles[0].text().lower().startswith(words.lower())


def test_in_field_the_scouted_piece_stands_beside_the_finder(
    qtbot: QtBot, scouted: Window, settled: Settled, telephone: FrameFiles
):
    """The simulated camera stands where the telephone stood: the frame shows what was scouted."""
    middle = [math.degrees(math.atan2(c[0, 2], c[2, 2])) for c in telephone.cameras]
    scouted.plan_stage.commands.scouting.turn(scouted.state.outing.scouts[0], 0, sum(middle) / 3)
    scouted.state.apply(edits.set_target_field("Narrow", left_deg=-45.0, right_deg=45.0, low_deg=-20.0, high_deg=20.0))
    scouted.go("field")
    settled(scouted)
    stage = scouted.field_stage
    assert stage.foretold.isVisible()
    scouted.state.go_to(2)
    settled(scouted)
    qtbot.keyClick(scouted, Qt.Key.Key_Space)
    settled(scouted)
    qtbot.waitUntil(lambda: stage.foretold.words.text() != "", timeout=20_000)
    assert "shows what was scouted" in stage.foretold.words.text()
    # a picture laid wrongly tells by how much
    scouted.plan_stage.commands.scouting.turn(scouted.state.outing.scouts[0], 0, sum(middle) / 3 + 9.0)
    settled(scouted)
    qtbot.keyClick(scouted, Qt.Key.Key_A)
    settled(scouted)
    qtbot.waitUntil(lambda: "further right" in stage.foretold.words.text(), timeout=20_000)
    assert any(f"{n}." in stage.foretold.words.text() for n in (8, 9)), stage.foretold.words.text()


def test_the_map_zooms_pans_and_has_other_forms(qtbot: QtBot, window: Window, settled: Settled):
    view = window.map
    window.state.apply(edits.set_target_field("Narrow", left_deg=-60.0, right_deg=60.0))
    place = QPointF(_at(window, 40, 10))
    before = view.form.px_per_deg
    wheel = QWheelEvent(
        place, view.mapToGlobal(place), QPoint(), QPoint(0, 240), Qt.MouseButton.NoButton,
        Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False,
    )  # fmt: skip
    view.wheelEvent(wheel)
    assert view.form.px_per_deg > 1.4 * before
    azimuth, altitude = view.form.angles(place)
    assert (azimuth, altitude) == (pytest.approx(40, abs=0.6), pytest.approx(10, abs=0.6)), (
        "what is under the pointer stays"
    )
    qtbot.mousePress(view, Qt.MouseButton.MiddleButton, pos=place.toPoint())
    qtbot.mouseMove(view, place.toPoint() + QPoint(-60, 10))
    qtbot.mouseRelease(view, Qt.MouseButton.MiddleButton, pos=place.toPoint() + QPoint(-60, 10))
    assert view.form.angles(place + QPointF(-60, 10))[0] == pytest.approx(azimuth, abs=0.6)
    window.trigger("map.all")
    assert view.look.fitted
    for name in FORMS:
        assert view.look.form == name
        for edge in ("right", "high"):
            w = window.state.outing.target_field
            piece = next(p for p in edges(view.state.plan.target_field, view.form)[edge] if p.count())
            start = piece[piece.count() // 2].toPoint() if piece.count() > 2 else ((piece[0] + piece[1]) / 2).toPoint()
            assert view.edge_at(QPointF(start)) is not None
            toward = view.form.angles(QPointF(start))
            assert toward is not None
            inward = (toward[0] - 10, toward[1]) if edge == "right" else (toward[0], toward[1] - 4)
            end = view.form.point(*inward)
            assert end is not None
            qtbot.mousePress(view, LEFT, pos=start)
            qtbot.mouseMove(view, end.toPoint())
            qtbot.mouseRelease(view, LEFT, pos=end.toPoint())
            after = window.state.outing.target_field
            moved = w.right_deg - after.right_deg if edge == "right" else w.high_deg - after.high_deg
            assert moved == pytest.approx(10 if edge == "right" else 4, abs=2.5), (name, edge)
            window.state.undo()
        # a frame in sight is chosen by click
        frame = window.state.plan.frames[3]
        at = view.form.point(frame.yaw_deg, frame.pitch_deg)
        if at is not None and name != "poles":
            qtbot.mouseClick(view, LEFT, pos=at.toPoint())
            assert window.state.selected == frame.number
        view.grab()
        qtbot.keyClick(window, Qt.Key.Key_F4)
    assert view.look.form == "unrolled"


#: Small plans of kinds that stay where the telephone looked: kind, field, focal length, lens.
KINDS = {
    "shallow": ((-16.0, 16.0, -10.0, 10.0), {"focal_mm": 50.0, "upright": False}),
}


@pytest.mark.parametrize("kind", list(KINDS))
def test_each_kind_is_planned_on_the_ground_shot_joined_and_is_what_was_foreseen(
    qtbot: QtBot, scouted: Window, settled: Settled, telephone: FrameFiles, kind: str
):
    """The simulated camera stands where the telephone stood; features of both pictures lie at the same places."""
    ends, rig = KINDS[kind]
    state, page = scouted.state, scouted.plan_stage.foreseen
    middle = sum(math.degrees(math.atan2(c[0, 2], c[2, 2])) for c in telephone.cameras) / 3
    scouted.plan_stage.commands.scouting.turn(state.outing.scouts[0], 0, middle)
    state.apply(edits.set_brief("Kind", kind_of(kind).start(state.outing.brief)))
    state.apply(
        edits.set_rig("Small", **{**SMALL, "sensor_width_mm": 24.0, "sensor_height_mm": 16.0, "lens_name": "", **rig})
    )
    left, right, low, high = ends
    state.apply(
        edits.set_target_field(
            "Small", left_deg=left, right_deg=right, low_deg=low, high_deg=high, overlap=0.35, row_frames=0
        )
    )
    assert len(state.plan.frames) <= 16, len(state.plan.frames)
    scouted.go("field")
    settled(scouted)
    scouted.field_stage.shoot_all()
    settled(scouted)
    scouted.trigger("join.run")
    settled(scouted)
    assert state.joined is not None
    scouted.go("plan")
    scouted.plan_stage.show_page(page)
    page.beside.setCurrentIndex(page.beside.findData("joined"))
    page.beside.activated.emit(page.beside.currentIndex())
    settled(scouted)
    qtbot.waitUntil(lambda: page.views[1].shown is not None and "loses" in page.costs[0].text(), timeout=10_000)
    foreseen, joined = (view.shown.pixels for view in page.views)
    assert page.views[1].isVisible()
    shifts = _shifts(foreseen, joined)
    assert len(shifts) >= 12
    # the join levels and centres itself by what it finds: the same crop is that of the middle of all shifts
    off = shifts - np.median(shifts, 0)
    assert np.median(np.hypot(*off.T)) < 0.006
    assert np.abs(np.median(shifts, 0)).max() < 0.03


def _shifts(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """How far features of one picture lie elsewhere in the other, both as shares of their widths (N, 2)."""
    sift = cv2.SIFT_create(1500)
    wide = b.shape[1]
    a = cv2.resize(a, (wide, round(a.shape[0] * wide / a.shape[1])), interpolation=cv2.INTER_AREA)
    found = [
        sift.detectAndCompute(cv2.cvtColor(np.ascontiguousarray(p[..., :3]), cv2.COLOR_RGB2GRAY), None) for p in (a, b)
    ]
    (one, first), (two, second) = found
    pairs = [m for m, n in cv2.BFMatcher().knnMatch(first, second, 2) if m.distance < 0.7 * n.distance]
    # both are told from the middle, which is the canvas's own
    half = [np.array([wide, p.shape[0]]) / 2 for p in (a, b)]
    off = np.array([np.subtract(two[p.trainIdx].pt, half[1]) - np.subtract(one[p.queryIdx].pt, half[0]) for p in pairs])
    return off[np.hypot(*off.T) < 0.06 * wide] / wide


def test_skyline_and_what_moved_are_told_and_the_plan_takes_them_into_account(
    qtbot: QtBot, scouted: Window, settled: Settled, tmp_path: Path
):
    """A second picture with people in it: where they walk, and a plan with repeats by one press."""
    page, state = scouted.plan_stage.scouting, scouted.state
    qtbot.waitUntil(lambda: state.judgements is not None, timeout=10_000)
    told = page.findChild(QLabel, "fact-scout-skyline").text()
    top = state.scouted.highest(state.plan)
    assert top is not None
    assert 15 < top[1] < 26, "the signal house's tower stands 20 degrees high at yaw -1, a lamp 21 at 45"
    assert f"{top[1]:.0f}°" in told
    scouted.plan_stage.show_page(scouted.plan_stage.light)
    sky = scouted.plan_stage.findChild(QLineEdit, "field-skyline_deg")
    assert sky.text() == "as scouted"
    sky.setText("9")
    sky.setModified(True)
    sky.editingFinished.emit()
    assert state.outing.brief.site.skyline_deg == 9
    qtbot.waitUntil(lambda: state.judgements is not None, timeout=10_000)
    assert f"{state.scouted.sun_behind:%H:%M}" in scouted.plan_stage.findChild(QLabel, "fact-skyline-sun").text()
    scouted.plan_stage.show_page(page)
    (tmp_path / "people").mkdir()
    scouted.plan_stage.commands.scouting.bring(telephone_sweep(tmp_path / "people", -26.0, 3, walkers=8).paths)
    settled(scouted)
    qtbot.waitUntil(lambda: len(scouted.context.scout_grounds.shown()) == 2, timeout=10_000)
    before = state.outing.brief
    _press(qtbot, scouted, "scout-compare")
    qtbot.waitUntil(lambda: "moved" in page.moved.text(), timeout=10_000)
    _press(qtbot, scouted, "scout-for-moved")
    assert state.outing.brief.run.repeats == 3
    assert state.outing.brief.run.order in ("subject", "snake")
    assert "3 times" in scouted.message_text()
    state.undo()
    assert state.outing.brief == before, "one step"
