"""Colour profiles of a set of frames: one working space for all, and the way into it."""

from __future__ import annotations

import io
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import ImageCms

from idle_lantern.core.base.picture import Picture

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
        if not self.mixed or space_of(picture.icc) == self.name:
            return Picture(picture.pixels, picture.alpha, self.icc)
        return Picture(_converted(picture.pixels, picture.icc or _srgb(), self.icc or _srgb()), picture.alpha, self.icc)


def working_space(profiles: Sequence[bytes | None]) -> WorkingSpace:
    """The space that most frames are in; of equally common ones the first frame's.

    ``profiles`` are the embedded ICC profiles by frame, None where there is none: such frames count as sRGB,
    as viewers show them (IEC 61966-2-1).
    """
    names = [space_of(icc) for icc in profiles]
    if not names:
        return WorkingSpace()
    name, _count = Counter(names).most_common(1)[0]
    icc = next((p for p, n in zip(profiles, names) if n == name and p), None)
    return WorkingSpace(name, icc, len(set(names)) > 1)


def space_of(icc: bytes | None) -> str:
    """The name of a profile's space; every variant of sRGB is the same, an unreadable profile counts as sRGB."""
    if not icc:
        return SRGB
    try:
        profile = ImageCms.ImageCmsProfile(io.BytesIO(icc))
        if profile.profile.xcolor_space.strip() != "RGB":
            return SRGB
        told = (profile.profile.profile_description or "").replace("\0", " ").strip()
    except (ImageCms.PyCMSError, OSError, ValueError, SyntaxError):
        return SRGB
    name = " ".join(told.split())[:80] or "a space without a name"
    if name.lower().startswith("srgb"):
        return SRGB
    # two profiles may carry one name and differ
    return name if not name.lower().startswith(("rgb built-in", "a space")) else f"{name} ({len(icc)} bytes)"


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
