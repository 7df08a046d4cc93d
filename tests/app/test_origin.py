"""What an outing is: planned, simulated or from photographs, and what each offers in the real window."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest
from PyQt6.QtCore import QPoint, Qt, QTimer
from PyQt6.QtWidgets import QApplication, QCheckBox, QLabel
from pytestqt.qtbot import QtBot
from tests.helpers.sets import FrameFiles

from idle_lantern.app.main import _first_outing
from idle_lantern.app.widgets.new_outing import NewOutingDialog
from idle_lantern.app.window import Window
from idle_lantern.core.outing import edits

KEY = Qt.Key


@pytest.fixture
def planned(window: Window) -> Window:
    """An outing with a plan of three frames that nobody shot yet, for a camera of one's own."""
    window.outings.begin("Planned")
    window.state.apply(edits.set_rig("Small camera", width_px=600, height_px=400, focal_mm=20.0))
    window.state.apply(edits.set_target_field("Narrow", left_deg=-40, right_deg=40, low_deg=-15, high_deg=15))
    window.go("field")
    return window


def test_a_planned_outing_logs_and_never_invents_a_frame(qtbot: QtBot, planned: Window, settled: Callable):
    state, stage = planned.state, planned.field_stage
    count = len(state.plan.frames)
    qtbot.keyClick(planned, KEY.Key_Space)
    settled(planned)
    assert state.outing.frames == ()
    assert [shot.number for shot in state.outing.logged] == [1]
    assert state.guide.next_number == 2
    assert not stage.all_button.isVisible()
    assert not stage.stand_ins.isVisible()
    qtbot.keyClick(planned, KEY.Key_Space, Qt.KeyboardModifier.ShiftModifier)
    assert "Only the simulated camera" in planned.message_text()
    qtbot.keyClick(planned, KEY.Key_X)  # it was missed
    assert state.outing.logged == ()
    assert state.guide.next_number == 1
    qtbot.keyClick(planned, KEY.Key_Space)
    qtbot.keyClick(planned, KEY.Key_A)
    qtbot.keyClick(planned, KEY.Key_X)  # only the second time was missed
    assert [shot.number for shot in state.outing.logged] == [1]
    state.go_to(None)
    for _ in range(count - 1):
        qtbot.keyClick(planned, KEY.Key_Space)
    assert state.guide.missing == ()
    assert "Bring the card in" in stage.missing.text()
    planned.state.undo()
    assert state.guide.missing == (count,)


def test_a_card_is_taken_for_the_frames_that_were_logged(
    qtbot: QtBot, planned: Window, settled: Callable, row_set: FrameFiles
):
    state = planned.state
    qtbot.keyClick(planned, KEY.Key_Space)
    qtbot.keyClick(planned, KEY.Key_A)  # the first one again: the later file counts
    qtbot.keyClick(planned, KEY.Key_Space)
    assert [shot.number for shot in state.outing.logged] == [1, 1, 2]
    planned.frames_stage.bringing.bring(list(row_set.paths[:3]))
    qtbot.waitUntil(lambda: len(state.outing.frames) == 3, timeout=30_000)
    settled(planned)
    assert [ref.number for ref in state.outing.frames] == [1, 1, 2]
    assert [ref.file for ref in state.outing.frames_to_join()] == [ref.file for ref in state.outing.frames[1:]]
    assert state.outing.origin == "planned"
    state.select(2)
    assert state.selected_id == state.outing.frames[2].id


def test_pictures_brought_into_an_untouched_outing_show_no_plan(
    qtbot: QtBot, window: Window, settled: Callable, row_set: FrameFiles
):
    """Space in Field put an invented frame among those of a card; the default plan hatched false gaps over them."""
    window.outings.begin("Card")
    state = window.state
    window.frames_stage.bringing.bring(list(row_set.paths[:3]))
    qtbot.waitUntil(lambda: len(state.outing.frames) == 3, timeout=30_000)
    settled(window)
    assert state.outing.origin == "photographs"
    assert window.map.shapes == []
    assert window.tabs["plan"].accessibleDescription() == "none made"
    assert window.tabs["field"].accessibleDescription() == "from photographs"
    for stage in ("field", "plan"):
        window.go(stage)
        page = window.pages[stage]
        assert not page.desk.isVisible()
        assert "no plan was made" in page.no_plan.findChild(QLabel, "no-plan").text()
    window.go("field")
    for key in (KEY.Key_Space, KEY.Key_A, KEY.Key_S):
        qtbot.keyClick(window, key)
        settled(window)
        assert len(state.outing.frames) == 3
        assert state.outing.logged == state.outing.skipped == ()
    state.undo()
    assert state.outing.origin == "planned"
    assert window.tabs["plan"].accessibleDescription() != "none made"
    state.redo()
    window.go("plan")
    qtbot.mouseClick(window.plan_stage.no_plan.plan_button, Qt.MouseButton.LeftButton)
    assert window.plan_stage.desk.isVisible()
    assert len(window.map.shapes) == len(state.plan.frames)


