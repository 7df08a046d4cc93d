"""Frames with nothing to match, placed by the regularity of the grid they were shot in.

Frames are looked at in the order of shooting. Placed neighbours that step evenly at
one pitch form a run; a missing frame inside a run, or at the end of one, stands where
the run's straight line puts it.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.frames.frameset import FrameSet, natural_key
from idle_lantern.core.geometry import rotations

Array = NDArray[Any]

#: Frames of a run keep their pitch within this, and steps agree within this share.
_SAME_PITCH_RAD = math.radians(4.0)
_SAME_STEP = 0.35
_LEAST_RUN = 3


@dataclass(frozen=True)
class Run:
    """Evenly stepping frames: places in the order of shooting, and their line."""

    places: tuple[int, ...]
    first_yaw: float
    step: float
    pitch: float
    roll: float

    def rotation(self, place: int) -> Array:
        """Where the line puts a place."""
        return rotations.from_yaw_pitch_roll(self.first_yaw + self.step * place, self.pitch, self.roll)


def shooting_order(frames: FrameSet) -> list[int]:
    """By time where all files tell different ones, else by name as people count."""
    taken = [i.metadata.taken for i in frames.infos]
    if all(taken) and len(set(taken)) == len(taken):
        return sorted(range(len(frames)), key=lambda f: str(taken[f]))
    return sorted(range(len(frames)), key=lambda f: natural_key(frames.names[f]))


def place_by_regularity(order: Sequence[int], placed: dict[int, Array], missing: Sequence[int]) -> dict[int, Array]:
    """World rotations for those of ``missing`` that a run reaches.

    Parameters
    ----------
    order : sequence of int
        Frames in the order of shooting.
    placed : dict of int to (3, 3)
        Upright ``world_from_camera`` of the frames that are placed.
    """
    angles = {f: [float(v) for v in rotations.to_yaw_pitch_roll(r)] for f, r in placed.items()}
    runs = _runs(order, angles)
    if not runs:
        return {}
    usual = max(r.places[-1] - r.places[0] + 1 for r in runs)
    found = {}
    for frame in missing:
        place = order.index(frame)
        inside = [r for r in runs if r.places[0] < place < r.places[-1]]
        beside = [r for r in runs if place in range(r.places[-1] + 1, r.places[0] + usual)]
        beside += [r for r in runs if place in range(r.places[-1] - usual + 1, r.places[0])]
        # between two runs the shorter one lacks the frame
        beside.sort(key=lambda r: r.places[-1] - r.places[0])
        if inside or beside:
            found[frame] = (inside or beside)[0].rotation(place)
    return found


def _runs(order: Sequence[int], angles: dict[int, list[float]]) -> list[Run]:
    runs: list[list[int]] = []
    present: list[int] = []
    for place, frame in enumerate(order):
        if frame not in angles:
            continue
        if present and not _continues(order, angles, present, place):
            runs.append(present)
            present = []
        present.append(place)
    runs.append(present)
    return [_line(order, angles, r) for r in runs if len(r) >= _LEAST_RUN]


def _continues(order: Sequence[int], angles: dict[int, list[float]], run: list[int], place: int) -> bool:
    last, this = angles[order[run[-1]]], angles[order[place]]
    if abs(this[1] - last[1]) > _SAME_PITCH_RAD:
        return False
    step = _turn(this[0] - last[0]) / (place - run[-1])
    if len(run) < 2:
        return True
    before = _turn(last[0] - angles[order[run[-2]]][0]) / (run[-1] - run[-2])
    return abs(step - before) <= _SAME_STEP * max(abs(before), abs(step))


def _line(order: Sequence[int], angles: dict[int, list[float]], run: list[int]) -> Run:
    rows = np.array([angles[order[p]] for p in run])
    yaw = np.unwrap(rows[:, 0])
    step, first = np.polyfit(run, yaw, 1)
    return Run(tuple(run), float(first), float(step), float(np.median(rows[:, 1])), float(np.median(rows[:, 2])))


def _turn(angle: float) -> float:
    return math.remainder(angle, 2 * math.pi)
