"""The one table of file formats: endings, limits, and what each can carry."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

from idle_lantern.core.base.atomic import check_writable
from idle_lantern.core.base.errors import InputError


@dataclass(frozen=True)
class FileFormat:
    """A kind of file that pictures are written as.

    Attributes
    ----------
    name : as the command line calls it
    title : what it is good for, as people choose it
    endings : of file names, the usual one first
    most_side_px : longest side it holds, None for any
    bits : most bits of a whole value
    alpha, profile, quality : whether it holds see-through parts, a colour profile, a chosen loss
    light : whether it holds linear light in floats: always, when asked for, or never
    most_px : most pixels of a picture; a format that is packed whole holds them all in memory meanwhile
    """

    name: str
    title: str
    endings: tuple[str, ...]
    most_side_px: int | None = None
    bits: int = 16
    alpha: bool = True
    profile: bool = True
    quality: bool = False
    light: str = "never"
    most_px: int | None = None

    @property
    def packed_whole(self) -> bool:
        """Whether all of a picture is packed at once, and not strip by strip."""
        return self.most_px is not None

    @property
    def ending(self) -> str:
        """The usual one."""
        return self.endings[0]


#: Pictures that are packed whole lie in memory meanwhile: so many pixels take some 400 MB.
_HELD_PX = 100_000_000
#: A JPEG counts lines and samples by 16 bit (ISO/IEC 10918-1).
JPEG = FileFormat("jpeg", "JPEG: small, for showing", (".jpg", ".jpeg"), 65535, 8, alpha=False, quality=True)
TIFF = FileFormat("tiff", "TIFF: nothing lost, for going on elsewhere", (".tif", ".tiff"), light="asked")
PNG = FileFormat("png", "PNG: nothing lost, 8 or 16 bit", (".png",), 2**31 - 1)
#: Chromaticities stand in its header instead of a profile (OpenEXR Technical Introduction, 2013).
EXR = FileFormat("exr", "OpenEXR: linear light, beyond white too", (".exr",), 2**31 - 1, profile=False, light="always")

#: WebP counts its sides by 14 bit (RFC 9649, section 2.7).
WEBP = FileFormat("webp", "WebP: small, for web pages", (".webp",), 16383, 8, quality=True, most_px=_HELD_PX)
#: Its encoders pack no longer side (libaom, from memory).
AVIF = FileFormat("avif", "AVIF: smallest, for web pages", (".avif",), 16383, 8, quality=True, most_px=_HELD_PX)

#: Its sides are counted by 30 bit (ISO/IEC 18181-1); 8 bit by the encoder that ships.
JXL = FileFormat("jxl", "JPEG XL: small, finer than JPEG", (".jxl",), 2**30, 8, quality=True, most_px=_HELD_PX)

FORMATS: tuple[FileFormat, ...] = (TIFF, PNG, JPEG, EXR, WEBP, AVIF, JXL)


def format_named(name: str) -> FileFormat:
    """The format of that name; raises KeyError."""
    return {f.name: f for f in FORMATS}[name]


def format_of(target: Path) -> FileFormat:
    """The format of a file name's ending.

    Raises
    ------
    InputError
        It is no picture ending.
    """
    for known in FORMATS:
        if target.suffix.lower() in known.endings:
            return known
    usual = _listed(f.ending for f in FORMATS)
    raise InputError(f"'{target.suffix or target.name}' is no picture ending", where=str(target), remedy=f"Use {usual}")


def check_target(target: Path, width: int | None = None, height: int | None = None) -> None:
    """Say before the work starts whether ``target`` can be written.

    Raises
    ------
    InputError
        Unknown ending, no such folder, not writable, or too large for the format.
    """
    kind = format_of(target)
    check_writable(target)
    most = kind.most_side_px
    if most is not None and width and height and max(width, height) > most:
        raise InputError(
            f"A {kind.name.upper()} holds at most {most} pixels a side and this picture has {width} x {height}",
            where=str(target),
            remedy="Write .tif instead, or make it smaller (--width of a join)",
        )
    if kind.most_px is not None and width and height and width * height > kind.most_px:
        raise InputError(
            f"A {kind.name.upper()} is packed whole in memory: at most {kind.most_px // 1_000_000} MP, and this picture has "
            f"{width * height / 1e6:.0f} MP",
            where=str(target),
            remedy="Write .jpg or .tif instead, or make it smaller",
        )


def _listed(words: Iterable[str]) -> str:
    *first, last = words
    return f"{', '.join(first)} or {last}"
