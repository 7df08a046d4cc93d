"""The Deliver stage by mouse and keys: kinds, prints, presets, looking around, proof, and whose pictures they are."""

from __future__ import annotations

import zipfile
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from pypdf import PdfReader
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QWheelEvent
from PyQt6.QtWidgets import QApplication, QDialog, QFileDialog, QInputDialog
from pytestqt.qtbot import QtBot

from idle_lantern.app.stages.deliver_presets import SeveralDialog
from idle_lantern.app.widgets.whose_dialog import WhoseDialog
from idle_lantern.app.window import Window
from idle_lantern.core.colour.profiles import profile_of
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.deliver.job import DeliverJob
from idle_lantern.core.deliver.kinds import KINDS
from idle_lantern.core.outing import edits

LEFT = Qt.MouseButton.LeftButton
Settled = Callable[[Window], None]


@pytest.fixture
def delivering(joined: Window, settled: Settled) -> Window:
    joined.go("deliver")
    settled(joined)
    return joined


def choose(window: Window, chooser: str, data: str) -> None:
    """Take an entry of one of the stage's choosers as a person does."""
    field = {
        "format": window.deliver_stage.format,
        "paper": window.deliver_stage.paper.paper,
        "preset": window.deliver_stage.presets,
    }[chooser]
    index = field.findText(data) if chooser == "preset" else field.findData(data)
    assert index >= 0, data
    field.setCurrentIndex(index)
    field.activated.emit(index)


def typed(qtbot: QtBot, field, text: str) -> None:
    field.setFocus()
    field.selectAll()
    qtbot.keyClicks(field, text)
    qtbot.keyClick(field, Qt.Key.Key_Return)


def test_every_kind_is_offered_and_written_by_the_main_button(
    qtbot: QtBot, delivering: Window, settled: Settled, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
):
    stage = delivering.deliver_stage
    assert [stage.format.itemData(k) for k in range(stage.format.count())] == [kind.name for kind in KINDS]
    made = {
        "sphere-page": "look.html", "tiles-page": "zoom.html", "layers": "l.ora", "cube": "c.jpg", "tiles": "t.xml", "iiif": "iiif", "jxl": "j.jxl",
    }  # fmt: skip
    for kind, name in made.items():
        choose(delivering, "format", kind)
        target = tmp_path / name
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, t=target, **_k: (str(t), ""))
        qtbot.keyClick(delivering, Qt.Key.Key_E, Qt.KeyboardModifier.ControlModifier)
        settled(delivering)
        assert "Written:" in stage.status.text(), (kind, stage.status.text(), delivering.message_text())
        assert "✗" not in stage.status.text()
        assert "✓" in stage.status.text()
    names = {p.name for p in tmp_path.iterdir()} - {"user"}
    assert {"look.html", "zoom.html", "zoom_files", "l.ora", "c_up.jpg", "t.xml", "t_files", "iiif", "j.jxl"} <= names
    with zipfile.ZipFile(tmp_path / "l.ora") as file:
        assert sum(name.startswith("data/") for name in file.namelist()) == 1 + 2 * 3
    # a flat picture is none that viewers take for a sphere: said before it is written, and when it is asked for all the same
    choose(delivering, "format", "sphere")
    assert "equirectangular" in stage.limit.text()
    stage.write_to(tmp_path / "s.jpg")
    assert "equirectangular" in delivering.message_text()
    assert not (tmp_path / "s.jpg").exists()


