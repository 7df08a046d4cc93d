"""Frames -> where they belong: links, lens, rotations, what is left out and why."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.checkpoint import Checkpoint
from idle_lantern.core.base.errors import JoinError
from idle_lantern.core.base.parallel import Clock, mapped, one_thread_each
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.base.runners import Runner, ThreadRunner
from idle_lantern.core.frames.decoded import DecodedFrames
from idle_lantern.core.frames.frameset import FrameSet
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.optics.known import KnownLens
from idle_lantern.core.registration.match.by_hand import HandTie, judged, outcome
from idle_lantern.core.registration.match.detect import Matched, detect_and_match, look_and_match
from idle_lantern.core.registration.match.features import Features, WorkingFrame, working_frame
from idle_lantern.core.registration.match.image_circle import image_circle_px
from idle_lantern.core.registration.match.lens_guess import camera_groups, known_lenses
from idle_lantern.core.registration.match.links import Link, groups_of
from idle_lantern.core.registration.match.other_zooms import other_zooms, told_apart
from idle_lantern.core.registration.match.verify import acceptable
from idle_lantern.core.registration.solve.adjust import adjust, initial_rotations
from idle_lantern.core.registration.solve.adjustment import BENT, FOCAL, intrinsics_of
from idle_lantern.core.registration.solve.covered_field import Field, field_of
from idle_lantern.core.registration.solve.duplicates import duplicates
from idle_lantern.core.registration.solve.ground_plane import SURER, ground_frames, weakly_tied, with_ground
from idle_lantern.core.registration.solve.hand_held import HandHeld
from idle_lantern.core.registration.solve.lattice_gaps import confirmed, filled
from idle_lantern.core.registration.solve.level import Level
from idle_lantern.core.registration.solve.parallax import Parallax
from idle_lantern.core.registration.solve.placing import (
    BLANK,
    fitted_where_loose,
    islands_of,
    islands_whole,
    lenses_of,
    placed,
)
from idle_lantern.core.registration.solve.poses import Poses, reassigned
from idle_lantern.core.registration.solve.refine_solution import refine_solution, working_px
from idle_lantern.core.registration.solve.shift_lens import solve_shifts
from idle_lantern.core.registration.solve.two_lenses import solve_back_to_back
from idle_lantern.core.registration.solve.upside_down import upside_down
from idle_lantern.core.request.options import JoinOptions

#: Points of a link for the adjustments before fine registration: enough to find every false link.
_FIRST_POINTS = 80
#: A frame of more features than this share of the usual number is not soft but foreign; and so many registered
#: points make sure of one that was put into a gap.
_SOFTER, _CONFIRMED = 1.5, 24
#: Gain at which those adjustments end: the next one starts from other points anyway.
_ROUGHLY = 1e-3
#: And the last of them, before fine registration.
_NEARLY = 1e-5


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
        ``features``, ``plan``, ``grid``, ``ground`` or ``manual`` for each frame of ``poses``.
    seen : Field
        What part of the sphere the frames cover.
    working_mp : float
        Size of the reduced frames that it was found by, and that light and seams are reckoned from (``working_of``).
    timings_s : dict
    parallax : Parallax, HandHeld or None
        How far the axis stood off the no-parallax point, or how far the camera was carried, where the frames show it.
    level : Level or None
        How the vertical was found, where edges in the frames tell it.
    known : KnownLens or None
        The lens that was known before and that the tie points bear out.
    ties : tuple of HandTie
        What became of the points and lines that a person set.
    upside_down : bool
        The picture may stand on its head.
    """

    frames: FrameSet
    poses: Poses
    links: tuple[Link, ...]
    groups: list[list[int]]
    reasons: dict[int, str]
    placed_by: dict[int, str]
    seen: Field
    working_mp: float
    timings_s: dict[str, float]
    parallax: Parallax | HandHeld | None = None
    level: Level | None = None
    known: KnownLens | None = None
    ties: tuple[HandTie, ...] = ()
    upside_down: bool = False


