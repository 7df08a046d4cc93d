"""The places of a picture that ask most of a print: for a test strip, which is printed before the paper of the whole is spent."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.colour.convert import converted
from idle_lantern.core.colour.oklab import to_oklab
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.source import PictureSource, region

#: Places are sought at so many pixels of the longer side; windows step by a share of their size.
SOUGHT_PX, _STEP = 1200, 0.25
#: Lightness of Oklab: shadows that paper closes up, and lights that it leaves white, yet with something in them.
_SHADOW, _LIGHT = (0.05, 0.35), (0.88, 0.985)
#: Of the finest places so many are looked at in their own pixels.
_LOOKED_AT = 6


@dataclass(frozen=True)
class DemandingPlace:
    """A ``part`` of the printed picture, in its pixels, and what is looked at there."""

    part: Rectangle
    look_for: str


@dataclass(frozen=True)
class _Seen:
    """The picture reduced: lightness, chroma, fineness and what shows anything, each (h, w)."""

    lightness: Array
    chroma: Array
    fine: Array
    shown: Array


#: What is sought, in the order of what is printed when there is little room: how strong a pixel asks for it, and what to look for.
_SOUGHT: tuple[tuple[str, Callable[[_Seen], Array]], ...] = (
    ("Finest detail: is it sharp, without light rims?", lambda s: s.fine),
    ("Deepest shadows: is everything in them still told apart?", lambda s: _within(s.lightness, _SHADOW)),
    ("Even tones: are they smooth, without steps or grain?", lambda s: _even(s)),
    ("Strongest colour: does it keep its detail?", lambda s: s.chroma),
    ("Brightest lights: is there something in them?", lambda s: _within(s.lightness, _LIGHT)),
)


def demanding_places(
    picture: PictureSource, small: PictureSource, size: tuple[int, int], most: int
) -> tuple[DemandingPlace, ...]:
    """At most ``most`` parts of ``size`` (width, height) pixels, none over another, each where the picture asks most of one thing.

    ``small`` is the picture with ``SOUGHT_PX`` on its longer side. What it has not, such as deep shadows, is not among them.
    """
    full = picture.sizes[0]
    size = min(size[0], full[0]), min(size[1], full[1])
    seen = _looked_at(small)
    h, w = seen.lightness.shape
    scale = full[0] / w, full[1] / h
    window = max(1, round(size[0] / scale[0])), max(1, round(size[1] / scale[1]))
    share = _window_means(seen.shown, window)
    found: list[DemandingPlace] = []
    for look_for, strength in _SOUGHT[:most]:
        means = np.where(share > 0.995, _window_means(strength(seen) * seen.shown, window), 0.0)
        for place in found:
            _leave_out(means, place.part, size, scale)
        best = _highest(means, window, _LOOKED_AT if look_for is _SOUGHT[0][0] else 1)
        parts = [_part(at, size, full, scale) for at in best]
        if len(parts) > 1:
            parts.sort(key=lambda part: -_fineness(picture, part))
        found += [DemandingPlace(part, look_for) for part in parts[:1]]
    return tuple(found)


def _looked_at(picture: PictureSource) -> _Seen:
    pixels = region(picture, Rectangle(0, 0, *picture.sizes[0]))
    full = 1 if pixels.dtype.kind == "f" else np.iinfo(pixels.dtype).max
    shown = np.ones(pixels.shape[:2], np.float32)
    if pixels.shape[2] == 4:
        shown = (pixels[..., 3] > 0).astype(np.float32)
    colours = converted(np.ascontiguousarray(pixels[..., :3]), picture.space, SRGB)
    lab = to_oklab(SRGB.to_linear((colours / full).astype(np.float32)), SRGB)
    lightness = np.ascontiguousarray(lab[..., 0])
    fine = np.abs(cv2.Laplacian(lightness, cv2.CV_32F))
    return _Seen(lightness, np.hypot(lab[..., 1], lab[..., 2]), fine, shown)


def _within(values: Array, limits: tuple[float, float]) -> Array:
    """How far values (h, w) lie within limits and are not all the same there."""
    inside = ((values > limits[0]) & (values < limits[1])).astype(np.float32)
    changes = np.abs(values - cv2.GaussianBlur(values, (0, 0), 4))
    return np.asarray(inside * (0.2 + np.minimum(changes * 40, 1)))


def _even(seen: _Seen) -> Array:
    """How far a tone changes slowly and nothing else does: where steps would show."""
    blurred = cv2.GaussianBlur(seen.lightness, (0, 0), 6)
    slope = np.hypot(cv2.Sobel(blurred, cv2.CV_32F, 1, 0, ksize=3), cv2.Sobel(blurred, cv2.CV_32F, 0, 1, ksize=3))
    rough = cv2.GaussianBlur(seen.fine, (0, 0), 6)
    return np.asarray(np.clip(slope * 100, 0, 1) / (1 + (rough * 150) ** 2))


def _window_means(values: Array, window: tuple[int, int]) -> Array:
    """The mean over each window of (width, height), by its upper left corner."""
    h, w = values.shape
    sums = cv2.integral(values.astype(np.float64))
    wide, high = min(window[0], w), min(window[1], h)
    total = sums[high:, wide:] - sums[:-high, wide:] - sums[high:, :-wide] + sums[:-high, :-wide]
    return np.asarray(total / (wide * high))


def _leave_out(means: Array, part: Rectangle, size: tuple[int, int], scale: tuple[float, float]) -> None:
    """Nothing whose window would touch a place that is taken."""
    left, right = (part.left - size[0]) / scale[0], (part.left + part.width) / scale[0]
    top, bottom = (part.top - size[1]) / scale[1], (part.top + part.height) / scale[1]
    rows, columns = (
        slice(max(0, int(np.floor(a)) + 1), max(0, int(np.ceil(b)))) for a, b in ((top, bottom), (left, right))
    )
    means[rows, columns] = 0


def _highest(means: Array, window: tuple[int, int], count: int) -> list[tuple[int, int]]:
    """Rows and columns of the highest means, apart by a share of the window; none where all are nothing."""
    means, found = means.copy(), []
    for _ in range(count):
        row, column = np.unravel_index(int(means.argmax()), means.shape)
        if means[row, column] <= 1e-4:
            break
        found.append((int(row), int(column)))
        high, wide = max(1, round(_STEP * window[1])), max(1, round(_STEP * window[0]))
        means[max(0, row - high) : row + high, max(0, column - wide) : column + wide] = 0
    return found


def _part(at: tuple[int, int], size: tuple[int, int], full: tuple[int, int], scale: tuple[float, float]) -> Rectangle:
    left, top = round(at[1] * scale[0]), round(at[0] * scale[1])
    return Rectangle(max(0, min(left, full[0] - size[0])), max(0, min(top, full[1] - size[1])), *size)


def _fineness(picture: PictureSource, part: Rectangle) -> float:
    """How fine a part is in its own pixels, by the middle of it."""
    side = min(600, part.width, part.height)
    box = Rectangle(part.left + (part.width - side) // 2, part.top + (part.height - side) // 2, side, side)
    pixels = region(picture, box)
    full = 1 if pixels.dtype.kind == "f" else np.iinfo(pixels.dtype).max
    grey = pixels[..., :3].mean(2).astype(np.float32) / np.float32(full)
    return float(np.abs(cv2.Laplacian(grey, cv2.CV_32F)).mean())
