"""Composing by mouse and keys: projections beside each other, level by a line, turns, crops and the rim, each undone again."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import tifffile
from PyQt6.QtCore import QEvent, QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QComboBox, QLabel
from pytestqt.qtbot import QtBot
from tests.helpers.fields import retype

from idle_lantern.app.cropping import crop_box
from idle_lantern.app.stages.compose_model import marks_cut
from idle_lantern.app.window import Window
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.geometry.sphere import direction
from idle_lantern.core.outing import document, edits
from idle_lantern.core.outing.model import CropBox
from idle_lantern.core.pictures.source import region
from idle_lantern.core.plan.brief import Mark


@pytest.fixture
def composing(qtbot: QtBot, joined: Window, settled: Callable) -> Window:
    """Three frames joined, and the picture being composed."""
    qtbot.keyClick(joined, Qt.Key.Key_C)
    settled(joined)
    assert joined.join_stage.compose.active
    return joined


def _drag(window: Window, one: QPointF, other: QPointF) -> None:
    """Press, move in steps and let go on the picture, in widget places."""
    view = window.join_stage.view

    def send(kind: QEvent.Type, at: QPointF) -> None:
        down = kind != QEvent.Type.MouseButtonRelease
        event = QMouseEvent(
            kind,
            at,
            view.mapToGlobal(at),
            Qt.MouseButton.LeftButton,
            Qt.MouseButton.LeftButton if down else Qt.MouseButton.NoButton,
            Qt.KeyboardModifier.NoModifier,
        )
        {
            QEvent.Type.MouseButtonPress: view.mousePressEvent,
            QEvent.Type.MouseMove: view.mouseMoveEvent,
            QEvent.Type.MouseButtonRelease: view.mouseReleaseEvent,
        }[kind](event)

    send(QEvent.Type.MouseButtonPress, one)
    for step in (0.3, 0.7, 1.0):
        send(QEvent.Type.MouseMove, one + (other - one) * step)
    send(QEvent.Type.MouseButtonRelease, other)


def _at(window: Window, azimuth_deg: float, altitude_deg: float) -> QPointF:
    """Where a direction is seen in the picture, in widget places."""
    joined = window.state.joined
    assert joined is not None
    place = joined.canvas.pixels(direction(np.radians(azimuth_deg), np.radians(altitude_deg)))
    return window.join_stage.view.to_widget(QPointF(float(place[0]), float(place[1])))


def test_the_crop_is_told_against_a_plan_that_nobody_looked_at(qtbot: QtBot, joined: Window, settled: Callable):
    joined.go("join")
    assert joined.open_outing(joined.state.folder)
    settled(joined)
    assert joined.state.judgements is None, "the plan is judged when it is looked at"
    qtbot.keyClick(joined, Qt.Key.Key_C)
    settled(joined)
    assert "the plan foretold" in joined.join_stage.compose.crop_told.text()


def test_projections_stand_beside_each_other_with_their_costs(qtbot: QtBot, composing: Window, settled: Callable):
    cards = composing.join_stage.compose.cards.cards
    assert [c.card.key for c in cards] == [
        "rectilinear", "cylindrical", "equirectangular", "panini", "mercator", "stereographic",
    ]  # fmt: skip
    assert all(c.card.image is not None and "crop loses" in c.card.told for c in cards)
    assert sum(bool(c.card.suits) for c in cards) == 1
    joined, solution = composing.state.joined, composing.state.solution
    assert joined is not None
    present = next(c for c in cards if c.isChecked()).card.key
    assert present == joined.canvas.projection.name
    qtbot.keyClick(composing, Qt.Key.Key_P)
    settled(composing)
    assert composing.state.joined is not None
    chosen = composing.state.joined.canvas.projection.name
    assert chosen == composing.state.outing.choices.projection != present
    assert composing.state.solution is solution, "nothing was matched again"
    assert [c.card.key for c in composing.join_stage.compose.cards.cards if c.isChecked()] == [chosen]
    composing.trigger("edit.undo")
    settled(composing)
    assert composing.state.joined.canvas.projection.name == present
    # panini has sliders of its own: by keys a value is taken, and what was taken is drawn
    panel = composing.join_stage.compose
    assert not panel.sliders.straighten.isVisible()
    panel.choose_projection("panini")
    settled(composing)
    assert panel.sliders.straighten.isVisible()
    qtbot.keyClick(panel.sliders.straighten.slider, Qt.Key.Key_PageUp)
    settled(composing)
    share = composing.state.outing.choices.straighten
    assert share == pytest.approx(0.1)
    assert panel.sliders.straighten.figure.text() == "10 % straight"
    assert composing.state.joined.canvas.projection.parameters == {"distance": 1.0, "straighten": share}
    composing.trigger("edit.undo")
    assert panel.sliders.straighten.figure.text() == "0 % straight"
    # the stereographic one looks up and down: a planet, a mirror ball, and all between
    assert not panel.sliders.look.isVisible()
    panel.choose_projection("stereographic")
    settled(composing)
    assert panel.sliders.look.isVisible()
    qtbot.mouseClick(panel.sliders.planet_button, Qt.MouseButton.LeftButton)
    settled(composing)
    assert composing.state.outing.choices.turn_deg == (0.0, 90.0, 0.0)
    assert panel.sliders.look.figure.text() == "down: planet"
    canvas = composing.state.joined.canvas
    nadir = canvas.directions(np.array([canvas.centre_px]))[0]
    assert nadir[1] > 0.99, "the ground lies under the middle of the plane"
    qtbot.keyClick(panel.sliders.look.slider, Qt.Key.Key_Right)
    assert composing.state.outing.choices.turn_deg == (0.0, 89.0, 0.0)
    assert panel.sliders.look.figure.text() == "89° down"
    settled(composing)


def test_a_leaning_picture_is_levelled_by_a_line_along_the_horizon(qtbot: QtBot, composing: Window, settled: Callable):
    retype(qtbot, composing.join_stage.compose.fields["Roll"], "4°")
    settled(composing)
    assert composing.state.outing.choices.turn_deg == (0.0, 0.0, 4.0)
    one, other = _at(composing, -25, 0), _at(composing, 25, 0)
    assert other.y() - one.y() > 5, "it leans as told: what lies to the right is lower"
    qtbot.keyClick(composing, Qt.Key.Key_E)
    _drag(composing, one, other)
    settled(composing)
    assert composing.state.outing.choices.turn_deg == pytest.approx((0, 0, 0), abs=0.25)
    joined = composing.state.joined
    assert joined is not None
    rows = joined.canvas.pixels(direction(np.radians([-25.0, 25.0]), np.zeros(2)))[:, 1]
    assert abs(rows[1] - rows[0]) < 0.006 * joined.canvas.width
    # too short a line is told, and changes nothing
    before = composing.state.outing.choices.turn_deg
    _drag(composing, QPointF(200, 100), QPointF(200.5, 100))
    assert composing.state.outing.choices.turn_deg == before
    assert "too short" in composing.message_text()


def test_the_picture_is_grabbed_and_turned_and_that_is_undone(qtbot: QtBot, composing: Window, settled: Callable):
    composing.state.apply(edits.choose("Flat", projection="rectilinear"))
    settled(composing)
    view, compose = composing.join_stage.view, composing.join_stage.compose
    before = composing.state.picture
    qtbot.keyClick(composing, Qt.Key.Key_R)
    start = QPointF(view.width() / 2, view.height() / 2)
    seen = []
    plain = view.set_source
    view.set_source = lambda *a: (seen.append(a[0]), plain(*a))  # type: ignore[method-assign]
    _drag(composing, start, start + QPointF(30, -20))
    assert len(seen) >= 3, "the picture follows the hand"
    assert before not in seen
    turn = composing.state.outing.choices.turn_deg
    assert turn[0] > 0.5
    assert turn[1] > 0.5
    settled(composing)
    assert composing.state.joined is not None
    assert composing.state.joined.report.asked.turn_deg == turn
    qtbot.keyClick(view, Qt.Key.Key_Period)
    assert composing.state.outing.choices.turn_deg[2] > turn[2]
    compose.as_levelled()
    for _ in range(3):
        composing.state.undo()
    settled(composing)
    assert composing.state.outing.choices.turn_deg == (0.0, 0.0, 0.0)
    assert composing.state.joined.report.asked.turn_deg == (0.0, 0.0, 0.0)


def test_a_crop_by_keys_and_by_ratio_is_what_is_delivered(
    qtbot: QtBot, composing: Window, settled: Callable, tmp_path: Path
):
    joined = composing.state.joined
    assert joined is not None
    largest = crop_box(composing.state.outing, joined)
    ratio = composing.findChild(QComboBox, "compose-ratio")
    ratio.setCurrentIndex(2)
    ratio.activated.emit(2)
    box = crop_box(composing.state.outing, joined)
    assert box.width / box.height == pytest.approx(2.0, rel=0.01)
    assert box.area < largest.area
    picture = composing.state.picture
    assert picture is not None
    assert (region(picture, box)[..., 3] == 255).all()
    qtbot.keyClick(composing, Qt.Key.Key_K)
    view = composing.join_stage.view
    qtbot.keyClick(view, Qt.Key.Key_Right)
    qtbot.keyClick(view, Qt.Key.Key_Left, Qt.KeyboardModifier.ShiftModifier)
    by_hand = crop_box(composing.state.outing, joined)
    assert by_hand.left > box.left
    assert by_hand.width < box.width
    assert by_hand.width / by_hand.height == pytest.approx(2.0, rel=0.02), "the ratio is kept"
    assert composing.join_stage.view.crop == by_hand
    composing.deliver_stage.write_to(tmp_path / "o.tif")
    settled(composing)
    assert tifffile.imread(tmp_path / "o.tif").shape[:2] == (by_hand.height, by_hand.width)
    qtbot.waitUntil(
        lambda: document.load(composing.state.folder).composition.box == composing.state.outing.composition.box,
        timeout=5000,
    )
    # drawn larger by the mouse, over a gap: that is told, and delivered with its gap
    right, bottom = by_hand.left + by_hand.width, by_hand.top + by_hand.height
    _drag(composing, view.to_widget(QPointF(right, bottom)), view.to_widget(QPointF(*picture.sizes[0])))
    now = crop_box(composing.state.outing, joined)
    assert now.area > by_hand.area
    _drag(composing, view.to_widget(QPointF(now.left, now.top)), view.to_widget(QPointF(0, 0)))
    assert "shows nothing" in composing.findChild(QLabel, "compose-crop-told").text()
    composing.deliver_stage.write_to(tmp_path / "gap.tif")
    settled(composing)
    assert tifffile.imread(tmp_path / "gap.tif").shape[2] == 4
    # another projection has other pixels: the crop by hand does not hold there
    composing.state.apply(edits.choose("Mercator", projection="mercator"))
    settled(composing)
    assert composing.state.joined is not None
    other = crop_box(composing.state.outing, composing.state.joined)
    assert other.width / other.height == pytest.approx(2.0, rel=0.01)


def test_a_crop_that_cuts_a_mark_of_the_plan_is_told_with_the_way_out(composing: Window, settled: Callable):
    """The mark stands where a pixel of the picture looks; the crop ends before it, or holds it."""
    state = composing.state
    joined = state.joined
    assert joined is not None
    told = composing.findChild(QLabel, "compose-crop-told")
    box = crop_box(state.outing, joined)
    ray = joined.canvas.directions(np.array([box.left + 60.0, box.top + box.height / 2]))
    yaw, pitch = np.degrees(np.arctan2(ray[0], ray[2])), -np.degrees(np.arcsin(ray[1]))
    mark = Mark("mast", float(yaw), float(pitch), 1.0, role="whole")
    state.apply(edits.set_part("scene", "Mark", marks=(mark,)))
    assert "mast" not in told.text(), "nothing tells where it lies: these frames were brought in"
    logged = tuple(replace(r, yaw_deg=0.0, pitch_deg=0.0) for r in state.outing.frames)
    state.apply(edits.Edit("As logged", lambda o: replace(o, frames=logged)))
    assert "mast" not in told.text(), "it is held"
    cut = CropBox(
        box.left + 200, box.top, box.width - 200, box.height, None, (joined.canvas.width, joined.canvas.height)
    )
    state.apply(edits.crop_to(cut))
    settled(composing)
    assert "It cuts mast" in told.text()
    assert "further to the left" in told.text()
    (found,) = marks_cut(state.outing, joined, crop_box(state.outing, joined))
    px = int(found[1].split(" ")[0])
    wide = joined.canvas.px_per_rad * np.radians(1.0)
    assert px == pytest.approx(200 - 60 + wide / 2, abs=3)


def test_the_rim_is_stretched_and_what_was_chosen_last_holds(qtbot: QtBot, composing: Window, settled: Callable):
    rim = composing.findChild(QComboBox, "compose-rim")
    rim.setCurrentIndex(2)
    rim.activated.emit(2)
    assert composing.context.joins.busy
    rim.setCurrentIndex(1)
    rim.activated.emit(1)  # while the first is still made: it is dropped
    settled(composing)
    joined, picture = composing.state.joined, composing.state.picture
    assert joined is not None
    assert picture is not None
    assert joined.report.rim.way == "stretch"
    assert "stretched to a rectangle" in composing.findChild(QLabel, "compose-rim-told").text()
    whole = Rectangle(0, 0, *picture.sizes[0])
    assert (region(picture, whole)[..., 3] == 255).all()
    assert crop_box(composing.state.outing, joined) == whole
    qtbot.keyClick(composing, Qt.Key.Key_C)
    assert not composing.join_stage.compose.active
    assert composing.join_stage.view.tool is None


def test_a_bent_edge_is_drawn_straight_and_a_click_takes_that_back(qtbot: QtBot, composing: Window, settled: Callable):
    """What the projection bends is told by its two ends; the picture is made anew from its frames, once."""
    w, view = composing, composing.join_stage.view
    w.state.apply(edits.choose("Cylinder", projection="cylindrical"))
    settled(w)
    qtbot.keyClick(w, Qt.Key.Key_E, Qt.KeyboardModifier.ShiftModifier)
    assert w.join_stage.compose.hand.tool == "straight"
    one, other = (QPointF(view.width() * x, view.height() * 0.58) for x in (0.3, 0.7))
    _drag(w, one, other)
    (line,) = w.state.outing.choices.eased
    settled(w)
    joined = w.state.joined
    assert joined is not None
    assert joined.report.asked.eased == (line,)
    assert joined.canvas.stretch is not None
    ends = joined.canvas.pixels(np.stack([direction(*np.radians(p)) for p in (line.from_deg, line.to_deg)]))
    middle = sum(direction(*np.radians(p)) for p in (line.from_deg, line.to_deg))
    on_it = joined.canvas.pixels(middle / np.linalg.norm(middle))
    chord = ends[1] - ends[0]
    assert abs((on_it - ends[0]) @ np.array([-chord[1], chord[0]])) / np.hypot(*chord) < 1
    # while a tool is held what is eased is drawn where it lies
    hand = w.join_stage.compose.hand
    (shown,) = hand._eased_lines()
    assert min(np.hypot(p.x() - 0.5 - on_it[0], p.y() - 0.5 - on_it[1]) for p in shown) < 6
    # a round thing beside it, undone again; a click on the line takes it back
    qtbot.keyClick(w, Qt.Key.Key_R, Qt.KeyboardModifier.ShiftModifier)
    _drag(w, one, one + QPointF(12, 0))
    assert len(w.state.outing.choices.eased) == 2
    w.state.undo()
    place = view.sight.to_widget(QPointF(*(on_it + 0.5)))
    _drag(w, place, place)
    assert w.state.outing.choices.eased == ()
    w.state.undo()
    assert w.state.outing.choices.eased == (line,)
