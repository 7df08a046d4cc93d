"""Files from anywhere: dropped on any stage, pasted, given at the start; in the real window."""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable, Sequence
from pathlib import Path
from xml.etree import ElementTree

import pytest
from PyQt6.QtCore import QEvent, QMimeData, QPointF, Qt, QUrl
from PyQt6.QtGui import QDragEnterEvent, QDropEvent, QImage
from PyQt6.QtWidgets import QApplication, QWidget
from pytestqt.qtbot import QtBot
from tests.helpers.sets import FrameFiles

from idle_lantern.app.main import _first_outing
from idle_lantern.app.window import Window
from idle_lantern.cli import main as command_line
from idle_lantern.core.frames.content import sha256_of
from idle_lantern.core.plan.brief import Brief
from idle_lantern.core.plan.exchange import plan_document
from idle_lantern.core.plan.planner import make_plan
from idle_lantern.core.plan.target_field import TargetField

PACKAGING = Path(__file__).parents[2] / "packaging"


def _mime(paths: Sequence[Path]) -> QMimeData:
    mime = QMimeData()
    mime.setUrls([QUrl.fromLocalFile(str(p)) for p in paths])
    return mime


def _drop(on: QWidget, paths: Sequence[Path]) -> None:
    """Drop files where the pointer is over a widget, as a file manager does."""
    mime, place = _mime(paths), QPointF(on.rect().center())
    copy, none, left = Qt.DropAction.CopyAction, Qt.KeyboardModifier.NoModifier, Qt.MouseButton.LeftButton
    QApplication.sendEvent(on, QDragEnterEvent(place.toPoint(), copy, mime, left, none))
    QApplication.sendEvent(on, QDropEvent(place, copy, mime, left, none, QEvent.Type.Drop))


def _targets(window: Window) -> dict[str, QWidget]:
    return {
        "plan": window.plan_stage.fields["left_deg"],
        "field": window.field_stage.shoot_button,
        "frames": window.frames_stage.view,
        "join": window.join_stage.view,
        "deliver": window.deliver_stage,
        "logbook": window.logbook_stage.table.viewport(),
    }


@pytest.mark.parametrize("stage", ["plan", "field", "frames", "join", "deliver", "logbook"])
def test_files_dropped_on_any_stage_come_in(
    qtbot: QtBot, window: Window, settled: Callable, row_set: FrameFiles, stage: str
):
    """Plan wrote the path into a number field, Join and Field refused."""
    window.go(stage)
    brief = window.state.outing.brief
    _drop(_targets(window)[stage], row_set.paths[:2])
    qtbot.waitUntil(lambda: len(window.state.outing.frames) == 2, timeout=30_000)
    settled(window)
    assert window.stage == "frames"
    assert window.state.outing.brief == brief
    assert [r.sha256 for r in window.state.outing.frames] == [sha256_of(p) for p in row_set.paths[:2]]
    assert window.state.history.undo_title.startswith("Bring in"), "reading files is nothing to undo"


def test_an_outing_that_is_dropped_is_opened(window: Window):
    first = window.state.folder
    window.outings.begin("Second")
    for what in (first, first / "outing.json"):
        window.outings.begin("Other")
        _drop(window.join_stage.view, [what])
        assert window.state.folder == first


def test_a_plan_that_is_dropped_is_planned(window: Window, tmp_path: Path):
    plan = make_plan(Brief(target_field=TargetField(-50, 40, -10, 20)))
    (tmp_path / "quay.json").write_text(json.dumps(plan_document(plan)))
    window.go("join")
    _drop(window.join_stage.view, [tmp_path / "quay.json"])
    assert window.state.outing.brief.target_field.left_deg == -50
    assert window.stage == "plan"


@pytest.mark.parametrize(
    ("names", "told"),
    [
        (["notes.txt"], "notes.txt is no picture, outing or plan"),
        (["screen.icc"], "choose it under View"),
        (["a.json", "f.jpg"], "one at a time"),
        (["gone.jpg"], "gone.jpg is not there"),
    ],
)
def test_what_cannot_be_taken_is_refused_in_a_sentence(window: Window, tmp_path: Path, names: list[str], told: str):
    for name in names:
        if "gone" not in name:
            (tmp_path / name).write_text("{}")
    _drop(window.field_stage.shoot_button, [tmp_path / name for name in names])
    assert told in window.message_text()
    assert window.state.outing.frames == ()


def test_copied_files_are_pasted(qtbot: QtBot, window: Window, settled: Callable, row_set: FrameFiles):
    clipboard = QApplication.clipboard()
    clipboard.setMimeData(_mime(row_set.paths[:2]))
    window.go("join")
    window.join_stage.view.setFocus()
    qtbot.keyClick(window, Qt.Key.Key_V, Qt.KeyboardModifier.ControlModifier)
    qtbot.waitUntil(lambda: len(window.state.outing.frames) == 2, timeout=30_000)
    settled(window)
    clipboard.setText("\n".join(str(p) for p in row_set.paths[1:3]))
    window.trigger("outing.paste")
    qtbot.waitUntil(lambda: len(window.state.outing.frames) == 3, timeout=30_000)
    settled(window)
    clipboard.setText("no path")
    window.trigger("outing.paste")
    assert "no files" in window.message_text()
    clipboard.setImage(QImage(4, 4, QImage.Format.Format_RGB32))
    window.trigger("outing.paste")
    assert "without a file" in window.message_text()


def test_files_given_at_the_start_begin_an_outing_of_their_own(
    qtbot: QtBot, window: Window, settled: Callable, row_set: FrameFiles, tmp_path: Path
):
    last = window.state.folder
    folder = tmp_path / "harbour"
    folder.mkdir()
    for path in row_set.paths[:2]:
        shutil.copy(path, folder)
    _first_outing(window, last, [], [folder])
    qtbot.waitUntil(lambda: len(window.state.outing.frames) == 2, timeout=30_000)
    settled(window)
    assert window.state.folder != last
    assert (window.state.outing.name, window.state.outing.origin) == ("harbour", "photographs")
    _first_outing(window, None, [], [last])
    assert window.state.folder == last


def test_the_command_line_takes_what_lies_on_disk(monkeypatch: pytest.MonkeyPatch, tmp_path: Path):
    opened: list[list[Path]] = []
    monkeypatch.setattr("idle_lantern.app.main.run", lambda brought=(): opened.append(list(brought)) or 0)
    monkeypatch.setattr("idle_lantern.app.main.has_display", lambda: True)
    (tmp_path / "a.jpg").touch()
    assert command_line.main([str(tmp_path), str(tmp_path / "a.jpg")]) == 0
    assert opened == [[tmp_path, tmp_path / "a.jpg"]]
    with pytest.raises(SystemExit):
        command_line.main(["nothing-of-this-name"])


def test_the_desktop_entry_hands_files_on_and_knows_outings():
    """Keys of the desktop entry specification 1.5 and of the shared MIME info specification 0.21 (freedesktop.org)."""
    entry = dict(line.split("=", 1) for line in (PACKAGING / "idle-lantern.desktop").read_text().splitlines()[1:])
    assert entry["Exec"].endswith(" %F")
    kinds = entry["MimeType"].rstrip(";").split(";")
    root = ElementTree.parse(PACKAGING / "idle-lantern-mime.xml").getroot()
    space = "{http://www.freedesktop.org/standards/shared-mime-info}"
    (kind,) = root.findall(f"{space}mime-type")
    assert kind.get("type") in kinds
    assert [g.get("pattern") for g in kind.findall(f"{space}glob")] == ["outing.json"]
