"""How large the file will be: reckoned off the thread once the choices rest, and told only for the choices it was reckoned for."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QObject, QTimer
from PyQt6.QtWidgets import QLabel

from idle_lantern.app.context import AppContext
from idle_lantern.app.stages import deliver_model as model
from idle_lantern.core.base import units

_RESTS_MS = 500
_RECKONING = "Reckoning the size of the file"


class Foretold(QObject):
    """Keeps a label true."""

    def __init__(self, context: AppContext, told: QLabel) -> None:
        super().__init__(told)
        self._context, self._state, self._told = context, context.state, told
        self._of: object = None
        self._rests = QTimer(self)
        self._rests.setSingleShot(True)
        self._rests.setInterval(_RESTS_MS)
        self._rests.timeout.connect(self._reckon)

    def show_choices(self) -> None:
        """Other choices, or the same: what was told of others goes."""
        now = (
            self._state.picture,
            self._state.outing.delivery,
            self._state.outing.finish,
            self._state.outing.composition,
        )
        if now != self._of:
            self._of = now
            self._told.setText("–")
            self._rests.start()

    def _reckon(self) -> None:
        of, joined, picture, place = self._of, self._state.joined, self._state.picture, self._state.place
        outing = self._state.outing
        if joined is None or picture is None or place is None or not self._told.isVisible():
            self._of = None
            return
        work = model.foretold(outing, joined, picture, place.folder)
        if work is None:
            return

        def done(count: Any) -> None:
            if of == self._of:
                self._told.setText(f"about {units.file_size(count)}".replace(" MB", "\u00a0MB"))

        self._context.start(_RECKONING, lambda _task: work(), done, lambda _error: None, quiet=True)
