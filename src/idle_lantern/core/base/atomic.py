"""Writing files so that a crash, a full disk or a cancel never leaves half of one."""

from __future__ import annotations

import contextlib
import os
import tempfile
from collections.abc import Iterator
from pathlib import Path

from idle_lantern.core.base.errors import InputError


@contextlib.contextmanager
def replacing(target: Path) -> Iterator[Path]:
    """Give a temporary path beside ``target`` that takes its place on success.

    The temporary file keeps the target's ending, since writers choose the format
    by it. On any exception it is removed and the old target stays as it was.

    Raises
    ------
    InputError
        The folder does not exist or cannot be written, or the disk is full.
    """
    target = Path(target)
    try:
        handle, name = tempfile.mkstemp(prefix=f".{target.stem}-", suffix=target.suffix, dir=target.parent)
    except OSError as error:
        raise InputError(
            f"Cannot write here ({error.strerror})",
            where=str(target),
            remedy="Choose a folder that exists and that you may write to",
        ) from error
    os.close(handle)
    temporary = Path(name)
    try:
        yield temporary
        with open(temporary, "rb") as stream:
            os.fsync(stream.fileno())
        os.chmod(temporary, 0o666 & ~_umask())
        os.replace(temporary, target)
    except OSError as error:
        temporary.unlink(missing_ok=True)
        raise InputError(
            f"Writing failed ({error.strerror or error})",
            where=str(target),
            remedy="Make room on the disk or choose another folder; nothing was left half-written",
        ) from error
    except BaseException:
        temporary.unlink(missing_ok=True)
        raise


def write_text(target: Path, text: str) -> None:
    """Write ``text`` as UTF-8 to ``target``, whole or not at all."""
    with replacing(target) as temporary:
        temporary.write_text(text, encoding="utf-8")


def _umask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask
