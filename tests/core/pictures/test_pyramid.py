"""The picture store: the same pixels come back at every level, whatever size, type and cut; other readers agree."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import pytest
import tifffile
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from PIL import Image

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.colour.profiles import named_space
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.pyramid import PackedTile, PyramidInfo, packed, write_pyramid
from idle_lantern.core.pictures.source import TILE, region
from idle_lantern.core.pictures.tiled import TiledPicture, open_picture

TYPES: list[Any] = [np.uint8, np.uint16, np.float32]


def _picture(width: int, height: int, dtype: Any, channels: int = 4, seed: int = 1) -> np.ndarray:
    """Something smooth with noise; the upper fifth shows nothing."""
    rng = np.random.default_rng(seed)
    full = 1.0 if np.dtype(dtype).kind == "f" else float(np.iinfo(dtype).max)
    coarse = rng.random((height // 9 + 2, width // 9 + 2, 3)).astype(np.float32)
    pixels = np.clip(cv2.resize(coarse, (width, height), interpolation=cv2.INTER_LINEAR), 0, 1) * full
    if channels == 3:
        return pixels.astype(dtype)
    alpha = np.full((height, width), full)
    alpha[: height // 5 + 1] = 0
    pixels[alpha == 0] = 0
    return np.dstack([pixels, alpha]).astype(dtype)


def _tiles(pixels: np.ndarray) -> Iterator[PackedTile]:
    for top in range(0, pixels.shape[0], TILE):
        for left in range(0, pixels.shape[1], TILE):
            tile = pixels[top : top + TILE, left : left + TILE]
            yield packed(tile[..., :3], tile[..., 3] if tile.shape[2] == 4 else None)


def _written(path: Path, pixels: np.ndarray, **more: Any) -> PyramidInfo:
    height, width, channels = pixels.shape
    info = PyramidInfo(width, height, pixels.dtype, channels == 4, **more)
    write_pyramid(path, info, _tiles(pixels))
    return info


@settings(max_examples=15, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    width=st.one_of(st.integers(1, 1700), st.sampled_from([511, 512, 513, 1024, 1025])),
    height=st.one_of(st.integers(1, 1300), st.sampled_from([511, 512, 513, 1024, 1025])),
    dtype=st.sampled_from(TYPES),
    channels=st.sampled_from([3, 4]),
)
def test_whatever_is_written_is_read_again(tmp_path: Path, width: int, height: int, dtype: Any, channels: int):
    pixels = _picture(width, height, dtype, channels)
    path = tmp_path / "p.tif"
    space = named_space("p3").up_to(6.0)
    info = _written(path, pixels, space=space, dpi=240)
    picture = TiledPicture(path)
    assert picture.sizes == tuple((max(1, width >> k), max(1, height >> k)) for k in range(info.halvings + 1))
    assert (picture.space.icc, picture.dtype) == (None if info.dtype == np.float32 else space.icc, np.dtype(dtype))
    assert picture.space == (space.in_light if info.dtype == np.float32 else space)
    np.testing.assert_array_equal(region(picture, Rectangle(0, 0, width, height)), pixels)
    for level, (w, h) in enumerate(picture.sizes):
        assert region(picture, Rectangle(0, 0, w, h), level).shape == (h, w, channels)
    part = Rectangle(width // 3, height // 4, max(1, width // 2), max(1, height // 2))
    cut = pixels[part.top : part.top + part.height, part.left : part.left + part.width]
    np.testing.assert_array_equal(region(picture, part), cut)


@pytest.mark.parametrize(("width", "height"), [(2500, 1300), (512, 512), (1025, 2049)])
@pytest.mark.parametrize("dtype", TYPES)
def test_halves_hold_the_mean_of_what_shows(tmp_path: Path, width: int, height: int, dtype: Any):
    pixels = _picture(width, height, dtype)
    path = tmp_path / "p.tif"
    _written(path, pixels)
    picture = TiledPicture(path)
    assert max(picture.sizes[-1]) <= 1024
    if len(picture.sizes) > 1:
        w, h = picture.sizes[1]
        half = region(picture, Rectangle(0, 0, w, h), 1).astype(float)
        four = pixels[: 2 * h, : 2 * w].astype(float).reshape(h, 2, w, 2, 4)
        weight = four[..., 3:].sum((1, 3))
        shown = weight[..., 0] > 0
        colours = (four[..., :3] * four[..., 3:]).sum((1, 3))[shown] / weight[shown]
        within = 1.0 if np.dtype(dtype).kind == "u" else 1e-5  # rounding to whole grey levels, or float32
        assert np.abs(half[..., :3][shown] - colours).max() <= within
        assert np.abs(half[..., 3] - four[..., 3].mean((1, 3))).max() <= within
    assert [p.name for p in tmp_path.iterdir() if p.is_file()] == ["p.tif"], "what the halves wait in is gone"


def test_two_other_readers_see_the_same_pixels(tmp_path: Path):
    """Pillow and OpenCV (both over libtiff), for 8 bit; tifffile's own series for 16 bit and floats."""
    pixels = _picture(1300, 700, np.uint8)
    _written(tmp_path / "p.tif", pixels)
    with Image.open(tmp_path / "p.tif") as image:
        np.testing.assert_array_equal(np.asarray(image), pixels)
    read = cv2.imread(str(tmp_path / "p.tif"), cv2.IMREAD_UNCHANGED)
    opaque = pixels[..., 3] == 255  # it blackens what is transparent
    np.testing.assert_array_equal(read[opaque], pixels[opaque][:, [2, 1, 0, 3]])
    for dtype in (np.uint16, np.float32):
        deep = _picture(1300, 700, dtype)
        _written(tmp_path / "d.tif", deep)
        with tifffile.TiffFile(tmp_path / "d.tif") as tiff:
            np.testing.assert_array_equal(tiff.series[0].levels[0].asarray(), deep)
            assert [level.shape for level in tiff.series[0].levels] == [(700, 1300, 4), (350, 650, 4)]


