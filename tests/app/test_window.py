"""The window's parts: fields, map, actions, undo, looks, bad input, brought-in pictures."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from PyQt6.QtCore import QPoint, QPointF, Qt, QTimer
from PyQt6.QtGui import QImage
from PyQt6.QtWidgets import (
    QAbstractButton,
    QApplication,
    QComboBox,
    QDialog,
    QInputDialog,
    QLabel,
    QLineEdit,
    QScrollArea,
    QWidget,
)
from pytestqt.qtbot import QtBot
from tests.helpers.fields import retype_field

from idle_lantern.app import theme
from idle_lantern.app.actions import ACTIONS, STAGES, shown_keys
from idle_lantern.app.history import History
from idle_lantern.app.widgets.action_finder import ActionFinder
from idle_lantern.app.widgets.map_paint import edges
from idle_lantern.app.widgets.picture_view import PictureView
from idle_lantern.app.widgets.tile_loader import GAP_GREY, shown_tile
from idle_lantern.app.window import Window
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.outing import edits
from idle_lantern.core.outing.model import FrameRef, Outing
from idle_lantern.core.pictures.source import HeldPicture
from idle_lantern.core.plan.kinds import kind_of

LEFT = Qt.MouseButton.LeftButton


# --- plan ------------------------------------------------------------------------------------


def test_absurd_input_is_refused_and_kept_for_mending(qtbot: QtBot, window: Window):
    for field in ["left_deg", "overlap", "focal_mm", "width_px"]:
        before = window.state.outing
        for text in ("", "abc", "1e9", "-400000", "99%%", "12;5", "nan", "½"):
            edit = retype_field(qtbot, window, field, text)
            assert window.state.outing == before, text
            assert edit.text() == text
            assert edit.property("wrong"), text
            assert len(window.message_text()) > 15, text
            qtbot.keyClick(edit, Qt.Key.Key_Escape)
            assert not edit.property("wrong"), text
            assert edit.text() != text or text == ""


def test_fields_take_what_people_write(qtbot: QtBot, window: Window):
    for field, text, value in [
        ("focal_mm", "1.6 cm", 16),
        ("overlap", "1:4", 0.25),
        ("left_deg", "-90,5", -90.5),
        ("sensor_width_mm", "1 in", 25.4),
    ]:
        retype_field(qtbot, window, field, text)
        outing = window.state.outing
        source = outing.target_field if hasattr(outing.target_field, field) else outing.rig
        assert getattr(source, field) == pytest.approx(value)


def test_plan_edits_are_undone_and_done_again_by_keys(qtbot: QtBot, window: Window):
    first = window.state.outing
    retype_field(qtbot, window, "left_deg", "-50")
    retype_field(qtbot, window, "focal_mm", "35")
    second = window.state.outing
    window.map.setFocus()
    qtbot.keyClick(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    qtbot.keyClick(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert window.state.outing == first
    assert window.plan_stage.reveal("left_deg").text() == "−100.0°"
    modifiers = Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier
    for _ in range(2):
        qtbot.keyClick(window, Qt.Key.Key_Z, modifiers)
    assert window.state.outing == second


def test_dragging_an_end_on_the_map_moves_the_number_in_one_step(qtbot: QtBot, window: Window):
    (edge,) = edges(window.map.state.plan.target_field, window.map.form)["right"]
    start = ((edge[0] + edge[1]) / 2).toPoint()
    qtbot.mousePress(window.map, LEFT, pos=start)
    for k in range(1, 9):
        qtbot.mouseMove(window.map, start - QPoint(10 * k, 0))
    qtbot.mouseRelease(window.map, LEFT, pos=start - QPoint(80, 0))
    assert window.state.outing.target_field.right_deg < 95
    assert window.plan_stage.fields["right_deg"].value == window.state.outing.target_field.right_deg
    assert len(window.state.plan.frames) <= 7
    window.state.undo()
    assert window.state.outing.target_field.right_deg == 100
    assert window.state.history.undo_title == ""


def test_selecting_a_frame_anywhere_selects_it_everywhere(qtbot: QtBot, window: Window):
    window.plan_stage.show_page(window.plan_stage.listing)
    frame = window.state.plan.frames[4]
    at = window.map.to_screen().map(QPointF(frame.yaw_deg, frame.pitch_deg)).toPoint()
    qtbot.mouseClick(window.map, LEFT, pos=at)
    assert window.state.selected == 5
    assert window.plan_stage.listing.table.selectionModel().selectedRows()[0].row() == 4
    qtbot.keyClick(window.map, Qt.Key.Key_Left)
    assert window.state.selected == 4
    window.plan_stage.listing.table.selectRow(0)
    assert window.state.selected == 1


def test_nothing_but_the_window_comes_up(window: Window, qtbot: QtBot):
    """A widget without a parent would show as a stray window and take the keys away."""
    retype_field(qtbot, window, "overlap", "8 %")
    retype_field(qtbot, window, "overlap", "40 %")
    for stage in STAGES:
        window.go(stage)
        qtbot.wait(10)
        assert [w for w in QApplication.topLevelWidgets() if w.isVisible()] == [window]


def test_remarks_act_and_can_be_put_aside(qtbot: QtBot, window: Window, settled: Callable):
    retype_field(qtbot, window, "overlap", "8 %")
    settled(window)
    remarks = window.plan_stage.remarks
    assert any("share only" in s for s in remarks.sentences)

    def press(text: str) -> None:
        settled(window)
        qtbot.mouseClick(
            next(b for b in remarks.findChildren(QAbstractButton) if b.text() == text and b.isVisible()), LEFT
        )

    press("Put aside")
    assert not any("share only" in s for s in remarks.sentences)
    press("Show 1 put aside")
    assert any("share only" in s for s in remarks.sentences)
    press("Overlap a third")
    assert window.state.outing.target_field.overlap == pytest.approx(1 / 3)
    settled(window)
    assert not any("share only" in s for s in remarks.sentences)


def test_sphere_circle_and_upright_by_single_keys(qtbot: QtBot, window: Window):
    window.map.setFocus()
    qtbot.keyClick(window, Qt.Key.Key_B)
    assert window.state.outing.target_field.high_deg == 90
    qtbot.keyClick(window, Qt.Key.Key_U)
    assert not window.state.outing.rig.upright
    window.plan_stage.show_page(window.plan_stage.camera)
    assert window.plan_stage.camera.bound.choices["upright"].currentText() == "sideways"
    window.state.undo()
    window.state.undo()
    qtbot.keyClick(window, Qt.Key.Key_C)
    assert window.state.outing.target_field.full_circle
    assert window.state.outing.target_field.high_deg == 24


def test_letters_typed_into_a_field_are_no_shortcuts(qtbot: QtBot, window: Window):
    edit = window.plan_stage.reveal("focal_mm")
    edit.setFocus()
    edit.selectAll()
    qtbot.keyClicks(edit, "bu1")
    assert edit.text() == "bu1"
    assert window.state.outing.target_field.high_deg == 24


# --- field -----------------------------------------------------------------------------------


def test_skip_back_on_and_again(qtbot: QtBot, window: Window, settled: Callable):
    window.go("field")
    settled(window)
    qtbot.keyClick(window, Qt.Key.Key_S)
    assert window.state.outing.skipped == (1,)
    assert window.state.guide.next_number == 2
    qtbot.keyClick(window, Qt.Key.Key_F)
    assert window.state.guide.next_number == 3
    qtbot.keyClick(window, Qt.Key.Key_D)
    assert window.state.guide.next_number == 2
    qtbot.keyClick(window, Qt.Key.Key_Space)
    settled(window)
    qtbot.keyClick(window, Qt.Key.Key_A)
    settled(window)
    files = [r.file for r in window.state.outing.frames]
    assert files == ["frames/f002.jpg", "frames/f002-2.jpg"]
    assert [r.file for r in window.state.outing.frames_to_join()] == ["frames/f002-2.jpg"]
    assert window.field_stage.turn.text().startswith("Turn right")


def test_the_finder_shows_a_look_and_the_level(qtbot: QtBot, window: Window, settled: Callable):
    window.go("field")
    settled(window)
    image = window.field_stage.finder.grab().toImage()
    assert len({image.pixel(x, image.height() // 2) for x in range(60, image.width() - 60, 5)}) > 10


def test_notes_are_kept(window: Window, monkeypatch: pytest.MonkeyPatch):
    monkeypatch.setattr(QInputDialog, "getMultiLineText", lambda *_a, **_k: ("Wind from the west", True))
    window.go("field")
    window.trigger("field.note")
    assert window.state.outing.note == "Wind from the west"
    assert "Wind" in window.field_stage.note.text()


# --- frames ----------------------------------------------------------------------------------


def _pictures(folder: Path, count: int = 3) -> list[Path]:
    folder.mkdir(exist_ok=True)
    rng = np.random.default_rng(0)
    paths = []
    for i in range(count):
        path = folder / f"p{i + 8}.jpg"
        Image.fromarray(rng.integers(0, 255, (90, 120, 3), dtype=np.uint8)).save(path)
        paths.append(path)
    return paths


def test_a_folder_is_brought_in_and_bad_files_are_named(window: Window, settled: Callable, tmp_path: Path):
    folder = tmp_path / "mine"
    _pictures(folder)
    (folder / "broken.jpg").write_bytes(b"no picture")
    (folder / "empty.png").write_bytes(b"")
    window.frames_stage.bringing.bring([folder])
    settled(window)
    assert [Path(r.file).name for r in window.state.outing.frames] == ["p8.jpg", "p9.jpg", "p10.jpg"]
    assert "broken.jpg" in window.message_text()
    assert "1 more could not be read" in window.message_text()


def test_leaving_out_removing_and_taking_back(qtbot: QtBot, window: Window, settled: Callable, tmp_path: Path):
    mine = _pictures(tmp_path / "mine")
    window.frames_stage.bringing.bring(mine)
    settled(window)
    window.frames_stage.list.setCurrentRow(1)
    settled(window)
    window.frames_stage.list.setFocus()
    qtbot.keyClick(window, Qt.Key.Key_X)
    assert len(window.state.outing.frames_to_join()) == 2
    assert window.frames_stage.facts["state"].text() == "left out by you"
    qtbot.keyClick(window, Qt.Key.Key_Delete)
    assert len(window.state.outing.frames) == 2
    assert all(path.is_file() for path in mine)
    window.state.undo()
    window.state.undo()
    assert len(window.state.outing.frames_to_join()) == 3


def test_a_frame_whose_file_went_is_shown_as_such(window: Window, settled: Callable, tmp_path: Path):
    paths = _pictures(tmp_path / "mine")
    window.frames_stage.bringing.bring(paths)
    settled(window)
    first = window.state.folder
    window.outings.begin("Another")
    paths[0].unlink()
    window.open_outing(first)
    window.go("frames")
    settled(window)
    window.frames_stage.list.setCurrentRow(0)
    settled(window)
    assert "missing" in window.frames_stage.facts["size"].text()


# --- actions ---------------------------------------------------------------------------------


def test_actions_have_unique_ids_and_no_key_twice_in_a_stage():
    ids = [a.id for a in ACTIONS]
    assert len(ids) == len(set(ids))
    for stage in STAGES:
        keys = [a.keys for a in ACTIONS if a.keys and a.stage in ("", stage)]
        assert len(keys) == len(set(keys)), stage
    assert all(a.title and (not a.stage or a.stage in STAGES) for a in ACTIONS)


def _finder(window: Window) -> ActionFinder:
    return ActionFinder(
        lambda action: bool(action.ready(window)), lambda action: action.why_not(window), window.trigger, window
    )


def test_every_action_is_in_a_menu_and_can_be_found(window: Window, qtbot: QtBot):
    in_menus = {a.text() for m in window.menuBar().actions() for a in m.menu().actions()}
    finder = _finder(window)
    qtbot.addWidget(finder)
    listed = [finder.list.item(i).text() for i in range(finder.list.count())]
    assert len(listed) == len(ACTIONS)
    for action, text in zip(ACTIONS, listed):
        assert action.title in in_menus
        assert text.startswith(action.title)
        assert shown_keys(action) in text


def test_finding_an_action_runs_it(window: Window, qtbot: QtBot):
    finder = _finder(window)
    qtbot.addWidget(finder)
    finder.show()
    qtbot.keyClicks(finder.search, "go join")
    # others hold the letters ("Call this place good", in Join); what was written comes first
    assert finder.list.item(0).text().startswith("Go to Join")
    qtbot.keyClick(finder.search, Qt.Key.Key_Return)
    assert window.stage == "join"


def test_dialogs_are_let_go_when_they_are_closed(qtbot: QtBot, window: Window):
    window.state.apply(edits.set_brief("shallow", kind_of("shallow").start(window.state.outing.brief)))
    for action in ("app.find", "outing.gear", "app.about"):
        QTimer.singleShot(100, lambda: QApplication.activeModalWidget().close())
        window.trigger(action)
    window.plan_stage.commands.preview_blur()
    window.findChild(QDialog).accept()
    qtbot.waitUntil(lambda: not window.findChildren(QDialog))


def test_a_look_reaches_windows_and_their_dialogs(window: Window, qtbot: QtBot):
    finder = _finder(window)
    qtbot.addWidget(finder)
    finder.show()
    for look in ("light", "dark"):
        window.set_look(look)
        for shown in (window, finder):
            assert shown.grab().toImage().pixelColor(3, 3) == theme.colour("ground"), look


def test_shot_frames_gather_on_one_sheet_while_the_window_is_busy(
    window: Window, settled: Callable, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
):
    """A sheet of the whole map for each of thousands of frames, taken back and drawn anew, took gigabytes."""
    refs = []
    for i in range(8):
        path = window.state.folder / "frames" / f"g{i}.jpg"
        path.parent.mkdir(exist_ok=True)
        Image.fromarray(np.full((40, 60, 3), 20 * i + 40, np.uint8)).save(path)
        refs.append(FrameRef(f"frames/g{i}.jpg", yaw_deg=25.0 * i - 90, pitch_deg=0.0))
    (window.state.folder / "frames" / "g3.jpg").write_bytes(b"no picture")
    started = []
    monkeypatch.setattr(window.map_pictures._tasks, "start", lambda *a, **more: started.append((a, more)))
    window.state.apply(edits.Edit("Many", lambda o: replace(o, frames=tuple(refs))))
    ((_title, work, *_), more) = next(s for s in started if s[0][0] == "Drawing frames on the map")
    sheets: list[np.ndarray] = []

    class Busy:
        def show(self, sheet: np.ndarray) -> None:
            """Nobody takes it yet."""
            sheets.append(sheet)

    work(Busy())
    assert len(sheets) == 2
    for sheet in sheets:
        more["on_partial"](sheet)
    row = window.map_pictures._image[360, :, 3]
    across = [int((yaw + 180) * 4) for yaw in (-90, -65, -40, 10, 35, 60, 85)]
    assert all(row[x] > 0 for x in across), "all but the damaged one"
    monkeypatch.undo()


def test_stages_are_reached_by_keys_and_tell_what_they_lack(window: Window, qtbot: QtBot):
    for i, stage in enumerate(STAGES, 1):
        qtbot.keyClick(window, getattr(Qt.Key, f"Key_{i}"), Qt.KeyboardModifier.AltModifier)
        assert window.stage == stage
        assert window.pages[stage].isVisible()
    lacks = {s: t.accessibleDescription() for s, t in window.tabs.items()}
    assert lacks["plan"] == "7 frames"
    assert lacks["field"] == "0 of 7 shot"
    assert lacks["frames"] == "none yet"
    assert lacks["join"] == "not joined yet"


def test_every_control_has_an_accessible_name(window: Window):
    for stage in STAGES:
        window.go(stage)
        for kind in (QAbstractButton, QLineEdit, QComboBox):
            for control in window.pages[stage].findChildren(kind):
                if control.objectName().startswith("qt_") or isinstance(control.parent(), QComboBox):
                    continue
                name = control.accessibleName() or (control.text() if isinstance(control, QAbstractButton) else "")
                assert name or not control.isVisible(), f"{stage}: {control}"


def _ancestors(widget: QWidget) -> Iterator[QWidget]:
    while (widget := widget.parentWidget()) is not None:
        yield widget


def test_stages_fit_a_large_window(window: Window, qtbot: QtBot):
    """Smaller ones, texts and looks are looked at view by view in ``test_every_view``."""
    size = (2560, 1440)
    window.resize(*size)
    for stage in STAGES:
        window.go(stage)
        qtbot.wait(5)
        assert window.width() <= size[0] + 60, f"{stage} forces the window to {window.width()}"
        shown = window.grab().toImage()
        assert len({shown.pixel(x, y) for x in range(0, shown.width(), 9) for y in range(0, shown.height(), 9)}) > 6
        outside = [
            w
            for w in window.pages[stage].findChildren((QAbstractButton, QLabel, QLineEdit))
            if w.isVisible()
            and not isinstance(w.parent(), QComboBox)
            and not any(isinstance(a, QScrollArea) for a in _ancestors(w))
            and not window.rect().contains(w.rect().translated(w.mapTo(window, QPoint(0, 0))))
        ]
        assert not outside, f"{stage}: {[(w.objectName(), w.geometry()) for w in outside]}"


# --- small parts -----------------------------------------------------------------------------


def test_history_merges_a_drag_and_names_its_steps():
    history, outings = History(), [Outing(str(i), "") for i in range(5)]
    history.push("Drag", outings[0], "drag")
    history.push("Drag", outings[1], "drag")
    history.seal()
    history.push("Drag", outings[2], "drag")
    assert history.undo_title == "Drag"
    assert history.undo(outings[3]).outing == outings[2]
    assert history.undo(outings[2]).outing == outings[0]
    assert history.undo(outings[0]) is None
    assert history.redo(outings[0]).outing == outings[2]


def test_picture_view_zooms_at_the_pointer_and_pans(qtbot: QtBot):
    view = PictureView()
    qtbot.addWidget(view)
    view.resize(400, 300)
    view.show()
    rng = np.random.default_rng(0)
    view.set_source(HeldPicture(Picture(rng.integers(0, 255, (1500, 4000, 3), dtype=np.uint8))))
    assert view.zoom == pytest.approx(0.1)
    pointer = QPointF(120, 150)
    view.zoom_by(4, pointer)
    under = view.to_picture(pointer)
    view.zoom_by(1.7, pointer)
    after = view.to_picture(pointer)
    assert (after.x(), after.y()) == pytest.approx((under.x(), under.y()), abs=1e-6)
    view.show_full()
    assert view.zoom == 1
    left = view.to_picture(QPointF(0, 0)).x()
    qtbot.mousePress(view, LEFT, pos=QPoint(200, 150))
    qtbot.mouseMove(view, QPoint(150, 150))
    qtbot.mouseRelease(view, LEFT, pos=QPoint(150, 150))
    assert view.to_picture(QPointF(0, 0)).x() == pytest.approx(left + 50)
    view.fit()
    assert view.zoom == pytest.approx(0.1)


def test_picture_view_shows_the_pixels_at_100_percent(qtbot: QtBot):
    view = PictureView()
    qtbot.addWidget(view)
    view.resize(400, 300)
    view.show()
    pixels = np.zeros((1500, 4000, 3), np.uint8)
    pixels[700:800, 1900:2100] = (200, 40, 10)
    view.set_source(HeldPicture(Picture(pixels)))
    view.show_full()
    view.grab()
    qtbot.waitUntil(lambda: view.ready, timeout=5000)
    image = view.grab().toImage().convertToFormat(QImage.Format.Format_RGB32)
    assert image.pixelColor(200, 150).getRgb()[:3] == (200, 40, 10)
    assert image.pixelColor(90, 150).getRgb()[:3] == (0, 0, 0)


def test_gaps_are_shown_neutral_grey():
    tile = np.full((60, 80, 4), 255, np.uint8)
    tile[:10, :, 3] = 0
    image = shown_tile(tile).image
    assert image.pixelColor(5, 5).getRgb()[:3] == (GAP_GREY,) * 3
    assert image.pixelColor(5, 50).getRgb()[:3] == (255, 255, 255)


def test_tasks_report_failures_in_a_sentence(window: Window, settled: Callable):
    told: list[LanternError] = []

    def fail(_task):
        raise ZeroDivisionError("a mistake of ours")

    window.tasks.start("Testing", fail, lambda _r: None, told.append)
    settled(window)
    assert "Testing met an unexpected fault" in told[0].sentence


def test_keys_open_menus_and_what_cannot_run_says_why(qtbot: QtBot, window: Window):
    qtbot.keyClick(window, Qt.Key.Key_F10)
    assert window.menuBar().activeAction() is window.menuBar().actions()[0]
    window.menuBar().setActiveAction(None)
    letters = [a.text() for a in window.menuBar().actions()]
    assert all(text.startswith("&") for text in letters)
    assert len({text[1] for text in letters}) == len(letters), "each letter opens one menu"
    # keys of other stages are told in the menus though they work in their own stage only
    window.go("plan")
    shoot = window.menus.items["field.shoot"]
    window.menus._enable()
    assert shoot.text().endswith("\tSpace")
    window.menus.rearm()
    assert shoot.text().startswith("Shoot this frame")
    window.go("frames")
    qtbot.keyClick(window, Qt.Key.Key_J, Qt.KeyboardModifier.ControlModifier)
    assert "A join needs at least two frames" in window.message_text()
    qtbot.keyClick(window, Qt.Key.Key_E, Qt.KeyboardModifier.ControlModifier)
    assert "Nothing is joined yet" in window.message_text()


def test_the_finder_says_why_an_action_cannot_run(qtbot: QtBot, window: Window):
    finder = ActionFinder(lambda a: bool(a.ready(window)), lambda a: a.why_not(window), window.trigger, window)
    qtbot.addWidget(finder)
    finder.show()
    qtbot.keyClicks(finder.search, "write the picture")
    qtbot.keyClick(finder.search, Qt.Key.Key_Return)
    assert finder.isVisible()
    assert "Nothing is joined yet" in finder.why.text()


def test_the_field_look_is_left_as_it_was_entered(qtbot: QtBot, window: Window):
    window.set_look("light")
    qtbot.keyClick(window, Qt.Key.Key_F9)
    assert window.context.settings.look == "field"
    qtbot.keyClick(window, Qt.Key.Key_F9)
    assert window.context.settings.look == "light"
    window.set_look("dark")
