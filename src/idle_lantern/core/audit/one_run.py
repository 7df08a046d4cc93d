"""A card of several runs -> the one that a join makes a picture of, and why the others are none of it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from idle_lantern.core.audit.parts import Part, parts_of, quick_frames
from idle_lantern.core.base import units
from idle_lantern.core.base.arrays import Array, Flags
from idle_lantern.core.base.errors import InputError, JoinError
from idle_lantern.core.base.progress import SILENT, OnlyStops, Progress
from idle_lantern.core.registration.solve.poses import Poses
from idle_lantern.core.registration.solve.solve import solve
from idle_lantern.core.request.options import JoinOptions
from idle_lantern.core.sorting.card import Card, CardRun, other_gear
from idle_lantern.core.sorting.positions import Position

#: A run that shows so much of another's ground is that picture taken again; neighbouring rows share two thirds at most
#: (common practice, no source).
_SAME_GROUND = 0.75
#: So many places across a frame tell what of it others show.
_ACROSS = 12
_ELSEWHERE, _AGAIN = "which is a picture of another place", "which shows the same ground again"


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
    main = max(range(len(card.runs)), key=lambda r: len(card.runs[r].positions), default=0)
    if not name and not any(_may_be_another(card.runs, r, main) for r in range(len(card.runs))):
        return OneRun(every)
    progress.begin("runs", 1)
    quiet = OnlyStops(progress)
    if name:
        return _asked_for(_named(card, prepared, quiet), name)
    mine, reasons = _that_go_on(card, main, prepared, quiet)
    if not reasons:
        return OneRun(every)
    others = tuple(
        OtherRun(run.name, run.part.positions, f"Of {run.name}, {reasons[run.of_card]}; --run '{run.name}' joins it.")
        for run in _named(card, prepared, quiet)
        if run.of_card in reasons
    )
    return OneRun(tuple(p for r, run in enumerate(card.runs) if r in mine for p in run.positions), others)


def _named(card: Card, prepared: Path, progress: Progress) -> list[_Named]:
    """The parts of all runs under the names that ``frames`` gives them."""
    found = [(r, part) for r, run in enumerate(card.runs) for part in parts_of(run.positions, prepared, progress).parts]
    return [_Named(f"run {i}", r, part) for i, (r, part) in enumerate(found, 1)]


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


def _may_be_another(runs: Sequence[CardRun], r: int, main: int) -> bool:
    """Whether a run may be a picture of its own: single frames the join judges, and where no clock tells, what one camera took is a run."""
    if r == main or len(runs[r].positions) < 2:
        return False
    looks = [p.base for run in (runs[r], runs[main]) for p in run.positions]
    timed = all(look.info.metadata.taken_s is not None for look in looks)
    return timed or other_gear(runs[r].positions[0].base.info, runs[main].positions[0].base.info)


def _that_go_on(card: Card, main: int, prepared: Path, progress: Progress) -> tuple[set[int], dict[int, str]]:
    """Which runs of the card make one picture with ``main``, and why each of the others does not."""
    places = [(r, p) for r, run in enumerate(card.runs) for p in run.positions]
    frames = quick_frames([p for _r, p in places], prepared, progress)
    try:  # all copies are kept: what of one run shows the same as another tells of the runs
        found = solve(frames, JoinOptions(refine=False, put_back=frames.ids), None, progress)
    except JoinError:
        return set(range(len(card.runs))), {}  # the join says best why this makes no picture
    poses = found.poses.only([i for i, f in enumerate(found.poses.frames) if found.placed_by[f] == "features"])
    run_of = np.array([r for r, _p in places])
    tied = run_of[list(poses.frames)]
    group_of = {f: g for g, group in enumerate(found.groups) for f in group if len(group) > 1}
    by_size = sorted(range(len(card.runs)), key=lambda r: -len(card.runs[r].positions))
    mine, reasons = {main}, {}
    if not (tied == main).any():  # the others make a larger picture than the run of most positions
        return _of_its_own(card, main, run_of, group_of)
    for r in by_size:
        theirs, ours = tied == r, np.isin(tied, sorted(mine))
        if not _may_be_another(card.runs, r, main):
            mine.add(r)
            continue
        if not theirs.any():
            groups = [group_of[f] for f in np.flatnonzero(run_of == r).tolist() if f in group_of]
            if groups:  # what shows nothing to match the join judges
                reasons[r] = _ELSEWHERE
                continue
        elif max(_covered(poses, theirs, ours), _covered(poses, ours, theirs)) >= _SAME_GROUND:
            reasons[r] = _AGAIN
            continue
        mine.add(r)
    return mine, reasons


def _of_its_own(card: Card, main: int, run_of: Array, group_of: dict[int, int]) -> tuple[set[int], dict[int, str]]:
    """The run of most positions alone, where it is not tied to the largest picture: runs that match elsewhere are other pictures."""
    own = {group_of[f] for f in np.flatnonzero(run_of == main).tolist() if f in group_of}
    reasons = {}
    for r in range(len(card.runs)):
        theirs = {group_of[f] for f in np.flatnonzero(run_of == r).tolist() if f in group_of}
        if _may_be_another(card.runs, r, main) and theirs and not theirs & own:
            reasons[r] = _ELSEWHERE
    return set(range(len(card.runs))) - set(reasons), reasons


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
