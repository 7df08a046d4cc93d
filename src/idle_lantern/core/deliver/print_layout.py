"""How a picture lies on paper: its true size, and for each sheet what of it is printed where, with marks to cut along."""

from __future__ import annotations

import math
from dataclasses import dataclass

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.deliver.job import OnPaper
from idle_lantern.core.deliver.papers import Paper, paper_named
from idle_lantern.core.geometry.rectangles import Rectangle

INCH_MM = 25.4
#: Room beyond what is cut away, for marks, and how near they come to the cut.
_MARKS_MM, _MARK_GAP_MM = 8.0, 3.0
#: How much of a paper a picture may leave at its sides and still be taken to fill it.
_FILLS_MM = 0.5
_MOST_SHEETS = 400


@dataclass(frozen=True)
class Box:
    """A rectangle on a page, in millimetres from its upper left corner."""

    left: float
    top: float
    width: float
    height: float


@dataclass(frozen=True)
class Sheet:
    """A page: ``part`` of the printed picture, in its pixels, lies at ``picture``; it is cut to ``trim``.

    ``cuts`` are marks (x0, y0, x1, y1) in millimetres, ``words`` what stands in its margin, ``said`` other words and where they begin.
    """

    width_mm: float
    height_mm: float
    trim: Box
    picture: Box
    part: Rectangle
    cuts: tuple[tuple[float, float, float, float], ...] = ()
    words: str = ""
    said: tuple[tuple[float, float, str], ...] = ()


@dataclass(frozen=True)
class PrintLayout:
    """A picture of ``width_mm`` by ``height_mm``, printed from ``size_px``, mirrored beyond its rim by ``beyond_px``; sheets row by row."""

    width_mm: float
    height_mm: float
    size_px: tuple[int, int]
    beyond_px: int
    sheets: tuple[Sheet, ...]
    rows: int = 1
    columns: int = 1

    @property
    def dpi(self) -> float:
        """Pixels that are printed on an inch."""
        return self.size_px[0] / self.width_mm * INCH_MM


def laid_out(size_px: tuple[int, int], dpi: float, on: OnPaper) -> PrintLayout:
    """Lay a picture of that size on paper, with at most ``dpi`` pixels an inch.

    Raises
    ------
    InputError
        It does not fit, or what is asked for does not go together.
    """
    paper = paper_named(on.paper)
    if on.bleed_mm and on.border_mm:
        raise InputError("A print with a border needs no bleed", remedy="Set the border or the bleed to 0")
    if on.sheets:
        return _on_sheets(size_px, dpi, on, paper)
    width, height = _size_mm(size_px, dpi, on, paper)
    border, wrap, bleed = on.border_mm, on.wrap_mm, on.bleed_mm
    trim_w, trim_h = width + 2 * (wrap + border), height + 2 * (wrap + border)
    if paper.long_mm is not None:
        page = _turned(paper, landscape=size_px[0] >= size_px[1])
        if bleed and max(page[0] - trim_w, page[1] - trim_h) > _FILLS_MM:
            raise InputError(
                f"The picture does not fill {paper.name}, so nothing is cut at its rim",
                remedy="Set the bleed to 0, or take a paper of the picture's shape (own)",
            )
        trim_w, trim_h = page
    elif paper.is_roll:
        trim_w, trim_h = (trim_w, paper.short_mm) if width >= height else (paper.short_mm, trim_h)
    marks = _MARKS_MM if bleed or wrap else 0.0
    around = bleed + marks
    trim = Box(around, around, trim_w, trim_h)
    pixels = _pixels(size_px, width, dpi)
    beyond = round((wrap + bleed) * pixels[0] / width)
    beyond_mm = beyond * width / pixels[0]
    left = trim.left + (trim_w - width) / 2 - beyond_mm
    top = trim.top + (trim_h - height) / 2 - beyond_mm
    whole = Rectangle(0, 0, pixels[0] + 2 * beyond, pixels[1] + 2 * beyond)
    picture = Box(left, top, width + 2 * beyond_mm, height + 2 * beyond_mm)
    cuts = _corners(trim, max(bleed, _MARK_GAP_MM), marks) if marks else ()
    folds = _folds(trim, wrap, marks + bleed) if wrap else ()
    sheet = Sheet(trim_w + 2 * around, trim_h + 2 * around, trim, picture, whole, cuts + folds)
    return PrintLayout(width, height, pixels, beyond, (sheet,))