#: Tie points of a fine registration that miss by more are not of one lens, or show parallax.
_MISSING_PX = 0.1
#: Takes a first solution and the reduced frames of its poses.
OnRough = Callable[[Solution, Sequence[WorkingFrame]], None]


def working_of(solution: Solution, store: DecodedFrames | None = None) -> list[WorkingFrame]:
    """The reduced frames of a solution, in the order of its poses; read again where they are not kept.

    Raises
    ------
    UnreadableFrame
        A frame is gone or damaged.
    """
    store = store or DecodedFrames(solution.frames.infos, 0)
    return [working_frame(f, store, solution.working_mp) for f in solution.poses.frames]


@dataclass
class _Run:
    """What every step of one solving needs."""

    frames: FrameSet
    options: JoinOptions
    prior: list[Array | None]
    progress: Progress
    store: DecodedFrames
    checkpoint: Checkpoint
    on_rough: OnRough | None
    clock: Clock
    rng: np.random.Generator
    runner: Runner


@dataclass(frozen=True)
class _Tied:
    """Frames tied by features: their geometry, the groups they fall into, and repeats (left out -> kept)."""

    poses: Poses
    links: list[Link]
    groups: list[list[int]]
    same: dict[int, int]
    parallax: Parallax | HandHeld | None = None
    new: frozenset[int] = frozenset()  # put into gaps, to be confirmed by fine registration


def solve(
    frames: FrameSet,
    options: JoinOptions | None = None,
    prior: Sequence[Array | None] | None = None,
    progress: Progress = SILENT,
    store: DecodedFrames | None = None,
    checkpoint: Checkpoint | None = None,
    on_rough: OnRough | None = None,
    runner: Runner | None = None,
) -> Solution:
    """Find how the frames lie to each other and which lens took them; ``prior`` are rotations (3, 3) where they are known.

    ``runner`` finds the points, None for threads; ``store`` hands decoded frames on to who makes the picture; ``checkpoint`` keeps finished
    stages for a run after this one was killed. ``on_rough`` gets what is known before the long part, with the reduced frames of its
    poses: at once where all directions are known, and again before fine registration.

    Raises
    ------
    JoinError
        One frame only, or no two frames match.
    """
    options = options or JoinOptions()
    n = len(frames)
    if n < 2:
        raise JoinError("One frame alone makes no panorama", remedy="Give at least two overlapping frames")
    checkpoint = checkpoint or Checkpoint()
    before = checkpoint.load("solution")
    if isinstance(before, Solution):
        return replace(before, frames=frames)
    known: list[Array | None] = [None] * n if prior is None else list(prior)
    store = store or DecodedFrames(frames.infos, 0)
    rng, runner = np.random.default_rng(options.seed), runner or ThreadRunner(options.threads)
    run = _Run(frames, options, known, progress, store, checkpoint, on_rough, Clock(), rng, runner)
    if options.lens_shift:
        with one_thread_each():
            solution = _by_shifts(run)
        checkpoint.save("solution", solution)
        return solution
    with one_thread_each():
        _show_as_planned(run)
        matched = detect_and_match(frames, store, options, known, rng, progress, run.clock, checkpoint, runner)
        run = _by_labels(run, matched)
        back = _back_to_back(run, matched)
        if back is not None:
            checkpoint.save("solution", back)
            return back
        tied = _tied(run, matched)
        run, matched, tied = _with_zooms(run, matched, tied)
        _show_roughly(run, matched, tied)
        if options.refine:
            tied = _refined(run, matched, tied)
            run, matched, tied = _with_small_zooms(run, matched, tied)
        solution = _completed(run, matched, tied)
    checkpoint.save("solution", solution)
    return solution


def _by_shifts(run: _Run) -> Solution:
    """Frames of a shift lens."""
    features, raw = look_and_match(
        run.frames, run.store, run.options, run.progress, run.clock, run.checkpoint, run.runner
    )
    with run.clock.stage("refine"):
        poses, links, groups = solve_shifts(
            run.frames, run.store, features, raw, run.options.second_mp, run.options, run.rng, run.progress
        )
    reasons = _left_out(run.frames, features, groups, poses, {})
    placed_by = dict.fromkeys(poses.frames, "features")
    seen, mp = field_of(poses), run.options.second_mp
    return Solution(run.frames, poses, tuple(links), groups, reasons, placed_by, seen, mp, run.clock.seconds)


