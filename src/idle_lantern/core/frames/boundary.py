"""The boundary of picture files: what a file is by its first bytes, and what becomes of whatever decoders raise."""

from __future__ import annotations

import contextlib
import logging
import warnings
from collections.abc import Iterator
from pathlib import Path

from idle_lantern.core.base.errors import LanternError, UnreadableFrame
from idle_lantern.core.base.memory import available_bytes, is_out_of_memory

# what a damaged file makes it say is told by us, in one sentence
logging.getLogger("tifffile").setLevel(logging.CRITICAL)

_LEAST_FREE_BYTES = 100_000_000


def is_tiff_file(path: Path) -> bool:
    """Whether a file is a TIFF, by what it begins with (TIFF 6.0, section 2, and its big variant).

    Raises
    ------
    UnreadableFrame
        It is missing, empty, or no picture at all.
    """
    return kind_of(path) == "TIFF"


def _check_exists(path: Path) -> None:
    try:
        stat = path.stat()
    except FileNotFoundError as error:
        raise UnreadableFrame("Is missing", where=str(path), remedy="Check the name or copy the file again") from error
    except (OSError, ValueError) as error:  # no permission, a loop of links, a name that no file can have
        raise _unreadable(path, error) from error
    if path.is_dir():
        raise UnreadableFrame("Is a folder, not a picture", where=str(path))
    if not path.is_file():  # reading a pipe would wait for ever
        raise UnreadableFrame("Is no file", where=str(path), remedy="Name a picture file")
    if stat.st_size == 0:
        raise UnreadableFrame(
            "Is empty (zero bytes)", where=path.name, remedy="Copy it from the card again or leave it out"
        )


#: What files begin with: those that are read, and others to be named (at byte 4 where they say so there).
_SIGNATURES = (
    (0, b"\xff\xd8\xff", "JPEG"),
    (0, b"\x89PNG\r\n\x1a\n", "PNG"),
    *((0, mark, "TIFF") for mark in (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+")),
    (0, b"GIF8", "GIF"),
    (0, b"BM", "BMP"),
    (8, b"WEBP", "WebP"),
    (4, b"ftypavif", "AVIF"),
    (4, b"ftyphei", "HEIC"),
    (4, b"ftypmif1", "HEIC"),
    (0, b"8BPS", "layered"),
    (0, b"\xff\x0a", "JPEG XL"),
    (4, b"JXL ", "JPEG XL"),
    (4, b"jP  ", "JPEG 2000"),
    # cameras' own kinds that are no TIFF
    (4, b"ftypcrx ", "raw"),
    (0, b"FUJIFILMCCD-RAW", "raw"),
    *((0, mark, "raw") for mark in (b"IIRO", b"IIRS", b"MMOR", b"IIU\0", b"FOVb", b"\0MRM")),
    (6, b"HEAPCCDR", "raw"),
)

#: Endings of camera raw that LibRaw reads; most of them begin as any TIFF does.
RAW_SUFFIXES = (
    ".3fr", ".arw", ".cr2", ".cr3", ".crw", ".dcr", ".dng", ".erf", ".fff", ".iiq", ".kdc", ".mef", ".mos", ".mrw", ".nef",
    ".nrw", ".orf", ".pef", ".raf", ".raw", ".rw2", ".rwl", ".sr2", ".srf", ".srw", ".x3f",
)  # fmt: skip


def kind_of(path: Path) -> str:
    """What a file is, by what it begins with: endings are often wrong.

    Raises
    ------
    UnreadableFrame
        It is missing, empty, cannot be opened, or no picture.
    """
    _check_exists(path)
    try:
        with open(path, "rb") as stream:
            head = stream.read(16)
    except OSError as error:
        raise _unreadable(path, error) from error
    kind = next((kind for at, mark, kind in _SIGNATURES if head.startswith(mark, at)), None)
    if path.suffix.lower() in RAW_SUFFIXES and kind in (None, "TIFF"):
        return "raw"
    if kind is None:
        raise damaged(path)
    return _kind_of_jpeg(path) if kind == "JPEG" else kind


#: Markers of a JPEG that begin a frame (ITU-T T.81, table B.1, and T.87); among them stand three that do not.
_FRAMES_OF_JPEG = (*(m for m in range(0xC0, 0xD0) if m not in (0xC4, 0xC8, 0xCC)), 0xF7)
_JPEG_LS = 0xF7


def _kind_of_jpeg(path: Path) -> str:
    """``JPEG``, or one of its relatives that are not read: JPEG-LS, and those of more than 8 bit."""
    with open(path, "rb") as stream:
        at = 2
        while True:
            stream.seek(at)
            head = stream.read(5)
            if len(head) < 5 or head[0] != 0xFF:
                return "JPEG"  # damaged: its decoder says so
            if head[1] == 0xFF:  # a fill byte before a marker
                at += 1
                continue
            if head[1] in _FRAMES_OF_JPEG:
                break
            at += 2 + int.from_bytes(head[2:4], "big")
    if head[1] == _JPEG_LS:
        return "JPEG-LS"
    return f"{head[4]}-bit JPEG" if head[4] in (12, 16) else "JPEG"


@contextlib.contextmanager
def told(path: Path) -> Iterator[None]:
    """The one boundary of all decoders: whatever a file makes them raise becomes a sentence about the file."""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            yield
    except LanternError:
        raise
    except Exception as error:
        # decoders that get no memory say anything; a sound file must not be called damaged for it
        if is_out_of_memory(error) or available_bytes() < _LEAST_FREE_BYTES:
            raise UnreadableFrame(
                "Needs more memory to be read than is free",
                where=path.name,
                remedy="Close other programs, or reduce the picture first",
            ) from error
        if isinstance(error, OSError) and error.errno is not None:
            raise _unreadable(path, error) from error
        raise damaged(path) from error


def _unreadable(path: Path, error: OSError | ValueError) -> UnreadableFrame:
    return UnreadableFrame(f"Cannot be read ({getattr(error, 'strerror', None) or error})", where=str(path))


def damaged(path: Path) -> UnreadableFrame:
    """What is said of a file that no decoder takes."""
    return UnreadableFrame(
        "Is damaged or not a picture", where=path.name, remedy="Copy it from the card again or leave it out"
    )
