"""Frames through the real window: a card with runs, a finding acted on, repeats chosen, brackets joined."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import cv2
import numpy as np
import pytest
from PIL import Image
from PyQt6.QtCore import QPointF, Qt, QTimer
from PyQt6.QtWidgets import QApplication, QLabel
from pytestqt.qtbot import QtBot
from tests.helpers.fields import retype
from tests.helpers.sets import FrameFiles

from idle_lantern.app.planning.gear_dialog import GearDialog
from idle_lantern.app.stages import join_request_model as model
from idle_lantern.app.stages.treatments_dialog import TreatmentsDialog
from idle_lantern.app.widgets.runs_dialog import APART, HERE, RunLine, RunsDialog
from idle_lantern.app.widgets.tables import pixels_of
from idle_lantern.app.window import Window
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.reading import read
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.outing import document, edits
from idle_lantern.simulator.camera import SimulatedCamera
from idle_lantern.simulator.cards import CardRun, round_sweep, write_card

CAMERA = SimulatedCamera(Lens("rectilinear", 480, 420, 520), 24.0, 21.0)


@pytest.fixture(scope="module")
def card(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Five single frames, one of them soft, then two repeated positions, hands about each run."""
    folder = tmp_path_factory.mktemp("card")
    runs = [
        CardRun(round_sweep(-60, 5, 28), bookends="hand"),
        CardRun(round_sweep(20, 2, 26), repeats=2, pause_s=200),
    ]
    shots = write_card(folder, CAMERA, runs)
    soft = folder / [s.name for s in shots if s.run == 0 and s.role == "single"][2]
    with Image.open(soft) as image:
        exif = image.info["exif"]
        image.load()
    Image.fromarray(cv2.GaussianBlur(np.asarray(image), (0, 0), 1.5)).save(soft, quality=93, exif=exif)
    return folder


def _answer(then: Callable[[RunsDialog], None]) -> None:
    """Act on the dialog of runs when it has come up."""

    def look() -> None:
        dialog = QApplication.activeModalWidget()
        if isinstance(dialog, RunsDialog):
            then(dialog)
        else:
            QTimer.singleShot(50, look)

    QTimer.singleShot(50, look)


def test_a_card_comes_in_run_by_run_and_a_soft_frame_is_left_out(
    qtbot: QtBot, window: Window, settled: Callable[[Window], None], card: Path
):
    seen: list[str] = []

    def first_only(dialog: RunsDialog) -> None:
        seen.extend(box.text() for box in dialog.boxes)
        dialog.boxes[1].setChecked(False)
        qtbot.mouseClick(dialog.here, Qt.MouseButton.LeftButton)

    _answer(first_only)
    window.go("frames")
    window.frames_stage.bringing.bring([card])
    qtbot.waitUntil(lambda: len(window.state.outing.frames) == 5, timeout=60_000)
    settled(window)
    assert len(seen) == 2
    assert "5 positions" in seen[0]
    assert "2 positions taken again" in seen[1]
    assert "2 frames with a hand" in window.message_text()

    stage = window.frames_stage
    found = stage.findings
    window.activateWindow()  # it was the dialog, and no window manager is there to give it back
    qtbot.waitUntil(window.isActiveWindow)
    qtbot.keyClick(window, Qt.Key.Key_L)
    qtbot.waitUntil(lambda: found.told.text() != "", timeout=60_000)
    assert found.list.count() == 1, found.told.text()
    qtbot.keyClick(window, Qt.Key.Key_N)
    settled(window)
    assert "Softer than its neighbours" in found.list.item(0).text()
    assert stage.title.text() in found.list.item(0).text()
    qtbot.waitUntil(lambda: stage.view.zoom == pytest.approx(1 / stage.view.devicePixelRatioF()))
    soft = window.state.selected_id
    qtbot.mouseClick(found.cure_button, Qt.MouseButton.LeftButton)
    assert soft in window.state.outing.choices.left_out
    assert not found.cure_button.isVisible()
    window.state.undo()
    assert soft not in window.state.outing.choices.left_out
    assert found.cure_button.text() == "Leave it out"
    window.state.apply(edits.remove_frames([window.state.outing.frames[0].id]))
    assert found.told.text().startswith("Frames came or went")


def test_a_snapshot_between_runs_is_not_ticked(qtbot: QtBot):
    dialog = RunsDialog([RunLine("a sweep", True), RunLine("a snapshot", False)], "")
    qtbot.addWidget(dialog)
    assert dialog.chosen == [0]
    dialog.boxes[0].setChecked(False)
    assert not dialog.here.isEnabled()


