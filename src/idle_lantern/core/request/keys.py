"""Names of results by all that decides them."""

from __future__ import annotations

from collections.abc import Sequence

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.checkpoint import key_of
from idle_lantern.core.frames.content import sha256_of
from idle_lantern.core.frames.frameset import FrameSet
from idle_lantern.core.request.options import JoinOptions


def solving_key(frames: FrameSet, options: JoinOptions, prior: Sequence[Array | None] | None) -> str:
    """The name of a join: its frames, how they are solved, and what was known before (rotations (3, 3))."""
    files = tuple(sha256_of(info.path) for info in frames.infos)
    known = None if prior is None else tuple(None if p is None else p.tobytes() for p in prior)
    how = options.among(frames.ids).deciding("solve")
    return key_of(files, frames.names, frames.ids, how, options.memory(), known)
