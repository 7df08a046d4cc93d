"""What a file holds, whatever it is called: the SHA-256 of its bytes."""

from __future__ import annotations

import hashlib
from functools import lru_cache
from pathlib import Path

from idle_lantern.core.base.errors import UnreadableFrame


def sha256_of(path: Path) -> str:
    """The hash of a file's bytes, reckoned once as long as size and time stay.

    Raises
    ------
    UnreadableFrame
        It cannot be read.
    """
    try:
        stat = path.stat()
        return _hashed(str(path.resolve()), stat.st_size, stat.st_mtime_ns)
    except OSError as error:
        raise UnreadableFrame(f"Cannot be read ({error.strerror})", where=str(path)) from error


@lru_cache(maxsize=4096)
def _hashed(path: str, _size: int, _time_ns: int) -> str:
    with open(path, "rb") as stream:
        return hashlib.file_digest(stream, "sha256").hexdigest()