def test_a_plan_is_tried_in_the_invented_place_in_an_outing_of_its_own(
    qtbot: QtBot, planned: Window, settled: Callable
):
    own = planned.state.folder
    qtbot.keyClick(planned, KEY.Key_Space)
    brief = planned.state.outing.brief
    qtbot.mouseClick(planned.field_stage.try_button, Qt.MouseButton.LeftButton)
    state = planned.state
    assert state.folder != own
    assert (state.outing.origin, state.outing.brief, state.outing.logged) == ("simulated", brief, ())
    assert planned.stage == "field"
    qtbot.keyClick(planned, KEY.Key_Space)
    qtbot.waitUntil(lambda: len(state.outing.frames) == 1, timeout=30_000)
    settled(planned)
    assert planned.open_outing(Path(own))
    assert state.outing.frames == ()


@pytest.mark.parametrize(("origin", "stage"), [("planned", "plan"), ("simulated", "plan"), ("photographs", "frames")])
def test_a_new_outing_says_what_it_is(
    qtbot: QtBot, window: Window, monkeypatch: pytest.MonkeyPatch, origin: str, stage: str
):
    monkeypatch.setattr(window.frames_stage.bringing, "ask_files", lambda: None)

    def answer() -> None:
        dialog = QApplication.activeModalWidget()
        assert isinstance(dialog, NewOutingDialog)
        dialog.choices[origin].setChecked(True)
        qtbot.keyClicks(dialog.field, "Quay")
        qtbot.keyClick(dialog.field, KEY.Key_Return)

    QTimer.singleShot(50, answer)
    window.trigger("outing.new")
    assert (window.state.outing.name, window.state.outing.origin) == ("Quay", origin)
    assert window.stage == stage


def test_the_first_start_offers_three_ways_in(qtbot: QtBot, window: Window, monkeypatch: pytest.MonkeyPatch):
    asked = []
    monkeypatch.setattr(window.frames_stage.bringing, "ask_files", lambda: asked.append(True))
    window.context.keep(replace(window.context.settings, last_outing=""))
    _first_outing(window, None, [])
    dialog = window.findChild(NewOutingDialog)
    assert dialog.isVisible()
    dialog.choices["photographs"].setChecked(True)
    qtbot.keyClick(dialog.field, KEY.Key_Return)
    assert (window.state.outing.name, window.state.outing.origin) == ("First outing", "photographs")
    assert window.stage == "frames"
    assert asked == [True]
    _first_outing(window, window.state.folder, [])
    assert not [d for d in window.findChildren(NewOutingDialog) if d.isVisible()]


def test_nothing_is_logged_by_hand_while_a_folder_is_watched(qtbot: QtBot, planned: Window, tmp_path: Path):
    """A frame that arrives would be taken for the one after the one that was logged."""
    planned.field_stage.watching.watch(tmp_path)
    qtbot.keyClick(planned, KEY.Key_Space)
    assert planned.state.outing.logged == ()
    assert "a watched folder logs" in planned.message_text()
    planned.context.watcher.stop()
    qtbot.keyClick(planned, KEY.Key_Space)
    assert len(planned.state.outing.logged) == 1


def test_a_second_outing_begins_with_the_plan_of_the_first(qtbot: QtBot, window: Window):
    """A second sphere had to be planned again from nothing."""
    window.plan_stage.commands.full_sphere()
    window.state.apply(edits.set_rig("Fisheye", lens_model="equisolid", focal_mm=8.0))
    before = window.state.outing.brief

    def answer() -> None:
        dialog = QApplication.activeModalWidget()
        assert isinstance(dialog, NewOutingDialog)
        box = dialog.findChild(QCheckBox, "begin-same-plan")
        assert before is not None
        assert "Test outing" in box.text()
        qtbot.mouseClick(box, Qt.MouseButton.LeftButton, pos=QPoint(8, box.height() // 2))
        dialog.choices["photographs"].setChecked(True)
        assert not dialog.same_plan, "photographs are not planned"
        dialog.choices["planned"].setChecked(True)
        qtbot.keyClick(dialog.field, KEY.Key_Return)

    QTimer.singleShot(50, answer)
    window.trigger("outing.new")
    now = window.state.outing
    assert now.name == "Evening"
    assert replace(now.brief, site=before.site) == before
    assert now.frames == ()
    assert now.plan_made
