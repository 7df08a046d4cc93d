"""Files and folders from anywhere: dropped on the window, pasted, or given at the start; each goes where it belongs."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PyQt6.QtCore import QMimeData, QObject
from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import QDialog, QWidget

from idle_lantern.app.context import AppContext
from idle_lantern.app.outings import Outings
from idle_lantern.app.planning.commands import PlanCommands
from idle_lantern.app.stages.importing import Bringing
from idle_lantern.core.frames.reading import SUFFIXES
from idle_lantern.core.outing import document

_PLANS = (".json", ".csv")
#: What is no picture, outing or plan, and where it goes instead.
_ELSEWHERE = {
    ".icc": "is a colour profile: choose it under View, Profile of the screen, or under Deliver",
    ".icm": "is a colour profile: choose it under View, Profile of the screen, or under Deliver",
    ".pdf": "is a PDF: pictures, outings and plans can be brought in",
}


class Arrivals(QObject):
    """Takes outings (their folder, or its document), plans and frame lists, pictures and folders of pictures."""

    def __init__(
        self, context: AppContext, outings: Outings, plans: PlanCommands, bringing: Bringing, parent: QWidget
    ) -> None:
        super().__init__(parent)
        self._context, self._outings, self._plans, self._bringing = context, outings, plans, bringing

    def take(self, paths: Sequence[Path], *, anew: bool = False) -> bool:
        """Bring files and folders in; with ``anew`` pictures and plans begin an outing of their own. False where that was refused."""
        paths = [path.absolute() for path in paths]
        sentence = _refused(paths)
        if sentence:
            self._context.tell(sentence)
            return False
        outing = next((folder for path in paths if (folder := _outing_of(path)) is not None), None)
        if outing is not None:
            return self._outings.open(outing)
        if paths[0].suffix.lower() in _PLANS:
            if anew:
                self._outings.begin(paths[0].stem)
            self._plans.bring_plan(paths[0])
            self._context.ask("go.plan")
            return True
        if anew:
            self._outings.begin(paths[0].name if paths[0].is_dir() else paths[0].parent.name, "photographs")
        self._bringing.bring(paths)
        return True

    def take_data(self, data: QMimeData | None) -> bool:
        """Bring in what was dropped or lies on the clipboard: files, or paths as text. False where it holds none."""
        paths = paths_in(data)
        if not paths:
            held = (
                "a picture without a file: save it, then drop the file here" if data and data.hasImage() else "no files"
            )
            self._context.tell(f"That holds {held}.")
            return False
        return self.take(paths)


class FilesDialog(QDialog):
    """A dialog that files and folders can be dropped on; ``add`` takes them."""

    def __init__(self, parent: QWidget | None) -> None:
        super().__init__(parent)
        self.setAcceptDrops(True)

    def add(self, paths: Sequence[Path]) -> None:
        """Take files and folders."""
        raise NotImplementedError

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        if event is not None and paths_in(event.mimeData()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        if event is not None:
            self.add(paths_in(event.mimeData()))


def paths_in(data: QMimeData | None) -> list[Path]:
    """Files that dropped or copied data names; text counts where each of its lines is the path of something that is there."""
    if data is None:
        return []
    if data.hasUrls():
        return [Path(url.toLocalFile()) for url in data.urls() if url.isLocalFile()]
    lines = [line.strip() for line in data.text().splitlines() if line.strip()] if data.hasText() else []
    paths = [Path(line.removeprefix("file://")) for line in lines[:1000]]
    return paths if all(path.is_absolute() and path.exists() for path in paths) else []


def _outing_of(path: Path) -> Path | None:
    """The folder of an outing that a path means, None where it means none."""
    if path.name == document.DOCUMENT:
        return path.parent
    return path if (path / document.DOCUMENT).is_file() else None


def _refused(paths: Sequence[Path]) -> str:
    """Why files cannot be taken, in a sentence; empty where they can."""
    missing = next((path for path in paths if not path.exists()), None)
    if missing is not None:
        return f"{missing.name} is not there: {missing}."
    outings = [path for path in paths if _outing_of(path) is not None]
    if outings and len(paths) > 1:
        return f"{outings[0].name} is an outing: open one at a time, and without other files."
    if outings:
        return ""
    plans = [path for path in paths if path.suffix.lower() in _PLANS]
    if plans and len(paths) > 1:
        return f"{plans[0].name} is a plan or a frame list: bring in one at a time, and without other files."
    for path in paths:
        ending = path.suffix.lower()
        if path.is_dir() or ending in SUFFIXES or ending in _PLANS:
            continue
        why = _ELSEWHERE.get(ending, "is no picture, outing or plan that can be read")
        return f"{path.name} {why}."
    return ""
