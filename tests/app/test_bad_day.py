"""Two windows, folders that move or cannot be written, windows that die: nothing that was made is lost."""

from __future__ import annotations

import os
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path

import pytest
from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication, QFileDialog, QMessageBox
from pytestqt.qtbot import QtBot

from idle_lantern.app import autosave
from idle_lantern.app import settings as settings_module
from idle_lantern.app.sessions import Session, without_paths
from idle_lantern.app.settings import Settings
from idle_lantern.app.widgets.crash_dialog import CrashDialog
from idle_lantern.app.window import Window
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.gear import library as library_module
from idle_lantern.core.gear.entries import Entry, MemoryCard
from idle_lantern.core.gear.library import Library
from idle_lantern.core.outing import document, edits, folder_lock, rescue
from idle_lantern.core.outing.folder_lock import LOCK


@pytest.fixture
def other(qtbot: QtBot, window: Window) -> Iterator[Window]:
    """A second window."""
    second = Window(Settings())
    qtbot.addWidget(second, before_close_func=lambda w: w.tasks.cancel_all())
    second.show()
    yield second
    second.tasks.cancel_all()


def _press(words: str) -> None:
    """Press the button of the question that is asked now."""
    boxes = [w for w in QApplication.topLevelWidgets() if isinstance(w, QMessageBox) and w.isVisible()]
    assert len(boxes) == 1, [b.text() for b in boxes]
    button = next(b for b in boxes[0].buttons() if b.text() == words)
    button.click()


def _answer_later(words: str) -> None:
    QTimer.singleShot(50, lambda: _press(words))


def _asked(qtbot: QtBot, words: str) -> None:
    """A question with these words is asked."""
    qtbot.waitUntil(
        lambda: any(
            isinstance(w, QMessageBox) and w.isVisible() and words in w.text() for w in QApplication.topLevelWidgets()
        ),
        timeout=5000,
    )


def _full_disk(monkeypatch: pytest.MonkeyPatch, folder: Path) -> Callable[[], None]:
    """Nothing can be written into that folder until what is returned is called."""
    save = document.save

    def full(outing: object, where: Path) -> None:
        if broken and where == folder:
            raise InputError("Writing failed (No space left on device)", where=str(where))
        save(outing, where)

    broken = [True]
    monkeypatch.setattr(folder_lock.document, "save", full)
    return broken.clear


def test_two_windows_on_one_outing_never_overwrite_each_other(qtbot: QtBot, window: Window, other: Window):
    folder = window.state.folder
    window.state.apply(edits.rename("A's name"))
    window.state.save_now()
    assert other.open_outing(folder)
    assert "open in another window since" in other.message_text()
    assert "look at only" in other._where.text()
    # it can be looked at, and every change is refused with the reason
    refused = other.state.apply(edits.Edit("Write a note", lambda o: o.__class__(**{**o.__dict__, "note": "B's note"})))
    assert not refused
    assert "can be looked at, not changed" in other.message_text()
    other.field_stage.shoot()
    other.frames_stage.bringing.bring([folder])
    assert other.tasks.shown is None
    window.state.apply(edits.rename("A's second name"))
    # the first lets it go: the second may change it from then on, as the first left it
    assert window.close()
    assert not other.state.apply(edits.rename("B's name")), "the document changed meanwhile: it is opened anew first"
    assert other.state.outing.name == "A's second name"
    assert other.state.apply(edits.Edit("Write a note", lambda o: o.__class__(**{**o.__dict__, "note": "B's note"})))
    other.state.save_now()
    kept = document.load(folder)
    assert (kept.name, kept.note) == ("A's second name", "B's note")
    assert other._where.text() == "saves itself"
    assert other.close()
    assert not (folder / LOCK).exists()


def test_a_lock_of_a_killed_window_is_taken_over(window: Window):
    folder = window.state.folder
    window.state.autosave.release()
    script = (
        "import sys, os, signal; from pathlib import Path\n"
        "from idle_lantern.core.outing.folder_lock import LockedOuting\n"
        "held = LockedOuting(Path(sys.argv[1])); print(repr(held.reading), flush=True)\n"
        "os.kill(os.getpid(), signal.SIGKILL)\n"
    )
    done = subprocess.run([sys.executable, "-c", script, str(folder)], capture_output=True, text=True, check=False)
    assert done.stdout.strip() == "''"
    assert (folder / LOCK).exists(), "left by the killed process"
    with folder_lock.LockedOuting(folder) as mine:
        assert mine.reading == ""
    assert not (folder / LOCK).exists()


