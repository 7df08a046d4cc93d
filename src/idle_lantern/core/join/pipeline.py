"""The order of the stages: the only module that knows it.

``solve`` finds where the frames belong, ``compose_picture`` makes a picture of
any canvas from that, ``join`` does both and writes picture and report.
"""

from __future__ import annotations

import math
import resource
import shutil
import time
from collections import OrderedDict
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from threading import Lock
from typing import Any, Generic, TypeVar

import cv2
import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.base.atomic import replacing
from idle_lantern.core.base.errors import InputError, JoinError
from idle_lantern.core.base.picture import Picture
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.deliver.streaming import write_tiles
from idle_lantern.core.deliver.writing import WriteOptions, check_target, write
from idle_lantern.core.frames.frameset import FrameSet
from idle_lantern.core.frames.reading import grey_again, read, read_again
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.rectangles import Rectangle, inner_rectangle, largest_rectangle
from idle_lantern.core.join.blend import Compositor, compose
from idle_lantern.core.join.canvas import Canvas, Field, field_of, make_canvas
from idle_lantern.core.join.doubles import doubles
from idle_lantern.core.join.falloff import FallOff, even_overview, solve_falloff, without_falloff
from idle_lantern.core.join.features import Features, WorkingFrame, find_features, working_frame
from idle_lantern.core.join.gains import solve_gains
from idle_lantern.core.join.lens_guess import LOOSE_SHARE, camera_groups, guess_lenses
from idle_lantern.core.join.links import (
    Link,
    acceptable,
    candidate_pairs,
    groups_of,
    match_pair,
    verify,
)
from idle_lantern.core.join.options import JoinOptions, machine_memory
from idle_lantern.core.join.overview import OVERVIEW_PIXELS, make_overview
from idle_lantern.core.join.poses import Poses, adjust, initial_rotations, reassigned
from idle_lantern.core.join.refine import refine_link, smoothed
from idle_lantern.core.join.regularity import place_by_regularity, shooting_order
from idle_lantern.core.join.seams import find_seams
from idle_lantern.core.join.straighten import centred, to_prior, upright

Array = NDArray[Any]
T = TypeVar("T")
R = TypeVar("R")

#: Usual share of each stage in the whole run, for progress and remaining time.
STAGE_WEIGHTS = {
    "read": 0.10,
    "features": 0.18,
    "match": 0.06,
    "adjust": 0.06,
    "refine": 0.16,
    "warp": 0.03,
    "seams": 0.05,
    "blend": 0.28,
    "write": 0.08,
}
_REFINED_SCALE_PX = 0.15
#: Points of a link for the adjustments before fine registration: enough to find every false link.
_FIRST_POINTS = 80
#: Links of a frame that are registered finely.
_LINKS_PER_FRAME = 4
#: Frames with fewer points than this have nothing to match by.
_BLANK = 60
#: Share of full scale below which a frame shows the inside of a hand.
_DARK = 0.05
_CACHE_BYTES = 900_000_000
#: The canvas is held once while it is made and once more while it is packed for the file.
_COPIES = 2.2
_MEMORY_SHARE = 0.8


@dataclass(frozen=True)
class Solution:
    """Where the frames belong.

    Attributes
    ----------
    frames : FrameSet
    poses : Poses
        Of the frames of the largest group, upright and centred.
    links : tuple of Link
        Verified links inside that group.
    groups : list of list of int
        Frames that belong together, the joined group first.
    reasons : dict of int to str
        Why a frame is left out.
    placed_by : dict of int to str
        ``features``, ``plan`` or ``grid`` for each frame of ``poses``.
    seen : Field
        What part of the sphere the frames cover.
    working : tuple of WorkingFrame
        Reduced frames in the order of ``poses.frames``.
    timings_s : dict
    """

    frames: FrameSet
    poses: Poses
    links: tuple[Link, ...]
    groups: list[list[int]]
    reasons: dict[int, str]
    placed_by: dict[int, str]
    seen: Field
    working: tuple[WorkingFrame, ...]
    timings_s: dict[str, float]


@dataclass(frozen=True)
class Composed:
    """How a picture was made of a solution; ``crop`` is the largest rectangle without gaps."""

    canvas: Canvas
    gains: Array
    label: Array
    crop: Rectangle
    falloff: FallOff
    timings_s: dict[str, float]


