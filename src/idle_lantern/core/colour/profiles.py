"""ICC profiles to spaces and back, by LittleCMS."""

from __future__ import annotations

import io
import struct
from collections import Counter
from collections.abc import Sequence
from functools import lru_cache
from typing import Any

import numpy as np
from PIL import ImageCms

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.colour.space import (
    D65,
    DISPLAY_P3,
    LINEAR,
    SRGB,
    Chromaticities,
    ColourSpace,
    Transfer,
    adaptation,
)

_UNREADABLE = (ImageCms.PyCMSError, OSError, ValueError, SyntaxError, np.linalg.LinAlgError)
#: White of the profile connection space, XYZ (ICC.1:2022, 7.2.16).
_D50 = np.array([0.9642, 1.0, 0.8249])
#: Curves of a profile are read at so many places, and taken for a known one within this.
_SAMPLES, _ALIKE = 4096, 2e-4
#: Chromaticities of a profile are rounded to 16 bit in it, and then adapted.
_DIGITS = 3
#: A white as near to D65 as this is that, told by a rounded matrix.
_SAME_WHITE = 1e-3


@lru_cache(maxsize=64)
def space_of(icc: bytes | None) -> ColourSpace:
    """The space that an embedded profile tells; no profile, or one that is not of red, green and blue, counts as sRGB.

    Every variant of sRGB is the same. Viewers show pictures without a profile as sRGB (IEC 61966-2-1).
    """
    if not icc:
        return SRGB
    try:
        space = _read(icc)
    except _UNREADABLE:
        return SRGB
    return space or SRGB


def named_space(name: str, icc: bytes | None = None) -> ColourSpace:
    """The space ``srgb`` or ``p3`` (Display P3), or that of an ICC profile, told by a profile.

    Raises
    ------
    InputError
        The profile is none that pictures of red, green and blue can have.
    """
    if icc is None:
        known = SRGB if name == "srgb" else DISPLAY_P3
        return ColourSpace(known.name, known.chromaticities, known.transfer, profile_of(known))
    try:
        space = _read(icc)
    except _UNREADABLE as error:
        raise InputError("Is no colour profile that can be read", where=name, remedy="Give an ICC profile") from error
    if space is None:
        raise InputError("Is no profile of red, green and blue", where=name, remedy="Give an RGB profile")
    return ColourSpace(space.name, space.chromaticities, space.transfer, icc)


def common_space(spaces: Sequence[ColourSpace]) -> ColourSpace:
    """The space that most frames are in; of equally common ones the first frame's, told by a profile where any frame has one."""
    if not spaces:
        return SRGB
    chosen, _count = Counter(spaces).most_common(1)[0]
    return next((s for s in spaces if s == chosen and s.icc), chosen)


def profile_of(space: ColourSpace) -> bytes:
    """The profile of a space: the one it came with, else one made of its primaries and curve."""
    return space.icc or _made(space.up_to(1.0))


def told_profile(space: ColourSpace) -> bytes | None:
    """The profile that a file is given: none where the space is sRGB and no file told it by one, as viewers take it."""
    return None if space.up_to(1.0) == SRGB and space.icc is None else profile_of(space)


@lru_cache(maxsize=16)
def _made(space: ColourSpace) -> bytes:
    if space == SRGB:
        return ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
    import imagecodecs  # half of a second to load

    (rx, ry), (gx, gy), (bx, by), (wx, wy) = space.chromaticities
    curve = space.to_linear(np.linspace(0, 1, 4096))
    made = imagecodecs.cms_profile(
        "rgb",
        whitepoint=[wx, wy, 1.0],
        primaries=[rx, ry, 1.0, gx, gy, 1.0, bx, by, 1.0],
        transferfunction=np.rint(np.clip(curve, 0, 1) * 65535).astype(np.uint16),
    )
    return _described(bytes(made), space.name)