@pytest.mark.parametrize("links", [True, False])
def test_a_document_that_another_program_wrote_is_kept_beside_ours(
    window: Window, monkeypatch: pytest.MonkeyPatch, links: bool
):
    def no_links(*_a: object) -> None:
        raise OSError(95, "Operation not supported")  # as memory cards say

    if not links:
        monkeypatch.setattr(folder_lock.os, "link", no_links)
    folder = window.state.folder
    window.state.save_now()
    theirs = (folder / "outing.json").read_text().replace("Test outing", "Written elsewhere")
    (folder / "outing.json").write_text(theirs)
    window.state.apply(edits.rename("Ours"))
    window.state.save_now()
    assert document.load(folder).name == "Ours"
    (kept,) = folder.glob("outing-other-*.json")
    assert kept.read_text() == theirs
    assert kept.name in window.message_text()


def test_a_folder_that_moves_is_told_and_followed(qtbot: QtBot, window: Window, tmp_path: Path):
    before = window.state.folder
    window.state.save_now()
    after = tmp_path / "moved here"
    shutil.move(before, after)
    window.state.apply(edits.rename("After the move"))
    window.state.save_now()
    assert not before.exists(), "the old place is not begun anew"
    window.state.autosave.look()
    _asked(qtbot, "moved from")
    _press("Go on there")
    assert window.state.folder == after
    assert document.load(after).name == "After the move"
    assert window._where.text() == "saves itself"
    assert not before.exists()
    # a folder that is gone altogether is told too, and nothing is made in its place
    shutil.rmtree(after)
    window.state.autosave.look()
    assert "is gone" in window.message_text()
    window.field_stage.shoot()
    qtbot.waitUntil(lambda: window.tasks.idle, timeout=10_000)
    assert not after.exists()
    window.state.autosave.release()


def test_what_cannot_be_saved_is_kept_elsewhere_and_offered_again(
    qtbot: QtBot, window: Window, monkeypatch: pytest.MonkeyPatch
):
    folder, root = window.state.folder, settings_module.rescue_folder()
    window.state.save_now()
    room_again = _full_disk(monkeypatch, folder)
    window.state.apply(edits.rename("Not on disk"))
    window.state.save_now()
    assert "a copy is kept elsewhere" in window.message_text()
    assert rescue.kept_of(window.state.outing.id, root).outing == window.state.outing
    # opening another one asks first; staying loses nothing
    _answer_later("Stay here")
    window.outings.begin("Another")
    assert window.state.outing.name == "Not on disk"
    _answer_later("Leave")
    window.outings.begin("Another")
    assert window.state.outing.name == "Another"
    room_again()
    assert document.load(folder).name == "Test outing"
    assert window.open_outing(folder)
    _asked(qtbot, "could not be saved then and were kept")
    _press("Take them over")
    assert window.state.outing.name == "Not on disk"
    window.state.save_now()
    assert document.load(folder).name == "Not on disk"
    assert rescue.all_kept(root) == []
    window.state.undo()
    assert window.state.outing.name == "Test outing"


def test_saving_is_tried_again_until_there_is_room(qtbot: QtBot, window: Window, monkeypatch: pytest.MonkeyPatch):

    monkeypatch.setattr(autosave, "_TRY_AGAIN_MS", 100)
    room_again = _full_disk(monkeypatch, window.state.folder)
    window.state.apply(edits.rename("Later"))
    qtbot.waitUntil(lambda: "NOT SAVED" in window._where.text(), timeout=3000)
    room_again()
    qtbot.waitUntil(lambda: not window.state.unsaved, timeout=3000)
    assert window._where.text() == "saves itself"
    assert document.load(window.state.folder).name == "Later"
    assert rescue.all_kept(settings_module.rescue_folder()) == []


def test_another_place_is_offered_where_saving_fails(
    window: Window, monkeypatch: pytest.MonkeyPatch, tmp_path: Path, row_set, settled: Callable
):
    window.frames_stage.bringing.bring(list(row_set.paths[:2]))
    settled(window)
    _full_disk(monkeypatch, window.state.folder)
    window.state.apply(edits.rename("Elsewhere"))
    target = tmp_path / "another disk" / "outing"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(target), ""))
    _answer_later("Save elsewhere …")
    assert window.outings.may_leave()
    assert window.state.folder == target
    kept = document.load(target)
    assert kept.name == "Elsewhere"
    assert all(document.resolve(target, ref).is_file() for ref in kept.frames)
    # a folder that holds something is refused
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(tmp_path), ""))
    assert not window.outings.save_elsewhere()
    assert "not empty" in window.message_text()
    # and so is a file, which raised an error of Python's own (found by 7 200 random clicks)
    file = tmp_path / "plan.csv"
    file.write_text("yaw,pitch")
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(file), ""))
    assert not window.outings.save_elsewhere()
    assert "Is a file" in window.message_text()
    settled(window)