@pytest.mark.parametrize(("ticked", "usual"), [([0], "here"), ([0, 1], "apart")])
def test_return_takes_the_runs_as_is_usual(qtbot: QtBot, ticked: list[int], usual: str):
    """Return closed the dialog and took nothing."""
    dialog = RunsDialog([RunLine("one", True), RunLine("other", True)], "")
    qtbot.addWidget(dialog)
    dialog.show()
    for k, box in enumerate(dialog.boxes):
        box.setChecked(k in ticked)
    qtbot.keyClick(dialog.boxes[0], Qt.Key.Key_Return)
    assert dialog.result() == {"here": HERE, "apart": APART}[usual]


def test_each_run_becomes_an_outing(qtbot: QtBot, window: Window, settled: Callable[[Window], None], card: Path):
    _answer(lambda dialog: dialog.apart.click())
    window.go("frames")
    window.frames_stage.bringing.bring([card])
    qtbot.waitUntil(lambda: window.state.outing.name.endswith("run 1"), timeout=60_000)
    settled(window)
    assert len(window.state.outing.frames) == 5
    other = document.load(window.state.folder.parent / "test-outing-run-2")
    assert len(other.frames) == 4
    assert [g.kind for g in other.groups] == ["repeat", "repeat"]
    assert len(other.frames_to_join()) == 2


def test_brackets_are_merged_and_another_way_is_followed(
    qtbot: QtBot, window: Window, settled: Callable[[Window], None], tmp_path: Path
):
    write_card(tmp_path, CAMERA, [CardRun(round_sweep(-30, 3, 28), brackets_ev=(0, -2, 2))])
    window.go("frames")
    window.frames_stage.bringing.bring([tmp_path])
    qtbot.waitUntil(lambda: len(window.state.outing.frames) == 9, timeout=60_000)
    settled(window)
    outing = window.state.outing
    assert len(outing.groups) == 3
    assert len(outing.frames_to_join()) == 3
    window.go("join")
    stage = window.join_stage
    brackets, _words = stage.choices.parts["brackets"]
    assert brackets.isVisible()
    stage.run_join()
    settled(window)
    report = window.state.joined.report
    assert [row.role for row in report.frames].count("bracket") == 6
    assert report.asked.brackets == "merge"
    kept = json.loads((window.state.folder / document.PICTURES / document.REPORT).read_text())
    assert kept["prepared"]
    brackets.setCurrentIndex(2)
    brackets.activated.emit(2)
    settled(window)
    assert window.state.joined.report.asked.brackets == "base"
    assert not window.state.joined.solved_anew, "the picture is made anew from the same solution"
    window.state.undo()
    settled(window)
    assert window.state.joined.report.asked.brackets == "merge"
    # the three ways side by side, which move together, before one is taken for all
    qtbot.mouseClick(stage.treat_button, Qt.MouseButton.LeftButton)
    dialog = window.findChild(TreatmentsDialog)
    settled(window)
    qtbot.waitUntil(lambda: all(view.ready for view in dialog.views.values()), timeout=20_000)
    shown = [pixels_of(view.grab().toImage())[:400, :370].astype(int) for view in dialog.views.values()]
    assert min(np.abs(a - b).max() for a, b in ((shown[0], shown[1]), (shown[1], shown[2]), (shown[0], shown[2]))) > 20
    one, two, three = dialog.views.values()
    one.show_full()
    one.look_at(100.0, 80.0)
    assert {(v.zoom, v.sight.centre) for v in (one, two, three)} == {(one.zoom, one.sight.centre)}
    assert dialog.buttons["merge"].text() == "Used now"
    qtbot.mouseClick(dialog.buttons["fuse"], Qt.MouseButton.LeftButton)
    settled(window)
    assert window.state.joined.report.asked.brackets == "fuse"


