"""The outing's scouting pictures ready to be drawn: read off the interface thread, kept while they are named."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, pyqtSignal

from idle_lantern.app.state import AppState
from idle_lantern.app.tasks import Task, TaskRunner
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.outing import document
from idle_lantern.core.scouting.scout_picture import ScoutPicture

if TYPE_CHECKING:
    from idle_lantern.core.scouting.reprojection import ReprojectedScouts

READING = "Reading the scouting pictures"


class ScoutGrounds(QObject):
    """``changed`` says that what is to be drawn is another."""

    changed = pyqtSignal()

    def __init__(self, state: AppState, tasks: TaskRunner, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._state, self._tasks = state, tasks
        self._read: dict[str, ReprojectedScouts] = {}
        self._asked: set[str] = set()
        self._missing: set[str] = set()
        self._of = ""
        state.changed.connect(self._refresh)

    def shown(self) -> tuple[ReprojectedScouts, ...]:
        """The pictures that are shown and read, the one in front first."""
        if not self._read:
            return ()
        from idle_lantern.core.scouting.reprojection import moved  # loads the engine, which no start needs

        return tuple(
            moved(self._read[p.asset], p) for p in self._state.outing.scouts if p.shown and p.asset in self._read
        )

    @property
    def complete(self) -> bool:
        """Whether all that is shown is read, or known to be gone."""
        return all(p.asset in self._read or p.asset in self._missing for p in self._state.outing.scouts if p.shown)

    def _refresh(self, topics: set[str]) -> None:
        if not topics & {"outing", "scouts"}:
            return
        if self._of != self._state.outing.id:
            self._of = self._state.outing.id
            self._read.clear()
            self._asked.clear()
            self._missing.clear()
            self.changed.emit()
        named = {p.asset for p in self._state.outing.scouts}
        for gone in set(self._read) - named:
            del self._read[gone]
        wanted = [p for p in self._state.outing.scouts if p.asset not in self._read and p.asset not in self._asked]
        place = self._state.place
        if wanted and place is not None:
            self._asked |= {p.asset for p in wanted}
            self._start(wanted)
        if "scouts" in topics:
            self.changed.emit()

    def _start(self, wanted: list[ScoutPicture]) -> None:
        place = self._state.place
        assert place is not None

        def work(_task: Task) -> tuple[dict[str, ReprojectedScouts], list[tuple[str, str]]]:
            from idle_lantern.core.scouting.reprojection import read_reprojected

            read, failed = {}, []
            for picture in wanted:
                try:
                    read[picture.asset] = read_reprojected(picture, document.scout_file(place.folder, picture))
                except LanternError as error:
                    failed.append((picture.asset, error.sentence))
            return read, failed

        def done(result: tuple[dict[str, ReprojectedScouts], list[tuple[str, str]]]) -> None:
            if not self._state.is_open(place):
                return
            read, failed = result
            self._read |= read
            self._asked -= set(read)
            for asset, sentence in failed:
                self._missing.add(asset)
                self._state.message.emit(sentence, True)
            self.changed.emit()

        self._tasks.start(READING, work, done, lambda e: self._state.message.emit(e.sentence, True), quiet=True)