def test_a_gear_library_that_is_busy_or_full_is_not_called_damaged(tmp_path: Path, monkeypatch: pytest.MonkeyPatch):
    library = Library(tmp_path / "gear.sqlite")
    entry = Entry("card", "a card", MemoryCard(1.0))
    with closing(sqlite3.connect(tmp_path / "gear.sqlite")) as busy:
        busy.execute("BEGIN EXCLUSIVE")
        monkeypatch.setattr(library_module, "_PATIENCE_S", 0.0)
        with pytest.raises(InputError, match="cannot be used just now") as told:
            library.put(entry)
    assert "move it away" not in told.value.sentence
    library.put(entry)
    assert library.get("card", "a card") == entry


def test_a_window_that_died_is_told_with_a_report_that_names_no_folders(qtbot: QtBot, window: Window, tmp_path: Path):
    script = (
        "from idle_lantern.app.sessions import Session; import ctypes\n"
        "assert Session().begin() == []\n"
        "ctypes.string_at(0)\n"
    )
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, check=False, cwd=tmp_path)
    assert done.returncode == -signal.SIGSEGV
    session = Session()
    (crash,) = session.begin()
    session.end()
    assert "Segmentation fault" in crash.trace
    window.tell_crash([crash])
    (dialog,) = window.findChildren(CrashDialog)
    shown = dialog.text.toPlainText()
    assert "Segmentation fault" in shown
    assert str(Path.home()) not in shown
    assert str(tmp_path) not in shown
    dialog.paths.setChecked(True)
    assert dialog.text.toPlainText() == crash.report(with_paths=True)
    dialog.accept()
    # told once
    again = Session()
    assert again.begin() == []
    again.end()
    assert not list(settings_module.sessions_folder().iterdir())


@pytest.mark.parametrize(
    ("text", "left"),
    [
        ('File "/home/x y/p.jpg", line 3', 'File "…", line 3'),
        ('File "/opt/v/lib/python3.11/site-packages/cv2/a.py", line 3', '"…/lib/python3.11/site-packages/cv2/a.py"'),
        ("read 24/70 mm and 1/125 s", "read 24/70 mm and 1/125 s"),
        ("~/Pictures/me.jpg: gone", "…: gone"),
    ],
)
def test_paths_are_cut_out_of_reports(text: str, left: str):
    assert left in without_paths(text)


def _window_process(tmp_path: Path) -> subprocess.Popen[bytes]:
    env = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}
    return subprocess.Popen(
        [sys.executable, "-m", "idle_lantern.cli.main"], env=env, stderr=subprocess.PIPE, cwd=tmp_path
    )


def _outings() -> list[Path]:
    root = settings_module.outings_folder()
    return sorted(root.iterdir()) if root.is_dir() else []


def _wait(true: Callable[[], object], seconds: float = 30.0) -> None:
    end = time.monotonic() + seconds
    while not true():
        assert time.monotonic() < end
        time.sleep(0.05)


def test_a_window_killed_in_its_first_session_is_found_again_and_a_terminated_one_ends_well(tmp_path: Path):
    first = _window_process(tmp_path)
    _wait(lambda: settings_module.load().last_outing)
    first.kill()
    first.wait()
    first.stderr.close()
    assert len(_outings()) == 1
    second = _window_process(tmp_path)
    _wait(lambda: (_outings()[0] / LOCK).exists() and f'"pid": {second.pid}' in (_outings()[0] / LOCK).read_text())
    time.sleep(0.5)
    second.terminate()
    assert second.wait(20) == 130
    assert b"Traceback" not in second.stderr.read()
    second.stderr.close()
    assert len(_outings()) == 1, "no second first outing"
    assert not (_outings()[0] / LOCK).exists()
    assert not list(settings_module.sessions_folder().iterdir())


def test_work_that_outlives_its_window_has_nobody_to_tell_and_says_nothing(qtbot: QtBot):
    """Its Qt half is deleted with the window; an exception in a worker thread would abort the process."""
    from PyQt6 import sip

    from idle_lantern.app.tasks import Task

    for work in (lambda _t: 1, lambda t: t.show(1), lambda _t: 1 / 0, lambda t: t.hand_over(2)):
        task = Task("late", work, {})
        sip.delete(task)
        task.run()


def test_nothing_is_begun_while_the_window_closes(window: Window):
    begun = []
    window.tasks.cancel_all()
    window.tasks.start("late", lambda _t: begun.append(1), print, print)
    assert window.tasks.idle
    assert window.tasks._pool.activeThreadCount() == 0
    assert not begun
