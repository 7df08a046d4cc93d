"""Colour profiles of a set of frames: one working space for all, and the way into it."""

from __future__ import annotations

import io
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import ImageCms

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.picture import Picture, srgb_to_linear

Array = NDArray[Any]

SRGB = "sRGB"


@dataclass(frozen=True)
class WorkingSpace:
    """The space in which a set is joined; ``icc`` None is sRGB told by no profile, ``mixed`` when frames were converted."""

    name: str = SRGB
    icc: bytes | None = None
    mixed: bool = False

    def take_in(self, picture: Picture) -> Picture:
        """A frame in this space; one that is in it already is only told so.

        Converted by LittleCMS, relative colorimetric; a profile that it cannot use counts as this space.
        """
        if not self.mixed or _space(picture.icc) == _space(self.icc):
            return Picture(picture.pixels, picture.alpha, self.icc)
        return Picture(_converted(picture.pixels, picture.icc or _srgb(), self.icc or _srgb()), picture.alpha, self.icc)


def named_space(name: str, icc: bytes | None = None) -> WorkingSpace:
    """The space ``srgb`` or ``p3`` (Display P3), or that of an ICC profile; frames in others are brought into it.

    Raises
    ------
    InputError
        The profile is none that pictures of red, green and blue can have.
    """
    if icc is None:
        return WorkingSpace(*((SRGB, _srgb()) if name == "srgb" else ("Display P3", _display_p3())), mixed=True)
    space = _space(icc)
    try:
        if ImageCms.ImageCmsProfile(io.BytesIO(icc)).profile.xcolor_space.strip() != "RGB":
            raise InputError("Is no profile of red, green and blue", where=name, remedy="Give an RGB profile")
    except (ImageCms.PyCMSError, OSError, ValueError, SyntaxError) as error:
        raise InputError("Is no colour profile that can be read", where=name, remedy="Give an ICC profile") from error
    return WorkingSpace(space.name, icc, mixed=True)


def _display_p3() -> bytes:
    """Display P3: the primaries of SMPTE EG 432-1 under D65, with the curve of sRGB (IEC 61966-2-1)."""
    import imagecodecs  # half of a second to load

    shown = np.linspace(0, 1, 1024)
    return bytes(
        imagecodecs.cms_profile(
            "rgb",
            whitepoint=[0.3127, 0.3290, 1.0],
            primaries=[0.680, 0.320, 1.0, 0.265, 0.690, 1.0, 0.150, 0.060, 1.0],
            transferfunction=np.rint(srgb_to_linear(shown) * 65535).astype(np.uint16),
        )
    )


def working_space(profiles: Sequence[bytes | None]) -> WorkingSpace:
    """The space that most frames are in; of equally common ones the first frame's.

    ``profiles`` are the embedded ICC profiles by frame, None where there is none: such frames count as sRGB,
    as viewers show them (IEC 61966-2-1).
    """
    spaces = [_space(icc) for icc in profiles]
    if not spaces:
        return WorkingSpace()
    chosen, _count = Counter(spaces).most_common(1)[0]
    icc = next((p for p, space in zip(profiles, spaces) if space == chosen and p), None)
    return WorkingSpace(chosen.name, icc, len(set(spaces)) > 1)


@dataclass(frozen=True)
class _Space:
    """What tells spaces apart: many devices' profiles carry one name, so the primaries count too."""

    name: str
    primaries: tuple[float, ...] = ()


@lru_cache(maxsize=64)
def _space(icc: bytes | None) -> _Space:
    """Every variant of sRGB is the same; an unreadable profile counts as sRGB."""
    if not icc:
        return _Space(SRGB)
    try:
        profile = ImageCms.ImageCmsProfile(io.BytesIO(icc)).profile
        if profile.xcolor_space.strip() != "RGB":
            return _Space(SRGB)
        told = (profile.profile_description or "").replace("\0", " ").strip()
        colorants = (profile.red_colorant, profile.green_colorant, profile.blue_colorant)
    except (ImageCms.PyCMSError, OSError, ValueError, SyntaxError):
        return _Space(SRGB)
    name = " ".join(told.split())[:80] or "a space without a name"
    if name.lower().startswith("srgb"):
        return _Space(SRGB)
    return _Space(name, tuple(round(v, 3) for c in colorants if c is not None for v in c[0]))


def _srgb() -> bytes:
    return ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()


def _converted(pixels: Array, source: bytes, target: bytes) -> Array:
    # half of a second to load, and only sets of mixed profiles need it
    import imagecodecs

    # its shortcut for 16 bit is a coarse table, off by up to 15 levels of 8 bit near the rim of the space
    flags = imagecodecs.CMS.FLAGS.NOOPTIMIZE if pixels.dtype == np.uint16 else None
    try:
        made = imagecodecs.cms_transform(
            np.ascontiguousarray(pixels), source, target, colorspace="rgb", outcolorspace="rgb", flags=flags
        )
    except (RuntimeError, ValueError):
        return pixels
    return np.asarray(made, pixels.dtype)
