"""Files by what they are and not by what they are called: no output may be an input."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path

from idle_lantern.core.base.errors import InputError


def check_outputs(outputs: Sequence[Path], inputs: Sequence[Path]) -> None:
    """Refuse an output that is one of the inputs or another output, whatever links or spellings lead there.

    Raises
    ------
    InputError
        Names the output, and which file would be lost.
    """
    taken = {identity(path): path for path in inputs}
    seen: dict[tuple[object, ...], Path] = {}
    for output in outputs:
        own = identity(output)
        if own in taken:
            raise InputError(
                f"Is one of the files that are read ({taken[own].name})",
                where=str(output),
                remedy="Give another name, or that file would be lost",
            )
        if own in seen:
            raise InputError("Is given as two outputs", where=str(output), remedy="Give each output a name of its own")
        seen[own] = output


def identity(path: Path) -> tuple[object, ...]:
    """What stays the same under links and other spellings: device and inode, or the real path of what is not there yet."""
    try:
        stat = os.stat(path)
    except OSError:
        return (os.path.realpath(path),)
    return stat.st_dev, stat.st_ino