@dataclass(frozen=True)
class Joined(Composed):
    """A joined picture in memory and how it came to be."""

    picture: Picture


class _Clock:
    """Adds up the seconds of each stage."""

    def __init__(self) -> None:
        self.seconds: dict[str, float] = {}

    @contextmanager
    def stage(self, name: str) -> Iterator[None]:
        start = time.perf_counter()
        try:
            yield
        finally:
            self.seconds[name] = self.seconds.get(name, 0.0) + time.perf_counter() - start


@contextmanager
def _one_thread_each() -> Iterator[None]:
    """OpenCV single-threaded inside our own workers: two levels of threads fight each other."""
    before = cv2.getNumThreads()
    cv2.setNumThreads(1)
    try:
        yield
    finally:
        cv2.setNumThreads(before)


def _mapped(work: Callable[[T], R], items: Sequence[T], threads: int, progress: Progress) -> list[R]:
    """``work`` on each item by a few threads, in order, with a step of progress each."""
    results = []
    with ThreadPoolExecutor(threads) as pool:
        futures = [pool.submit(work, item) for item in items]
        try:
            for future in futures:
                results.append(future.result())
                progress.advance()
        except BaseException:
            for future in futures:
                future.cancel()
            raise
    return results


def solve(
    frames: FrameSet,
    options: JoinOptions | None = None,
    prior: Sequence[Array | None] | None = None,
    progress: Progress = SILENT,
) -> Solution:
    """Find how the frames lie to each other and which lens took them.

    Raises
    ------
    JoinError
        One frame only, or no two frames match.
    """
    options = options or JoinOptions()
    n = len(frames)
    if n < 2:
        raise JoinError("One frame alone makes no panorama", remedy="Give at least two overlapping frames")
    prior = list(prior) if prior is not None else [None] * n
    clock = _Clock()
    rng = np.random.default_rng(options.seed)
    with _one_thread_each():
        for size in (options.working_mp, options.second_mp):
            with clock.stage("read"):
                progress.begin("read", n)
                working = _mapped(partial(working_frame, working_mp=size), frames.infos, options.threads, progress)
            with clock.stage("features"):
                progress.begin("features", n)
                features = _mapped(partial(find_features, count=options.features), working, options.threads, progress)
            with clock.stage("match"):
                links, lenses = _verified_links(frames, features, prior, options, rng, progress)
            # a quick look ties most sets; what it leaves apart is looked at more closely
            if len(groups_of(n, links)[0]) == n or size >= max(i.megapixels for i in frames.infos):
                break
        groups = groups_of(n, links)
        main = groups[0]
        if len(main) < 2:
            raise JoinError(
                _why_nothing_matches(features), remedy="Check that the frames overlap by a third and show detail"
            )
        with clock.stage("adjust"):
            poses, links = _adjusted(frames, main, links, lenses, size, progress)
        # dropping false links may have split the group
        if set(poses.frames) != set(main):
            groups = groups_of(n, links)
        same = doubles(poses, working)
        if same:
            poses, links = _without(poses, links, set(same))
        if options.refine:
            with clock.stage("refine"):
                poses, links = _refined(frames, poses, links, options, rng, progress)
    placed_by = dict.fromkeys(poses.frames, "features")
    if any(prior[f] is not None for f in poses.frames):
        poses = to_prior(poses, prior)
        poses = _with_planned(frames, poses, prior, set(same))
        placed_by = {f: placed_by.get(f, "plan") for f in poses.frames}
    else:
        poses = upright(poses)
        poses = _with_regular(frames, poses, features, set(same))
        placed_by = {f: placed_by.get(f, "grid") for f in poses.frames}
        poses = centred(poses, field_of(poses).middle_rad)
    seen = field_of(poses)
    reasons = _left_out(frames, features, groups, poses, same)
    return Solution(
        frames,
        poses,
        tuple(links),
        groups,
        reasons,
        placed_by,
        seen,
        tuple(working[f] for f in poses.frames),
        clock.seconds,
    )


@dataclass(frozen=True)
class _Prepared:
    """Light and seams reckoned: all that tiles are made from."""

    compositor: Compositor
    gains: Array
    label: Array
    falloff: FallOff


