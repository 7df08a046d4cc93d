"""A folder that a camera, a card reader or a tethering program writes into: which files are new, and complete.

Asked again and again (``step``); what the folder holds is the truth, so that a notification which gets lost loses no frame. Only the
steady clock is used: a clock that is set meanwhile changes nothing.
"""

from __future__ import annotations

import hashlib
import os
import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from pathlib import Path

from idle_lantern.core.base.errors import UnreadableFrame
from idle_lantern.core.frames.boundary import RAW_SUFFIXES
from idle_lantern.core.frames.reading import SUFFIXES, probe, sound_jpeg

#: A file is complete when it has not changed for so long and can be read; one that cannot is told after the longer time.
_QUIET_S, _GIVEN_UP_S = 0.25, 5.0
#: A raw waits so long for the JPEG of the same shot, and the other way round, where earlier shots had both.
_TWIN_S = 2.0
#: Folders in folders that are looked into: cards hold DCIM/100NAME.
_DEEP = 3
_PIECE = 1 << 20


@dataclass(frozen=True)
class Arrival:
    """A shot that is there: its file, and the JPEG that the camera wrote beside a raw; or a file that cannot be used, and why."""

    path: Path
    twin: Path | None = None
    sha256: str = ""
    trouble: str = ""


@dataclass
class _SeenFile:
    """A file that was seen and is not handed on yet."""

    size: int
    changed_ns: int
    since: float
    first: float
    sha256: str = ""
    tried: tuple[int, int] | None = None


