"""The list of suspects of a picture: seams read window by window, figures, softness and holes brought together and ranked."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.join.canvas.overview import Overview
from idle_lantern.core.join.render.plan import RenderPlan
from idle_lantern.core.join.suspects.along_seams import SeamReading, merged, read_seam, seam_windows
from idle_lantern.core.join.suspects.figures import doubled, figures
from idle_lantern.core.join.suspects.holes import holes
from idle_lantern.core.join.suspects.look import Look
from idle_lantern.core.join.suspects.overlaps import overlaps_of
from idle_lantern.core.join.suspects.sharpness import blurs, compared
from idle_lantern.core.join.suspects.suspect import Kind, Suspect, likely, ranked
from idle_lantern.core.join.workers import mapped, one_thread_each

Array = NDArray[Any]

#: What is less suspicious is not told.
LEAST_SUSPICION = 0.15
#: Half suspicious, and over what the suspicion rises: a step, light across a seam, softness.
_STEP_PX, _LIGHT_EV, _SOFT_PX = (0.9, 0.1), (0.022, 0.003), (0.95, 0.1)
#: The same for the area of what a seam cuts (pixels of the look).
_CUT_PX = (90.0, 18.0)
#: Readings whose doubt is larger say nothing.
_STEP_DOUBT_PX, _LIGHT_DOUBT_EV = 0.3, 0.012
#: Shift differing within a window by so much more than it is: near and far disagree.
_PARALLAX = 1.8
#: Share of the half diagonal from which dark light is a corner's.
_CORNER = 0.72


def find_suspects(
    plan: RenderPlan,
    overview: Overview,
    *,
    threads: int = 1,
    progress: Progress = SILENT,
) -> list[Suspect]:
    """Places of the picture that ``plan`` makes which a careful eye should see, most suspicious first.

    ``overview`` is what the plan's seams were cut on.

    Raises
    ------
    UnreadableFrame
        A frame is gone.
    Cancelled
        Stopped by ``progress``.
    """
    with one_thread_each():
        look = Look(plan)
        windows = seam_windows(plan.label, look.canvas)
        windows.sort(key=lambda w: (w.a, w.b, w.y))
        progress.begin("suspects", len(windows))
        readings = [
            r for r in mapped(lambda w: read_seam(look, plan.label, w), windows, threads, progress) if r is not None
        ]
        found = [
            *_steps(look, readings),
            *_light(look, readings),
            *_cuts(look, readings),
            *_doubles(look, overview, plan.label),
            *_soft(look, plan.label),
            *_holes(look, overview, plan.label),
        ]
    frames = plan.poses.frames
    shrink = plan.canvas.width / look.canvas.width
    return ranked([_at_full_size(s, shrink, frames) for s in _apart(found)], LEAST_SUSPICION)


def _at_full_size(suspect: Suspect, shrink: float, frames: Sequence[int]) -> Suspect:
    u, v = ((x + 0.5) * shrink - 0.5 for x in (suspect.u, suspect.v))
    at = tuple(frames[k] for k in suspect.frames)
    return replace(suspect, u=u, v=v, width=suspect.width * shrink, height=suspect.height * shrink, frames=at)


def _apart(found: Sequence[Suspect]) -> list[Suspect]:
    """A thing that is cut or doubled also looks shifted and unlike in light: the strongest explanation stays."""
    strong = [s for s in found if s.kind in ("double", "cut")]
    return [
        s
        for s in found
        if s.kind not in ("step", "parallax", "colour", "wedge")
        or not any(
            o.meets(s) and o.suspicion > 0.5 and s.width * s.height < 6 * o.width * o.height + 40_000 for o in strong
        )
    ]


def _groups(readings: Sequence[SeamReading], figures_of: Sequence[float], half: float) -> list[list[int]]:
    """Neighbouring windows of one seam that are over a third of what is half suspicious, together."""
    over = [n for n, f in enumerate(figures_of) if f > 0.7 * half]
    groups = []
    for pair in sorted({(readings[n].window.a, readings[n].window.b) for n in over}):
        mine = [n for n in over if (readings[n].window.a, readings[n].window.b) == pair]
        places = [(readings[n].window.x, readings[n].window.y) for n in mine]
        groups += [[mine[k] for k in g] for g in merged(places, 200)]
    return groups


def _box(readings: Sequence[SeamReading], group: Sequence[int]) -> tuple[float, float, float, float]:
    x = [readings[n].window.x for n in group]
    y = [readings[n].window.y for n in group]
    return (min(x) + max(x)) / 2, (min(y) + max(y)) / 2, max(x) - min(x) + 96, max(y) - min(y) + 96


def _steps(look: Look, readings: Sequence[SeamReading]) -> list[Suspect]:
    each = [r.shift_px * look.shrink if r.shift_sigma_px * look.shrink < _STEP_DOUBT_PX else 0.0 for r in readings]
    blame = _blame(readings, each, _STEP_PX[0])
    told = []
    for group in _groups(readings, each, _STEP_PX[0]):
        worst = max(group, key=lambda n: each[n])
        reading, px = readings[worst], each[worst]
        near = reading.uneven_px * look.shrink > _PARALLAX * max(px, 0.6) and reading.uneven_px * look.shrink > 1.2
        kind: Kind = "parallax" if near else "step"
        a, b = _most_to_blame(reading, blame)
        sentence = (
            f"Near and far things disagree by up to {reading.uneven_px * look.shrink:.1f} px across the seam: the camera turned beside its no-parallax point"
            if near
            else f"What crosses the seam is shifted by {px:.1f} px: a line that runs through shows a step"
        )
        figure = reading.uneven_px * look.shrink if near else px
        told.append(Suspect(*_box(readings, group), kind, likely(px, *_STEP_PX), (a, b), sentence, figure, "px"))
    return told


def _light(look: Look, readings: Sequence[SeamReading]) -> list[Suspect]:
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


def _radius(look: Look, k: int, reading: SeamReading) -> float:
    """How far out in a frame a window lies, as a share of its half diagonal."""
    lens = look.poses.lenses[k]
    ray = look.canvas.directions(np.array([[reading.window.x, reading.window.y]])) @ look.poses.world_from_camera[k]
    pixel, valid = lens.project(np.nan_to_num(ray))
    if not valid.all():
        return 0.0
    off = pixel[0] - np.asarray(lens.principal_px)
    return float(np.hypot(*off) / (math.hypot(lens.width, lens.height) / 2))


def _cuts(look: Look, readings: Sequence[SeamReading]) -> list[Suspect]:
    each = [r.cut_px for r in readings]
    return [
        Suspect(
            *_box(readings, group), "cut", likely(max(each[n] for n in group), *_CUT_PX),
            (readings[group[0]].window.a, readings[group[0]].window.b),
            "The seam runs through something that only one of the two frames shows: it may be cut", max(each[n] for n in group), "px²",
        )
        for group in _groups(readings, each, _CUT_PX[0])
    ]  # fmt: skip


def _doubles(look: Look, overview: Overview, label: Array) -> list[Suspect]:
    scale = look.canvas.width / label.shape[1]
    told = []
    for pair in doubled(figures(overview, look.plan.gains, label)):
        boxes = np.array([pair.one.box, pair.two.box], float)
        low, high = boxes[:, :2].min(0), (boxes[:, :2] + boxes[:, 2:]).max(0)
        x, y = ((low + high) / 2 + 0.5) * scale - 0.5
        width, height = (high - low + 4) * scale
        apart = float(np.hypot(*(boxes[0, :2] - boxes[1, :2])) * scale * look.shrink)
        told.append(
            Suspect(
                float(x), float(y), float(width), float(height), "double", likely(pair.alike, 0.3, 0.08), (pair.one.frame, pair.two.frame),
                f"The same figure seems to stand in two places, {apart:.0f} px apart: it moved between the two frames", apart, "px",
            )
        )  # fmt: skip
    return told


def _soft(look: Look, label: Array) -> list[Suspect]:
    poses = look.poses
    found = compared(poses, overlaps_of(poses), look.grey)
    told = []
    for i, blur in blurs(len(poses.frames), found).items():
        sigma = blur.sigma_px * look.shrink
        at = _shown_detail(look, label, i, found)
        if at is None:
            continue
        others = [c.j if c.i == i else c.i for c in found if i in (c.i, c.j)]
        told.append(
            Suspect(
                *at, 200.0, 200.0, "soft", likely(sigma, *_SOFT_PX), (i, *others[:2]),
                f"Softer than its neighbours by {sigma:.1f} px" + (", shaken" if blur.shake_px else "") + ": a neighbour that shows the place may serve better",
                sigma, "px",
            )
        )  # fmt: skip
    return told


def _shown_detail(look: Look, label: Array, i: int, found: Sequence[Any]) -> tuple[float, float] | None:
    """The place of most detail at which the picture shows a frame; else the middle of what it shows."""
    lens, turned = look.poses.lenses[i], look.poses.world_from_camera[i]
    h, w = label.shape
    scale = np.array([look.canvas.width / w, look.canvas.height / h])
    strong: list[tuple[float, Array]] = []
    for pair in found:
        if i in (pair.i, pair.j):
            points = pair.points_i if pair.i == i else pair.points_j
            strong += list(zip(pair.strength.tolist(), points))
    for _power, point in sorted(strong, key=lambda s: -s[0]):
        place = look.canvas.pixels(np.asarray(lens.unproject(point[None]))[0] @ turned.T)
        if not np.isfinite(place).all():
            continue
        column, row = np.floor((place + 0.5) / scale).astype(int)
        if 0 <= row < h and 0 <= column < w and label[row, column] == i:
            return float(place[0]), float(place[1])
    shown = np.argwhere(label == i)
    if not len(shown):
        return None
    row, column = shown[np.abs(shown - shown.mean(0)).sum(1).argmin()]
    return float((column + 0.5) * scale[0] - 0.5), float((row + 0.5) * scale[1] - 0.5)


def _holes(look: Look, overview: Overview, label: Array) -> list[Suspect]:
    scale = look.canvas.width / label.shape[1]
    frame_px = float(np.median([p.inside.sum() for p in overview.patches])) if overview.patches else 1.0
    told = []
    for hole in holes(label, frame_px, full_circle=look.canvas.full_circle):
        x, y, w, h = hole.box
        near = np.unique(label[max(0, y - 2) : y + h + 2, max(0, x - 2) : x + w + 2])
        frames = tuple(int(k) for k in near if k >= 0)[:4]
        size = f"{w * scale * look.shrink:.0f} x {h * scale * look.shrink:.0f} px"
        sentence = (
            f"A hole of {size}: no frame shows this place"
            if hole.enclosed
            else f"A bite of {size} out of the picture: a frame seems to be missing here"
        )
        suspicion = 0.99 if hole.enclosed else likely(hole.share, 0.06, 0.012)
        told.append(
            Suspect(
                (x + w / 2) * scale, (y + h / 2) * scale, w * scale, h * scale, "hole", suspicion, frames, sentence,
                100 * hole.share, "%",
            )
        )  # fmt: skip
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
