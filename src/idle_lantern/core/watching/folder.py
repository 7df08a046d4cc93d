"""A folder that a camera, a card reader or a tethering program writes into: which files are new, and complete.

Asked again and again (``step``); what the folder holds is the truth, so that a notification which gets lost loses no frame. Only the
steady clock is used: a clock that is set meanwhile changes nothing.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from pathlib import Path

from idle_lantern.core.base.errors import UnreadableFrame
from idle_lantern.core.frames.bounds import ends_in_zeros
from idle_lantern.core.frames.reading import SUFFIXES, read
from idle_lantern.core.sorting.card import without_twins

#: A file is tried when it has not changed for so long; one that cannot be read whole is told after the longer time.
_QUIET_S, _GIVEN_UP_S = 0.25, 5.0
#: It is tried again after so long, each time after twice as long, up to the longer.
_AGAIN_S, _SELDOM_S = 1.0, 60.0
#: A file whose last bytes are zero is black there or not written yet: it is believed when it has not changed for so long.
_FOOT_BYTES, _ZEROS_S = 4096, 10.0
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


@dataclass(frozen=True)
class _Stat:
    """What tells one state of a file from another."""

    size: int
    changed_ns: int
    identity: tuple[int, int]

    @classmethod
    def of(cls, stat: os.stat_result) -> _Stat:
        return cls(stat.st_size, stat.st_mtime_ns, (stat.st_dev, stat.st_ino))


@dataclass
class _SeenFile:
    """A file that was seen in a state and is not handed on yet."""

    stat: _Stat
    since: float
    sha256: str = ""
    #: When it is read again, since it could not be read whole, and after what pause the next time.
    again_at: float = 0.0
    pause_s: float = _AGAIN_S
    sentence: str = ""
    told: bool = False


@dataclass
class WatchedFolder:
    """One folder; ``known`` are files that were taken before, ``now`` is the steady clock."""

    folder: Path
    known: Iterable[Path] = ()
    now: Callable[[], float] = time.monotonic
    #: Why the folder, or one in it, cannot be looked at just now; empty while all can.
    trouble: str = ""
    #: Whether it is the folder itself.
    away: bool = False
    _waiting: dict[Path, _SeenFile] = field(default_factory=dict)
    #: The state in which each file was taken, None for a known one that was not there yet.
    _taken: dict[Path, _Stat | None] = field(default_factory=dict)
    _contents: set[str] = field(default_factory=set)
    #: Whether shots come in several files.
    _both: bool = False
    #: The file that stands for each shot, by folder and name without its ending.
    _used: dict[tuple[Path, str], Path] = field(default_factory=dict)

    def __post_init__(self) -> None:
        for path in map(Path, self.known):
            self._taken[path] = None
            with contextlib.suppress(OSError):
                self._taken[path] = _Stat.of(path.stat())
        self._known_to_hash = [p for p, stat in self._taken.items() if stat is not None]

    @property
    def waits(self) -> bool:
        """Whether a file is there that is not complete yet, or waits for its other half; what was told as unusable aside."""
        return any(not seen.told for seen in self._waiting.values())

    def step(self) -> list[Arrival]:
        """What has become complete since the last time, in order of name."""
        found = self._scan()
        if found is None:
            return []
        for gone in set(self._waiting) - set(found):
            del self._waiting[gone]
        now, complete = self.now(), []
        for path, stat in sorted(found.items()):
            if self._taken_as_it_is(path, stat):
                continue
            seen = self._waiting.get(path)
            if seen is None or seen.stat != stat:
                self._waiting[path] = _SeenFile(stat, now)
            elif now - seen.since >= _QUIET_S:
                complete.append(path)
        return self._handed(complete, now)

    def _scan(self) -> dict[Path, _Stat] | None:
        """Pictures in the folder and their states; None while it cannot be read."""
        found: dict[Path, _Stat] = {}
        self.trouble = ""
        try:
            self._scan_into(self.folder, found, _DEEP)
        except OSError as error:
            self.away = True
            self.trouble = f"{self.folder} cannot be looked at ({os.strerror(error.errno or 0)}): it is tried again."
            return None
        self.away = False
        return found

    def _scan_into(self, folder: Path, found: dict[Path, _Stat], deep: int) -> None:
        for entry in os.scandir(folder):
            try:
                if entry.name.startswith("."):
                    continue
                if entry.is_dir(follow_symlinks=False):
                    if deep:
                        self._scan_below(Path(entry.path), found, deep - 1)
                elif entry.is_file() and Path(entry.name).suffix.lower() in SUFFIXES:
                    found[Path(entry.path)] = _Stat.of(entry.stat())
            except FileNotFoundError:  # renamed or removed since it was listed
                continue

    def _scan_below(self, folder: Path, found: dict[Path, _Stat], deep: int) -> None:
        """A folder in the folder; one that cannot be read stops no other."""
        try:
            self._scan_into(folder, found, deep)
        except FileNotFoundError:
            return
        except OSError as error:
            self.trouble = f"{folder} cannot be looked at ({os.strerror(error.errno or 0)}); the others are."

    def _taken_as_it_is(self, path: Path, stat: _Stat) -> bool:
        """Whether a file was taken in this state, under this name or another; one written anew is looked at again."""
        if path in self._taken:
            before = self._taken[path]
            if before is None:
                self._taken[path] = stat
            return before is None or before == stat
        old = next((p for p, s in self._taken.items() if s == stat and not p.exists()), None)
        if old is None:
            return False
        del self._taken[old]
        self._taken[path] = stat
        return True

    def _handed(self, complete: list[Path], now: float) -> list[Arrival]:
        ready: list[Path] = []
        told: list[Arrival] = []
        for path in complete:
            seen = self._waiting[path]
            sentence = "" if seen.sha256 else self._why_not(path, seen, now)
            if seen.sha256:
                ready.append(path)
            elif sentence and not seen.told and now - seen.since >= _GIVEN_UP_S:
                seen.told = True  # and looked at again as long as the folder is watched
                told.append(Arrival(path, trouble=sentence))
        by_stem: dict[tuple[Path, str], list[Path]] = {}
        for path in ready:
            by_stem.setdefault((path.parent, path.stem.lower()), []).append(path)
        for (parent, stem), paths in sorted(by_stem.items()):
            others = [
                p for p, s in self._waiting.items() if p.parent == parent and p.stem.lower() == stem and not s.told
            ]
            alone = len(paths) == 1 and now - self._waiting[paths[0]].since < _TWIN_S
            if alone and (len(others) > 1 or self._both):
                continue  # its other half is being written, or will be
            told += self._shots(paths)
        return told

    def _shots(self, paths: list[Path]) -> list[Arrival]:
        fresh: dict[Path, str] = {}
        anew = {path for path in paths if path in self._taken}
        for path in paths:
            seen = self._waiting.pop(path)
            self._taken[path] = seen.stat
            if seen.sha256 not in self._hashes():  # else the same picture again, under another name
                self._contents.add(seen.sha256)
                fresh[path] = seen.sha256
        used, pairs = without_twins(list(fresh))
        beside = dict(reversed(pairs))
        self._both = self._both or bool(pairs)
        told: list[Arrival] = []
        for path in used:
            before = self._used.setdefault((path.parent, path.stem.lower()), path)
            if path not in anew and (before, path) in without_twins([before, path])[1]:
                continue  # a third file of an exposure that was taken with another
            told.append(Arrival(path, beside.get(path), fresh[path]))
        return told

    def _hashes(self) -> set[str]:
        """Contents of all that was taken; files known from before are read when the first one arrives."""
        while self._known_to_hash:
            found = _sha256(self._known_to_hash.pop())
            if found:
                self._contents.add(found)
        return self._contents

    def _why_not(self, path: Path, seen: _SeenFile, now: float) -> str:
        """Why a quiet file cannot be used yet, empty where it can or is not to be tried now.

        It is complete when it decodes whole: a head tells its size long before the rest is there, and room may have been made
        for all of it before anything was written. One that does not is tried again, less and less often.
        """
        if now < seen.again_at:
            return seen.sentence
        seen.again_at, seen.pause_s = now + seen.pause_s, min(2 * seen.pause_s, _SELDOM_S)
        try:
            if now - seen.since < _ZEROS_S and ends_in_zeros(path, _FOOT_BYTES):
                seen.sentence = "Ends in zeros: it is still being written"
                return seen.sentence
            read(path)
        except (UnreadableFrame, OSError) as error:
            seen.sentence = error.what if isinstance(error, UnreadableFrame) else "Cannot be read"
            return seen.sentence
        seen.sha256 = _sha256(path)
        seen.sentence = "" if seen.sha256 else "Cannot be read"
        return seen.sentence


def _sha256(path: Path) -> str:
    digest = hashlib.sha256()
    try:
        with path.open("rb") as file:
            while piece := file.read(_PIECE):
                digest.update(piece)
    except OSError:
        return ""
    return digest.hexdigest()
