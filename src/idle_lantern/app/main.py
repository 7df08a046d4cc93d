"""Start-up in order: typeface and look, settings, window, the last outing or a new one."""

from __future__ import annotations

import contextlib
import logging
import os
import signal
import sys
from collections.abc import Sequence
from importlib import resources
from pathlib import Path

from PyQt6.QtCore import QObject, QSocketNotifier, QTimer
from PyQt6.QtGui import QIcon
from PyQt6.QtWidgets import QApplication

from idle_lantern.app import errors, settings, theme
from idle_lantern.app.garbage_collection import InterfaceThreadCollector
from idle_lantern.app.sessions import Crash, Session
from idle_lantern.app.window import Window


def make_application() -> QApplication:
    """The one application object, with typeface and icon."""
    app = QApplication.instance()
    if not isinstance(app, QApplication):
        app = QApplication(["idle-lantern"])
        InterfaceThreadCollector(app)
    app.setApplicationName("Idle Lantern")
    app.setDesktopFileName("idle-lantern")
    theme.load_typeface()
    icon = resources.files(__package__).joinpath("resources/idle-lantern.svg")
    with resources.as_file(icon) as path:
        app.setWindowIcon(QIcon(str(path)))
    return app


def has_display() -> bool:
    """Whether a window can be shown."""
    return bool(os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY") or os.environ.get("QT_QPA_PLATFORM"))


def run(outing: Path | None = None, brought: Sequence[Path] = ()) -> int:
    """Open the window, with an outing or with files that were given at the start, and stay until it is closed."""
    errors.start_logging()
    session = Session()
    crashes = session.begin()
    app = make_application()
    kept = settings.load()
    theme.apply(app, kept.look, kept.text_size)
    window = Window(kept)
    errors.catch_all(window.state)
    ender = _Ender(window)
    window.show()
    QTimer.singleShot(0, lambda: _first_outing(window, outing, crashes, brought))
    code = app.exec()
    signal.set_wakeup_fd(-1)
    session.end()
    code = INTERRUPTED if ender.asked else code
    if window.tasks.outlives:  # what could not be stopped in time must not outlive what it would tell
        logging.shutdown()
        os._exit(code)
    return code


#: As the command line ends when it is interrupted.
INTERRUPTED = 130


class _Ender(QObject):
    """Ends the window when the system asks for it: saved, without a question that nobody is there to answer.

    Python hears a signal only between its own steps, and Qt may wait for long; the signal's number comes
    through a pipe, which wakes Qt up.
    """

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self.asked = False
        self._window = window
        self._heard, told = os.pipe2(os.O_NONBLOCK | os.O_CLOEXEC)
        signal.set_wakeup_fd(told, warn_on_full_buffer=False)
        for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
            if signal.getsignal(number) != signal.SIG_IGN:
                signal.signal(number, lambda *_: None)
        # the stub knows no plain descriptor
        self._notifier = QSocketNotifier(self._heard, QSocketNotifier.Type.Read, self)  # type: ignore[call-overload]
        self._notifier.activated.connect(self._end)

    def _end(self) -> None:
        with contextlib.suppress(OSError):
            os.read(self._heard, 64)
        self.asked = True
        self._window.end_now()


def _first_outing(window: Window, outing: Path | None, crashes: list[Crash], brought: Sequence[Path] = ()) -> None:
    told: list[str] = []
    listening = window.state.message.connect(lambda sentence, problem: told.append(sentence) if problem else None)
    last = Path(window.context.settings.last_outing) if window.context.settings.last_outing else None
    opened = any(
        folder is not None and (folder / "outing.json").exists() and window.open_outing(folder)
        for folder in (outing, last)
    )
    if not opened:
        faults = list(told)
        window.outings.begin("First outing")
        if faults:  # why the last one is not open matters more than where the new one lies
            window.tell(faults[0], True)
        elif not brought and last is None:
            window.outings.welcome()
    window.state.message.disconnect(listening)
    if brought:
        window.arrivals.take(brought, anew=True)
    if window.context.settings.screen_profile:
        window.show_for_screen(window.context.settings.screen_profile)
    if crashes:
        window.tell_crash(crashes)


if __name__ == "__main__":
    sys.exit(run())
