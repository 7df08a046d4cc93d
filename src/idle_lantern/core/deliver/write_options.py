"""How a file is written."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from idle_lantern.core.frames.metadata import Metadata


@dataclass(frozen=True)
class WriteOptions:
    """How to write; ``dpi`` is only a note in the file for printing, ``light`` asks for linear light in floats where the format has both.

    Without ``alpha`` it is left away: what has no gaps needs none. ``xmp`` is a packet that a JPEG carries.
    """

    jpeg_quality: int = 92
    dpi: float = 300.0
    metadata: Metadata = field(default_factory=Metadata)
    alpha: bool = True
    light: bool = False
    xmp: bytes = b""


def jpeg_keywords(options: WriteOptions) -> dict[str, Any]:
    """How Pillow is told to pack a JPEG; from quality 90 on colour is kept at full size."""
    return {
        "quality": options.jpeg_quality,
        "subsampling": 0 if options.jpeg_quality >= 90 else 2,
        "dpi": (options.dpi, options.dpi),
    }
