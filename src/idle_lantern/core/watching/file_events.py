"""Word from the system that something happened in a folder, so that it need not be looked through again and again.

It only wakes: what the folder holds is still found by looking (``folder``). Where the system gives no word (a network share, too many
watches) the caller looks by itself, more often.
"""

from __future__ import annotations

import contextlib
import logging
import threading
from pathlib import Path

from watchdog.events import FileSystemEvent, FileSystemEventHandler
from watchdog.observers import Observer
from watchdog.observers.api import BaseObserver

log = logging.getLogger(__name__)


class FolderEvents(FileSystemEventHandler):
    """Rings when something in ``folder`` changes; ``works`` says whether the system gives word at all."""

    def __init__(self, folder: Path) -> None:
        self._folder, self._rung = folder, threading.Event()
        self._observer: BaseObserver | None = None
        self.listen()

    @property
    def works(self) -> bool:
        """Whether word comes by itself."""
        return self._observer is not None

    def listen(self) -> None:
        """Ask the system for word of the folder, anew where it had gone away."""
        self.close()
        if not self._folder.is_dir():
            return
        observer = Observer()
        try:
            observer.schedule(self, str(self._folder), recursive=True)
            observer.daemon = True
            observer.start()
        except (OSError, RuntimeError) as error:  # no such folder, no watches left, no such system call
            log.info("no word from the system of %s: %s", self._folder, error)
            with contextlib.suppress(RuntimeError):  # it may not have begun
                observer.stop()
            return
        self._observer = observer

    def wait(self, seconds: float) -> bool:
        """Wait until it rings, or so long; whether it rang."""
        rang = self._rung.wait(seconds)
        self._rung.clear()
        return rang

    def on_any_event(self, event: FileSystemEvent) -> None:
        """Something was made, written, renamed or removed; being read is nothing new."""
        if event.event_type not in ("opened", "closed_no_write"):
            self._rung.set()

    def close(self) -> None:
        """Let the system's watch go."""
        if self._observer is not None:
            self._observer.stop()
            self._observer.join(timeout=2)
            self._observer = None
