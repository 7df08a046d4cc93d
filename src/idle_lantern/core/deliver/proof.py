"""Proof that what was written is what was meant: opened by a reader that did not write it, size and profile looked at, pixels compared."""

from __future__ import annotations

import re
import warnings
import xml.etree.ElementTree as ET
import zipfile
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import cv2
import imagecodecs
import numpy as np
from PIL import Image

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.strict_json import read_json
from idle_lantern.core.colour.convert import eight_bit
from idle_lantern.core.colour.profiles import told_profile
from idle_lantern.core.deliver.formats import FileFormat
from idle_lantern.core.deliver.print_layout import PrintLayout
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.source import PictureSource, region

#: Larger pictures are not unpacked whole: their size and profile are looked at, their pixels are not.
_MOST_PX = 60_000_000
#: Places of a picture that are compared, and their side in pixels.
_PLACES, _SIDE_PX = 9, 64
#: How far packed pixels may lie from those that were meant, in levels of 255, in the mean of a place: lossless ones by rounding only.
_EXACT, _LOSSY = 0.51, 12.0
_POINTS_PER_MM, _MOST_MM = 72 / 25.4, 0.1
#: Metadata of a JPEG lie within so many bytes of its start: profile and packets come before the picture.
_HEAD_BYTES = 200_000


@dataclass(frozen=True)
class Line:
    """One thing that was looked at, and whether it is right."""

    text: str
    good: bool = True


def proved_picture(path: Path, kind: FileFormat, made: PictureSource) -> list[Line]:
    """What another reader finds in a picture file; raises InputError where that is not what was meant."""
    size = _size_by_another_reader(path, kind)
    width, height = made.sizes[0]
    lines = [_is("opened by another reader", size is not None)]
    if size is not None:
        lines.append(_is(f"{size[0]} x {size[1]} px", size == (width, height), f"not {width} x {height}"))
    if kind.profile:
        lines.append(_profile_line(path, kind, made))
    if width * height <= _MOST_PX and kind.light != "always":
        lines.append(_pixels_line(path, kind, made))
    _refuse(path, lines)
    return lines


def proved_sphere(path: Path) -> list[Line]:
    """Whether a reader of the published metadata takes a JPEG for a sphere."""
    with path.open("rb") as file:
        told = dict(re.findall(rb"<GPano:(\w+)>([^<]*)<", file.read(_HEAD_BYTES)))
    try:
        full, high = int(told[b"FullPanoWidthPixels"]), int(told[b"FullPanoHeightPixels"])
        left, top = int(told[b"CroppedAreaLeftPixels"]), int(told[b"CroppedAreaTopPixels"])
        wide, tall = int(told[b"CroppedAreaImageWidthPixels"]), int(told[b"CroppedAreaImageHeightPixels"])
    except (KeyError, ValueError):
        _refuse(path, [Line("no sphere is recognised", good=False)])
        return []
    with _quietly_open(path) as image:
        right = image.size == (wide, tall)
    inside = 0 <= left <= full - wide and 0 <= top <= high - tall
    lines = [
        _is("sphere recognised", told.get(b"ProjectionType") == b"equirectangular" and full == 2 * high),
        _is("its part lies inside it", right and inside),
    ]
    _refuse(path, lines)
    return lines


def proved_tiles(folder: Path) -> list[Line]:
    """Whether the tiles of a folder are there, and the first of each level opens."""
    files = sorted(folder.glob("*/*.jpg"))
    firsts = {file.parent: file for file in reversed(files)}
    broken = [file.name for file in firsts.values() if _opened(file) is None]
    lines = [
        _is(f"{len(files)} tiles on {len(firsts)} levels", bool(files)),
        _is("the first one of each opens", not broken, f"{', '.join(broken[:3])} does not open"),
    ]
    _refuse(folder, lines)
    return lines


