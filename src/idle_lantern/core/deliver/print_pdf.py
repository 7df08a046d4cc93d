"""Prints as PDF: pages of true size with the colour profile inside (ISO 32000-1: 8.6.5.5 for colours, 14.11.2 for the boxes of a page)."""

from __future__ import annotations

import tempfile
from io import BytesIO
from pathlib import Path

import numpy as np
import pikepdf

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.atomic import replacing
from idle_lantern.core.base.progress import SILENT, OnlyStops, Progress
from idle_lantern.core.base.runners import Runner
from idle_lantern.core.colour.profiles import profile_of
from idle_lantern.core.deliver.print_layout import Box, PrintLayout, Sheet
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write_part
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.operations import CroppedPicture
from idle_lantern.core.pictures.source import TILE, PictureSource, region

_POINTS_PER_MM = 72 / 25.4
_WORDS_PT, _LINE_PT = 7, 0.35


class OnPaperPicture:
    """A picture as ink sees it: white where it shows nothing, and mirrored beyond its rim by ``beyond_px``."""

    def __init__(self, source: PictureSource, beyond_px: int = 0) -> None:
        self._source, self._beyond = source, beyond_px
        width, height = source.sizes[0]
        self.sizes: tuple[tuple[int, int], ...] = ((width + 2 * beyond_px, height + 2 * beyond_px),)
        self.tile_px, self.space = TILE, source.space

    def tile(self, level: int, row: int, column: int) -> Array:
        """One tile (h, w, 3); raises as the source."""
        (width, height), full = self._source.sizes[0], self.sizes[0]
        x = _mirrored(np.arange(column * TILE, min(column * TILE + TILE, full[0])) - self._beyond, width)
        y = _mirrored(np.arange(row * TILE, min(row * TILE + TILE, full[1])) - self._beyond, height)
        left, top = int(x.min()), int(y.min())
        box = Rectangle(left, top, int(x.max()) - left + 1, int(y.max()) - top + 1)
        pixels = region(self._source, box)
        made = np.ascontiguousarray(pixels[y - top][:, x - left])
        if made.shape[2] == 3:
            return made
        white = 1 if made.dtype.kind == "f" else np.iinfo(made.dtype).max
        return np.where(made[..., 3:] == 0, np.asarray(white, made.dtype), made[..., :3])


def _mirrored(at: Array, count: int) -> Array:
    """Places along a side of so many pixels, those beyond its ends mirrored there, as often as need be."""
    turn = np.mod(at, 2 * count)
    return np.where(turn < count, turn, 2 * count - 1 - turn)


def write_print(
    source: PictureSource,
    layout: PrintLayout,
    target: Path,
    options: WriteOptions,
    *,
    title: str = "",
    progress: Progress = SILENT,
    runner: Runner | None = None,
) -> Path:
    """Write the sheets of a layout; ``source`` is as large as the layout prints it. Returns ``target``.

    Raises
    ------
    InputError
        It cannot be written; nothing is left half-written.
    Cancelled
        Stopped; nothing is left.
    """
    printed = OnPaperPicture(source, layout.beyond_px)
    progress.begin("write", len(layout.sheets))
    with pikepdf.new() as pdf, replacing(target) as part:
        profile = pikepdf.Stream(pdf, profile_of(source.space))
        profile.N = 3
        colours = pikepdf.Array([pikepdf.Name.ICCBased, pdf.make_indirect(profile)])
        for sheet in layout.sheets:
            image = pikepdf.Stream(
                pdf, _packed(CroppedPicture(printed, sheet.part), options, part.parent, progress, runner)
            )
            image.Type, image.Subtype, image.Filter = (
                pikepdf.Name.XObject,
                pikepdf.Name.Image,
                pikepdf.Name.DCTDecode,
            )
            image.Width, image.Height, image.BitsPerComponent = sheet.part.width, sheet.part.height, 8
            image.ColorSpace = colours
            _add_page(pdf, sheet, pdf.make_indirect(image))
            progress.advance()
        with pdf.open_metadata() as told:
            told["dc:title"] = title or target.stem
            told["xmp:CreatorTool"] = "Idle Lantern"
        pdf.save(part, min_version="1.6")
    return target


def _packed(
    picture: PictureSource, options: WriteOptions, folder: Path, progress: Progress, runner: Runner | None
) -> bytes:
    """A JPEG of the picture."""
    with tempfile.TemporaryDirectory(dir=folder) as scratch:
        file = Path(scratch) / "sheet.jpg"
        write_part(picture, file, options, OnlyStops(progress), runner)
        return file.read_bytes()


def _add_page(pdf: pikepdf.Pdf, sheet: Sheet, image: pikepdf.Object) -> None:
    width, height = sheet.width_mm * _POINTS_PER_MM, sheet.height_mm * _POINTS_PER_MM

    def flipped(box: Box) -> list[float]:
        """Left, lower, right and upper bound in points: PDF counts from below."""
        left, top = box.left * _POINTS_PER_MM, height - box.top * _POINTS_PER_MM
        return [left, top - box.height * _POINTS_PER_MM, left + box.width * _POINTS_PER_MM, top]

    x, y, right, top = flipped(sheet.picture)
    drawn = BytesIO()
    drawn.write(f"q {right - x:.5f} 0 0 {top - y:.5f} {x:.5f} {y:.5f} cm /Picture Do Q\n".encode())
    drawn.write(f"{_LINE_PT} w 0 G\n".encode())
    for x0, y0, x1, y1 in sheet.cuts:
        a, b, c, d = (v * _POINTS_PER_MM for v in (x0, y0, x1, y1))
        drawn.write(f"{a:.3f} {height - b:.3f} m {c:.3f} {height - d:.3f} l S\n".encode())
    said = [(x + 4, 4.0, sheet.words)] if sheet.words else []
    said += [(a * _POINTS_PER_MM, height - b * _POINTS_PER_MM, text) for a, b, text in sheet.said]
    for at, up, text in said:
        words = text.replace("(", "[").replace(")", "]")
        drawn.write(f"BT /Words {_WORDS_PT} Tf {at:.2f} {up:.2f} Td ({words}) Tj ET\n".encode("latin-1", "replace"))
    page = pdf.add_blank_page(page_size=(width, height))
    page.Contents = pikepdf.Stream(pdf, drawn.getvalue())
    font = pikepdf.Dictionary(Type=pikepdf.Name.Font, Subtype=pikepdf.Name.Type1, BaseFont=pikepdf.Name.Helvetica)
    page.Resources = pikepdf.Dictionary(XObject=pikepdf.Dictionary(Picture=image), Font=pikepdf.Dictionary(Words=font))
    page.TrimBox = pikepdf.Array(flipped(sheet.trim))
    inked = flipped(sheet.picture)
    trim = flipped(sheet.trim)
    page.BleedBox = pikepdf.Array(
        [min(inked[0], trim[0]), min(inked[1], trim[1]), max(inked[2], trim[2]), max(inked[3], trim[3])]
    )
