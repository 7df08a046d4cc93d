"""How large a picture is shown, and the buttons that change it."""

from __future__ import annotations

from PyQt6.QtWidgets import QLabel, QPushButton

from idle_lantern.app.widgets.basics import button, label
from idle_lantern.app.widgets.picture_view import PictureView


def zoom_told(view: PictureView) -> QLabel:
    """The present size in per cent of the picture's own pixels."""
    told = label("", "dim")
    view.zoomed.connect(lambda zoom: told.setText(f"{100 * zoom * view.devicePixelRatioF():.0f} %" if zoom else ""))
    return told


def zoom_buttons(view: PictureView, *, steps: bool = False) -> list[QPushButton]:
    """The whole picture, its own pixels, and with ``steps`` larger and smaller."""
    found = [button("Fit   [0]", view.fit, quiet=True), button("100 %   [1]", view.show_full, quiet=True)]
    if steps:
        found.append(button("+", lambda: view.zoom_by(1.5), quiet=True))
        found.append(button("−", lambda: view.zoom_by(1 / 1.5), quiet=True))
    return found
