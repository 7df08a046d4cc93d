"""Frames one after another -> positions: single frames, brackets and repeats, and which frame stands for each."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Literal

import cv2
import numpy as np

from idle_lantern.core.frames.reading import read
from idle_lantern.core.frames.series import steps_of
from idle_lantern.core.sorting.previews import Common, FilePreview, common

Role = Literal["single", "bracket", "repeat", "sensor-shift"]

#: Steps smaller than this are no bracket: cameras step by thirds of an EV.
_STEP_EV = 0.25
#: Exposures of brackets, and by how much those of one step differ at most.
_BRACKETS, _SAME_EV = (2, 3, 4, 5, 7, 9), 0.1
#: The pause between brackets is longer than that within one by this factor.
_RHYTHM = 1.5
#: Frames of one place lie within this share of their width; positions lie further apart.
_SAME_SHIFT = 0.08
#: Correlation of detail that frames of one place have, and below which places differ for certain.
_ALIKE, _UNLIKE = 0.45, 0.25
#: Where the camera stood still less will do: what is burnt out tells nothing.
_STILL, _ALIKE_STILL = 0.02, 0.3
#: Where less detail is seen than this, correlation says nothing.
_SHOWS_DETAIL = 0.004
#: Frames of a bracket follow each other by so many seconds beyond their exposures, also by hand.
_AT_ONCE_S = 4.0
#: Of more repeats than this so many are looked at for the sharpest.
_MOST_COMPARED = 16


@dataclass(frozen=True)
class Position:
    """Frames of one place.

    ``ev`` tells for each how much more it was exposed than ``chosen``, which stands for the place:
    the middle exposure of a bracket, the sharpest of repeats.
    """

    looks: tuple[FilePreview, ...]
    role: Role
    ev: tuple[float, ...]
    chosen: int

    @property
    def files(self) -> tuple[Path, ...]:
        """All files of the place, in the order taken."""
        return tuple(look.path for look in self.looks)

    @property
    def base(self) -> FilePreview:
        """The frame that stands for the place."""
        return self.looks[self.chosen]


def positions_of(looks: Sequence[FilePreview]) -> list[Position]:
    """Positions of frames in the order taken."""
    by_pattern = _by_pattern(looks)
    if by_pattern is not None:
        return [_position(group) for group in by_pattern]
    groups: list[list[_Member]] = []
    for look in looks:
        member = _member_of(groups[-1], look) if groups else None
        if member is None:
            groups.append([_Member(look, 0.0, sure=True)])
        else:
            groups[-1].append(member)
    return [_position(group) for group in _as_most(_without_guesses(groups))]


def singles(looks: Sequence[FilePreview]) -> tuple[Position, ...]:
    """Every frame as a position of its own."""
    return tuple(Position((look,), "single", (0.0,), 0) for look in looks)


def _by_pattern(looks: Sequence[FilePreview]) -> list[list[_Member]] | None:
    """The brackets of a run whose exposures go round in one pattern from end to end, whatever the frames show: sky, say.

    None where the files do not tell their exposures, where anything breaks the pattern, or where frames of one
    bracket would not have been taken at once.
    """
    exposures = [look.exposure_ev for look in looks]
    values = [-e for e in exposures if e is not None]
    if len(values) < len(looks) or any(look.info.metadata.taken_s is None for look in looks):
        return None
    for count in _BRACKETS:
        pattern = values[:count]
        if len(values) < 2 * count or len(values) % count or min(np.diff(np.sort(pattern))) < _STEP_EV:
            continue
        if any(abs(v - pattern[i % count]) > _SAME_EV for i, v in enumerate(values)):
            continue
        groups = [looks[i : i + count] for i in range(0, len(looks), count)]
        within = [_apart_s(a, b) for group in groups for a, b in zip(group, group[1:])]
        between = [_apart_s(one[-1], other[0]) for one, other in zip(groups, groups[1:])]
        held = not any(_turned(a, b) for group in groups for a, b in zip(group, group[1:]))
        # an automatic exposure may go round by chance, but not in the rhythm of a hand that turns the camera between
        if held and max(within) <= _AT_ONCE_S and min(between) > _RHYTHM * max(max(within), 0.3):
            return [[_Member(look, v - pattern[0], sure=True) for look, v in zip(group, pattern)] for group in groups]
    return None


@dataclass(frozen=True)
class _Member:
    """A frame of a place, its exposure in EV against the first, and whether what it shows says so."""

    look: FilePreview
    step: float
    sure: bool


def _without_guesses(groups: list[list[_Member]]) -> list[list[_Member]]:
    """Where no bracket of a run is sure, frames that show nothing and were exposed otherwise are a sky, one by one."""
    if any(member.sure and abs(member.step) >= _STEP_EV for group in groups for member in group[1:]):
        return groups
    cut: list[list[_Member]] = []
    for group in groups:
        for member in group:
            if member.sure and cut and member is not group[0]:
                cut[-1].append(member)
            else:
                cut.append([replace(member, step=0.0)])
    return cut


def _member_of(group: Sequence[_Member], look: FilePreview) -> _Member | None:
    """A frame as a member of a group it belongs to; None where it is of another place."""
    last = group[-1].look
    if _turned(last, look):
        return None
    # of a bracket one exposure may show what another has burnt out
    beside = _one_of_each_exposure(group)
    seen = [(m, found) for m, found in ((m, common(m.look, look)) for m in beside) if found is not None]
    nearest, best = max(seen, key=lambda pair: pair[1].ground)
    step = nearest.step + _brighter(nearest.look, look, best)
    detail = min(nearest.look.detail, look.detail)
    told = detail >= _SHOWS_DETAIL
    if told and best.ground >= (_ALIKE if best.shift > _STILL else _ALIKE_STILL):
        return _Member(look, step, sure=True) if best.shift <= _SAME_SHIFT else None
    # what shows nothing, or is burnt out, belongs to the bracket whose exposures go on
    if None in (last.exposure_ev, look.exposure_ev):
        return None
    if _apart_s(last, look) > _AT_ONCE_S or any(abs(step - m.step) < _STEP_EV for m in beside):
        return None
    if told and best.alike < _UNLIKE and detail > 3 * _SHOWS_DETAIL:
        return None
    return _Member(look, step, sure=False)


def _one_of_each_exposure(group: Sequence[_Member]) -> list[_Member]:
    """The last of each, so that a thousand frames of one view are not each compared with each."""
    return list({round(m.step / _STEP_EV): m for m in group}.values())


def _brighter(a: FilePreview, b: FilePreview, seen: Common) -> float:
    """How much more ``b`` was exposed: by what the files say, else by what they show."""
    if a.exposure_ev is not None and b.exposure_ev is not None:
        return a.exposure_ev - b.exposure_ev
    return seen.brighter_ev or 0.0


def _apart_s(a: FilePreview, b: FilePreview) -> float:
    """Seconds from the end of one exposure to the beginning of the next, nothing where no clock tells."""
    begin, end = a.info.metadata.taken_s, b.info.metadata.taken_s
    if begin is None or end is None:
        return 0.0
    return end - begin - (a.info.metadata.exposure_s or 0.0) - (b.info.metadata.exposure_s or 0.0)


def _turned(a: FilePreview, b: FilePreview) -> bool:
    return (a.info.width, a.info.height) != (b.info.width, b.info.height)


def _as_most(groups: list[list[_Member]]) -> list[list[_Member]]:
    """Where most positions are brackets of one pattern, a group of several patterns on end is cut into them:
    neighbours without detail look like one place."""
    told = [tuple(round(m.step * 3) for m in group) for group in groups]
    patterns = [pattern for pattern in told if len(pattern) > 1]
    if not patterns:
        return groups
    usual = max(set(patterns), key=patterns.count)
    if 2 * patterns.count(usual) < len(groups) or len(set(usual)) == 1:
        return groups
    cut: list[list[_Member]] = []
    for group, pattern in zip(groups, told):
        n = len(usual)
        pieces = len(group) // n
        if pieces > 1 and pattern == usual * pieces:
            for k in range(0, len(group), n):
                cut.append([replace(m, step=m.step - group[k].step) for m in group[k : k + n]])
        else:
            cut.append(group)
    return cut


def _position(group: Sequence[_Member]) -> Position:
    looks = tuple(member.look for member in group)
    ev = np.array([member.step for member in group])
    if len(group) == 1:
        return Position(looks, "single", (0.0,), 0)
    if np.ptp(ev) < _STEP_EV:
        return Position(looks, "repeat", (0.0,) * len(group), 0)
    middle = int(np.argmin(np.abs(ev - np.median(ev))))
    return Position(looks, "bracket", tuple(round(float(e), 2) for e in ev - ev[middle]), middle)


def sharpest_chosen(position: Position) -> Position:
    """Of repeats the sharpest stands for the place, measured at full size over the same ground; series are told.

    Raises
    ------
    UnreadableFrame
        A frame of it cannot be read.
    """
    if position.role != "repeat":
        return position
    if steps_of([look.path for look in position.looks]) is not None:
        return replace(position, role="sensor-shift", chosen=0)
    # of a time lapse some, from end to end
    looked_at = np.unique(np.linspace(0, len(position.looks) - 1, _MOST_COMPARED).round().astype(int))
    energy = [_fine_energy(position.looks[k].path) for k in looked_at]
    return replace(position, chosen=int(looked_at[int(np.argmax(energy))]))


def _fine_energy(path: Path) -> float:
    pixels = read(path).pixels
    grey = cv2.cvtColor(pixels if pixels.dtype == np.uint8 else (pixels >> 8).astype(np.uint8), cv2.COLOR_RGB2GRAY)
    # a little smoothing first, so that noise is not taken for detail
    return float(cv2.Laplacian(cv2.GaussianBlur(grey, (0, 0), 0.8), cv2.CV_32F).var())
