"""Clicking and typing at random in a real window: no traceback, memory that stays, and a document that is what is shown."""

from __future__ import annotations

import contextlib
import ctypes
import gc
import logging
import os
import sys
import time
from dataclasses import dataclass, field
from pathlib import Path
from random import Random
from types import TracebackType

import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt, QTimer
from PyQt6.QtGui import QWheelEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import (
    QAbstractButton,
    QApplication,
    QComboBox,
    QDialog,
    QFileDialog,
    QInputDialog,
    QLineEdit,
    QTableWidget,
    QWidget,
)

from idle_lantern.app.actions import ACTIONS
from idle_lantern.app.settings import Settings
from idle_lantern.app.window import Window
from idle_lantern.core.outing import document, edits

#: What people type, and what nobody should.
_TYPED = (
    "12", "-35", "33 %", "1/3", "50 mm", "f/8", "1/125", "2.5 m", "infinity", "360", "0", "", "x", "1e999", "-", "°", "٣",
    "20:15", "2026-05-14", "55.5", "9" * 40, "a" * 300, "½", "\t", "3 x 4",
)  # fmt: skip
_NOT_PRESSED = ("app.quit",)
_KEYS = (Qt.Key.Key_Tab, Qt.Key.Key_Return, Qt.Key.Key_Escape, Qt.Key.Key_Down, Qt.Key.Key_Up, Qt.Key.Key_Space, Qt.Key.Key_Delete)  # fmt: skip