def test_one_development_is_seen_everywhere_and_joined(
    qtbot: QtBot, window: Window, settled: Callable[[Window], None], row_set: FrameFiles
):
    """Edited on one frame by keys and by a picked grey, seen on thumbnails and picture at once, undone like everything."""
    window.frames_stage.bringing.bring(list(row_set.paths[:3]))
    settled(window)
    stage, panel = window.frames_stage, window.frames_stage.development
    window.state.select(None, window.state.outing.frames[1].id)
    qtbot.waitUntil(lambda: stage.view.source is not None and stage.view.ready, timeout=10_000)

    def shown() -> tuple[float, float]:
        icon = stage.list.item(0).icon().pixmap(60, 60).toImage()
        return pixels_of(stage.view.grab().toImage()).mean(), pixels_of(icon).mean()

    seen = stage.view.geometry()
    window.trigger("frames.develop")
    qtbot.wait(20)
    assert stage.view.geometry() == seen, "the picture does not move for the fields"
    qtbot.waitUntil(lambda: stage.view.ready, timeout=10_000)
    view_before, icon_before = shown()
    retype(qtbot, panel.exposure, "+1")
    for _ in range(3):
        qtbot.keyClick(panel.exposure, Qt.Key.Key_Up)
    assert window.state.outing.choices.development.exposure_ev == pytest.approx(1.3)
    view_after, icon_after = shown()
    assert view_after > view_before + 5
    assert icon_after > icon_before + 10
    retype(qtbot, panel.kelvin, "900")
    assert "Temperature" in window.message_text()
    retype(qtbot, panel.exposure, "0")
    # a grey card of the scene under a warm development is grey again after a click
    retype(qtbot, panel.kelvin, "8000")
    assert panel.light.currentText() == "Own"
    window.trigger("frames.grey")
    middle = stage.view.rect().center()
    colour = stage.view.tiles.colour_at(stage.view.to_picture(QPointF(middle)), stage.view.sight)
    qtbot.mouseClick(stage.view, Qt.MouseButton.LeftButton, pos=middle)
    gains = np.array(window.state.outing.choices.development.white_balance)
    light = SRGB.to_linear(colour / 255) * gains
    assert np.ptp(light) < 0.02 * light.mean()
    assert not panel.pick_button.isChecked()
    window.trigger("edit.undo")
    assert panel.kelvin.text() == "8000 K"
    window.go("join")
    window.join_stage.run_join()
    settled(window)
    report = window.state.joined.report
    assert report.asked.development.white_balance[0] > 1
    before = window.state.joined
    window.trigger("edit.undo")  # the picture follows what is chosen, without matching anew
    settled(window)
    assert window.state.joined.report.asked.development.white_balance == (1, 1, 1)
    assert window.state.joined is not before
    assert not window.state.joined.solved_anew


def test_a_lens_that_a_join_found_is_kept_and_used(
    qtbot: QtBot, window: Window, settled: Callable[[Window], None], grid_set: FrameFiles
):
    window.frames_stage.bringing.bring([*grid_set.paths[:3], *grid_set.paths[4:7]])
    settled(window)
    window.go("join")
    choices = window.join_stage.choices
    assert not choices.keep_button.isVisible()
    window.join_stage.run_join()
    settled(window)
    assert choices.keep_button.isVisible()
    choices.keep("Holm wide")
    assert "Kept as Holm wide" in window.message_text()
    names = [choices.lens.itemText(i) for i in range(choices.lens.count())]
    assert names == ["found by the join", "from the lens database", "Holm wide"]
    gear = GearDialog(window.context.gear, lambda _e: None, window)
    qtbot.addWidget(gear)
    gear.fill(("measured-lens", "Holm wide"))
    gear.show()
    assert not gear.use_button.isVisible(), "a plan has the lens itself"
    assert any("a corner lies −" in label.text() for label in gear.findChildren(QLabel)), "barrel"
    choices.lens.setCurrentIndex(1)
    choices.lens.activated.emit(1)
    settled(window)
    assert "lens database" in window.message_text(), "frames that tell no lens are in no database"
    assert choices.lens.currentIndex() == 0
    choices.lens.setCurrentIndex(2)
    choices.lens.activated.emit(2)
    assert window.state.outing.choices.lens.lens == "Holm wide"
    assert "Another lens was chosen" in window.join_stage.status.text()
    window.join_stage.run_join()
    settled(window)
    report = window.state.joined.report
    assert report.known_lens.lens == "Holm wide"
    assert report.frames[0].lens.k1 == window.state.outing.choices.lens.k1
    folder = window.state.folder
    window.outings.begin("Another")
    assert window.open_outing(folder)
    settled(window)
    assert window.state.outing.choices.lens.lens == "Holm wide"
    assert not model.differs(window.state.outing, window.state.joined)


def test_frames_taken_again_are_averaged_when_asked(
    qtbot: QtBot, window: Window, settled: Callable[[Window], None], tmp_path: Path
):
    """And raw and JPEG of one exposure are one frame, of which either is used."""
    write_card(
        tmp_path,
        CAMERA,
        [
            CardRun(round_sweep(0, 2, 28), repeats=3),
        ],
    )
    window.frames_stage.bringing.bring([tmp_path])
    settled(window)
    window.go("join")
    repeats, words = window.join_stage.choices.parts["repeats"]
    assert repeats.isVisible()
    assert not window.join_stage.choices.parts["twins"][0].isVisible()
    window.join_stage.run_join()
    settled(window)
    assert not window.state.joined.report.prepared
    at = list(words).index("stack")
    repeats.setCurrentIndex(at)
    repeats.activated.emit(at)
    settled(window)
    report = window.state.joined.report
    assert "averaged" in report.prepared[0]
    assert [row.used for row in report.frames if row.role == "repeat"] == [True] * 4


