"""Solved poses -> the whole upright or as planned, with the frames that nothing ties put where they belong."""

from __future__ import annotations

import math
from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.progress import Progress
from idle_lantern.core.frames.decoded import DecodedFrames
from idle_lantern.core.frames.frameset import FrameSet
from idle_lantern.core.frames.reading import read
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.match.features import Features, WorkingFrame
from idle_lantern.core.registration.match.lens_guess import camera_groups
from idle_lantern.core.registration.match.links import Link, groups_of
from idle_lantern.core.registration.solve.adjust import initial_rotations
from idle_lantern.core.registration.solve.covered_field import field_of
from idle_lantern.core.registration.solve.grid_regularity import (
    Guess,
    place_by_regularity,
    place_where_a_run_goes_on,
    shooting_order,
)
from idle_lantern.core.registration.solve.level import Level, levelled
from idle_lantern.core.registration.solve.low_contrast import fitted
from idle_lantern.core.registration.solve.poses import Poses
from idle_lantern.core.registration.solve.refine_solution import greys_within
from idle_lantern.core.registration.solve.straighten import centred, to_prior, upright
from idle_lantern.core.request.options import JoinOptions

#: Frames with fewer points than this have nothing to match by.
BLANK = 60
#: Share of full scale below which a frame shows the inside of a hand.
_DARK = 0.05
#: Frames that tell the even steps of a grid.
_LEAST_GRID = 4
#: How far a head misses its click, and by how many times what is known of its place a frame may.
_PLAY_RAD, _CONTINUES = math.radians(0.4), 3.0
#: Frames that share so many points each would have matched.
_WOULD_MATCH = 40
#: Names of frames that a sentence holds.
_NAMED = 4


def placed(
    frames: FrameSet,
    poses: Poses,
    prior: Sequence[Array | None],
    features: Sequence[Features],
    working: Sequence[WorkingFrame],
    gone: set[int],
    options: JoinOptions,
    islands: Sequence[Sequence[Link]] = (),
) -> tuple[Poses, dict[int, str], Level | None]:
    """The whole turned upright or as planned (``prior``: rotations (3, 3)), and frames added that nothing ties; how each was placed.

    ``working`` are reduced frames by index into the set, ``gone`` the frames that are left out on purpose, ``islands`` the links of
    frames that are tied to each other but not to the whole.
    """
    placed_by, level = dict.fromkeys(poses.frames, "features"), None
    if options.level == "none":
        first = poses.world_from_camera[0].T
        poses = replace(poses, world_from_camera=first @ poses.world_from_camera)
        return poses, placed_by, None
    if any(prior[f] is not None for f in poses.frames):
        poses = to_prior(poses, prior)
        # known directions stay as they are told; what edges show is only how their axis leaned
        _turned, level = levelled(poses, [working[f] for f in poses.frames])
        poses = _with_planned(frames, poses, prior, gone)
        return poses, {f: placed_by.get(f, "plan") for f in poses.frames}, level
    poses, level = levelled(upright(poses), [working[f] for f in poses.frames])
    poses = _with_islands(frames, poses, islands, features)
    poses = _with_regular(frames, poses, features, gone, frames.places(options.put_back))
    placed_by = {f: placed_by.get(f, "grid") for f in poses.frames}
    if options.level != "auto":
        poses = centred(poses, field_of(poses).middle_rad)
        turn = rotations.from_yaw_pitch_roll(*np.radians(options.level))
        return replace(poses, world_from_camera=turn @ poses.world_from_camera), placed_by, level
    return centred(poses, field_of(poses).middle_rad), placed_by, level


def fitted_where_loose(
    poses: Poses, placed_by: Mapping[int, str], store: DecodedFrames, options: JoinOptions, progress: Progress
) -> Poses:
    """Frames that nothing ties, moved to where what little they share with others puts them."""
    known = np.full(len(poses.frames), np.nan) if poses.sigma_rad is None else poses.sigma_rad
    loose = {f: float(s) for f, s in zip(poses.frames, known) if placed_by[f] != "features"}
    if not loose:
        return poses
    progress.begin("refine", len(loose))
    return fitted(poses, loose, greys_within(store, options).load, progress.advance)


