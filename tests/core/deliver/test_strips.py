"""JPEG and PNG laid together from strips, against the reference libraries' own encoding and reading of the whole."""

from __future__ import annotations

import io
import zlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import pytest
from PIL import Image

from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import ColourSpace
from idle_lantern.core.deliver.png_strips import packed_strip
from idle_lantern.core.deliver.strips import write_strips
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.pictures.pyramid import PyramidInfo

#: What a profile holds is nothing to the writer.
TOLD = ColourSpace(icc=b"no real profile")


def _picture(width: int, height: int, channels: int = 3, dtype: Any = np.uint8) -> np.ndarray:
    rng = np.random.default_rng(3)
    smooth = np.add.outer(np.arange(height), np.arange(width))[..., None] // 3 % 256
    eight = np.clip(smooth + rng.integers(-20, 20, (height, width, channels)), 0, 255)
    return eight.astype(np.uint8) if dtype == np.uint8 else (eight * 257 + rng.integers(0, 99)).astype(np.uint16)


def _rows(pixels: np.ndarray, rows: int) -> Iterator[tuple[np.ndarray, np.ndarray | None]]:
    for top in range(0, len(pixels), rows):
        part = pixels[top : top + rows]
        yield part[..., :3], part[..., 3] if part.shape[2] == 4 else None


@pytest.mark.parametrize(("quality", "rows"), [(92, 128), (92, 512), (80, 128), (80, 256)])
def test_strips_decode_to_what_the_whole_decodes_to(tmp_path: Path, quality: int, rows: int):
    """ISO/IEC 10918-1, E.1.4: restart intervals are coded independently, so nothing may differ."""
    pixels = _picture(333, 700)
    target = tmp_path / "p.jpg"
    info = PyramidInfo(333, 700, space=TOLD, dpi=240)
    write_strips(target, info, _rows(pixels, rows), WriteOptions(jpeg_quality=quality, dpi=240))
    whole = io.BytesIO()
    Image.fromarray(pixels).save(whole, "JPEG", quality=quality, subsampling=0 if quality >= 90 else 2)
    with Image.open(target) as image:
        assert image.size == (333, 700)
        assert image.info["icc_profile"] == TOLD.icc
        assert image.info["dpi"][0] == pytest.approx(240, abs=1)
        image.load()
        found = np.asarray(image).astype(int)
    expected = np.asarray(Image.open(whole)).astype(int)
    np.testing.assert_array_equal(found, expected)


@pytest.mark.parametrize("dtype", [np.uint8, np.uint16])
@pytest.mark.parametrize("channels", [3, 4])
@pytest.mark.parametrize("rows", [64, 512])
def test_png_strips_are_read_by_two_libraries(tmp_path: Path, dtype: Any, channels: int, rows: int):
    """Pillow (its own reader) and OpenCV (libpng); both check the checksums that were laid together."""
    pixels = _picture(301, 523, channels, dtype)
    target = tmp_path / "p.png"
    info = PyramidInfo(301, 523, dtype, channels == 4, space=TOLD, dpi=240)
    write_strips(target, info, _rows(pixels, rows), WriteOptions(dpi=240))
    read = cv2.imread(str(target), cv2.IMREAD_UNCHANGED)
    np.testing.assert_array_equal(read, pixels[..., [2, 1, 0, 3][:channels]])
    with Image.open(target) as image:
        image.verify()
    with Image.open(target) as image:
        assert image.size == (301, 523)
        assert image.info["icc_profile"] == TOLD.icc
        assert image.info["dpi"][0] == pytest.approx(240, abs=1)
        if dtype == np.uint8:
            np.testing.assert_array_equal(np.asarray(image), pixels)


def test_packed_strips_hold_the_checksum_of_what_they_hold():
    """RFC 1950, section 8.2: Adler-32, against zlib's."""
    piece = packed_strip(_picture(20, 10))
    raw = zlib.decompressobj(-15).decompress(piece[12:])
    assert zlib.adler32(raw) == int.from_bytes(piece[:4], "big")
    assert len(raw) == int.from_bytes(piece[4:12], "big") == 10 * (1 + 20 * 3)


@pytest.mark.parametrize("ending", [".jpg", ".png"])
def test_missing_rows_are_no_picture(tmp_path: Path, ending: str):
    with pytest.raises(ValueError, match="128 rows"):
        write_strips(tmp_path / f"p{ending}", PyramidInfo(64, 200), _rows(_picture(64, 128), 128), WriteOptions())


def test_what_is_transparent_is_black_in_a_jpeg(tmp_path: Path):
    """JPEG knows no transparency: whatever colour lay hidden there must not come out, in memory or from tiles."""
    pixels = np.full((700, 900, 3), 200, np.uint8)
    alpha = np.full((700, 900), 255, np.uint8)
    alpha[:, 600:] = 0
    write(Picture(pixels, alpha), tmp_path / "p.jpg")
    shown = np.asarray(Image.open(tmp_path / "p.jpg")).astype(int)
    assert np.abs(shown[:, :590] - 200).max() <= 2
    assert shown[:, 610:].max() <= 2