def proved_iiif(folder: Path, made: PictureSource) -> list[Line]:
    """Whether an IIIF image tells its size, and some of its tiles open."""
    told = read_json(folder / "info.json")
    width, height = made.sizes[0]
    files = sorted(folder.glob("*/*/0/default.jpg"))
    looked = files[:: max(1, len(files) // _PLACES)]
    broken = [str(file.relative_to(folder)) for file in looked if _opened(file) is None]
    lines = [
        _is(f"{told['width']} x {told['height']} px told", (told["width"], told["height"]) == (width, height)),
        _is(f"{len(files)} tiles", bool(files)),
        _is(f"{len(looked)} of them open", not broken, f"{', '.join(broken[:3])} does not"),
    ]
    _refuse(folder, lines)
    return lines


def proved_page(path: Path) -> list[Line]:
    """Whether a page to look around in holds tiles."""
    with path.open("rb") as page:
        count = sum(line.startswith(b'<script type="text/plain" id="t') for line in page)
    lines = [_is(f"{count} tiles inside", count > 0)]
    _refuse(path, lines)
    return lines


def proved_print(path: Path, layout: PrintLayout) -> list[Line]:
    """Whether the pages of a print are as large as they were laid out, with their profile."""
    from pypdf import PdfReader  # a reader that only prints need

    reader = PdfReader(path)
    pages = reader.pages
    lines = [_is(f"{len(pages)} pages", len(pages) == len(layout.sheets), f"not {len(layout.sheets)}")]
    worst = 0.0
    profiles = 0
    for page, sheet in zip(pages, layout.sheets):
        box, trim = page.mediabox, page.trimbox
        for points, mm in (
            (box.width, sheet.width_mm), (box.height, sheet.height_mm),
            (trim.width, sheet.trim.width), (trim.height, sheet.trim.height),
        ):  # fmt: skip
            worst = max(worst, abs(float(points) / _POINTS_PER_MM - mm))
        image = page["/Resources"]["/XObject"]["/Picture"].get_object()  # type: ignore[index]
        profiles += image["/ColorSpace"][0] == "/ICCBased"
    first = layout.sheets[0]
    lines.append(
        _is(f"page {first.width_mm:.1f} x {first.height_mm:.1f} mm", worst <= _MOST_MM, f"off by {worst:.2f} mm")
    )
    lines.append(_is("profile there", profiles == len(pages)))
    lines.append(Line(f"{layout.dpi:.0f} dots an inch"))
    _refuse(path, lines)
    return lines


def proved_layers(path: Path, made: PictureSource) -> list[Line]:
    """Whether a file of layers is whole and holds the picture."""
    width, height = made.sizes[0]
    if path.suffix.lower() != ".ora":
        with _quietly_open(path) as image:
            count = int(getattr(image, "n_frames", 1))
            lines = [_is("opened by another reader", image.size == (width, height)), Line(f"{count} layers")]
        _refuse(path, lines)
        return lines
    with zipfile.ZipFile(path) as file:
        first = file.infolist()[0]
        kind = first.filename == "mimetype" and file.read("mimetype") == b"image/openraster"
        stack = ET.fromstring(file.read("stack.xml")).find("stack")
        names = set(file.namelist())
        layers = [] if stack is None else stack.findall("layer")
        with file.open("mergedimage.png") as merged, _quietly_open(merged) as image:
            right = image.size == (width, height)
    lines = [
        _is("recognised as OpenRaster", kind),
        _is(f"{len(layers)} layers, all there", all(layer.get("src") in names for layer in layers)),
        _is("the picture as it looks is there", right),
    ]
    _refuse(path, lines)
    return lines


# --- parts ------------------------------------------------------------------------


def _is(text: str, good: bool, else_: str = "") -> Line:
    return Line(text if good else f"{text}: {else_ or 'no'}", good)


def _refuse(path: Path, lines: list[Line]) -> None:
    wrong = [line.text for line in lines if not line.good]
    if wrong:
        raise InputError(
            f"Was written, but does not read back as it should ({'; '.join(wrong)})",
            where=str(path),
            remedy="Write it again, elsewhere if need be; what was there before stays",
        )


def _quietly_open(file: Path | object) -> Image.Image:
    """Pillow's view of a file; large ones are no attack here."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", Image.DecompressionBombWarning)
        limit, Image.MAX_IMAGE_PIXELS = Image.MAX_IMAGE_PIXELS, None
        try:
            return Image.open(file)  # type: ignore[arg-type]
        finally:
            Image.MAX_IMAGE_PIXELS = limit


def _opened(path: Path) -> tuple[int, int] | None:
    try:
        with _quietly_open(path) as image:
            image.load()
            return image.size
    except (OSError, ValueError):
        return None


def _size_by_another_reader(path: Path, kind: FileFormat) -> tuple[int, int] | None:
    if kind.name in _UNPACKED:
        pixels = _UNPACKED[kind.name](path)
        return pixels.shape[1], pixels.shape[0]
    if kind.name == "exr":
        import OpenEXR  # a library that only this needs

        window = OpenEXR.InputFile(str(path)).header()["dataWindow"]
        return window.max.x + 1, window.max.y + 1
    try:
        with _quietly_open(path) as image:
            return image.size
    except OSError:
        # Pillow knows no TIFF of three channels with 16 bit or floats
        import tifffile

        with tifffile.TiffFile(path) as file:
            height, width = file.pages[0].shape[:2]
            return int(width), int(height)


#: Kinds whose encoder is Pillow's: unpacked by another library.
_UNPACKED: dict[str, Callable[[Path], Array]] = {
    "webp": lambda path: np.asarray(imagecodecs.webp_decode(path.read_bytes())),
    "avif": lambda path: np.asarray(imagecodecs.avif_decode(path.read_bytes())),
    "jxl": lambda path: np.asarray(imagecodecs.jpegxl_decode(path.read_bytes())),
}


def _profile_line(path: Path, kind: FileFormat, made: PictureSource) -> Line:
    if kind.name == "jxl":
        import pillow_jxl  # noqa: F401  makes Pillow read it
    try:
        with _quietly_open(path) as image:
            found = image.info.get("icc_profile")
    except OSError:
        import tifffile

        with tifffile.TiffFile(path) as file:
            tag = file.pages.first.tags.get(34675)
            found = None if tag is None else tag.value
    # sRGB may be told by leaving it away
    if not found and told_profile(made.space) is None:
        return Line(f"no profile, as {made.space.name} is told")
    return _is(f"profile there ({made.space.name})", bool(found))


def _pixels_line(path: Path, kind: FileFormat, made: PictureSource) -> Line:
    """The worst mean difference of some places, in levels of 255."""
    if kind.name in _UNPACKED:
        found = _UNPACKED[kind.name](path)
    else:
        read = cv2.imread(str(path), cv2.IMREAD_UNCHANGED)
        if read is None:
            return Line("pixels compared: cannot be unpacked", good=False)
        found = np.atleast_3d(read)
        found = np.dstack([found[..., 2::-1], found[..., 3:]]) if found.shape[2] >= 3 else found
    width, height = made.sizes[0]
    rng = np.random.default_rng(0)
    worst = 0.0
    for _ in range(_PLACES):
        wide, high = min(_SIDE_PX, width), min(_SIDE_PX, height)
        box = Rectangle(int(rng.integers(0, width - wide + 1)), int(rng.integers(0, height - high + 1)), wide, high)
        meant = region(made, box)
        there = found[box.top : box.top + high, box.left : box.left + wide]
        if meant.dtype.kind == "f" or there.dtype.kind == "f":
            return Line("pixels in light")
        shown = meant[..., 3] > 0 if meant.shape[2] == 4 else np.ones(meant.shape[:2], bool)
        if shown.any():
            off = np.abs(eight_bit(meant[..., :3]).astype(float) - eight_bit(there[..., :3]))[shown]
            worst = max(worst, float(off.mean()))
    most = _LOSSY if kind.quality else _EXACT
    return _is(f"{_PLACES} places compared, off by {worst:.1f} of 255 at most", worst <= most, f"more than {most:g}")
