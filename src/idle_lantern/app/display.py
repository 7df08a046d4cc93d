"""What the screen shows: the one place where a picture's colours become those of the display."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

import numpy as np
from PyQt6.QtGui import QColorSpace, QImage

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.strict_json import read_bytes
from idle_lantern.core.colour.convert import converted
from idle_lantern.core.colour.profiles import named_space, profile_of
from idle_lantern.core.colour.space import SRGB, ColourSpace


class _Display:
    """The space of the screen; sRGB until its profile is told."""

    space: ColourSpace = SRGB


def screen_space() -> ColourSpace:
    """The space of the screen, in which images are that were made by ``to_qimage``."""
    return _Display.space


def use_profile(file: str) -> None:
    """Let the profile of ``file`` be that of the screen; an empty name takes sRGB.

    Raises
    ------
    InputError
        It is no profile of red, green and blue; the screen's space stays as it was.
    """
    if not file:
        _Display.space = SRGB
        return
    space = named_space(Path(file).name, read_bytes(Path(file), remedy="Choose the ICC profile of the screen"))
    if not _qt_space(space).isValid():
        raise InputError("Is a colour profile that cannot be shown by", where=file, remedy="Choose a matrix profile")
    _Display.space = space


@lru_cache(maxsize=16)
def _qt_space(space: ColourSpace) -> QColorSpace:
    return (
        QColorSpace(QColorSpace.NamedColorSpace.SRgb)
        if space == SRGB
        else QColorSpace.fromIccProfile(profile_of(space))
    )


def to_qimage(pixels: Array, space: ColourSpace = SRGB) -> QImage:
    """Pixels (H, W, 3) or (H, W, 4) of ``space``, 8 or 16 bit, as the screen shows them, with memory of their own."""
    if pixels.dtype == np.uint16:
        pixels = (pixels >> 8).astype(np.uint8)
    space = space.up_to(1.0)
    if space != _Display.space and not _qt_space(space).isValid():
        pixels, space = np.dstack([converted(pixels[..., :3], space, SRGB), pixels[..., 3:]]), SRGB
    image = plain_qimage(pixels)
    if space == _Display.space:
        return image
    image.setColorSpace(_qt_space(space))
    return image.convertedToColorSpace(_qt_space(_Display.space))


def plain_qimage(pixels: Array) -> QImage:
    """Pixels (H, W, 3) or (H, W, 4), 8 bit, as they are: for those of the screen, or to be converted later."""
    pixels = np.ascontiguousarray(pixels)
    h, w, channels = pixels.shape
    kind = QImage.Format.Format_RGB888 if channels == 3 else QImage.Format.Format_RGBA8888
    return QImage(pixels.data, w, h, channels * w, kind).copy()  # type: ignore[call-overload]
