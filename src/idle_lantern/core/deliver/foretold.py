"""How large a file will be, before it is written: some places of the picture are packed as all of it will be."""

from __future__ import annotations

import math
import tempfile
from pathlib import Path

import numpy as np

from idle_lantern.core.base.progress import SILENT
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.deliver.formats import FileFormat
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write_part
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.source import SMALLEST_PX, HeldPicture, PictureSource, region

#: Places that are packed, in rows and columns, and their side: enough that sky and ground both count.
_PLACES, _SIDE_PX = 6, 192


def foretold_bytes(made: PictureSource, kind: FileFormat, options: WriteOptions) -> int:
    """Bytes of a file of that format; raises as the picture's source."""
    width, height = made.sizes[0]
    if width * height <= 4 * (_PLACES * _SIDE_PX) ** 2:
        pixels = region(made, Rectangle(0, 0, width, height))
    else:
        rows = []
        for row in range(_PLACES):
            top = round((row + 0.5) / _PLACES * (height - _SIDE_PX)) if height > _SIDE_PX else 0
            tall = min(_SIDE_PX, height)
            places = (
                [
                    region(made, Rectangle(round((column + 0.5) / _PLACES * (width - _SIDE_PX)), top, _SIDE_PX, tall))
                    for column in range(_PLACES)
                ]
                if width > _SIDE_PX
                else [region(made, Rectangle(0, top, width, tall))]
            )
            rows.append(np.concatenate(places, 1))
        pixels = np.concatenate(rows, 0)
    sample = HeldPicture(Picture(np.ascontiguousarray(pixels[..., :3]), space=made.space))
    with tempfile.TemporaryDirectory() as scratch:
        file = Path(scratch) / f"sample{kind.ending}"
        write_part(sample, file, options, SILENT)
        taken = file.stat().st_size
    whole: float = taken * width * height / (pixels.shape[0] * pixels.shape[1])
    if kind.name == "tiff":
        whole *= _with_levels((width, height)) / _with_levels(sample.sizes[0])
    return math.ceil(whole)


def _with_levels(size: tuple[int, int]) -> float:
    """What a pyramid holds, as a share of its full level."""
    side, held, total = max(size), 1.0, 1.0
    while side > SMALLEST_PX:
        side, held = side // 2, held / 4
        total += held
    return total
