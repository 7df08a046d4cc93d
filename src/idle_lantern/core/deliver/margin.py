"""A margin below a picture that tells what of it was invented: where, how much, in words and hatched on a small picture."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from importlib import resources

import cv2
import numpy as np
from PIL import Image, ImageDraw, ImageFont

from idle_lantern.core.base.arrays import Array, Float32Image
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.operations import Operation, TilePlace
from idle_lantern.core.pictures.source import PictureSource, reduced

_SHARE = 0.06  # height of the margin, of the picture's
_LEAST_PX = 72  # but at least so high
_SPACE = 0.12  # round what stands in it, of its height
#: Display values of 255.
_PAPER = 244
_INK = 24
_HATCH = 8  # width of a stroke in pixels


class InventedMargin(Operation):
    """A picture made higher by a margin (h, w, 3) uint8 of its width below it."""

    name = "tell-invented"

    def __init__(self, margin: Array) -> None:
        self._margin = margin

    @property
    def key(self) -> str:
        """What stands in the margin."""
        return f"{self.name} {hashlib.sha256(self._margin.tobytes()).hexdigest()}"

    def size(self, size: tuple[int, int]) -> tuple[int, int]:
        """As wide, and so much higher."""
        return size[0], size[1] + len(self._margin)

    def touches(self, at: TilePlace) -> bool:
        """Only what reaches below the picture."""
        return at.box.top + at.box.height > at.full[1] - len(self._margin)

    def apply(self, tile: Float32Image, at: TilePlace) -> Float32Image:
        """The margin where the picture ends."""
        box, end = at.box, at.full[1] - len(self._margin)
        start = max(box.top, end)
        tile = tile.copy()
        part = self._margin[start - end : box.top + box.height - end, box.left : box.left + box.width]
        tile[start - box.top :, :, :3] = part.astype(np.float32) / 255
        tile[start - box.top :, :, 3] = 1
        return tile


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
