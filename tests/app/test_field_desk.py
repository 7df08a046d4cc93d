"""The field desk through the real window: a whole run by keys into a watched folder, with faults that are found and mended."""

from __future__ import annotations

import math
import shutil
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

import pytest
from PIL import Image, ImageFilter
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QCheckBox, QFileDialog, QInputDialog, QPushButton
from pytestqt.qtbot import QtBot
from tests.helpers.sets import FrameFiles

from idle_lantern.app.planning import pupil_model
from idle_lantern.app.planning.pupil_dialog import PupilDialog
from idle_lantern.app.stages import watching as watching_module
from idle_lantern.app.stages.checklist_dialog import CheckListDialog
from idle_lantern.app.window import Window
from idle_lantern.core.calibration import pupil
from idle_lantern.core.outing import edits
from idle_lantern.core.plan.card import card_text
from idle_lantern.core.shoot.shooting import lens_showing, take_into
from idle_lantern.simulator.practice import practice_for

Settled = Callable[[Window], None]


@pytest.fixture
def watching(qtbot: QtBot, window: Window, settled: Settled, tmp_path: Path, monkeypatch) -> Iterator[Window]:
    """Field with a folder watched, chosen by W."""
    window.state.apply(edits.set_rig("Small", width_px=600, height_px=400, focal_mm=24.0))
    window.state.apply(edits.set_target_field("Narrow", left_deg=-45.0, right_deg=45.0, low_deg=-20.0, high_deg=20.0))
    window.go("field")
    settled(window)
    folder = tmp_path / "card"
    folder.mkdir()
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_a, **_k: str(folder))
    qtbot.keyClick(window, Qt.Key.Key_W)
    assert window.context.watcher.active
    yield window
    window.context.watcher.stop()


def _files(window: Window) -> int:
    return len(window.state.outing.frames)


def test_a_guided_run_by_keys_finds_two_faults_and_ends_whole(
    qtbot: QtBot, watching: Window, settled: Settled, tmp_path: Path
):
    stage, state = watching.field_stage, watching.state
    planned = len(state.plan.frames)
    assert 3 <= planned <= 5
    for number in (1, 2):
        qtbot.keyClick(watching, Qt.Key.Key_Space)
        qtbot.waitUntil(lambda n=number: _files(watching) == n, timeout=30_000)
        assert stage.watching.verdict.text().startswith("✓"), stage.watching.verdict.text()
        assert state.outing.frames[-1].number == number
        assert state.guide.next_number == number + 1
    # the third is out of focus: told, and the frame stays the next one
    devices, frame = stage.shooter.devices(), state.plan.frame(3)
    assert frame is not None
    aside = tmp_path / "aside"
    aside.mkdir()
    taken = take_into(devices, aside, frame, state.plan)
    with Image.open(taken) as image:
        image.filter(ImageFilter.GaussianBlur(2.5)).save(
            tmp_path / "card" / "soft.jpg", quality=95, exif=image.getexif()
        )
    qtbot.waitUntil(lambda: _files(watching) == 3, timeout=30_000)
    assert "softer than its neighbours" in stage.watching.verdict.text()
    assert stage.watching.verdict.text().startswith("↺")
    assert state.guide.next_number == 3
    qtbot.keyClick(watching, Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: _files(watching) == 4, timeout=30_000)
    assert stage.watching.verdict.text().startswith("✓ Frame 3"), stage.watching.verdict.text()
    # a file that is no picture is told and takes nothing away
    (tmp_path / "card" / "bad.jpg").write_bytes(b"no picture " * 50)
    qtbot.waitUntil(lambda: "bad.jpg cannot be used" in watching.message_text(), timeout=15_000)
    while state.guide.next_number is not None:
        before = _files(watching)
        qtbot.keyClick(watching, Qt.Key.Key_Space)
        qtbot.waitUntil(lambda n=before: _files(watching) == n + 1, timeout=30_000)
        settled(watching)
    assert state.guide.shot == planned
    assert "hole" not in stage.watching.told.text()
    # the directions found serve the join, which uses the sharp frame of each place
    assert [r.number for r in state.outing.frames_to_join()] == [1, 2, *range(3, planned + 1)]
    assert all(r.sha256 and r.yaw_deg is not None for r in state.outing.frames)
    qtbot.keyClick(watching, Qt.Key.Key_W)
    assert not watching.context.watcher.active
    watching.trigger("join.run")
    settled(watching)
    assert state.joined is not None
    assert len(state.joined.frame_ids) == planned