def _with_planned(frames: FrameSet, poses: Poses, prior: Sequence[Array | None], gone: set[int]) -> Poses:
    """Add frames that nothing ties but whose direction is known, as well as the others' directions were told."""
    known = {f: r for f, r in enumerate(prior) if r is not None and f not in poses.frames and f not in gone}
    at = {f: poses.world_from_camera[i] for i, f in enumerate(poses.frames)}
    off = [float(rotations.angle_between(at[f], r)) for f, r in enumerate(prior) if r is not None and f in at]
    # the whole was turned to meet the directions, which three numbers less leave their scatter
    sigma = math.sqrt(sum(a * a for a in off) / (len(off) - 1)) if len(off) > 1 else math.nan
    return _added(frames, poses, {f: Guess(r, sigma) for f, r in known.items()})


def _with_regular(
    frames: FrameSet, poses: Poses, features: Sequence[Features], gone: set[int], wanted: frozenset[int]
) -> Poses:
    """Add featureless frames, and those asked for, where the regularity of the grid puts them (upright poses needed)."""
    blank = [f for f in range(len(frames)) if f not in poses.frames and f not in gone and len(features[f]) < BLANK]
    missing = [f for f in blank if f in wanted or not _is_dark(frames, f)]
    missing += [f for f in sorted(wanted) if f not in poses.frames and f not in gone and f not in missing]
    if not missing or len(poses.frames) < _LEAST_GRID:
        return poses
    tied = dict(zip(poses.frames, poses.world_from_camera))
    return _added(frames, poses, place_by_regularity(shooting_order(frames), tied, missing))


def _with_islands(
    frames: FrameSet, poses: Poses, islands: Sequence[Sequence[Link]], features: Sequence[Features]
) -> Poses:
    """Add frames that only each other ties, where the even steps of the grid put them just as they lie to each other.

    Another picture in the folder may have been shot in the same steps: where the two would share detail they would have matched.
    """
    group = camera_groups(frames)
    same = {group[f] for f in poses.frames}
    for links in islands:
        members = sorted({f for k in links for f in (k.a, k.b)})
        if len(poses.frames) < _LEAST_GRID or len(same) > 1 or any(group[f] not in same for f in members):
            continue
        tied = dict(zip(poses.frames, poses.world_from_camera))
        links = _turned_anew(links, poses.lenses[0])
        order = shooting_order(frames)
        guesses = place_by_regularity(order, tied, members)
        if len(guesses) < len(members):
            guesses = place_where_a_run_goes_on(order, tied, members)
        if len(guesses) < len(members):
            continue
        apart = [
            float(rotations.angle_between(guesses[k.b].rotation.T @ guesses[k.a].rotation, k.b_from_a))
            / math.hypot(_PLAY_RAD, guesses[k.a].sigma_rad, guesses[k.b].sigma_rad)
            for k in links
        ]
        if max(apart) > _CONTINUES:
            continue
        own = initial_rotations(members, links)
        turn = rotations.nearest(sum(guesses[f].rotation @ r.T for f, r in zip(members, own)))
        sigma = math.sqrt(sum(guesses[f].sigma_rad ** 2 for f in members) / len(members))
        with_them = _added(frames, poses, {f: Guess(turn @ r, sigma) for f, r in zip(members, own)})
        if not _would_match(with_them, members, features):
            poses = with_them
    return poses


def _turned_anew(links: Sequence[Link], lens: Lens) -> list[Link]:
    """Links with their turns under the lens that was solved for: they were found under a guess."""
    rays = [(lens.unproject(k.points_a[k.inlier]), lens.unproject(k.points_b[k.inlier])) for k in links]
    return [replace(k, b_from_a=rotations.aligning(a, b)) for k, (a, b) in zip(links, rays)]


def _would_match(poses: Poses, members: Sequence[int], features: Sequence[Features]) -> bool:
    """Whether some frames would share so much detail with others, if they stood there, that they would have matched."""
    for f in members:
        i = poses.index(f)
        for k, other in enumerate(poses.frames):
            if other in members or poses.share_shown(i, k) == 0:
                continue
            shared = []
            for a, b in ((i, k), (k, i)):
                pixels, valid = poses.transfer(a, b, features[poses.frames[a]].points_px)
                lens = poses.lenses[b]
                inside = valid & (pixels >= 0).all(-1) & (pixels < (lens.width, lens.height)).all(-1)
                shared.append(int(inside.sum()))
            if min(shared) >= _WOULD_MATCH:
                return True
    return False