def compose_picture(
    solution: Solution,
    canvas: Canvas,
    options: JoinOptions | None = None,
    progress: Progress = SILENT,
    *,
    rough: bool = False,
) -> Joined:
    """Make the picture of a solution on a canvas.

    ``rough`` uses the reduced frames instead of reading the full ones: a first look
    within seconds, for canvases of a few megapixels.
    """
    options = options or JoinOptions()
    clock = _Clock()
    with _one_thread_each():
        ready = _prepared(solution, canvas, options, progress, clock, rough=rough)
        with clock.stage("blend"):
            dtype = np.uint8 if ready.compositor.full_scale == 255 else np.uint16
            result = np.zeros((canvas.height, canvas.width, 3), dtype)
            alpha = np.zeros((canvas.height, canvas.width), dtype)
            for tile, part, shown in compose(ready.compositor, options.threads, progress):
                at = (slice(tile.top, tile.top + tile.height), slice(tile.left, tile.left + tile.width))
                result[at], alpha[at] = part, shown
    picture = Picture(result, alpha, solution.working[0].picture.icc)
    return Joined(canvas, ready.gains, ready.label, inner_rectangle(alpha), ready.falloff, clock.seconds, picture)


def compose_to_file(
    solution: Solution, canvas: Canvas, target: Path, options: JoinOptions | None = None, progress: Progress = SILENT
) -> Composed:
    """Make the picture of a solution tile by tile into a tiled pyramid TIFF: no canvas is too large for it."""
    options = options or JoinOptions()
    clock = _Clock()
    with _one_thread_each(), replacing(target) as part_file:
        ready = _prepared(solution, canvas, options, progress, clock, rough=False)
        box = _safe_rectangle(ready.label, canvas)
        region = box if options.crop else Rectangle(0, 0, canvas.width, canvas.height)
        with clock.stage("blend"):
            write_tiles(
                part_file,
                region.width,
                region.height,
                ((p, a) for _t, p, a in compose(ready.compositor, options.threads, progress, region=region)),
                np.uint8 if ready.compositor.full_scale == 255 else np.uint16,
                WriteOptions(),
                solution.working[0].picture.icc,
            )
    return Composed(canvas, ready.gains, ready.label, box, ready.falloff, clock.seconds)


def _safe_rectangle(label: Array, canvas: Canvas) -> Rectangle:
    """Largest rectangle without gaps, from the reduced canvas and two reduced pixels inside it."""
    shown = cv2.erode((label >= 0).astype(np.uint8), np.ones((5, 5), np.uint8), borderValue=0)
    h, w = label.shape
    small = largest_rectangle(shown > 0)
    fx, fy = canvas.width / w, canvas.height / h
    left, top = math.ceil(small.left * fx), math.ceil(small.top * fy)
    right, bottom = int((small.left + small.width) * fx), int((small.top + small.height) * fy)
    return Rectangle(left, top, max(1, right - left), max(1, bottom - top))