def test_watching_ends_with_its_outing_and_with_the_window(
    qtbot: QtBot, watching: Window, settled: Settled, tmp_path: Path
):
    stage = watching.field_stage
    assert "no longer" in stage.watching.button.text()
    first = watching.state.outing.id
    watching.outings.begin("Another")
    assert watching.state.outing.id != first
    assert not watching.context.watcher.active
    assert "Watch a folder" in stage.watching.button.text()
    watching.go("field")
    settled(watching)
    stage.watching.watch(tmp_path / "gone")
    qtbot.waitUntil(lambda: "cannot be looked at" in watching.message_text(), timeout=10_000)
    (tmp_path / "gone").mkdir()
    qtbot.keyClick(watching, Qt.Key.Key_W)
    assert not watching.context.watcher.active
    stage.watching.watch(tmp_path / "gone")
    watching.close()
    assert not watching.context.watcher.active


def test_the_no_parallax_point_is_measured_used_and_kept(
    qtbot: QtBot, window: Window, settled: Settled, tmp_path: Path, monkeypatch
):
    """Practice with the simulated camera: its true setting is known to the test alone, and told within a millimetre."""
    monkeypatch.setattr(pupil, "_FEATURES", 1000)  # a quarter of them: what is asked here is the window
    lens = window.context.gear.entries("lens")[0]
    window.plan_stage.commands.take_gear("lens", lens.name)
    window.state.apply(edits.set_rig("Small", width_px=600, height_px=400, focal_mm=24.0, lens_name=lens.name))
    rig = window.state.plan.rig
    dialog = PupilDialog(window.context, window)
    qtbot.addWidget(dialog)
    dialog.show()
    assert not dialog.use.isEnabled()
    for wanted in (45.0, 75.0):
        monkeypatch.setattr(QInputDialog, "getDouble", lambda *_a, mm=wanted, **_k: (mm, True))
        qtbot.mouseClick(dialog.findChild(QPushButton, "pupil-practise"), Qt.MouseButton.LeftButton)
        settled(window)
    practice = practice_for(rig, pupil_model.near_m(window.state.plan))
    true = practice.true_mm
    # as the program advises: one more where it says
    monkeypatch.setattr(QInputDialog, "getDouble", lambda *a, **_k: (a[3], True))
    qtbot.mouseClick(dialog.findChild(QPushButton, "pupil-practise"), Qt.MouseButton.LeftButton)
    settled(window)
    assert dialog.found is not None
    assert dialog.found.setting_mm == pytest.approx(true, abs=1.0)
    assert dialog.table.rowCount() == 3
    assert "px" in dialog.table.item(0, 3).text()
    # a pair of the same photograph twice tells nothing: said in a sentence, and dropped again
    same = dialog.pairs[0].left
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *_a, **_k: ([str(same)] * 2, ""))
    qtbot.mouseClick(dialog.findChild(QPushButton, "pupil-add"), Qt.MouseButton.LeftButton)
    settled(window)
    assert len(dialog.pairs) == 4
    qtbot.mouseClick(dialog.findChild(QPushButton, "pupil-drop"), Qt.MouseButton.LeftButton)
    settled(window)
    assert dialog.found.setting_mm == pytest.approx(true, abs=1.0)
    qtbot.mouseClick(dialog.use, Qt.MouseButton.LeftButton)
    assert window.state.plan.rig.rail_mm == pytest.approx(true, abs=1.0)
    kept = window.context.gear.get("lens", rig.lens_name)
    assert kept is not None
    assert kept.facts.rail_at(24.0)[0] == window.state.plan.rig.rail_mm
    assert rig.lens_name in window.message_text()
    window.state.undo()
    assert window.state.plan.rig.rail_mm == rig.rail_mm


