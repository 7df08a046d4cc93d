"""Frames with nothing to match, placed by the regularity of the grid they were shot in.

Frames are looked at in the order of shooting. Placed neighbours that step evenly at
one pitch form a run; a missing frame inside a run, or at the end of one, stands where
the same turn again and again puts it. Where a whole row is missing, it stands as far from
the next row as rows stand from each other, over the same columns. Turns are whole rotations,
not angles, so a leaning base makes no difference: along a row a head turns about one axis of
the world, from row to row about one axis of the camera.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.frames.frameset import FrameSet, in_people_order
from idle_lantern.core.geometry import rotations

#: Frames of a run keep their pitch within this, and steps agree within this share.
_SAME_PITCH_RAD = math.radians(4.0)
_SAME_STEP = 0.35
_LEAST_RUN = 3
#: Two frames alone are a run where their step is that of others within this share.
_ALIKE_STEP = 0.1


@dataclass(frozen=True)
class Guess:
    """Where a frame should stand, ``world_from_camera``, and the standard error of that."""

    rotation: Array
    sigma_rad: float


@dataclass(frozen=True)
class SteadyRun:
    """Evenly stepping frames.

    Attributes
    ----------
    places : tuple of int
        In the order of shooting.
    turned : (N, 3, 3)
        Their ``world_from_camera``.
    step : (3,)
        Turn from place to place, a rotation vector in the world.
    """

    places: tuple[int, ...]
    turned: Array
    step: Array

    @classmethod
    def of(cls, places: Sequence[int], turned: Array) -> SteadyRun:
        """The run through some placed frames, turned by ``turned`` (P, 3, 3)."""
        turns = rotations.to_vector(turned[1:] @ np.swapaxes(turned[:-1], 1, 2))
        return cls(tuple(places), turned, turns.sum(0) / (places[-1] - places[0]))

    def rotation(self, place: int) -> Array:
        """Where the run puts a place, a rotation (3, 3)."""
        gaps = place - np.array(self.places)
        return rotations.nearest((rotations.from_vector(gaps[:, None] * self.step) @ self.turned).sum(0))

    @property
    def scatter_rad(self) -> float:
        """How far its frames stand off it."""
        off = [float(rotations.angle_between(self.rotation(p), r)) for p, r in zip(self.places, self.turned)]
        return math.sqrt(sum(a * a for a in off) / max(1, len(off) - 2))

    def guess(self, place: int) -> Guess:
        """Where the run puts a place, with the error of that."""
        return Guess(self.rotation(place), self.scatter_rad * _spread(self.places, place))

    @property
    def length(self) -> int:
        """Frames from the first to the last, missing ones counted."""
        return self.places[-1] - self.places[0] + 1


def shooting_order(frames: FrameSet) -> list[int]:
    """By time where all files tell different ones, else by name as people count."""
    taken = [i.metadata.taken for i in frames.infos]
    if all(taken) and len(set(taken)) == len(taken):
        return sorted(range(len(frames)), key=lambda f: str(taken[f]))
    return in_people_order(range(len(frames)), lambda f: frames.names[f])


def place_by_regularity(order: Sequence[int], placed: dict[int, Array], missing: Sequence[int]) -> dict[int, Guess]:
    """Where the grid puts those of ``missing`` that a run or the ladder of rows reaches.

    Parameters
    ----------
    order : sequence of int
        Frames in the order of shooting.
    placed : dict of int to (3, 3)
        Upright ``world_from_camera`` of the frames that are placed.
    """
    runs = _runs(order, placed)
    if not runs:
        return {}
    usual = max(r.length for r in runs)
    found = {}
    for frame in missing:
        place = order.index(frame)
        inside = [r for r in runs if r.places[0] < place < r.places[-1]]
        beside = [r for r in runs if place in range(r.places[-1] + 1, r.places[0] + usual)]
        beside += [r for r in runs if place in range(r.places[-1] - usual + 1, r.places[0])]
        # between two runs the shorter one lacks the frame
        beside.sort(key=lambda r: r.places[-1] - r.places[0])
        by_run = [r.guess(place) for r in inside or beside]
        guess = by_run[0] if by_run else _in_next_row(runs, usual, place, len(order))
        if guess is not None and not _taken(guess, placed, runs):
            found[frame] = guess
    return found


def _taken(guess: Guess, placed: dict[int, Array], runs: Sequence[SteadyRun]) -> bool:
    """Whether a placed frame stands there already: the run did not go on as it was."""
    near = _SAME_STEP * min(float(np.linalg.norm(r.step)) for r in runs)
    away = rotations.angle_between(
        np.broadcast_to(guess.rotation, (len(placed), 3, 3)), np.stack(list(placed.values()))
    )
    return float(np.min(away)) < near


def place_where_a_run_goes_on(
    order: Sequence[int], placed: dict[int, Array], members: Sequence[int]
) -> dict[int, Guess]:
    """Where a run puts ``members`` that were shot right before or after it, by ``placed`` rotations (3, 3); nothing where there is none.

    Parameters as of ``place_by_regularity``.
    """
    places = sorted(order.index(f) for f in members)
    for run in _runs(order, placed):
        if places[0] == run.places[-1] + 1 or places[-1] == run.places[0] - 1:
            return {order[p]: run.guess(p) for p in places}
    return {}


def _in_next_row(runs: Sequence[SteadyRun], length: int, place: int, count: int) -> Guess | None:
    """A place in a row of which nothing is placed, from two rows or more of the same length."""
    whole = [r for r in runs if r.length == length]
    if len(whole) < 2:
        return None
    first = whole[0].places[0]
    whole = [r for r in whole if (r.places[0] - first) % length == 0]
    rows = [(r.places[0] - first) // length for r in whole]
    row, column = divmod(place - first, length)
    nearest = min(range(len(whole)), key=lambda i: abs(rows[i] - row))
    begins = first + row * length
    if len(whole) < 2 or abs(rows[nearest] - row) > 1 or begins < 0 or begins + length > count:
        return None
    # rows shot to and fro meet column by column, the other way round
    to_and_fro = len({r.step[1] > 0 for r in whole}) > 1

    def at(i: int, column: int) -> Array:
        flipped = to_and_fro and (rows[i] - row) % 2
        return whole[i].rotation(whole[i].places[0] + (length - 1 - column if flipped else column))

    steps = np.array(
        [
            rotations.to_vector(at(i, c).T @ at(i + 1, c)) / (rows[i + 1] - rows[i])
            for i in range(len(whole) - 1)
            for c in range(length)
        ]
    )
    step = steps.mean(0)
    guess = at(nearest, column) @ rotations.from_vector((row - rows[nearest]) * step)
    if np.linalg.norm(step) < _SAME_PITCH_RAD:
        return None
    own = max(r.scatter_rad for r in whole)
    scatter = math.hypot(own, float(np.linalg.norm(steps - step, axis=1).mean()))
    return Guess(guess, scatter * _spread(rows, row))


def _spread(known: Sequence[int], at: int) -> float:
    """Error of a straight line's prediction in units of the scatter about it (any handbook of statistics)."""
    off = np.array(known, float) - np.mean(known)
    return math.sqrt(1 + 1 / len(known) + (at - float(np.mean(known))) ** 2 / max(float((off**2).sum()), 1e-9))


