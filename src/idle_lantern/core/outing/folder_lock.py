"""An outing's folder as one window holds it: who may write, where it lies by now, and what was last written there.

The lock is a small file in the folder, locked as long as its window lives (flock(2)), so that a killed window never
blocks anyone; it tells the next comer whose it is and since when.
"""

from __future__ import annotations

import contextlib
import datetime
import errno
import fcntl
import hashlib
import json
import os
from pathlib import Path
from types import TracebackType

from idle_lantern.core.base.atomic import remove_all_leftovers, write_bytes
from idle_lantern.core.base.errors import InputError, LanternError
from idle_lantern.core.base.strict_json import read_bytes, read_json
from idle_lantern.core.outing import assets, document
from idle_lantern.core.outing.model import Outing

LOCK = ".idle-lantern-lock"
#: Folders in which a killed run may have left half a file.
_ROOMS = ("", document.FRAMES, document.PICTURES, assets.FOLDER)


class LockedOuting:
    """An outing's folder, held for writing where no other window holds it.

    ``reading`` is empty, or says why the outing may only be looked at. A folder that cannot be locked because it cannot be
    written is held all the same: saving says so.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.reading = ""
        self._lock: int | None = None
        self._written = ""
        self._folder_id = _identity(folder)
        self._take()
        if not self.reading:
            for room in _ROOMS:
                remove_all_leftovers(folder / room)

    def __enter__(self) -> LockedOuting:
        return self

    def __exit__(self, _k: type[BaseException] | None, _e: BaseException | None, _t: TracebackType | None) -> None:
        self.release()

    def load(self) -> Outing:
        """The document as it is on disk; see ``document.load``."""
        outing = document.load(self.folder)
        self._written = self._on_disk()
        return outing

    def save(self, outing: Outing) -> Path | None:
        """Write the document. What another program wrote there meanwhile is kept beside it; returns where.

        Raises
        ------
        InputError
            The folder is gone, held by another window, or cannot be written; what was there stays.
        """
        if self.reading:
            raise InputError(self.reading[0].upper() + self.reading[1:], where=str(self.folder))
        if self._folder_id is not None and _identity(self.folder) != self._folder_id:
            raise InputError("Is not there any more", where=str(self.folder), remedy="Bring the folder back")
        other = self._kept_other()
        document.save(outing, self.folder)
        self._written = self._on_disk()
        return other

    def changed_outside(self) -> bool:
        """Whether the document is another than the one last read or written here."""
        return self._on_disk() != self._written

    def try_to_write(self) -> bool:
        """Whether the outing may be written by now: the other window may have let it go."""
        if self.reading:
            self.reading = ""
            self._take()
        return not self.reading

    def moved_to(self) -> Path | None:
        """Where the folder lies by now, if it was moved or renamed; itself where it is as it was, None where it is gone."""
        if self._folder_id is None or _identity(self.folder) == self._folder_id:
            return self.folder
        if self._lock is None:
            return None
        with contextlib.suppress(OSError):
            now = Path(os.readlink(f"/proc/self/fd/{self._lock}")).parent
            if _identity(now) == self._folder_id:
                return now
        return None

    def follow(self, folder: Path) -> None:
        """Go on where the folder lies now."""
        self.folder = folder

    def release(self) -> None:
        """Let others write."""
        if self._lock is None:
            return
        with contextlib.suppress(OSError):
            place = self.moved_to()
            if place is not None and _identity(place / LOCK) == _identity_of(self._lock):
                os.unlink(place / LOCK)
        os.close(self._lock)
        self._lock = None

    def _take(self) -> None:
        path = self.folder / LOCK
        while True:
            try:
                handle = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o644)
            except OSError:
                return  # cannot be written at all: saving tells it
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except OSError as error:
                os.close(handle)
                if error.errno in (errno.EWOULDBLOCK, errno.EACCES):
                    self.reading = _owner(path)
                return  # a file system without locks: nobody can be kept out
            if _identity(path) == _identity_of(handle):
                break
            os.close(handle)  # its holder let it go, and took the file along, between our two steps
        told = {
            "pid": os.getpid(),
            "host": os.uname().nodename,
            "since": datetime.datetime.now().isoformat("T", "minutes"),
        }
        with contextlib.suppress(OSError):
            os.ftruncate(handle, 0)
            os.pwrite(handle, json.dumps(told).encode(), 0)
        self._lock = handle

    def _on_disk(self) -> str:
        try:
            with open(self.folder / document.DOCUMENT, "rb") as stream:
                return hashlib.file_digest(stream, "sha256").hexdigest()
        except OSError:
            return ""

    def _kept_other(self) -> Path | None:
        """Keep a version that another program wrote, under another name; where that fails nothing is overwritten."""
        present = self._on_disk()
        if not self._written or not present or present == self._written:
            return None
        now = datetime.datetime.now()
        other = self.folder / f"outing-other-{now:%Y%m%d-%H%M%S-%f}.json"
        document_path = self.folder / document.DOCUMENT
        try:
            os.link(document_path, other)
        except OSError:  # a file system without links, as on memory cards
            write_bytes(other, read_bytes(document_path))
        return other


def _owner(path: Path) -> str:
    """Whose lock it is, as a sentence without its end."""
    since = host = ""
    with contextlib.suppress(LanternError):
        told = read_json(path)
        if isinstance(told, dict):
            since, host = (str(told.get(k, ""))[:60] for k in ("since", "host"))
    elsewhere = f" on {host}" if host and host != os.uname().nodename else ""
    time = f" since {since.replace('T', ' ')}" if since else ""
    return f"is open in another window{elsewhere}{time}; here it can be looked at, not changed"


def _identity(path: Path) -> tuple[int, int] | None:
    try:
        stat = os.stat(path)
    except (OSError, ValueError):
        return None
    return stat.st_dev, stat.st_ino


def _identity_of(handle: int) -> tuple[int, int]:
    stat = os.fstat(handle)
    return stat.st_dev, stat.st_ino
