"""Each window leaves word of itself while it is open, so that the next start knows whether the last one ended well."""

from __future__ import annotations

import contextlib
import datetime
import faulthandler
import fcntl
import os
import platform
import re
from dataclasses import dataclass
from pathlib import Path
from typing import IO

from idle_lantern import __version__
from idle_lantern.app import settings

#: So much of a log is told; what led to a crash stands at its end.
_LINES, _BYTES = 80, 60_000
_ENDING = ".session"


@dataclass(frozen=True)
class Crash:
    """A window that ended without closing: when it was opened, and what the interpreter said at its end, if anything."""

    began: str
    trace: str

    def report(self, *, with_paths: bool) -> str:
        """What a person may read, and send to whom they like; folders and files only where they agree."""
        text = "\n".join(
            (
                f"Idle Lantern {__version__}, Python {platform.python_version()}, {platform.system()} {platform.machine()}",
                f"Opened {self.began}, not closed",
                "",
                self.trace.strip() or "The interpreter left no trace (killed, or out of memory).",
                "",
                "Last lines of the log",
                *_tail(settings.log_file()),
            )
        )
        return text if with_paths else without_paths(text)


class Session:
    """The word of an open window; locked while it lives."""

    def __init__(self) -> None:
        self._stream: IO[str] | None = None
        self._path: Path | None = None

    def begin(self) -> list[Crash]:
        """Leave word, and hear of those that ended badly; of each only once. A folder that cannot be written is no reason to stop."""
        folder = settings.sessions_folder()
        try:
            folder.mkdir(parents=True, exist_ok=True)
            crashes = _ended_badly(folder)
            now = datetime.datetime.now()
            self._path = folder / f"{now:%Y%m%d-%H%M%S}-{os.getpid()}{_ENDING}"
            self._stream = open(self._path, "w+", encoding="utf-8")
            fcntl.flock(self._stream, fcntl.LOCK_EX | fcntl.LOCK_NB)
            faulthandler.enable(self._stream)
        except OSError:
            return []
        return crashes

    def end(self) -> None:
        """The window closed as it should."""
        if self._stream is None or self._path is None:
            return
        faulthandler.disable()
        self._path.unlink(missing_ok=True)
        self._stream.close()
        self._stream = None


def without_paths(text: str) -> str:
    """Text in which paths are cut to their last name, and that too where it lies in no program folder."""

    def cut(found: re.Match[str]) -> str:
        path = found[0]
        known = re.search(r"(idle_lantern|site-packages|lib/python[\d.]+)/.*", path)
        return f"…/{known[0]}" if known else "…"

    home = re.escape(str(Path.home()))
    # up to a quote, or the end of what can be told from text
    return re.sub(rf"""({home}|(?<![\w.…])~?/)[^"'\n:,;)]*""", cut, text)


def _ended_badly(folder: Path) -> list[Crash]:
    found = []
    for path in sorted(folder.glob(f"*{_ENDING}")):
        with contextlib.suppress(OSError, ValueError), open(path, "r+", encoding="utf-8", errors="replace") as stream:
            fcntl.flock(stream, fcntl.LOCK_EX | fcntl.LOCK_NB)  # fails where its window lives
            began = datetime.datetime.strptime(path.name[:15], "%Y%m%d-%H%M%S")
            found.append(Crash(f"{began:%Y-%m-%d %H:%M}", stream.read(_BYTES)))
            path.unlink()
    return found


def _tail(path: Path) -> list[str]:
    try:
        with open(path, "rb") as stream:
            stream.seek(max(0, path.stat().st_size - _BYTES))
            return stream.read().decode("utf-8", "replace").splitlines()[-_LINES:]
    except OSError:
        return ["(none)"]
