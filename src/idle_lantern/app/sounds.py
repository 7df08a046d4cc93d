"""Plays the desk's tones; without a sound device nothing is heard, and nothing is wrong."""

from __future__ import annotations

import logging
import os
import threading
import time
from collections.abc import Callable, Generator
from pathlib import Path
from typing import Any

from idle_lantern.core.watching.tones import RATE, Kind, samples

log = logging.getLogger(__name__)

#: Where sound comes out: cards of the kernel, or the sockets of a sound server in the session's folder.
_CARDS, _SERVERS = Path("/dev/snd"), ("pulse/native", "pipewire-0")


def can_sound() -> bool:
    """Whether this machine has anything that a tone could be heard by."""
    runtime = Path(os.environ.get("XDG_RUNTIME_DIR", "/nonexistent"))
    return _CARDS.exists() or any((runtime / name).exists() for name in _SERVERS)


def play(kind: Kind, player: Callable[[Any], None] | None = None) -> threading.Thread | None:
    """Sound a tone, in a thread of its own that nobody waits for; None where nothing can sound."""
    if player is None and not can_sound():
        return None
    thread = threading.Thread(target=_play, args=(kind, player or _sound), name="tone", daemon=True)
    thread.start()
    return thread


def _play(kind: Kind, player: Callable[[Any], None]) -> None:
    try:
        player(samples(kind))
    except Exception as error:  # no device, no server, a device that is in use: all alike silent
        log.info("no sound: %s", error)


def _sound(tone: Any) -> None:
    import miniaudio  # asks the system for its devices: only where something is to be heard

    def stream() -> Generator[bytes, int, None]:
        at = 0
        wanted = yield b""
        while at < len(tone):
            piece = tone[at : at + wanted]
            at += len(piece)
            wanted = yield piece.tobytes()

    playing = stream()
    next(playing)
    with miniaudio.PlaybackDevice(miniaudio.SampleFormat.SIGNED16, 1, RATE) as device:
        device.start(playing)
        time.sleep(len(tone) / RATE + 0.15)
