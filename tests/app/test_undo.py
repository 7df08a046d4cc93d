"""Undo where one looks, and acts on the joined picture that change nothing: in the real window."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtTest import QSignalSpy
from pytestqt.qtbot import QtBot

from idle_lantern.app.window import Window
from idle_lantern.core.outing import edits

CONTROL, SHIFT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier
KEY = Qt.Key


def _keys(
    qtbot: QtBot, window: Window, key: Qt.Key, held: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier
) -> None:
    window.setFocus()
    qtbot.keyClick(window, key, held)


def test_undo_stays_where_one_looks(qtbot: QtBot, joined: Window, settled: Callable):
    """One Ctrl + Z too many in Join took back that pictures were brought in, the picture stayed and redo was lost."""
    state = joined.state
    state.apply(edits.leave_out(state.outing.frames[0], True))  # in Frames, say
    state.apply(edits.leave_out(state.outing.frames[0], False))
    state.apply(edits.set_target_field("Wider", left_deg=-70.0))
    before = state.outing
    joined.go("join")
    _keys(qtbot, joined, KEY.Key_Z, CONTROL)
    assert state.outing is before, "nothing that is not seen here was taken back"
    assert joined.stage == "plan"
    assert "Undo takes back 'Wider' next" in joined.message_text()
    _keys(qtbot, joined, KEY.Key_Z, CONTROL)
    assert state.outing.brief.target_field.left_deg != -70.0
    joined.go("deliver")
    _keys(qtbot, joined, KEY.Key_Z, CONTROL | SHIFT)
    assert joined.stage == "plan"
    _keys(qtbot, joined, KEY.Key_Z, CONTROL | SHIFT)
    assert state.outing.brief.target_field.left_deg == -70.0
    for _ in range(3):  # plan, then what was left out: both Frames and Join show that
        _keys(qtbot, joined, KEY.Key_Z, CONTROL)
    assert joined.stage == "frames"


def test_a_picture_of_other_frames_is_neither_composed_nor_painted_on(qtbot: QtBot, joined: Window, settled: Callable):
    state, stage = joined.state, joined.join_stage
    _keys(qtbot, joined, KEY.Key_C)
    settled(joined)
    assert stage.compose.active
    state.apply(edits.remove_frames([state.outing.frames[0].id]))
    settled(joined)
    assert not stage.compose.active
    assert "Frames came or went" in joined.message_text()
    before = state.outing
    for key in (KEY.Key_C, KEY.Key_D, KEY.Key_A, KEY.Key_F, KEY.Key_V):
        joined.tell("", False)
        _keys(qtbot, joined, key)
        assert "Join again" in joined.message_text(), key
    assert state.outing == before
    state.undo()
    settled(joined)
    _keys(qtbot, joined, KEY.Key_C)
    assert stage.compose.active, "with the frames back the picture is theirs again"


def test_what_changes_nothing_is_said_and_makes_nothing_anew(qtbot: QtBot, joined: Window, settled: Callable):
    stage, state = joined.join_stage, joined.state
    canvas = state.joined.canvas
    # the left end is shown by the first frame alone
    u, v = canvas.width * 0.06, canvas.height / 2
    stage.view.show_place(u, v)
    stage.walk._look_at(QPointF(u, v))
    assert [c.shown for c in stage.walk.layers.candidates] == [True]
    qtbot.wait(20)
    for key, held in ((KEY.Key_T, Qt.KeyboardModifier.NoModifier), (KEY.Key_T, SHIFT)):
        joined.tell("", False)
        _keys(qtbot, joined, key, held)
        settled(joined)
        assert joined.message_text() != ""
        assert stage.walk.layers.tried is None
    started = QSignalSpy(joined.context.joins.shown)
    frame = state.outing.frames[0].file.rsplit("/", 1)[-1]
    stage.walk.hands.use("seam")
    stage.view._tool._done([(u, v), (u + 5, v)], 8.0)
    assert f"{frame} alone shows all of that already" in joined.message_text()
    settled(joined)
    assert len(started) == 0
    assert state.outing.choices.masks == ()
    stage.walk.hands.use("keep")
    stage.view._tool._done([(u, v), (u + 5, v)], 8.0)
    assert "the picture does not change" in joined.message_text()
    assert len(state.outing.choices.masks) == 1


def test_a_place_that_was_chosen_stays_chosen_after_an_act(qtbot: QtBot, joined: Window, settled: Callable):
    stage, state = joined.join_stage, joined.state
    canvas, frames = state.joined.canvas, state.outing.frames
    u, v = next(
        (u, canvas.height / 2) for u in range(0, canvas.width, 8) if len(_showing(joined, u, canvas.height / 2)) == 2
    )
    stage.view.show_place(u, v)
    stage.walk._look_at(QPointF(u, v))
    settled(joined)
    assert len(stage.walk.layers.candidates) == 2
    _keys(qtbot, joined, KEY.Key_T)
    _keys(qtbot, joined, KEY.Key_U)
    settled(joined)
    assert len(state.outing.choices.masks) > 0
    stop = stage.walk.stop
    assert stop is not None
    assert abs(stop.u - u) + abs(stop.v - v) < 6
    assert {c.frame for c in stage.walk.layers.candidates} <= {f.id for f in frames}
    assert len(stage.walk.layers.candidates) == 2


def _showing(window: Window, u: float, v: float) -> list[int]:
    from idle_lantern.core.compositing.render.single_frame import frames_showing

    return frames_showing(window.state.solution.poses, window.state.joined.canvas, u, v)


def test_keys_pressed_during_work_are_all_counted(qtbot: QtBot, joined: Window, settled: Callable):
    """P five times was one step, since each began from the picture that was still there."""
    from idle_lantern.core.geometry.projections import PROJECTIONS

    _keys(qtbot, joined, KEY.Key_C)
    settled(joined)
    names = list(PROJECTIONS)
    first = joined.state.joined.canvas.projection.name
    for _ in range(5):
        _keys(qtbot, joined, KEY.Key_P)
    wanted = names[(names.index(first) + 5) % len(names)]
    assert joined.state.outing.choices.projection == wanted
    settled(joined)
    assert joined.state.joined.canvas.projection.name == wanted


def test_join_asked_for_while_it_runs_goes_on_or_begins_with_what_is_wanted_now(
    qtbot: QtBot, joined: Window, settled: Callable
):
    joins, state = joined.context.joins, joined.state
    joined.go("join")
    _keys(qtbot, joined, KEY.Key_J, CONTROL)
    first = joins.request
    _keys(qtbot, joined, KEY.Key_J, CONTROL)
    assert joins.request is first
    assert "runs already" in joined.message_text()
    state.apply(edits.leave_out(state.outing.frames[2], True))
    _keys(qtbot, joined, KEY.Key_J, CONTROL)
    assert joins.request is not first
    settled(joined)
    assert state.joined.frame_ids == tuple(r.id for r in state.outing.frames[:2])


def test_a_picture_that_cannot_be_made_anew_is_tried_once(qtbot: QtBot, joined: Window, settled: Callable):
    """With every frame switched off the join failed, began again by itself, and so on for ever."""
    state, failures = joined.state, []
    joined.context.joins.failed.connect(failures.append)
    joined.go("join")
    for ref in state.outing.frames:
        state.apply(edits.switch_off(ref, True))
    settled(joined)
    assert len(failures) == 1
    assert "switched off" in joined.join_stage.status.text()
    state.undo()
    settled(joined)
    assert len(failures) == 1
    assert len(state.joined.report.chosen.off) == len(state.outing.frames) - 1


def test_a_stopped_join_leaves_the_outings_own_picture(qtbot: QtBot, joined: Window, settled: Callable):
    """The rough picture of the join that was stopped stayed, of another size than was told beside it."""
    view, canvas = joined.join_stage.view, joined.state.joined.canvas
    joined.go("join")
    joined.state.apply(edits.choose("Other", projection="mercator", turn_deg=(0.0, 0.0, 40.0)))
    qtbot.waitUntil(lambda: view.size_px != (canvas.width, canvas.height), timeout=30_000)  # a rough one
    joined.trigger("work.cancel")
    settled(joined)
    assert joined.state.joined.canvas is canvas
    assert view.size_px == (canvas.width, canvas.height)
    assert "under other choices" in joined.join_stage.status.text()