def test_a_run_by_hand_with_ghost_and_meter(qtbot: QtBot, window: Window, settled: Settled):
    """The camera is turned by keys until the meter says that the overlap is as wanted; so the whole row is shot and joins."""
    window.state.apply(edits.set_rig("Small", width_px=600, height_px=400, focal_mm=24.0))
    window.state.apply(edits.set_target_field("Narrow", left_deg=-24.0, right_deg=24.0, low_deg=-12.0, high_deg=12.0))
    window.state.apply(edits.set_part("support", "By hand", kind="hand"))
    window.go("field")
    settled(window)
    stage, state = window.field_stage, window.state
    assert stage.where["yaw"].text() == "no scale"
    assert not stage.hand.words.isVisible(), "there is no frame before the first"
    count = 0
    while state.guide.next_number is not None:
        if count:
            settled(window)
            assert "go on turning" in stage.hand.words.text()
            presses = 0
            while "good" not in stage.hand.words.text():
                qtbot.keyClick(window, Qt.Key.Key_L)
                presses += 1
                assert presses < 40, stage.hand.words.text()
            # as near to the planned place as keys go: the turn that is left shrinks below one press
            while stage.turn.text().startswith("Turn right") and presses < 40:
                before = stage.turn.text()
                qtbot.keyClick(window, Qt.Key.Key_L)
                presses += 1
                if not stage.turn.text().startswith("Turn right"):
                    assert stage.turn.text() != before
            assert "third line" in stage.hand.words.text()
            settled(window)
            assert stage.finder._ghost is not None
        qtbot.keyClick(window, Qt.Key.Key_Space)
        count += 1
        qtbot.waitUntil(lambda n=count: _files(window) == n, timeout=30_000)
        settled(window)
    assert count == len(state.plan.frames)
    assert all(ref.yaw_deg is not None for ref in state.outing.frames)
    # all that is missing is shot where it was planned, and not again and again where the hand points
    state.apply(edits.Edit("Anew", lambda o: replace(o, frames=())))
    qtbot.keyClick(window, Qt.Key.Key_Space, Qt.KeyboardModifier.ShiftModifier)
    qtbot.waitUntil(lambda: _files(window) == count, timeout=60_000)
    settled(window)
    assert len({ref.yaw_deg for ref in state.outing.frames}) == count


