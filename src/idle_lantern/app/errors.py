"""The last net: nothing unexpected goes unseen, and open work is saved first."""

from __future__ import annotations

import faulthandler
import logging
import logging.handlers
import sys
from types import TracebackType
from typing import TextIO

from PyQt6.QtCore import QtMsgType, qInstallMessageHandler

from idle_lantern.app import settings
from idle_lantern.app.state import AppState

log = logging.getLogger("idle_lantern")
_crash_file: TextIO | None = None


def start_logging() -> None:
    """Log to a rotating file; faults of the interpreter to another."""
    global _crash_file
    path = settings.log_file()
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handler = logging.handlers.RotatingFileHandler(path, maxBytes=500_000, backupCount=2, encoding="utf-8")
        _crash_file = open(path.with_name("crash.txt"), "a", encoding="utf-8")
        faulthandler.enable(_crash_file)
    except OSError:
        return
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(name)s: %(message)s"))
    logging.getLogger().addHandler(handler)
    logging.getLogger().setLevel(logging.INFO)
    qInstallMessageHandler(_from_qt)


def catch_all(state: AppState) -> None:
    """Send what nobody caught to the message line, the outing saved before."""

    def hook(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        log.critical("uncaught", exc_info=(kind, error, trace))
        try:
            state.save_now()
            state.message.emit(
                f"Something unexpected happened ({kind.__name__}: {error}). Your outing is saved; details are in {settings.log_file()}.",
                True,
            )
        except Exception:
            sys.__excepthook__(kind, error, trace)

    sys.excepthook = hook


def _from_qt(kind: QtMsgType, _context: object, message: str | None) -> None:
    level = {QtMsgType.QtDebugMsg: logging.DEBUG, QtMsgType.QtInfoMsg: logging.INFO}.get(kind, logging.WARNING)
    log.log(level, "Qt: %s", message)
