"""Tiled pyramid TIFF written as tiles come: the same pixels as written at once, halves as they should be."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import cv2
import numpy as np
import pytest
import tifffile
from idle_lantern.core.deliver.streaming import TILE, write_tiles

from idle_lantern.core.deliver.targets import WriteOptions


def _picture(width: int, height: int, dtype: type) -> tuple[np.ndarray, np.ndarray]:
    rng = np.random.default_rng(1)
    coarse = rng.integers(0, np.iinfo(dtype).max, (height // 9 + 2, width // 9 + 2, 3)).astype(np.float32)
    pixels = cv2.resize(coarse, (width, height), interpolation=cv2.INTER_CUBIC)
    alpha = np.full((height, width), np.iinfo(dtype).max, dtype)
    alpha[: height // 5 + 1] = 0
    pixels[alpha == 0] = 0
    return np.clip(pixels, 0, np.iinfo(dtype).max).astype(dtype), alpha


def _tiles(pixels: np.ndarray, alpha: np.ndarray) -> Iterator[tuple[np.ndarray, np.ndarray]]:
    for top in range(0, alpha.shape[0], TILE):
        for left in range(0, alpha.shape[1], TILE):
            at = slice(top, top + TILE), slice(left, left + TILE)
            yield pixels[at], alpha[at]


@pytest.mark.parametrize(("width", "height"), [(2500, 1300), (512, 512), (300, 90), (1025, 2049)])
@pytest.mark.parametrize("dtype", [np.uint8, np.uint16])
def test_all_levels_hold_what_they_should(tmp_path: Path, width: int, height: int, dtype: type):
    pixels, alpha = _picture(width, height, dtype)
    path = tmp_path / "p.tif"
    write_tiles(path, width, height, _tiles(pixels, alpha), dtype, WriteOptions(), icc=b"profile")
    with tifffile.TiffFile(path) as tiff:
        page = tiff.pages[0]
        assert page.is_tiled
        assert bytes(page.tags[34675].value) == b"profile"
        levels = tiff.series[0].levels
        np.testing.assert_array_equal(levels[0].asarray(), np.dstack([pixels, alpha]))
        assert max(levels[-1].shape[:2]) <= 1024
        for k, level in enumerate(levels[1:], 1):
            assert level.shape[:2] == (max(1, height >> k), max(1, width >> k))
        if len(levels) > 1:
            # a half is the mean of four pixels, its colour that of those of them that show
            half = levels[1].asarray().astype(float)
            h, w = half.shape[:2]
            four = np.dstack([pixels, alpha])[: 2 * h, : 2 * w].astype(float).reshape(h, 2, w, 2, 4)
            weight = four[..., 3:].sum((1, 3))
            shown = weight[..., 0] > 0
            colours = (four[..., :3] * four[..., 3:]).sum((1, 3))[shown] / weight[shown]
            assert np.abs(half[..., :3][shown] - colours).max() <= 1.0
            assert np.abs(half[..., 3] - four[..., 3].mean((1, 3))).max() <= 1.0
    assert [p.name for p in tmp_path.iterdir() if p.is_file()] == ["p.tif"]


def test_other_programs_open_the_first_level(tmp_path: Path):
    """OpenCV's own TIFF decoder (libtiff) reads the same pixels."""
    pixels, alpha = _picture(1300, 700, np.uint8)
    write_tiles(tmp_path / "p.tif", 1300, 700, _tiles(pixels, alpha), np.uint8, WriteOptions())
    read = cv2.imread(str(tmp_path / "p.tif"), cv2.IMREAD_UNCHANGED)
    opaque = alpha == 255  # it blackens what is transparent
    np.testing.assert_array_equal(read[opaque], np.dstack([pixels[..., ::-1], alpha])[opaque])
