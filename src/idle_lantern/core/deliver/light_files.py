"""Linear light in files, written strip by strip from a picture of any size: OpenEXR in half floats, TIFF in whole ones."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import tifffile

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.progress import Progress
from idle_lantern.core.colour.profiles import profile_of
from idle_lantern.core.colour.space import ColourSpace
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.source import TILE, PictureSource, light_of, region

#: Side of a tile of TIFF, and bytes from which on the file is written in the big variant.
_TILE, _CLASSIC_BYTES = 256, 3_500_000_000
_CHROMATICITIES = b"chromaticities\0chromaticities\0" + struct.pack("<i", 32)


def write_exr(source: PictureSource, target: Path, _options: WriteOptions, progress: Progress) -> None:
    """Write the linear light of a picture, with the chromaticities of its space.

    Alpha is written as A, and colours are multiplied by it, as OpenEXR has it (Technical Introduction, 2013).

    Raises
    ------
    OSError
        It cannot be written.
    """
    # libraries that only this needs
    import Imath
    import OpenEXR

    width, height = source.sizes[0]
    header = OpenEXR.Header(width, height)
    half = Imath.Channel(Imath.PixelType(Imath.PixelType.HALF))
    first = region(source, Rectangle(0, 0, min(width, 1), min(height, 1)))
    names = "RGBA" if first.shape[2] == 4 else "RGB"
    header["channels"] = dict.fromkeys(names, half)
    header["chromaticities"] = Imath.Chromaticities(*(Imath.chromaticity(0, 0),) * 4)
    file = OpenEXR.OutputFile(str(target), header)
    try:
        progress.begin("write", height)
        for top in range(0, height, TILE):
            rows = min(TILE, height - top)
            light = light_of(region(source, Rectangle(0, top, width, rows)), source.space)
            if len(names) == 4:
                light[..., :3] *= light[..., 3:]
            planes = {n: np.ascontiguousarray(light[..., c].astype(np.float16)) for c, n in enumerate(names)}
            file.writePixels({n: plane.tobytes() for n, plane in planes.items()}, rows)
            progress.advance(rows)
    finally:
        file.close()
    _tell_chromaticities(target, source.space)


def _tell_chromaticities(path: Path, space: ColourSpace) -> None:
    """Write them into the header, where the binding leaves zeros (OpenEXR File Layout: name, type, size, value of an attribute)."""
    with open(path, "r+b") as stream:
        head = stream.read(4096)
        place = head.index(_CHROMATICITIES) + len(_CHROMATICITIES)
        stream.seek(place)
        stream.write(struct.pack("<8f", *(v for xy in space.chromaticities for v in xy)))


def write_float_tiff(source: PictureSource, target: Path, _options: WriteOptions, progress: Progress) -> None:
    """The same as TIFF of 32-bit floats with a linear profile; alpha is not multiplied in (TIFF 6.0, ExtraSamples 2).

    Raises
    ------
    OSError
        It cannot be written.
    """
    width, height = source.sizes[0]
    channels = region(source, Rectangle(0, 0, min(width, 1), min(height, 1))).shape[2]

    def tiles() -> Iterator[Array]:
        progress.begin("write", height)
        for top in range(0, height, _TILE):
            rows = min(_TILE, height - top)
            light = light_of(region(source, Rectangle(0, top, width, rows)), source.space)
            for left in range(0, width, _TILE):
                part = light[:, left : left + _TILE]
                tile = np.zeros((_TILE, _TILE, channels), np.float32)
                tile[: part.shape[0], : part.shape[1]] = part
                yield tile
            progress.advance(rows)

    tifffile.imwrite(
        target, tiles(), shape=(height, width, channels), dtype=np.float32, photometric="rgb", compression="zlib",
        predictor=True, tile=(_TILE, _TILE), bigtiff=width * height * channels * 4 > _CLASSIC_BYTES,
        extrasamples=["unassalpha"] if channels == 4 else None, metadata=None, software="Idle Lantern",
        iccprofile=profile_of(source.space.in_light),
    )  # fmt: skip
