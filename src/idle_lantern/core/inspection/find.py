"""The list of suspects of a picture: seams read window by window, figures, softness and holes brought together and ranked."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.cache import SizedCache
from idle_lantern.core.base.parallel import mapped, one_thread_each
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.compositing.canvas.overview import Overview
from idle_lantern.core.compositing.canvas.warp import Tile
from idle_lantern.core.compositing.render.frame_views import Levels
from idle_lantern.core.compositing.render.plan import RenderPlan
from idle_lantern.core.inspection.along_seams import SeamReading, SeamWindow, read_seam, seam_windows
from idle_lantern.core.inspection.frame_views import FrameViews
from idle_lantern.core.inspection.ghosting import Figure, doubled, figures
from idle_lantern.core.inspection.ghosts import Ghost, ghosts_of
from idle_lantern.core.inspection.holes import holes
from idle_lantern.core.inspection.overlaps import largest_of_each, overlaps_of
from idle_lantern.core.inspection.seam_suspects import bands, cuts, steps
from idle_lantern.core.inspection.sharpness import blurs, compared
from idle_lantern.core.inspection.suspect import Suspect, likely, ranked

#: What is less suspicious is not told.
LEAST_SUSPICION = 0.15
#: Frames that share less of their ground are not compared for softness: others tell more.
_LEAST_SHARED = 0.06
#: Neighbours with which each frame is compared, those that share most.
_NEIGHBOURS = 4
#: Half suspicious, and over what the suspicion rises: softness.
_SOFT_PX = (0.95, 0.1)
#: A step or band over more than so many times the area of a cut or double, and so many pixels of the look more, is a fault of its own.
_MOST_WIDER, _MOST_MORE_PX = 6, 40_000
#: Side of the place at which softness is shown, in pixels of the look.
_SOFT_PLACE_PX = 200.0


@dataclass(frozen=True)
class LookedOver:
    """What was seen: suspicious places, and things that moved (frames by index into the set)."""

    suspects: tuple[Suspect, ...]
    ghosts: tuple[Ghost, ...] = ()


def find_suspects(plan: RenderPlan, overview: Overview, **how: Any) -> list[Suspect]:
    """The suspects of ``look_over`` alone; parameters as there."""
    return list(look_over(plan, overview, **how).suspects)


def look_over(
    plan: RenderPlan,
    overview: Overview,
    *,
    frames: SizedCache[int, Levels] | None = None,
    parallax: bool = False,
    changed: Sequence[Tile] | None = None,
    known: Sequence[Suspect] = (),
    threads: int = 1,
    progress: Progress = SILENT,
) -> LookedOver:
    """Places of the picture that ``plan`` makes which a careful eye should see, most suspicious first, and what moved.

    ``overview`` is what the plan's seams were cut on; ``frames`` are those that its tiles were made from, which are taken from there as
    long as they are in memory; ``parallax`` tells that the camera did not turn about its no-parallax point.
    Where only ``changed`` tiles are other than in an earlier picture, only they are looked at, and what was ``known`` of the
    others stays.

    Raises
    ------
    UnreadableFrame
        A frame is gone.
    Cancelled
        Stopped by ``progress``.
    """
    with one_thread_each():
        look = FrameViews(plan, frames)
        look.take_over(threads)
        windows = seam_windows(plan.label, look.canvas)
        windows.sort(key=lambda w: (w.a, w.b, w.y))
        areas = None if changed is None else [_area(tile) for tile in changed]
        if areas is not None:
            windows = [w for w in windows if _in_areas(_at_full_size(_place(w), look, plan), areas)]
        progress.begin("suspects", len(windows))
        readings = [
            r for r in mapped(lambda w: read_seam(look, plan.label, w), windows, threads, progress) if r is not None
        ]
        moved = figures(overview, plan.gains, plan.label)
        found = [
            *steps(look, readings, parallax=parallax),
            *bands(look, readings),
            *cuts(look, readings),
            *_doubles(look, moved, readings, plan.label),
            *_soft(look, plan.label, None if changed is None else _winners(plan, changed), threads),
            *_holes(look, overview, plan.label),
        ]
    told = [_at_full_size(s, look, plan) for s in _apart(found)]
    things = ghosts_of(moved, plan.label.shape, plan.canvas.width / plan.label.shape[1])
    at = plan.poses.frames
    ghosts = tuple(
        Ghost(tuple(replace(p, frame=at[p.frame], instead=at[p.instead]) for p in thing.places)) for thing in things
    )
    if areas is None:
        return LookedOver(tuple(ranked(told, LEAST_SUSPICION)), ghosts)
    new = ranked([s for s in told if _in_areas(s, areas)], LEAST_SUSPICION)
    kept = [*new, *(s for s in known if not _in_areas(s, areas))]
    return LookedOver(tuple(sorted(kept, key=lambda s: -s.suspicion)), ghosts)


def _area(tile: Tile) -> Suspect:
    """A tile as a place."""
    u, v = tile.left + (tile.width - 1) / 2, tile.top + (tile.height - 1) / 2
    return Suspect(u, v, tile.width, tile.height, "hole", 0, (), "")


def _place(window: SeamWindow) -> Suspect:
    tile = window.tile
    return Suspect(window.x, window.y, tile.width, tile.height, "step", 0, (), "")


def _in_areas(suspect: Suspect, areas: Sequence[Suspect]) -> bool:
    return any(suspect.meets(area) for area in areas)


def _winners(plan: RenderPlan, tiles: Sequence[Tile]) -> frozenset[int]:
    """Frames that show something in some tiles."""
    h, w = plan.label.shape
    fx, fy = w / plan.canvas.width, h / plan.canvas.height
    shown: set[int] = set()
    for t in tiles:
        rows = slice(int(t.top * fy), int((t.top + t.height) * fy) + 1)
        columns = slice(int(t.left * fx), int((t.left + t.width) * fx) + 1)
        shown |= set(np.unique(plan.label[rows, columns]).tolist())
    return frozenset(shown - {-1})


def _at_full_size(suspect: Suspect, look: FrameViews, plan: RenderPlan) -> Suspect:
    frames, shrink = plan.poses.frames, plan.canvas.width / look.canvas.width
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
            o.meets(s) and o.suspicion > 0.5 and s.width * s.height < _MOST_WIDER * o.width * o.height + _MOST_MORE_PX
            for o in strong
        )
    ]


def _doubles(look: FrameViews, moved: Sequence[Figure], readings: Sequence[SeamReading], label: Array) -> list[Suspect]:
    """Figures in two places: small ones beside a seam, by its windows, and larger ones anywhere."""
    near = _double(look, _once([f for r in readings for f in r.figures]), 1.0)
    far = _double(look, moved, look.canvas.width / label.shape[1])
    return [*near, *(s for s in far if not any(s.meets(o) and set(s.frames) == set(o.frames) for o in near))]


def _once(found: Sequence[Figure]) -> list[Figure]:
    """Figures that several windows show, as the one that shows most of each does."""
    told: list[Figure] = []
    for figure in sorted(found, key=lambda f: -f.area):
        x, y, w, h = figure.box
        if not any(
            (f.frame, f.other) == (figure.frame, figure.other)
            and x < f.box[0] + f.box[2] and f.box[0] < x + w and y < f.box[1] + f.box[3] and f.box[1] < y + h
            for f in told
        ):  # fmt: skip
            told.append(figure)
    return told


def _double(look: FrameViews, moved: Sequence[Figure], scale: float) -> list[Suspect]:
    told = []
    for pair in doubled(moved):
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


def _soft(look: FrameViews, label: Array, among: frozenset[int] | None, threads: int) -> list[Suspect]:
    """Frames softer than their neighbours, all or those ``among`` the given ones."""
    poses = look.poses
    overlaps = [
        o
        for o in largest_of_each(overlaps_of(poses, _LEAST_SHARED), _NEIGHBOURS)
        if among is None or (o.i in among or o.j in among)
    ]
    greys = SizedCache(look.grey, lambda grey: int(grey.nbytes), look.plan.cache_bytes // 4)
    found = compared(poses, overlaps, greys.load, threads)
    told = []
    for i, blur in blurs(len(poses.frames), found).items():
        sigma = blur.sigma_px * look.shrink
        at = _shown_detail(look, label, i, found)
        if at is None:
            continue
        others = [c.j if c.i == i else c.i for c in found if i in (c.i, c.j)]
        told.append(
            Suspect(
                *at, _SOFT_PLACE_PX, _SOFT_PLACE_PX, "soft", likely(sigma, *_SOFT_PX), (i, *others[:2]),
                f"Softer than its neighbours by {sigma:.1f} px" + (", shaken" if blur.shake_px else "") + ": a neighbour that shows the place may serve better",
                sigma, "px",
            )
        )  # fmt: skip
    return told


def _shown_detail(look: FrameViews, label: Array, i: int, found: Sequence[Any]) -> tuple[float, float] | None:
    """The place of most detail at which the picture shows a frame; else the middle of what it shows."""
    h, w = label.shape
    scale = np.array([look.canvas.width / w, look.canvas.height / h])
    strong: list[tuple[float, Array]] = []
    for pair in found:
        if i in (pair.i, pair.j):
            points = pair.points_i if pair.i == i else pair.points_j
            strong += list(zip(pair.strength.tolist(), points))
    for _power, point in sorted(strong, key=lambda s: -s[0]):
        place = look.canvas.pixels(look.poses.directions(i, point))
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


def _holes(look: FrameViews, overview: Overview, label: Array) -> list[Suspect]:
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