def test_sixteen_bit_is_read_by_libtiff_as_well(tmp_path: Path):
    deep = _picture(600, 300, np.uint16, 3)
    _written(tmp_path / "d.tif", deep)
    read = cv2.imread(str(tmp_path / "d.tif"), cv2.IMREAD_UNCHANGED)
    np.testing.assert_array_equal(read, deep[..., ::-1])


def test_longest_sides_that_other_code_stumbles_at(tmp_path: Path):
    """32 767 and more pixels a side: signed 16-bit counters end there."""
    for width in (32767, 33000):
        pixels = _picture(width, 3, np.uint8)
        _written(tmp_path / "p.tif", pixels)
        picture = TiledPicture(tmp_path / "p.tif")
        np.testing.assert_array_equal(region(picture, Rectangle(0, 0, width, 3)), pixels)
        end = Rectangle(width - 5, 0, 5, 3)
        np.testing.assert_array_equal(region(picture, end), pixels[:, -5:])


def _giant(path: Path, width: int = 46000, height: int = 27000) -> None:
    """1.24 gigapixels, cheaply: one tile again and again."""
    tile = packed(np.full((TILE, TILE, 3), 90, np.uint8), None)
    info = PyramidInfo(width, height, alpha=False)
    write_pyramid(path, info, (tile for _ in range(info.rows * info.columns)))


def test_a_picture_beyond_a_gigapixel_is_opened_again(tmp_path: Path):
    """Readers that hold pictures whole refuse above 1.2 Gpx; and nothing but its table of contents is read."""
    path = tmp_path / "giant.tif"
    _giant(path)
    code = (
        "import sys; from pathlib import Path\n"
        "from idle_lantern.core.pictures.tiled import open_picture\n"
        "from idle_lantern.core.base.memory import peak_rss_mib\n"
        "p = open_picture(Path(sys.argv[1])); before = peak_rss_mib()\n"
        "p.tile(0, 40, 60); p.tile(len(p.sizes) - 1, 0, 0)\n"
        "print(p.sizes[0], peak_rss_mib() - before)"
    )
    done = subprocess.run([sys.executable, "-c", code, str(path)], capture_output=True, text=True, check=True)
    size, _, more = done.stdout.strip().rpartition(" ")
    assert size == "(46000, 27000)"
    assert float(more) < 60, "a tile or two, not the picture"


@pytest.mark.parametrize("share", [0.0, 0.02, 0.3, 0.7, 0.999])
def test_a_file_cut_short_is_told_in_a_sentence(tmp_path: Path, share: float):
    path = tmp_path / "p.tif"
    _written(path, _picture(1300, 900, np.uint8))
    data = path.read_bytes()
    path.write_bytes(data[: int(len(data) * share)])

    def all_of_it() -> None:
        picture = open_picture(path)
        for level, (w, h) in enumerate(picture.sizes):
            region(picture, Rectangle(0, 0, w, h), level)

    with pytest.raises(InputError) as caught:
        all_of_it()
    assert len(caught.value.sentence) < 300
    assert "p.tif" in caught.value.sentence