def _prepared(
    solution: Solution, canvas: Canvas, options: JoinOptions, progress: Progress, clock: _Clock, *, rough: bool
) -> _Prepared:
    poses = solution.poses
    with clock.stage("warp"):
        pixels = OVERVIEW_PIXELS // 4 if rough else OVERVIEW_PIXELS
        overview = make_overview(poses, solution.working, canvas, pixels=pixels, progress=progress)
        falloff = solve_falloff(overview, len(poses.frames))
        overview = even_overview(overview, falloff)
        gains = solve_gains(overview, len(poses.frames))
    with clock.stage("seams"):
        label = find_seams(overview, gains, progress)
    if rough:
        lenses = tuple(
            replace(lens.scaled(1 / w.scale[0]), width=w.picture.width, height=w.picture.height)
            for lens, w in zip(poses.lenses, solution.working)
        )
        poses = replace(poses, lenses=lenses)
        evened = [
            replace(w.picture, pixels=without_falloff(w.picture.pixels, lens, falloff))
            for w, lens in zip(solution.working, lenses)
        ]
        load: Callable[[int], Picture] = evened.__getitem__
        full_scale = 255
    else:
        infos = [solution.frames.infos[f] for f in poses.frames]

        def even_frame(k: int) -> Picture:
            picture = read_again(infos[k])
            return replace(picture, pixels=without_falloff(picture.pixels, poses.lenses[k], falloff))

        most = min(_CACHE_BYTES, options.memory() // 3)
        load = Held(even_frame, len(infos), lambda p: p.pixels.nbytes, most).load
        full_scale = 65535 if any(i.bits == 16 for i in infos) else 255
    with_alpha = frozenset(i for i, w in enumerate(solution.working) if w.picture.alpha is not None)
    return _Prepared(Compositor(poses, canvas, load, label, gains, full_scale, with_alpha), gains, label, falloff)


def join(
    frames: FrameSet,
    target: Path,
    options: JoinOptions | None = None,
    prior: Sequence[Array | None] | None = None,
    progress: Progress = SILENT,
) -> tuple[Solution, Composed]:
    """Solve, make the picture and write it to ``target``, which appears only when complete.

    A TIFF that would need more memory than allowed is written tile by tile as it is made.
    """
    options = options or JoinOptions()
    check_target(target)
    solution = solve(frames, options, prior, progress)
    canvas = make_canvas(solution.poses, solution.seen, options.projection, options.width_px)
    check_target(target, canvas.width, canvas.height)
    deep = any(i.bits == 16 for i in frames.infos)
    if target.suffix.lower() in (".tif", ".tiff") and memory_needed(canvas, deep=deep) > options.memory():
        check_space(target, canvas, deep=deep)
        return solution, compose_to_file(solution, canvas, target, options, progress)
    check_memory(canvas, deep=deep)
    joined = compose_picture(solution, canvas, options, progress)
    clock = _Clock()
    with clock.stage("write"):
        progress.begin("write", 1)
        picture = cropped(joined.picture, joined.crop) if options.crop else joined.picture
        write(picture, target, WriteOptions(jpeg_quality=options.jpeg_quality))
        progress.advance()
    return solution, replace(joined, timings_s={**joined.timings_s, **clock.seconds})


def memory_needed(canvas: Canvas, *, deep: bool) -> float:
    """Bytes to hold the picture while it is made and packed."""
    return canvas.width * canvas.height * 4 * (2 if deep else 1) * _COPIES


def check_space(target: Path, canvas: Canvas, *, deep: bool) -> None:
    """Say before the work whether the picture and the halves that wait beside it fit onto the disk.

    Raises
    ------
    InputError
        There is too little room. Photographs pack to some two thirds of their pixels.
    """
    pixels = canvas.width * canvas.height * 4 * (2 if deep else 1)
    needed, free = pixels * (0.67 + 0.33), shutil.disk_usage(target.parent).free
    if needed > free:
        raise InputError(
            f"The {canvas.projection.name} picture of {canvas.width} x {canvas.height} pixels needs some "
            f"{needed / 1e9:.0f} GB and the disk has {free / 1e9:.0f} GB free",
            where=str(target),
            remedy="Make room, or choose another projection or a smaller width",
        )


def check_memory(canvas: Canvas, *, deep: bool) -> None:
    """Say before the work whether the picture fits into this computer.

    Raises
    ------
    InputError
        It would need more than most of the memory.
    """
    needed = memory_needed(canvas, deep=deep)
    present = machine_memory()
    if needed > _MEMORY_SHARE * present:
        raise InputError(
            f"The {canvas.projection.name} picture of {canvas.width} x {canvas.height} pixels needs "
            f"{needed / 1e9:.0f} GB of memory and this computer has {present / 1e9:.0f} GB",
            remedy="Write .tif, which is made in pieces, or choose another projection or a smaller width",
        )


def cropped(picture: Picture, box: Rectangle) -> Picture:
    """The part of a picture inside ``box``, without alpha if nothing is missing there."""
    at = (slice(box.top, box.top + box.height), slice(box.left, box.left + box.width))
    alpha = None if picture.alpha is None else picture.alpha[at]
    if alpha is not None and (alpha == picture.full_scale).all():
        alpha = None
    return Picture(picture.pixels[at], alpha, picture.icc)


def peak_rss_mib() -> float:
    """Most memory this process ever held."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


class Held(Generic[T]):
    """Things made on demand and kept, the least recently used let go when they outgrow the memory allowed."""

    def __init__(self, make: Callable[[int], T], count: int, size: Callable[[T], int], most_bytes: float) -> None:
        self._make, self._size, self._most_bytes = make, size, most_bytes
        self._held: OrderedDict[int, T] = OrderedDict()
        self._lock = Lock()
        self._busy = [Lock() for _ in range(count)]

    def load(self, k: int) -> T:
        """Thing ``k``, made if it is not held."""
        with self._busy[k]:
            with self._lock:
                if k in self._held:
                    self._held.move_to_end(k)
                    return self._held[k]
            made = self._make(k)
            with self._lock:
                self._held[k] = made
                while len(self._held) > 2 and sum(map(self._size, self._held.values())) > self._most_bytes:
                    self._held.popitem(last=False)
            return made


def _verified_links(
    frames: FrameSet,
    features: Sequence[Features],
    prior: Sequence[Array | None],
    options: JoinOptions,
    rng: np.random.Generator,
    progress: Progress,
) -> tuple[list[Link], list[Lens]]:
    reach = 1.1 * max(
        (
            2 * np.arctan(np.hypot(i.width, i.height) / 2 / (i.metadata.focal_px(i.width, i.height) or i.width))
            for i in frames.infos
        ),
        default=1.0,
    )
    pairs = candidate_pairs(features, prior, float(reach))
    progress.begin("match", len(pairs) + 1)
    matched = _mapped(lambda p: match_pair(p[0], p[1], features), pairs, options.threads, progress)
    raw = [link for link in matched if link is not None]
    lenses = guess_lenses(frames, raw, rng)
    progress.advance()
    links = []
    for link in raw:
        diagonal = float(np.hypot(lenses[link.a].width, lenses[link.a].height))
        verified = verify(link, lenses[link.a], lenses[link.b], LOOSE_SHARE * diagonal, rng)
        if verified is not None:
            links.append(verified)
    return links, lenses


def _adjusted(
    frames: FrameSet, main: list[int], links: list[Link], lenses: list[Lens], working_mp: float, progress: Progress
) -> tuple[Poses, list[Link]]:
    """Joint adjustment, from loose to tight; links that the whole contradicts are dropped."""
    group = camera_groups(frames)
    told = all(i.metadata.focal_px(i.width, i.height) for i in frames.infos)
    inside = [k for k in links if k.a in set(main)]
    poses = Poses(tuple(main), tuple(lenses[f] for f in main), initial_rotations(main, inside))
    working_px = float(np.mean([np.sqrt(frames.infos[f].megapixels / working_mp) for f in main]))
    working_px = max(1.0, working_px)
    for scale, tolerance in ((12.0, 14.0), (3.0, 5.0), (1.5, 3.0)):
        poses = adjust(
            poses,
            inside,
            group,
            scale_px=scale * working_px,
            told_focal=told,
            most_points=_FIRST_POINTS,
            progress=progress,
        )
        anew = [reassigned(k, poses, tolerance * working_px) for k in inside]
        kept = [k for k in anew if acceptable(k, poses.lenses[poses.index(k.a)], poses.lenses[poses.index(k.b)])]
        component = groups_of(len(frames), kept)[0]
        if set(component) != set(poses.frames):
            if len(component) < 2:
                raise JoinError(
                    "The frames match in places but not as one picture", remedy="Check that they belong together"
                )
            at = [poses.index(f) for f in component]
            poses = Poses(tuple(component), tuple(poses.lenses[i] for i in at), poses.world_from_camera[at])
        inside = [k for k in kept if k.a in set(component)]
    poses = adjust(poses, inside, group, scale_px=working_px, told_focal=told, progress=progress)
    return poses, [reassigned(k, poses, 3.0 * working_px) for k in inside]


def _refined(
    frames: FrameSet,
    poses: Poses,
    links: list[Link],
    options: JoinOptions,
    rng: np.random.Generator,
    progress: Progress,
) -> tuple[Poses, list[Link]]:
    """Tie points re-localised at full resolution and adjusted again."""
    group = camera_groups(frames)
    told = all(i.metadata.focal_px(i.width, i.height) for i in frames.infos)
    before = links
    links = _best_tied(links)
    progress.begin("refine", len(links))
    greys = Held(
        lambda f: smoothed(grey_again(frames.infos[f])), len(frames), lambda g: g.nbytes, options.memory() // 3
    )
    seeds = rng.integers(0, 2**31, len(links))
    links = _mapped(
        lambda item: refine_link(
            item[0], greys.load(item[0].a), greys.load(item[0].b), poses, np.random.default_rng(int(item[1]))
        ),
        list(zip(links, seeds)),
        options.threads,
        progress,
    )
    refined = adjust(poses, links, group, scale_px=_REFINED_SCALE_PX * 4, told_focal=told)
    refined = adjust(refined, links, group, scale_px=max(_REFINED_SCALE_PX, 1.5 * refined.rms_px), told_focal=told)
    if refined.rms_px > poses.rms_px:
        return poses, before
    return refined, [reassigned(k, refined, max(0.6, 4 * refined.rms_px)) if k.inliers else k for k in links]


def _best_tied(links: list[Link]) -> list[Link]:
    """The strongest links, until each frame has its share: more would tell nothing new."""
    count: dict[int, int] = {}
    kept = []
    for link in sorted(links, key=lambda k: -k.strength):
        if min(count.get(link.a, 0), count.get(link.b, 0)) < _LINKS_PER_FRAME:
            kept.append(link)
            for f in (link.a, link.b):
                count[f] = count.get(f, 0) + 1
    return sorted(kept, key=lambda k: (k.a, k.b))


def _with_planned(frames: FrameSet, poses: Poses, prior: Sequence[Array | None], gone: set[int]) -> Poses:
    """Add frames that nothing ties but whose direction is known."""
    known = {f: r for f, r in enumerate(prior) if r is not None and f not in poses.frames and f not in gone}
    return _added(frames, poses, known)


def _added(frames: FrameSet, poses: Poses, where: dict[int, Array]) -> Poses:
    """Poses with further frames at known rotations, under the lens of their camera."""
    if not where:
        return poses
    group = camera_groups(frames)
    lenses = list(poses.lenses)
    for f in where:
        same = [i for i, p in enumerate(poses.frames) if group[p] == group[f]]
        info = frames.infos[f]
        lenses.append(replace(poses.lenses[same[0] if same else 0], width=info.width, height=info.height))
    turned = np.concatenate([poses.world_from_camera, np.stack(list(where.values()))])
    return replace(poses, frames=(*poses.frames, *where), lenses=tuple(lenses), world_from_camera=turned)


def _without(poses: Poses, links: list[Link], gone: set[int]) -> tuple[Poses, list[Link]]:
    """Poses and links less some frames."""
    kept = [i for i, f in enumerate(poses.frames) if f not in gone]
    rest = replace(
        poses,
        frames=tuple(poses.frames[i] for i in kept),
        lenses=tuple(poses.lenses[i] for i in kept),
        world_from_camera=poses.world_from_camera[kept],
    )
    return rest, [k for k in links if k.a not in gone and k.b not in gone]


def _with_regular(frames: FrameSet, poses: Poses, features: Sequence[Features], gone: set[int]) -> Poses:
    """Add featureless frames where the regularity of the grid puts them (upright poses needed)."""
    blank = [f for f in range(len(frames)) if f not in poses.frames and f not in gone and len(features[f]) < _BLANK]
    missing = [f for f in blank if not _is_dark(frames, f)]
    if not missing or len(poses.frames) < 4:
        return poses
    placed = dict(zip(poses.frames, poses.world_from_camera))
    return _added(frames, poses, place_by_regularity(shooting_order(frames), placed, missing))


def _is_dark(frames: FrameSet, f: int) -> bool:
    """A frame with the hand before the lens is a bookend and no sky."""
    full_scale = 255 if frames.infos[f].bits == 8 else 65535
    return float(np.median(read(frames.infos[f].path, 8).pixels)) < _DARK * full_scale


def _left_out(
    frames: FrameSet, features: Sequence[Features], groups: list[list[int]], poses: Poses, same: dict[int, int]
) -> dict[int, str]:
    reasons = {f: f"Shows the same as {frames.names[k]}, which is at least as sharp." for f, k in same.items()}
    partners = {f: g for g in groups for f in g}
    for f in range(len(frames)):
        if f in poses.frames or f in reasons:
            continue
        others = [frames.names[k] for k in partners.get(f, [f]) if k != f]
        if len(features[f]) < _BLANK:
            reasons[f] = "Nothing to match: it shows hardly any detail (clear sky, blur or darkness)."
        elif others:
            reasons[f] = f"Belongs to another picture, with {', '.join(others[:3])}{' ...' if len(others) > 3 else ''}."
        else:
            reasons[f] = "Matches no other frame: foreign picture, blurred, or too little overlap."
    return reasons


def _why_nothing_matches(features: Sequence[Features]) -> str:
    poor = sum(len(f) < 60 for f in features)
    if poor == len(features):
        return "No frame shows enough detail to be matched"
    return "No two frames match each other"
