"""How large a picture is shown: the tools that change it, and the figure that tells it."""

from __future__ import annotations

from PyQt6.QtWidgets import QLabel

from idle_lantern.app.widgets.basics import label
from idle_lantern.app.widgets.picture_view import PictureView

#: Tools of every picture.
SIZES = ("How large?", ("picture.fit", "picture.full", "picture.in", "picture.out"))


def zoom_told(view: PictureView) -> QLabel:
    """The present size in per cent of the picture's own pixels."""
    told = label("", "dim")
    view.zoomed.connect(lambda zoom: told.setText(f"{100 * zoom * view.devicePixelRatioF():.0f} %" if zoom else ""))
    return told
