"""Outings in the real window: saving, the logbook, closing and starting again, what is told and remembered."""

from __future__ import annotations

import gc
import json
import threading
from collections.abc import Callable
from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QApplication,
    QLabel,
    QMessageBox,
    QWidget,
)
from pytestqt.qtbot import QtBot
from tests.helpers.fields import retype_field

from idle_lantern.app import settings as settings_module
from idle_lantern.app import theme
from idle_lantern.app.settings import Settings
from idle_lantern.app.tasks import Task
from idle_lantern.app.window import Window
from idle_lantern.core.outing import document, edits
from idle_lantern.core.outing.model import Outing

LEFT = Qt.MouseButton.LeftButton


def test_edits_save_themselves(qtbot: QtBot, window: Window):
    retype_field(qtbot, window, "left_deg", "-33")
    folder = window.state.folder
    assert folder is not None
    qtbot.waitUntil(
        lambda: json.loads((folder / document.DOCUMENT).read_text())["brief"]["target_field"]["left_deg"] == -33,
        timeout=3000,
    )


def test_a_damaged_outing_is_told_and_the_present_one_stays(window: Window, tmp_path: Path):
    for text, word in [
        ("{broken", "damaged"),
        ('{"schema": "idle-lantern/outing/99"}', "newer"),
        ("[]", "no outing document"),
    ]:
        (tmp_path / document.DOCUMENT).write_text(text)
        before = window.state.outing
        assert not window.open_outing(tmp_path)
        assert word in window.message_text()
        assert window.state.outing is before
        assert (tmp_path / document.DOCUMENT).read_text() == text


def test_logbook_lists_and_opens(qtbot: QtBot, window: Window, settled: Callable, outing_root: Path):
    first = window.state.folder
    window.outings.begin("Second evening")
    (outing_root / "bad").mkdir()
    (outing_root / "bad" / document.DOCUMENT).write_text("{")
    window.go("logbook")
    settled(window)
    table = window.logbook_stage.table
    names = [table.item(i, 0).text() for i in range(table.rowCount())]
    assert sorted(names) == ["Second evening (open)", "Test outing", "bad"]
    assert "damaged" in table.item(names.index("bad"), 5).text()
    table.selectRow(names.index("Test outing"))
    button = window.logbook_stage.findChild(QWidget, "open-outing")
    qtbot.mouseClick(button, LEFT)
    assert window.state.folder == first


def test_the_logbook_shows_the_open_outing_and_lets_tab_go_on(
    qtbot: QtBot, window: Window, settled: Callable, tmp_path: Path
):
    """The row that was lit was another outing's, and Tab walked through every cell, seen or not."""
    first = window.state.folder
    elsewhere = tmp_path / "stick" / "tour"
    document.save(Outing("On the stick", "2026-05-14T18:40"), elsewhere)
    window.open_outing(elsewhere)
    window.outings.begin("Third")
    window.go("logbook")
    settled(window)
    table = window.logbook_stage.table
    names = [table.item(i, 0).text() for i in range(table.rowCount())]
    assert sorted(names) == ["On the stick", "Test outing", "Third (open)"]
    assert names[table.currentRow()] == "Third (open)"
    table.setFocus()
    qtbot.keyClick(table, Qt.Key.Key_Tab)
    assert QApplication.focusWidget() is window.logbook_stage.findChild(QWidget, "open-outing")
    window.open_outing(first)


def test_an_outing_goes_to_the_trash_after_a_question_and_never_the_open_one(
    window: Window, settled: Callable, monkeypatch: pytest.MonkeyPatch, own_user_folders: Path
):
    first = window.state.folder
    assert first is not None
    window.outings.begin("Second")
    window.go("logbook")
    settled(window)
    asked: list[str] = []
    answers = iter([QMessageBox.StandardButton.No, QMessageBox.StandardButton.Yes])
    monkeypatch.setattr(QMessageBox, "question", lambda _p, _t, text, *_a: asked.append(text) or next(answers))
    table = window.logbook_stage.table
    names = [table.item(i, 0).text() for i in range(table.rowCount())]
    table.selectRow(names.index("Second (open)"))
    window.logbook_stage.discard_chosen()
    assert "is open" in window.message_text()
    assert not asked
    table.selectRow(names.index("Test outing"))
    window.logbook_stage.discard_chosen()
    assert first.exists(), "No was answered"
    window.logbook_stage.discard_chosen()
    settled(window)
    assert "Move 'Test outing' with its 0 frames to the trash?" in asked[1]
    assert not first.exists()
    trash = own_user_folders / "data" / "Trash" / "files"  # freedesktop.org trash specification 1.0
    assert (trash / first.name / document.DOCUMENT).is_file()
    assert [table.item(i, 0).text() for i in range(table.rowCount())] == ["Second (open)"]


def test_a_message_goes_when_the_value_is_mended_or_another_outing_opens(qtbot: QtBot, window: Window):
    edit = window.plan_stage.reveal("left_deg")
    for mend in ("value", "escape", "outing"):
        edit.setFocus()
        edit.selectAll()
        qtbot.keyClicks(edit, "Very much")
        qtbot.keyClick(edit, Qt.Key.Key_Return)
        assert "Left end" in window.message_text()
        if mend == "value":
            edit.selectAll()
            qtbot.keyClicks(edit, "-90")
            qtbot.keyClick(edit, Qt.Key.Key_Return)
        elif mend == "escape":
            qtbot.keyClick(edit, Qt.Key.Key_Escape)
        else:
            window.outings.begin("Another")
        assert "Left end" not in window.message_text(), mend


