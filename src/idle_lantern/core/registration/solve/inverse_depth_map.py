"""How near things stand in every direction, from the frames' pixels: a sweep over all inverse depths.

The tie points tell where each frame was taken, but not where a picket ends and the meadow behind it begins. Here every
direction, as the middle of all places sees it, is asked at which inverse depth the frames that show it agree (a plane sweep;
Collins, *A Space-Sweep Approach to True Multi-Image Matching*, 1996). Neighbouring directions are drawn to one inverse depth,
more weakly where things end (semi-global matching; Hirschmueller 2008, in four directions). Where one frame alone shows
something, what stands beside it goes on.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from scipy.ndimage import median_filter

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.geometry.sphere import azimuth_altitude, direction
from idle_lantern.core.registration.solve.covered_field import field_of
from idle_lantern.core.registration.solve.poses import Poses

_FINEST = 0.5  # cells to a frame's pixel at most
_MOST_CELLS = 1_500_000
_MOST_WORK = 10_000_000  # cells times inverse depths, which sets the memory
_STEP_CELLS = 0.7  # by which things shift from one inverse depth to the next
_LEAST = 4  # inverse depths
_MOST = 64  # inverse depths
#: The nearest tie points tell how far to look: so many lie below, and so much beyond it things may stand.
_NEAREST, _BEYOND = 0.995, 1.25
#: Detail counts against what lies about it; logarithms make it free of exposure.
_DETAIL_CELLS = 6.0  # what lies about it
_GREY_LEVELS = 110.0  # the unit: a step of the logarithm is about so many grey levels
_DARK = 10.0  # grey levels below which all is dark
#: Frames that differ by more show different things, and no more is learned from by how much; side of a patch in cells.
_UNLIKE, _PATCH = 25.0, 5
#: Costs of an inverse depth.
_BESIDE = 6.0  # one step beside the neighbour's
_ELSEWHERE = 40.0  # any other
_FROM_FAR = 0.05  # each step from far
#: Where nothing is compared, rows go on each for itself: the middle of so many of them is taken.
_ROWS = 25


@dataclass(frozen=True)
class InverseDepthMap:
    """Inverse depth as the middle of all places sees it, at an even grid of azimuths and altitudes.

    Attributes
    ----------
    left_rad, top_rad, step_rad : float
        Azimuth and altitude of the first cell, and from cell to cell: azimuth to the right, altitude down.
    near : (h, w) float32
        Inverse distances, in the unit of the places.
    """

    left_rad: float
    top_rad: float
    step_rad: float
    near: Array

    def at(self, directions: Array) -> Array:
        """Inverse depth (h, w) in world directions (h, w, 3); beyond the rim what the rim has."""
        azimuth, altitude = azimuth_altitude(directions)
        half_rad = (self.near.shape[1] - 1) / 2 * self.step_rad
        # counted from the middle, so that what lies beyond either side comes to lie there
        from_middle = np.mod(azimuth - self.left_rad - half_rad + math.pi, 2 * math.pi) - math.pi
        cells = np.stack([from_middle + half_rad, self.top_rad - altitude], -1) / self.step_rad
        found = cv2.remap(self.near, cells.astype(np.float32), None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
        return np.asarray(found)


def near_map(
    poses: Poses,
    place: Array,
    near: Array,
    pairs: Sequence[tuple[int, int]],
    grey: Callable[[int], Array],
    progress: Progress = SILENT,
) -> InverseDepthMap:
    """The inverse depth of things that ``pairs`` of the poses' frames show.

    Parameters
    ----------
    place : (F, 3)
        Where each frame's pupil stood, in the world and in the unit of ``near``.
    near : (N,)
        Inverse depths of tie points: how far to look.
    pairs
        Places in the poses of frames that are compared.
    grey : callable
        Index of a frame -> its brightness (H, W).

    Raises
    ------
    UnreadableFrame
        A frame is gone.
    Cancelled
        Stopped by ``progress``.
    """
    nearest = float(np.quantile(near, _NEAREST)) * _BEYOND if len(near) else 0.0
    apart = max((float(np.linalg.norm(place[i] - place[j])) for i, j in pairs), default=0.0)
    grid = _Grid.over(poses, nearest * apart)
    count = int(np.clip(math.ceil(nearest * apart / grid.step_rad / _STEP_CELLS) + 1, _LEAST, _MOST))
    tried = np.linspace(0, nearest, count)
    cost = np.zeros((count, *grid.shape), np.float32)
    compared = np.zeros(grid.shape, np.float32)
    progress.begin("refine", len(pairs) + 1)
    details: dict[int, Array] = {}
    for i, j in sorted(pairs):
        progress.advance()
        for k in (i, j):
            if k not in details:
                details[k] = _detail(grey(poses.frames[k]), grid.per_pixel(poses, k))
        details = {k: d for k, d in details.items() if k >= i}
        _compare(poses, place, (i, j), tried, grid, details, cost, compared)
    progress.advance()
    seen = compared > 0
    for n, layer in enumerate(cost):
        layer /= np.maximum(compared, 1)
        layer += np.float32(n * _FROM_FAR) * seen
    level = _agreed(np.ascontiguousarray(cost.transpose(1, 2, 0)))
    steady = cv2.medianBlur(level, 3)
    alone = median_filter(steady, (_ROWS, 1), mode="nearest") if not seen.all() else steady
    return InverseDepthMap(
        grid.left_rad, grid.top_rad, grid.step_rad, np.where(seen, steady, alone) * np.float32(tried[1])
    )


@dataclass(frozen=True)
class _Grid:
    """Cells over what the frames cover."""

    left_rad: float
    top_rad: float
    step_rad: float
    shape: tuple[int, int]

    @classmethod
    def over(cls, poses: Poses, shift_rad: float) -> _Grid:
        """As fine as the frames ask for and memory allows, where things shift by so much."""
        field = field_of(poses)
        # past the end of a full circle it goes on a little, so that both ends are alike
        width = min(field.width_rad, 2 * math.pi) + (math.pi / 8 if field.full_circle else 0)
        height = field.high_rad - field.low_rad
        step = 1 / (_FINEST * max(lens.focal_px for lens in poses.lenses))
        step = max(step, math.sqrt(width * height / _MOST_CELLS))
        # finer cells ask for more inverse depths too
        step = max(step, (width * height * shift_rad / _STEP_CELLS / _MOST_WORK) ** (1 / 3))
        shape = max(3, math.ceil(height / step)), max(3, math.ceil(width / step))
        return cls(field.middle_rad - width / 2, field.high_rad, step, shape)

    def directions(self, box: tuple[slice, slice]) -> Array:
        """World directions (h, w, 3) of a box of cells."""
        rows, columns = (np.arange(s.start, s.stop) for s in box)
        return direction(self.left_rad + columns * self.step_rad, self.top_rad - rows[:, None] * self.step_rad)

    def per_pixel(self, poses: Poses, k: int) -> float:
        """Cells to a pixel of the k-th frame, at most 1."""
        return min(1.0, 1 / (poses.lenses[k].focal_px * self.step_rad))


def _detail(grey: Array, scale: float) -> Array:
    """Fine contrast of a frame reduced by ``scale``, (h, w) float32, the same under any exposure."""
    small = cv2.resize(grey, None, fx=scale, fy=scale, interpolation=cv2.INTER_AREA) if scale < 1 else grey
    light = np.log(small.astype(np.float32) + np.float32(_DARK)) * np.float32(_GREY_LEVELS)
    return np.asarray(light - cv2.GaussianBlur(light, (0, 0), _DETAIL_CELLS))


def _compare(
    poses: Poses,
    place: Array,
    pair: tuple[int, int],
    tried: Array,
    grid: _Grid,
    details: dict[int, Array],
    cost: Array,
    compared: Array,
) -> None:
    """Add by how much two frames differ at each inverse depth where both show something."""
    box = _shared(poses, pair, grid)
    if box is None:
        return
    directions = grid.directions(box)
    paths = [_Path.of(poses, place, k, directions, float(tried[-1]), details[k].shape) for k in pair]
    both = paths[0].inside & paths[1].inside
    if not both.any():
        return
    for n, near in enumerate(tried.tolist()):
        one, other = (cv2.remap(details[k], path.at(near), None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
                      for k, path in zip(pair, paths))  # fmt: skip
        differ = cv2.min(cv2.absdiff(one, other), _UNLIKE) * both
        cost[n][box] += cv2.blur(differ, (_PATCH, _PATCH))
    compared[box] += both


def _shared(poses: Poses, pair: tuple[int, int], grid: _Grid) -> tuple[slice, slice] | None:
    """The box of cells that both frames touch, found on a thinned grid."""
    thin = 8
    whole = slice(0, grid.shape[0]), slice(0, grid.shape[1])
    directions = grid.directions(whole)[::thin, ::thin]
    shown = np.ones(directions.shape[:2], bool)
    for k in pair:
        shown &= poses.lenses[k].sees(directions @ poses.world_from_camera[k])
    if not shown.any():
        return None
    spans = []
    for axis, size in enumerate(grid.shape):
        at = np.flatnonzero(shown.any(1 - axis)) * thin
        spans.append(slice(max(0, int(at[0]) - thin), min(size, int(at[-1]) + thin + 1)))
    return spans[0], spans[1]


@dataclass(frozen=True)
class _Path:
    """Where a frame shows things of any inverse depth: places ``far + near (slope + near bow)`` in its reduced pixels.

    ``inside`` tells where far things lie on the frame.
    """

    far: Array
    slope: Array
    bow: Array
    inside: Array

    @classmethod
    def of(cls, poses: Poses, place: Array, k: int, directions: Array, nearest: float, size: tuple[int, ...]) -> _Path:
        """Exact for the farthest, the nearest and half way: a pupil moves little against what is near."""
        lens, turned = poses.lenses[k], poses.world_from_camera[k]
        scale = np.array([size[1] / lens.width, size[0] / lens.height])

        def shown(near: float) -> tuple[Array, Array]:
            pixels, valid = lens.project(np.nan_to_num((directions - near * place[k]) @ turned))
            return np.where(valid[..., None], (pixels + 0.5) * scale - 0.5, -1e3), valid

        (far, valid), (middle, _), (end, _) = shown(0.0), shown(nearest / 2), shown(nearest)
        bow = 2 * (end + far - 2 * middle) / max(nearest, 1e-12) ** 2
        slope = (end - far) / max(nearest, 1e-12) - nearest * bow
        inside = valid & lens.sees(directions @ turned)
        return cls(far.astype(np.float32), slope.astype(np.float32), bow.astype(np.float32), inside)

    def at(self, near: float) -> Array:
        """Places (h, w, 2) float32 of things so near."""
        w = np.float32(near)
        return np.asarray(self.far + w * (self.slope + w * self.bow))


def _agreed(cost: Array) -> Array:
    """The level (h, w) float32, between whole ones too, on which neighbours agree at least cost (h, w, K)."""
    total = np.zeros_like(cost)
    for view in (cost, cost[::-1]):
        out = total if view is cost else total[::-1]
        _passed(view, out)
        _passed(
            np.swapaxes(view, 0, 1)[:: 1 if view is cost else -1], np.swapaxes(out, 0, 1)[:: 1 if view is cost else -1]
        )
    best = total.argmin(-1)
    # the bottom of a parabola through the least and its neighbours
    middle = np.clip(best, 1, cost.shape[-1] - 2)[..., None]
    below, least, above = (np.take_along_axis(total, middle + d, -1)[..., 0] for d in (-1, 0, 1))
    bend = below - 2 * least + above
    off = np.where((best == middle[..., 0]) & (bend > 1e-6), (below - above) / (2 * np.maximum(bend, 1e-6)), 0)
    return np.asarray((best + np.clip(off, -0.5, 0.5)).astype(np.float32))


def _passed(cost: Array, total: Array) -> None:
    """Add to ``total`` what each cell costs with all those before it along the first axis."""
    before = cost[0].copy()
    total[0] += before
    for row, out in zip(cost[1:], total[1:]):
        least = before.min(-1, keepdims=True)
        onward = np.minimum(before, least + _ELSEWHERE)
        np.minimum(onward[..., 1:], before[..., :-1] + _BESIDE, out=onward[..., 1:])
        np.minimum(onward[..., :-1], before[..., 1:] + _BESIDE, out=onward[..., :-1])
        onward += row
        onward -= least
        out += onward
        before = onward