def _size_mm(size_px: tuple[int, int], dpi: float, on: OnPaper, paper: Paper) -> tuple[float, float]:
    """How large the picture is printed on one piece of paper."""
    ratio, rim = size_px[0] / size_px[1], 2 * (on.border_mm + on.wrap_mm)
    width = on.width_mm
    if width is None and paper.is_own:
        width = size_px[0] / dpi * INCH_MM
    if width is None and paper.is_roll:
        across = paper.short_mm - rim
        width = across * ratio if ratio >= 1 else across
    if width is None:
        page = _turned(paper, landscape=ratio >= 1)
        width = min(page[0] - rim, (page[1] - rim) * ratio)
    if width <= 0:
        raise InputError(f"Border and wrap leave nothing of {paper.name}", remedy="Make them narrower")
    height = width / ratio
    room: tuple[float, float] | None = None
    if paper.is_roll:
        room = (math.inf, paper.short_mm - rim) if ratio >= 1 else (paper.short_mm - rim, math.inf)
    elif not paper.is_own:
        page = _turned(paper, landscape=ratio >= 1)
        room = page[0] - rim, page[1] - rim
    if room is not None and (width > room[0] + 0.01 or height > room[1] + 0.01):
        raise InputError(
            f"A print of {width:.0f} x {height:.0f} mm does not fit on {paper.name}",
            remedy="Take a larger paper, or print on several sheets",
        )
    return width, height


def _turned(paper: Paper, *, landscape: bool) -> tuple[float, float]:
    assert paper.long_mm is not None
    return (paper.long_mm, paper.short_mm) if landscape else (paper.short_mm, paper.long_mm)


def _pixels(size_px: tuple[int, int], width_mm: float, dpi: float) -> tuple[int, int]:
    """The picture's size in pixels as it is printed: no more than ``dpi``."""
    wanted = width_mm / INCH_MM * dpi
    if wanted >= size_px[0]:
        return size_px
    return max(1, round(wanted)), max(1, round(wanted * size_px[1] / size_px[0]))


def _on_sheets(size_px: tuple[int, int], dpi: float, on: OnPaper, paper: Paper) -> PrintLayout:
    if paper.is_own:
        raise InputError("Sheets need a paper", remedy="Give one, such as A3 or roll:610")
    if on.bleed_mm or on.wrap_mm:
        raise InputError("Bleed and wrap are for one piece of paper", remedy="Leave them, or print on one piece")
    width = on.width_mm if on.width_mm is not None else size_px[0] / dpi * INCH_MM
    height = width * size_px[1] / size_px[0]
    rim = 2 * on.border_mm
    pages = (
        [(paper.short_mm, height + rim)]
        if paper.is_roll
        else [_turned(paper, landscape=True), _turned(paper, landscape=False)]
    )
    best = min((_counts(width, height, page, on, paper), page) for page in pages)
    (count, rows, columns), page = best
    if count > _MOST_SHEETS:
        raise InputError(f"That would be {count} sheets", remedy="Print it smaller, or on larger paper")
    pixels = _pixels(size_px, width, dpi)
    per_mm = pixels[0] / width
    area, step = (page[0] - rim, page[1] - rim), (page[0] - rim - on.overlap_mm, page[1] - rim - on.overlap_mm)
    sheets = []
    for row in range(rows):
        for column in range(columns):
            x0, y0 = column * step[0], row * step[1]
            x1, y1 = min(x0 + area[0], width), min(y0 + area[1], height)
            left, top = math.floor(x0 * per_mm), math.floor(y0 * per_mm)
            right, bottom = min(pixels[0], math.ceil(x1 * per_mm)), min(pixels[1], math.ceil(y1 * per_mm))
            part = Rectangle(left, top, right - left, bottom - top)
            at = Box(
                on.border_mm + left / per_mm - x0,
                on.border_mm + top / per_mm - y0,
                part.width / per_mm,
                part.height / per_mm,
            )
            cuts = _joints(page, (x1 - x0, y1 - y0), on, (column, columns), (row, rows))
            words = f"Row {row + 1} of {rows}, column {column + 1} of {columns}"
            if rows * columns > 1:
                words += f"; cut at the marks, neighbours overlap by {on.overlap_mm:g} mm"
            sheets.append(Sheet(*page, Box(0, 0, *page), at, part, cuts, words if on.border_mm >= 4 else ""))
    return PrintLayout(width, height, pixels, 0, tuple(sheets), rows, columns)


