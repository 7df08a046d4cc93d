"""A run of a card -> the parts of it that hang together: what ``frames`` calls runs."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from idle_lantern.core.base.errors import JoinError
from idle_lantern.core.base.progress import Progress
from idle_lantern.core.frames.frameset import FrameSet, names_of
from idle_lantern.core.merging.prepared import ExposureSet, prepare
from idle_lantern.core.merging.recipe import Recipe
from idle_lantern.core.registration.solve.solve import Solution, solve
from idle_lantern.core.request.options import JoinOptions
from idle_lantern.core.sorting.positions import Position

#: Runs of fewer positions are no sweep.
_LEAST_POSITIONS = 2


@dataclass(frozen=True)
class Part:
    """Positions that hang together.

    ``solution`` tells how those of ``solved`` lie to each other, by their places in it; None where there are too few or nothing ties them.
    """

    positions: tuple[Position, ...]
    solved: tuple[Position, ...] = ()
    solution: Solution | None = None


@dataclass(frozen=True)
class Parts:
    """The parts of a run, the first with what shows nothing to match; ``strays`` match nothing and show something."""

    parts: tuple[Part, ...]
    strays: tuple[Position, ...] = ()
    featureless: tuple[Position, ...] = ()


def quick_frames(positions: Sequence[Position], prepared: Path, progress: Progress) -> FrameSet:
    """The frames that stand for positions, quickly made ready: sizes and detail are right, light is roughly so."""
    infos = prepare([ExposureSet(p.base.info) for p in positions], Recipe("base", quick=True), prepared, progress).infos
    return FrameSet(tuple(infos), names_of([p.base.path for p in positions]))


def parts_of(positions: Sequence[Position], prepared: Path, progress: Progress) -> Parts:
    """The largest group that hangs together, then what is left of the run.

    Raises
    ------
    UnreadableFrame
        A frame cannot be read.
    Cancelled
        Stopped by ``progress``.
    """
    if len(positions) < _LEAST_POSITIONS:
        return Parts((Part(tuple(positions)),))
    return _parts(tuple(positions), quick_frames(positions, prepared, progress), progress)


def is_bare(solution: Solution, frame: int) -> bool:
    """Whether a frame was not placed since it shows nothing to match."""
    return solution.reasons.get(frame, "").startswith("Nothing to match")


def _parts(positions: tuple[Position, ...], frames: FrameSet, progress: Progress) -> Parts:
    try:
        solution = solve(frames, JoinOptions(refine=False), None, progress)
    except JoinError:
        return Parts((Part(positions),))
    inside = set(solution.poses.frames)
    same = {f for f, why in solution.reasons.items() if why.startswith("Shows the same")}
    rest = [g for g in solution.groups[1:] if len(g) > 1 and not inside & set(g)]
    alone = sorted(set(range(len(positions))) - inside - same - {f for g in rest for f in g})
    bare = [f for f in alone if is_bare(solution, f)]
    mine = [*sorted(inside | same), *bare]
    parts = [Part(tuple(positions[f] for f in mine), positions, solution)]
    strays = [positions[f] for f in alone if f not in bare]
    featureless = [positions[f] for f in bare]
    for group in rest:
        some = FrameSet(tuple(frames.infos[f] for f in group), tuple(frames.names[f] for f in group))
        found = _parts(tuple(positions[f] for f in group), some, progress)
        parts += found.parts
        strays += found.strays
        featureless += found.featureless
    return Parts(tuple(parts), tuple(strays), tuple(featureless))
