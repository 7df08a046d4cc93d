"""Start-up in order: typeface and look, settings, window, the last outing or a new one."""

from __future__ import annotations

import os
import sys
from importlib import resources
from pathlib import Path

from PyQt6.QtCore import QTimer
from PyQt6.QtGui import QIcon
from PyQt6.QtWidgets import QApplication

from idle_lantern.app import errors, settings, theme
from idle_lantern.app.collector import InterfaceThreadCollector
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


def run(outing: Path | None = None) -> int:
    """Open the window and stay until it is closed."""
    errors.start_logging()
    app = make_application()
    kept = settings.load()
    theme.apply(app, kept.look)
    window = Window(kept)
    errors.catch_all(window.state)
    window.show()
    QTimer.singleShot(0, lambda: _first_outing(window, outing))
    return app.exec()


def _first_outing(window: Window, outing: Path | None) -> None:
    last = Path(window.desk.settings.last_outing) if window.desk.settings.last_outing else None
    for folder in (outing, last):
        if folder is not None and (folder / "outing.json").exists() and window.open_outing(folder):
            return
    window.outings.begin("First outing")


if __name__ == "__main__":
    sys.exit(run())
