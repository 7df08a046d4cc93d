"""Damaged pictures, made by what their formats are built of: lengths, sizes, tables, chunks, directories."""

from __future__ import annotations

import io
import struct
import zlib
from collections.abc import Callable
from functools import lru_cache
from pathlib import Path
from random import Random

import numpy as np
import tifffile
from PIL import Image, ImageCms

from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.frames.masks import read_mask
from idle_lantern.core.frames.metadata import Metadata, to_exif
from idle_lantern.core.frames.reading import probe, read, read_again
from idle_lantern.core.pictures.tiled import open_picture

#: Numbers that programs trip over.
_ODD = (0, 1, 2, 3, 7, 8, 15, 255, 256, 32767, 32768, 65535, 65536, 8388768, 2**31 - 1, 2**31, 2**32 - 1)


@lru_cache(maxsize=1)
def sound_pictures() -> dict[str, bytes]:
    """Small sound pictures of each kind that is read, by name."""
    rng = np.random.default_rng(5)
    pixels = np.kron(rng.integers(0, 256, (12, 16, 3), dtype=np.uint8), np.ones((8, 8, 1), np.uint8))
    exif = to_exif(Metadata(focal_mm=35.0, sensor_width_mm=24.0, taken="2026:05:14 19:30:00", orientation=6), 128, 96)
    icc = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
    made: dict[str, bytes] = {}

    def pillow(name: str, image: Image.Image, kind: str, **how: object) -> None:
        stream = io.BytesIO()
        image.save(stream, kind, **how)
        made[name] = stream.getvalue()

    def tiff(name: str, samples: np.ndarray, **how: object) -> None:
        stream = io.BytesIO()
        tifffile.imwrite(stream, samples, metadata=None, **how)
        made[name] = stream.getvalue()

    rgb = Image.fromarray(pixels)
    pillow("plain.jpg", rgb, "JPEG", exif=exif, icc_profile=icc)
    pillow("passes.jpg", rgb, "JPEG", progressive=True, exif=exif)
    pillow("grey.jpg", rgb.convert("L"), "JPEG")
    pillow("inks.jpg", rgb.convert("CMYK"), "JPEG")
    pillow("plain.png", rgb, "PNG", icc_profile=icc, exif=exif)
    pillow("gaps.png", rgb.convert("RGBA"), "PNG")
    pillow("table.png", rgb.convert("P"), "PNG", transparency=3)
    pillow("deep.png", Image.fromarray(pixels[..., 0].astype(np.uint16) * 257), "PNG")
    pillow("inks.tif", rgb.convert("CMYK"), "TIFF", compression="tiff_lzw")
    deep = pixels.astype(np.uint16) * 257
    tiff("plain.tif", pixels, photometric="rgb")
    tiff("tiles.tif", deep, photometric="rgb", tile=(32, 32), compression="deflate", predictor=2)
    tiff("strips.tif", pixels, photometric="rgb", rowsperstrip=8, compression="lzw")
    tiff("bits.tif", pixels, photometric="rgb", rowsperstrip=8, compression="packbits")
    tiff("float.tif", pixels.astype(np.float32) / 255, photometric="rgb")
    tiff("planes.tif", np.moveaxis(deep, -1, 0), photometric="rgb", planarconfig="separate")
    tiff("big.tif", pixels, photometric="rgb", bigtiff=True, compression="zstd")
    tiff("grey.tif", deep[..., 0], photometric="miniswhite")
    tiff("jpeg.tif", pixels, photometric="rgb", tile=(64, 64), compression="jpeg")
    return made


def mutated(data: bytes, rng: Random) -> bytes:
    """The same picture with one to four faults."""
    for _ in range(rng.choice((1, 1, 1, 2, 4))):
        ways: list[Callable[[bytes, Random], bytes]] = [_bytes_changed, _cut_short, _piece_moved]
        if data[:2] == b"\xff\xd8":
            ways += [_jpeg_segment] * 5
        elif data[:4] == b"\x89PNG":
            ways += [_png_chunk] * 5
        elif data[:2] in (b"II", b"MM"):
            ways += [_tiff_entry] * 7
        data = rng.choice(ways)(data, rng)
    return data


def look(path: Path) -> None:
    """Every way by which the program reads a picture that comes from outside."""
    info = probe(path)
    for picture in (read(path), read(path, 4), read_again(info), read_again(info, 2)):
        assert picture.pixels.ndim == 3
        assert picture.pixels.shape[2] == 3
        assert picture.alpha is None or picture.alpha.shape == picture.pixels.shape[:2]


def look_tiled(path: Path) -> None:
    """As a joined picture that is opened again."""
    source = open_picture(path)
    source.tile(len(source.sizes) - 1, 0, 0)
    source.tile(0, 0, 0)


WAYS_IN: tuple[Callable[[Path], object], ...] = (look, read_mask, look_tiled)


def look_all_ways(path: Path) -> None:
    """All ways in, one after another; the first refusal is told at the end."""
    refused: LanternError | None = None
    for way in WAYS_IN:
        try:
            way(path)
        except LanternError as error:
            refused = refused or error
    if refused is not None:
        raise refused


def _bytes_changed(data: bytes, rng: Random) -> bytes:
    changed = bytearray(data)
    for _ in range(rng.choice((1, 2, 8, 64))):
        if changed:
            at = rng.randrange(len(changed))
            changed[at] = rng.choice((0, 255, changed[at] ^ (1 << rng.randrange(8)), rng.randrange(256)))
    return bytes(changed)


def _cut_short(data: bytes, rng: Random) -> bytes:
    return data[: rng.choice((rng.randrange(len(data) + 1), max(0, len(data) - rng.randrange(1, 40))))]


