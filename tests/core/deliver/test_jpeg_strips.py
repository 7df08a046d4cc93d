"""JPEG laid together from strips, against the reference library's own encoding of the whole."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from idle_lantern.core.deliver.jpeg_strips import strips_of, write_jpeg_strips
from idle_lantern.core.deliver.targets import WriteOptions


def _picture(width: int, height: int) -> np.ndarray:
    rng = np.random.default_rng(3)
    smooth = np.add.outer(np.arange(height), np.arange(width))[..., None] // 3 % 256
    return np.clip(smooth + rng.integers(-20, 20, (height, width, 3)), 0, 255).astype(np.uint8)


@pytest.mark.parametrize(("quality", "rows"), [(92, 128), (92, 512), (80, 128), (80, 256)])
def test_strips_decode_to_what_the_whole_decodes_to(tmp_path: Path, quality: int, rows: int):
    """ISO/IEC 10918-1, E.1.4: restart intervals are coded independently, so nothing may differ."""
    pixels = _picture(333, 700)
    target = tmp_path / "p.jpg"
    strips = (pixels[top : top + rows] for top in range(0, len(pixels), rows))
    write_jpeg_strips(target, 333, 700, strips, WriteOptions(jpeg_quality=quality, dpi=240), icc=b"profile")
    whole = io.BytesIO()
    Image.fromarray(pixels).save(whole, "JPEG", quality=quality, subsampling=0 if quality >= 90 else 2)
    with Image.open(target) as image:
        assert image.size == (333, 700)
        assert image.info["icc_profile"] == b"profile"
        assert image.info["dpi"][0] == pytest.approx(240, abs=1)
        image.load()
        found = np.asarray(image).astype(int)
    expected = np.asarray(Image.open(whole)).astype(int)
    np.testing.assert_array_equal(found, expected)


def test_missing_rows_are_no_picture(tmp_path: Path):
    with pytest.raises(ValueError, match="128 rows"):
        write_jpeg_strips(tmp_path / "p.jpg", 64, 200, [_picture(64, 128)], WriteOptions())


def test_tiles_make_strips():
    pixels = _picture(100, 40)
    alpha = np.full((40, 100), 255, np.uint8)
    tiles = [(pixels[:20, :60], alpha[:20, :60]), (pixels[:20, 60:], alpha[:20, 60:])]
    tiles += [(pixels[20:, :60], alpha[20:, :60]), (pixels[20:, 60:], alpha[20:, 60:])]
    strips = list(strips_of(tiles, 100))
    np.testing.assert_array_equal(np.concatenate(strips), pixels)
    deep = strips_of([(pixels.astype(np.uint16) * 257, alpha)], 100)
    np.testing.assert_array_equal(next(deep), pixels)
