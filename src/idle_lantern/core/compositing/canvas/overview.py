"""All frames warped small onto one reduced canvas: what light and seams are reckoned from."""

from __future__ import annotations

import math
from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.parallel import mapped
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.base.reducing import reduced_to
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import SRGB, ColourSpace
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.compositing.canvas.warp import Tile, coarse_directions, frame_map
from idle_lantern.core.frames.masks import Mask, Masks
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.match.features import WorkingFrame
from idle_lantern.core.registration.solve.poses import Poses

#: Enough pixels for seams to pass round a walking person in a row of frames; large grids get more.
_LEAST_PIXELS = 300_000
_PIXELS_PER_FRAME = 8_000
_MOST_PIXELS = 4_000_000
_PROBE = 8


@dataclass(frozen=True)
class Patch:
    """One frame on the reduced canvas.

    ``columns`` are canvas columns (they wrap on a full circle), ``top`` the first row.
    ``weight`` falls from 1 in the frame's middle to 0 at its rim; ``radius2`` is the
    squared radius in the frame as a share of its half diagonal. ``kept`` is what a mask
    wants to show.
    """

    frame: int
    columns: Array
    top: int
    pixels: Array
    inside: Array
    weight: Array
    radius2: Array
    kept: Array | None = None

    @property
    def index(self) -> tuple[Array | slice, Array | slice]:
        """What cuts the patch out of a canvas-sized array (h, w, ...): slices, or an open mesh where it runs across the end of a full circle."""
        if len(self.columns) and self.columns[-1] - self.columns[0] == len(self.columns) - 1:
            first = int(self.columns[0])
            return slice(self.top, self.top + self.inside.shape[0]), slice(first, first + len(self.columns))
        return np.arange(self.top, self.top + self.inside.shape[0])[:, None], self.columns[None, :]


@dataclass(frozen=True)
class Overview:
    """A reduced canvas and every frame on it, in the order of the poses, all in one colour space."""

    canvas: Canvas
    patches: tuple[Patch, ...]
    space: ColourSpace = SRGB


def without_kept(overview: Overview, frames: Collection[int]) -> Overview:
    """The overview with nothing of some frames where a mask keeps them: there the others show something else."""
    return replace(
        overview,
        patches=tuple(
            replace(p, inside=p.inside & ~p.kept) if p.frame in frames and p.kept is not None else p
            for p in overview.patches
        ),
    )


def overview_pixels(frames: int) -> int:
    """Pixels of the reduced canvas for so many frames."""
    return min(max(_LEAST_PIXELS, _PIXELS_PER_FRAME * frames), _MOST_PIXELS)


def meeting(overview: Overview) -> list[list[int]]:
    """For each patch the later patches whose boxes share canvas with it: far fewer than all."""
    rows = np.zeros((len(overview.patches), overview.canvas.height), np.float32)
    columns = np.zeros((len(overview.patches), overview.canvas.width), np.float32)
    for i, patch in enumerate(overview.patches):
        rows[i, patch.top : patch.top + patch.inside.shape[0]] = 1
        columns[i, patch.columns] = 1
    meets = (rows @ rows.T > 0) & (columns @ columns.T > 0)
    return [[j for j in np.flatnonzero(m).tolist() if j > i] for i, m in enumerate(meets)]


def make_overview(
    poses: Poses,
    working: Sequence[WorkingFrame],
    canvas: Canvas,
    *,
    pixels: int | None = None,
    masks: Masks | None = None,
    threads: int = 1,
    progress: Progress = SILENT,
) -> Overview:
    """Warp every working frame onto ``canvas`` reduced to about ``pixels`` (None: what the frames need).

    ``working`` is in the order of ``poses.frames``.
    """
    pixels = pixels or overview_pixels(len(working))
    factor = min(1.0, math.sqrt(pixels / (canvas.width * canvas.height)))
    small = canvas.scaled(factor)
    directions = coarse_directions(small, Tile(0, 0, small.width, small.height), 1)
    progress.begin("warp", len(working))

    def patch(i: int) -> Patch | None:
        return _patch(i, poses, working[i].picture, working[i].scale, small, directions, (masks or {}).get(i))

    patches = [p for p in mapped(patch, range(len(working)), threads, progress) if p is not None]
    return Overview(small, tuple(patches), working[0].picture.space if working else SRGB)


