"""What a join that was killed or stopped leaves behind, so that the same join goes on from there.

Each join has a folder of its own under the user's cache, named by its frames and settings:
finished stages as they were in memory, and the picture's pieces in the order of writing.
Once the picture stands it is removed, but for what another picture of the same frames begins from. Stages are pickled:
they are read again only by the very same code, from the user's own cache.
"""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import logging
import os
import pickle
import shutil
import time
import zlib
from collections.abc import Iterator
from pathlib import Path
from typing import IO, Any

import platformdirs

from idle_lantern.core.base.atomic import replacing
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.fingerprint import code_fingerprint

log = logging.getLogger(__name__)

#: Leftovers nobody came back for are thrown away after so long, and all but so many of the newest.
_DAYS, _MOST = 14, 8
#: Raised when the layout of a checkpoint folder changes.
SCHEMA = 2
_LENGTH_BYTES = 12
#: Pieces are kept only while this much of the cache's disk stays free.
_FREE_BYTES = 2_000_000_000


def key_of(*parts: object) -> str:
    """A name for everything that decides a result: what is given, and the code that reckons with it."""
    whole = repr((SCHEMA, code_fingerprint(), parts))
    return hashlib.sha256(whole.encode("utf-8", "surrogatepass")).hexdigest()[:20]


def checkpoints_folder() -> Path:
    """Where the leftovers of all joins lie."""
    return Path(platformdirs.user_cache_dir("idle-lantern")) / "checkpoints"


class TileJournal:
    """Bytes in order, each whole or not there: what was cut off by a kill is dropped."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._places: list[tuple[int, int]] = []
        self._stream: IO[bytes] | None = None
        try:
            self._stream = open(path, "a+b")
            self._find_whole()
        except OSError as error:
            self._give_up(error)

    def __len__(self) -> int:
        return len(self._places)

    def __getitem__(self, i: int) -> bytes:
        assert self._stream is not None
        at, length = self._places[i]
        self._stream.seek(at)
        return self._stream.read(length)

    def append(self, data: bytes) -> None:
        """Keep one more; a full disk only ends the keeping."""
        if self._stream is None:
            return
        try:
            if shutil.disk_usage(self._path.parent).free < _FREE_BYTES + len(data):
                raise OSError("the disk is nearly full")
            self._stream.seek(0, 2)
            at = self._stream.tell()
            self._stream.write(len(data).to_bytes(8, "big") + zlib.crc32(data).to_bytes(4, "big") + data)
            self._stream.flush()
            self._places.append((at + _LENGTH_BYTES, len(data)))
        except OSError as error:
            self._give_up(error)

    def close(self) -> None:
        """Let the file go."""
        if self._stream is not None:
            self._stream.close()
            self._stream = None

    def _find_whole(self) -> None:
        assert self._stream is not None
        self._stream.seek(0)
        end = 0
        while True:
            head = self._stream.read(_LENGTH_BYTES)
            if len(head) < _LENGTH_BYTES:
                break
            length = int.from_bytes(head[:8], "big")
            data = self._stream.read(length)
            if len(data) < length or zlib.crc32(data) != int.from_bytes(head[8:], "big"):
                break
            self._places.append((end + _LENGTH_BYTES, length))
            end += _LENGTH_BYTES + length
        self._stream.truncate(end)

    def _give_up(self, error: OSError) -> None:
        log.warning("pieces are not kept: %s", error)
        self.close()


class Checkpoint:
    """The leftovers of one join; ``folder`` None keeps nothing."""

    def __init__(self, folder: Path | None = None) -> None:
        self._folder = folder

    def load(self, stage: str) -> Any:
        """What was kept of a stage, or None."""
        if self._folder is None:
            return None
        try:
            with open(self._folder / f"{stage}.pickle", "rb") as stream:
                return pickle.load(stream)
        except FileNotFoundError:
            return None
        except Exception as error:  # damaged leftovers are no reason to fail: the stage is done again
            log.warning("leftover %s cannot be used: %s", stage, error)
            return None

    def save(self, stage: str, value: object) -> None:
        """Keep a finished stage; a full disk only ends the keeping."""
        if self._folder is None:
            return
        try:
            with replacing(self._folder / f"{stage}.pickle") as part, open(part, "wb") as stream:
                pickle.dump(value, stream, protocol=pickle.HIGHEST_PROTOCOL)
        except InputError as error:
            log.warning("stage %s is not kept: %s", stage, error)

    @contextlib.contextmanager
    def journal(self, name: str) -> Iterator[TileJournal | None]:
        """The kept pieces of a picture."""
        if self._folder is None:
            yield None
            return
        pieces = TileJournal(self._folder / f"{name}.pieces")
        try:
            yield pieces
        finally:
            pieces.close()

    def note_part(self, path: Path) -> None:
        """Remember a half-written file, to remove it if this run is killed."""
        if self._folder is not None:
            with contextlib.suppress(OSError):
                (self._folder / "part").write_bytes(os.fsencode(path))

    def _remove_part(self) -> None:
        assert self._folder is not None
        with contextlib.suppress(OSError, ValueError):
            left = Path(os.fsdecode((self._folder / "part").read_bytes()))
            if left.name.startswith("."):
                left.unlink(missing_ok=True)
            (self._folder / "part").unlink()


@contextlib.contextmanager
def checkpointed(root: Path | None, key: str, *, fresh: bool = False, keep: str = "") -> Iterator[Checkpoint]:
    """The leftovers of the join ``key`` under ``root``, removed when the block ends well but for the stage ``keep``.

    Nothing is kept with ``root`` None, where it cannot be written, or while another run of
    the same join works there. ``fresh`` throws leftovers away first.
    """
    folder = None if root is None else root / key
    lock = None
    if folder is not None and root is not None:
        try:
            _throw_old_away(root)
            if fresh:
                shutil.rmtree(folder, ignore_errors=True)
            folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            lock = open(folder / "lock", "w")
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            log.info("nothing is kept of this join: %s", error)
            if lock is not None:
                lock.close()
            yield Checkpoint()
            return
    kept = Checkpoint(folder)
    try:
        if folder is not None:
            kept._remove_part()
        yield kept
        if folder is not None:
            _remove_all_but(folder, keep)
    finally:
        if lock is not None:
            lock.close()


def _remove_all_but(folder: Path, stage: str) -> None:
    """Throw leftovers away but for those of one stage, the whole folder where there are none."""
    kept = folder / f"{stage}.pickle"
    if not stage or not kept.is_file():
        shutil.rmtree(folder, ignore_errors=True)
        return
    for left in folder.iterdir():
        if left not in (kept, folder / "lock"):
            left.unlink(missing_ok=True)


def _throw_old_away(root: Path) -> None:
    """Leftovers nobody came back for."""
    if not root.is_dir():
        return
    folders = sorted((f for f in root.iterdir() if f.is_dir()), key=lambda f: -f.stat().st_mtime)
    for i, folder in enumerate(folders):
        if i >= _MOST or time.time() - folder.stat().st_mtime > _DAYS * 86400:
            shutil.rmtree(folder, ignore_errors=True)
