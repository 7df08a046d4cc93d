"""A card of several runs -> the one that a join makes a picture of, and why the others are none of it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from idle_lantern.core.audit.parts import Part, parts_of, quick_frames
from idle_lantern.core.base import units
from idle_lantern.core.base.arrays import Flags
from idle_lantern.core.base.errors import InputError, JoinError
from idle_lantern.core.base.progress import SILENT, OnlyStops, Progress
from idle_lantern.core.registration.solve.poses import Poses
from idle_lantern.core.registration.solve.solve import solve
from idle_lantern.core.request.options import JoinOptions
from idle_lantern.core.sorting.card import Card
from idle_lantern.core.sorting.positions import Position

#: A run that shows so much of another's ground is that picture taken again; neighbouring rows share two thirds at most
#: (common practice, no source).
_SAME_GROUND = 0.75
#: So many places across a frame tell what of it others show.
_ACROSS = 12


@dataclass(frozen=True)
class OtherRun:
    """A run that is no part of the picture."""

    name: str
    positions: tuple[Position, ...]
    reason: str


@dataclass(frozen=True)
class OneRun:
    """Positions that make the picture, in the order of the card, and the runs left where they lie."""

    positions: tuple[Position, ...]
    others: tuple[OtherRun, ...] = ()


@dataclass(frozen=True)
class _Named:
    name: str
    of_card: int
    part: Part


def one_run(card: Card, prepared: Path, progress: Progress = SILENT, *, name: str = "") -> OneRun:
    """The run with most positions, with those that go on where it ends: somebody waited, or changed a battery.

    A run that shows the same ground again, or another place, is a picture of its own. ``name`` asks for a run by the name that
    ``frames`` gives it.

    Raises
    ------
    InputError
        No run has that name.
    UnreadableFrame
        A frame cannot be read.
    Cancelled
        Stopped by ``progress``.
    """
    every = tuple(p for run in card.runs for p in run.positions)
    if len(card.runs) < 2 and not name:
        return OneRun(every)
    progress.begin("runs", len(card.runs) + 1)
    found = []
    for r, run in enumerate(card.runs):
        found.append((r, parts_of(run.positions, prepared, OnlyStops(progress))))
        progress.advance()
    parts = [(r, part) for r, of_card in found for part in of_card.parts]
    named = [_Named(f"run {i}", r, part) for i, (r, part) in enumerate(parts, 1)]
    if name:
        return _asked_for(named, name)
    main = max(named, key=lambda run: len(run.part.positions)).of_card
    mine, reasons = _that_go_on(card, main, named, prepared, OnlyStops(progress))
    others = tuple(
        OtherRun(run.name, run.part.positions, f"Of {run.name}, {reasons[run.of_card]}; --run '{run.name}' joins it.")
        for run in named
        if run.of_card in reasons
    )
    return OneRun(tuple(p for r, run in enumerate(card.runs) if r in mine for p in run.positions), others)


def _asked_for(named: Sequence[_Named], name: str) -> OneRun:
    """One run by its name."""
    chosen = next((run for run in named if run.name == name.strip().lower()), None)
    if chosen is None:
        told = ", ".join(f"{run.name} ({units.counted(len(run.part.positions), 'position')})" for run in named)
        raise InputError(f"There is no run {name!r}", remedy=f"Choose one of these: {told}")
    others = [
        OtherRun(run.name, run.part.positions, f"Of {run.name}; {chosen.name} was asked for.")
        for run in named
        if run is not chosen
    ]
    return OneRun(chosen.part.positions, tuple(others))


def _that_go_on(
    card: Card, main: int, named: Sequence[_Named], prepared: Path, progress: Progress
) -> tuple[set[int], dict[int, str]]:
    """Which runs of the card make one picture with ``main``, and why each of the others does not."""
    places = [(r, p) for r, run in enumerate(card.runs) for p in run.positions]
    frames = quick_frames([p for _r, p in places], prepared, progress)
    try:  # all copies are kept: what of one run shows the same as another tells of the runs
        found = solve(frames, JoinOptions(refine=False, put_back=frames.ids), None, progress)
        poses = found.poses.only([i for i, f in enumerate(found.poses.frames) if found.placed_by[f] == "features"])
    except JoinError:
        poses = None
    run_of = np.array([r for r, _p in places])
    mine, reasons = {main}, {}
    sizes = {r: len(run.positions) for r, run in enumerate(card.runs)}
    for r in sorted(sizes, key=lambda r: -sizes[r]):
        if r == main:
            continue
        if sizes[r] < 2:  # a frame that was cut, or a snapshot: the join judges
            mine.add(r)
            continue
        together = any(run.part.solution is not None for run in named if run.of_card == r)
        if poses is None or not any(run_of[f] == r for f in poses.frames):
            if together:
                reasons[r] = "which is a picture of another place"
            else:  # what shows nothing to match the join judges
                mine.add(r)
            continue
        ours = np.isin(run_of[list(poses.frames)], sorted(mine))
        theirs = run_of[list(poses.frames)] == r
        if max(_covered(poses, theirs, ours), _covered(poses, ours, theirs)) >= _SAME_GROUND:
            reasons[r] = "which shows the same ground again"
        else:
            mine.add(r)
    return mine, reasons


def _covered(poses: Poses, some: Flags, others: Flags) -> float:
    """Share of what ``some`` frames show that others show too."""
    if not some.any() or not others.any():
        return 0.0
    seen = []
    for i in np.flatnonzero(some):
        directions = poses.directions(int(i), poses.lenses[i].places_px(_ACROSS))
        shown = np.zeros(directions.shape[:-1], bool)
        for k in np.flatnonzero(others):
            shown |= poses.lenses[k].sees(np.nan_to_num(directions) @ poses.world_from_camera[k])
        seen.append(shown.mean())
    return float(np.mean(seen))
