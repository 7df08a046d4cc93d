"""Local warps in a join report: tens of thousands of shifts a frame, packed, since as numbers they would be most of it."""

from __future__ import annotations

import base64
import zlib
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]

#: Shifts are told to this, or to what 16 bit can tell of the largest.
_UNIT_PX, _MOST = 0.01, 32_000


def packed(bend: Array) -> dict[str, Any]:
    """Shifts (h, w, 2) in pixels at the nodes of a frame's grid, for a report."""
    unit = max(_UNIT_PX, float(np.abs(bend).max(initial=0)) / _MOST)
    steps = np.rint(bend / unit).astype("<i2")
    return {
        "rows": bend.shape[0],
        "columns": bend.shape[1],
        "unit_px": unit,
        "int16_deflated_base64": base64.b64encode(zlib.compress(steps.tobytes(), 6)).decode("ascii"),
    }


def unpacked(told: Any) -> Array | None:
    """The shifts (h, w, 2) float32 that a report tells of a frame; None where it tells none.

    Earlier reports tell them as numbers.

    Raises
    ------
    ValueError, KeyError, TypeError
        The report is damaged.
    """
    if not told:
        return None
    if isinstance(told, list):
        return _grid(np.asarray(told, np.float32))
    rows, columns = int(told["rows"]), int(told["columns"])
    size = 4 * rows * columns
    try:
        # no more than is told, whatever it unpacks to
        data = zlib.decompressobj().decompress(base64.b64decode(told["int16_deflated_base64"]), max(1, size))
    except zlib.error as error:
        raise ValueError("no grid") from error
    shifts = np.frombuffer(data, "<i2").reshape(rows, columns, 2) * float(told["unit_px"])
    return _grid(shifts.astype(np.float32))


def _grid(shifts: Array) -> Array:
    if shifts.ndim != 3 or shifts.shape[2] != 2 or min(shifts.shape[:2]) < 2 or not np.isfinite(shifts).all():
        raise ValueError("no grid")
    return shifts
