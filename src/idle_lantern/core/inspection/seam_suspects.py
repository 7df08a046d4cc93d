"""Readings along seams -> suspects: steps and parallax, bands and dark wedges, things that are cut."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from idle_lantern.core.inspection.along_seams import SeamReading
from idle_lantern.core.inspection.frame_views import FrameViews
from idle_lantern.core.inspection.suspect import Kind, Suspect, likely

#: Half suspicious, and over what the suspicion rises: a step, light across a seam.
_STEP_PX, _LIGHT_EV = (0.9, 0.1), (0.022, 0.003)
#: The same for the area of what a seam cuts (pixels of the look).
_CUT_PX = (90.0, 18.0)
#: Readings whose doubt is larger say nothing.
_STEP_DOUBT_PX, _LIGHT_DOUBT_EV = 0.3, 0.012
#: Shift differing within a window by so much more than it is: near and far disagree.
_PARALLAX = 1.8
#: A quarter of a window is less surely shifted than all of it.
_OF_UNEVEN = 0.6
#: Share of the half diagonal from which dark light is a corner's.
_CORNER = 0.72
#: Windows of a seam that lie so near each other are one place, of pixels of the look; a place reaches so far beyond its windows' middles.
_TOGETHER_PX, _ROUND_PX = 200.0, 48.0
#: Shift below which near and far are not compared with it, in full pixels; and of half the suspicion, what a neighbour must have to belong to a place.
_LEAST_SHIFT_PX, _BELONGS = 0.6, 0.7


def _groups(readings: Sequence[SeamReading], figures_of: Sequence[float], half: float) -> list[list[int]]:
    """Neighbouring windows of one seam that are over 70 % of what is half suspicious, together."""
    over = [n for n, f in enumerate(figures_of) if f > _BELONGS * half]
    groups = []
    for pair in sorted({(readings[n].window.a, readings[n].window.b) for n in over}):
        mine = [n for n in over if (readings[n].window.a, readings[n].window.b) == pair]
        places = [(readings[n].window.x, readings[n].window.y) for n in mine]
        groups += [[mine[k] for k in g] for g in merged(places, _TOGETHER_PX)]
    return groups


def _box(readings: Sequence[SeamReading], group: Sequence[int]) -> tuple[float, float, float, float]:
    """Middle, width and height of a group of windows, in pixels of the look."""
    x = [readings[n].window.x for n in group]
    y = [readings[n].window.y for n in group]
    wide, high = (max(v) - min(v) + 2 * _ROUND_PX for v in (x, y))
    return (min(x) + max(x)) / 2, (min(y) + max(y)) / 2, wide, high


def steps(look: FrameViews, readings: Sequence[SeamReading], *, parallax: bool = False) -> list[Suspect]:
    """Seams across which things are shifted, or near and far things disagree; under ``parallax`` all such shifts are of it."""
    known = [r.shift_sigma_px * look.shrink < _STEP_DOUBT_PX for r in readings]
    # near and far may disagree about a shift that is none on the whole
    each = [
        look.shrink * max(r.shift_px, _OF_UNEVEN * r.uneven_px) if sure else 0.0 for r, sure in zip(readings, known)
    ]
    blame = _blame(readings, each, _STEP_PX[0])
    told = []
    for group in _groups(readings, each, _STEP_PX[0]):
        worst = max(group, key=lambda n: each[n])
        reading, px = readings[worst], each[worst]
        apart = reading.uneven_px > _PARALLAX * max(reading.shift_px, _LEAST_SHIFT_PX / look.shrink)
        kind: Kind = "parallax" if apart or parallax else "step"
        a, b = _most_to_blame(reading, blame)
        figure = look.shrink * max(reading.shift_px, reading.uneven_px if apart else 0.0)
        if kind == "parallax":
            what = "Near and far things disagree" if apart else "Near things are shifted"
            sentence = f"{what} by {figure:.1f} px across the seam: the camera did not turn about its no-parallax point"
        else:
            sentence = f"What crosses the seam is shifted by {figure:.1f} px: a line that runs through shows a step"
        told.append(Suspect(*_box(readings, group), kind, likely(px, *_STEP_PX), (a, b), sentence, figure, "px"))
    return told


def bands(look: FrameViews, readings: Sequence[SeamReading]) -> list[Suspect]:
    """Seams across which light or colour changes."""
    each = [max(abs(r.light_ev), r.colour_ev) if r.light_sigma_ev < _LIGHT_DOUBT_EV else 0.0 for r in readings]
    blame = _blame(readings, each, _LIGHT_EV[0])
    told = []
    for group in _groups(readings, each, _LIGHT_EV[0]):
        worst = max(group, key=lambda n: each[n])
        reading = readings[worst]
        first, second = _most_to_blame(reading, blame)
        percent = 100 * (2 ** each[worst] - 1)
        darker = reading.window.b if reading.light_ev < 0 else reading.window.a
        corner = _radius(look, darker, reading) > _CORNER and reading.colour_ev < abs(reading.light_ev)
        if corner:
            sentence = f"A dark wedge: a corner's fall-off leaves {percent:.0f} % less light on one side of the seam"
        elif reading.colour_ev > abs(reading.light_ev):
            sentence = f"A band of colour: the two sides of the seam differ by {percent:.0f} % in one colour"
        else:
            sentence = f"A band: one side of the seam is {percent:.0f} % brighter than the other over the same ground"
        kind: Kind = "wedge" if corner else "colour"
        told.append(
            Suspect(
                *_box(readings, group), kind, likely(each[worst], *_LIGHT_EV), (first, second), sentence, percent, "%"
            )
        )
    return told


def _radius(look: FrameViews, k: int, reading: SeamReading) -> float:
    """How far out in a frame a window lies, as a share of its half diagonal."""
    lens = look.poses.lenses[k]
    pixel, valid = look.poses.pixels(k, look.canvas.directions(np.array([[reading.window.x, reading.window.y]])))
    if not valid.all():
        return 0.0
    off = pixel[0] - np.asarray(lens.principal_px)
    return float(np.hypot(*off) / (math.hypot(lens.width, lens.height) / 2))


def cuts(look: FrameViews, readings: Sequence[SeamReading]) -> list[Suspect]:
    """Seams that run through something."""
    each = [r.cut_px for r in readings]
    told = []
    for group in _groups(readings, each, _CUT_PX[0]):
        worst = max(group, key=lambda n: each[n])
        window, area = readings[worst].window, each[worst]
        sentence = "The seam runs through something that only one of the two frames shows: it may be cut"
        frames = (window.a, window.b)
        full = area * look.shrink**2
        told.append(Suspect(*_box(readings, group), "cut", likely(area, *_CUT_PX), frames, sentence, full, "px²"))
    return told


def _blame(readings: Sequence[SeamReading], each: Sequence[float], half: float) -> dict[int, int]:
    """How many seams of each frame are suspicious."""
    count: dict[int, set[int]] = {}
    for reading, figure in zip(readings, each):
        if figure > half:
            a, b = reading.window.a, reading.window.b
            count.setdefault(a, set()).add(b)
            count.setdefault(b, set()).add(a)
    return {k: len(others) for k, others in count.items()}


def _most_to_blame(reading: SeamReading, blame: dict[int, int]) -> tuple[int, int]:
    a, b = reading.window.a, reading.window.b
    return (b, a) if blame.get(b, 0) > blame.get(a, 0) else (a, b)


def merged(places: Sequence[tuple[float, float]], reach: float) -> list[list[int]]:
    """Places that lie within ``reach`` of each other, chained, by their numbers."""
    points = np.asarray(places, float).reshape(-1, 2)
    group = list(range(len(points)))
    for i in range(len(points)):
        for j in np.flatnonzero(np.abs(points[:i] - points[i]).max(1) <= reach):
            old, new = group[i], group[int(j)]
            group = [new if g == old else g for g in group]
    return [[i for i, g in enumerate(group) if g == k] for k in sorted(set(group))]