def test_head_and_camera_take_their_time_and_count_it_down(qtbot: QtBot, window: Window, settled: Settled):
    window.context.keep(replace(window.context.settings, quick=False))
    window.state.apply(edits.set_part("run", "Slow", settle_s=0.5, delay_s=0.6, turn_deg_per_s=90.0))
    window.go("field")
    settled(window)
    told: list[str] = []
    window.field_stage.shooter.counted.connect(lambda c: told.append("" if c is None else c.doing))
    begun = time.monotonic()
    qtbot.keyClick(window, Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: window.field_stage.countdown.isVisible(), timeout=5000)
    qtbot.waitUntil(lambda: _files(window) == 1, timeout=30_000)
    settled(window)
    assert time.monotonic() - begun > 1.0, "half a second to come to rest, and the shutter's delay"
    # an exposure of a two-hundredth of a second is over before it is told
    assert [d for d in dict.fromkeys(told) if d and d != "exposing"] == ["settling", "delay"]
    assert told[-1] == ""
    assert not window.field_stage.countdown.isVisible()
    # stopping while it counts takes no frame
    told.clear()
    window.state.apply(edits.set_part("run", "Slower", delay_s=20.0))
    qtbot.keyClick(window, Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: "delay" in told[-3:], timeout=10_000)
    assert "Shutter opens in" in window.field_stage.countdown.text()
    window.trigger("work.cancel")
    settled(window)
    assert _files(window) == 1
    box = window.findChild(QCheckBox, "field-quick")
    qtbot.mouseClick(box, Qt.MouseButton.LeftButton, pos=QPoint(8, box.height() // 2))
    assert window.context.settings.quick == box.isChecked()


def test_frames_that_arrive_are_heard_and_tones_can_be_off(
    qtbot: QtBot, watching: Window, settled: Settled, monkeypatch
):
    heard: list[str] = []
    monkeypatch.setattr(watching_module, "play", heard.append)
    qtbot.keyClick(watching, Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: _files(watching) == 1, timeout=30_000)
    assert heard == ["good"]
    watching.trigger("field.tones")
    assert "Tones are off" in watching.message_text()
    qtbot.keyClick(watching, Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: _files(watching) == 2, timeout=30_000)
    assert heard == ["good"]


def test_the_check_list_is_ticked_kept_and_stands_on_the_card(qtbot: QtBot, window: Window):
    dialog = CheckListDialog(window.context, window)
    qtbot.addWidget(dialog)
    dialog.show()
    first = dialog.boxes[0]
    words = first.text()
    first.click()
    assert window.state.outing.checked == (words,)
    dialog.add_own("Thermos filled")
    assert window.state.outing.brief.run.own_checks == ("Thermos filled",)
    assert "[ ] Thermos filled" in card_text(window.state.plan)
    assert "1 of" in dialog.left.text()
    assert dialog.boxes[0].isChecked()
    dialog.boxes[0].click()
    assert window.state.outing.checked == ()
    dialog.drop_own()
    assert window.state.outing.brief.run.own_checks == ()
    dialog.accept()


def test_at_dusk_the_frames_get_darker_and_cautions_are_those_of_the_plan(
    qtbot: QtBot, window: Window, settled: Settled
):
    """By the light that the sensor gets: a fifth of a stop a minute (common practice, no source)."""
    window.go("field")
    settled(window)
    stage = window.field_stage
    assert stage.caution.text().endswith("Local rules and trained people decide.")
    dusk = next(i for i in range(stage.stand_ins.weather.count()) if "Dusk" in stage.stand_ins.weather.itemText(i))
    stage.stand_ins.weather.setCurrentIndex(dusk)
    stage.stand_ins.weather.activated.emit(dusk)
    settled(window)
    devices, light = stage.shooter.devices(), []
    for shots in (0, 100):  # ten minutes apart
        devices.shots = shots
        devices.turn_to(0, 0)
        light.append(float(devices._look(devices.shots, devices._reached).light.mean()))
    assert math.log2(light[0] / light[1]) == pytest.approx(2.0, abs=0.15)
    # in the room there are cables to fall over, and no tides
    window.state.apply(edits.set_part("scene", "Indoors", sky="indoors"))
    settled(window)
    assert "Cables" in stage.caution.text()


def test_frames_of_another_lens_are_told_at_once_and_drawn_as_they_are(
    qtbot: QtBot, watching: Window, settled: Settled, row_set: FrameFiles, tmp_path: Path
):
    """Frames of 48 degrees were drawn at the planned 37, so that everything stood double, and nothing was said."""
    stage, state = watching.field_stage, watching.state
    for n, path in enumerate(row_set.paths[:2], 1):
        shutil.copy(path, tmp_path / "card" / path.name)
        qtbot.waitUntil(lambda n=n: _files(watching) == n, timeout=30_000)
        settled(watching)
    verdicts = stage.watching.list
    assert verdicts.count() == 2
    first, second = verdicts.item(1).text(), verdicts.item(0).text()
    across, up = (math.degrees(a) for a in row_set.lens.field_rad())
    assert f"shows {across:.0f}° × {up:.0f}° where the plan has" in first
    assert "where the plan has" not in second, "told once"
    assert not verdicts.item(0).icon().isNull()
    ref = state.outing.frames[0]
    assert ref.field_deg == pytest.approx((across, up), abs=0.2)
    assert ref.told_by in ("matches", "plan")
    drawn = lens_showing(ref.field_deg, state.outing.rig.lens())
    assert [math.degrees(a) for a in drawn.field_rad()] == pytest.approx([across, up], abs=0.3)
    verdicts.setCurrentRow(1)
    assert state.selected_id == ref.id
    watching.outings.begin("Another")
    assert verdicts.count() == 0
