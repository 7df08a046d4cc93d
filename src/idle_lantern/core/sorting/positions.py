"""Frames one after another -> positions: single frames, brackets and repeats, and which frame stands for each."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Literal

import cv2
import numpy as np

from idle_lantern.core.frames.reading import read
from idle_lantern.core.sorting.looks import Common, Look, common

Role = Literal["single", "bracket", "repeat"]

#: Steps smaller than this are no bracket: cameras step by thirds of an EV.
_STEP_EV = 0.25
#: Frames of one place lie within this share of their width; positions lie further apart.
_SAME_SHIFT = 0.08
#: Correlation of detail that frames of one place have, and below which places differ for certain.
_ALIKE, _UNLIKE = 0.45, 0.25
#: Where less detail is seen than this, correlation says nothing.
_SHOWS_DETAIL = 0.004
#: Frames of a bracket follow each other by so many seconds beyond their exposures, also by hand.
_AT_ONCE_S = 4.0


@dataclass(frozen=True)
class Position:
    """Frames of one place.

    ``ev`` tells for each how much more it was exposed than ``chosen``, which stands for the place:
    the middle exposure of a bracket, the sharpest of repeats.
    """

    looks: tuple[Look, ...]
    role: Role
    ev: tuple[float, ...]
    chosen: int

    @property
    def files(self) -> tuple[Path, ...]:
        """All files of the place, in the order taken."""
        return tuple(look.path for look in self.looks)

    @property
    def base(self) -> Look:
        """The frame that stands for the place."""
        return self.looks[self.chosen]


def positions_of(looks: Sequence[Look]) -> list[Position]:
    """Positions of frames in the order taken."""
    groups: list[list[Look]] = []
    steps: list[list[float]] = []
    for look in looks:
        step = _step_within(groups[-1], steps[-1], look) if groups else None
        if step is None:
            groups.append([look])
            steps.append([0.0])
        else:
            groups[-1].append(look)
            steps[-1].append(step)
    groups, steps = _as_most(groups, steps)
    return [_position(group, ev) for group, ev in zip(groups, steps)]


def _step_within(group: Sequence[Look], steps: Sequence[float], look: Look) -> float | None:
    """Exposure of a frame against the first of a group it belongs to; None where it is of another place."""
    last = group[-1]
    if _turned(last, look):
        return None
    # of a bracket one exposure may show what another has burnt out
    seen = [(k, found) for k, found in enumerate(common(member, look) for member in group) if found is not None]
    k, best = max(seen, key=lambda pair: pair[1].alike)
    step = steps[k] + _brighter(group[k], look, best)
    told = min(group[k].detail, look.detail) >= _SHOWS_DETAIL
    if told and best.alike >= _ALIKE:
        return step if best.shift <= _SAME_SHIFT else None
    # what shows nothing, or is burnt out, belongs to the bracket whose exposures go on
    if None in (last.exposure_ev, look.exposure_ev):
        return None
    if _apart_s(last, look) > _AT_ONCE_S or any(abs(step - s) < _STEP_EV for s in steps):
        return None
    if told and best.alike < _UNLIKE and min(group[k].detail, look.detail) > 3 * _SHOWS_DETAIL:
        return None
    return step


def _brighter(a: Look, b: Look, seen: Common) -> float:
    """How much more ``b`` was exposed: by what the files say, else by what they show."""
    if a.exposure_ev is not None and b.exposure_ev is not None:
        return a.exposure_ev - b.exposure_ev
    return seen.brighter_ev or 0.0


def _apart_s(a: Look, b: Look) -> float:
    """Seconds from the end of one exposure to the beginning of the next, nothing where no clock tells."""
    begin, end = a.info.metadata.taken_s, b.info.metadata.taken_s
    if begin is None or end is None:
        return 0.0
    return end - begin - (a.info.metadata.exposure_s or 0.0) - (b.info.metadata.exposure_s or 0.0)


def _turned(a: Look, b: Look) -> bool:
    return (a.info.width, a.info.height) != (b.info.width, b.info.height)


def _as_most(groups: list[list[Look]], steps: list[list[float]]) -> tuple[list[list[Look]], list[list[float]]]:
    """Where most positions are brackets of one pattern, a group of several patterns on end is cut into them:
    neighbours without detail look like one place."""
    patterns = [tuple(round(s * 3) for s in ev) for ev in steps if len(ev) > 1]
    if not patterns:
        return groups, steps
    usual = max(set(patterns), key=patterns.count)
    if 2 * patterns.count(usual) < len(groups) or len(set(usual)) == 1:
        return groups, steps
    cut_groups: list[list[Look]] = []
    cut_steps: list[list[float]] = []
    for group, ev in zip(groups, steps):
        n, told = len(usual), tuple(round(s * 3) for s in ev)
        pieces = len(group) // n
        if pieces > 1 and len(group) == pieces * n and told == usual * pieces:
            for k in range(0, len(group), n):
                cut_groups.append(group[k : k + n])
                cut_steps.append([s - ev[k] for s in ev[k : k + n]])
        else:
            cut_groups.append(group)
            cut_steps.append(ev)
    return cut_groups, cut_steps


def _position(group: list[Look], steps: list[float]) -> Position:
    ev = np.asarray(steps)
    if len(group) == 1:
        return Position(tuple(group), "single", (0.0,), 0)
    if np.ptp(ev) < _STEP_EV:
        return Position(tuple(group), "repeat", (0.0,) * len(group), 0)
    middle = int(np.argmin(np.abs(ev - np.median(ev))))
    return Position(tuple(group), "bracket", tuple(round(float(e), 2) for e in ev - ev[middle]), middle)


def sharpest_chosen(position: Position) -> Position:
    """Of repeats the sharpest stands for the place, measured at full size over the same ground.

    Raises
    ------
    UnreadableFrame
        A frame of it cannot be read.
    """
    if position.role != "repeat":
        return position
    energy = [_fine_energy(look.path) for look in position.looks]
    return replace(position, chosen=int(np.argmax(energy)))


def _fine_energy(path: Path) -> float:
    pixels = read(path).pixels
    grey = cv2.cvtColor(pixels if pixels.dtype == np.uint8 else (pixels >> 8).astype(np.uint8), cv2.COLOR_RGB2GRAY)
    # a little smoothing first, so that noise is not taken for detail
    return float(cv2.Laplacian(cv2.GaussianBlur(grey, (0, 0), 0.8), cv2.CV_32F).var())
