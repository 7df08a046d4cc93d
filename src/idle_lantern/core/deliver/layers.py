"""Layers to go on with by hand: the picture and each frame by itself, as an OpenRaster file or a TIFF of several pages.

OpenRaster as published (baseline intent 0.0.6): a zip that begins with its kind, pictures as PNG, a stack in XML, the picture as it
looks, and a thumbnail. In the TIFF each page has its name and its place (TIFF 6.0: PageName, XPosition, YPosition).
"""

from __future__ import annotations

import io
import tempfile
import zipfile
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, Protocol
from xml.etree import ElementTree

import numpy as np
import tifffile
from PIL import Image

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.atomic import replacing
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.progress import SILENT, OnlyStops, Progress
from idle_lantern.core.colour.convert import converted, eight_bit
from idle_lantern.core.colour.profiles import profile_of
from idle_lantern.core.colour.space import ColourSpace
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write_part
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.source import PictureSource, reduced, region

_ORA = "0.0.6"
_THUMBNAIL_PX = 256
#: The picture lies in memory while its layers are written: so many pixels take some 1.2 GB with a frame beside them.
MOST_PX = 250_000_000
_PAGE_NAME, _X_POSITION, _Y_POSITION = 285, 286, 287


@dataclass(frozen=True)
class Drawn:
    """A layer: ``pixels`` (h, w, 4) uint8 in ``space`` lie with their upper left corner at ``left``, ``top``; ``shown`` (h, w) tells how
    much of it the picture shows, 0 to 255."""

    left: int
    top: int
    pixels: Array
    shown: Array
    space: ColourSpace


class FrameLayer(Protocol):
    """A frame that can be drawn where it lies on the picture."""

    @property
    def name(self) -> str:
        """As people know it."""

    def drawn(self) -> Drawn | None:
        """The frame on the picture, None where it shows nothing; raises InputError where its file is gone."""


@dataclass(frozen=True)
class _Layer:
    name: str
    left: int
    top: int
    pixels: Array
    visible: bool


def write_layers(
    source: PictureSource,
    box: Rectangle,
    frames: Sequence[FrameLayer],
    target: Path,
    options: WriteOptions,
    progress: Progress = SILENT,
) -> Path:
    """Write the picture (already cut to ``box``) and over it, hidden, each frame twice: what the picture shows of it, and all of it.

    Raises
    ------
    InputError
        It is too large, it cannot be written, or a frame is gone; nothing is left half-written.
    Cancelled
        Stopped; nothing is left.
    """
    width, height = source.sizes[0]
    if width * height > MOST_PX:
        raise InputError(
            f"Layers hold at most {MOST_PX // 1_000_000} MP, and this picture has {width * height / 1e6:.0f} MP",
            where=str(target),
            remedy="Make it smaller (longer side), or write TIFF",
        )
    progress.begin("write", 2 + len(frames))
    with replacing(target) as part:
        layers = _layers(source, box, frames, progress)
        if target.suffix.lower() == ".ora":
            _write_ora(source, layers, part, options, progress)
        else:
            _write_tiff(source, layers, part, options)
    return target


def _layers(
    source: PictureSource, box: Rectangle, frames: Sequence[FrameLayer], progress: Progress
) -> Iterator[_Layer]:
    """From below: the picture, then the frames."""
    width, height = source.sizes[0]
    yield _Layer("Joined picture", 0, 0, eight_bit(region(source, Rectangle(0, 0, width, height))), visible=True)
    progress.advance()
    for frame in frames:
        drawn = frame.drawn()
        cut = None if drawn is None else _within(drawn, box)
        if cut is not None:
            colours = eight_bit(converted(cut.pixels[..., :3], cut.space, source.space))
            alpha = cut.pixels[..., 3]
            masked = np.minimum(alpha, cut.shown)
            yield _Layer(f"{frame.name}, as joined", cut.left, cut.top, np.dstack([colours, masked]), visible=False)
            yield _Layer(f"{frame.name}, whole", cut.left, cut.top, np.dstack([colours, alpha]), visible=False)
        progress.advance()


