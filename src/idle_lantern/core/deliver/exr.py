"""OpenEXR of linear light, written row by row from a picture of any size: half floats in the primaries of sRGB."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.source import PictureSource, region

Array = NDArray[Any]

_ROWS = 512


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
