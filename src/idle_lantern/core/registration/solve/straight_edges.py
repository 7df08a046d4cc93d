"""Straight edges of a frame that run upright: what buildings and masts are told by.

Pixels that grow darker or brighter square to such an edge are taken together where they touch, and a plane through the
camera is laid through each group by least squares, weighed by how steep they are. That tells an edge's way from all its pixels,
several times as well as from its two ends, and under any lens: a fisheye bends the edge, not its plane.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry.lenses import Lens

#: Display values per pixel from which a slope counts, and how far beside its way an edge's slopes may point (tangent).
_SLOPE, _BESIDE = 6.0, 0.7
#: Pixels by which an edge may be thick, as standard deviation.
_THICK_PX = 1.0
#: The way of what is upright is reckoned once for so many pixels a side.
_CELL_PX = 16
#: A Scharr derivative is so many times the slope; slopes are first sifted in eighths of a display value.
_SCHARR, _SIFTED = 32.0, 8


@dataclass(frozen=True)
class Edges:
    """Normals (N, 3) in the world of the planes of straight edges, directions (N, 3) of their middles, their lengths as seen (rad), and
    as shares of the frame."""

    normals: Array
    middles: Array
    lengths: Array
    shares: Array

    @staticmethod
    def together(parts: list[Edges]) -> Edges:
        """Those of several frames."""
        if not parts:
            return Edges(np.zeros((0, 3)), np.zeros((0, 3)), np.zeros(0), np.zeros(0))
        columns = zip(*((p.normals, p.middles, p.lengths, p.shares) for p in parts))
        return Edges(*(np.concatenate(column) for column in columns))

    def only(self, at: Array) -> Edges:
        """Some of them, by places (M,) or flags (N,)."""
        return Edges(self.normals[at], self.middles[at], self.lengths[at], self.shares[at])


def straight_edges(
    grey: Array, lens: Lens, world_from_camera: Array, scale: tuple[float, float], *, least: float
) -> Edges:
    """Edges that run upright within some 35 degrees, at least as long as a share of the frame's longer side.

    ``grey`` (H, W) uint8 is the frame reduced by ``scale``, ``lens`` that of the whole, the world's second axis points down.
    """
    slopes = cv2.Scharr(grey, cv2.CV_16S, 1, 0), cv2.Scharr(grey, cv2.CV_16S, 0, 1)
    steepest = cv2.max(*(cv2.convertScaleAbs(s, alpha=_SIFTED / _SCHARR) for s in slopes))
    at = np.flatnonzero(steepest > int(0.9 * _SIFTED * _SLOPE))
    if not len(at):
        return Edges.together([])
    rows, columns = np.divmod(at.astype(np.int32), np.int32(grey.shape[1]))
    down = _way_down(grey.shape, lens, world_from_camera, scale)
    x, y = (d.ravel()[rows // _CELL_PX * d.shape[1] + columns // _CELL_PX] for d in (down[..., 0], down[..., 1]))
    right_slope, down_slope = (s.ravel()[at].astype(np.float32) / np.float32(_SCHARR) for s in slopes)
    along, across = right_slope * x + down_slope * y, down_slope * x - right_slope * y
    found = []
    for sign in (1, -1):  # dark on one side and on the other touch along a mast
        steep = across * np.float32(sign)
        chosen = np.flatnonzero((steep > _SLOPE) & (np.abs(along) < np.float32(_BESIDE) * steep))
        group, lengths = _touching(at[chosen], grey.shape, least)
        chosen = chosen[group >= 0]
        if not len(chosen):
            continue
        places = (np.stack([columns[chosen], rows[chosen]], -1) + 0.5) * np.asarray(scale) - 0.5
        rays = lens.unproject(places) @ world_from_camera.T
        thick = _THICK_PX * scale[0] / lens.focal_px
        found.append(_planes(rays, steep[chosen].astype(float), group[group >= 0], lengths, thick))
    return Edges.together(found)


def _way_down(shape: tuple[int, ...], lens: Lens, world_from_camera: Array, scale: tuple[float, float]) -> Array:
    """Direction on the frame of what hangs, for each cell, (h, w, 2) float32; nothing where the lens shows none."""
    v, u = (np.arange(0, side, _CELL_PX) + _CELL_PX / 2 for side in shape[:2])
    places = (np.stack(np.meshgrid(u, v), -1)) * np.asarray(scale) - 0.5
    rays, down = lens.unproject(places), world_from_camera.T @ np.array([0.0, 1.0, 0.0])
    below, _shown = lens.project(rays + 0.01 * (down - (rays @ down)[..., None] * rays))
    way = below - places
    length = np.linalg.norm(way, axis=-1, keepdims=True)
    return np.asarray(np.nan_to_num(way / np.where(length > 0, length, np.nan)), np.float32)


def _touching(at: Array, shape: tuple[int, ...], least: float) -> tuple[Array, Array]:
    """Groups of pixels (flat places) that touch each other and are long enough: the group of each pixel, -1 for none, and the
    groups' lengths as shares of the longer side."""
    mask = np.zeros(shape[0] * shape[1], np.uint8)
    mask[at] = 1
    _count, labels, stats, _centres = cv2.connectedComponentsWithStats(mask.reshape(shape[:2]), connectivity=8)
    shares = np.hypot(stats[:, cv2.CC_STAT_WIDTH], stats[:, cv2.CC_STAT_HEIGHT]) / max(shape[:2])
    kept = shares > least
    kept[0] = False  # what is no edge
    return np.where(kept, np.cumsum(kept) - 1, -1)[labels.ravel()[at]], shares[kept]


def _planes(rays: Array, weight: Array, group: Array, shares: Array, thick_rad: float) -> Edges:
    """Planes through the camera by weighted least squares, of the groups that are no thicker than told.

    Pixels beyond what the lens shows (NaN) count for nothing.
    """
    count, shown = len(shares), np.isfinite(rays).all(1)
    rays, weight, group = rays[shown], weight[shown], group[shown]
    total = np.maximum(np.bincount(group, weight, count), 1e-12)
    moments = np.empty((count, 3, 3))
    for i in range(3):
        for j in range(i, 3):
            moments[:, i, j] = moments[:, j, i] = np.bincount(group, weight * rays[:, i] * rays[:, j], count) / total
    middles = np.stack([np.bincount(group, weight * rays[:, i], count) / total for i in range(3)], -1)
    values, vectors = np.linalg.eigh(moments)
    thin = np.sqrt(np.maximum(values[:, 0], 0)) < thick_rad
    # evenly spread along it an edge has a twelfth of its squared length as variance
    lengths = np.sqrt(12 * np.maximum(values[:, 1], 0))
    return Edges(vectors[thin, :, 0], middles[thin], lengths[thin], shares[thin])
