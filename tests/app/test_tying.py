"""Frames tied by hand through the real window: clicked in both, made exact, joined; and taken away again."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QLabel, QPushButton
from pytestqt.qtbot import QtBot
from tests.app.conftest import JoinOnce
from tests.helpers.fields import press_act
from tests.helpers.sets import FrameFiles

from idle_lantern.app import tie_model
from idle_lantern.app.stages import join_request_model, walk_model
from idle_lantern.app.tying import TieDialog
from idle_lantern.app.window import Window
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.frames.reading import read
from idle_lantern.simulator.truth import registration_error_px

LOOSE = 3


def _last_one_soft(row_set: FrameFiles, folder: Path) -> list[Path]:
    """Four frames, the last of which is so soft and noisy that no feature ties it."""
    meta = Metadata(focal_mm=24.0, sensor_width_mm=24.0 * 680 / row_set.lens.focal_px)
    files = []
    for i, path in enumerate(row_set.paths[: LOOSE + 1]):
        picture = read(path)
        if i == LOOSE:
            rng = np.random.default_rng(1)
            soft = cv2.GaussianBlur(picture.pixels.astype(np.float32), (0, 0), 9) * 0.2 + 100
            picture = replace(picture, pixels=np.clip(soft + rng.normal(0, 8, soft.shape), 0, 255).astype(np.uint8))
        files.append(folder / path.name)
        write(picture, files[-1], WriteOptions(jpeg_quality=95, metadata=meta))
    return files


@pytest.fixture
def apart(join_once: JoinOnce, row_set: FrameFiles) -> Window:
    """Three frames joined, and one that nothing ties."""
    return join_once("One apart", lambda folder: _last_one_soft(row_set, folder))


def _click(view, xy: tuple[float, float]) -> None:
    """Go near with one click, then set the point with another one, as a person does."""
    for _ in range(2):
        at = view.to_widget(QPointF(xy[0] + 0.5, xy[1] + 0.5))
        before = view.zoom
        QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=QPoint(round(at.x()), round(at.y())))
        if before * view.devicePixelRatioF() >= 0.9:
            return


def _drag(view, one, other) -> None:
    """From one place of the frame to another one, with the left button held."""
    start, end = (view.to_widget(QPointF(xy[0] + 0.5, xy[1] + 0.5)).toPoint() for xy in (one, other))
    QTest.mousePress(view, Qt.MouseButton.LeftButton, pos=start)
    QTest.mouseMove(view, (start + end) / 2)
    QTest.mouseMove(view, end)
    QTest.mouseRelease(view, Qt.MouseButton.LeftButton, pos=end)


def test_a_frame_that_nothing_ties_is_tied_by_two_points(
    qtbot: QtBot, apart: Window, settled: Callable, row_set: FrameFiles
):
    joined = apart.state.joined
    assert joined is not None
    assert not joined.report.frames[LOOSE].used
    outing, ids = apart.state.outing, [r.id for r in apart.state.outing.frames]
    assert tie_model.pair_to_tie(outing, joined, None) == (ids[LOOSE - 1], ids[LOOSE])
    assert tie_model.pair_to_tie(outing, None, ids[2]) == (ids[1], ids[2])
    assert [r.id for r in tie_model.loose_frames(outing, joined)] == [ids[LOOSE]]
    assert apart.join_stage.about.left_out.findChild(QPushButton, "frame-tie").text() == "Tie it by hand"
    qtbot.keyClick(apart, Qt.Key.Key_T, Qt.KeyboardModifier.ControlModifier)
    dialog = apart.findChild(TieDialog)
    settled(apart)
    assert (dialog.left.chooser.currentIndex(), dialog.right.chooser.currentIndex()) == (LOOSE - 1, LOOSE)
    assert "one thing that both" in dialog.told.text()
    turn = row_set.cameras[LOOSE].T @ row_set.cameras[LOOSE - 1]
    lens = row_set.lens
    for place in ((430.0, 120.0), (445.0, 560.0)):
        truth = lens.project(lens.unproject(np.array(place)) @ turn.T)[0]
        _click(dialog.left.view, place)
        assert "Now the same thing in" in dialog.told.text()
        _click(dialog.right.view, (float(truth[0]), float(truth[1])))
    assert len(apart.state.outing.choices.points) == 2
    assert "A third tie makes sure" in dialog.told.text()
    assert dialog.list.count() == 2
    dialog.done_button.click()
    settled(apart)
    joined = apart.state.joined
    assert joined is not None
    row = joined.report.frames[LOOSE]
    assert (row.used, row.placed_by) == (True, "manual")
    solution = apart.state.solution
    assert solution is not None
    errors = registration_error_px(
        lens, list(row_set.cameras[: LOOSE + 1]), list(solution.poses.lenses), list(solution.poses.world_from_camera)
    )
    # clicked to whole pixels of the screen: half a pixel at most
    assert np.sqrt((np.asarray(errors) ** 2).mean()) < 1.0
    # taken back one after the other, the picture is out of date and says so
    apart.state.undo()
    assert len(apart.state.outing.choices.points) == 1
    assert "Points were set or taken away" in apart.join_stage.status.text()


def test_points_that_disagree_are_told_and_taken_away(
    qtbot: QtBot, apart: Window, settled: Callable, row_set: FrameFiles
):
    dialog = apart.join_stage.open_ties(apart.state.outing.frames[0].id)
    assert dialog is not None
    settled(apart)
    assert (dialog.left.chooser.currentIndex(), dialog.right.chooser.currentIndex()) == (0, 1)
    turn, lens = row_set.cameras[1].T @ row_set.cameras[0], row_set.lens
    for place, beside in (((400.0, 120.0), 0.0), ((430.0, 600.0), 0.0), ((410.0, 350.0), 70.0)):
        truth = lens.project(lens.unproject(np.array(place)) @ turn.T)[0]
        _click(dialog.left.view, place)
        _click(dialog.right.view, (float(truth[0]) + beside, float(truth[1])))
    assert "disagree" in dialog.told.text()
    dialog.list.setCurrentRow(2)
    qtbot.keyClick(dialog, Qt.Key.Key_Delete)
    assert len(apart.state.outing.choices.points) == 2
    assert "disagree" not in dialog.told.text()
    # a half set point is dropped by Escape, and the dialog stays
    _click(dialog.left.view, (300.0, 300.0))
    qtbot.keyClick(dialog, Qt.Key.Key_Escape)
    assert dialog.left.waiting == ()
    assert dialog.isVisible()
    # a line is dragged in both, here the other way round and elsewhere along it, and agrees with the points
    qtbot.keyClick(dialog, Qt.Key.Key_L)
    assert "Drag along something straight" in dialog.explained.text()
    rays = lens.unproject(np.array([(410.0, 100.0), (430.0, 650.0)]))
    ends = lens.project((rays[0] + np.array([[0.9], [0.3]]) * (rays[1] - rays[0])) @ turn.T)[0]
    for view, (one, other) in ((dialog.left.view, ((410.0, 100.0), (430.0, 650.0))), (dialog.right.view, ends)):
        view.fit()
        _drag(view, one, other)
    assert len(apart.state.outing.choices.points) == 3
    assert dialog.list.item(2).text().startswith("3  line, misses by ")
    assert "2 points and 1 line, which agree to" in dialog.told.text()
    apart.state.undo()
    assert len(apart.state.outing.choices.points) == 2
    qtbot.keyClick(dialog, Qt.Key.Key_L)
    assert "Click near a thing" in dialog.explained.text()
    dialog.close()


def test_a_wrong_link_is_cut_and_mended_again(qtbot: QtBot, window: Window, settled: Callable, grid_set: FrameFiles):
    window.frames_stage.bringing.bring(list(grid_set.paths))
    settled(window)
    window.go("join")
    window.join_stage.run_join()
    settled(window)
    state = window.state
    ids = list(state.joined.frame_ids)

    def linked() -> bool:
        return any({k.a, k.b} == {0, 1} for k in state.joined.report.links)

    assert linked()
    dialog = window.join_stage.open_ties(ids[0])
    dialog.left.chooser.setCurrentIndex(0)
    dialog.right.chooser.setCurrentIndex(1)
    settled(window)
    assert "points tie them by themselves" in dialog.findChild(QLabel, "tie-link").text()
    qtbot.keyClick(dialog, Qt.Key.Key_X)
    assert state.outing.choices.cut_links == ((ids[0], ids[1]),)
    assert "is cut" in dialog.findChild(QLabel, "tie-link").text()
    assert "cut" in join_request_model.differs(state.outing, state.joined)
    dialog.accept()
    settled(window)
    assert not linked()
    assert len(state.joined.frame_ids) == len(ids)
    assert join_request_model.differs(state.outing, state.joined) == ""
    state.undo()
    assert state.outing.choices.cut_links == ()
    assert join_request_model.differs(state.outing, state.joined) == "cut"


def test_a_frame_that_nothing_ties_is_laid_on_the_picture(
    qtbot: QtBot, apart: Window, settled: Callable, row_set: FrameFiles
):
    """Dragged by a thing that both show to where the picture shows it, looked at three ways, laid down by Enter."""
    joined, stage = apart.state.joined, apart.join_stage
    view = stage.view
    press_act(qtbot, stage.about.left_out, "frame-place")
    qtbot.waitUntil(lambda: stage.placing.held is not None, timeout=10_000)
    held = stage.placing.held
    assert "[Enter] lays it down" in apart.message_text()
    # the thing: it stands in the left part of the loose frame, and at its true place in the picture
    poses, canvas, lens = joined.solution.poses, joined.canvas, row_set.lens
    true = poses.world_from_camera[LOOSE - 1] @ row_set.cameras[LOOSE - 1].T @ row_set.cameras[LOOSE]
    ray = lens.unproject(np.array([[90.0, 340.0]]))[0]
    start = canvas.pixels((held.world_from_camera @ ray)[None])[0]
    end = canvas.pixels((true @ ray)[None])[0]
    places = [view.to_widget(QPointF(*(start + (end - start) * k / 4))).toPoint() for k in range(5)]
    QTest.mousePress(view, Qt.MouseButton.LeftButton, pos=places[0])
    for place in places[1:]:
        QTest.mouseMove(view, place)
    QTest.mouseRelease(view, Qt.MouseButton.LeftButton, pos=places[-1])
    off = np.degrees(np.arccos(np.clip((np.trace(stage.placing.held.world_from_camera.T @ true) - 1) / 2, -1, 1)))
    assert off < 2.0
    plain = view.grab().toImage()
    qtbot.keyClick(view, Qt.Key.Key_X)
    assert view.grab().toImage() != plain, "the difference looks otherwise"
    qtbot.keyClick(view, Qt.Key.Key_X)
    qtbot.keyClick(view, Qt.Key.Key_Period)
    qtbot.keyClick(view, Qt.Key.Key_Comma)
    qtbot.keyClick(view, Qt.Key.Key_Return)
    settled(apart)
    assert stage.placing.held is None
    joined = apart.state.joined
    row = joined.report.frames[LOOSE]
    assert (row.used, row.placed_by) == (True, "manual")
    solution = apart.state.solution
    errors = registration_error_px(
        lens, list(row_set.cameras[: LOOSE + 1]), list(solution.poses.lenses), list(solution.poses.world_from_camera)
    )
    zoom = view.zoom
    assert np.sqrt((np.asarray(errors) ** 2).mean()) < 6.0 / zoom, "as close as a hand is on this screen"
    # one step takes it all back; Escape leaves a frame as it was
    apart.state.undo()
    assert apart.state.outing.choices.points == ()
    assert "Points were set or taken away" in stage.status.text()


def model_stop(window: Window) -> walk_model.WalkStop:
    """A place in the middle of the picture."""
    joined = window.state.joined
    stop = walk_model.own_stop(joined, joined.canvas.width / 2, joined.canvas.height / 2, 60)
    assert stop is not None
    return stop


def test_a_frame_in_the_hand_is_left_by_escape_and_beside_the_picture_it_is_refused(
    qtbot: QtBot, apart: Window, settled: Callable
):
    stage = apart.join_stage
    press_act(qtbot, stage.about.left_out, "frame-place")
    qtbot.waitUntil(lambda: stage.placing.held is not None, timeout=10_000)
    qtbot.keyClick(stage.view, Qt.Key.Key_B)
    qtbot.waitUntil(lambda: not stage.placing._shown, timeout=5000)
    # its keys are its own, though X and B mean something else where a place is looked at
    stage.walk.look_at_stop(model_stop(apart), "A place")
    qtbot.keyClick(stage.view, Qt.Key.Key_X)
    assert apart.state.outing.choices.off == ()
    assert stage.placing._difference
    stage.placing.held = replace(stage.placing.held, world_from_camera=np.diag([-1.0, 1.0, -1.0]))
    qtbot.keyClick(stage.view, Qt.Key.Key_Return)
    assert "lies beside the picture" in apart.message_text()
    assert stage.placing.held is not None
    qtbot.keyClick(stage.view, Qt.Key.Key_Escape)
    assert stage.placing.held is None
    assert stage.view.tool is None
    assert apart.state.outing.choices.points == ()


def test_the_pair_is_chosen_on_the_strip_of_frames(qtbot: QtBot, joined: Window, settled: Callable):
    """By a click on what ties them, or one after the other; the miss of a point is an arrow, no list of coordinates."""
    dialog = joined.join_stage.open_ties()
    assert dialog is not None
    qtbot.waitUntil(dialog.isVisible, timeout=3000)
    settled(joined)
    strip = dialog.map
    middle = (strip.place(1) + strip.place(2)) / 2
    qtbot.mouseClick(strip, Qt.MouseButton.LeftButton, pos=middle.toPoint())
    assert (dialog.left.chooser.currentIndex(), dialog.right.chooser.currentIndex()) == (1, 2)
    qtbot.mouseClick(strip, Qt.MouseButton.LeftButton, pos=strip.place(0).toPoint())
    assert (dialog.left.chooser.currentIndex(), dialog.right.chooser.currentIndex()) == (1, 0)
    shift = Qt.KeyboardModifier.ShiftModifier
    qtbot.mouseClick(strip, Qt.MouseButton.LeftButton, shift, pos=strip.place(2).toPoint())
    assert (dialog.left.chooser.currentIndex(), dialog.right.chooser.currentIndex()) == (2, 0)
    share = dialog.left.view.width() * dialog.left.view.height() * 2 / (dialog.width() * dialog.height())
    assert share > 0.65, share
    dialog.reject()
