"""One wide frame of the same place laid on the joined picture: where it looks, and its pixels where the canvas has them."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path

import cv2
import numpy as np
from scipy.optimize import least_squares

from idle_lantern.core.base.arrays import Array, Rotations
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.colour.convert import converted, eight_bit
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.finish.tile_look import grid_nodes
from idle_lantern.core.frames.reading import read
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.source import HeldPicture, PictureSource, reduced_in, region

#: Points are sought on so many pixels of the longer side of either, so many of them.
_FRAME_PX, _PICTURE_PX, _POINTS = 1600, 4096, 6000
#: A match must be so much nearer than the next one; so many must agree, within so many pixels of the reduced frame.
_NEARER, _LEAST, _WITHIN_PX = 0.75, 25, 3.0
#: Fields across that are tried, in degrees, and pairs of matches for each.
_FIELDS_DEG, _TRIES = tuple(np.geomspace(18, 125, 22)), 150


@dataclass(frozen=True)
class SingleFrame:
    """A frame that was placed on a joined picture: its pixels, lens and turn (3, 3), and how many points agree within ``rms_px``."""

    path: Path
    picture: Picture
    lens: Lens
    world_from_camera: Rotations
    matches: int
    rms_px: float


def placed_frame(path: Path, joined: PictureSource, canvas: Canvas, progress: Progress = SILENT) -> SingleFrame:
    """Read a frame and find where on the joined picture it looks.

    Raises
    ------
    InputError
        It cannot be read, or shows nothing that the picture shows.
    """
    progress.begin("place", 4)
    picture = read(path)
    progress.advance()
    pixels = converted(picture.pixels, picture.space, SRGB)
    small = _at_most(eight_bit(pixels), _FRAME_PX)
    large = eight_bit(reduced_in(joined, _PICTURE_PX, SRGB))
    at, described = _points(small)
    progress.advance()
    on_canvas, canvas_described = _points(large)
    progress.advance()
    a, b = _matched(described, canvas_described)
    scale = np.array([canvas.width / large.shape[1], canvas.height / large.shape[0]])
    rays = canvas.directions((on_canvas[b] + 0.5) * scale - 0.5)
    seen = np.isfinite(rays).all(-1)
    lens, turn, kept, rms = _aimed(at[a][seen], rays[seen], small.shape[1], small.shape[0], path)
    width = picture.pixels.shape[1]
    full = replace(lens.scaled(width / small.shape[1]), width=width, height=picture.pixels.shape[0])
    progress.advance()
    return SingleFrame(path, picture, full, turn, kept, rms * width / small.shape[1])


def _at_most(pixels: Array, longest: int) -> Array:
    factor = min(1.0, longest / max(pixels.shape[:2]))
    size = (round(pixels.shape[1] * factor), round(pixels.shape[0] * factor))
    return pixels if factor == 1 else np.asarray(cv2.resize(pixels, size, interpolation=cv2.INTER_AREA))


def _points(pixels: Array) -> tuple[Array, Array]:
    """Places (N, 2) and descriptors (N, 128) of a picture (h, w, 3 or 4) uint8."""
    mask = None
    if pixels.shape[2] == 4:
        mask = cv2.erode((pixels[..., 3] > 250).astype(np.uint8), np.ones((9, 9), np.uint8))
    grey = cv2.cvtColor(np.ascontiguousarray(pixels[..., :3]), cv2.COLOR_RGB2GRAY)
    found, described = cv2.SIFT.create(nfeatures=_POINTS, enable_precise_upscale=True).detectAndCompute(grey, mask)
    if described is None:
        return np.zeros((0, 2)), np.zeros((0, 128), np.float32)
    return np.array([p.pt for p in found]), np.asarray(described)


def _matched(one: Array, other: Array) -> tuple[Array, Array]:
    """Places in both lists of descriptors that belong together."""
    if len(one) < 2 or len(other) < 2:
        return np.zeros(0, int), np.zeros(0, int)
    pairs = [
        pair[0]
        for pair in cv2.BFMatcher(cv2.NORM_L2).knnMatch(one, other, 2)
        if pair[0].distance < _NEARER * pair[1].distance
    ]
    return np.array([p.queryIdx for p in pairs], int), np.array([p.trainIdx for p in pairs], int)


def _aimed(places: Array, rays: Array, width: int, height: int, path: Path) -> tuple[Lens, Rotations, int, float]:
    """Lens and turn by places (N, 2) of a frame and their directions (N, 3); how many agree, and the root of their mean squared miss."""
    if len(places) < _LEAST:
        raise _shows_nothing(path)
    rng = np.random.default_rng(5)
    best: tuple[int, Lens, Rotations] | None = None
    picks = np.array([rng.choice(len(places), 2, replace=False) for _ in range(_TRIES)])
    for field in _FIELDS_DEG:
        lens = Lens("rectilinear", width / 2 / math.tan(math.radians(field / 2)), width, height)
        own = lens.unproject(places)
        apart_own = (own[picks[:, 0]] * own[picks[:, 1]]).sum(-1)
        apart = (rays[picks[:, 0]] * rays[picks[:, 1]]).sum(-1)
        # a pair that is as far apart in the frame as on the picture may be right
        for pick in picks[np.abs(np.arccos(apart_own.clip(-1, 1)) - np.arccos(apart.clip(-1, 1))) < math.radians(1.0)]:
            turn = rotations.aligning(own[pick], rays[pick])
            agree = int((_misses(lens, turn, places, rays) < 4 * _WITHIN_PX).sum())
            if best is None or agree > best[0]:
                best = agree, lens, turn
    if best is None or best[0] < _LEAST:
        raise _shows_nothing(path)
    _agree, lens, turn = best
    for within in (6 * _WITHIN_PX, 3 * _WITHIN_PX, _WITHIN_PX, _WITHIN_PX):
        keep = _misses(lens, turn, places, rays) < within
        if keep.sum() < _LEAST:
            raise _shows_nothing(path)
        lens, turn = _refined(lens, turn, places[keep], rays[keep])
    left = _misses(lens, turn, places, rays)
    kept = left < _WITHIN_PX
    if kept.sum() < _LEAST:
        raise _shows_nothing(path)
    return lens, turn, int(kept.sum()), float(np.sqrt((left[kept] ** 2).mean()))


def _shows_nothing(path: Path) -> InputError:
    return InputError(
        "shows nothing that the joined picture shows, or was taken from another place",
        where=path.name,
        remedy="Choose one frame of the same place",
    )


def _misses(lens: Lens, turn: Rotations, places: Array, rays: Array) -> Array:
    """Pixels by which directions miss their places, infinite where the lens does not see them."""
    pixels, valid = lens.project(rays @ turn)
    return np.where(valid, np.linalg.norm(pixels - places, axis=-1), np.inf)


def _refined(lens: Lens, turn: Rotations, places: Array, rays: Array) -> tuple[Lens, Rotations]:
    """Turn, focal length and k1 that leave least of the misses (Huber)."""

    def made(x: Array) -> tuple[Lens, Rotations]:
        return replace(lens, focal_px=lens.focal_px * math.exp(x[3]), k1=lens.k1 + x[4]), rotations.from_vector(
            x[:3]
        ) @ turn

    def missed(x: Array) -> Array:
        one, aimed = made(x)
        pixels, _valid = one.project(rays @ aimed)
        return np.asarray(np.nan_to_num(pixels - places, nan=1e3).ravel())

    found = least_squares(missed, np.zeros(5), loss="huber", f_scale=1.0, x_scale=[0.01, 0.01, 0.01, 0.01, 0.05])
    return made(found.x)


class FrameOnCanvas:
    """A placed frame as a picture of the joined one's sizes, (h, w, 4) uint8: nothing where it does not look."""

    def __init__(self, frame: SingleFrame, canvas: Canvas, like: PictureSource) -> None:
        self._frame, self._canvas = frame, canvas
        self.sizes, self.tile_px, self.space = like.sizes, like.tile_px, SRGB

    @cached_property
    def _levels(self) -> HeldPicture:
        own = self._frame.picture
        return HeldPicture(Picture(eight_bit(converted(own.pixels, own.space, SRGB))))

    def tile(self, level: int, row: int, column: int) -> Array:
        """As of ``PictureSource``, (h, w, 4)."""
        width, height = self.sizes[level]
        left, top = column * self.tile_px, row * self.tile_px
        w, h = min(self.tile_px, width - left), min(self.tile_px, height - top)
        fx, fy = (full / own for full, own in zip(self.sizes[0], (width, height)))
        (x, across), (y, down) = grid_nodes(left, w, width), grid_nodes(top, h, height)
        nodes = np.stack(np.meshgrid((x + 0.5) * fx - 0.5, (y + 0.5) * fy - 0.5), -1)
        pixels, valid = self._frame.lens.project(self._canvas.directions(nodes) @ self._frame.world_from_camera)
        pixels = np.where(valid[..., None], pixels, np.nan)
        at = np.stack([down @ pixels[..., k] @ across.T for k in range(2)], -1)
        return self._seen(at, fx)

    def _seen(self, at: Array, scale: float) -> Array:
        """The frame at places (h, w, 2) of its full size, read from the level that is hardly finer than the tile."""
        frame, levels = self._frame, self._levels
        step = scale * frame.lens.focal_px / self._canvas.px_per_rad
        level = min(len(levels.sizes) - 1, max(0, math.floor(math.log2(max(step, 1.0)))))
        width, height = levels.sizes[level]
        share = np.array([width / frame.lens.width, height / frame.lens.height])
        full = np.nan_to_num(at, nan=-1e6)
        inside = ((full > -0.5) & (full < np.array([frame.lens.width, frame.lens.height]) - 0.5)).all(-1)
        if not inside.any():
            return np.zeros((*inside.shape, 4), np.uint8)
        places = (full + 0.5) * share - 0.5
        # what is looked at, with what a cubic reads beyond
        low = np.maximum(np.floor(places[inside].min(0)).astype(int) - 2, 0)
        high = np.minimum(np.ceil(places[inside].max(0)).astype(int) + 3, (width, height))
        box = Rectangle(int(low[0]), int(low[1]), int(high[0] - low[0]), int(high[1] - low[1]))
        source = region(levels, box, level)[..., :3]
        drawn = cv2.remap(
            np.ascontiguousarray(source),
            (places - low).astype(np.float32),
            None,
            cv2.INTER_CUBIC,
            borderMode=cv2.BORDER_REPLICATE,
        )
        drawn[~inside] = 0
        return np.dstack([drawn, np.where(inside, 255, 0).astype(np.uint8)])


