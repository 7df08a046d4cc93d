"""On the joined picture: a seam dragged, a frame switched off and on, every part looked at, what is invented told below it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from msgspec import structs
from PIL import Image
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtWidgets import QCheckBox, QFileDialog
from pytestqt.qtbot import QtBot
from tests.helpers.fields import press_act
from tests.helpers.sets import FrameFiles

from idle_lantern.app.stages import shown_model
from idle_lantern.app.window import Window
from idle_lantern.core.deliver.job import TellInvented
from idle_lantern.core.inspection.viewed import Seen
from idle_lantern.core.join.report import SuspectRow

LEFT = Qt.MouseButton.LeftButton
Settled = Callable[[Window], None]


def _shown(window: Window, u: float, v: float) -> str:
    joined = window.state.joined
    assert joined is not None
    at = shown_model.shown_at(joined, u, v)
    return "" if at is None else joined.solution.frames.names[joined.solution.poses.frames[at]]


def _overlap(window: Window) -> tuple[float, float, float]:
    """A row of the picture, and the ends of what its first two frames both show there."""
    joined = window.state.joined
    poses, canvas = joined.solution.poses, joined.canvas
    v = canvas.height / 2
    both = [u for u in range(0, canvas.width, 4) if {0, 1} <= set(shown_model.frames_showing(poses, canvas, u, v))]
    return v, both[0], both[-1]


def test_a_seam_goes_where_it_is_dragged_and_back(qtbot: QtBot, joined: Window, settled: Settled):
    joined.go("join")
    view = joined.join_stage.view
    v, start, end = _overlap(joined)
    outer = [_shown(joined, u, v) for u in (start + 2, end - 2)]
    assert outer[0] != outer[1]
    reach = end - 0.2 * (end - start)
    assert _shown(joined, reach, v) == outer[1]
    qtbot.keyClick(joined, Qt.Key.Key_V)
    view.show_place((start + end) / 2, v)
    places = [view.to_widget(QPointF(u, v)).toPoint() for u in np.linspace(start + 6, reach, 6)]
    qtbot.mousePress(view, LEFT, pos=places[0])
    for place in places[1:]:
        qtbot.mouseMove(view, place)
    qtbot.mouseRelease(view, LEFT, pos=places[-1])
    settled(joined)
    assert joined.state.history.undo_title.startswith("Move a seam")
    assert _shown(joined, reach - 12, v) == outer[0]
    joined.state.undo()
    settled(joined)
    assert _shown(joined, reach - 12, v) == outer[1]
    # beyond what the frame shows it is told, and nothing is done
    titles = joined.state.history.undo_title
    far = view.to_widget(QPointF(end + 60, v)).toPoint()
    qtbot.mousePress(view, LEFT, pos=places[0])
    qtbot.mouseMove(view, far)
    qtbot.mouseRelease(view, LEFT, pos=far)
    assert "does not reach that far" in joined.message_text()
    assert joined.state.history.undo_title == titles
    qtbot.keyClick(view, Qt.Key.Key_Escape)


def test_a_frame_is_switched_off_at_its_place_and_on_by_its_link(qtbot: QtBot, joined: Window, settled: Settled):
    stage, view = joined.join_stage, joined.join_stage.view
    before = joined.state.joined
    v, _start, end = _overlap(joined)
    u = end - 2
    name = _shown(joined, u, v)
    qtbot.keyClick(joined, Qt.Key.Key_W)
    view.show_place(u, v)
    qtbot.mouseClick(view, LEFT, pos=view.to_widget(QPointF(u, v)).toPoint())
    qtbot.keyClick(view, Qt.Key.Key_Escape)
    qtbot.keyClick(joined, Qt.Key.Key_X)
    settled(joined)
    assert f"{name} shows nowhere now" in joined.message_text()
    after = joined.state.joined
    assert after is not before
    assert _shown(joined, u, v) != name
    row = next(r for r in after.report.frames if r.file.endswith(name))
    assert row.used, "it still ties the others"
    assert not row.shown_px
    assert after.solution is before.solution, "nothing was matched anew"
    assert f"{name}: switched off in the picture." in stage.about.left_out.text()
    assert joined.state.outing.frames_to_join() == joined.state.outing.frames
    press_act(qtbot, stage.about.left_out, "frame-on")
    settled(joined)
    assert joined.state.outing.choices.off == ()
    assert _shown(joined, u, v) == name


def test_every_part_is_looked_at_and_that_is_kept(qtbot: QtBot, joined: Window, settled: Settled):
    stage = joined.join_stage
    stage.view.fit()
    assert stage.seen.told.text() == ""
    assert stage.seen.unseen() == []
    steps = 0
    while stage.seen.told.text() != "all seen at 100 %":
        before = stage.seen.seen.share
        qtbot.keyClick(joined, Qt.Key.Key_PageDown)
        qtbot.waitUntil(lambda before=before: stage.seen.seen.share > before, timeout=5000)
        if steps == 0:
            assert "% seen at 100 %" in stage.seen.told.text()
            assert joined.map.join.unseen, "what is left is marked on the map"
        steps += 1
        assert steps < 60
    assert steps > 1
    assert joined.map.join.unseen == ()
    qtbot.keyClick(joined, Qt.Key.Key_PageDown)
    assert "All of the picture was looked at" in joined.message_text()
    stage.seen.save()
    picture = joined.state.joined
    kept = picture.picture.with_name("seen.json")
    again = Seen.of(picture.picture, (picture.canvas.width, picture.canvas.height), picture.crop, kept)
    assert again.share == 1.0


def test_what_was_invented_is_told_below_the_picture_that_is_written(
    qtbot: QtBot, joined: Window, settled: Settled, tmp_path: Path
):
    stage, result = joined.deliver_stage, joined.state.joined
    crop = result.crop
    joined.go("deliver")
    box = stage.findChild(QCheckBox, "tell-invented")
    assert not box.isVisible(), "nothing was"
    sky = SuspectRow(crop.left + 100.0, crop.top + 40.0, 200.0, 80.0, "invented", 0.99, (), "Invented", 0.008)
    suspects = (*(result.report.suspects or ()), sky)
    joined.state.joined = replace(result, report=structs.replace(result.report, suspects=suspects))
    joined.state.changed.emit({"join"})
    settled(joined)
    assert box.isVisible()
    qtbot.mouseClick(box, LEFT, pos=QPoint(8, box.height() // 2))
    assert TellInvented() in joined.state.outing.delivery.operations
    stage.write_to(tmp_path / "told.png")
    settled(joined)
    with Image.open(tmp_path / "told.png") as image:
        assert image.size[0] == crop.width
        assert image.size[1] > crop.height + 60
    assert box.isChecked()
    joined.state.undo()
    assert not box.isChecked()


def test_under_the_tripod_a_sphere_is_blurred_or_marked_as_it_is_delivered(
    qtbot: QtBot,
    window: Window,
    settled: Settled,
    sphere_set: FrameFiles,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
):
    stage = window.deliver_stage
    assert not stage.nadir_form.isVisibleTo(stage), "a row of three frames shows no tripod"
    window.outings.begin("Sphere")
    window.frames_stage.bringing.bring(list(sphere_set.paths))
    settled(window)
    window.go("join")
    window.join_stage.run_join()
    settled(window)
    window.go("deliver")
    settled(window)
    assert stage.nadir_form.isVisible()

    def choose(word: str) -> None:
        stage.nadir.setCurrentIndex(stage.nadir.findData(word))
        stage.nadir.activated.emit(stage.nadir.currentIndex())
        settled(window)

    def written(name: str) -> np.ndarray:
        stage.write_to(tmp_path / name)
        settled(window)
        with Image.open(tmp_path / name) as image:
            return np.asarray(image.convert("RGB")).astype(int)

    joined, rows = written("joined.png"), None
    choose("blur")
    assert window.state.outing.delivery.nadir.how == "blur"
    blurred = written("blurred.png")
    rows = round(len(joined) * 12 / 180)
    assert np.array_equal(joined[: -rows - 2], blurred[: -rows - 2])
    assert (
        np.abs(np.diff(blurred[-rows // 2 :], axis=1)).mean()
        < 0.3 * np.abs(np.diff(joined[-rows // 2 :], axis=1)).mean()
    )
    mark = tmp_path / "mark.png"
    Image.new("RGBA", (300, 300), (200, 30, 160, 255)).save(mark)
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_a, **_k: (str(mark), ""))
    choose("mark")
    assert np.abs(written("marked.png")[-3:] - [200, 30, 160]).max() < 3
    # a file that is no picture is told, and the choice stays what it was
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_a, **_k: (str(Path(__file__)), ""))
    choose("mark")
    assert "Is no picture" in window.message_text()
    assert window.state.outing.delivery.nadir.how == "mark"
    assert stage.tell_invented.isVisible(), "the margin tells what was covered"
    for _ in range(2):
        window.state.undo()
    assert window.state.outing.delivery.nadir is None
    assert stage.nadir.currentData() == ""
