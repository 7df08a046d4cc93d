"""Nothing of one outing is left in the next: the window shows an outing as a window does that was just opened."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QAbstractButton, QComboBox, QLabel, QLineEdit, QListWidget, QWidget
from pytestqt.qtbot import QtBot
from tests.helpers.sets import FrameFiles

from idle_lantern.app.settings import Settings
from idle_lantern.app.window import Window
from idle_lantern.core.outing import edits
from idle_lantern.core.outing.document import load, save
from idle_lantern.core.outing.model import Outing, new_id

STAGES = ("plan", "field", "frames", "join", "deliver")


def _text(widget: QWidget) -> str:
    if isinstance(widget, QComboBox):
        return widget.currentText()
    if isinstance(widget, QListWidget):
        return str(widget.count())
    return widget.text()


def _shown(window: Window, settled: Callable, qtbot: QtBot) -> dict[str, list[str]]:
    """What each stage shows, with what the line of stages says."""
    found = {}
    for stage in STAGES:
        window.go(stage)
        settled(window)
        kinds = (QLabel, QLineEdit, QAbstractButton, QComboBox, QListWidget)
        parts = [w for w in window.pages[stage].findChildren(kinds) if w.isVisible()]
        found[stage] = [f"{w.objectName()} {_text(w)} {w.isEnabled()}" for w in parts if _text(w)]
        tab = window.tabs[stage]
        found[stage].append(tab.accessibleDescription())
        found[stage].append(
            f"map {window.map.image is not None} {len(window.map.join.shapes)} {len(window.map.join.missing)}"
        )
    return found


def _used(window: Window, qtbot: QtBot, settled: Callable, tmp_path: Path) -> None:
    """An outing with much to say: a finding, a composed picture, a verdict of a watched folder, remarks put aside."""
    window.trigger("frames.look")
    settled(window)
    window.go("join")
    window.trigger("compose.open")
    settled(window)
    window.field_stage.watching.verdict.setText("↺ Frame 8 looks 11.7° beside its place")
    window.field_stage.watching.verdict.show()
    window.field_stage.foretold.words.setText("Frame 3 looks 2° further left than scouted")
    window.join_stage._failure = "The frames of the left end match nothing."
    window.state.apply(edits.set_target_field("Wide", left_deg=-80.0, right_deg=80.0))
    window.go("plan")
    settled(window)


@pytest.mark.parametrize("next_one", ["empty", "photographs"])
def test_a_next_outing_is_shown_as_if_it_were_the_first(
    qtbot: QtBot,
    joined: Window,
    settled: Callable,
    row_set: FrameFiles,
    tmp_path: Path,
    outing_root: Path,
    next_one: str,
):
    folder = outing_root / "next"
    other = Outing("Next", "2026-05-14T18:40", origin="planned" if next_one == "empty" else "photographs")
    if next_one == "photographs":
        refs = tuple(replace(ref, id=new_id()) for ref in load(joined.state.folder).frames[:2])
        other = replace(other, frames=refs)
    save(other, folder)
    _used(joined, qtbot, settled, tmp_path)
    assert joined.open_outing(folder)
    settled(joined)
    after = _shown(joined, settled, qtbot)
    joined.state.save_now()
    joined.state.autosave.release()
    fresh = Window(Settings(quick=True))
    qtbot.addWidget(fresh, before_close_func=lambda w: w.tasks.cancel_all())
    fresh.resize(1280, 800)
    fresh.show()
    assert fresh.open_outing(folder)
    settled(fresh)
    first = _shown(fresh, settled, qtbot)
    apart = {stage: set(first[stage]) ^ set(after[stage]) for stage in STAGES}
    assert {stage: words for stage, words in apart.items() if words} == {}


def test_a_picture_that_is_being_opened_is_not_told_as_missing(qtbot: QtBot, joined: Window, settled: Callable):
    folder = joined.state.folder
    joined.outings.begin("Between")
    settled(joined)
    joined.go("join")
    assert joined.open_outing(folder, "join")
    assert joined.state.joined is None
    assert joined.tabs["join"].accessibleDescription() == "opening the picture"
    assert "being opened" in joined.join_stage.status.text()
    settled(joined)
    assert joined.tabs["join"].accessibleDescription() == "joined"
    qtbot.keyClick(joined, Qt.Key.Key_C)
