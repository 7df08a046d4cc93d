"""Linear light in files, written strip by strip from a picture of any size: OpenEXR in half floats, TIFF in whole ones.

The primaries are those of sRGB.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
import tifffile
from numpy.typing import NDArray

from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.source import PictureSource, region

Array = NDArray[Any]

_ROWS = 512
#: Side of a tile of TIFF, and bytes from which on the file is written in the big variant.
_TILE, _CLASSIC_BYTES = 256, 3_500_000_000


def write_exr(
    source: PictureSource, target: Path, to_light: Callable[[Array], Array], progress: Progress = SILENT
) -> None:
    """Write a picture; ``to_light`` makes linear light (float32) of its display values.

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
    file = OpenEXR.OutputFile(str(target), header)
    try:
        progress.begin("write", height)
        for top in range(0, height, _ROWS):
            rows = min(_ROWS, height - top)
            pixels = region(source, Rectangle(0, top, width, rows))
            light = to_light(pixels[..., :3])
            planes = [light[..., c] for c in range(3)]
            if len(names) == 4:
                alpha = pixels[..., 3].astype(np.float32) / np.float32(np.iinfo(pixels.dtype).max)
                planes = [*(plane * alpha for plane in planes), alpha]
            file.writePixels(
                {n: np.ascontiguousarray(p.astype(np.float16)).tobytes() for n, p in zip(names, planes)}, rows
            )
            progress.advance(rows)
    finally:
        file.close()


def write_float_tiff(
    source: PictureSource, target: Path, to_light: Callable[[Array], Array], progress: Progress = SILENT
) -> None:
    """The same as TIFF of 32-bit floats; alpha is not multiplied in (TIFF 6.0, ExtraSamples 2).

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
            pixels = region(source, Rectangle(0, top, width, rows))
            light = np.asarray(to_light(pixels[..., :3]), np.float32)
            if channels == 4:
                alpha = pixels[..., 3:].astype(np.float32) / np.float32(np.iinfo(pixels.dtype).max)
                light = np.concatenate([light, alpha], -1)
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
    )  # fmt: skip
