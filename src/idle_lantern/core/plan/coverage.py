"""Proof by sampling the sphere: is there a hole, and how small is the smallest overlap really?"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.sphere import even_samples
from idle_lantern.core.plan.rows import frame_rays
from idle_lantern.core.plan.target_field import TargetField

if TYPE_CHECKING:
    from idle_lantern.core.plan.grid_frame import GridFrame
    from idle_lantern.core.plan.rig import Rig


@dataclass(frozen=True)
class Coverage:
    """What sampling found.

    ``samples`` directions were tried, ``uncovered`` of them (S, 3) no frame shows; ``hole_share`` is the share of
    the field's area that they stand for. ``smallest_overlap`` is the least share of a frame that its neighbours in the row,
    or the row below it, show too (None for one frame).
    """

    samples: int
    uncovered: Array
    smallest_overlap: float | None
    smallest_between: tuple[int, int] | None
    hole_share: float = 0.0

    @property
    def complete(self) -> bool:
        """No hole found."""
        return len(self.uncovered) == 0


def cameras_of(frames: Sequence[GridFrame]) -> Array:
    """``world_from_camera`` of all frames at once, (F, 3, 3)."""
    angles = np.radians([[f.yaw_deg, f.pitch_deg, f.roll_deg] for f in frames])
    return rotations.from_yaw_pitch_roll(*angles.T)


def samples_of(target_field: TargetField, count: int) -> Array:
    """Even directions (N, 3) over the target field, equal areas each, and after those ``count`` its rim."""
    return even_samples(
        (math.radians(target_field.left_deg), math.radians(target_field.right_deg)),
        (math.radians(target_field.low_deg), math.radians(target_field.high_deg)),
        count,
    )


def covered(lens: Lens, cameras: Array, directions: Array) -> Array:
    """Which direction is shown by any of the cameras (F, 3, 3), (N,) bool.

    The camera that looks nearest mostly shows it; only what it does not show is tried
    on all others within their half diagonal.
    """
    towards = directions.astype(np.float32) @ cameras[:, :, 2].T.astype(np.float32)
    nearest = towards.argmax(1)
    shown = np.asarray(lens.sees(_turned(directions, cameras[nearest]), margin_px=0.5))
    rest = np.flatnonzero(~shown)
    if len(rest):
        reach = math.cos(min(math.pi, corner_angle_rad(lens) + 0.01))
        n, f = np.nonzero(towards[rest] >= reach)
        hit = lens.sees(_turned(directions[rest[n]], cameras[f]), margin_px=0.5)
        shown[rest[n[hit]]] = True
    return shown


def shown(rig: Rig, frames: Sequence[GridFrame], cameras: Array, directions: Array) -> Array:
    """Which direction is shown by any frame of the rig that looks as ``cameras`` do, (N,) bool."""
    if rig.motion != "lens-shift":
        return covered(rig.lens(), cameras, directions)
    # one camera, but each frame has its own principal point
    found = np.zeros(len(directions), bool)
    for frame, camera in zip(frames, cameras):
        found |= rig.lens_of(frame).sees(directions @ camera, 0.5)
    return found


def outline(lens: Lens, per_side: int, out_px: float = 1.0) -> Array:
    """Directions in the camera's frame just outside what a frame shows, (N, 3): its edges, or its image circle."""
    t = np.linspace(-0.5, 0.5, per_side)
    w, h = lens.width / 2 + out_px, lens.height / 2 + out_px
    edge = np.full_like(t, 1.0)
    u = np.concatenate([t * 2 * w, t * 2 * w, -w * edge, w * edge])
    v = np.concatenate([-h * edge, h * edge, t * 2 * h, t * 2 * h])
    middle = np.array([(lens.width - 1) / 2, (lens.height - 1) / 2])
    pixels = np.stack([u, v], -1) + middle
    if math.isfinite(lens.circle_px):
        from_axis = pixels - lens.principal_px
        reach = np.hypot(*from_axis.T)
        pixels = lens.principal_px + from_axis * np.minimum(1.0, (lens.circle_px + out_px) / reach)[:, None]
    rays = lens.unproject(pixels)
    result: Array = rays[np.isfinite(rays[:, 0])]
    return result


def _turned(directions: Array, cameras: Array) -> Array:
    """Each direction in the frame of its own camera."""
    result: Array = np.einsum("ni,nij->nj", directions, cameras)
    return result


def prove(rig: Rig, frames: Sequence[GridFrame], target_field: TargetField, count: int = 2500) -> Coverage:
    """Sample the target field for holes and all neighbours for their overlap."""
    directions = samples_of(target_field, count)
    cameras = cameras_of(frames)
    missing = ~shown(rig, frames, cameras, directions)
    if rig.motion == "lens-shift":
        smallest, between = _overlap_of_shifts(rig, frames)
    else:
        smallest, between = _smallest_overlap(rig.lens(), frames, cameras)
    # those inside stand for equal areas; those on the rim only find what begins there
    share = float(np.mean(missing[:count]))
    if np.any(missing):
        share = max(share, 0.5 / count)
    return Coverage(len(directions), directions[missing], smallest, between, share)


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
                share = float(covered(lens, cameras[more], rays @ cameras[k].T).mean())
                nearest = max(more, key=lambda m: float(cameras[m][:, 2] @ cameras[k][:, 2]))
                best = min(best, (share, (frames[k].number, frames[nearest].number)))
    return best if best[0] <= 1 else (None, None)


def _overlap_of_shifts(rig: Rig, frames: Sequence[GridFrame]) -> tuple[float | None, tuple[int, int] | None]:
    """Neighbours on the sensor plane: shared rectangle by the frame's."""
    width, height = (v * rig.pixel_mm for v in rig.frame_size)
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


def corner_angle_rad(lens: Lens) -> float:
    """Angle from the axis to the farthest place that a frame shows."""
    radius = min(lens.circle_px, math.hypot(lens.width, lens.height) / 2 + math.hypot(lens.cx, lens.cy))
    angle = float(lens.angle_rad(radius))
    return angle if math.isfinite(angle) else lens.limit_rad
