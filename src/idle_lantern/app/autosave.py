"""Keeps the open outing on disk: saves after edits, tries again, keeps a copy meanwhile, notices when the folder moves."""

from __future__ import annotations

import time
from pathlib import Path

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from idle_lantern.app import settings
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.outing import assets, document, rescue
from idle_lantern.core.outing.edits import Edit
from idle_lantern.core.outing.folder_lock import LockedOuting
from idle_lantern.core.outing.model import Outing

_SAVE_AFTER_MS = 400  # after the last change
_AT_LATEST_S = 1.5  # after the first that is not saved, while others follow
_TRY_AGAIN_MS = 5000  # after a save that failed
_LOOK_MS = 2000  # between two looks whether the folder is still there


class Autosave(QObject):
    """The way of the open outing to disk; holds its folder against other windows.

    ``told`` carries sentences for the message line, ``changed`` says that the state of saving is another,
    ``moved`` that the folder lies elsewhere by now (a path) or is gone (None).
    """

    told = pyqtSignal(str, bool)
    changed = pyqtSignal()
    moved = pyqtSignal(object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._held: LockedOuting | None = None
        #: Outings that work still runs for, though another one is open.
        self._others: dict[Path, LockedOuting] = {}
        self._outing: Outing | None = None
        self.unsaved_since: float | None = None
        self._dirty = self._told_moved = False
        self._waits_since = 0.0
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self.save_now)
        self._look = QTimer(self)
        self._look.setInterval(_LOOK_MS)
        self._look.timeout.connect(self.look)

    @property
    def folder(self) -> Path | None:
        """Where the open outing lies."""
        return self._held.folder if self._held is not None else None

    @property
    def reading(self) -> str:
        """Why the outing may only be looked at; empty where it may be changed."""
        return self._held.reading if self._held is not None else ""

    @property
    def unsaved(self) -> bool:
        """Whether something was changed that is not on disk yet."""
        return self._dirty and self._held is not None

    def read(self, folder: Path) -> tuple[LockedOuting, Outing]:
        """Hold a folder and read its document; what is open stays so until ``change``.

        Raises
        ------
        DocumentError
            It cannot be read.
        """
        if self._held is not None and self._held.folder == folder:
            return self._held, self._held.load()
        held = self._others.get(folder) or LockedOuting(folder)
        try:
            return held, held.load()
        except BaseException:
            self.drop(held)
            raise

    def drop(self, held: LockedOuting) -> None:
        """Let a folder go that was read and is not wanted after all."""
        if held is not self._held and held not in self._others.values():
            held.release()

    def change(self, held: LockedOuting, outing: Outing) -> None:
        """Let a folder be the open outing from now on; the one before is let go when its work is done."""
        self._others.pop(held.folder, None)
        if self._held is not None and self._held is not held:
            self._others[self._held.folder] = self._held
        self._held, self._outing = held, outing
        self._dirty, self.unsaved_since, self._told_moved = False, None, False
        if not held.reading:
            assets.sweep(held.folder, document.assets_named(outing))
        self._timer.stop()
        self._look.start()

    def release_others(self) -> None:
        """Let go of the outings whose work is done."""
        for held in self._others.values():
            held.release()
        self._others.clear()

    def release(self) -> None:
        """Let everything go; for closing."""
        self._look.stop()
        self._timer.stop()
        self.release_others()
        if self._held is not None:
            self._held.release()

    def take(self, outing: Outing) -> None:
        """The open outing as it is now; it is saved in a moment."""
        self._outing, self._dirty = outing, True
        if not self._timer.isActive():
            self._waits_since = time.monotonic()
        # a hand that never rests is not waited for
        if time.monotonic() - self._waits_since < _AT_LATEST_S:
            self._timer.start(_SAVE_AFTER_MS)

    def may_write(self) -> bool:
        """Whether the outing may be changed by now; asks again where another window held it."""
        if self._held is None or not self._held.reading:
            return True
        if not self._held.try_to_write():
            return False
        self.changed.emit()
        return True

    def changed_outside(self) -> bool:
        """Whether another window or program wrote the document since it was read here."""
        return self._held is not None and self._held.changed_outside()

    def apply_elsewhere(self, folder: Path, edit: Edit) -> None:
        """Make an edit in an outing that is not the open one.

        Raises
        ------
        LanternError
            It cannot be read or written, or another window holds it.
        """
        held = self._others.get(folder)
        if held is not None:
            held.save(edit.apply(held.load()))
            return
        with LockedOuting(folder) as mine:
            mine.save(edit.apply(mine.load()))

    def save_now(self) -> None:
        """Write the document if it changed; where that fails it is told once and tried again and again."""
        self._timer.stop()
        if not self._dirty or self._held is None or self._outing is None:
            return
        try:
            other = self._held.save(self._outing)
        except LanternError as error:
            self._not_saved(error)
            return
        self._dirty = False
        if self.unsaved_since is not None:
            self.unsaved_since = None
            rescue.forget(self._outing.id, settings.rescue_folder())
            self.told.emit("Saved again.", False)
            self.changed.emit()
        if other is not None:
            self.told.emit(
                f"Another program had written {document.DOCUMENT}; its version is kept beside it as {other.name}.", True
            )

    def _not_saved(self, error: LanternError) -> None:
        assert self._outing is not None
        assert self._held is not None
        self._timer.start(_TRY_AGAIN_MS)
        copy = "a copy is kept elsewhere"
        try:
            rescue.keep(self._outing, self._held.folder, settings.rescue_folder())
        except LanternError:
            copy = "no copy could be kept elsewhere"
        if self.unsaved_since is None:
            self.unsaved_since = time.time()
            self.told.emit(f"Not saved: {error.sentence} It is tried again by itself; {copy}.", True)
            self.changed.emit()

    def copy_to(self, folder: Path) -> Outing:
        """Go on in another folder, which is made: the document and its assets go along, frames stay where they are.

        Raises
        ------
        InputError
            It cannot be written, or the folder is not empty.
        """
        assert self._outing is not None
        assert self._held is not None
        outing = document.copied(self._outing, self._held.folder, folder)
        held = LockedOuting(folder)
        held.save(outing)
        rescue.forget(outing.id, settings.rescue_folder())
        self.change(held, outing)
        return outing

    def look(self) -> None:
        """See whether the folder is still where it was."""
        if self._held is None or self._told_moved:
            return
        now = self._held.moved_to()
        if now != self._held.folder:
            self._told_moved = True
            self.moved.emit(now)

    def follow(self, folder: Path) -> None:
        """Go on where the folder lies now."""
        assert self._held is not None
        self._held.follow(folder)
        self._told_moved = False
        self.save_now()
        self.changed.emit()
