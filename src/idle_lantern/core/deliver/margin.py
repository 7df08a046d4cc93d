"""A margin below a picture that tells what of it was invented: where, how much, in words and hatched on a small picture."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from importlib import resources
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw, ImageFont

from idle_lantern.core.deliver.nadir_patch import NadirCovered
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.source import PictureSource, reduced, region

Array = NDArray[Any]

#: Height of the margin as a share of the picture's, at least so many pixels; space round what stands in it.
_SHARE, _LEAST_PX, _SPACE = 0.06, 72, 0.12
_PAPER, _INK, _HATCH = 244, 24, 8


class WithMargin:
    """A part of a picture with a margin below it, as a picture of its own (its full level only)."""

    def __init__(self, source: PictureSource, box: Rectangle, margin: Array) -> None:
        self._source, self._box = source, box
        self._margin = margin
        self.sizes: tuple[tuple[int, int], ...] = ((box.width, box.height + len(margin)),)
        self.tile_px, self.icc, self.encoding = source.tile_px, source.icc, source.encoding

    def tile(self, level: int, row: int, column: int) -> Array:
        """One tile, of the picture above and of the margin below."""
        side, (width, height) = self.tile_px, self.sizes[0]
        top, left = row * side, column * side
        bottom, right = min(top + side, height), min(left + side, width)
        parts = []
        if top < self._box.height:
            end = min(bottom, self._box.height)
            part = Rectangle(self._box.left + left, self._box.top + top, right - left, end - top)
            parts.append(region(self._source, part))
        if bottom > self._box.height:
            start = max(top, self._box.height) - self._box.height
            below = self._margin[start : bottom - self._box.height, left:right]
            like = parts[0] if parts else self._source.tile(0, 0, 0)
            below = below.astype(like.dtype) * (257 if like.dtype == np.uint16 else 1)
            if like.shape[2] == 4:
                full = np.full((*below.shape[:2], 1), np.iinfo(like.dtype).max, like.dtype)
                below = np.concatenate([below, full], -1)
            parts.append(below)
        return parts[0] if len(parts) == 1 else np.concatenate(parts)


def invented_in(suspects: Iterable[Mapping[str, Any]], kept: Rectangle) -> tuple[tuple[Rectangle, ...], float]:
    """What of a part of a picture was invented at its rim, in pixels of the whole, and its share of the part; ``suspects`` are those of
    the join's report."""
    areas, share = [], 0.0
    for row in suspects:
        if row["kind"] == "invented":
            left, top = round(row["u"] - row["width"] / 2), round(row["v"] - row["height"] / 2)
            area = Rectangle(left, top, round(row["width"]), round(row["height"]))
            part = share_within(area, 1e6 * float(row["figure"]), kept)
            if part > 0:
                areas.append(area)
                share += part
    return tuple(areas), min(1.0, share)


def share_within(area: Rectangle, pixels: float, kept: Rectangle) -> float:
    """Share of a crop that so many pixels of an area take up; of one that it cuts, as much as it leaves of its rectangle."""
    across = min(area.left + area.width, kept.left + kept.width) - max(area.left, kept.left)
    down = min(area.top + area.height, kept.top + kept.height) - max(area.top, kept.top)
    if across <= 0 or down <= 0:
        return 0.0
    return pixels * across * down / area.area / (kept.width * kept.height)


def told_below(
    picture: PictureSource, box: Rectangle, areas: Sequence[Rectangle], share: float
) -> tuple[PictureSource, Rectangle]:
    """A part of a picture with the margin that tells what of it is invented, a cover of its nadir included, and what of that is
    written; as it was where nothing is."""
    if isinstance(picture, NadirCovered):
        about, pixels = picture.covers()
        areas, share = (*areas, about), min(1.0, share + share_within(about, pixels, box))
    if not areas:
        return picture, box
    whole = WithMargin(picture, box, margin_of(picture, box, areas, share))
    return whole, Rectangle(0, 0, *whole.sizes[0])


def margin_of(source: PictureSource, box: Rectangle, invented: Sequence[Rectangle], share: float) -> Array:
    """The margin (h, width, 3) uint8 of a part of a picture; ``invented`` in pixels of the whole picture, ``share`` of the part."""
    high = max(_LEAST_PX, round(_SHARE * box.height))
    space = round(_SPACE * high)
    small = _small(source, box, high - 2 * space, box.width - 2 * space)
    for area in invented:
        _hatch(small, area, box)
    margin = np.full((high, box.width, 3), _PAPER, np.uint8)
    margin[space : space + small.shape[0], space : space + small.shape[1]] = small
    page = Image.fromarray(margin)
    left = 2 * space + small.shape[1]
    percent = f"{100 * share:.1f}" if share >= 0.001 else "under 0.1"
    words = f"{percent} % of this picture is invented: hatched in the small one. The rest is as it was photographed."
    _write(ImageDraw.Draw(page), words, (left, space, box.width - left - space, high - 2 * space))
    return np.asarray(page)


def _small(source: PictureSource, box: Rectangle, high: int, wide: int) -> Array:
    """The part in 8 bit, no larger than that."""
    whole = reduced(source, 2000)
    scale = whole.shape[1] / source.sizes[0][0]
    top, left = round(box.top * scale), round(box.left * scale)
    part = whole[top : top + max(1, round(box.height * scale)), left : left + max(1, round(box.width * scale)), :3]
    if part.dtype == np.uint16:
        part = (part >> 8).astype(np.uint8)
    fit = min(high / part.shape[0], wide / 2 / part.shape[1])
    size = max(1, round(part.shape[1] * fit)), max(1, round(part.shape[0] * fit))
    return np.ascontiguousarray(cv2.resize(part, size, interpolation=cv2.INTER_AREA))


def _hatch(small: Array, area: Rectangle, box: Rectangle) -> None:
    """Hatch an area of the picture on the small one, light and dark, so that it shows on any ground."""
    fx, fy = small.shape[1] / box.width, small.shape[0] / box.height
    x0, x1 = (round(min(max((x - box.left) * fx, 0), small.shape[1])) for x in (area.left, area.left + area.width))
    y0, y1 = (round(min(max((y - box.top) * fy, 0), small.shape[0])) for y in (area.top, area.top + area.height))
    rows, columns = np.mgrid[y0:y1, x0:x1]
    stripe = (rows + columns) % _HATCH
    part = small[y0:y1, x0:x1]
    part[stripe < 2] = _INK
    part[(stripe >= 2) & (stripe < 4)] = _PAPER


def _write(draw: ImageDraw.ImageDraw, words: str, room: tuple[int, int, int, int]) -> None:
    """Words in a box (left, top, width, height), as large as fits in it."""
    left, top, width, height = room
    with resources.as_file(resources.files("idle_lantern") / "fonts" / "B612-Regular.otf") as file:
        for size in range(max(8, height // 2), 7, -1):
            font = ImageFont.truetype(str(file), size)
            lines = _broken(draw, words, font, width)
            if lines and len(lines) * size * 1.3 <= height:
                for k, line in enumerate(lines):
                    draw.text((left, top + k * size * 1.3), line, fill=(_INK,) * 3, font=font)
                return


def _broken(draw: ImageDraw.ImageDraw, words: str, font: ImageFont.FreeTypeFont, width: int) -> list[str]:
    """Words in lines no wider than that; empty where a word alone is wider."""
    lines: list[str] = []
    for word in words.split():
        longer = f"{lines[-1]} {word}" if lines else word
        if lines and draw.textlength(longer, font) <= width:
            lines[-1] = longer
        elif draw.textlength(word, font) <= width:
            lines.append(word)
        else:
            return []
    return lines
