"""Two fisheye frames taken back to back: they meet only in a narrow ring at their rims, where no feature is alike.

The ring is looked at along directions: both lenses must show the same there. Angle of view and the turn of the second
lens are those under which the rings agree best, first roughly on small frames, then by tie points at full size.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.progress import Progress
from idle_lantern.core.frames.decoded import DecodedFrames
from idle_lantern.core.frames.frameset import FrameSet
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.match.features import WorkingFrame
from idle_lantern.core.registration.match.links import Link
from idle_lantern.core.registration.solve.adjust import adjust
from idle_lantern.core.registration.solve.adjustment import FOCAL
from idle_lantern.core.registration.solve.poses import Poses, reassigned
from idle_lantern.core.registration.solve.refine_solution import registered_links
from idle_lantern.core.request.options import JoinOptions

#: Half the angle of view that such lenses have, tried in these steps.
_TRIED_DEG = np.arange(91.5, 112.0, 0.75)
#: Directions of the ring between the lenses.
_AROUND = 720
_RING_DEG = 4.0  # from the plane between them at most
_RINGS = 9
#: The second lens is turned against the first by no more than this, beside the half turn; steps from coarse to fine.
_STEPS_DEG = (2.0, 1.0, 0.5, 0.25, 0.1)
#: Correlation of the rings from which they are the same.
_SAME = 0.5
_POINTS_AROUND, _POINTS_ACROSS = 240, 3
_SCALE_PX = 0.5
_WORST_PX = 2.0


def solve_back_to_back(
    frames: FrameSet,
    store: DecodedFrames,
    working: Sequence[WorkingFrame],
    circle_px: float,
    working_mp: float,
    options: JoinOptions,
    rng: np.random.Generator,
    progress: Progress,
) -> tuple[Poses, list[Link]] | None:
    """Poses of two frames whose circles meet all round; None where they do not."""
    shown = [_Look(w, info.width, info.height) for w, info in zip(working, frames.infos)]
    best = max((_tried(shown, circle_px, math.radians(half)) for half in _TRIED_DEG), key=lambda found: found[0])
    score, lens, turn = best
    if score < _SAME:
        return None
    poses = Poses(
        (0, 1),
        (lens, replace(lens, width=frames.infos[1].width, height=frames.infos[1].height)),
        np.stack([np.eye(3), turn]),
    )
    link = _ring_link(poses)
    nowhere = [np.zeros((0, 2))] * 2
    for _ in range(2):
        registered = registered_links(frames, store, nowhere, poses, [link], working_mp, options, rng, progress)[0]
        if not registered.inliers:
            break
        poses = adjust(poses, [registered], [0, 0], scale_px=_SCALE_PX, free=FOCAL)
        link = _ring_link(poses)
    kept = reassigned(registered, poses, _WORST_PX) if registered.inliers else link
    return poses, [kept]


class _Look:
    """A frame to be asked along directions."""

    def __init__(self, frame: WorkingFrame, width: int, height: int) -> None:
        grey = cv2.cvtColor(frame.picture.pixels, cv2.COLOR_RGB2GRAY).astype(np.float32)
        logs = np.log(np.clip(grey, 4, None))
        self.detail = logs - cv2.GaussianBlur(logs, (0, 0), 6.0)
        self.scale, self.width, self.height = frame.scale, width, height

    def along(self, lens: Lens, local: Array) -> Array:
        """Detail (N,) seen along directions of the camera."""
        pixels, valid = lens.project(local)
        at = ((pixels + 0.5) / np.asarray(self.scale) - 0.5).astype(np.float32)[None]
        seen = cv2.remap(self.detail, at, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)[0]
        return np.asarray(np.where(valid, seen, 0.0))


def _tried(shown: Sequence[_Look], circle_px: float, half_rad: float) -> tuple[float, Lens, Array]:
    """How well the rings agree under an angle of view, with the turn of the second lens under which they do."""
    lens = Lens("equidistant", circle_px / half_rad, shown[0].width, shown[0].height, circle_px=circle_px)
    reach = min(math.radians(_RING_DEG), half_rad - math.pi / 2)
    ring = _ring(_AROUND, _RINGS, reach)
    first = shown[0].along(lens, ring)
    turn: Array = rotations.about_y(math.pi)
    score = _agreement(first, shown[1].along(lens, ring @ turn))
    for step in _STEPS_DEG if score > 0.1 else _STEPS_DEG[:3]:
        better = True
        while better:
            better = False
            for axis in range(3):
                for sign in (-1.0, 1.0):
                    by = np.zeros(3)
                    by[axis] = sign * math.radians(step)
                    trial = rotations.from_vector(by) @ turn
                    value = _agreement(first, shown[1].along(lens, ring @ trial))
                    if value > score + 1e-4:
                        score, turn, better = value, trial, True
    return score, lens, turn


def _ring(around: int, across: int, reach_rad: float) -> Array:
    """Directions about the plane that stands between the lenses, (N, 3)."""
    turn = np.arange(around) * 2 * math.pi / around
    off = np.linspace(-reach_rad, reach_rad, across)
    t, o = np.meshgrid(turn, off)
    return np.stack([np.cos(o) * np.cos(t), np.cos(o) * np.sin(t), np.sin(o)], -1).reshape(-1, 3)


def _agreement(a: Array, b: Array) -> float:
    """Correlation of two rings."""
    a, b = a - a.mean(), b - b.mean()
    return float((a * b).sum() / math.sqrt(float((a * a).sum() * (b * b).sum()) + 1e-9))


def _ring_link(poses: Poses) -> Link:
    """Places of the ring in both frames, as the poses have them."""
    lens = poses.lenses[0]
    reach = 0.6 * max(0.005, float(lens.angle_rad(lens.circle_px)) - math.pi / 2)
    ring = _ring(_POINTS_AROUND, _POINTS_ACROSS, reach)
    points_a, _valid = poses.pixels(0, ring)
    points_b, valid = poses.pixels(1, ring)
    return Link(0, 1, points_a, points_b, poses.turn(0, 1), valid.copy())
