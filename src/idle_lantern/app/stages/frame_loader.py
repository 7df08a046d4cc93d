"""Thumbnails, facts and contents of frames, read off the thread."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from idle_lantern.app.context import AppContext
from idle_lantern.app.stages import frames_model as model
from idle_lantern.app.tasks import Task
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.frames.reading import FrameInfo, probe, thumbnail
from idle_lantern.core.outing.model import FrameRef

LOADING = "Reading frames"
THUMBNAIL_PX = 400


class FrameLoader(QObject):
    """``infos`` and ``faults`` of the frames that were read, by id; ``came`` tells a frame and its thumbnail, None where it cannot be read."""

    came = pyqtSignal(str, object)

    def __init__(self, context: AppContext, parent: QObject) -> None:
        super().__init__(parent)
        self._context, self._state = context, context.state
        self.infos: dict[str, FrameInfo] = {}
        self.faults: dict[str, str] = {}
        self._loading: set[str] = set()

    def forget(self) -> None:
        """File names mean other files now."""
        self.infos.clear()
        self.faults.clear()
        self._loading.clear()

    def load(self, refs: list[FrameRef]) -> None:
        """Read frames that are not being read yet."""
        place, outing = self._state.place, self._state.outing
        refs = [r for r in refs if r.id not in self._loading]
        if not refs or place is None:
            return
        self._loading |= {r.id for r in refs}
        jobs = [(r.id, self._state.path_of(r)) for r in refs]

        def work(task: Task) -> dict[str, str]:
            task.begin("work", len(jobs))
            for frame, path in jobs:
                try:
                    info = probe(path)
                    task.show((frame, info, thumbnail(path, THUMBNAIL_PX).in_space(SRGB).pixels, ""))
                except LanternError as error:
                    task.show((frame, None, None, error.sentence))
                task.advance()
            return model.contents(outing, place.folder, task)

        self._context.start(
            LOADING,
            work,
            lambda hashes: self._state.note_contents(place, hashes),
            lambda e: self._context.tell(e.sentence),
            on_partial=lambda r: self._loaded(r) if self._state.is_open(place) else None,
        )

    def _loaded(self, result: tuple[str, FrameInfo | None, Any, str]) -> None:
        frame, info, pixels, fault = result
        self._loading.discard(frame)
        if info is None:
            self.faults[frame] = fault
        else:
            self.infos[frame] = info
        self.came.emit(frame, pixels)