def _back_to_back(run: _Run, matched: Matched) -> Solution | None:
    """Two circular frames that meet all round their rims, as cameras with two lenses take them."""
    circle = image_circle_px(matched.working) if len(run.frames) == 2 else None
    if circle is None:
        return None
    with run.clock.stage("refine"):
        found = solve_back_to_back(
            run.frames, run.store, matched.working, circle, matched.working_mp, run.options, run.rng, run.progress
        )
    if found is None:
        return None
    poses, links = found
    placed_by = dict.fromkeys(poses.frames, "features")
    return Solution(
        run.frames,
        poses,
        tuple(links),
        [[0, 1]],
        {},
        placed_by,
        field_of(poses),
        matched.working_mp,
        run.clock.seconds,
    )


def _show_as_planned(run: _Run) -> None:
    """A first look where all directions are known, before anything is matched."""
    planned = _as_planned(run.frames, run.prior)
    if run.on_rough is None or planned is None:
        return
    with run.clock.stage("read"):
        run.progress.begin("read", len(run.frames))
        look = partial(working_frame, store=run.store, working_mp=run.options.working_mp, glance=True)
        looks = mapped(look, range(len(run.frames)), run.options.threads, run.progress)
    placed_by = dict.fromkeys(planned.frames, "plan")
    size = run.options.working_mp
    run.on_rough(Solution(run.frames, planned, (), [], {}, placed_by, field_of(planned), size, {}), looks)


def _by_labels(run: _Run, matched: Matched) -> _Run:
    """The run with frames told apart that were zoomed or cropped."""
    return replace(run, frames=replace(run.frames, lens_labels=matched.lens_labels))


def _with_zooms(run: _Run, matched: Matched, tied: _Tied) -> tuple[_Run, Matched, _Tied]:
    """The same with frames that matched but fell apart when all were adjusted, where it is their zoom that differs."""
    links = [k for k in matched.links if {k.a, k.b} <= set(tied.poses.frames)]
    fell = {f for k in matched.links for f in (k.a, k.b)} - set(tied.poses.frames) - set(tied.same)
    if not fell or matched.lens_labels or run.options.lens is not None:
        return run, matched, tied
    zoomed = other_zooms(run.frames, matched.raw, links, matched.lenses)
    if zoomed is None:
        return run, matched, tied
    again = matched.under(zoomed, run.rng)
    with_labels = _by_labels(run, again)
    try:
        found = _tied(with_labels, again)
    except JoinError:  # what was tied before stays so
        return run, matched, tied
    if len(found.poses.frames) <= len(tied.poses.frames):
        return run, matched, tied
    return with_labels, again, found


def _with_small_zooms(run: _Run, matched: Matched, tied: _Tied) -> tuple[_Run, Matched, _Tied]:
    """The same with frames told apart whose zoom differs by so little that they were tied under one lens, and miss each other."""
    poses = tied.poses
    if poses.rms_px < _MISSING_PX or tied.parallax or matched.lens_labels or run.options.lens is not None:
        return run, matched, tied
    each = adjust(
        poses, tied.links, range(len(run.frames)), scale_px=_MISSING_PX, free=FOCAL, most_points=_FIRST_POINTS
    )
    zoomed = told_apart(poses.frames, each.lenses, matched.lenses)
    if zoomed is None or each.rms_px > poses.rms_px / 2:
        return run, matched, tied
    again = matched.under(zoomed, run.rng)
    with_labels = _by_labels(run, again)
    try:
        found = _refined(with_labels, again, _tied(with_labels, again))
    except JoinError:
        return run, matched, tied
    if len(found.poses.frames) < len(poses.frames) or found.poses.rms_px > poses.rms_px / 2:
        return run, matched, tied
    return with_labels, again, found


