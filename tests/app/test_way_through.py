"""Plan, shoot, join, crop, save: through the real window with mouse and keys, then against the truth."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QFileDialog, QPushButton
from pytestqt.qtbot import QtBot
from tests.helpers.sets import FrameFiles, rms

from idle_lantern.app import join_runner
from idle_lantern.app.settings import Settings
from idle_lantern.app.window import Window
from idle_lantern.core.frames.reading import read
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.join import pipeline, service
from idle_lantern.core.outing import document, edits
from idle_lantern.simulator.truth import registration_error_px

LEFT = Qt.MouseButton.LeftButton


def _press(qtbot: QtBot, window: Window, name: str) -> None:
    button = window.findChild(QPushButton, name)
    assert button is not None, name
    assert button.isVisible(), name
    qtbot.mouseClick(button, LEFT)


def _type(qtbot: QtBot, window: Window, field: str, text: str) -> None:
    edit = window.plan_stage.reveal(field)
    edit.setFocus()
    edit.selectAll()
    qtbot.keyClicks(edit, text)
    qtbot.keyClick(edit, Qt.Key.Key_Return)


def test_from_plan_to_saved_picture(
    qtbot: QtBot, window: Window, settled: Callable, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
):
    # plan: type the field, the grid follows
    _type(qtbot, window, "left_deg", "-60")
    _type(qtbot, window, "right_deg", "45°")
    _type(qtbot, window, "overlap", "2/5")
    plan = window.state.plan
    assert (plan.target_field.left_deg, plan.target_field.right_deg, plan.target_field.overlap) == (-60, 45, 0.4)
    qtbot.mouseClick(window.plan_stage.page_buttons[-1], LEFT)
    assert window.plan_stage.listing.table.rowCount() == len(plan.frames) == 4
    assert "4 frames" in window.plan_stage.count.text()

    # field: the first by key, the rest by the button
    _press(qtbot, window, "go-field")
    assert window.stage == "field"
    qtbot.waitUntil(lambda: window.field_stage.can_shoot(), timeout=5000)
    truth: dict[int, np.ndarray] = {}
    devices = window.field_stage.shooter.devices()
    original = devices.turn_to

    def remembering(yaw: float, pitch: float, roll: float = 0.0):
        reading = original(yaw, pitch, roll)
        number = min(plan.frames, key=lambda f: abs(f.yaw_deg - yaw)).number
        truth[number] = devices._reached
        return reading

    monkeypatch.setattr(devices, "turn_to", remembering)
    qtbot.keyClick(window, Qt.Key.Key_Space)
    settled(window)
    assert [r.number for r in window.state.outing.frames] == [1]
    _press(qtbot, window, "shoot-all")
    settled(window)
    assert window.state.guide.missing == ()
    assert "Nothing is missing" in window.field_stage.missing.text()

    # frames: look at one
    _press(qtbot, window, "go-frames")
    window.frames_stage.list.setCurrentRow(2)
    settled(window)
    assert window.frames_stage.facts["size"].text().startswith("400 × 600 px")
    assert window.state.selected == 3

    # join: by key, watch the rough one come first
    rough: list[tuple[int, tuple[int, int]]] = []
    window.context.joins.rough.connect(lambda shown: rough.append((shown.source.sizes[0][0], shown.size)))
    _press(qtbot, window, "go-join")
    settled(window)
    assert window.stage == "join"
    assert window.state.joined is not None
    full = (window.state.joined.canvas.width, window.state.joined.canvas.height)
    assert len(rough) == 2, "once as planned, once before fine registration"
    assert all(width <= 1.02 * full[0] for width, _size in rough), "a first look is no larger than the picture"
    assert rough[-1][1] == pytest.approx(full, rel=0.02), "it stands for the full size"
    assert window.join_stage.view.source is window.state.picture, "the full picture is shown at last"
    assert "of 4" in window.join_stage.about.facts["frames"].text()
    assert window.join_stage.status.text().startswith("Joined,")

    # the links lie on the map between neighbours, and nowhere else than in Join
    links = window.map.join.links
    assert len(links) >= 3
    assert window.map.show_links
    ends = {round(p.x()) for a, b, _ in links for p in (a, b)}
    assert all(min(abs(e - f.yaw_deg) for f in plan.frames) < 2 for e in ends)

    # on to Finish, which may stay as joined, and to Deliver: crop is on; choose PNG and write
    _press(qtbot, window, "go-finish")
    assert window.stage == "finish"
    settled(window)
    _press(qtbot, window, "finish-go-on")
    window.findChild(QComboBox, "format").setCurrentIndex(1)
    target = tmp_path / "wide.png"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(target), ""))
    _press(qtbot, window, "write")
    settled(window)
    picture = read(target)
    crop = window.state.joined.crop
    assert (picture.width, picture.height) == (crop.width, crop.height)
    assert picture.alpha is None
    assert str(target) in window.deliver_stage.status.text()

    # truth: registration of what the window joined
    solution = window.state.solution
    assert solution is not None
    numbers = [window.state.outing.frames[f].number for f in solution.poses.frames]
    lens: Lens = devices.camera.lens
    errors = registration_error_px(
        lens, [truth[n] for n in numbers], list(solution.poses.lenses), list(solution.poses.world_from_camera)
    )
    assert rms(errors) < 0.05

    # the outing on disk opens to the same state, with its picture
    window.state.save_now()
    folder = window.state.folder
    assert folder is not None
    report = json.loads((folder / document.PICTURES / "joined.json").read_text())
    assert report["schema"] == "idle-lantern/join-report/1"
    again = Window(Settings())
    qtbot.addWidget(again)
    again.show()
    assert again.open_outing(folder, "join")
    settled(again)
    assert again.state.outing == window.state.outing
    assert again.state.joined is not None
    assert again.state.joined.crop == crop
    assert not again.state.join_is_stale


def test_pictures_of_your_own_are_joined_and_lie_on_the_map(
    qtbot: QtBot, window: Window, settled: Callable, row_set: FrameFiles
):
    """Brought in without a plan and in any order: joined, with their outlines on the map."""
    window.frames_stage.bringing.bring([row_set.paths[i] for i in (3, 1, 2)])
    settled(window)
    window.go("join")
    window.join_stage.run_join()
    settled(window)
    assert window.state.joined is not None
    assert len(window.map.join.shapes) == 3
    assert "3 of 3" in window.join_stage.about.facts["frames"].text()


def test_stopping_a_join_leaves_nothing_half_written(qtbot: QtBot, window: Window, settled: Callable):
    window.go("field")
    window.field_stage.shoot_all()
    settled(window)
    window.go("join")
    window.join_stage.run_join()
    qtbot.waitUntil(lambda: window.tasks.shown is not None and window.tasks.shown.clock.fraction > 0.1, timeout=30_000)
    qtbot.waitUntil(lambda: window.work_line.isVisible(), timeout=5000)
    _press(qtbot, window, "stop")
    settled(window)
    assert window.state.joined is None
    folder = window.state.folder
    assert folder is not None
    assert not list(folder.glob(f"{document.PICTURES}/*"))
    assert window.join_stage.can_join()


def test_a_join_that_fails_says_why(qtbot: QtBot, window: Window, settled: Callable, tmp_path: Path):
    from PIL import Image

    for i in range(2):
        Image.fromarray(np.full((300, 400, 3), 90 + 20 * i, np.uint8)).save(tmp_path / f"plain{i}.jpg")
    window.frames_stage.bringing.bring([tmp_path / "plain0.jpg", tmp_path / "plain1.jpg"])
    settled(window)
    assert len(window.state.outing.frames) == 2
    window.go("join")
    window.join_stage.run_join()
    settled(window)
    assert "enough detail to be matched" in window.message_text()
    assert window.state.joined is None


def test_an_opened_outing_takes_another_projection_without_matching(
    qtbot: QtBot, window: Window, settled: Callable, monkeypatch: pytest.MonkeyPatch
):
    _type(qtbot, window, "left_deg", "-40")
    _type(qtbot, window, "right_deg", "40")
    window.go("field")
    qtbot.waitUntil(lambda: window.field_stage.can_shoot(), timeout=5000)
    window.field_stage.shoot_all()
    settled(window)
    window.go("join")
    window.join_stage.run_join()
    settled(window)
    width = window.state.joined.canvas.width
    assert window.state.plan.cost.from_joins == 1  # what the join took is known to the next plan
    drawn = window.map.join.links
    assert drawn
    folder = window.state.folder
    window.close()

    again = Window(Settings())
    qtbot.addWidget(again, before_close_func=lambda w: w.tasks.cancel_all())
    again.show()
    assert again.open_outing(folder, "join")
    settled(again)
    assert again.state.joined.canvas.width == width
    assert again.state.solution is not None
    assert [quality for _a, _b, quality in again.map.join.links] == pytest.approx([q for _a, _b, q in drawn])
    assert "rectilinear" in again.join_stage.about.facts["lens"].text()

    def never(*_a: object, **_k: object) -> None:
        raise AssertionError("frames were matched again")

    monkeypatch.setattr(join_runner, "_WORKER", service)  # in this process, where solving can be forbidden
    monkeypatch.setattr(pipeline, "solve", never)
    again.state.apply(edits.choose("Choose the sphere", projection="equirectangular"))
    settled(again)
    assert again.state.joined.canvas.projection.name == "equirectangular"
    assert again.message_text() == "" or "fault" not in again.message_text()
    again.tasks.cancel_all()
    again.close()