def test_what_a_hand_does_not_have_is_not_asked_for(window: Window):
    """Held by hand the page still asked for rail, stops and scale."""
    page = window.plan_stage.support
    window.plan_stage.show_page(window.plan_stage.support)

    def shown() -> set[str]:
        fields = {**page.bound.numbers, **page.bound.choices}
        names = {name.buddy() for name in page.findChildren(QLabel) if name.isVisible()}
        assert all((field in names) == field.isVisible() for field in fields.values())
        return {key for key, field in fields.items() if field.isVisible()}

    on_head = shown()
    assert {"rail_mm", "step_deg", "scale_start_deg", "legs_kg"} <= on_head
    window.state.apply(edits.set_part("support", "hand", kind="hand"))
    assert shown() == on_head - {
        "rail_mm", "rail_doubt_mm", "step_deg", "tilt_step_deg", "scale_start_deg", "scale_clockwise", "legs_kg", "leg_circle_mm",
        "first_leg_deg", "base_tilt_deg",
    }  # fmt: skip
    window.state.apply(edits.set_part("support", "tripod", kind="tripod"))
    assert shown() == on_head - {"rail_mm", "rail_doubt_mm"}


def test_a_planned_bracket_is_shot_in_field(qtbot: QtBot, window: Window, settled: Callable):
    window.state.apply(edits.set_part("exposure", "bracket", bracket_count=3))
    window.go("field")
    assert "2.4 instead of" not in window.field_stage.stand_in.text(), (
        "the small camera's frames have their planned size"
    )
    qtbot.keyClick(window.field_stage, Qt.Key.Key_Space)
    settled(window)
    assert len(window.state.outing.frames) == 3
    assert len(window.state.outing.frames_to_join()) == 1
    assert window.field_stage.progress.text().startswith("1 of ")
    window.go("frames")
    window.state.select(None, window.state.outing.frames[-1].id)
    assert window.frames_stage.facts["state"].text() == "yes, merged with f001.jpg"
    window.state.undo()
    assert window.state.outing.frames == window.state.outing.groups == ()


def test_an_outing_of_the_same_name_gets_its_own_folder(window: Window):
    first = window.state.folder
    window.outings.begin("Test outing")
    assert window.state.folder != first


def test_closing_saves_and_settings_come_back(qtbot: QtBot, window: Window):
    window.state.apply(edits.rename("Renamed"))
    window.set_look("light")
    folder = window.state.folder
    window.close()
    assert folder is not None
    assert document.load(folder).name == "Renamed"
    kept = settings_module.load()
    assert (kept.look, kept.last_outing) == ("light", str(folder))
    assert (kept.window_width, kept.window_height) == (window.width(), window.height())
    window.set_look("dark")


def test_a_window_that_nobody_closed_is_collected_without_waiting_for_its_work(qtbot: QtBot):
    """The collector deleted the pool of its threads, which waited for the interpreter that the collector held."""
    begun = threading.Event()

    def work(_task: Task) -> int:
        begun.set()
        return sum(range(30_000_000))

    window = Window(Settings())
    window.tasks.start("Long work", work, lambda _r: None, lambda _e: None)
    assert begun.wait(10)
    window.deleteLater()
    del window
    gc.collect()
    qtbot.wait(50)
    gc.collect()


def test_the_next_window_has_the_size_of_the_last_but_never_more_than_the_screen(qtbot: QtBot):
    """At 1280 x 800 the last 20 pixels fell below the screen, under the title bar's height."""
    again = Window(Settings(window_width=1111, window_height=700))
    qtbot.addWidget(again)
    assert (again.width(), again.height()) == (1111, 700)
    room = again.screen().availableGeometry()
    huge = Window(Settings(window_width=9000, window_height=9000))
    qtbot.addWidget(huge)
    assert huge.width() <= room.width()
    assert huge.height() <= room.height() - 40


def test_paths_are_told_from_home():
    assert settings_module.shown(Path.home() / "a" / "b") == "~/a/b"
    assert settings_module.shown(Path("/elsewhere/c")) == "/elsewhere/c"


def test_the_chosen_frame_and_the_next_one_look_different(window: Window):
    """Where both are outlined alike nobody knows which is shot next."""
    window.state.select(4)
    t, accent = window.map.to_screen(), theme.colour("accent").getRgb()[:3]

    def tones(number: int) -> set[tuple[int, ...]]:
        image = window.map.grab().toImage()
        box = t.map(window.map.shapes[number - 1]).boundingRect()
        # inside the frame that shows the keyboard focus, which has the accent too
        inner = range(4, image.height() - 4)
        column = [image.pixelColor(int(box.center().x()) + 12, y) for y in inner]
        return {c.getRgb()[:3] for c in column}

    assert accent in tones(1)
    assert accent not in tones(4)
    assert theme.colour("text").getRgb()[:3] in tones(4)


def test_one_bad_setting_is_reset_alone():
    path = settings_module.config_file()
    path.parent.mkdir(parents=True)
    path.write_text('{"look": "light", "imperial": "perhaps", "unknown": 3}')
    assert settings_module.load() == Settings(look="light")
