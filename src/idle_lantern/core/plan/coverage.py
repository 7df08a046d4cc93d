"""Proof by sampling the sphere: is there a hole, and how small is the smallest overlap really?"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.sphere import even_samples
from idle_lantern.core.plan.wish import Wish

if TYPE_CHECKING:
    from idle_lantern.core.plan.grid import GridFrame

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


def prove(lens: Lens, frames: Sequence[GridFrame], wish: Wish, count: int = 2500) -> Coverage:
    """Sample the wish for holes and all neighbours for their overlap."""
    directions = samples_of(wish, count)
    cameras = cameras_of(frames)
    missing = ~seen_by(lens, cameras, directions).any(1)
    smallest, between = _smallest_overlap(lens, frames, cameras)
    return Coverage(len(directions), directions[missing], smallest, between)


@lru_cache(maxsize=16)
def frame_rays(lens: Lens, side: int) -> Array:
    """Directions of ``side`` x ``side`` even places of the frame, (N, 3), without those it cannot show."""
    u = (np.arange(side) + 0.5) / side * lens.width - 0.5
    v = (np.arange(side) + 0.5) / side * lens.height - 0.5
    rays = lens.unproject(np.stack(np.meshgrid(u, v), -1).reshape(-1, 2))
    return rays[np.isfinite(rays[:, 0])]


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
    ordered = [rows[r] for r in sorted(rows)]
    for i, row in enumerate(ordered):
        # in a row all steps are alike: the first pair speaks for all
        if len(row) > 1:
            a, b = row[0], row[1]
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


def _corner_angle(lens: Lens) -> float:
    radius = math.hypot(lens.width, lens.height) / 2 + math.hypot(lens.cx, lens.cy)
    angle = float(lens.angle_rad(radius))
    return angle if math.isfinite(angle) else lens.limit_rad