def seen_by(frame: SingleFrame, joined: PictureSource, canvas: Canvas, longest: int) -> tuple[Array, Array]:
    """The frame reduced, (h, w, 3) uint8, and the joined picture as that frame would have shown it, (h, w, 4) uint8."""
    own = _at_most(eight_bit(converted(frame.picture.pixels, frame.picture.space, SRGB)), longest)
    h, w = own.shape[:2]
    lens = replace(frame.lens.scaled(w / frame.lens.width), width=w, height=h)
    rays = lens.unproject(np.stack(np.meshgrid(np.arange(w, dtype=float), np.arange(h, dtype=float)), -1))
    # the level that is hardly finer than the frame
    step = canvas.px_per_rad / lens.focal_px
    level = min(len(joined.sizes) - 1, max(0, math.floor(math.log2(max(step, 1.0)))))
    places = canvas.pixels(rays @ frame.world_from_camera.T)
    width, height = joined.sizes[level]
    at = (places + 0.5) * np.array([width / canvas.width, height / canvas.height]) - 0.5
    finite = np.isfinite(at).all(-1)
    low = (
        np.floor(np.nanmin(np.where(finite[..., None], at, np.nan), (0, 1)))
        .clip(0, [width - 1, height - 1])
        .astype(int)
    )
    high = (
        np.ceil(np.nanmax(np.where(finite[..., None], at, np.nan), (0, 1))).clip(0, [width - 1, height - 1]).astype(int)
    )
    box = Rectangle(int(low[0]), int(low[1]), int(high[0] - low[0]) + 1, int(high[1] - low[1]) + 1)
    pixels = region(joined, box, level)
    alpha = pixels[..., 3] > 0 if pixels.shape[2] == 4 else np.ones(pixels.shape[:2], bool)
    colours = eight_bit(converted(pixels[..., :3], joined.space, SRGB))
    shown = np.dstack([colours, np.where(alpha, 255, 0).astype(np.uint8)])
    inside = finite & (at >= -0.5).all(-1) & (at[..., 0] < width - 0.5) & (at[..., 1] < height - 0.5)
    local = (np.nan_to_num(at, nan=-1e6) - [box.left, box.top]).astype(np.float32)
    drawn = cv2.remap(shown, local, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    drawn[~inside] = 0
    return own, np.asarray(drawn)