def test_a_missing_frame_is_named_and_drawn_on_the_map(
    qtbot: QtBot, window: Window, settled: Callable[[Window], None], tmp_path: Path
):
    """Two rows of four of which one is not there: the look says which, and the map shows where."""
    shots = write_card(tmp_path, CAMERA, [CardRun([(-42.0 + 28 * c, p, 0) for p in (12, -12) for c in range(4)])])
    (tmp_path / shots[1].name).unlink()
    window.frames_stage.bringing.bring([tmp_path])
    settled(window)
    before = pixels_of(window.map.grab().toImage())
    window.trigger("frames.look")
    settled(window)
    told = window.frames_stage.findings.told.text()
    assert "row 1 from above, column 2: near yaw -14" in told.replace("−", "-")
    join = window.map.join
    assert len(join.shapes) == 7
    [(shape, where)] = join.missing
    middle = shape.boundingRect().center()
    assert (middle.x(), middle.y()) == (pytest.approx(-14, abs=2), pytest.approx(12, abs=3))
    assert where in told
    assert (pixels_of(window.map.grab().toImage()) != before).any()
    # what was found is kept with the outing, and told of no other one
    folder, told = window.state.folder, window.frames_stage.findings.told.text()
    window.outings.begin("Another")
    settled(window)
    assert window.frames_stage.findings.told.text() == ""
    assert window.map.join.missing == ()
    assert window.open_outing(folder, "frames")
    settled(window)
    assert window.frames_stage.findings.told.text() == told
    assert [where for _shape, where in window.map.join.missing] == [where]
    (folder / "pictures" / "look.json").write_text('{"schema": "idle-lantern/look/1", "findings": 3}')
    window.outings.begin("Third")
    assert window.open_outing(folder, "frames")
    settled(window)
    assert window.frames_stage.findings.told.text() == "", "a damaged file tells nothing"


def test_scans_of_film_are_turned_and_cut(
    qtbot: QtBot, window: Window, settled: Callable[[Window], None], row_set: FrameFiles, tmp_path: Path
):
    """Three negatives on their orange base, a rim of film round each."""
    for path in row_set.paths[:3]:
        light = SRGB.to_linear(read(path).pixels / 255)
        film = np.pad(
            np.array([0.6, 0.33, 0.2]) * (np.clip(light, 3e-3, None) / 3e-3) ** -0.6, ((12, 12), (12, 12), (0, 0))
        )
        film[:12], film[-12:], film[:, :12], film[:, -12:] = (np.array([0.6, 0.33, 0.2]),) * 4
        write(
            Picture(np.rint(SRGB.from_linear(film) * 65535).astype(np.uint16)),
            tmp_path / f"{path.stem}.tif",
            WriteOptions(),
        )
    window.frames_stage.bringing.bring(sorted(tmp_path.glob("*.tif")))
    settled(window)
    stage, panel = window.frames_stage, window.frames_stage.development
    window.state.select(None, window.state.outing.frames[1].id)
    qtbot.waitUntil(lambda: stage.view.source is not None and stage.view.ready, timeout=10_000)
    window.trigger("frames.develop")
    assert not panel.edges[0].isVisible()
    panel.film.setCurrentIndex(1)
    panel.film.activated.emit(1)
    settled(window)
    film_found = window.state.outing.choices.development.film
    assert film_found.base == (
        pytest.approx(0.6, rel=0.02),
        pytest.approx(0.33, rel=0.02),
        pytest.approx(0.2, rel=0.02),
    )
    assert panel.edges[0].isVisible()
    assert stage.view.crop is not None
    # a grey and a white that are clicked on turn the film, not its white balance
    panel.white_button.click()
    assert panel.white_button.isChecked()
    panel._picked(SRGB.from_linear(np.array([0.05, 0.03, 0.02])) * 255)
    panel.pick_button.click()
    panel._picked(SRGB.from_linear(np.array([0.2, 0.1, 0.05])) * 255)
    development = window.state.outing.choices.development
    assert development.white_balance == (1, 1, 1)
    assert np.ptp(development.film.light(np.array([[0.2, 0.1, 0.05]]))) < 1e-6
    np.testing.assert_allclose(development.film.light(np.array([[0.05, 0.03, 0.02]])), 1, atol=1e-6)
    retype(qtbot, panel.gamma, "0.7")
    assert np.mean(window.state.outing.choices.development.film.gamma) == pytest.approx(0.7)
    assert panel.gamma.isVisible()
    retype(qtbot, panel.edges[1], "10 %")
    assert window.state.outing.choices.development.film.crop[1] == pytest.approx(0.1)
    window.go("join")
    window.join_stage.run_join()
    settled(window)
    assert window.state.joined.report.frames[0].height == pytest.approx(0.9 * (680 + 24) - 14, abs=6)
    shown = read(window.state.joined.picture)
    assert shown.pixels[..., 2].mean() > shown.pixels[..., 0].mean() * 0.8, "no orange is left"
