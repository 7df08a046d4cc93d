"""Operations on pictures: by tile as on the whole, on a coarser level as on the reduced whole, in light where they ask for it."""

from __future__ import annotations

from typing import Any

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.profiles import named_space
from idle_lantern.core.colour.space import DISPLAY_P3, SRGB
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.operations import CroppedPicture, OperatedPicture, Operation, TilePlace
from idle_lantern.core.pictures.resized import ResizedPicture
from idle_lantern.core.pictures.source import HeldPicture, PictureSource, reduced, region


class Blur(Operation):
    """A Gaussian of so many pixels of the full picture."""

    name = "blur"

    def __init__(self, sigma_px: float) -> None:
        self.sigma_px = sigma_px

    @property
    def halo_px(self) -> float:
        return 4 * self.sigma_px

    @property
    def key(self) -> str:
        return f"blur {self.sigma_px}"

    def apply(self, tile: Any, at: TilePlace) -> Any:
        return cv2.GaussianBlur(tile, (0, 0), self.sigma_px / at.scale[0], borderType=cv2.BORDER_REPLICATE)


class Brighter(Operation):
    """Twice the light."""

    name, works_in = "brighter", "linear"
    key = "brighter"

    def apply(self, tile: Any, at: TilePlace) -> Any:
        return tile * np.float32([2, 2, 2, 1])


