"""Local warps in a join report: tens of thousands of shifts a frame, packed, since as numbers they would be most of it."""

from __future__ import annotations

import base64
import zlib

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.join.report import PackedWarp

#: Shifts are told to this, or to what 16 bit can tell of the largest.
_UNIT_PX, _MOST = 0.01, 32_000


def packed(bend: Array) -> PackedWarp:
    """Shifts (h, w, 2) in pixels at the nodes of a frame's grid, for a report."""
    unit = max(_UNIT_PX, float(np.abs(bend).max(initial=0)) / _MOST)
    steps = np.rint(bend / unit).astype("<i2")
    data = base64.b64encode(zlib.compress(steps.tobytes(), 6)).decode("ascii")
    return PackedWarp(bend.shape[0], bend.shape[1], unit, data)


def unpacked(row: PackedWarp | None) -> Array | None:
    """The shifts (h, w, 2) float32 that a report tells of a frame; None where it tells none.

    Raises
    ------
    ValueError
        The report is damaged.
    """
    if row is None:
        return None
    if min(row.rows, row.columns) < 2:
        raise ValueError("no grid")
    size = 4 * row.rows * row.columns
    try:
        # no more than is told, whatever it unpacks to
        data = zlib.decompressobj().decompress(base64.b64decode(row.int16_deflated_base64), size)
    except zlib.error as error:
        raise ValueError("no grid") from error
    shifts = np.frombuffer(data, "<i2").reshape(row.rows, row.columns, 2) * row.unit_px
    return np.asarray(shifts, np.float32)
