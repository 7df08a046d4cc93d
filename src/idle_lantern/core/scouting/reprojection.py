"""Scouting pictures laid on the sphere and drawn from there: on the map, through a lens, on a canvas."""

from __future__ import annotations

import io
import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import cv2
import numpy as np
from PIL import Image

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import UnreadableFrame
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.compositing.canvas.unroll import MAP_SIZE
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.core.geometry.sphere import direction
from idle_lantern.core.scouting.scout_picture import ScoutPicture

#: Pixels of what an outing keeps: finer than any screen draws it.
_MOST_PX = 3_000_000
#: Directions are asked at every so many pixels and drawn out in between: a screen shows no difference.
_STEP = 8


@dataclass(frozen=True)
class ReprojectedScouts:
    """A scouting picture ready to be drawn: pixels (h, w, 4) uint8 and their canvas in the map's own directions."""

    pixels: Array
    canvas: Canvas


def laid_as(picture: Picture, canvas: Canvas) -> ReprojectedScouts:
    """A picture of any size and depth on its canvas, ready to be drawn."""
    pixels = picture.pixels if picture.pixels.dtype == np.uint8 else (picture.pixels >> 8).astype(np.uint8)
    alpha = picture.alpha if picture.alpha is not None else np.full(pixels.shape[:2], 255, np.uint8)
    if alpha.dtype == np.uint16:
        alpha = (alpha >> 8).astype(np.uint8)
    return ReprojectedScouts(np.dstack([pixels, alpha]), canvas)


def as_frame_reprojected(picture: Picture, lens: Lens, angles_deg: tuple[float, float, float]) -> ReprojectedScouts:
    """A frame where it looks (yaw, pitch, roll); its distortion is small against what the eye sees of it, and left."""
    height, width = picture.pixels.shape[:2]
    small = lens.scaled(width / lens.width)
    world_from_camera = rotations.from_yaw_pitch_roll(*np.radians(angles_deg))
    canvas = Canvas(
        Projection("rectilinear" if lens.model == "rectilinear" else "equirectangular"),
        width,
        height,
        small.focal_px,
        (float(small.principal_px[0]), float(small.principal_px[1])),
        world_from_camera.T,
    )
    return laid_as(picture, canvas)


def as_bytes(picture: Picture, canvas: Canvas) -> tuple[bytes, Canvas]:
    """What an outing keeps of a picture: PNG bytes with alpha, and the canvas of just these pixels."""
    pixels = laid_as(picture, canvas).pixels
    height, width = pixels.shape[:2]
    scale = min(1.0, math.sqrt(_MOST_PX / (width * height)))
    own = canvas.scaled(min(1.0, width / canvas.width * scale))
    sheet = cv2.resize(pixels, (own.width, own.height), interpolation=cv2.INTER_AREA)
    out = io.BytesIO()
    Image.fromarray(sheet).save(out, "PNG", compress_level=3)
    return out.getvalue(), own


def read_reprojected(kept: ScoutPicture, path: Path) -> ReprojectedScouts:
    """The pixels of a kept picture, laid as it says.

    Raises
    ------
    UnreadableFrame
        The file is gone or damaged.
    """
    try:
        with Image.open(path) as image:
            pixels = np.asarray(image.convert("RGBA"))
    except (OSError, ValueError, SyntaxError, Image.DecompressionBombError) as error:
        raise UnreadableFrame(
            f"The scouting picture '{kept.name}' cannot be read", where=path.name, remedy="Bring the picture in again"
        ) from error
    return ReprojectedScouts(pixels, canvas_of(kept))


def canvas_of(kept: ScoutPicture) -> Canvas:
    """The canvas of a kept picture in the map's directions."""
    parameters = {"distance": kept.distance} if kept.projection == "panini" else {}
    return Canvas(
        Projection(kept.projection, parameters),
        kept.width,
        kept.height,
        kept.px_per_rad,
        kept.centre_px,
        np.array(kept.rotation) @ kept.world_from_ground.T,
        full_circle=kept.full_circle,
    )


def moved(before: ReprojectedScouts, kept: ScoutPicture) -> ReprojectedScouts:
    """The same pixels laid as ``kept`` says now."""
    return replace(before, canvas=canvas_of(kept))


