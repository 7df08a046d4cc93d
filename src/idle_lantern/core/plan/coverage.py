"""Proof by sampling the sphere: is there a hole, and how small is the smallest overlap really?"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.sphere import even_samples
from idle_lantern.core.plan.rows import frame_rays
from idle_lantern.core.plan.wish import Wish

if TYPE_CHECKING:
    from idle_lantern.core.plan.grid import GridFrame
    from idle_lantern.core.plan.rig import Rig

Array = NDArray[Any]


@dataclass(frozen=True)
class Coverage:
    """What sampling found.

    ``samples`` directions were tried, ``uncovered`` of them (S, 3) no frame shows;
    ``smallest_overlap`` is the least share of a frame that its neighbours in the row,
    or the row below it, show too (None for one frame).
    """

    samples: int
    uncovered: Array
    smallest_overlap: float | None
    smallest_between: tuple[int, int] | None

    @property
    def complete(self) -> bool:
        """No hole found."""
        return len(self.uncovered) == 0


def holes(lens: Lens, frames: Sequence[GridFrame], wish: Wish, count: int) -> Array:
    """Which of about ``count`` sampled directions no frame shows, (N,) bool."""
    seen = seen_by(lens, cameras_of(frames), samples_of(wish, count))
    return np.asarray(~seen.any(1))


def cameras_of(frames: Sequence[GridFrame]) -> Array:
    """``world_from_camera`` of all frames at once, (F, 3, 3)."""
    angles = np.radians([[f.yaw_deg, f.pitch_deg, f.roll_deg] for f in frames])
    return rotations.from_yaw_pitch_roll(*angles.T)


def samples_of(wish: Wish, count: int) -> Array:
    """Even directions over the wish, its rim included."""
    return even_samples(
        (math.radians(wish.left_deg), math.radians(wish.right_deg)),
        (math.radians(wish.low_deg), math.radians(wish.high_deg)),
        count,
    )


def seen_by(lens: Lens, cameras: Array, directions: Array) -> Array:
    """Which direction is shown by which camera (F, 3, 3), (N, F) bool."""
    axes = cameras[:, :, 2]
    # only directions within the frame's half diagonal need the exact test
    reach = math.cos(min(math.pi, _corner_angle(lens) + 0.01))
    seen = directions @ axes.T >= reach
    n, f = np.nonzero(seen)
    local = np.einsum("nd,ndk->nk", directions[n], cameras[f])
    seen[n, f] = lens.sees(local, margin_px=0.5)
    return np.asarray(seen)


def prove(rig: Rig, frames: Sequence[GridFrame], wish: Wish, count: int = 2500) -> Coverage:
    """Sample the wish for holes and all neighbours for their overlap."""
    directions = samples_of(wish, count)
    cameras = cameras_of(frames)
    if rig.motion == "lens-shift":  # one camera, but each frame has its own principal point
        seen = np.stack([rig.lens_of(f).sees(directions @ c, 0.5) for f, c in zip(frames, cameras)], 1)
        return Coverage(len(directions), directions[~seen.any(1)], *_overlap_of_shifts(rig, frames))
    lens = rig.lens()
    missing = ~seen_by(lens, cameras, directions).any(1)
    smallest, between = _smallest_overlap(lens, frames, cameras)
    return Coverage(len(directions), directions[missing], smallest, between)


def _smallest_overlap(
    lens: Lens, frames: Sequence[GridFrame], cameras: Array
) -> tuple[float | None, tuple[int, int] | None]:
    """Neighbours in a row pairwise; a row against all of the next row together."""
    if len(frames) < 2:
        return None, None
    rays = frame_rays(lens, 25)
    rows: dict[int, list[int]] = {}
    for i, frame in enumerate(frames):
        rows.setdefault(frame.row, []).append(i)
    best: tuple[float, tuple[int, int]] = (2.0, (0, 0))
    # within a row by column: the order of shooting may be another
    ordered = [sorted(rows[r], key=lambda i: frames[i].column) for r in sorted(rows)]
    for i, row in enumerate(ordered):
        # the widest step speaks for the row
        if len(row) > 1:
            a, b = max(zip(row, row[1:]), key=lambda ab: (frames[ab[1]].yaw_deg - frames[ab[0]].yaw_deg) % 360.0)
            share = float(lens.sees(rays @ (cameras[b].T @ cameras[a]).T).mean())
            best = min(best, (share, (frames[a].number, frames[b].number)))
        if i + 1 < len(ordered):
            below = ordered[i + 1]
            fewer, more = (row, below) if len(row) <= len(below) else (below, row)
            for k in fewer[:: max(1, len(fewer) // 4)]:
                share = float(seen_by(lens, cameras[more], rays @ cameras[k].T).any(1).mean())
                nearest = max(more, key=lambda m: float(cameras[m][:, 2] @ cameras[k][:, 2]))
                best = min(best, (share, (frames[k].number, frames[nearest].number)))
    return best if best[0] <= 1 else (None, None)


def _overlap_of_shifts(rig: Rig, frames: Sequence[GridFrame]) -> tuple[float | None, tuple[int, int] | None]:
    """Neighbours on the sensor plane: shared rectangle by the frame's."""
    width, height = (v * rig.pixel_mm for v in rig.frame_px)
    best: tuple[float, tuple[int, int]] | None = None
    for i, a in enumerate(frames):
        for b in frames[i + 1 :]:
            if abs(a.row - b.row) + abs(a.column - b.column) != 1:
                continue
            share = max(0.0, 1 - abs(a.shift_right_mm - b.shift_right_mm) / width)
            share *= max(0.0, 1 - abs(a.shift_up_mm - b.shift_up_mm) / height)
            if best is None or share < best[0]:
                best = (share, (a.number, b.number))
    return best or (None, None)


def _corner_angle(lens: Lens) -> float:
    radius = min(lens.circle_px, math.hypot(lens.width, lens.height) / 2 + math.hypot(lens.cx, lens.cy))
    angle = float(lens.angle_rad(radius))
    return angle if math.isfinite(angle) else lens.limit_rad