def islands_of(
    groups: Sequence[Sequence[int]], links: Sequence[Link], placed_frames: Collection[int]
) -> list[list[Link]]:
    """The links of each part that features tie together, of groups of which no frame is placed; ties by hand may hold several such parts."""
    found = []
    for group in groups:
        inside = [k for k in links if {k.a, k.b} <= set(group)]
        if inside and not set(group) & set(placed_frames):
            parts = groups_of(max(group) + 1, inside)
            found += [[k for k in inside if k.a in part] for part in parts if len(part) > 1]
    return found


def islands_whole(poses: Poses, islands: Sequence[Sequence[Link]]) -> Poses:
    """Frames that tie each other carried along with the best known one of them: what little the whole shares with one places all."""
    turned, known = poses.world_from_camera.copy(), poses.sigma_rad
    if known is None:
        return poses
    known = known.copy()
    for links in islands:
        members = sorted({f for k in links for f in (k.a, k.b)})
        if not set(members) <= set(poses.frames):
            continue
        at = [poses.index(f) for f in members]
        own = initial_rotations(members, _turned_anew(links, poses.lenses[0]))
        best = int(np.argmin(np.nan_to_num(known[at], nan=np.inf)))
        turned[at] = turned[at[best]] @ own[best].T @ own
        known[at] = known[at[best]]
    return replace(poses, world_from_camera=turned, sigma_rad=known)


def _is_dark(frames: FrameSet, f: int) -> bool:
    """A frame with the hand before the lens is a bookend and no sky."""
    full_scale = 255 if frames.infos[f].bits == 8 else 65535
    return float(np.median(read(frames.infos[f].path, 8).pixels)) < _DARK * full_scale


def _added(frames: FrameSet, poses: Poses, where: dict[int, Guess]) -> Poses:
    """Poses with further frames at known rotations, under the lens of their camera."""
    if not where:
        return poses
    own = lenses_of(frames, poses, list(where))
    lenses = (*poses.lenses, *(own[f] for f in where))
    turned = np.concatenate([poses.world_from_camera, np.stack([g.rotation for g in where.values()])])
    known = np.full(len(poses.frames), np.nan) if poses.sigma_rad is None else poses.sigma_rad
    return replace(
        poses,
        frames=(*poses.frames, *where),
        lenses=lenses,
        world_from_camera=turned,
        bends=(*poses.bends, *[None] * len(where)) if poses.bends else (),
        sigma_rad=np.append(known, [g.sigma_rad for g in where.values()]),
    )


def lenses_of(frames: FrameSet, poses: Poses, untied: Sequence[int]) -> dict[int, Lens]:
    """The lenses of frames that are not among the poses, as those of their camera that are."""
    group, found = camera_groups(frames), {}
    for f in untied:
        same = [i for i, p in enumerate(poses.frames) if group[p] == group[f]]
        info = frames.infos[f]
        found[f] = replace(poses.lenses[same[0] if same else 0], width=info.width, height=info.height)
    return found


def placing_in_words(names: Sequence[str], poses: Poses, placed_by: Mapping[int, str]) -> str:
    """Which frames nothing tied, what put them where they are, and how far that may miss; empty where all are tied.

    ``names`` are those of all frames of the set.
    """
    sentences = []
    for how, words in (("plan", "where the plan puts them"), ("grid", "where the even steps of the grid put them")):
        at = [i for i, f in enumerate(poses.frames) if placed_by.get(f) == how]
        if not at:
            continue
        told = [names[poses.frames[i]] for i in at]
        listed = ", ".join(told[:_NAMED]) + (f" and {len(told) - _NAMED} more" if len(told) > _NAMED else "")
        sigma = np.full(len(at), np.nan) if poses.sigma_rad is None else poses.sigma_rad[at]
        miss = f", known to about {math.degrees(float(sigma.max())):.2g}°" if np.isfinite(sigma).all() else ""
        sentences.append(f"Nothing ties {listed} to the others: placed {words}{miss}. Look at their seams at 100 %.")
    ground = [names[f] for f in poses.frames if placed_by.get(f) == "ground"]
    if ground:
        sentences.append(
            f"Taken from another standpoint: {', '.join(ground[:_NAMED])}. Fitted to the ground, and shown straight below only, where "
            "the tripod stood."
        )
    return "\n".join(sentences)