def _runs(order: Sequence[int], placed: dict[int, Array]) -> list[SteadyRun]:
    angles = {f: [float(v) for v in rotations.to_yaw_pitch_roll(r)] for f, r in placed.items()}
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
    steady = [SteadyRun.of(r, np.stack([placed[order[p]] for p in r])) for r in runs if len(r) > 1]
    usual = [r.step for r in steady if len(r.places) >= _LEAST_RUN]
    # two frames are a run where they step as others do
    return [r for r in steady if len(r.places) >= _LEAST_RUN or any(_as_far(r.step, step) for step in usual)]


def _as_far(one: Array, other: Array) -> bool:
    """Whether two steps of a grid are as wide, to either side."""
    wide = [float(np.linalg.norm(s)) for s in (one, other)]
    return abs(wide[0] - wide[1]) < _ALIKE_STEP * max(wide)


def _continues(order: Sequence[int], angles: dict[int, list[float]], run: list[int], place: int) -> bool:
    last, this = angles[order[run[-1]]], angles[order[place]]
    if abs(this[1] - last[1]) > _SAME_PITCH_RAD:
        return False
    step = _turn(this[0] - last[0]) / (place - run[-1])
    if len(run) < 2:
        return True
    before = _turn(last[0] - angles[order[run[-2]]][0]) / (run[-1] - run[-2])
    return abs(step - before) <= _SAME_STEP * max(abs(before), abs(step))


def _turn(angle: float) -> float:
    return math.remainder(angle, 2 * math.pi)
