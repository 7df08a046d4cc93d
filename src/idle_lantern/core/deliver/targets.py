"""What is known of a target before anything is written: formats, limits, options."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from idle_lantern.core.base.atomic import check_writable
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.frames.metadata import Metadata

SUFFIXES = (".tif", ".tiff", ".png", ".jpg", ".jpeg")

#: What a join writes: light itself as well.
JOIN_SUFFIXES = (*SUFFIXES, ".exr")

#: Longest side a JPEG can have (ISO/IEC 10918-1: 16-bit line and sample counts).
JPEG_MAX_SIDE = 65535


@dataclass(frozen=True)
class WriteOptions:
    """How to write; ``dpi`` is only a note in the file for printing."""

    jpeg_quality: int = 92
    dpi: float = 300.0
    metadata: Metadata = field(default_factory=Metadata)


def check_target(
    target: Path, width: int | None = None, height: int | None = None, *, endings: Sequence[str] = SUFFIXES
) -> None:
    """Say before the work starts whether ``target`` can be written.

    Raises
    ------
    InputError
        Unknown ending, no such folder, not writable, or too large for the format.
    """
    suffix = target.suffix.lower()
    if suffix not in endings:
        raise InputError(
            f"'{target.suffix or target.name}' is no picture ending", where=str(target), remedy="Use .tif, .png or .jpg"
        )
    check_writable(target)
    if suffix in (".jpg", ".jpeg") and width and height and max(width, height) > JPEG_MAX_SIDE:
        raise InputError(
            f"A JPEG holds at most {JPEG_MAX_SIDE} pixels a side and this picture has {width} x {height}",
            where=str(target),
            remedy="Write .tif instead, or give a smaller --width",
        )


def is_tiff(target: Path) -> bool:
    """Whether a file of that name is written as TIFF."""
    return target.suffix.lower() in (".tif", ".tiff")


def jpeg_keywords(options: WriteOptions) -> dict[str, Any]:
    """How Pillow is told to pack a JPEG; from quality 90 on colour is kept at full size."""
    return {
        "quality": options.jpeg_quality,
        "subsampling": 0 if options.jpeg_quality >= 90 else 2,
        "dpi": (options.dpi, options.dpi),
    }
