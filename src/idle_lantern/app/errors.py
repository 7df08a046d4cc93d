"""The last net: nothing unexpected goes unseen, and open work is saved first."""

from __future__ import annotations

import logging
import logging.handlers
import sys
from types import TracebackType

from PyQt6.QtCore import QtMsgType, qInstallMessageHandler

from idle_lantern.app import settings
from idle_lantern.app.state import AppState
from idle_lantern.core.base.errors import LanternError

log = logging.getLogger("idle_lantern")


def start_logging() -> None:
    """Log to a rotating file."""
    path = settings.log_file()
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handler = logging.handlers.RotatingFileHandler(path, maxBytes=500_000, backupCount=2, encoding="utf-8")
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
            safe = "Your outing is saved" if not state.unsaved else "Your last changes are not saved yet"
            what = LanternError(
                f"Something unexpected happened ({kind.__name__}: {error})",
                remedy=f"{safe}; details are in {settings.shown(settings.log_file())}",
            )
            state.message.emit(what.sentence, True)
        except Exception:
            sys.__excepthook__(kind, error, trace)

    sys.excepthook = hook


def _from_qt(kind: QtMsgType, _context: object, message: str | None) -> None:
    level = {QtMsgType.QtDebugMsg: logging.DEBUG, QtMsgType.QtInfoMsg: logging.INFO}.get(kind, logging.WARNING)
    log.log(level, "Qt: %s", message)
