"""Frames that no match ties, put into the gaps of the lattice that the others show, whatever the order of shooting.

Out of focus there are no corners to match, but the blurred shapes of a frame still fit where it belongs and
nowhere else: each untied frame is laid into each gap, compared with its neighbours there, and the best fit of
all (an assignment) is taken if it is good. Fine registration then ties it by soft shapes, or leaves it out.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.match.features import WorkingFrame
from idle_lantern.core.registration.match.links import Link
from idle_lantern.core.registration.solve.poses import Poses
from idle_lantern.core.registration.solve.straighten import upright

#: Fewer frames show no lattice.
_FEWEST = 6
#: Frames of a row keep their pitch within this share of the field.
_SAME_ROW = 0.35
#: Frames stand off their cell by less than this share of a step, else it is no lattice.
_OFF_CELL = 0.28
#: Gaps beyond the untied frames that a lattice may have.
_SPARE_GAPS = 3
#: Pixels of a frame's longer side at which soft shapes are compared, and places across.
_SMALL_PX, _ACROSS = 96, 20
#: A frame is laid this share of its field off the cell each way, so many times, for the best fit.
_REACH, _TRIES = 0.05, 5
#: Likeness (correlation) of the overlaps from which a frame belongs into a gap.
_LIKE = 0.8
#: Share of a frame that another must show to be linked with it.
_OVERLAP = 0.12
#: Places of an overlap that say something.
_LEAST_PLACES = 30


@dataclass(frozen=True)
class _Lattice:
    """Where the empty cells of a lattice stand, upright yaw and pitch in radians: ``gaps`` lie inside it, ``beyond``
    are the rows and columns next to its outermost ones."""

    gaps: list[tuple[float, float]]
    beyond: list[tuple[float, float]]


def filled(
    poses: Poses, links: list[Link], untied: Sequence[int], working: Sequence[WorkingFrame]
) -> tuple[Poses, list[Link]]:
    """Poses and links with those untied frames that fit a gap; the new links hold no points yet.

    Parameters
    ----------
    poses : Poses
        Of the frames that are tied.
    untied : sequence of int
        Frames that might belong into a gap.
    working : sequence of WorkingFrame
        Reduced frames by index into the set.
    """
    level = upright(poses)
    lattice = _lattice_of(level) if untied and len(poses.frames) >= _FEWEST else None
    if lattice is None or len(lattice.gaps) > len(untied) + _SPARE_GAPS:
        return poses, links
    small = {f: _soft(working[f]) for f in (*poses.frames, *untied)}
    places = lattice.gaps + (lattice.beyond if len(untied) > len(lattice.gaps) else [])
    if not places:
        return poses, links
    fits = [[_fit(level, small, f, place, _REACH) for place in places] for f in untied]
    found = _assigned([[likeness for likeness, _turn in row] for row in fits])
    world_from_level = poses.world_from_camera[0] @ level.world_from_camera[0].T
    for i, gap in found:
        yaw, pitch, _roll = (float(v) for v in rotations.to_yaw_pitch_roll(fits[i][gap][1]))
        _likeness, turned = _fit(level, small, untied[i], (yaw, pitch), _REACH / _TRIES)
        poses = _with_frame(poses, untied[i], world_from_level @ turned)
    new = {untied[i] for i, _gap in found}
    return poses, [*links, *_empty_links(poses, new)]


def confirmed(poses: Poses, links: list[Link], new: set[int], least: int) -> tuple[Poses, list[Link]]:
    """Poses and links without those new frames that fewer than ``least`` registered points tie."""
    tied = {f: sum(k.inliers for k in links if f in (k.a, k.b)) for f in new}
    loose = {f for f, count in tied.items() if count < least}
    if not loose:
        return poses, links
    rest = poses.only([i for i, f in enumerate(poses.frames) if f not in loose])
    return rest, [k for k in links if not {k.a, k.b} & loose]


def _lattice_of(level: Poses) -> _Lattice | None:
    """The lattice of upright poses; None where they show none."""
    angles = np.array([rotations.to_yaw_pitch_roll(r) for r in level.world_from_camera])
    across, up = level.lenses[0].field_rad()
    yaw = np.unwrap(angles[:, 0]) if np.ptp(angles[:, 0]) < math.pi else angles[:, 0]
    pitch = angles[:, 1]
    rows = _clusters(pitch, _SAME_ROW * up)
    if len(rows) < 2:
        return None
    steps = np.concatenate([np.diff(np.sort(yaw[row])) for row in rows])
    steps = steps[steps < 0.95 * across]
    if len(steps) < 3:
        return None
    step = float(np.median(steps))
    widest = max(rows, key=len)
    column = (yaw - np.sort(yaw[widest])[0]) / step
    if np.abs(column - np.round(column)).max() > _OFF_CELL:
        return None
    columns = np.round(column).astype(int)
    taken = {(r, int(columns[i])) for r, row in enumerate(rows) for i in row}
    if len(taken) < len(yaw):
        return None
    every = range(int(columns.min()), int(columns.max()) + 1)
    at = {c: float(np.mean(yaw[columns == c] if (columns == c).any() else yaw - (columns - c) * step)) for c in every}
    heights = [float(np.mean(pitch[row])) for row in rows]
    gaps = [(at[c], heights[r]) for r in range(len(rows)) for c in every if (r, c) not in taken]
    rise = float(np.median(np.diff(heights)))
    beyond = [(at[c], height) for height in (heights[0] - rise, heights[-1] + rise) for c in every]
    beyond += [(side, height) for side in (min(at.values()) - step, max(at.values()) + step) for height in heights]
    return _Lattice(gaps, beyond)


def _clusters(values: Array, apart: float) -> list[Array]:
    """Indices of values in groups that stand more than ``apart`` from each other."""
    order = np.argsort(values)
    cuts = np.flatnonzero(np.diff(values[order]) > apart) + 1
    return np.split(order, cuts)


def _soft(frame: WorkingFrame) -> Array:
    """Brightness of a reduced frame as soft shapes, float32."""
    grey = cv2.cvtColor(frame.picture.pixels, cv2.COLOR_RGB2GRAY)
    scale = _SMALL_PX / max(grey.shape)
    small = cv2.resize(grey, None, fx=scale, fy=scale, interpolation=cv2.INTER_AREA).astype(np.float32)
    return np.asarray(cv2.GaussianBlur(small, (0, 0), 1.2))


def _fit(
    level: Poses, small: dict[int, Array], frame: int, place: tuple[float, float], reach: float
) -> tuple[float, Array]:
    """Likeness of a frame with its neighbours at the best place about a gap, and its rotation there."""
    lens = level.lenses[0]
    across, up = lens.field_rad()
    off = np.linspace(-reach, reach, _TRIES)
    near = _neighbours(level, place)
    best: tuple[float, Array] = (-1.0, np.eye(3))
    for dx in off * across:
        for dy in off * up:
            turned = rotations.from_yaw_pitch_roll(place[0] + dx, place[1] + dy, 0.0)
            likeness = _like(near, small, lens, frame, turned)
            if likeness > best[0]:
                best = (likeness, turned)
    return best


def _neighbours(level: Poses, place: tuple[float, float]) -> Poses:
    """Frames whose axes are near enough to overlap one at a place."""
    axis = rotations.from_yaw_pitch_roll(*place, 0.0)[:, 2]
    near = level.world_from_camera[:, :, 2] @ axis > math.cos(1.1 * max(level.lenses[0].field_rad()))
    return level.only(np.flatnonzero(near).tolist())


def _like(level: Poses, small: dict[int, Array], lens: Lens, frame: int, turned: Array) -> float:
    """Correlation of all overlaps together."""
    points = lens.places_px(_ACROSS).reshape(-1, 2)
    rays = lens.unproject(points) @ turned.T
    own = _sampled(small[frame], points, lens)
    mine, theirs = [], []
    for i, (f, other) in enumerate(zip(level.frames, level.lenses)):
        there, valid = level.pixels(i, rays)
        inside = valid & (there > 0).all(1) & (there < [other.width - 1, other.height - 1]).all(1)
        if inside.sum() >= _LEAST_PLACES:
            values = _sampled(small[f], there[inside], other)
            mine.append(own[inside] - own[inside].mean())
            theirs.append(values - values.mean())
    if not mine:
        return -1.0
    a, b = np.concatenate(mine), np.concatenate(theirs)
    size = math.sqrt(float((a**2).sum() * (b**2).sum()))
    # flat overlaps agree with anything
    return float((a * b).sum()) / size if size > len(a) else -1.0


def _sampled(picture: Array, points: Array, lens: Lens) -> Array:
    """Values (N,) of a small picture at full-size places (N, 2)."""
    scale = np.array([picture.shape[1] / lens.width, picture.shape[0] / lens.height])
    at = ((points + 0.5) * scale - 0.5).astype(np.float32)[None]
    return np.asarray(cv2.remap(picture, at, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)[0])


def _assigned(likeness: list[list[float]]) -> list[tuple[int, int]]:
    """Frame and gap, each once, with the largest sum of likeness; those below the limit are dropped."""
    # half a second to load, and few sets have gaps
    from scipy.optimize import linear_sum_assignment

    table = np.array(likeness)
    frames, gaps = linear_sum_assignment(-table)
    return [(int(i), int(g)) for i, g in zip(frames, gaps) if table[i, g] >= _LIKE]


def _with_frame(poses: Poses, frame: int, rotation: Array) -> Poses:
    """Poses with one frame more, under the lens of the others."""
    return replace(
        poses,
        frames=(*poses.frames, frame),
        lenses=(*poses.lenses, poses.lenses[0]),
        world_from_camera=np.concatenate([poses.world_from_camera, rotation[None]]),
        sigma_rad=None if poses.sigma_rad is None else np.append(poses.sigma_rad, np.nan),
        bends=(*poses.bends, None) if poses.bends else (),
    )


def _empty_links(poses: Poses, new: set[int]) -> list[Link]:
    """Links of the new frames with all that they overlap, without points."""
    pairs = [
        (poses.index(f), j)
        for f in sorted(new)
        for j, g in enumerate(poses.frames)
        if g != f and not (g in new and g < f)
    ]
    return [poses.link_without_points(i, j) for i, j in pairs if poses.share_shown(i, j) > _OVERLAP]
