"""The Finish stage in the real window: steps, figures, masks and comparing, by keys and by mouse; what is shown is what is written."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtWidgets import QFileDialog, QLabel, QPushButton
from pytestqt.qtbot import QtBot
from tests.helpers.finishing import drag, field, pixels, slider, steps
from tests.helpers.sets import FrameFiles

from idle_lantern.app.stages import finish_model as model
from idle_lantern.app.window import Window
from idle_lantern.core.advice.advice import Lean
from idle_lantern.core.advice.looking_over import drift_advice, lean_advice
from idle_lantern.core.finish.evenness import Drift
from idle_lantern.core.finish.steps.curve import Curve
from idle_lantern.core.finish.steps.exposure import ExposureStep
from idle_lantern.core.finish.steps.heal import Heal
from idle_lantern.core.frames.reading import read
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.outing import edits
from idle_lantern.core.pictures.source import region


def test_from_joined_to_finished_and_written_by_keys_alone(
    finishing: Window, qtbot: QtBot, settled: Callable[[Window], None], tmp_path: Path
):
    w = finishing
    before = pixels(w)
    qtbot.keyClick(w, Qt.Key.Key_A)
    popup = w.finish_stage.panel.add.view()
    qtbot.waitUntil(popup.isVisible, timeout=5000)
    for _ in range(1 + [name for _t, name, _m in model.kinds()].index("exposure")):
        qtbot.keyClick(popup, Qt.Key.Key_Down)
    qtbot.keyClick(popup, Qt.Key.Key_Return)
    assert [type(s) for s in steps(w)] == [ExposureStep]
    assert slider(w, "ev").hasFocus()
    for _ in range(6):
        qtbot.keyClick(slider(w, "ev"), Qt.Key.Key_Right)
    assert steps(w)[0].ev == pytest.approx(0.3)
    field(w, "ev").setFocus()
    field(w, "ev").selectAll()
    qtbot.keyClicks(field(w, "ev"), "0,5")
    qtbot.keyClick(field(w, "ev"), Qt.Key.Key_Return)
    assert steps(w)[0].ev == 0.5
    assert field(w, "ev").text() == "+0.50 EV"
    settled(w)
    shown = pixels(w)
    assert shown.mean() > before.mean() + 15
    w.go("deliver")
    out = tmp_path / "finished.png"
    w.state.apply(edits.compose("Do not crop", crop=False))
    w.deliver_stage.write_to(out)
    settled(w)
    assert (read(out).pixels.astype(int) == shown).all()
    assert (pixels(w) == shown).all()
    w.go("finish")
    w.trigger("edit.undo")  # the crop, which is seen under Deliver
    assert w.stage == "join"
    w.trigger("edit.undo")
    w.go("finish")
    w.trigger("edit.undo")  # keys and typing at one figure are one step
    assert steps(w)[0].ev == 0
    # the joined picture itself is never touched
    assert w.state.picture is not None
    source = w.state.picture
    assert (region(source, Rectangle(0, 0, *source.sizes[0]))[..., :3].astype(int) == before).all()


def test_a_figure_that_cannot_be_is_told_and_stays_to_be_mended(finishing: Window, qtbot: QtBot):
    w = finishing
    w.finish_stage.panel.add_step("exposure")
    for text, word in (("99", "outside"), ("bright", "number")):
        field(w, "ev").setFocus()
        field(w, "ev").selectAll()
        qtbot.keyClicks(field(w, "ev"), text)
        qtbot.keyClick(field(w, "ev"), Qt.Key.Key_Return)
        assert word in w.message_text()
        assert steps(w)[0].ev == 0
        assert field(w, "ev").text() == text


def test_a_slider_is_followed_while_it_is_held_and_is_one_step_of_undo(finishing: Window, qtbot: QtBot):
    w, stage = finishing, finishing.finish_stage
    stage.panel.add_step("exposure")
    before = stage.view.source
    handle = slider(w, "ev")
    handle.setSliderDown(True)
    for at in (220, 240, 260):
        handle.setValue(at)
        qtbot.waitUntil(lambda: stage.view.source is not before and stage.view.ready, timeout=10_000)
    assert steps(w)[0].ev == 0  # nothing is taken yet
    assert pixels(w).mean() > 0
    tried = pixels(w)
    handle.setSliderDown(False)
    assert steps(w)[0].ev == pytest.approx(3.0)
    qtbot.waitUntil(lambda: stage.view.ready, timeout=10_000)
    assert (pixels(w) == tried).all()
    w.trigger("edit.undo")
    assert steps(w)[0].ev == 0


def test_steps_are_switched_moved_and_taken_away(finishing: Window, qtbot: QtBot):
    w, panel = finishing, finishing.finish_stage.panel
    for name in ("saturation", "exposure", "contrast"):
        panel.add_step(name)
    # each where it usually stands
    assert [s.title for s in steps(w)] == ["Exposure", "Contrast", "Saturation"]
    assert panel.step is not None
    assert panel.step.title == "Contrast"
    qtbot.keyClick(w, Qt.Key.Key_J)
    assert [s.title for s in steps(w)] == ["Exposure", "Saturation", "Contrast"]
    assert panel.step.title == "Contrast"
    qtbot.keyClick(w, Qt.Key.Key_U)
    qtbot.keyClick(w, Qt.Key.Key_X)
    assert not steps(w)[1].on
    assert panel.list.item(1).checkState() == Qt.CheckState.Unchecked
    panel.list.item(1).setCheckState(Qt.CheckState.Checked)
    assert steps(w)[1].on
    qtbot.keyClick(w, Qt.Key.Key_Delete)
    assert [s.title for s in steps(w)] == ["Exposure", "Saturation"]
    w.trigger("edit.undo")
    assert len(steps(w)) == 3


def test_a_curve_by_mouse_keys_and_typing(finishing: Window, qtbot: QtBot):
    w, panel = finishing, finishing.finish_stage.panel
    panel.add_step("curve")
    curve = panel.curve
    assert curve.isVisible()
    qtbot.mousePress(curve, Qt.MouseButton.LeftButton, pos=curve._on_widget(0.5, 0.7).toPoint())
    qtbot.mouseRelease(curve, Qt.MouseButton.LeftButton, pos=curve._on_widget(0.5, 0.7).toPoint())
    made = steps(w)[0]
    assert isinstance(made, Curve)
    assert len(made.points) == 3
    assert made.points[1] == pytest.approx((0.5, 0.7), abs=0.02)
    qtbot.keyClick(curve, Qt.Key.Key_Down, Qt.KeyboardModifier.ControlModifier)
    assert steps(w)[0].points[1][1] == pytest.approx(made.points[1][1] - 0.01, abs=1e-6)
    panel.points.setFocus()
    panel.points.selectAll()
    qtbot.keyClicks(panel.points, "0 5   50 40   100 100")
    qtbot.keyClick(panel.points, Qt.Key.Key_Return)
    assert steps(w)[0].points == ((0.0, 0.05), (0.5, 0.4), (1.0, 1.0))
    panel.points.selectAll()
    qtbot.keyClicks(panel.points, "0 5 70")
    qtbot.keyClick(panel.points, Qt.Key.Key_Return)
    assert "pairs" in w.message_text()
    assert len(steps(w)[0].points) == 3


def test_it_is_compared_across_a_line_side_by_side_and_blinked(finishing: Window, qtbot: QtBot):
    w, view = finishing, finishing.finish_stage.view
    w.finish_stage.panel.add_step("exposure")
    w.finish_stage.panel._take(w.finish_stage.panel._rows[0].row, 1.5)

    def light(left: float, right: float) -> float:
        qtbot.waitUntil(lambda: view.ready, timeout=10_000)
        image = view.grab().toImage()
        y = image.height() // 2
        row = [image.pixelColor(int(x * image.width()), y).lightness() for x in np.linspace(left, right, 40)]
        return float(np.mean(row))

    finished = light(0.05, 0.45)
    qtbot.keyClick(w, Qt.Key.Key_B)
    joined_ = light(0.05, 0.45)
    assert joined_ < finished - 10
    qtbot.keyClick(w, Qt.Key.Key_B)
    assert light(0.05, 0.45) == pytest.approx(finished, abs=1)
    qtbot.keyClick(w, Qt.Key.Key_S)
    assert light(0.05, 0.45) == pytest.approx(joined_, abs=2)
    drag(qtbot, w, (0.5, 0.5), (0.04, 0.5))
    assert light(0.05, 0.45) == pytest.approx(finished, abs=2)
    qtbot.keyClick(w, Qt.Key.Key_D)
    assert view.comparison.way == "beside"
    assert light(0.02, 0.48) < light(0.52, 0.98) - 10
    assert "finish.beside" in w.finish_stage.held_tools()


def test_a_grey_that_is_picked_becomes_grey(finishing: Window, qtbot: QtBot):
    w, view = finishing, finishing.finish_stage.view
    w.finish_stage.panel.add_step("white_balance")
    rows = w.finish_stage.panel.rows
    w.finish_stage.panel._take(rows["kelvin"].row, 4000.0)
    qtbot.keyClick(w, Qt.Key.Key_G)
    place = QPoint(view.width() // 2, round(view.height() * 0.62))
    qtbot.mouseClick(view, Qt.MouseButton.LeftButton, pos=place)
    at = view.to_picture(QPointF(place))
    u, v = int(at.x()), int(at.y())
    part = pixels(w)[v - 4 : v + 5, u - 4 : u + 5].reshape(-1, 3).mean(0)
    assert part.max() - part.min() < 4
    assert w.finish_stage.hands.held == ""
    assert len(steps(w)) == 1


def test_a_thing_is_healed_walked_to_and_left_as_joined_again(
    finishing: Window, qtbot: QtBot, settled: Callable[[Window], None]
):
    w, stage = finishing, finishing.finish_stage
    before = pixels(w)
    qtbot.keyClick(w, Qt.Key.Key_H)
    drag(qtbot, w, (0.5, 0.6), (0.502, 0.6))
    settled(w)
    (step,) = steps(w)
    assert isinstance(step, Heal)
    assert len(step.spots) == 1
    changed = np.abs(pixels(w) - before).max(-1) > 0
    assert 0 < changed.sum() < 0.02 * changed.size
    assert len(stage.view.over.places) == 1
    assert "1 place healed, 1 is chosen" in stage.panel.mask_told.text()
    drag(qtbot, w, (0.3, 0.7), (0.302, 0.7))
    settled(w)
    qtbot.keyClick(stage.view, Qt.Key.Key_Escape)
    assert len(steps(w)[0].spots) == 2
    assert stage.panel.place == 1
    qtbot.keyClick(w, Qt.Key.Key_N)
    assert stage.panel.place == 0
    assert stage.view.zoom == 1
    assert [p.present for p in stage.view.over.places] == [True, False]
    source = steps(w)[0].spots[0].source_deg
    qtbot.keyClick(w, Qt.Key.Key_W)
    qtbot.mouseClick(
        stage.view, Qt.MouseButton.LeftButton, pos=QPoint(stage.view.width() // 2 + 60, stage.view.height() // 2)
    )
    assert steps(w)[0].spots[0].source_deg != source
    qtbot.keyClick(w, Qt.Key.Key_Backspace)
    assert len(steps(w)[0].spots) == 1
    qtbot.keyClick(w, Qt.Key.Key_Backspace)
    assert (pixels(w) == before).all()
    assert "press H" in stage.panel.mask_told.text()


def test_what_is_cut_is_told_and_shown(finishing: Window, qtbot: QtBot, settled: Callable[[Window], None]):
    w = finishing
    w.finish_stage.panel.add_step("exposure")
    w.finish_stage.panel._take(w.finish_stage.panel._rows[0].row, 4.0)
    qtbot.waitUntil(lambda: "hold the highlights" in w.finish_stage.cut_told.text(), timeout=10_000)
    before = pixels(w)
    seen = before.max(-1) > 0
    share = ((before.max(-1) >= 255) & seen).sum() / seen.sum()
    told = float(w.finish_stage.cut_told.text().split(" %")[0])
    assert told == pytest.approx(100 * share, abs=2)
    qtbot.keyClick(w, Qt.Key.Key_O)
    assert ((pixels(w) != before).any(-1)).mean() == pytest.approx(share / 2, rel=0.2)


def test_what_is_objected_to_is_told_with_a_button_that_mends_it(
    finishing: Window, qtbot: QtBot, settled: Callable[[Window], None]
):
    w, stage = finishing, finishing.finish_stage

    def advised() -> set[str]:
        settled(w)
        return {a.what for a in stage.advice.shown}

    stage.panel.add_step("sharpen")
    stage.panel._take(next(r.row for r in stage.panel._rows if r.row.key == "amount"), 5.0)
    qtbot.waitUntil(lambda: "oversharp" in advised(), timeout=60_000)
    told = w.findChild(QLabel, "finish-advice-oversharp").text()
    assert "beyond their own step" in told
    assert "instead of 5." in told
    qtbot.mouseClick(w.findChild(QPushButton, "finish-take-oversharp"), Qt.MouseButton.LeftButton)
    assert [type(s).title for s in steps(w)] == ["Sharpening"]
    assert steps(w)[0].amount < 5
    qtbot.waitUntil(lambda: "oversharp" not in advised(), timeout=60_000)
    w.trigger("edit.undo")
    assert steps(w)[0].amount == 5.0


def test_a_drift_is_proposed_with_its_figure_and_never_twice(finishing: Window, qtbot: QtBot):
    w, stage = finishing, finishing.finish_stage
    drift = drift_advice(Drift(0.4, -0.15), w.state.outing.finish)
    assert "0.4 EV brighter and cooler by 0.15 EV" in drift[0].sentence
    stage.advice.show_advice(drift)
    qtbot.mouseClick(w.findChild(QPushButton, "finish-take-drift"), Qt.MouseButton.LeftButton)
    assert (steps(w)[0].ev, steps(w)[0].warmth) == (-0.4, 0.15)
    assert not drift_advice(Drift(0.4, -0.15), w.state.outing.finish)


def test_a_picture_that_leans_is_levelled_where_it_is_composed(
    finishing: Window, qtbot: QtBot, settled: Callable[[Window], None]
):
    w, stage = finishing, finishing.finish_stage
    assert lean_advice(Lean(0.2, 0.01)) is None
    qtbot.waitUntil(lambda: stage._facts is not None, timeout=30_000)
    settled(w)
    assert stage._facts is not None
    up = (0.0, -float(np.cos(np.radians(1.2))), float(np.sin(np.radians(1.2))))
    stage._facts = stage._facts[0], replace(stage._facts[1], lean=Lean(1.2, 0.1, up))
    stage.advice.show_advice([a for a in [lean_advice(stage._facts[1].lean)] if a])
    assert len(stage.advice.shown) == 1
    assert "leans by 1.2°" in stage.advice.shown[0].sentence
    qtbot.mouseClick(w.findChild(QPushButton, "finish-take-horizon"), Qt.MouseButton.LeftButton)
    assert w.join_stage.isVisible()
    assert w.join_stage.compose.active
    assert np.hypot(*w.state.outing.choices.turn_deg[1:]) == pytest.approx(1.2, abs=0.01)


def test_one_wide_frame_is_laid_beside_the_picture_and_measured(
    finishing: Window,
    qtbot: QtBot,
    row_set: FrameFiles,
    settled: Callable[[Window], None],
    monkeypatch: pytest.MonkeyPatch,
):
    w, stage = finishing, finishing.finish_stage
    asked: list[str] = []

    def choose(_parent: Any, _title: str, begin: str, _kinds: str) -> tuple[str, str]:
        asked.append(begin)
        return str(row_set.paths[1]), ""

    monkeypatch.setattr(QFileDialog, "getOpenFileName", choose)
    qtbot.keyClick(w, Qt.Key.Key_I)
    qtbot.waitUntil(lambda: stage.single.frame is not None, timeout=60_000)
    assert Path(asked[0]).is_dir()
    assert stage.single.isVisibleTo(w)
    assert stage.single.frame.matches > 50
    assert "times the field" in w.findChild(QLabel, "finish-single-told").text()
    assert stage.view.comparison.way == "split"
    # what lies beside the picture is the frame, where the picture shows the same
    laid = stage.single.source.tile(0, 0, 0)
    assert laid.shape[2] == 4
    assert "finish.single" in stage.held_tools()
    qtbot.keyClick(w, Qt.Key.Key_I)
    assert stage.single.frame is None
    assert not stage.single.isVisibleTo(w)
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_a: (str(row_set.paths[7]), ""))
    said: list[str] = []
    w.state.message.connect(lambda text, _problem: said.append(text))
    qtbot.keyClick(w, Qt.Key.Key_I)
    qtbot.waitUntil(lambda: any("shows nothing that the joined picture shows" in text for text in said), timeout=60_000)


def test_without_a_picture_it_says_what_to_do(window: Window, qtbot: QtBot):
    window.go("finish")
    assert "Join the frames first" in window.finish_stage.view.placeholder
    for action in ("finish.add", "finish.split", "finish.grey", "finish.paint", "finish.mask", "finish.save_recipe"):
        window.trigger(action)
        assert window.message_text()
    assert not window.finish_stage.panel.add.isEnabled()