def _counts(width: float, height: float, page: tuple[float, float], on: OnPaper, paper: Paper) -> tuple[int, int, int]:
    """Sheets, rows and columns that a print takes."""
    counts = []
    for side, room in ((height, page[1]), (width, page[0])):
        area = room - 2 * on.border_mm
        if area - on.overlap_mm < 10:
            raise InputError(f"Border and overlap leave nothing of {paper.name}", remedy="Make them narrower")
        counts.append(max(1, math.ceil((side - on.overlap_mm) / (area - on.overlap_mm) - 1e-9)))
    return counts[0] * counts[1], counts[0], counts[1]


Marks = tuple[tuple[float, float, float, float], ...]


def _corners(trim: Box, gap: float, length: float) -> Marks:
    """Marks at the corners of what is cut out, beyond the bleed."""
    marks = []
    for x, aside in ((trim.left, -1), (trim.left + trim.width, 1)):
        for y, above in ((trim.top, -1), (trim.top + trim.height, 1)):
            marks.append((x + aside * gap, y, x + aside * (gap + length - 2), y))
            marks.append((x, y + above * gap, x, y + above * (gap + length - 2)))
    return tuple(marks)


def _folds(trim: Box, wrap: float, around: float) -> Marks:
    """Ticks where the picture goes round the edge of its frame."""
    marks = []
    for x in (trim.left + wrap, trim.left + trim.width - wrap):
        marks += [(x, 1.0, x, around - 2), (x, trim.top + trim.height + 2, x, trim.top + trim.height + around - 1)]
    for y in (trim.top + wrap, trim.top + trim.height - wrap):
        marks += [(1.0, y, around - 2, y), (trim.left + trim.width + 2, y, trim.left + trim.width + around - 1, y)]
    return tuple(marks)


def _joints(
    page: tuple[float, float],
    shown: tuple[float, float],
    on: OnPaper,
    column: tuple[int, int],
    row: tuple[int, int],
) -> Marks:
    """Marks in the margin where a sheet is cut so that it meets its neighbours: in the middle of what both show, and at the rim of the picture."""
    border, half = on.border_mm, on.overlap_mm / 2
    if border < 2:
        return ()
    length = min(border - 1, 6.0)
    across = (border + (half if column[0] else 0), border + shown[0] - (half if column[0] + 1 < column[1] else 0))
    down = (border + (half if row[0] else 0), border + shown[1] - (half if row[0] + 1 < row[1] else 0))
    marks = []
    for x in across:
        marks += [(x, border - length, x, border - 0.5), (x, border + shown[1] + 0.5, x, border + shown[1] + length)]
    for y in down:
        marks += [(border - length, y, border - 0.5, y), (border + shown[0] + 0.5, y, border + shown[0] + length, y)]
    return tuple((min(a, page[0]), min(b, page[1]), min(c, page[0]), min(d, page[1])) for a, b, c, d in marks)
