"""Frames of a shift lens: the camera stands still, the lens moves across the sensor, and frames differ by a shift alone.

A thing at the direction q stands at ``principal point + f d(q)``, distortion d included, so that the same thing in two frames
stands apart by what their principal points do, everywhere alike. Only those are solved for; one lens serves all.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import JoinError
from idle_lantern.core.base.progress import Progress
from idle_lantern.core.frames.decoded import DecodedFrames
from idle_lantern.core.frames.frameset import FrameSet
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.match.features import Features
from idle_lantern.core.registration.match.lens_guess import known_lenses
from idle_lantern.core.registration.match.links import Link, groups_of
from idle_lantern.core.registration.solve.poses import Poses, reassigned
from idle_lantern.core.registration.solve.refine_solution import registered_links
from idle_lantern.core.request.options import JoinOptions

#: Matches of a pair within so many pixels of its commonest shift, by the scale of what was matched; so many make a tie.
_ALIKE_PX, _LEAST = 3.0, 12
#: Misses of registered points beyond which they weigh less, and beyond which they are none.
_SCALE_PX, _WORST_PX = 0.15, 0.7
_ROUNDS = 8
#: Angle of view across the longer side of a lens that nothing tells.
_USUAL_FIELD_RAD = math.radians(54.0)


def solve_shifts(
    frames: FrameSet,
    store: DecodedFrames,
    features: Sequence[Features],
    raw: Sequence[Link],
    working_mp: float,
    options: JoinOptions,
    rng: np.random.Generator,
    progress: Progress,
) -> tuple[Poses, list[Link], list[list[int]]]:
    """Poses of the largest group, all looking one way, each with its own principal point; links and groups.

    Raises
    ------
    JoinError
        No two frames lie on each other by a shift.
    """
    pixel = max(1.0, float(np.mean([math.sqrt(i.megapixels / working_mp) for i in frames.infos])))
    links = [link for link in (_shifted(k, _ALIKE_PX * pixel) for k in raw) if link is not None]
    groups = groups_of(len(frames), links)
    main = groups[0]
    if len(main) < 2:
        raise JoinError(
            "No two frames lie on each other by a shift alone",
            remedy="Join them as turned frames, or see that camera and focus stayed as they were",
        )
    inside = [k for k in links if k.a in set(main)]
    poses = _turned_onto(_poses(frames, main, options), inside)
    fine = registered_links(
        frames, store, [f.points_px for f in features], poses, inside, working_mp, options, rng, progress
    )
    fine = [k for k in fine if k.inliers]
    if fine and set(groups_of(len(frames), fine)[0]) == set(main):
        inside = fine
        for _ in range(2):
            poses = _turned_onto(poses, inside)
            agreeing = [reassigned(k, poses, _WORST_PX) for k in inside]
            if set(groups_of(len(frames), [k for k in agreeing if k.inliers])[0]) != set(main):
                break  # a frame would hang in the air: it stays where its points put it
            inside = agreeing
    return _centred(poses), [k for k in inside if k.inliers], groups


def _shifted(link: Link, tolerance_px: float) -> Link | None:
    """The matches that one shift explains, the commonest of all."""
    moves = link.points_b - link.points_a
    if len(moves) < _LEAST:
        return None
    near = (np.abs(moves[:, None] - moves[None]) < tolerance_px).all(2).sum(1)
    best = moves[int(near.argmax())]
    inlier = (np.abs(moves - best) < tolerance_px).all(1)
    if inlier.sum() < _LEAST:
        return None
    return replace(link, inlier=inlier, b_from_a=np.eye(3))


def _poses(frames: FrameSet, main: Sequence[int], options: JoinOptions) -> Poses:
    known = known_lenses(frames, options.lens)
    lenses = []
    for f in main:
        info = frames.infos[f]
        focal = info.metadata.focal_px(info.width, info.height)
        usual = max(info.width, info.height) / 2 / math.tan(_USUAL_FIELD_RAD / 2)
        lenses.append(known[f] if known else Lens("rectilinear", focal or usual, info.width, info.height))
    return Poses(tuple(main), tuple(lenses), np.tile(np.eye(3), (len(main), 1, 1)))


def _turned_onto(poses: Poses, links: Sequence[Link]) -> Poses:
    """Principal points by least squares, robustly weighed; the first stays where it is."""
    place = {f: i for i, f in enumerate(poses.frames)}
    a = np.concatenate([np.full(k.inliers, place[k.a]) for k in links])
    b = np.concatenate([np.full(k.inliers, place[k.b]) for k in links])
    moves = np.concatenate([(k.points_b - k.points_a)[k.inlier] for k in links])
    weight = np.ones(len(moves))
    at: Array = np.zeros((len(poses.frames), 2))
    for _ in range(_ROUNDS):
        normal, right = np.zeros((len(at), len(at))), np.zeros((len(at), 2))
        np.add.at(normal, (a, a), weight)
        np.add.at(normal, (b, b), weight)
        np.add.at(normal, (a, b), -weight)
        np.add.at(normal, (b, a), -weight)
        np.add.at(right, b, weight[:, None] * moves)
        np.add.at(right, a, -weight[:, None] * moves)
        normal[0, 0] += weight.sum()
        at = np.linalg.solve(normal, right)
        miss = np.linalg.norm(moves - (at[b] - at[a]), axis=1)
        weight = 1 / (1 + (miss / max(_SCALE_PX, 1.5 * float(np.median(miss)))) ** 2)
    middle = np.array([(poses.lenses[0].cx, poses.lenses[0].cy)])
    lenses = tuple(replace(lens, cx=float(x), cy=float(y)) for lens, (x, y) in zip(poses.lenses, at - at[0] + middle))
    rms = math.sqrt(float((weight * miss**2).sum() / weight.sum()))
    return replace(poses, lenses=lenses, rms_px=rms)


def _centred(poses: Poses) -> Poses:
    """The lens's axis in the middle of all that was shifted: nothing else tells where it stood."""
    offsets = np.array([(lens.cx, lens.cy) for lens in poses.lenses])
    middle = (offsets.min(0) + offsets.max(0)) / 2
    lenses = tuple(replace(lens, cx=lens.cx - middle[0], cy=lens.cy - middle[1]) for lens in poses.lenses)
    return replace(poses, lenses=tuple(replace(k, cx=float(k.cx), cy=float(k.cy)) for k in lenses))