def _tied(run: _Run, matched: Matched) -> _Tied:
    """The largest group adjusted, without false links and without repeats."""
    n = len(run.frames)
    ties = judged(run.options.points, run.frames.ids, matched.lenses, run.frames.names, matched.links)
    links = [*ties.features, *ties.by_hand]
    groups = groups_of(n, links)
    main = groups[0]
    if len(main) < 2:
        raise JoinError(
            _why_nothing_matches(matched),
            remedy="Tie neighbours by a point each, or give their directions"
            if matched.repeating
            else "Check that the frames overlap by a third and show detail",
        )
    with run.clock.stage("adjust"):
        poses, links = _adjusted(run.frames, main, links, matched, run)
    # dropping false links may have split the group
    if set(poses.frames) != set(main):
        groups = groups_of(n, links)
    wanted = run.frames.places(run.options.put_back)
    same = {f: k for f, k in duplicates(poses, matched.working).items() if f not in wanted}
    if same:
        poses, links = _without(poses, links, set(same))
    if len(poses.frames) < 2:
        raise JoinError(
            f"The frames that match all show the same view as {run.frames.names[poses.frames[0]]}",
            remedy="Give frames that overlap by a third, or use both copies all the same",
        )
    if not run.options.refine:
        return _Tied(poses, links, groups, same)
    untied = [f for f in range(n) if f not in poses.frames and f not in same and _may_fill(run, matched, f)]
    before = set(poses.frames)
    poses, links = filled(poses, links, untied, matched.working)
    return _Tied(poses, links, groups, same, new=frozenset(set(poses.frames) - before))


def _may_fill(run: _Run, matched: Matched, f: int) -> bool:
    """Whether a frame may belong into a gap of the lattice: of the same camera, and softer than those that are tied."""
    infos = run.frames.infos
    sizes = {(i.width, i.height) for i in infos}
    usual = float(np.median([len(k) for k in matched.features]))
    return len(sizes) == 1 and run.prior[f] is None and len(matched.features[f]) < _SOFTER * max(usual, 1.0)


def _show_roughly(run: _Run, matched: Matched, tied: _Tied) -> None:
    """A look at what is known before fine registration."""
    if run.on_rough is None:
        return
    poses, placed_by, level = _placed(run, matched, tied)
    at = [matched.working[f] for f in poses.frames]
    seen, size = field_of(poses), matched.working_mp
    run.on_rough(Solution(run.frames, poses, tuple(tied.links), [], {}, placed_by, seen, size, {}, None, level), at)


def _refined(run: _Run, matched: Matched, tied: _Tied) -> _Tied:
    """Registered at full size."""
    corners = [f.points_px for f in matched.features]
    with run.clock.stage("refine"):
        poses, links, parallax = refine_solution(
            run.frames,
            run.store,
            corners,
            tied.poses,
            tied.links,
            run.options,
            run.rng,
            run.progress,
            matched.working_mp,
        )
    poses, links = confirmed(poses, links, set(tied.new), _CONFIRMED)
    return replace(tied, poses=poses, links=links, parallax=parallax)


def _completed(run: _Run, matched: Matched, tied: _Tied) -> Solution:
    """Upright or as planned, with frames that nothing ties put where they belong, and why others are left out."""
    poses, placed_by, level = _placed(run, matched, tied)
    if run.options.refine:
        with run.clock.stage("refine"):
            poses = fitted_where_loose(poses, placed_by, run.store, run.options, run.progress)
            islands = islands_of(tied.groups, matched.links, tied.poses.frames)
            poses = islands_whole(poses, [links for links in islands if placed_by.get(links[0].a) == "grid"])
    poses, placed_by, tied = _with_ground(run, matched, tied, poses, placed_by)
    reasons = _left_out(run.frames, matched.features, tied.groups, poses, tied.same, matched.repeating)
    by_features = {f for k in matched.links for f in (k.a, k.b)}
    tied_by_hand = run.frames.places(f for p in run.options.points for f in (p.a, p.b))
    for f in tied_by_hand & set(poses.frames) - by_features:
        placed_by[f] = "manual"
    ties = _judged_ties(run, matched, poses)
    tied_poses = poses.only([i for i, f in enumerate(poses.frames) if placed_by[f] == "features"])
    for f in reasons:
        refused = [t.sentence for t in ties if not t.believed and run.frames.ids[f] in (t.point.a, t.point.b)]
        if refused:
            reasons[f] = refused[0]
    for f in run.frames.places(run.options.put_back) & reasons.keys():
        reasons[f] = f"Asked for, but nothing tells where it belongs: give its direction. {reasons[f]}"
    return Solution(
        run.frames,
        poses,
        tuple(tied.links),
        tied.groups,
        reasons,
        placed_by,
        field_of(poses),
        matched.working_mp,
        run.clock.seconds,
        tied.parallax,
        level,
        _borne_out(run, poses),
        ties,
        upside_down(tied_poses, [matched.working[f] for f in tied_poses.frames]),
    )


