"""Pictures of one place put on disk and read by rows, so that no number of exposures fills the memory."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import InputError


@dataclass(frozen=True)
class SpilledPicture:
    """An array on disk."""

    path: Path
    shape: tuple[int, ...]
    dtype: Any

    def rows(self, top: int, count: int) -> Array:
        """Some rows of it, (count, w, C)."""
        each = int(np.prod(self.shape[1:]))
        count = min(count, self.shape[0] - top)
        flat = np.fromfile(self.path, self.dtype, each * count, offset=top * each * np.dtype(self.dtype).itemsize)
        return flat.reshape(count, *self.shape[1:])

    @property
    def pixels(self) -> Array:
        """All of it, (h, w, C), read anew each time."""
        return self.rows(0, self.shape[0])

    @property
    def full_scale(self) -> int:
        """255 or 65535."""
        return int(np.iinfo(self.dtype).max)


class SpillStore:
    """Arrays in a folder, which whoever made it removes."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._count = 0

    def put(self, array: Array) -> SpilledPicture:
        """Put an array (h, w, C) down.

        Raises
        ------
        InputError
            There is no room for it.
        """
        path = self._folder / f"{self._count}.rows"
        self._count += 1
        try:
            array.tofile(path)
        except OSError as error:
            raise InputError(
                f"Cannot be written ({error.strerror})", where=str(self._folder), remedy="Make room there"
            ) from error
        return SpilledPicture(path, array.shape, array.dtype)
