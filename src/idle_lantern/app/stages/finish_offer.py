"""Truth before invention: another frame that shows a place without what shall go is offered before anything is covered."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import Qt, pyqtBoundSignal, pyqtSignal
from PyQt6.QtGui import QPixmap
from PyQt6.QtWidgets import QLabel, QWidget

from idle_lantern.app import theme
from idle_lantern.app.display import to_qimage
from idle_lantern.app.stages.finish_clean_model import CleanFrame
from idle_lantern.app.widgets.basics import button, column, label, row

_SEEN_PX = 200


class CleanFrameOffer(QWidget):
    """``taken`` gets the frame that shall show there; ``refused`` tells that the place is to be covered all the same."""

    taken = pyqtSignal(object)
    refused = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.offered: CleanFrame | None = None
        self._told = label("", "", wrap=True, name="finish-offer-told")
        self._seen = QLabel()
        take = button("Take what it saw", lambda: self._answer(self.taken), name="finish-offer-take")
        cover = button("Cover it", lambda: self._answer(self.refused), name="finish-offer-cover")
        layout = column(self._told, self._seen, row(take, cover, None))
        layout.setContentsMargins(0, 0, 0, 0)
        self.setLayout(layout)
        self.setVisible(False)

    def offer(self, clean: CleanFrame | None) -> None:
        """Offer a frame, or nothing any more."""
        self.offered = clean
        if clean is not None:
            self._told.setText(clean.sentence)
            shown = QPixmap.fromImage(to_qimage(np.ascontiguousarray(clean.seen)))
            side = theme.scaled(_SEEN_PX)
            self._seen.setPixmap(
                shown.scaled(side, side, Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation)
            )
            self._seen.setAccessibleName(f"What {clean.candidate.name} shows there")
        self.setVisible(clean is not None)

    def _answer(self, signal: pyqtBoundSignal) -> None:
        clean = self.offered
        self.offer(None)
        if clean is not None:
            signal.emit(clean)