def _judged_ties(run: _Run, matched: Matched, poses: Poses) -> tuple[HandTie, ...]:
    """What became of the points and lines that a person set, and what is to be said of each."""
    points, ids, names = run.options.points, run.frames.ids, run.frames.names
    if not points:
        return ()
    found = judged(points, ids, matched.lenses, names, matched.links)
    solved = {ids[f]: (poses.lenses[i], poses.world_from_camera[i]) for i, f in enumerate(poses.frames)}
    doubts, told = dict(found.doubts), []
    place = {frame: f for f, frame in enumerate(ids)}
    for tie in outcome(points, solved, dict(zip(ids, names)), found.refused):
        pair = (place.get(tie.point.a, -1), place.get(tie.point.b, -1))
        doubt = "" if tie.sentence else doubts.pop((min(pair), max(pair)), "")  # once for each pair
        told.append(replace(tie, sentence=doubt) if doubt else tie)
    return tuple(told)


def _with_ground(
    run: _Run, matched: Matched, tied: _Tied, poses: Poses, placed_by: dict[int, str]
) -> tuple[Poses, dict[int, str], _Tied]:
    """With frames of the ground that were taken from another standpoint: poses, how each frame was placed, and what ties the rest."""
    untied = [f for f in range(len(run.frames)) if f not in poses.frames and f not in tied.same]
    weak = weakly_tied(poses, tied.links)
    if not run.options.refine or not (untied or weak):
        return poses, placed_by, tied
    rest = poses.only([i for i, f in enumerate(poses.frames) if f not in weak])
    with run.clock.stage("refine"):
        found = ground_frames(rest, matched.working, lenses_of(run.frames, rest, [*untied, *weak]))
    found = {f: g for f, g in found.items() if g.points > SURER * weak.get(f, 0)}
    if not found:
        return poses, placed_by, tied
    links = [k for k in tied.links if not {k.a, k.b} & set(found)]
    apart = [[f for f in group if f not in found] for group in tied.groups]
    groups = [sorted([*apart[0], *found]), *(group for group in apart[1:] if group)]
    others = poses.only([i for i, f in enumerate(poses.frames) if f not in found])
    return (
        with_ground(others, found),
        placed_by | dict.fromkeys(found, "ground"),
        replace(tied, links=links, groups=groups),
    )


def _borne_out(run: _Run, poses: Poses) -> KnownLens | None:
    """The lens that was known, if its distortion was kept."""
    known = known_lenses(run.frames, run.options.lens)
    if known is None or intrinsics_of(known[poses.frames[0]])[1:4] != intrinsics_of(poses.lenses[0])[1:4]:
        return None
    return run.options.lens


def _placed(run: _Run, matched: Matched, tied: _Tied) -> tuple[Poses, dict[int, str], Level | None]:
    return placed(
        run.frames,
        tied.poses,
        run.prior,
        matched.features,
        matched.working,
        set(tied.same),
        run.options,
        islands_of(tied.groups, matched.links, tied.poses.frames),
    )


