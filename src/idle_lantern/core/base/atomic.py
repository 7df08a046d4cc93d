"""Writing files so that a crash, a full disk or a cancel never leaves half of one.

Everything that is written goes first into a part file beside its target and takes the target's place when
it is complete. A part file is locked while its writer lives, so that what a killed writer left is known and
removed by whoever writes the same target next.
"""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
import re
import secrets
import stat
from collections.abc import Iterator
from pathlib import Path

from idle_lantern.core.base.errors import InputError

_PART = ".lantern-part"
_FULL = (errno.ENOSPC, errno.EDQUOT, errno.EFBIG)


@contextlib.contextmanager
def replacing(target: Path) -> Iterator[Path]:
    """Give a temporary path beside ``target`` that takes its place on success.

    The temporary file keeps the target's ending, since writers choose the format by it. A target that is a
    link stays one: what it leads to is replaced. The new file has the mode of the old one. On any exception
    the temporary file is removed and the old target stays as it was.

    Raises
    ------
    InputError
        The folder does not exist or cannot be written, or the disk is full.
    """
    target = Path(target)
    real = Path(os.path.realpath(target))
    remove_leftovers(real)
    temporary = _part_of(real)
    try:
        handle = os.open(temporary, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o666)
    except (OSError, ValueError) as error:
        raise InputError(
            f"Cannot write here ({getattr(error, 'strerror', None) or error})",
            where=str(target),
            remedy="Choose a folder that exists and that you may write to",
        ) from error
    try:
        with contextlib.suppress(OSError):  # a file system without locks: what is left there stays
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        yield temporary
        _keep_mode(temporary, real)
        _to_disk(temporary)
        os.replace(temporary, real)
        _to_disk(real.parent)
    except OSError as error:
        _remove(temporary)
        full = error.errno in _FULL
        raise InputError(
            f"Writing failed ({error.strerror or error})",
            where=str(target),
            remedy=f"{'Make room on the disk' if full else 'See that you may write there'} or choose another folder; "
            "nothing was left half-written",
        ) from error
    except BaseException:
        _remove(temporary)
        raise
    finally:
        os.close(handle)


def write_text(target: Path, text: str) -> None:
    """Write ``text`` as UTF-8 to ``target``, whole or not at all."""
    write_bytes(target, text.encode("utf-8", "replace"))


def write_bytes(target: Path, data: bytes) -> None:
    """Write ``data`` to ``target``, whole or not at all."""
    with replacing(target) as temporary:
        temporary.write_bytes(data)


def make_folder(folder: Path, *, inside: Path | None = None) -> None:
    """Make a folder and those above it, where they are not there yet; with ``inside`` only within that one.

    Raises
    ------
    InputError
        It cannot be made, or ``inside`` is not there: a folder that was moved is not begun anew behind its back.
    """
    if inside is not None and not inside.is_dir():
        raise InputError("Is not there any more", where=str(inside), remedy="Bring the folder back")
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except (OSError, ValueError) as error:
        raise InputError(
            f"Cannot be made ({getattr(error, 'strerror', None) or error})",
            where=str(folder),
            remedy="Choose a folder that you may write to",
        ) from error


def check_writable(target: Path) -> None:
    """Say before the work whether ``target`` can be written: its folder is there and takes files.

    Raises
    ------
    InputError
        It is a folder, or its folder is missing or read-only.
    """
    if target.is_dir():
        raise InputError("Is a folder", where=str(target), remedy="Give the name of a file")
    if target.exists() and not target.is_file():
        raise InputError("Is no file that can be replaced", where=str(target), remedy="Give the name of a file")
    folder = Path(os.path.realpath(target)).parent
    if not folder.is_dir():
        raise InputError("Its folder does not exist", where=str(target), remedy="Make the folder first")
    if not os.access(folder, os.W_OK | os.X_OK) or _read_only(folder):
        raise InputError("Its folder is read-only", where=str(target), remedy="Choose a folder you may write to")


def remove_leftovers(target: Path) -> None:
    """Remove what killed writers of the same target left beside it; what a living one holds stays."""
    _remove_parts(target.parent, re.escape(f".{target.stem[:_MOST_STEM]}-"), re.escape(target.suffix))


def remove_all_leftovers(folder: Path) -> None:
    """Remove what killed writers of any file left in ``folder``; what a living one holds stays."""
    _remove_parts(folder, r"\..{0,40}-", r"(\.[^.]*)?")


def _remove_parts(folder: Path, before: str, after: str) -> None:
    name = re.compile(f"{before}[0-9a-f]{{12}}{re.escape(_PART)}{after}", re.DOTALL)
    try:
        found = [e.path for e in os.scandir(folder) if name.fullmatch(e.name) and e.is_file(follow_symlinks=False)]
    except (OSError, ValueError):
        return
    for path in found:
        with contextlib.suppress(OSError):
            if not _is_held(path):
                os.unlink(path)


#: A file name holds 255 bytes; the stem's share of it, with room for what is added.
_MOST_STEM = 40


def _part_of(target: Path) -> Path:
    return target.with_name(f".{target.stem[:_MOST_STEM]}-{secrets.token_hex(6)}{_PART}{target.suffix}")


def _is_held(path: str) -> bool:
    handle = os.open(path, os.O_RDONLY | os.O_CLOEXEC | os.O_NOFOLLOW)
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        return True
    finally:
        os.close(handle)
    return False


def _keep_mode(temporary: Path, target: Path) -> None:
    with contextlib.suppress(OSError):
        os.chmod(temporary, stat.S_IMODE(os.stat(target).st_mode))


def _to_disk(path: Path) -> None:
    handle = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
    try:
        os.fsync(handle)
    except OSError as error:
        if error.errno not in (errno.EINVAL, errno.EBADF):  # some file systems cannot sync a folder
            raise
    finally:
        os.close(handle)


def _remove(path: Path) -> None:
    with contextlib.suppress(OSError):
        path.unlink(missing_ok=True)


def _read_only(folder: Path) -> bool:
    with contextlib.suppress(OSError):
        return bool(os.statvfs(folder).f_flag & os.ST_RDONLY)
    return False