def test_flipped_bytes_never_end_in_a_traceback(tmp_path: Path):
    path = tmp_path / "p.tif"
    _written(path, _picture(700, 400, np.uint8))
    data = path.read_bytes()
    rng = np.random.default_rng(5)
    told = 0
    for _ in range(60):
        broken = bytearray(data)
        for at in rng.integers(0, min(len(data), 3000), 4):
            broken[at] ^= int(rng.integers(1, 255))
        path.write_bytes(broken)
        try:
            picture = TiledPicture(path)
            for row in range(-(-picture.sizes[0][1] // picture.tile_px)):
                picture.tile(0, row, 0)
        except InputError:
            told += 1
    assert told > 0


def test_a_killed_writer_leaves_the_old_picture(tmp_path: Path):
    """Killed in the middle: the target is the old one to the byte."""
    target = tmp_path / "p.tif"
    _written(target, _picture(600, 400, np.uint8))
    before = target.read_bytes()
    code = (
        "import sys, time\nfrom pathlib import Path\nimport numpy as np\n"
        "from idle_lantern.core.base.atomic import replacing\n"
        "from idle_lantern.core.pictures.pyramid import *\n"
        "info = PyramidInfo(5000, 5000)\n"
        "def tiles():\n"
        "    for i in range(100):\n"
        "        yield packed(np.full((512, 512, 3), i, np.uint8), np.full((512, 512), 255, np.uint8))\n"
        "        if i == 20: print('half', flush=True); time.sleep(60)\n"
        "with replacing(Path(sys.argv[1])) as part: write_pyramid(part, info, tiles())\n"
    )
    process = subprocess.Popen([sys.executable, "-c", code, str(target)], stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    assert process.stdout.readline().strip() == "half"
    os.kill(process.pid, signal.SIGKILL)
    process.wait()
    process.stdout.close()
    assert target.read_bytes() == before
    np.testing.assert_array_equal(region(open_picture(target), Rectangle(0, 0, 600, 400)), _picture(600, 400, np.uint8))


def test_many_threads_read_one_file(tmp_path: Path):
    pixels = _picture(3000, 1100, np.uint8)
    _written(tmp_path / "p.tif", pixels)
    picture = TiledPicture(tmp_path / "p.tif")
    places = [(r, c) for r in range(3) for c in range(6)] * 12

    def same(place: tuple[int, int]) -> bool:
        r, c = place
        return bool((picture.tile(0, r, c) == pixels[r * TILE : r * TILE + TILE, c * TILE : c * TILE + TILE]).all())

    with ThreadPoolExecutor(8) as pool:
        assert all(pool.map(same, places))


def test_the_file_is_still_read_when_another_takes_its_place(tmp_path: Path):
    """The window shows the old picture until the new one is taken over."""
    one, other = _picture(700, 500, np.uint8, seed=1), _picture(700, 500, np.uint8, seed=2)
    path = tmp_path / "p.tif"
    _written(path, one)
    old = TiledPicture(path)
    _written(tmp_path / "q.tif", other)
    os.replace(tmp_path / "q.tif", path)
    np.testing.assert_array_equal(region(old, Rectangle(0, 0, 700, 500)), one)
    np.testing.assert_array_equal(region(TiledPicture(path), Rectangle(0, 0, 700, 500)), other)


def test_what_is_stated_stands_in_the_file(tmp_path: Path):
    _written(tmp_path / "p.tif", _picture(100, 80, np.uint16), space=SRGB.up_to(4.0), dpi=300)
    with tifffile.TiffFile(tmp_path / "p.tif") as tiff:
        page = tiff.pages[0]
        assert json.loads(page.description) == {"white": 4.0}
        assert page.tags["XResolution"].value == (300, 1)
        assert page.tags["ExtraSamples"].value == (2,)  # TIFF 6.0, p. 31: unassociated alpha
        assert page.tags["Predictor"].value == 2  # TIFF 6.0, section 14


def test_a_tile_that_is_cut_off_is_told_and_not_taken_over(tmp_path: Path):
    _written(tmp_path / "p.tif", _picture(700, 600, np.uint8))
    picture = TiledPicture(tmp_path / "p.tif")
    assert picture.packed(0, 0, 0)
    os.truncate(tmp_path / "p.tif", 200)
    with pytest.raises(InputError, match="cut off"):
        picture.packed(0, 1, 1)
