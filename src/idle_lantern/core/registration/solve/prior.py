"""Directions known before the join, from a plan or a shot log (``docs/formats/directions.md``)."""

from __future__ import annotations

import json
import math
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.strict_json import read_json
from idle_lantern.core.geometry import rotations

SCHEMA = "idle-lantern/directions/1"
#: Three turns: no head counts on beyond.
_MOST_DEG = 1080.0


def read_prior(path: Path) -> dict[str, Array]:
    """File name -> planned or logged ``world_from_camera`` (3, 3).

    Raises
    ------
    InputError
        Missing, not JSON, or without usable directions.
    """
    document = read_json(Path(path), remedy="Give a directions file")
    rows = document.get("frames") if isinstance(document, dict) else None
    if not isinstance(rows, list):
        raise InputError("Holds no list 'frames'", where=str(path), remedy="Give a directions file")
    known = {}
    for row in rows:
        try:
            yaw, pitch = float(row["yaw_deg"]), float(row["pitch_deg"])
            roll = float(row.get("roll_deg", 0.0))
            name = str(row["file"])
        except (KeyError, TypeError, ValueError, AttributeError, OverflowError) as error:
            raise InputError("Each of 'frames' needs file, yaw_deg and pitch_deg", where=str(path)) from error
        if not all(math.isfinite(v) and abs(v) <= _MOST_DEG for v in (yaw, pitch, roll)):
            raise InputError(f"The direction of {name} is no angle in degrees", where=str(path))
        known[Path(name).name] = rotations.from_yaw_pitch_roll(*np.radians([yaw, pitch, roll]))
    return known


def prior_text(names: Sequence[str], angles_deg: Sequence[tuple[float, float, float]]) -> str:
    """A directions file as text."""
    rows = [
        {"file": name, "yaw_deg": round(y, 4), "pitch_deg": round(p, 4), "roll_deg": round(r, 4)}
        for name, (y, p, r) in zip(names, angles_deg)
    ]
    return json.dumps({"schema": SCHEMA, "frames": rows}, indent=1)


def prior_for(names: Sequence[str], known: dict[str, Array]) -> list[Array | None]:
    """The prior (3, 3) of each frame by its file name, None where nothing is known."""
    return [known.get(Path(name).name) for name in names]
