"""Solved geometry: rotations, lenses, local warps, and how well each is known."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array, Directions, Flags, Places, Rotations
from idle_lantern.core.geometry.lenses import Lens, transfer
from idle_lantern.core.registration.match.links import Link


@dataclass(frozen=True)
class Poses:
    """Solved geometry of some frames.

    Attributes
    ----------
    frames : tuple of int
        Indices into the frame set, in the order of the arrays below.
    lenses : tuple of Lens
    world_from_camera : (F, 3, 3)
    rms_px : float
        Of all inlier tie points.
    focal_sigma : float
        Standard error of the first lens's focal length, as a share of it.
    sigma_rad : (F,) array or None
        Standard error of each rotation against all others, in its least known direction.
    bends : tuple of (h, w, 2) float32 or None
        Local warps that take up parallax, see ``bending``; empty where nothing bends.
    """

    frames: tuple[int, ...]
    lenses: tuple[Lens, ...]
    world_from_camera: Rotations
    rms_px: float = 0.0
    focal_sigma: float = math.nan
    sigma_rad: Array | None = field(default=None, compare=False)
    bends: tuple[Array | None, ...] = ()

    def only(self, at: Sequence[int]) -> Poses:
        """The same for some of the frames, by their places in the arrays."""
        return replace(
            self,
            frames=tuple(self.frames[i] for i in at),
            lenses=tuple(self.lenses[i] for i in at),
            world_from_camera=self.world_from_camera[list(at)],
            sigma_rad=None if self.sigma_rad is None else self.sigma_rad[list(at)],
            bends=tuple(self.bends[i] for i in at) if self.bends else (),
        )

    def of_size(self, sizes: Sequence[tuple[int, int]]) -> Poses:
        """The same poses for frames resized to (width, height) each."""
        return self._seen_by(
            tuple(
                replace(lens.scaled(width / lens.width), width=width, height=height)
                for lens, (width, height) in zip(self.lenses, sizes)
            )
        )

    def halved(self) -> Poses:
        """The same poses for frames of means of two by two pixels (``base.reducing.halved``)."""
        return self._seen_by(tuple(lens.halved() for lens in self.lenses))

    def _seen_by(self, lenses: tuple[Lens, ...]) -> Poses:
        bends = tuple(
            None if bend is None else bend * np.float32(small.width / lens.width)
            for bend, small, lens in zip(self.bends, lenses, self.lenses)
        )
        return replace(self, lenses=lenses, bends=bends)

    def turn(self, a: int, b: int) -> Rotations:
        """The rotation ``b_from_a`` (3, 3) between the frames at two places."""
        return np.asarray(self.world_from_camera[b].T @ self.world_from_camera[a])

    def directions(self, i: int, pixels: Places) -> Directions:
        """World directions (..., 3) of pixels (..., 2) of the i-th frame; NaN where its lens sees nothing."""
        return np.asarray(self.lenses[i].unproject(pixels) @ self.world_from_camera[i].T)

    def pixels(self, i: int, directions: Directions) -> tuple[Places, Flags]:
        """Pixels (..., 2) of world directions (..., 3) in the i-th frame, and which of them its lens can show, as ``Lens.project``."""
        known = np.isfinite(directions).all(-1)
        if known.all():
            return self.lenses[i].project(directions @ self.world_from_camera[i])
        pixels, valid = self.lenses[i].project(np.nan_to_num(directions) @ self.world_from_camera[i])
        return pixels, valid & known

    def transfer(self, a: int, b: int, pixels: Places) -> tuple[Places, Flags]:
        """Pixels of frame b (..., 2) that show what pixels of frame a do, and which of them there are, by places."""
        return transfer(self.lenses[a], self.lenses[b], self.turn(a, b), pixels)

    def share_shown(self, a: int, b: int, across: int = 12) -> float:
        """Share of frame a that frame b shows too, by places; told by ``across`` by ``across`` places of frame a."""
        rays = self.lenses[a].unproject(self.lenses[a].places_px(across))
        return float(self.lenses[b].sees(np.nan_to_num(rays) @ self.turn(a, b).T).mean())

    def link_without_points(self, a: int, b: int) -> Link:
        """A link between the frames at two places, in the order of the set, whose tie points are still to be found."""
        if self.frames[a] > self.frames[b]:
            a, b = b, a
        nothing = np.zeros((0, 2))
        return Link(self.frames[a], self.frames[b], nothing, nothing, self.turn(a, b))

    def bend(self, i: int) -> Array | None:
        """The local warp (h, w, 2) of the i-th frame, if it has one."""
        return self.bends[i] if self.bends else None

    def index(self, frame: int) -> int:
        """Place of a frame in the arrays."""
        return self.frames.index(frame)


def bend_at(bend: Array, pixels: Array, lens: Lens) -> Array:
    """Shift at frame pixels (h, w, 2), float32 of the same shape."""
    rows, columns = bend.shape[:2]
    scale = np.array([(columns - 1) / max(1, lens.width - 1), (rows - 1) / max(1, lens.height - 1)], np.float32)
    on_grid = np.clip(pixels * scale, 0, np.array([columns - 1, rows - 1], np.float32)).astype(np.float32, copy=False)
    return np.asarray(cv2.remap(bend, on_grid, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE))


def farthest_px(bend: Array) -> float:
    """The largest shift of a local warp (h, w, 2) along a side of a frame."""
    return float(np.abs(bend).max(initial=0.0))


def reassigned(link: Link, poses: Poses, tolerance_px: float) -> Link:
    """The link with rotation, inliers and error taken anew from solved poses."""
    a, b = poses.index(link.a), poses.index(link.b)
    pixels, valid = poses.transfer(a, b, link.points_a)
    off = pixels - link.points_b
    if link.by_hand:
        # a line that was drawn tells nothing along itself
        known = (
            link.sqrt_information
            / np.maximum(np.linalg.norm(link.sqrt_information, 2, axis=(1, 2)), 1e-12)[:, None, None]
        )
        off = np.einsum("pij,pj->pi", known, off)
    miss = np.where(valid, np.linalg.norm(off, axis=1), np.inf)
    inlier = miss < (math.inf if link.by_hand else tolerance_px)
    seen = inlier & (np.arange(len(inlier)) < len(inlier) - link.assumed)
    rms = math.sqrt(float((miss[seen] ** 2).mean())) if seen.any() else math.inf
    return replace(link, b_from_a=poses.turn(a, b), inlier=inlier, rms_px=rms)
