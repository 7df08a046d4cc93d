"""What Return, Escape and the first click do, and that nothing typed is lost: in real dialogs and fields."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtGui import QFontMetrics
from PyQt6.QtWidgets import QApplication, QLineEdit, QMessageBox, QPushButton
from pytestqt.qtbot import QtBot
from tests.helpers.fields import retype_field

from idle_lantern.app.planning.gear_dialog import GearDialog
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.app.window import Window
from idle_lantern.core.gear.entries import Entry
from idle_lantern.core.outing import edits

KEY, LEFT = Qt.Key, Qt.MouseButton.LeftButton


@pytest.fixture
def gear(qtbot: QtBot, window: Window) -> tuple[GearDialog, list[Entry]]:
    """The gear library on a zoom lens, and what was used of it."""
    used: list[Entry] = []
    dialog = GearDialog(window.context.gear, used.append, window)
    qtbot.addWidget(dialog, before_close_func=lambda d: setattr(d, "_as_shown", d._typed()))
    dialog.fill(("lens", "24-70 mm f/4"))
    dialog.show()
    return dialog, used


def _retype(qtbot: QtBot, field: QLineEdit, text: str) -> None:
    field.setFocus()
    field.selectAll()
    qtbot.keyClicks(field, text)


def _answer(words: str, asked: list[str]) -> None:
    """Press a button of the question that comes up."""

    def look() -> None:
        box = QApplication.activeModalWidget()
        if isinstance(box, QMessageBox):
            asked.append(box.text())
            next(b for b in box.buttons() if b.text() == words).click()

    QTimer.singleShot(60, look)


def test_return_in_a_gear_field_saves_and_uses_nothing(qtbot: QtBot, window: Window, gear):
    """It used a lens that nobody had saved."""
    dialog, used = gear
    _retype(qtbot, dialog._editors["widest_aperture"], "2.8")
    qtbot.keyClick(dialog._editors["widest_aperture"], KEY.Key_Return)
    assert used == []
    assert window.context.gear.get("lens", "24-70 mm f/4").facts.widest_aperture == 2.8
    assert dialog.message.text() == "Kept: 24-70 mm f/4."
    assert dialog.message.property("role") != "warn", "success is not told in the colour of errors"


def test_what_was_typed_is_saved_before_it_is_used(qtbot: QtBot, window: Window, gear):
    dialog, used = gear
    _retype(qtbot, dialog._editors["widest_aperture"], "3.5")
    assert dialog.use_button.text() == "Save and use in this plan"
    qtbot.mouseClick(dialog.use_button, LEFT)
    assert used[0].facts.widest_aperture == 3.5
    assert window.context.gear.get("lens", "24-70 mm f/4").facts.widest_aperture == 3.5
    _retype(qtbot, dialog._editors["widest_aperture"], "wide")
    qtbot.mouseClick(dialog.use_button, LEFT)
    assert len(used) == 1
    assert dialog.message.property("role") == "warn"


@pytest.mark.parametrize(
    ("answer", "kept", "open_"), [("Save", 2.0, False), ("Throw them away", None, False), ("Go on typing", None, True)]
)
def test_a_dialog_never_loses_typing(qtbot: QtBot, window: Window, gear, answer: str, kept: float | None, open_: bool):
    dialog, _used = gear
    before = window.context.gear.get("lens", "24-70 mm f/4").facts.widest_aperture
    field = dialog._editors["widest_aperture"]
    _retype(qtbot, field, "2")
    asked: list[str] = []
    _answer(answer, asked)
    qtbot.keyClick(dialog, KEY.Key_Escape)
    assert asked == ["Save the changes of '24-70 mm f/4'?"]
    assert dialog.isVisible() == open_
    assert window.context.gear.get("lens", "24-70 mm f/4").facts.widest_aperture == (kept or before)
    if open_:
        assert dialog._editors["widest_aperture"].text() == "2"


def test_rails_are_read_as_people_write_them(qtbot: QtBot, window: Window, gear):
    for typed, pairs in [
        ("24 = 81, 70 = 96", ((24, 81), (70, 96))),
        ("24=81,70=96", ((24, 81), (70, 96))),
        ("24 = 81,5; 70 = 96,25", ((24, 81.5), (70, 96.25))),
        ("24 = 81,5, 70 = 96", ((24, 81.5), (70, 96))),
        ("24 mm = 8.1 cm; 70 = 96", ((24, 81), (70, 96))),
    ]:
        dialog, _used = gear
        _retype(qtbot, dialog._editors["rail"], typed)
        qtbot.mouseClick(dialog.save_button, LEFT)
        assert dialog.message.text().startswith("Kept"), dialog.message.text()
        assert window.context.gear.get("lens", "24-70 mm f/4").facts.rail == pairs


def test_the_first_click_selects_all_and_typing_replaces(qtbot: QtBot, window: Window):
    field = window.plan_stage.fields["left_deg"]
    other = window.plan_stage.fields["right_deg"]
    other.setFocus()
    qtbot.mouseClick(field, LEFT)
    assert field.selectedText() == field.text()
    qtbot.keyClicks(field, "-33")
    qtbot.keyClick(field, KEY.Key_Return)
    assert window.state.outing.brief.target_field.left_deg == -33
    qtbot.mouseClick(field, LEFT)
    assert field.selectedText() == "", "another click sets the cursor"


def test_a_refused_value_stays_until_it_is_mended(qtbot: QtBot, window: Window):
    field = window.plan_stage.fields["left_deg"]
    retype_field(qtbot, window, "left_deg", "a lot")
    window.plan_stage.fields["right_deg"].setFocus()
    window.state.apply(edits.set_target_field("Other", right_deg=55.0))
    window.state.apply(edits.set_target_field("Left", left_deg=-44.0))
    assert field.text() == "a lot"
    assert field.property("wrong")
    window.outings.begin("Another")
    assert field.text() != "a lot", "it belonged to the outing before"
    assert not field.property("wrong")


def test_a_closed_list_shows_what_tells_its_entries_apart(qtbot: QtBot):
    box = Chooser()
    qtbot.addWidget(box)
    entries = ["Standard zoom lens 24-70 mm f/2.8", "Standard zoom lens 24-70 mm f/4.0"]
    box.addItems(entries)
    metrics = QFontMetrics(box.font())
    room = metrics.horizontalAdvance("Standard zoom lens")
    assert len({box._cut(text, metrics, room) for text in entries}) == 2


def test_remarks_of_another_plan_do_not_stand_as_if_they_held(qtbot: QtBot, window: Window, settled: Callable):
    settled(window)
    remarks = window.plan_stage.remarks
    assert remarks.isEnabled()
    window.state.apply(edits.set_target_field("Wide", left_deg=-120.0, right_deg=120.0))
    assert not remarks.isEnabled()
    settled(window)
    assert remarks.isEnabled()


def test_no_button_of_a_dialog_is_pressed_by_chance(window: Window):
    """Qt lets Return press any button of a dialog that was in focus; here only the one that is meant."""
    assert [b.text() for b in window.findChildren(QPushButton) if b.autoDefault() and b.window() is window] == []