def _adjusted(
    frames: FrameSet, main: list[int], links: list[Link], matched: Matched, run: _Run
) -> tuple[Poses, list[Link]]:
    """Joint adjustment, from loose to tight; links that the whole contradicts are dropped."""
    group = camera_groups(frames)
    told = all(i.metadata.focal_px(i.width, i.height) for i in frames.infos)
    inside = [k for k in links if k.a in set(main)]
    poses = Poses(tuple(main), tuple(matched.lenses[f] for f in main), initial_rotations(main, inside))
    pixel = working_px(frames, poses, matched.working_mp)
    free = BENT if known_lenses(frames, run.options.lens) is None else FOCAL
    for scale, tolerance in ((12.0, 14.0), (3.0, 5.0), (1.5, 3.0)):
        poses = adjust(
            poses,
            inside,
            group,
            scale_px=scale * pixel,
            focal_from_exif=told,
            most_points=_FIRST_POINTS,
            settled=_ROUGHLY,
            free=free,
            progress=run.progress,
        )
        anew = [reassigned(k, poses, tolerance * pixel) for k in inside]
        kept = [k for k in anew if acceptable(k, poses.lenses[poses.index(k.a)], poses.lenses[poses.index(k.b)])]
        component = groups_of(len(frames), kept)[0]
        if set(component) != set(poses.frames):
            if len(component) < 2:
                raise JoinError(
                    "The frames match in places but not as one picture", remedy="Check that they belong together"
                )
            poses = poses.only([poses.index(f) for f in component])
        inside = [k for k in kept if k.a in set(component)]
    # where fine registration follows it begins from here, and needs no more than features tell
    few: dict[str, Any] = {"most_points": _FIRST_POINTS, "settled": _NEARLY} if run.options.refine else {}
    poses = adjust(poses, inside, group, scale_px=pixel, focal_from_exif=told, free=free, progress=run.progress, **few)
    return poses, [reassigned(k, poses, 3.0 * pixel) for k in inside]


def _as_planned(frames: FrameSet, prior: Sequence[Array | None]) -> Poses | None:
    """All frames where they were planned, under the lens of the metadata; None unless all of that is known."""
    told = [info.metadata.focal_px(info.width, info.height) for info in frames.infos]
    known = [p for p in prior if p is not None]
    if len(known) < len(frames) or not all(told):
        return None
    lenses = tuple(Lens("rectilinear", f or 1.0, i.width, i.height) for f, i in zip(told, frames.infos))
    return Poses(tuple(range(len(frames))), lenses, np.stack(known))


def _without(poses: Poses, links: list[Link], gone: set[int]) -> tuple[Poses, list[Link]]:
    """Poses and links less some frames."""
    rest = poses.only([i for i, f in enumerate(poses.frames) if f not in gone])
    return rest, [k for k in links if k.a not in gone and k.b not in gone]


def _left_out(
    frames: FrameSet,
    features: Sequence[Features],
    groups: list[list[int]],
    poses: Poses,
    same: dict[int, int],
    repeating: frozenset[int] = frozenset(),
) -> dict[int, str]:
    reasons = {f: f"Shows the same as {frames.names[k]}, which is at least as sharp." for f, k in same.items()}
    partners = {f: g for g in groups for f in g}
    for f in range(len(frames)):
        if f in poses.frames or f in reasons:
            continue
        others = [frames.names[k] for k in partners.get(f, [f]) if k != f]
        if len(features[f]) < BLANK:
            reasons[f] = "Nothing to match: it shows hardly any detail (clear sky, blur or darkness)."
        elif f in repeating and not others:
            reasons[f] = (
                "What it shows repeats (windows, slats, tiles) and lies as well in several places: tie it by a point, or give its direction."
            )
        elif others:
            listed = f"{', '.join(others[:3])}{' ...' if len(others) > 3 else ''}"
            reasons[f] = f"Is tied to {listed} alone: another picture, or too little overlap with this one."
        else:
            reasons[f] = "Matches no other frame: foreign picture, blurred, or too little overlap."
    return reasons


def _why_nothing_matches(matched: Matched) -> str:
    poor = sum(len(f) < 60 for f in matched.features)
    if poor == len(matched.features):
        return "No frame shows enough detail to be matched"
    if matched.repeating:
        return "What the frames show repeats (windows, slats, tiles): they match in several places alike"
    return "No two frames match each other"
