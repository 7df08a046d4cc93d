"""A test strip: the most demanding places of a print beside each other, each as large as it will be in the print."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.deliver.demanding import DemandingPlace, demanding_places
from idle_lantern.core.deliver.job import OnPaper
from idle_lantern.core.deliver.papers import paper_named
from idle_lantern.core.deliver.print_layout import INCH_MM, Box, PrintLayout, Sheet
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.source import TILE, PictureSource, region

#: Rim of the strip, what lies between its parts, and room for words below them, millimetres.
_RIM_MM, _GAP_MM, _WORDS_MM = 10.0, 4.0, 9.0
#: A part is a third of the print's shorter side high, within these limits, and a little wider; words ask for so much width.
_LEAST_MM, _HIGH_MM, _WIDER, _NARROW_MM = 25.0, 60.0, 1.2, 50.0
#: So many parts where there is room.
_MOST = 5
#: A strip of a paper that is cut to the picture is printed on this one.
_USUAL = "A4"


class StripPicture:
    """Parts of a printed picture beside each other, ``apart`` pixels between them; nothing is shown there."""

    def __init__(self, picture: PictureSource, parts: tuple[Rectangle, ...], apart: int) -> None:
        self._picture, self._parts, self._apart = picture, parts, apart
        width = sum(part.width for part in parts) + apart * (len(parts) - 1)
        self.sizes: tuple[tuple[int, int], ...] = ((width, max(part.height for part in parts)),)
        self.tile_px, self.space = TILE, picture.space

    def tile(self, level: int, row: int, column: int) -> Array:
        """One tile (h, w, 4); raises as the picture."""
        width, height = self.sizes[0]
        left, top = column * TILE, row * TILE
        wide, high = min(TILE, width - left), min(TILE, height - top)
        like = region(self._picture, Rectangle(0, 0, 1, 1))
        full = 1 if like.dtype.kind == "f" else np.iinfo(like.dtype).max
        made = np.zeros((high, wide, 4), like.dtype)
        x = 0
        for part in self._parts:
            x0, x1 = max(left, x), min(left + wide, x + part.width)
            rows = min(high, part.height - top)
            if x1 > x0 and rows > 0:
                seen = region(self._picture, Rectangle(part.left + x0 - x, part.top + top, x1 - x0, rows))
                target = made[:rows, x0 - left : x1 - left]
                target[..., 3] = full
                target[..., : seen.shape[2]] = seen
            x += part.width + self._apart
        return made


@dataclass(frozen=True)
class Strip:
    """A strip to be printed: its picture, how it lies on its sheet, and the places that it shows."""

    picture: StripPicture
    layout: PrintLayout
    places: tuple[DemandingPlace, ...]


def strip_of(printed: PictureSource, small: PictureSource, layout: PrintLayout, on: OnPaper) -> Strip:
    """The strip of a print: ``printed`` is the picture as large as ``layout`` prints it, ``small`` the same with ``SOUGHT_PX``.

    Raises
    ------
    InputError
        The paper is too small for one.
    """
    paper = paper_named(_USUAL if on.paper == "own" else on.paper)
    width = paper.long_mm or paper.short_mm
    inner = width - 2 * _RIM_MM
    count = min(_MOST, int((inner + _GAP_MM) / (_NARROW_MM + _GAP_MM)))
    if count < 1:
        raise InputError(f"{paper.name} is too small for a test strip", remedy="Take a larger paper")
    high = max(_LEAST_MM, min(_HIGH_MM, layout.width_mm / 3, layout.height_mm / 3))
    if paper.long_mm:
        high = min(high, paper.short_mm - 2 * _RIM_MM - _WORDS_MM)
    per_mm = layout.dpi / INCH_MM
    wide = min((inner - (count - 1) * _GAP_MM) / count, max(_NARROW_MM, _WIDER * high))
    places = demanding_places(printed, small, (round(wide * per_mm), round(high * per_mm)), count)
    if not places:
        raise InputError("The picture shows nothing that a strip could test", remedy="Print the picture itself")
    apart = round(_GAP_MM * per_mm)
    picture = StripPicture(printed, tuple(place.part for place in places), apart)
    w_px, h_px = picture.sizes[0]
    box = Box(_RIM_MM, _RIM_MM, w_px / per_mm, h_px / per_mm)
    page = width, paper.short_mm if paper.long_mm else h_px / per_mm + 2 * _RIM_MM + _WORDS_MM
    below, x, said = _RIM_MM + h_px / per_mm + 3.0, _RIM_MM, []
    for place in places:
        title, _, question = place.look_for.partition(": ")
        said += [(x, below, title), (x, below + 3.0, question[:1].upper() + question[1:])]
        x += (place.part.width + apart) / per_mm
    size = f"Parts of a print of {layout.width_mm:.0f} x {layout.height_mm:.0f} mm, as large as they will be there"
    said.append((_RIM_MM, _RIM_MM - 2.5, f"{size}; {layout.dpi:.0f} dots an inch"))
    sheet = Sheet(*page, Box(0, 0, *page), box, Rectangle(0, 0, w_px, h_px), said=tuple(said))
    return Strip(picture, PrintLayout(box.width, box.height, (w_px, h_px), 0, (sheet,)), places)
