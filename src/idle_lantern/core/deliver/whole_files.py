"""Pictures that are packed whole: WebP and AVIF by Pillow, JPEG XL by its plugin."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PIL import Image

from idle_lantern.core.base.progress import Progress
from idle_lantern.core.colour.convert import eight_bit
from idle_lantern.core.colour.profiles import profile_of
from idle_lantern.core.deliver.formats import FileFormat
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.frames.metadata import to_exif
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.source import PictureSource, region

#: Rows that are read at once.
_ROWS = 512
#: How long each looks for a smaller file; beyond these they take many times as long for a few per cent.
_EFFORT = {"webp": {"method": 4}, "avif": {"speed": 7}, "jxl": {"effort": 5}}


def write_whole(kind: FileFormat, source: PictureSource, part: Path, options: WriteOptions, progress: Progress) -> None:
    """Write a picture of 8 bit; alpha where it has gaps and the options ask for it, else what shows nothing is black.

    Raises
    ------
    Cancelled
        Stopped between reading and packing.
    OSError
        It cannot be packed or written.
    """
    width, height = source.sizes[0]
    tops = range(0, height, _ROWS)
    progress.begin("write", len(tops) + max(1, len(tops) // 2))
    pixels = np.empty((height, width, source.tile(0, 0, 0).shape[2]), np.uint8)
    for top in tops:
        rows = min(_ROWS, height - top)
        pixels[top : top + rows] = eight_bit(region(source, Rectangle(0, top, width, rows)))
        progress.advance()
    if pixels.shape[2] == 4 and (not options.alpha or pixels[..., 3].min() == 255):
        pixels[pixels[..., 3] == 0] = 0
        pixels = np.ascontiguousarray(pixels[..., :3])
    if kind.name == "jxl":
        import pillow_jxl  # noqa: F401  makes Pillow write it
    more = {"xmp": options.xmp} if options.xmp and kind.name != "jxl" else {}
    exif = to_exif(options.metadata, width, height).tobytes()
    # all three mean sRGB where no profile tells otherwise; told all the same, since readers differ
    Image.fromarray(pixels).save(
        part,
        kind.name.upper(),
        quality=options.jpeg_quality,
        icc_profile=profile_of(source.space),
        exif=exif,
        **more,
        **_EFFORT[kind.name],
    )
    progress.advance(max(1, len(tops) // 2))