def _described(icc: bytes, name: str) -> bytes:
    """A profile with another description, by which viewers name it (ICC.1:2022, 7.3 and 10.15): LittleCMS names all it makes alike."""
    text = name.encode("utf-16-be")
    tag = struct.pack(">4s4xII2s2sII", b"mluc", 1, 12, b"en", b"US", len(text), 28) + text
    tag += bytes(-len(tag) % 4)
    made = bytearray(icc + bytes(-len(icc) % 4))
    (count,) = struct.unpack_from(">I", made, 128)
    for entry in range(132, 132 + 12 * count, 12):
        if made[entry : entry + 4] == b"desc":
            struct.pack_into(">II", made, entry + 4, len(made), 28 + len(text))
    made += tag
    struct.pack_into(">I", made, 0, len(made))
    made[84:100] = bytes(16)  # the profile's own checksum may be left out (7.2.18)
    return bytes(made)


def _read(icc: bytes) -> ColourSpace | None:
    """The space of a profile, None where it is of no red, green and blue."""
    profile = ImageCms.ImageCmsProfile(io.BytesIO(icc)).profile
    if profile.xcolor_space.strip() != "RGB":
        return None
    told = (profile.profile_description or "").replace("\0", " ").strip()
    name = " ".join(told.split())[:80] or "a space without a name"
    if name.lower().startswith("srgb"):
        return ColourSpace(SRGB.name, icc=icc)
    colorants = _colorants(profile, icc)
    return ColourSpace(name, _chromaticities(profile, colorants), _transfer(icc, colorants), icc)


def _colorants(profile: Any, icc: bytes) -> Array:
    """XYZ of full red, green and blue under D50, as columns (3, 3); a profile of tables is asked for them."""
    told = [profile.red_colorant, profile.green_colorant, profile.blue_colorant]
    if all(c is not None for c in told):
        return np.array([c[0] for c in told]).T
    return np.asarray(_xyz(np.eye(3), icc).T)


def _chromaticities(profile: Any, colorants: Array) -> Chromaticities:
    """Of the primaries and the white, the adaptation to D50 undone."""
    chad = profile.chromatic_adaptation
    if chad is not None:
        from_d50 = np.linalg.inv(np.array(chad[0]))
    else:  # version 2 tells the white itself, and most adapt to it by Bradford
        white = np.array(profile.media_white_point[0]) if profile.media_white_point else _D50
        from_d50 = adaptation(_D50, white)
    xyz = from_d50 @ np.column_stack([colorants, _D50])
    total = xyz.sum(0)
    red, green, blue, white_xy = (
        (round(float(x), _DIGITS), round(float(y), _DIGITS)) for x, y in zip(xyz[0] / total, xyz[1] / total)
    )
    near_d65 = max(abs(a - b) for a, b in zip(white_xy, D65)) < _SAME_WHITE
    return red, green, blue, D65 if near_d65 else white_xy


def _transfer(icc: bytes, colorants: Array) -> Transfer:
    """The curves of a profile, read along its greys."""
    shown = np.linspace(0, 1, _SAMPLES)
    light = _xyz(shown[:, None].repeat(3, 1), icc) @ np.linalg.inv(colorants).T
    light = np.maximum.accumulate(np.clip(light, 0, 1), axis=0)
    for known in (Transfer(), LINEAR, Transfer("power", _power_of(shown, light))):
        if np.abs(known.to_linear(shown)[:, None] - light).max() < _ALIKE:
            return known
    return Transfer("sampled", samples=tuple(tuple(map(float, row)) for row in light.T))


def _power_of(shown: Array, light: Array) -> float:
    """The power that a curve is nearest to, rounded as profiles of version 2 round it (u8Fixed8Number)."""
    usable = (shown > 0.1) & (shown < 0.95) & (light > 1e-4).all(1)
    if not usable.any():
        return 1.0
    power = float(np.median(np.log(light[usable]) / np.log(shown[usable])[:, None]))
    return round(power * 256) / 256


def _xyz(shown: Array, icc: bytes) -> Array:
    """XYZ under D50, (N, 3), of display values (N, 3)."""
    import imagecodecs  # half of a second to load, and only spaces other than sRGB need it

    made = imagecodecs.cms_transform(
        np.ascontiguousarray(shown[None], np.float64),
        icc,
        imagecodecs.cms_profile("xyz"),
        colorspace="rgb",
        outcolorspace="xyz",
    )
    return np.asarray(made[0], np.float64)
