"""Rig and wish -> rows and frame directions.

Each row turns at one pitch. How far a row may step is what keeps the wanted share
of one frame inside the next; how many frames tilted rows need follows by itself
(fewer). What altitudes a row covers without a dip between neighbours is sampled on
the lens itself, so rectilinear and fisheye lenses take the same way.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.sphere import direction
from idle_lantern.core.plan.coverage import frame_rays, holes
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.wish import Wish

Array = NDArray[Any]

_POLE = math.pi / 2
#: Coverage sought beyond the wish, so that rounding of angles opens no hole.
_SPARE_RAD = math.radians(0.05)
_MOST_FRAMES = 5000


@dataclass(frozen=True)
class GridFrame:
    """One planned frame; ``number`` counts from 1 in the order of shooting and is its identity."""

    number: int
    row: int
    column: int
    yaw_deg: float
    pitch_deg: float
    roll_deg: float = 0.0

    @property
    def world_from_camera(self) -> Array:
        """Planned direction."""
        return rotations.from_yaw_pitch_roll(*np.radians([self.yaw_deg, self.pitch_deg, self.roll_deg]))


@dataclass(frozen=True)
class Row:
    """One row before its frames are numbered."""

    pitch_rad: float
    yaws_rad: tuple[float, ...]


def plan_grid(rig: Rig, wish: Wish) -> tuple[GridFrame, ...]:
    """Frames that cover the wish, top row first, each row from left to right.

    Holes are sought by sampling; where one is found the rows move closer until none
    is left.
    """
    lens = rig.lens()
    for tighter in (1.0, 0.93, 0.86, 0.78, 0.7, 0.6, 0.5, 0.4):
        best: list[Row] | None = None
        for caps in _cap_choices(lens, wish):
            rows = _rows(lens, wish, caps, tighter)
            if best is None or _count(rows) < _count(best):
                best = rows
        assert best is not None
        frames = _numbered(best)
        if len(frames) > _MOST_FRAMES or not holes(lens, frames, wish, 1500).any():
            break
    return frames


def step_for_overlap(overlap: float, shared: Callable[[float], float], most_rad: float) -> float:
    """Largest turn at which ``shared(turn)`` is still at least ``overlap``."""
    low, high = 0.0, most_rad
    if shared(high) >= overlap:
        return high
    for _ in range(15):
        middle = (low + high) / 2
        if shared(middle) >= overlap:
            low = middle
        else:
            high = middle
    return low


def shared_area(lens: Lens, b_from_a: Array, samples: int = 25) -> float:
    """Share of frame a's picture that frame b shows too."""
    return float(lens.sees(frame_rays(lens, samples) @ b_from_a.T).mean())


def _count(rows: list[Row]) -> int:
    return sum(len(r.yaws_rad) for r in rows)


def _cap_choices(lens: Lens, wish: Wish) -> list[tuple[bool, bool]]:
    """With or without a frame straight up or down, where the wish reaches there."""
    up, down = wish.high_deg > 89.0, wish.low_deg < -89.0
    return [(u, d) for u in ((True, False) if up else (False,)) for d in ((True, False) if down else (False,))]


def _rows(lens: Lens, wish: Wish, caps: tuple[bool, bool], tighter: float) -> list[Row]:
    low, high = math.radians(wish.low_deg), math.radians(wish.high_deg)
    cap_reach = min(lens.field_rad()) / 2 * (1 - wish.overlap / 2)
    zenith, nadir = caps
    rows_high = min(high, _POLE - cap_reach) if zenith else high
    rows_low = max(low, -_POLE + cap_reach) if nadir else low
    cap_rows = [Row(_POLE, (0.0,))] * zenith + [Row(-_POLE, (0.0,))] * nadir
    if rows_low >= rows_high:
        return cap_rows

    def turn(pitch: float) -> float:
        return tighter * _row_step(lens, round(pitch, 4), wish.overlap)

    def band(pitch: float) -> tuple[float, float]:
        return _band(lens, round(pitch, 4), turn(pitch))

    lowest = _solve_pitch(lambda p: band(p)[0] - (rows_low - _SPARE_RAD), rising=True)
    highest = _solve_pitch(lambda p: band(p)[1] - (rows_high + _SPARE_RAD), rising=True, upper=True)
    if highest <= lowest:
        pitches = [min(max((low + high) / 2, highest), lowest)]
    else:
        up = step_for_overlap(wish.overlap, lambda a: shared_area(lens, rotations.about_x(-a)), math.pi)
        count = 1 + math.ceil((highest - lowest) / (up * tighter) - 1e-9)
        pitches = np.linspace(lowest, highest, count).tolist()
        while count < 200 and any(band(a)[1] < band(b)[0] + 2 * _SPARE_RAD for a, b in zip(pitches, pitches[1:])):
            count += 1
            pitches = np.linspace(lowest, highest, count).tolist()
    bands = [band(p) for p in pitches]
    rows = []
    for i, pitch in enumerate(pitches):
        bottom = rows_low if i == 0 else (bands[i - 1][1] + bands[i][0]) / 2
        top = rows_high if i == len(pitches) - 1 else (bands[i][1] + bands[i + 1][0]) / 2
        rows.append(Row(pitch, _row_yaws(lens, pitch, turn(pitch), wish, bottom, top)))
    return rows[::-1] if not cap_rows else [*cap_rows[:zenith], *rows[::-1], *cap_rows[zenith:]]


