"""The walk along suspects by keys: a doubled figure is shown once again, verdicts stay, frames lie over the picture."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import pytest
from PyQt6.QtCore import QEvent, QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QLabel, QPushButton
from pytestqt.qtbot import QtBot
from tests.app.conftest import JoinOnce
from tests.helpers.sets import FrameFiles

from idle_lantern.app.stages import shown_model
from idle_lantern.app.window import Window
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.masks import read_mask
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.frames.reading import read
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.outing import document
from idle_lantern.core.pictures.source import region

RED = (205, 30, 40)


def _walked_on(row_set: FrameFiles, folder: Path) -> list[Path]:
    """Three frames; somebody in red walked on between the second and the third."""
    meta = Metadata(focal_mm=24.0, sensor_width_mm=24.0 * 680 / row_set.lens.focal_px)
    files = []
    for i, path in enumerate(row_set.paths[:3]):
        picture = read(path)
        picture = replace(picture, pixels=picture.pixels.copy())
        if i:
            x, y = ((360, 330), (120, 330))[i - 1]
            cv2.rectangle(picture.pixels, (x - 7, y - 22), (x + 7, y + 22), RED, -1)
            cv2.circle(picture.pixels, (x, y - 30), 7, RED, -1)
        files.append(folder / path.name)
        write(picture, files[-1], WriteOptions(jpeg_quality=95, metadata=meta))
    return files


@pytest.fixture
def doubled(join_once: JoinOnce, row_set: FrameFiles) -> Window:
    """The figure in red stands in the picture twice."""
    return join_once("Doubled figure", lambda folder: _walked_on(row_set, folder))


def _figures(window: Window) -> int:
    """How many figures in red the picture shows."""
    return len(_places(window))


def _places(window: Window) -> list[tuple[float, float]]:
    """Where their middles are."""
    picture = window.state.picture
    assert picture is not None
    pixels = region(picture, Rectangle(0, 0, *picture.sizes[0]))[..., :3].astype(int)
    red = (pixels[..., 0] > 150) & (pixels[..., 1] < 80) & (pixels[..., 2] < 90)
    count, _labels, stats, middles = cv2.connectedComponentsWithStats(
        cv2.morphologyEx(red.astype(np.uint8), cv2.MORPH_CLOSE, np.ones((5, 5), np.uint8))
    )
    return [(middles[k][0], middles[k][1]) for k in range(1, count) if stats[k, cv2.CC_STAT_AREA] > 250]


def _stroke(window: Window, points: list[tuple[float, float]]) -> None:
    """Paint from place to place of the picture with the left button."""
    view = window.join_stage.view
    kinds = (QEvent.Type.MouseButtonPress, *[QEvent.Type.MouseMove] * (len(points) - 2), QEvent.Type.MouseButtonRelease)
    handlers = {
        QEvent.Type.MouseButtonPress: view.mousePressEvent,
        QEvent.Type.MouseMove: view.mouseMoveEvent,
        QEvent.Type.MouseButtonRelease: view.mouseReleaseEvent,
    }
    for kind, (u, v) in zip(kinds, points, strict=True):
        at = view.to_widget(QPointF(u, v))
        held = Qt.MouseButton.NoButton if kind == QEvent.Type.MouseButtonRelease else Qt.MouseButton.LeftButton
        left, plain = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
        handlers[kind](QMouseEvent(kind, at, view.mapToGlobal(at), left, held, plain))


def test_a_doubled_figure_is_found_and_shown_once_by_keys(qtbot: QtBot, doubled: Window, settled: Callable):
    walk, view = doubled.join_stage.walk, doubled.join_stage.view
    assert _figures(doubled) == 2
    assert "1 place to look at, likely a fault." in doubled.findChild(QLabel, "walk-told").text()
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


def test_a_figure_is_painted_away_on_the_picture_and_only_there_it_changes(
    qtbot: QtBot, doubled: Window, settled: Callable
):
    places = _places(doubled)
    assert len(places) == 2
    picture = doubled.state.picture
    assert picture is not None
    whole = Rectangle(0, 0, *picture.sizes[0])
    before = region(picture, whole).copy()
    qtbot.keyClick(doubled, Qt.Key.Key_D)
    u, v = places[0]
    _stroke(doubled, [(u, v - 45), (u, v - 20), (u, v), (u, v + 20), (u, v + 35)])
    settled(doubled)
    assert _figures(doubled) == 1
    joined, picture = doubled.state.joined, doubled.state.picture
    assert joined is not None
    assert picture is not None
    assert 0 < joined.report.tiles.made < joined.report.tiles.of, "only what the stroke touches"
    changed = np.argwhere((region(picture, whole) != before).any(-1))
    assert np.abs(changed[:, 1] - u).max() < 300
    # where no other frame shows the place nothing is hidden, and that is told
    count = len(doubled.state.outing.choices.masks)
    _stroke(doubled, [(30.0, 300.0), (30.0, 320.0), (30.0, 340.0)])
    assert len(doubled.state.outing.choices.masks) == count
    assert "leave a hole" in doubled.message_text()
    doubled.state.undo()
    settled(doubled)
    assert np.array_equal(region(doubled.state.picture, whole), before)


def test_a_whole_figure_is_kept_by_a_click(qtbot: QtBot, doubled: Window, settled: Callable):
    """Its outline is found; the frame that shows it is painted to be kept there, and nowhere else."""
    u, v = _places(doubled)[0]
    doubled.join_stage.view.show_place(u, v)
    qtbot.keyClick(doubled, Qt.Key.Key_F)
    _stroke(doubled, [(u, v), (u, v)])
    settled(doubled)
    (mask,) = doubled.state.outing.choices.masks
    assert doubled.state.folder is not None
    painted = read_mask(doubled.state.folder / "assets" / f"{mask.asset}.png")
    kept = painted.keep > 0
    # the figure is drawn in the frame's own file: it is covered, and little beside it
    ref = next(r for r in doubled.state.outing.frames if r.id == mask.frame)
    pixels = read(doubled.state.path_of(ref)).pixels.astype(int)
    red = (pixels[..., 0] > 150) & (pixels[..., 1] < 80) & (pixels[..., 2] < 90)
    red = cv2.resize(red.astype(np.uint8), kept.shape[::-1], interpolation=cv2.INTER_AREA) > 0
    assert (kept & red).sum() > 0.9 * red.sum()
    assert kept.sum() < 3.0 * red.sum()
    assert not (painted.hide > 0).any()
    doubled.state.undo()
    assert doubled.state.outing.choices.masks == ()


def test_one_frame_is_let_show_a_thing_and_a_place_of_ones_own_is_looked_at(
    qtbot: QtBot, doubled: Window, settled: Callable
):
    walk, view = doubled.join_stage.walk, doubled.join_stage.view
    u, v = _places(doubled)[1]
    qtbot.keyClick(doubled, Qt.Key.Key_W)
    _stroke(doubled, [(u, v), (u, v)])
    settled(doubled)
    assert walk.stop is not None
    assert "A place that you chose" in walk.told.text()
    assert not walk.acts["good"].isVisible()
    shown = walk.stop.names[0]
    qtbot.keyClick(doubled, Qt.Key.Key_T)
    qtbot.waitUntil(lambda: view.over is not None and view.over.layer is not None, timeout=5000)
    assert view.over is not None
    assert view.over.layer is not None
    assert view.over.layer.name != shown
    # the sharpest one is laid over it at once, and could be used
    qtbot.waitUntil(lambda: len(walk.layers.views) == len(walk.layers.candidates), timeout=5000)
    qtbot.keyClick(doubled, Qt.Key.Key_T, Qt.KeyboardModifier.ShiftModifier)
    best = shown_model.sharpest_of(walk.layers.candidates, walk.layers.views)
    assert best is not None
    assert view.over.layer.name == walk.layers.candidates[best].name
    assert walk.can_use()
    # whatever is offered is there to be read, in a small window too
    doubled.resize(1100, 700)
    settled(doubled)
    offered = [b for b in doubled.join_stage.findChildren(QPushButton) if b.isVisible()]
    assert len(offered) > 15
    assert [b.text() for b in offered if b.width() < b.sizeHint().width()] == []
    qtbot.keyClick(view, Qt.Key.Key_Escape)
    assert view.tool is None
    qtbot.keyClick(doubled, Qt.Key.Key_A)
    qtbot.keyClick(view, Qt.Key.Key_BracketRight)
    _stroke(doubled, [(u - 60, v - 40), (u, v), (u + 60, v + 40)])
    settled(doubled)
    joined = doubled.state.joined
    assert joined is not None
    kept = shown_model.shown_at(joined, u, v)
    assert [shown_model.shown_at(joined, u + d, v + d / 1.5) for d in (-50, -20, 20, 50)] == [kept] * 4
    assert doubled.state.history.undo_title.endswith("alone show a thing")


def test_a_walker_is_shown_nowhere_once_or_everywhere_by_keys(qtbot: QtBot, doubled: Window, settled: Callable):
    bar = doubled.join_stage.ghosts
    assert _figures(doubled) == 2
    assert bar.can_step()
    qtbot.keyClick(doubled, Qt.Key.Key_Y)
    settled(doubled)
    assert bar.has_place()
    assert "shown twice" in doubled.join_stage.walk.told.text()
    for key, held, wanted in (
        (Qt.Key.Key_O, Qt.KeyboardModifier.NoModifier, 0),
        (Qt.Key.Key_I, Qt.KeyboardModifier.NoModifier, 1),
        (Qt.Key.Key_O, Qt.KeyboardModifier.ShiftModifier, 2),
    ):
        if not bar.has_place():
            qtbot.keyClick(doubled, Qt.Key.Key_Y)
        qtbot.keyClick(doubled, key, held)
        settled(doubled)
        assert _figures(doubled) == wanted
    assert doubled.state.history.undo_title == "Show a moving thing everywhere"


def test_before_a_figure_is_healed_the_frame_without_it_is_offered(qtbot: QtBot, doubled: Window, settled: Callable):
    """Truth before invention; where nobody shows the place otherwise it is covered at once."""
    w, stage = doubled, doubled.finish_stage
    w.go("finish")
    settled(w)
    figure = _places(w)[0]
    stage.hands._heal([figure], 45.0)
    qtbot.waitUntil(lambda: stage.offer.offered is not None, timeout=20_000)
    assert not w.state.outing.finish.steps
    assert "shows something else here" in w.findChild(QLabel, "finish-offer-told").text()
    qtbot.mouseClick(w.findChild(QPushButton, "finish-offer-take"), Qt.MouseButton.LeftButton)
    settled(w)
    assert w.join_stage.isVisible()
    assert _figures(w) == 1
    assert not w.state.outing.finish.steps
    # the place is true now and shown by one frame as by the other: what is painted there is covered
    w.go("finish")
    settled(w)
    picture = w.state.picture
    assert picture is not None
    width, height = picture.sizes[0]
    stage.hands._heal([(width * 0.5, height * 0.85)], 20.0)
    qtbot.waitUntil(lambda: bool(w.state.outing.finish.steps), timeout=20_000)
    assert stage.offer.offered is None


def test_an_offered_frame_is_refused_and_the_place_covered(qtbot: QtBot, doubled: Window, settled: Callable):
    w, stage = doubled, doubled.finish_stage
    w.go("finish")
    settled(w)
    stage.hands._heal([_places(w)[0]], 45.0)
    qtbot.waitUntil(lambda: stage.offer.offered is not None, timeout=20_000)
    qtbot.mouseClick(w.findChild(QPushButton, "finish-offer-cover"), Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: bool(w.state.outing.finish.steps), timeout=20_000)
    assert stage.offer.offered is None
    assert _figures(w) == 2  # the joined picture itself stays