def test_a_print_is_laid_out_judged_and_written(qtbot: QtBot, delivering: Window, settled: Settled, tmp_path: Path):
    stage = delivering.deliver_stage
    paper = stage.paper
    assert not paper.isVisible()
    choose(delivering, "format", "print")
    settled(delivering)
    assert paper.isVisible()
    assert not stage.long_side.isEnabled()
    choose(delivering, "paper", "A1")
    typed(qtbot, paper.seen_from, "0.3")
    assert "an eye tells 291 dots an inch apart" in paper.judged.text()
    assert "looks soft nearer than" in paper.judged.text()
    assert "px across" in paper.judged.text()
    typed(qtbot, paper.seen_from, "9 m")
    assert "it looks sharp" in paper.judged.text()
    typed(qtbot, paper.border, "2 cm")
    assert delivering.state.outing.delivery.on_paper.border_mm == 20
    typed(qtbot, paper.bleed, "3")
    assert "needs no bleed" in stage.limit.text()
    delivering.state.undo()
    assert stage.limit.text() == ""
    qtbot.mouseClick(paper.sheets, LEFT, pos=QPoint(8, paper.sheets.height() // 2))
    typed(qtbot, paper.width_mm, "1.5 m")
    assert "sheets" in stage.facts["print"].text()
    assert not paper.wrap.isEnabled()
    stage.write_to(tmp_path / "p.pdf")
    settled(delivering)
    pages = PdfReader(tmp_path / "p.pdf").pages
    assert f"✓ {len(pages)} pages" in stage.status.text()
    assert len(pages) > 1
    qtbot.mouseClick(paper.strip, LEFT, pos=QPoint(8, paper.strip.height() // 2))
    assert stage.facts["print"].text().startswith("a strip of ")
    stage.write_to(tmp_path / "s.pdf")
    settled(delivering)
    assert len(PdfReader(tmp_path / "s.pdf").pages) == 1
    typed(qtbot, paper.border, "900")
    assert "lies outside 0 to 500 mm" in delivering.message_text()


def test_another_paper_is_asked_for(delivering: Window, monkeypatch: pytest.MonkeyPatch):
    choose(delivering, "format", "print")
    monkeypatch.setattr(QInputDialog, "getText", lambda *_a, **_k: ("500 x 200 mm", True))
    choose(delivering, "paper", "another")
    assert delivering.state.outing.delivery.on_paper.paper == "500x200"
    monkeypatch.setattr(QInputDialog, "getText", lambda *_a, **_k: ("a napkin", True))
    choose(delivering, "paper", "another")
    assert "'a napkin' is no paper" in delivering.message_text()
    assert delivering.state.outing.delivery.on_paper.paper == "500x200"


def test_presets_are_taken_kept_and_forgotten(delivering: Window, monkeypatch: pytest.MonkeyPatch):
    stage, state = delivering.deliver_stage, delivering.state
    choose(delivering, "preset", "web")
    assert state.outing.delivery.long_side_px == 2560
    assert stage.presets.currentText() == "web"
    assert stage.long_side.value == 2560
    state.apply(edits.deliver_as("Longer side", long_side_px=1234))
    assert stage.presets.currentText() == "as chosen below"
    monkeypatch.setattr(QInputDialog, "getText", lambda *_a, **_k: ("club", True))
    choose(delivering, "preset", "keep these choices …")
    assert stage.presets.currentText() == "club"
    state.undo()
    state.undo()
    assert state.outing.delivery == DeliverJob()
    choose(delivering, "preset", "club")
    assert state.outing.delivery.long_side_px == 1234
    monkeypatch.setattr(QInputDialog, "getItem", lambda *_a, **_k: ("club", True))
    choose(delivering, "preset", "forget one of mine …")
    assert stage.presets.findText("club") < 0


def test_several_are_written_in_one_go(
    qtbot: QtBot, delivering: Window, settled: Settled, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
):
    stage = delivering.deliver_stage

    def answer(dialog: QDialog) -> int:
        assert isinstance(dialog, SeveralDialog)
        assert not dialog.write_button.isEnabled()
        dialog.folder = tmp_path
        for row in range(2):
            dialog.list.item(row).setCheckState(Qt.CheckState.Checked)
        return QDialog.DialogCode.Accepted

    monkeypatch.setattr("idle_lantern.app.stages.deliver.answered", answer)
    before = delivering.state.outing.delivery
    qtbot.keyClick(delivering, Qt.Key.Key_E, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    settled(delivering)
    name = delivering.state.outing.name
    assert {p.name for p in tmp_path.iterdir()} >= {f"{name} web.jpg", f"{name} archive.tif"}
    assert stage.status.text().count("✓") == 2
    assert "2 deliveries" in delivering.message_text()
    assert delivering.state.outing.delivery == before


def test_one_looks_around_by_mouse_wheel_and_keys(qtbot: QtBot, delivering: Window, settled: Settled):
    stage = delivering.deliver_stage
    looking, view = stage.looking, stage.looking.view
    qtbot.keyClick(delivering, Qt.Key.Key_L)
    settled(delivering)
    assert looking.is_looking
    assert view.isVisible()
    assert view.hasFocus()
    qtbot.waitUntil(lambda: view.is_sharp, timeout=20_000)
    assert "deliver.look" in stage.held_tools()
    first = view.sight
    assert delivering.map.sight is not None, "the map shows what is looked at"
    middle = QPoint(view.width() // 2, view.height() // 2)
    qtbot.mousePress(view, LEFT, pos=middle)
    qtbot.mouseMove(view, middle - QPoint(60, 0))
    qtbot.wait(150)  # a hand that rests throws nothing
    qtbot.mouseRelease(view, LEFT, pos=middle - QPoint(60, 0))
    f = first.focal_px((view.width(), view.height()))
    expected = np.degrees(60 / f) / max(0.2, np.cos(np.radians(first.pitch_deg)))
    assert view.sight.yaw_deg - first.yaw_deg == pytest.approx(expected, abs=0.05)
    qtbot.keyClick(view, Qt.Key.Key_Left)
    assert view.sight.yaw_deg == pytest.approx(first.yaw_deg + expected - first.field_deg / 15, abs=0.05)
    qtbot.keyClick(delivering, Qt.Key.Key_Plus)
    assert view.sight.field_deg == pytest.approx(first.field_deg / 1.5, rel=0.01)
    here = QPointF(middle)
    nothing = Qt.KeyboardModifier.NoModifier
    wheel = QWheelEvent(
        here, here, QPoint(), QPoint(0, -120), Qt.MouseButton.NoButton, nothing, Qt.ScrollPhase.NoScrollPhase, False
    )
    QApplication.sendEvent(view, wheel)
    assert view.sight.field_deg == pytest.approx(first.field_deg / 1.5 * 1.15, rel=0.01)
    qtbot.keyClick(view, Qt.Key.Key_Home)
    assert view.sight == first
    # as sharp as the picture: at rest it is drawn from it, not from what is held for moving
    qtbot.waitUntil(lambda: view.is_sharp, timeout=20_000)
    qtbot.keyClick(view, Qt.Key.Key_Escape)
    assert not looking.is_looking
    assert not view.isVisible()
    assert stage.view.hasFocus()


def test_a_thrown_view_glides_and_another_picture_ends_it(qtbot: QtBot, delivering: Window, settled: Settled):
    view = delivering.deliver_stage.looking.view
    qtbot.keyClick(delivering, Qt.Key.Key_L)
    settled(delivering)
    view.aim(view.sight.yaw_deg, view.sight.pitch_deg, 30)
    middle = QPoint(view.width() // 2, view.height() // 2)
    qtbot.mousePress(view, LEFT, pos=middle)
    for step in range(1, 5):
        qtbot.mouseMove(view, middle + QPoint(12 * step, 0))
    let_go = view.sight.yaw_deg
    qtbot.mouseRelease(view, LEFT, pos=middle + QPoint(48, 0))
    qtbot.waitUntil(lambda: view.sight.yaw_deg < let_go - 0.5, timeout=5000)
    delivering.state.apply(edits.cover_nadir("Cover", None))
    delivering.state.apply(edits.tell_invented(True))
    assert not delivering.deliver_stage.looking.is_looking, "what was made ready shows that no longer"


def test_the_size_is_foretold_for_what_is_chosen(qtbot: QtBot, delivering: Window, settled: Settled, tmp_path: Path):
    stage = delivering.deliver_stage
    choose(delivering, "format", "jpeg")
    qtbot.waitUntil(lambda: stage.facts["file"].text().startswith("about"), timeout=20_000)
    told = stage.facts["file"].text()
    stage.write_to(tmp_path / "o.jpg")
    settled(delivering)
    there = (tmp_path / "o.jpg").stat().st_size
    number, unit = told.removeprefix("about ").replace("\u00a0", " ").split()
    assert float(number) * {"kB": 1e3, "MB": 1e6}[unit] == pytest.approx(there, rel=0.2)
    choose(delivering, "format", "exr")
    assert stage.facts["file"].text() == "–", "what was reckoned for another format is not told of this one"


def test_a_name_that_is_told_once_stands_in_every_file(
    delivering: Window, settled: Settled, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
):
    def answer(dialog: QDialog) -> int:
        assert isinstance(dialog, WhoseDialog)
        dialog.author.setText("Orla Fen")
        dialog.rights.setText("© Orla Fen")
        return QDialog.DialogCode.Accepted

    monkeypatch.setattr("idle_lantern.app.window.answered", answer)
    delivering.trigger("deliver.signed")
    delivering.deliver_stage.write_to(tmp_path / "o.jpg")
    settled(delivering)
    with Image.open(tmp_path / "o.jpg") as image:
        exif, told = image.getexif(), image.getxmp()["RDF"]["Description"]
    assert exif[315] == "Orla Fen"
    assert exif[33432] == "(c) Orla Fen"
    assert told["rights"]["Alt"]["li"]["text"] == "© Orla Fen"
    assert "3 frames" in told["description"]["Alt"]["li"]["text"]
    assert delivering.context.settings == replace(delivering.context.settings, author="Orla Fen")


def test_a_print_is_proofed_on_the_screen(
    delivering: Window, settled: Settled, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
):
    stage = delivering.deliver_stage
    choose(delivering, "format", "print")
    settled(delivering)
    before = stage.view.source
    profile = tmp_path / "printer.icc"
    profile.write_bytes(profile_of(SRGB))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_a, **_k: (str(profile), ""))

    def proof(how: str) -> None:
        index = stage.paper.proofs.findData(how)
        stage.paper.proofs.setCurrentIndex(index)
        stage.paper.proofs.activated.emit(index)

    proof("relative")
    assert stage.view.source is not before
    assert "0.0 % of the picture cannot be printed" in stage.paper.proof_told.text()
    proof("")
    assert stage.paper.proof is None
    assert not stage.paper.proof_told.isVisible()
    proof("paper")
    choose(delivering, "format", "jpeg")
    assert stage.paper.proof is None, "what is no print is not shown as one"
    (tmp_path / "none.icc").write_bytes(b"nothing")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_a, **_k: (str(tmp_path / "none.icc"), ""))
    choose(delivering, "format", "print")
    proof("ask")
    assert "no profile" in delivering.message_text()