@dataclass
class WatchedFolder:
    """One folder; ``known`` are files that were taken before, ``now`` is the steady clock."""

    folder: Path
    known: Iterable[Path] = ()
    now: Callable[[], float] = time.monotonic
    #: Why the folder cannot be looked at just now; empty while it can.
    trouble: str = ""
    _waiting: dict[Path, _SeenFile] = field(default_factory=dict)
    _taken: dict[tuple[int, int], Path] = field(default_factory=dict)
    _paths: set[Path] = field(default_factory=set)
    _contents: set[str] = field(default_factory=set)
    _both: bool = False

    def __post_init__(self) -> None:
        self._paths = {Path(p) for p in self.known}
        self._known_to_hash = [p for p in self._paths if p.is_file()]

    @property
    def waits(self) -> bool:
        """Whether a file is there that is not complete yet, or waits for its other half."""
        return bool(self._waiting)

    def step(self) -> list[Arrival]:
        """What has become complete since the last time, in order of name."""
        found = self._scan()
        if found is None:
            return []
        for gone in set(self._waiting) - set(found):
            del self._waiting[gone]
        now, complete = self.now(), []
        for path, (size, changed, identity) in sorted(found.items()):
            if path in self._paths or self._moved(path, identity):
                continue
            seen = self._waiting.get(path)
            if seen is None or (seen.size, seen.changed_ns) != (size, changed):
                self._waiting[path] = _SeenFile(size, changed, now, seen.first if seen else now)
            elif now - seen.since >= _QUIET_S:
                complete.append((path, identity))
        return self._handed(complete, now)

    def _scan(self) -> dict[Path, tuple[int, int, tuple[int, int]]] | None:
        """Pictures in the folder with size, time of change and identity; None while it cannot be read."""
        found: dict[Path, tuple[int, int, tuple[int, int]]] = {}
        try:
            self._scan_into(self.folder, found, _DEEP)
        except OSError as error:
            self.trouble = f"{self.folder} cannot be looked at ({os.strerror(error.errno or 0)}): it is tried again."
            return None
        self.trouble = ""
        return found

    def _scan_into(self, folder: Path, found: dict[Path, tuple[int, int, tuple[int, int]]], deep: int) -> None:
        for entry in os.scandir(folder):
            try:
                if entry.name.startswith("."):
                    continue
                if entry.is_dir(follow_symlinks=False):
                    if deep:
                        self._scan_into(Path(entry.path), found, deep - 1)
                elif entry.is_file() and Path(entry.name).suffix.lower() in SUFFIXES:
                    stat = entry.stat()
                    found[Path(entry.path)] = (stat.st_size, stat.st_mtime_ns, (stat.st_dev, stat.st_ino))
            except FileNotFoundError:  # renamed or removed since it was listed
                continue

    def _moved(self, path: Path, identity: tuple[int, int]) -> bool:
        """Whether it is a file taken before, under another name."""
        before = self._taken.get(identity)
        if before is None or before.exists():
            return False
        self._taken[identity] = path
        self._paths.add(path)
        return True

    def _handed(self, complete: list[tuple[Path, tuple[int, int]]], now: float) -> list[Arrival]:
        ready: list[tuple[Path, tuple[int, int], str]] = []
        told: list[Arrival] = []
        for path, identity in complete:
            seen = self._waiting[path]
            sentence = self._readable(path, seen)
            if sentence and now - seen.since < _GIVEN_UP_S:
                continue
            if sentence:
                self._take(path, identity)
                told.append(Arrival(path, trouble=sentence))
            elif seen.sha256:
                ready.append((path, identity, seen.sha256))
        by_stem: dict[tuple[Path, str], list[tuple[Path, tuple[int, int], str]]] = {}
        for row in ready:
            by_stem.setdefault((row[0].parent, row[0].stem.lower()), []).append(row)
        for (parent, stem), rows in sorted(by_stem.items()):
            others = [p for p in self._waiting if p.parent == parent and p.stem.lower() == stem]
            alone = len(rows) == 1 and now - self._waiting[rows[0][0]].since < _TWIN_S
            if alone and (len(others) > 1 or self._both):
                continue  # its other half is being written, or will be
            told += self._shots(rows)
        return told

    def _shots(self, rows: list[tuple[Path, tuple[int, int], str]]) -> list[Arrival]:
        raws = [r for r in rows if r[0].suffix.lower() in RAW_SUFFIXES]
        plain = [r for r in rows if r not in raws]
        if len(raws) == 1 and len(plain) == 1:
            self._both = True
        fresh = []
        for path, identity, sha256 in rows:
            self._take(path, identity)
            if sha256 in self._hashes():
                continue  # the same picture again, under another name
            self._contents.add(sha256)
            fresh.append((path, sha256))
        if len(raws) == 1 and len(plain) == 1 and len(fresh) == 2:
            return [Arrival(raws[0][0], plain[0][0], raws[0][2])]
        return [Arrival(path, sha256=sha256) for path, sha256 in fresh]

    def _take(self, path: Path, identity: tuple[int, int]) -> None:
        self._paths.add(path)
        self._taken[identity] = path
        self._waiting.pop(path, None)

    def _hashes(self) -> set[str]:
        """Contents of all that was taken; files known from before are read when the first one arrives."""
        while self._known_to_hash:
            found = _sha256(self._known_to_hash.pop())
            if found:
                self._contents.add(found)
        return self._contents

    def _readable(self, path: Path, seen: _SeenFile) -> str:
        """Why a quiet file cannot be used yet, empty where it can; a file is tried once for each size it has."""
        if seen.sha256 or seen.tried == (seen.size, seen.changed_ns):
            return "" if seen.sha256 else "Is not complete, or no picture"
        seen.tried = (seen.size, seen.changed_ns)
        try:
            info = probe(path)
            # a JPEG tells its size long before it is whole
            if path.suffix.lower() in (".jpg", ".jpeg") and not (sound_jpeg(info) or _ends_as_jpeg(path)):
                return "Is not complete"
        except UnreadableFrame as error:
            return error.what
        seen.sha256 = _sha256(path)
        return "" if seen.sha256 else "Cannot be read"


def _ends_as_jpeg(path: Path) -> bool:
    """Whether the file ends with the marker that ends a JPEG (ITU-T T.81, B.1.1.3: EOI), filling after it aside."""
    try:
        with path.open("rb") as file:
            file.seek(max(0, path.stat().st_size - 4096))
            return b"\xff\xd9" in file.read()
    except OSError:
        return False


def _sha256(path: Path) -> str:
    digest = hashlib.sha256()
    try:
        with path.open("rb") as file:
            while piece := file.read(_PIECE):
                digest.update(piece)
    except OSError:
        return ""
    return digest.hexdigest()
