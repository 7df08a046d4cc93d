"""Files of cameras with two lenses back to back: two circles side by side, split into a frame each."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
import tifffile

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.atomic import make_folder, replacing
from idle_lantern.core.frames.content import sha256_of
from idle_lantern.core.frames.reading import probe, read, thumbnail

#: Sides of such files, width by height.
_ASPECT = (1.9, 2.1)
_LOOK_PX = 800
_LIT = 14  # display values of 255 above which a pixel is picture
_FILLED = 0.75  # share of a circle that is lit at least
_EMPTY = 0.1  # share of its corners that is lit at most
#: A circle's radius by half the file's height.
_RADIUS = (0.6, 1.03)


@dataclass(frozen=True)
class Circle:
    """A lit circle in pixels of the file."""

    u: float
    v: float
    radius: float


def circles_of(path: Path) -> tuple[Circle, Circle] | None:
    """The two circles of a file, left and right; None where it is something else.

    Raises
    ------
    UnreadableFrame
        The file cannot be read.
    """
    info = probe(path)
    if info.height == 0 or not _ASPECT[0] <= info.width / info.height <= _ASPECT[1]:
        return None
    small = thumbnail(path, _LOOK_PX).pixels
    grey = cv2.cvtColor(small, cv2.COLOR_RGB2GRAY)
    scale = info.width / grey.shape[1]
    half = grey.shape[1] // 2
    found = [_circle(grey[:, :half]), _circle(grey[:, half : 2 * half])]
    if found[0] is None or found[1] is None:
        return None
    left, right = found[0], found[1]
    return (
        Circle((left.u + 0.5) * scale - 0.5, (left.v + 0.5) * scale - 0.5, left.radius * scale),
        Circle((right.u + half + 0.5) * scale - 0.5, (right.v + 0.5) * scale - 0.5, right.radius * scale),
    )


def _circle(grey: Array) -> Circle | None:
    """The circle in one half, by least squares through the ends of its rows and columns."""
    lit = cv2.morphologyEx((grey >= _LIT).astype(np.uint8), cv2.MORPH_CLOSE, np.ones((7, 7)))
    count, labels, stats, _middles = cv2.connectedComponentsWithStats(lit)
    if count < 2:
        return None
    best = 1 + int(stats[1:, cv2.CC_STAT_AREA].argmax())
    inside = labels == best
    rim = []
    for lines, turned in ((inside, False), (inside.T, True)):
        for at in range(len(lines)):
            ends = np.flatnonzero(lines[at])
            if len(ends):
                # what is cut off by the file's edge is no rim
                rim += [(e, at) if not turned else (at, e) for e in (ends[0], ends[-1]) if 1 < e < lines.shape[1] - 2]
    if len(rim) < 40:
        return None
    points = np.array(rim, float)
    for _ in range(4):
        # (x^2 + y^2) = 2 a x + 2 b y + c
        terms = np.column_stack([2 * points, np.ones(len(points))])
        (a, b, c), *_ = np.linalg.lstsq(terms, (points**2).sum(1), rcond=None)
        radius = float(np.sqrt(max(c + a * a + b * b, 0.0)))
        off = np.abs(np.hypot(points[:, 0] - a, points[:, 1] - b) - radius)
        points = points[off <= max(1.0, float(np.quantile(off, 0.85)))]
    height = grey.shape[0]
    if not _RADIUS[0] <= radius / (height / 2) <= _RADIUS[1]:
        return None
    v, u = np.mgrid[: grey.shape[0], : grey.shape[1]]
    away = np.hypot(u - a, v - b)
    filled, outside = inside[away < 0.95 * radius].mean(), inside[away > 1.04 * radius]
    if filled < _FILLED or (outside.size and outside.mean() > _EMPTY):
        return None
    return Circle(float(a), float(b), radius)


def split(path: Path, circles: tuple[Circle, Circle], folder: Path) -> tuple[Path, Path]:
    """Write each circle, in the middle of a frame of its own, into a folder; made before, they are taken up.

    Raises
    ------
    UnreadableFrame
        The file cannot be read.
    InputError
        The folder cannot be written.
    """
    make_folder(folder)
    name = sha256_of(path)[:16]
    targets = folder / f"{path.stem}-{name}-left.tif", folder / f"{path.stem}-{name}-right.tif"
    if all(t.exists() for t in targets):
        return targets
    picture = read(path)
    reach = max(c.radius for c in circles) * 1.02
    for circle, target in zip(circles, targets):
        # whole pixels are moved, so that nothing is sampled anew: an even side has its middle between two of them
        (left, width), (top, height) = (_side(middle, reach) for middle in (circle.u, circle.v))
        made = np.zeros((height, width, 3), picture.pixels.dtype)
        rows = slice(max(0, top), min(picture.height, top + height))
        columns = slice(max(0, left), min(picture.width, left + width))
        made[rows.start - top : rows.stop - top, columns.start - left : columns.stop - left] = picture.pixels[
            rows, columns
        ]
        other = circles[1] if circle is circles[0] else circles[0]
        v, u = np.mgrid[top : top + height, left : left + width]
        made[np.hypot(u - circle.u, v - circle.v) > np.hypot(u - other.u, v - other.v)] = (
            0  # nothing of the other circle
        )
        with replacing(target) as part:
            tifffile.imwrite(
                part,
                made,
                photometric="rgb",
                compression="zlib",
                predictor=True,
                iccprofile=picture.space.icc,
                metadata=None,
            )
    return targets


def _side(middle: float, reach: float) -> tuple[int, int]:
    """First pixel and length of a side whose middle is within a quarter of a pixel of ``middle``."""
    half = round(2 * middle)  # in half pixels
    length = 2 * int(np.ceil(reach)) + (2 if half % 2 else 1)
    return (half - (length - 1)) // 2, length
