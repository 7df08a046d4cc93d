"""The Join stage by mouse and keys: masks, frames put back, a stopped join taken up again."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtWidgets import QComboBox, QLabel, QPushButton, QRadioButton
from pytestqt.qtbot import QtBot
from tests.helpers.fields import press_act
from tests.helpers.sets import FrameFiles, render

from idle_lantern.app import join_runner
from idle_lantern.app.masking import MaskDialog
from idle_lantern.app.stages import join_model
from idle_lantern.app.widgets.paint_area import HIDE
from idle_lantern.app.window import Window
from idle_lantern.core.frames.masks import read_mask
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.join import service
from idle_lantern.core.outing import document
from idle_lantern.core.pictures.source import region
from idle_lantern.core.registration.match import features

LEFT = Qt.MouseButton.LeftButton


def _dialog(qtbot: QtBot, window: Window, *, by_key: bool = True) -> MaskDialog:
    if by_key:
        qtbot.keyClick(window, Qt.Key.Key_H, Qt.KeyboardModifier.ControlModifier)
    else:  # without a window manager nothing makes the window active again once a dialog has closed
        window.trigger("join.masks")
    dialog = next((d for d in reversed(window.findChildren(MaskDialog)) if d.isVisible()), None)
    assert dialog is not None
    qtbot.waitExposed(dialog)
    return dialog


def _alpha(window: Window) -> np.ndarray:
    picture = window.state.picture
    assert picture is not None
    return region(picture, Rectangle(0, 0, *picture.sizes[0]))[..., 3]


def _press(qtbot: QtBot, dialog: MaskDialog, name: str) -> None:
    qtbot.mouseClick(dialog.findChild(QPushButton, name), LEFT)


def test_frames_that_nothing_ties_are_named_and_drawn_apart(joined: Window, settled: Callable):
    """The same join, told as if the grid had placed its second frame to a quarter of a degree."""
    solution, shown = joined.state.solution, joined.state.joined
    assert solution is not None
    assert shown is not None
    assert (len(joined.map.join.shapes), len(joined.map.join.loose)) == (3, 0)
    second = solution.poses.index(1)
    sigma = solution.poses.sigma_rad.copy()
    sigma[second] = np.radians(0.25)
    by_grid = replace(
        solution, poses=replace(solution.poses, sigma_rad=sigma), placed_by={**solution.placed_by, 1: "grid"}
    )
    other = replace(shown, solution=by_grid)
    joined.state.set_joined(other, joined.state.picture)
    settled(joined)
    told = joined.findChild(QLabel, "join-findings").text()
    assert solution.frames.names[1] in told
    assert "0.25°" in told
    drawn = join_model.on_map(other, [])
    assert (len(drawn.tied), len(drawn.loose)) == (2, 1)


def test_facts_keep_their_height_under_long_findings(joined: Window, settled: Callable):
    """However much is found, no figure is cut."""
    joined.join_stage.about.findings.setText("A long finding that says what was seen and what to do about it. " * 40)
    settled(joined)
    for fact in joined.join_stage.about.facts.values():
        assert fact.height() >= fact.fontMetrics().height()


def test_a_frame_is_painted_on_enlarged(qtbot: QtBot, joined: Window, settled: Callable):
    """It had no zoom: the paint lies where the brush was, however large the frame is shown."""
    dialog = _dialog(qtbot, joined, by_key=False)
    canvas = dialog.canvas
    assert canvas.width() * canvas.height() > 0.65 * dialog.width() * dialog.height()
    dialog.brush.setValue(20)
    corner = canvas._place().topLeft() + QPointF(40, 30)
    canvas.zoom_by(4.0, corner)
    place = canvas._place()
    share = (corner.x() - place.x()) / place.width(), (corner.y() - place.y()) / place.height()
    qtbot.mouseClick(canvas, LEFT, pos=corner.toPoint())
    painted = np.argwhere(canvas.paint_layer == HIDE).mean(0) / canvas.paint_layer.shape
    assert painted == pytest.approx([share[1], share[0]], abs=0.01)
    qtbot.mousePress(canvas, Qt.MouseButton.RightButton, pos=QPoint(300, 300))
    qtbot.mouseMove(canvas, QPoint(200, 260))
    qtbot.mouseRelease(canvas, Qt.MouseButton.RightButton, pos=QPoint(200, 260))
    assert canvas._place().topLeft().x() < place.x() - 50
    qtbot.keyClick(dialog, Qt.Key.Key_0)
    assert canvas._place().width() < place.width() / 3
    dialog.take_back()
    _press(qtbot, dialog, "mask-done")


def test_what_is_painted_over_is_gone_from_the_picture(qtbot: QtBot, joined: Window, settled: Callable):
    solution = joined.state.solution
    joined_before = joined.state.joined
    assert joined_before is not None
    before = _alpha(joined)
    dialog = _dialog(qtbot, joined)
    dialog.brush.setValue(120)
    place = dialog.canvas._place()
    # down the left rim of the first frame, which no other frame shows
    x = round(place.x() + 0.12 * place.width())
    top, bottom = (round(place.y() + share * place.height()) for share in (0.3, 0.7))
    qtbot.mousePress(dialog.canvas, LEFT, pos=QPoint(x, top))
    qtbot.mouseMove(dialog.canvas, QPoint(x, (top + bottom) // 2))
    qtbot.mouseMove(dialog.canvas, QPoint(x, bottom))
    qtbot.mouseRelease(dialog.canvas, LEFT, pos=QPoint(x, bottom))
    hidden = float((dialog.canvas.paint_layer == HIDE).mean())
    assert hidden > 0.03
    assert f"Hidden: {100 * hidden:.0f} %" in dialog.told.text()
    _press(qtbot, dialog, "mask-done")
    settled(joined)
    assert joined.state.solution is solution, "nothing was matched again"
    after = _alpha(joined)
    crops = [joined_before.crop, joined.state.joined.crop]
    assert crops[1].area < 0.97 * crops[0].area
    told = joined.message_text().replace("\u202f", "")  # the hole costs much of the rectangle: never without a word
    assert "leaves a hole that no other frame shows" in told
    assert all(f"{crop.width} × {crop.height}" in told for crop in crops)
    assert ((before > 0) & (after == 0)).sum() > 0.5 * hidden * 480 * 680
    # painted again and taken back, the picture is whole as before
    dialog = _dialog(qtbot, joined, by_key=False)
    assert (dialog.canvas.paint_layer == HIDE).mean() == pytest.approx(hidden, abs=0.01)
    _press(qtbot, dialog, "mask-clear")
    _press(qtbot, dialog, "mask-done")
    settled(joined)
    assert (_alpha(joined) == before).all()


def test_paint_is_kept_for_each_frame_and_strokes_are_taken_back(qtbot: QtBot, joined: Window, settled: Callable):
    """Painting is part of the one undo history, in the dialog and after it."""
    dialog = _dialog(qtbot, joined)
    canvas = dialog.canvas
    middle = QPoint(canvas.width() // 2, canvas.height() // 2)
    qtbot.mouseClick(dialog.findChild(QRadioButton, "mask-K"), LEFT, pos=QPoint(8, 10))
    qtbot.mouseClick(canvas, LEFT, pos=middle)
    once = canvas.paint_layer.copy()
    qtbot.mouseClick(canvas, LEFT, pos=middle + QPoint(90, 0))
    assert (canvas.paint_layer != once).any()
    qtbot.keyClick(dialog, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    np.testing.assert_array_equal(canvas.paint_layer, once)
    dialog.findChild(QComboBox, "mask-frame").setCurrentIndex(1)
    assert not canvas.paint_layer.any()
    folder, outing = joined.state.folder, joined.state.outing
    assert folder is not None
    first = outing.frames[0].id
    file = document.mask_file(folder, outing, first)
    assert file is not None
    assert read_mask(file).keep.any()
    dialog.findChild(QComboBox, "mask-frame").setCurrentIndex(0)
    np.testing.assert_array_equal(canvas.paint_layer, once)
    qtbot.keyClick(dialog, Qt.Key.Key_Escape)
    settled(joined)
    assert joined.state.outing.choices.mask_of(first), "leaving by Escape loses nothing"
    assert joined.state.history.undo_title == "Paint on f00.jpg"
    joined.trigger("edit.undo")
    assert joined.state.outing.choices.mask_of(first) is None
    joined.trigger("edit.redo")
    joined.state.save_now()
    assert document.load(folder).choices.mask_of(first) == file.stem


def test_a_frame_left_out_is_put_back_by_its_link(
    qtbot: QtBot, window: Window, settled: Callable, row_set: FrameFiles, tmp_path: Path
):
    copy = tmp_path / "again.jpg"
    shutil.copy(row_set.paths[1], copy)
    window.frames_stage.bringing.bring([*row_set.paths[:3], copy])
    settled(window)
    window.go("join")
    window.join_stage.run_join()
    settled(window)
    stage = window.join_stage
    assert "3 of 4" in stage.about.facts["frames"].text()
    assert "Shows the same as" in stage.about.left_out.text()
    picture = next(w for w in stage.about.left_out.findChildren(QLabel) if w.isVisible() and not w.text())
    assert not picture.pixmap().isNull(), "with a thumbnail of the frame"
    press_act(qtbot, stage.about.left_out, "frame-use")
    settled(window)
    assert "4 of 4" in stage.about.facts["frames"].text()
    assert "used as you asked" in stage.about.left_out.text()
    window.trigger("edit.undo")
    assert window.state.outing.choices.put_back == ()


def test_a_stopped_join_goes_on_where_it_was(
    qtbot: QtBot, window: Window, settled: Callable, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
):
    """Eight frames: stopped by the mouse in the middle, gone on with by a key."""
    directions = [(31.0 * c, p, 0.0) for p in (12.0, -12.0) for c in range(4)]
    frames = render(tmp_path, Lens("rectilinear", 420, 360, 480), directions)
    looked: list[int] = []
    real = features.quick_features
    monkeypatch.setattr(join_runner, "_WORKER", service)  # in this process, where it can be watched
    monkeypatch.setattr(features, "quick_features", lambda *a, **k: looked.append(1) or real(*a, **k))
    window.frames_stage.bringing.bring(list(frames.paths))
    settled(window)
    window.go("join")
    stages: list[str] = []
    window.tasks.changed.connect(lambda: window.tasks.shown and stages.append(window.tasks.shown.clock.stage))
    window.join_stage.run_join()
    qtbot.waitUntil(lambda: bool({"refine", "warp", "seams", "blend"} & set(stages)), timeout=60_000)
    qtbot.mouseClick(window.findChild(QPushButton, "stop"), LEFT)
    settled(window)
    assert window.state.joined is None
    assert len(looked) == 8
    qtbot.keyClick(window, Qt.Key.Key_J, Qt.KeyboardModifier.ControlModifier)
    settled(window)
    assert window.state.joined is not None
    assert "8 of 8" in window.join_stage.about.facts["frames"].text()
    assert len(looked) == 8, "points were not looked for again"
