"""Practice in the real window: three exercises and a fault, by hand and keys, graded and kept."""

from __future__ import annotations

import re
from collections.abc import Callable

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QLabel, QPushButton
from pytestqt.qtbot import QtBot

from idle_lantern.app.practice.dialog import PracticeDialog
from idle_lantern.app.widgets.quantity_edit import QuantityEdit
from idle_lantern.app.window import Window
from idle_lantern.course import places
from idle_lantern.course.course import Attempt
from idle_lantern.course.record import practice_file, read_rows

LEFT = Qt.MouseButton.LeftButton


@pytest.fixture
def practice(qtbot: QtBot, window: Window, monkeypatch: pytest.MonkeyPatch) -> PracticeDialog:
    """Open, with a quarter of the pixels: an attempt takes a quarter of its time."""
    monkeypatch.setattr(places, "LENS", places.LENS.scaled(0.5))
    made = PracticeDialog(window.context, window, seed=3)
    qtbot.addWidget(made)
    made.show()
    qtbot.waitExposed(made)
    return made


def _press(qtbot: QtBot, practice: PracticeDialog, name: str) -> None:
    made = practice.findChild(QPushButton, name)
    assert made is not None
    assert made.isEnabled()
    qtbot.mouseClick(made, LEFT)


def _shoot(qtbot: QtBot, practice: PracticeDialog) -> Attempt:
    """Press the button and wait for the grade."""
    _press(qtbot, practice, "practice-shoot")
    assert not practice.shoot_button.isEnabled(), "one at a time"
    qtbot.waitUntil(lambda: practice.last is not None and practice.shoot_button.isEnabled(), timeout=120_000)
    assert practice.last is not None
    return practice.last


def _type(qtbot: QtBot, practice: PracticeDialog, key: str, text: str) -> None:
    field = practice.knobs[key]
    assert isinstance(field, QuantityEdit)
    field.setFocus()
    field.selectAll()
    qtbot.keyClicks(field, text)
    qtbot.keyClick(field, Qt.Key.Key_Return)


def _pick(practice: PracticeDialog, key: str, value: str) -> None:
    field = practice.knobs[key]
    assert isinstance(field, QComboBox)
    field.setCurrentIndex(field.findData(value))
    field.activated.emit(field.currentIndex())


def test_an_exercise_is_failed_first_and_passed_after_the_lesson(
    qtbot: QtBot, window: Window, practice: PracticeDialog
):
    """Overlap by hand: too little leaves a gap, two fifths do not; both pictures stand side by side."""
    practice.choose("hand")
    first = _shoot(qtbot, practice)
    assert not first.grade.passed
    assert practice.mine.image is None or practice.mine.image.width() > 300
    assert practice.good.image is not None
    assert practice.lesson.text()
    assert "Done right" in practice.told.text() or "cannot be joined" in practice.told.text()
    practice.last = None
    _type(qtbot, practice, "overlap", "40")
    assert practice.values["overlap"] == 40
    second = _shoot(qtbot, practice)
    assert second.grade.passed
    assert "passed" in practice.grade.text()
    assert second.right is first.right, "what is right there was shot once"
    assert "1 of 13" in practice.list.item(0).text()
    assert "●" in practice.list.currentItem().text()
    qtbot.mousePress(practice.mine, LEFT)
    assert practice.mine.seen is practice.good.image
    qtbot.mouseRelease(practice.mine, LEFT)
    assert practice.mine.seen is not practice.good.image
    rows = read_rows(practice_file())
    assert [r.points for r in rows] == [first.grade.points, second.grade.points]
    window.go("logbook")
    assert "2 attempts at 1 exercise, 1 passed" in window.logbook_stage.practised.text()


def test_locked_on_the_bright_side_by_the_meter_of_the_place_it_is_passed(qtbot: QtBot, practice: PracticeDialog):
    """The readings beside the choices are those of the place: one side is brighter by more than half a stop."""
    practice.choose("lock")
    shown = " ".join(w.text() for w in practice.findChildren(QLabel))
    readings = [float(ev) for ev in re.findall(r"(\d+\.\d) EV", shown)]
    assert len(readings) == 5
    assert max(readings) in (readings[0], readings[-1])
    assert max(readings) - min(readings) > 0.5
    for key, value in (("exposure", "bright"), ("focus", "locked"), ("balance", "locked")):
        _pick(practice, key, value)
    assert _shoot(qtbot, practice).grade.passed


def test_a_fault_is_shown_and_not_graded(qtbot: QtBot, practice: PracticeDialog):
    practice.choose("polariser", fault=True)
    assert not practice.knobs["filter"].isEnabled(), "only this one thing is wrong"
    found = _shoot(qtbot, practice)
    assert found.done.figures.uneven_ev > 3 * found.right.figures.uneven_ev
    assert practice.grade.text() == "What it does"
    assert read_rows(practice_file()) == ()


def test_what_is_typed_follows_at_once_and_stopping_keeps_nothing(
    qtbot: QtBot, practice: PracticeDialog, settled: Callable, window: Window
):
    practice.choose("pupil")

    def reading() -> str:
        return " ".join(w.text() for w in practice.findChildren(QLabel) if "turn" in w.text())

    before = reading()
    _type(qtbot, practice, "rail", "150")
    qtbot.waitUntil(lambda: reading() != before, timeout=2000)
    assert "against the turn" in reading(), "far beyond the pupil"
    _type(qtbot, practice, "rail", "9000")
    assert "0 to 160" in practice.told.text()
    assert practice.values["rail"] == 150
    seed = practice.seed
    _press(qtbot, practice, "practice-another")
    assert practice.seed == seed + 1
    assert practice.values["rail"] == practice.exercise.start()["rail"]
    _press(qtbot, practice, "practice-shoot")
    qtbot.waitUntil(lambda: practice.bar.isVisible(), timeout=2000)
    _press(qtbot, practice, "practice-stop")
    settled(window)
    assert practice.last is None
    assert read_rows(practice_file()) == ()
    assert practice.shoot_button.isEnabled()