def drawn(directions: Array, grounds: Sequence[ReprojectedScouts], step: int = 1) -> Array:
    """What the grounds show in directions (h, w, 3), the first in front: (h * step, w * step, 4) uint8.

    With a ``step`` the directions are those of every so many pixels, ``coarse`` tells which.
    """
    height, width = directions.shape[0], directions.shape[1]
    size = ((width - 1) * step + 1, (height - 1) * step + 1)
    result = np.zeros((size[1], size[0], 4), np.uint8)
    for ground in reversed(grounds):
        with np.errstate(invalid="ignore"):
            places = ground.canvas.pixels(directions)
            known = np.isfinite(places[..., 0])
            places = np.where(known[..., None], places, (0.0, -1e6))
            turn = ground.canvas.width if ground.canvas.full_circle else 0
            period = 2 * math.pi * ground.canvas.px_per_rad if ground.canvas.projection.wraps else 0.0
            if period and step > 1:
                places[..., 0] = _run_on(places[..., 0], turn or period)
        scale = np.array([ground.pixels.shape[1] / ground.canvas.width, ground.pixels.shape[0] / ground.canvas.height])
        at = ((places + 0.5) * scale - 0.5).astype(np.float32)
        if step > 1:
            at = _between(at, size, step)
        if turn:
            at[..., 0] %= np.float32(ground.pixels.shape[1])
        elif period:  # once round, counted from opposite the picture's middle
            first = (ground.canvas.centre_px[0] + 0.5 - period / 2) * scale[0] - 0.5
            at[..., 0] = np.mod(at[..., 0] - np.float32(first), np.float32(period * scale[0])) + np.float32(first)
        # outside the picture there is nothing: one pixel of border fades, and the fade is cut below
        shown = cv2.remap(
            ground.pixels, at, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_WRAP if turn else cv2.BORDER_CONSTANT
        )
        if turn:
            shown[(at[..., 1] < -0.5) | (at[..., 1] > ground.pixels.shape[0] - 0.5)] = 0
        cv2.copyTo(shown, cv2.inRange(shown[..., 3], 128, 255), result)
    result[..., 3] = cv2.threshold(result[..., 3], 127, 255, cv2.THRESH_BINARY)[1]
    return result


def _run_on(u: Array, turn: float) -> Array:
    """Columns that run on over the closing edge of a full circle, from place to place and from row to row."""
    rows = np.unwrap(u, period=turn, axis=1)
    middle = rows[:, rows.shape[1] // 2]
    return np.asarray(rows + (np.unwrap(middle, period=turn) - middle)[:, None])


def _between(coarse: Array, size: tuple[int, int], step: int) -> Array:
    """Places at every ``step``-th pixel drawn out to all of them; what lies between places and none is none."""
    width, height = size
    u, v = (np.arange(n, dtype=np.float32) / step for n in (width, height))
    at = np.broadcast_to(u, (height, width)), np.broadcast_to(v[:, None], (height, width))
    x, y = (np.ascontiguousarray(part) for part in at)
    return np.asarray(cv2.remap(coarse, x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE))


def coarse(canvas: Canvas, step: int = _STEP) -> Array:
    """Directions of every ``step``-th pixel of a canvas, reaching to its last pixel and beyond, (h, w, 3)."""
    u, v = (np.arange(math.ceil((n - 1) / step) + 1, dtype=float) * step for n in (canvas.width, canvas.height))
    return canvas.directions(np.stack(np.meshgrid(u, v), -1), over_the_pole=True)


def on_canvas(canvas: Canvas, grounds: Sequence[ReprojectedScouts]) -> Array:
    """What the grounds show of a canvas, (height, width, 4) uint8; the canvas is one of screen size."""
    sheet = drawn(coarse(canvas), grounds, _STEP)[: canvas.height, : canvas.width]
    if sheet.shape[:2] != (canvas.height, canvas.width):
        raise AssertionError("the coarse grid ends before the canvas")
    return sheet


def on_sphere(grounds: Sequence[ReprojectedScouts], size: tuple[int, int] = MAP_SIZE) -> Array:
    """What the grounds show on the map of the sphere, (H, W, 4) uint8."""
    width, height = size
    u, v = (np.arange(math.ceil((n - 1) / _STEP) + 1) * _STEP for n in size)
    azimuth = ((u + 0.5) / width * 2 - 1) * math.pi
    # a last place beyond the pole would look down its other side
    altitude = np.clip((0.5 - (v + 0.5) / height) * math.pi, -math.pi / 2 + 1e-9, math.pi / 2 - 1e-9)
    return drawn(direction(azimuth[None, :], altitude[:, None]), grounds, _STEP)[:height, :width]


def through_lens(
    lens: Lens, world_from_camera: Array, grounds: Sequence[ReprojectedScouts], width_px: int = 480
) -> Array:
    """What a frame should show: the grounds through its lens, (h, w, 4) uint8."""
    small = lens.scaled(width_px / lens.width)
    size = (round(lens.width * width_px / lens.width), round(lens.height * width_px / lens.width))
    u, v = np.meshgrid(np.arange(size[0], dtype=float), np.arange(size[1], dtype=float))
    rays = small.unproject(np.stack([u, v], -1))
    return drawn(rays @ world_from_camera.T, grounds)