def _within(drawn: Drawn, box: Rectangle) -> Drawn | None:
    """The part inside a box of the picture, placed from its corner."""
    height, width = drawn.pixels.shape[:2]
    x0, y0 = max(drawn.left, box.left), max(drawn.top, box.top)
    x1, y1 = min(drawn.left + width, box.left + box.width), min(drawn.top + height, box.top + box.height)
    if x1 <= x0 or y1 <= y0:
        return None
    inside = np.s_[y0 - drawn.top : y1 - drawn.top, x0 - drawn.left : x1 - drawn.left]
    return replace(drawn, left=x0 - box.left, top=y0 - box.top, pixels=drawn.pixels[inside], shown=drawn.shown[inside])


def _write_ora(
    source: PictureSource, layers: Iterator[_Layer], part: Path, options: WriteOptions, progress: Progress
) -> None:
    width, height = source.sizes[0]
    dpi = str(round(options.dpi))
    image = ElementTree.Element("image", version=_ORA, w=str(width), h=str(height), xres=dpi, yres=dpi)
    stack = ElementTree.SubElement(image, "stack")
    with zipfile.ZipFile(part, "w", zipfile.ZIP_STORED, allowZip64=True) as file:
        file.writestr("mimetype", "image/openraster")
        for number, layer in enumerate(layers):
            name = f"data/layer{number:03d}.png"
            file.writestr(name, _png(layer.pixels, source.space))
            # the uppermost comes first
            stack.insert(
                0,
                ElementTree.Element(
                    "layer",
                    name=layer.name,
                    src=name,
                    x=str(layer.left),
                    y=str(layer.top),
                    opacity="1.0",
                    visibility="visible" if layer.visible else "hidden",
                    attrib={"composite-op": "svg:src-over"},
                ),
            )
        with tempfile.TemporaryDirectory(dir=part.parent) as scratch:
            merged = Path(scratch) / "merged.png"
            write_part(source, merged, options, OnlyStops(progress))
            file.write(merged, "mergedimage.png")
        small = Image.fromarray(eight_bit(reduced(source, 4 * _THUMBNAIL_PX)))
        small.thumbnail((_THUMBNAIL_PX, _THUMBNAIL_PX))
        file.writestr("Thumbnails/thumbnail.png", _png(np.asarray(small), source.space))
        file.writestr("stack.xml", ElementTree.tostring(image, "UTF-8", xml_declaration=True))
    progress.advance()


def _png(pixels: Array, space: ColourSpace) -> bytes:
    packed = io.BytesIO()
    Image.fromarray(pixels).save(packed, "PNG", compress_level=1, icc_profile=profile_of(space))
    return packed.getvalue()


def _write_tiff(source: PictureSource, layers: Iterator[_Layer], part: Path, options: WriteOptions) -> None:
    per_pixel = round(options.dpi * 1000)
    with tifffile.TiffWriter(part, bigtiff=True) as file:
        for layer in layers:
            tags: list[tuple[int, int | str, int, Any, bool]] = [
                (_PAGE_NAME, "s", 0, layer.name, True),
                (_X_POSITION, "2I", 1, (layer.left * 1000, per_pixel), True),
                (_Y_POSITION, "2I", 1, (layer.top * 1000, per_pixel), True),
            ]
            file.write(
                layer.pixels,
                photometric="rgb",
                extrasamples=["unassalpha"] if layer.pixels.shape[2] == 4 else None,
                compression="zlib",
                predictor=True,
                rowsperstrip=256,
                resolution=(options.dpi, options.dpi),
                resolutionunit="INCH",
                iccprofile=profile_of(source.space),
                extratags=tags,
                metadata=None,
                software="Idle Lantern",
                subfiletype=0 if layer.visible else 2,
            )
