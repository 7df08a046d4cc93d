"""The walk along suspects by keys: a doubled figure is shown once again, verdicts stay, frames lie over the picture."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtWidgets import QLabel, QPushButton
from pytestqt.qtbot import QtBot
from tests.helpers.sets import FrameFiles

from idle_lantern.app.window import Window
from idle_lantern.core.deliver.targets import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.frames.reading import read
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.outing import document
from idle_lantern.core.pictures.source import region

RED = (205, 30, 40)


@pytest.fixture
def doubled(window: Window, settled: Callable, row_set: FrameFiles, tmp_path: Path) -> Window:
    """Three frames joined; somebody in red walked on between the second and the third."""
    meta = Metadata(focal_mm=24.0, sensor_width_mm=24.0 * 680 / row_set.lens.focal_px)
    files = []
    for i, path in enumerate(row_set.paths[:3]):
        picture = read(path)
        picture = replace(picture, pixels=picture.pixels.copy())
        if i:
            x, y = ((360, 330), (120, 330))[i - 1]
            cv2.rectangle(picture.pixels, (x - 7, y - 22), (x + 7, y + 22), RED, -1)
            cv2.circle(picture.pixels, (x, y - 30), 7, RED, -1)
        files.append(tmp_path / path.name)
        write(picture, files[-1], WriteOptions(jpeg_quality=95, metadata=meta))
    window.frames_stage.bring(files)
    settled(window)
    window.go("join")
    window.join_stage.run_join()
    settled(window)
    return window


def _figures(window: Window) -> int:
    """How many figures in red the picture shows."""
    picture = window.state.picture
    assert picture is not None
    pixels = region(picture, Rectangle(0, 0, *picture.sizes[0]))[..., :3].astype(int)
    red = (pixels[..., 0] > 150) & (pixels[..., 1] < 80) & (pixels[..., 2] < 90)
    count, _labels, stats, _c = cv2.connectedComponentsWithStats(
        cv2.morphologyEx(red.astype(np.uint8), cv2.MORPH_CLOSE, np.ones((5, 5), np.uint8))
    )
    return sum(stats[k, cv2.CC_STAT_AREA] > 250 for k in range(1, count))


def test_a_doubled_figure_is_found_and_shown_once_by_keys(qtbot: QtBot, doubled: Window, settled: Callable):
    walk, view = doubled.join_stage.walk, doubled.join_stage.view
    assert _figures(doubled) == 2
    assert "1 of them likely" in doubled.findChild(QLabel, "walk-told").text()
    qtbot.keyClick(doubled, Qt.Key.Key_N)
    settled(doubled)
    assert walk.stop is not None
    assert walk.stop.kind == "double"
    assert view.zoom == 1.0
    assert view.rect().toRectF().contains(view.to_widget(QPointF(walk.stop.u, walk.stop.v)))
    qtbot.keyClick(doubled, Qt.Key.Key_T)
    qtbot.waitUntil(lambda: view.over is not None and view.over.layer is not None, timeout=5000)
    assert doubled.findChild(QPushButton, "walk-use").isVisible()
    solution = doubled.state.solution
    qtbot.keyClick(doubled, Qt.Key.Key_U)
    settled(doubled)
    assert doubled.state.solution is solution, "nothing was matched again"
    assert _figures(doubled) == 1
    assert [s for s in walk.stops if s.kind == "double"] == []
    # taken back, the picture is as it was
    qtbot.keyClick(doubled, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    settled(doubled)
    assert _figures(doubled) == 2


def test_what_is_called_good_stays_so_after_another_join(qtbot: QtBot, doubled: Window, settled: Callable):
    walk = doubled.join_stage.walk
    qtbot.keyClick(doubled, Qt.Key.Key_N)
    settled(doubled)
    place = walk.stop
    assert place is not None
    qtbot.keyClick(doubled, Qt.Key.Key_G)
    settled(doubled)
    assert [v.verdict for v in doubled.state.outing.verdicts] == ["good"]
    doubled.join_stage.run_join()
    settled(doubled)
    (again,) = [s for s in walk.stops if s.kind == place.kind]
    assert again.verdict == "good"
    qtbot.keyClick(doubled, Qt.Key.Key_N)
    assert walk.stop is None or walk.stop.kind != place.kind, "what is good is not shown again"
    assert doubled.state.folder is not None
    qtbot.waitUntil(lambda: not doubled.state.unsaved, timeout=5000)
    assert document.load(doubled.state.folder).verdicts == doubled.state.outing.verdicts
    doubled.state.undo()
    assert doubled.state.outing.verdicts == ()


def test_frames_blink_one_after_the_other_and_seams_are_drawn(qtbot: QtBot, doubled: Window, settled: Callable):
    walk, over = doubled.join_stage.walk, doubled.join_stage.view.over
    assert over is not None
    qtbot.keyClick(doubled, Qt.Key.Key_N)
    settled(doubled)
    qtbot.keyClick(doubled, Qt.Key.Key_B)
    seen: set[str] = set()

    def look() -> bool:
        seen.add("" if over.layer is None else over.layer.name)
        return {"f01.jpg", "f02.jpg", ""} <= seen

    qtbot.waitUntil(look, timeout=8000)
    qtbot.keyClick(doubled, Qt.Key.Key_B)
    assert over.layer is None
    plain = doubled.join_stage.view.grab().toImage()
    qtbot.keyClick(doubled, Qt.Key.Key_S)
    assert over.seams
    assert doubled.join_stage.view.grab().toImage() != plain
    # what a frame shows lies inside the picture, and all of them together fill most of it
    width, height = doubled.join_stage.view.size_px
    filled = np.zeros((height, width), np.uint8)
    for line in over.seams:
        cv2.fillPoly(filled, [np.asarray(line, np.int32)], 1)
    assert filled.mean() > 0.9
    assert walk.has_stop()