def _window(lens: Lens, rotation: Array, small: Canvas, directions: Array) -> tuple[Array, Array]:
    """Canvas columns (wrapping on a full circle) and rows that hold the frame, from a thinned grid."""
    thin = directions[1:-1:_PROBE, 1:-1:_PROBE]
    pixels, valid = lens.project(np.nan_to_num(thin) @ rotation)
    # a thinned grid may step over the rim by its own spacing
    margin = 1.5 * _PROBE * lens.focal_px / small.px_per_rad + 2
    near = (
        valid
        & np.isfinite(thin[..., 0])
        & (pixels[..., 0] > -margin)
        & (pixels[..., 0] < lens.width + margin)
        & (pixels[..., 1] > -margin)
        & (pixels[..., 1] < lens.height + margin)
    )
    if not near.any():
        return np.zeros(0, int), np.zeros(0, int)
    across, down = np.flatnonzero(near.any(0)), np.flatnonzero(near.any(1))
    rows = np.arange(max(0, (down[0] - 1) * _PROBE), min(small.height, (down[-1] + 2) * _PROBE))
    left, right = max(0, (across[0] - 1) * _PROBE), min(small.width, (across[-1] + 2) * _PROBE)
    if small.full_circle and (left == 0 or right == small.width):
        # start after the largest gap, so that a frame across the end stays in one piece
        thin_width = near.shape[1]
        steps = np.diff(np.append(across, across[0] + thin_width))
        if steps.max() > 3:
            first = int(across[(int(steps.argmax()) + 1) % len(across)])
            span = (thin_width - int(steps.max()) + 3) * _PROBE
            return ((first - 1) * _PROBE + np.arange(min(small.width, span))) % small.width, rows
        return np.arange(small.width), rows
    return np.arange(left, right), rows


def _patch(
    i: int,
    poses: Poses,
    picture: Picture,
    scale: tuple[float, float],
    small: Canvas,
    directions: Array,
    mask: Mask | None,
) -> Patch | None:
    lens, rotation = poses.lenses[i], poses.world_from_camera[i]
    columns, rows = _window(lens, rotation, small, directions)
    if len(columns) == 0:
        return None
    part = directions[
        np.ix_(
            np.arange(rows[0], rows[-1] + 3),
            np.append(columns, [columns[-1] + 1, columns[-1] + 2]) % directions.shape[1],
        )
    ]
    found = frame_map(part, lens, rotation, (len(rows), len(columns)), 1, bend=poses.bend(i))
    if found is None:
        return None
    places, inside = found
    kept = None
    if mask is not None:
        inside &= ~mask.hidden_at(places, lens)
        kept = inside & mask.kept_at(places, lens)
    if not inside.any():
        return None
    x = places[..., 0] / (lens.width - 1) * 2 - 1
    y = places[..., 1] / (lens.height - 1) * 2 - 1
    weight = np.clip(np.minimum(1 - np.abs(x), 1 - np.abs(y)), 0, 1)
    u0, v0 = lens.principal_px
    if math.isfinite(lens.circle_px):
        off = np.hypot(places[..., 0] - np.float32(u0), places[..., 1] - np.float32(v0))
        weight = np.minimum(weight, np.clip(1 - off / np.float32(lens.circle_px), 0, 1))
    half = np.float32((lens.width**2 + lens.height**2) / 4)
    radius2 = np.minimum(((places[..., 0] - np.float32(u0)) ** 2 + (places[..., 1] - np.float32(v0)) ** 2) / half, 4)
    on_picture = (places + np.float32(0.5)) / np.asarray(scale, np.float32) - np.float32(0.5)
    # reduce first where the canvas is much smaller than the working frame, or it would alias
    shrink = small.px_per_rad / (lens.focal_px / scale[0])
    pixels, factor = picture.pixels, 1.0
    while shrink * factor < 0.6 and min(pixels.shape[:2]) > 32:
        pixels = reduced_to(pixels, pixels.shape[1] // 2, pixels.shape[0] // 2)
        factor *= 2
    ratio = np.array([pixels.shape[1] / picture.width, pixels.shape[0] / picture.height], np.float32)
    on_picture = (on_picture + np.float32(0.5)) * ratio - np.float32(0.5)
    sampled = cv2.remap(pixels, on_picture, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    if picture.alpha is not None:
        alpha = cv2.resize(picture.alpha, (pixels.shape[1], pixels.shape[0]), interpolation=cv2.INTER_AREA)
        inside &= cv2.remap(alpha, on_picture, None, cv2.INTER_LINEAR) > 250
    return Patch(i, columns, int(rows[0]), sampled, inside, weight.astype(np.float32), radius2, kept)
