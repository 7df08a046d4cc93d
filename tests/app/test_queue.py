"""The queue through the real window: folders added, one that cannot be joined, stopped and gone on, and one opened under Join."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog, QPushButton
from pytestqt.qtbot import QtBot
from tests.helpers.sets import FrameFiles

from idle_lantern.app.queue_dialog import QueueDialog
from idle_lantern.app.window import Window

LEFT = Qt.MouseButton.LeftButton
Settled = Callable[[Window], None]


@pytest.fixture
def queue(window: Window, tmp_path: Path) -> QueueDialog:
    """The queue, opened by its action, whose pictures go into a folder of the test."""
    window.trigger("outing.queue")
    dialog = window.queue
    assert dialog is not None
    dialog.out = tmp_path / "delivered"
    return dialog


def _press(qtbot: QtBot, queue: QueueDialog, name: str) -> None:
    qtbot.mouseClick(queue.findChild(QPushButton, f"queue-{name}"), LEFT)


def _states(queue: QueueDialog) -> list[tuple[str, str]]:
    return [(queue.table.item(k, 0).text(), queue.table.item(k, 1).text()) for k in range(queue.table.rowCount())]


def test_folders_are_joined_one_after_another_and_looked_at(
    qtbot: QtBot,
    window: Window,
    queue: QueueDialog,
    row_set: FrameFiles,
    settled: Settled,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
):
    for name, paths in (("terrace", row_set.paths[:3]), ("alone", row_set.paths[:1]), ("quay", row_set.paths[3:6])):
        (tmp_path / name).mkdir()
        for path in paths:
            shutil.copy(path, tmp_path / name)
        monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_a, p=tmp_path / name, **_k: str(p))
        _press(qtbot, queue, "add")
    assert not queue.down_button.isEnabled()
    _press(qtbot, queue, "earlier")
    assert [f.name for f in queue.folders] == ["terrace", "quay", "alone"]
    queue.add([tmp_path / "quay", row_set.paths[0]])
    assert "takes folders, each once" in window.message_text()
    _press(qtbot, queue, "begin")
    assert queue.stop_button.isEnabled()
    assert not queue.add_button.isEnabled()
    # it is stopped in the middle, and goes on from there
    qtbot.waitUntil(lambda: len(_states(queue)) >= 1, timeout=60_000)
    _press(qtbot, queue, "stop")
    settled(window)
    assert queue.begin_button.isEnabled()
    done = len(_states(queue))
    assert 1 <= done < 3
    first = tmp_path / "delivered" / "terrace.tif"
    before = first.stat().st_mtime_ns
    _press(qtbot, queue, "begin")
    settled(window)
    names = [name for name, _state in _states(queue)]
    assert names == ["terrace", "quay", "alone"]
    assert _states(queue)[2] == ("alone", "✗ not joined")
    assert "one picture only" in queue.table.item(2, 2).text()
    assert all(state != "✗ not joined" for _name, state in _states(queue)[:2])
    assert first.stat().st_mtime_ns == before, "what is done is not done again"
    assert (tmp_path / "delivered" / "quay.tif").exists()
    assert "1 not joined" in queue.told.text()
    # what another preset made is not shown as if it were of this one
    queue.preset.setCurrentIndex(queue.preset.findData("web"))
    _press(qtbot, queue, "begin")
    assert _states(queue) == []
    qtbot.waitUntil(lambda: len(_states(queue)) >= 1, timeout=60_000)
    assert [name for name, _state in _states(queue)] == ["terrace"]
    settled(window)
    assert (tmp_path / "delivered" / "quay.jpg").exists()
    # a picture is opened where it is joined, in an outing of its own
    queue.table.selectRow(1)
    _press(qtbot, queue, "open")
    settled(window)
    assert window.stage == "join"
    assert window.state.outing.name == "quay"
    assert len(window.state.outing.frames) == 3