def _picture(width: int, height: int, dtype: Any = np.uint8) -> Picture:
    rng = np.random.default_rng(4)
    small = rng.integers(0, np.iinfo(dtype).max // 3, (height // 8 + 2, width // 8 + 2, 3)).astype(np.float32)
    smooth = cv2.resize(small, (width, height), interpolation=cv2.INTER_CUBIC)
    return Picture(np.clip(smooth, 0, np.iinfo(dtype).max).astype(dtype))


def _whole(source: PictureSource, level: int = 0) -> np.ndarray:
    return region(source, Rectangle(0, 0, *source.sizes[level]), level)


def test_tiles_with_a_halo_are_the_whole():
    """OpenCV on all of it at once: what a float rounds to 8 bit."""
    picture = _picture(1300, 1100)
    found = _whole(OperatedPicture(HeldPicture(picture), [Blur(6.0)]))
    expected = cv2.GaussianBlur(picture.pixels.astype(np.float32), (0, 0), 6.0, borderType=cv2.BORDER_REPLICATE)
    assert np.abs(found - np.rint(expected)).max() <= 1


def test_a_coarser_level_agrees_with_the_reduced_full_result():
    source = HeldPicture(_picture(2200, 1800))
    done = OperatedPicture(source, [Blur(8.0), Brighter()])
    assert len(done.sizes) > 1
    full = _whole(done).astype(np.float32)
    small = cv2.resize(full, done.sizes[1], interpolation=cv2.INTER_AREA)
    assert np.abs(_whole(done, 1) - small)[20:-20, 20:-20].max() <= 2


@pytest.mark.parametrize("space", [SRGB, DISPLAY_P3, SRGB.up_to(4.0)])
def test_light_is_that_of_the_picture_s_space(space: Any):
    picture = Picture(_picture(40, 30, np.uint16).pixels, None, space)
    found = Picture(_whole(OperatedPicture(HeldPicture(picture), [Brighter()])), None, space)
    expected = np.minimum(2 * picture.light(), space.transfer.white)
    np.testing.assert_allclose(found.light(), expected, atol=2e-4 * space.transfer.white)


def test_what_nothing_touches_stays_to_the_last_bit():
    class Nowhere(Brighter):
        def touches(self, at: TilePlace) -> bool:
            return at.box.left > 600

    picture = _picture(1200, 300, np.uint16)
    found = _whole(OperatedPicture(HeldPicture(picture), [Nowhere()]))
    assert np.array_equal(found[:, :1024], picture.pixels[:, :1024])
    assert not np.array_equal(found[:, 1024:], picture.pixels[:, 1024:])


def test_stacks_are_known_by_what_they_do():
    source = HeldPicture(_picture(40, 30))
    keys = {
        OperatedPicture(source, operations, space).key
        for operations in ([], [Blur(2.0)], [Blur(3.0)], [Blur(2.0), Brighter()], [Brighter(), Blur(2.0)])
        for space in (None, named_space("p3"))
    }
    assert len(keys) == 10


class _Counting:
    """Counts how often each tile is read."""

    def __init__(self, source: PictureSource) -> None:
        self._source, self.read = source, 0
        self.sizes, self.tile_px, self.space = source.sizes, source.tile_px, source.space

    def tile(self, level: int, row: int, column: int) -> np.ndarray:
        self.read += 1
        return self._source.tile(level, row, column)


@settings(max_examples=20, deadline=None)
@given(st.integers(0, 700), st.integers(0, 700), st.integers(1, 1500), st.integers(1, 1500))
def test_a_crop_off_the_grid_reads_each_tile_once(left: int, top: int, width: int, height: int):
    """It used to read each four times."""
    picture = _picture(2200, 2200)
    counting = _Counting(HeldPicture(picture))
    found = _whole(CroppedPicture(counting, Rectangle(left, top, width, height)))
    assert np.array_equal(found, picture.pixels[top : top + height, left : left + width])
    columns = (left + width - 1) // 512 - left // 512 + 1
    rows = (top + height - 1) // 512 - top // 512 + 1
    assert counting.read == columns * rows


def test_a_crop_made_small_is_made_from_coarse_levels_and_lies_where_it_did():
    """A web picture of a crop read all of the full level at once: 1.2 GB for 240 MP. Against OpenCV's reduction of the crop itself."""
    soft = cv2.GaussianBlur(_picture(4600, 3300).pixels, (0, 0), 9)
    counting = _Counting(HeldPicture(Picture(soft)))
    crop = CroppedPicture(counting, Rectangle(101, 77, 4201, 3003))
    found = _whole(ResizedPicture(crop, 600)).astype(int)
    expected = cv2.resize(soft[77 : 77 + 3003, 101 : 101 + 4201], (600, 429), interpolation=cv2.INTER_AREA).astype(int)
    assert np.abs(found - expected)[3:-3, 3:-3].mean() < 0.7
    assert counting.read <= 20, "tiles of the level of half the size; of the full one there are 63"


@pytest.mark.parametrize("longest", [1900, 1300, 999, 257])
def test_a_smaller_picture_is_the_picture_smaller(longest: int):
    """Against OpenCV's own reduction by areas, on soft shapes; the borders of tiles show nowhere."""
    soft = cv2.GaussianBlur(_picture(2100, 1500).pixels, (0, 0), 4 * 2100 / longest)
    picture = Picture(soft)
    source = ResizedPicture(HeldPicture(picture), longest)
    found = _whole(source).astype(int)
    assert max(found.shape[:2]) == longest
    expected = cv2.resize(picture.pixels, source.sizes[0], interpolation=cv2.INTER_AREA).astype(int)
    off = np.abs(found - expected)[4:-4, 4:-4]
    assert off.mean() < 1.5
    assert np.abs(found.mean((0, 1)) - picture.pixels.mean((0, 1))).max() < 0.6
    assert ResizedPicture(HeldPicture(picture), 9000).sizes == ((2100, 1500),)


def test_fine_patterns_do_not_turn_into_coarse_ones():
    """Stripes of three pixels, made smaller by 2.7: an even grey is left of them, as of an ideal reduction."""
    stripes = np.zeros((900, 1350, 3), np.uint8)
    stripes[:, ::3] = 255
    found = _whole(ResizedPicture(HeldPicture(Picture(stripes)), 500))
    assert found[10:-10, 10:-10].std() < 0.2 * stripes.std()
    assert reduced(HeldPicture(Picture(stripes)), 9000).shape == stripes.shape


def test_what_shows_nothing_does_not_darken_the_rim():
    alpha = np.zeros((800, 800), np.uint8)
    alpha[:, 400:] = 255
    pixels = np.where(alpha[..., None] > 0, 200, 0).astype(np.uint8).repeat(3, 2)
    found = _whole(ResizedPicture(HeldPicture(Picture(pixels, alpha)), 300))
    shown = found[..., 3] > 8
    assert np.abs(found[shown][:, :3].astype(int) - 200).max() <= 2