@lru_cache(maxsize=4096)
def _row_step(lens: Lens, pitch: float, overlap: float) -> float:
    """Azimuth step that keeps the overlap between neighbours of a row at that pitch."""
    camera = rotations.about_x(pitch)

    def shared(angle: float) -> float:
        return shared_area(lens, camera.T @ rotations.about_y(-angle) @ camera)

    return max(step_for_overlap(overlap, shared, 2 * math.pi / 3), math.radians(0.05))


@lru_cache(maxsize=4096)
def _band(lens: Lens, pitch: float, step: float) -> tuple[float, float]:
    """Altitudes that a row covers at every azimuth, stepping by ``step``."""
    camera_from_world = rotations.about_x(pitch).T
    offsets = np.linspace(0, min(step / 2, math.pi), 7)
    reach = min(lens.field_rad()[1], math.pi)
    altitudes = np.linspace(max(-_POLE, pitch - reach), min(_POLE, pitch + reach), 241)
    seen = lens.sees(direction(offsets[:, None], altitudes[None, :]) @ camera_from_world.T)
    if not seen.any(1).all():
        return 0.0, 0.0
    first = seen.argmax(1)
    last = seen.shape[1] - 1 - seen[:, ::-1].argmax(1)
    return float(altitudes[first.max()]), float(altitudes[last.min()])


def _solve_pitch(excess: Callable[[float], float], *, rising: bool, upper: bool = False) -> float:
    """Pitch at which a band's edge meets its wish: the highest for the lower edge, the lowest for the upper."""
    low, high = -_POLE, _POLE
    if upper:
        if excess(low) >= 0:
            return low
        for _ in range(13):
            middle = (low + high) / 2
            low, high = (low, middle) if excess(middle) >= 0 else (middle, high)
        return high
    if excess(high) <= 0:
        return high
    for _ in range(13):
        middle = (low + high) / 2
        low, high = (middle, high) if excess(middle) <= 0 else (low, middle)
    return low


def _row_yaws(lens: Lens, pitch: float, step: float, wish: Wish, bottom: float, top: float) -> tuple[float, ...]:
    left, sweep = math.radians(wish.left_deg), math.radians(wish.sweep_deg)
    if wish.full_circle:
        count = max(1, math.ceil(2 * math.pi / step - 1e-9))
        return tuple(left + 2 * math.pi * (i + 0.5) / count for i in range(count))
    half = _half_width(lens, pitch, bottom, top)
    half = min(half, sweep / 2)
    count = 1 + max(0, math.ceil((sweep - 2 * half) / step - 1e-9))
    if count == 1 and half < sweep / 2 - 1e-9:
        count = 2
    if count == 1:
        return (left + sweep / 2,)
    return tuple(np.linspace(left + half, left + sweep - half, count).tolist())


def _half_width(lens: Lens, pitch: float, bottom: float, top: float) -> float:
    """Azimuth to one side that a frame covers at all altitudes between ``bottom`` and ``top``."""
    altitudes = np.linspace(bottom, max(top, bottom + 1e-6), 15)
    offsets = np.linspace(0, math.pi, 721)
    seen = lens.sees(direction(offsets[None, :], altitudes[:, None]) @ rotations.about_x(pitch))
    reach = np.where(seen.all(1), len(offsets), (~seen).argmax(1)) - 1
    narrowest = max(0, int(reach.min()))
    return float(max(0.0, offsets[narrowest] - _SPARE_RAD))


def _numbered(rows: list[Row]) -> tuple[GridFrame, ...]:
    frames: list[GridFrame] = []
    for r, row in enumerate(rows):
        for c, yaw in enumerate(row.yaws_rad):
            wrapped = (math.degrees(yaw) + 180) % 360 - 180
            frames.append(
                GridFrame(len(frames) + 1, r + 1, c + 1, round(wrapped, 2), round(math.degrees(row.pitch_rad), 2))
            )
    return tuple(frames)