@dataclass
class Clicked:
    """What became of it."""

    steps: int = 0
    faults: list[str] = field(default_factory=list)
    compared: int = 0
    rss_mib: list[float] = field(default_factory=list)

    @property
    def growth(self) -> float:
        """Share by which the least that is held grew, from when everything was used once to the end.

        What a large plan or picture takes meanwhile comes and goes; a leak lifts the least as well.
        """
        n = len(self.rss_mib)
        return min(self.rss_mib[-2 * n // 5 :]) / min(self.rss_mib[n // 5 : 3 * n // 5]) - 1 if n >= 10 else 0.0


#: A run of more steps tells how far it has come.
_LONG = 5000


def click(steps: int, rng: Random, frames: list[Path], folder: Path, *, seconds: float = 1e9) -> Clicked:
    """``steps`` random things, or as many as fit into the time, in a window with an outing and a few frames."""
    done = Clicked()
    before = sys.excepthook

    def caught(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        while trace is not None and trace.tb_next is not None:
            trace = trace.tb_next
        at = f"{trace.tb_frame.f_code.co_filename}:{trace.tb_lineno}" if trace is not None else ""
        done.faults.append(f"step {done.steps}: {kind.__name__}: {error} at {at}")

    class Heard(logging.Handler):
        """What the last barriers caught, and told as a sentence, is a fault all the same."""

        def emit(self, record: logging.LogRecord) -> None:
            done.faults.append(f"step {done.steps}: {self.format(record)[-1500:]}")

    heard = Heard(logging.ERROR)
    logging.getLogger("idle_lantern").addHandler(heard)
    sys.excepthook = caught
    with pytest.MonkeyPatch.context() as patched:
        _answer_dialogs(patched, rng, frames, folder)
        window = Window(Settings())
        window.resize(1280, 800)
        window.show()
        window.outings.begin("Clicked")
        window.state.apply(edits.set_rig("Small camera", width_px=300, height_px=200))
        end = time.monotonic() + seconds
        closer = QTimer()
        closer.timeout.connect(lambda: _leave_dialogs(rng))
        closer.start(15)
        try:
            while done.steps < steps and time.monotonic() < end:
                done.steps += 1
                try:
                    _one(window, rng)
                except Exception as error:  # what a click called directly raised is a fault like any other
                    caught(type(error), error, error.__traceback__)
                QApplication.processEvents()
                if done.steps % max(1, min(500, steps // 20)) == 0:
                    try:
                        _compare(window, done)
                    except Exception as error:
                        caught(type(error), error, error.__traceback__)
                    if steps > _LONG:
                        sys.stderr.write(f"{done.steps} steps, {done.rss_mib[-1]:.0f} MiB\n")
        finally:
            closer.stop()
            sys.excepthook = before
            logging.getLogger("idle_lantern").removeHandler(heard)
            window.tasks.cancel_all()
            window.end_now()
            QApplication.processEvents()
    return done


def _compare(window: Window, done: Clicked) -> None:
    """What is on disk is what is shown."""
    window.state.save_now()
    folder = window.state.folder
    if folder is not None and not window.state.unsaved:
        done.compared += 1
        if document.load(folder) != window.state.outing:
            done.faults.append(f"step {done.steps}: the document differs from what is shown")
    _measure(window, done)


def _measure(window: Window, done: Clicked) -> None:
    """What the window holds with nothing open: an outing of hundreds of frames holds more, and gives it back with it."""
    folder, stage = window.state.folder, window.stage
    window.outings.begin("Measured")
    QApplication.processEvents()
    gc.collect()
    ctypes.CDLL(None).malloc_trim(0)  # what is free already counts for nothing
    with open("/proc/self/status") as lines:
        done.rss_mib.append(next(int(line.split()[1]) / 1024 for line in lines if line.startswith("VmRSS")))
    if folder is not None:
        window.open_outing(folder, stage)
        QApplication.processEvents()


def _one(window: Window, rng: Random) -> None:
    what = rng.random()
    if what < 0.2:
        window.trigger(rng.choice([a.id for a in ACTIONS if a.id not in _NOT_PRESSED]))
        return
    if what < 0.27:
        with contextlib.suppress(AttributeError):
            rng.choice((window.state.undo, window.state.redo))()
        return
    if what < 0.3:
        size = rng.choice(((1000, 640), (1280, 800), (1600, 1000)))
        window.resize(*size)
        return
    if what < 0.33:
        QTest.qWait(rng.choice((1, 20, 200)))
        return
    widgets = [w for w in window.findChildren(QWidget) if w.isVisible() and w.isEnabled()]
    if what < 0.45:
        target: QWidget = window.map
    else:
        chosen = [w for w in widgets if isinstance(w, (QAbstractButton, QComboBox, QLineEdit, QTableWidget))]
        target = rng.choice(chosen or widgets)
    at = QPoint(rng.randrange(max(1, target.width())), rng.randrange(max(1, target.height())))
    if isinstance(target, QLineEdit) and rng.random() < 0.8:
        target.setFocus()
        target.selectAll()
        text = rng.choice(_TYPED)
        if text.isascii() and text.isprintable():
            QTest.keyClicks(target, text)
        else:
            target.insert(text)  # the simulated keyboard has Latin letters only
        QTest.keyClick(target, rng.choice((Qt.Key.Key_Return, Qt.Key.Key_Tab, Qt.Key.Key_Escape)))
    elif isinstance(target, QComboBox):
        if target.count():
            target.setCurrentIndex(rng.randrange(target.count()))
            target.activated.emit(target.currentIndex())
    elif rng.random() < 0.1:
        turn = QWheelEvent(
            QPointF(at), QPointF(target.mapToGlobal(at)), QPoint(), QPoint(0, rng.choice((-120, 120))),
            Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False,
        )  # fmt: skip
        QApplication.sendEvent(target, turn)
    elif rng.random() < 0.15:
        QTest.keyClick(target, rng.choice(_KEYS))
    elif target is window.map and rng.random() < 0.5:
        QTest.mousePress(target, Qt.MouseButton.LeftButton, pos=at)
        QTest.mouseMove(target, at + QPoint(rng.randrange(-200, 200), rng.randrange(-80, 80)))
        QTest.mouseRelease(target, Qt.MouseButton.LeftButton, pos=at + QPoint(rng.randrange(-200, 200), 0))
    else:
        QTest.mouseClick(target, Qt.MouseButton.LeftButton, pos=at)


def _leave_dialogs(rng: Random) -> None:
    """Dialogs that wait for an answer get a random one; menus that are open are closed."""
    popup = QApplication.activePopupWidget()
    if popup is not None:
        popup.close()
    dialog = QApplication.activeModalWidget()
    if isinstance(dialog, QDialog):
        buttons = [b for b in dialog.findChildren(QAbstractButton) if b.isVisible() and b.isEnabled()]
        if buttons and rng.random() < 0.6:
            # not from here: a question that this click brings up would wait for this very timer, which does not come again
            QTimer.singleShot(0, rng.choice(buttons).click)
        else:
            dialog.reject()


def _answer_dialogs(patched: pytest.MonkeyPatch, rng: Random, frames: list[Path], folder: Path) -> None:
    """Questions of the system are answered at random too."""
    number = [0]

    def save_name(*_a: object, **_k: object) -> tuple[str, str]:
        number[0] += 1
        ending = rng.choice((".tif", ".jpg", ".png", ".json", ".csv", ".pdf", ".txt", "", ".odd"))
        return rng.choice(("", str(folder / f"saved-{number[0] % 20}{ending}"), str(folder / "no" / "where.tif"))), ""

    def open_names(*_a: object, **_k: object) -> tuple[list[str], str]:
        return [str(f) for f in frames if rng.random() < 0.7], ""

    def open_name(*_a: object, **_k: object) -> tuple[str, str]:
        found = [str(p) for p in folder.iterdir() if p.is_file()]
        return rng.choice(["", *found]), ""

    patched.setattr(QFileDialog, "getSaveFileName", save_name)
    patched.setattr(QFileDialog, "getOpenFileNames", open_names)
    patched.setattr(QFileDialog, "getOpenFileName", open_name)
    patched.setattr(QFileDialog, "getExistingDirectory", lambda *_a, **_k: rng.choice(("", str(folder), os.devnull)))
    patched.setattr(QInputDialog, "getText", lambda *_a, **_k: (rng.choice(_TYPED), rng.random() < 0.7))
    patched.setattr(QInputDialog, "getMultiLineText", lambda *_a, **_k: (rng.choice(_TYPED) * 3, rng.random() < 0.7))