def _piece_moved(data: bytes, rng: Random) -> bytes:
    a, b = sorted(rng.randrange(len(data) + 1) for _ in range(2))
    piece = data[a : min(b, a + 4000)]
    at = rng.randrange(len(data) + 1)
    return data[:at] + piece * rng.choice((0, 1, 1, 30)) + data[at if rng.random() < 0.5 else min(len(data), b) :]


def _odd(rng: Random, most: int) -> int:
    return rng.choice((rng.choice(_ODD), rng.randrange(most + 1), most - rng.randrange(3))) & most


def _jpeg_segment(data: bytes, rng: Random) -> bytes:
    """A segment's length, size, components or tables changed; a segment doubled, dropped or put elsewhere."""
    found, at = [], 2
    while at + 4 <= len(data) and data[at] == 0xFF:
        length = int.from_bytes(data[at + 2 : at + 4], "big")
        found.append((at, 2 + length))
        if data[at + 1] == 0xDA:
            break
        at += 2 + length
    if not found:
        return data
    at, length = rng.choice(found)
    whole = data[at : at + length]
    what = rng.randrange(6)
    if what == 0:
        changed = whole[:2] + _odd(rng, 65535).to_bytes(2, "big") + whole[4:]
    elif what == 1 and whole[1:2] in (b"\xc0", b"\xc1", b"\xc2") and len(whole) > 10:  # size and number of colours
        width, height = (_odd(rng, 65535).to_bytes(2, "big") for _ in range(2))
        changed = whole[:5] + height + width + bytes([rng.choice((whole[9], 0, 1, 3, 4, 5, 255))]) + whole[10:]
    elif what == 2:
        changed = whole * rng.choice((0, 2, 200))
    elif what == 3:
        changed = whole[:4] + bytes(rng.randrange(256) for _ in whole[4:])
    elif what == 4:
        changed = whole[:1] + bytes([rng.randrange(0xC0, 0x100)]) + whole[2:]
    else:
        changed = whole[:4] + _bytes_changed(whole[4:], rng)
    return data[:at] + changed + data[at + length :]


def _png_chunk(data: bytes, rng: Random) -> bytes:
    """A chunk's words changed and its sum made right again; doubled, dropped, renamed; another size told."""
    chunks, at = [], 8
    while at + 12 <= len(data):
        length = int.from_bytes(data[at : at + 4], "big")
        if at + 12 + length > len(data):
            break
        chunks.append((data[at + 4 : at + 8], data[at + 8 : at + 8 + length]))
        at += 12 + length
    if not chunks:
        return data
    i = rng.randrange(len(chunks))
    name, body = chunks[i]
    what = rng.randrange(6)
    if what == 0 and name == b"IHDR" and len(body) == 13:
        sides = struct.pack(">II", _odd(rng, 2**32 - 1), _odd(rng, 2**32 - 1))
        body = rng.choice((sides, body[:8])) + bytes(
            rng.choice((b, rng.choice((0, 1, 2, 3, 4, 6, 8, 16, 255)))) for b in body[8:]
        )
    elif what == 1:
        chunks[i:i] = [(name, body)] * rng.choice((1, 50))
    elif what == 2:
        del chunks[i]
        if not chunks:
            return data[:8]
        i = 0
        name, body = chunks[i]
    elif what == 3:
        name = rng.choice((b"IDAT", b"IEND", b"PLTE", b"tRNS", b"iCCP", b"zTXt", b"eXIf", b"acTL", bytes(4)))
    elif what == 4 and name == b"IDAT":
        body = zlib.compress(bytes(rng.choice((0, 10, 10_000_000))))
    else:
        body = _bytes_changed(body, rng)
    chunks[i] = (name, body)
    return data[:8] + b"".join(
        len(b).to_bytes(4, "big") + n + b + zlib.crc32(n + b).to_bytes(4, "big") for n, b in chunks
    )


def _tiff_entry(data: bytes, rng: Random) -> bytes:
    """A directory entry's tag, type, count or value changed, or its directory made to point elsewhere."""
    order = "<" if data[:2] == b"II" else ">"
    big = len(data) > 16 and struct.unpack(order + "H", data[2:4])[0] == 43
    head, count_size, entry, value_at = ("Q", 8, 20, 12) if big else ("I", 2, 12, 8)
    at_head = 8 if big else 4
    try:
        at = struct.unpack_from(order + head, data, at_head)[0]
        count = struct.unpack_from(order + ("Q" if big else "H"), data, at)[0]
    except struct.error:
        return _bytes_changed(data, rng)
    changed = bytearray(data)
    if not 0 < count < 200 or at + count_size + entry * count > len(data):
        return _bytes_changed(data, rng)
    if rng.random() < 0.08:
        struct.pack_into(order + head, changed, at_head, _odd(rng, len(data)))
        return bytes(changed)
    here = at + count_size + entry * rng.randrange(count)
    what = rng.randrange(4)
    if what == 0:
        tags = (256, 257, 258, 259, 262, 273, 277, 278, 279, 284, 317, 322, 323, 324, 325, 338, 339, 34675, 347)
        struct.pack_into(order + "H", changed, here, rng.choice((*tags, rng.randrange(65536))))
    elif what == 1:
        struct.pack_into(order + "H", changed, here + 2, rng.choice((*range(20), 65535)))
    elif what == 2:
        struct.pack_into(order + head, changed, here + 4, _odd(rng, 2**32 - 1))
    else:
        struct.pack_into(order + "I", changed, here + value_at, _odd(rng, 2**32 - 1))
    return bytes(changed)
