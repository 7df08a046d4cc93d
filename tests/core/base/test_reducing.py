"""Pictures made smaller: against scikit-image's anti-aliased resize, and what must not change."""

from __future__ import annotations

import numpy as np
import pytest
import skimage.data
from skimage.transform import resize

from idle_lantern.core.base.colours import largest, smallest, total
from idle_lantern.core.base.reducing import halved, reduced_to


@pytest.mark.parametrize("size", [(400, 300), (301, 217), (256, 171), (77, 59), (500, 300)])
def test_a_photograph_reduced_is_that_of_a_reference_library(size: tuple[int, int]):
    """``skimage.transform.resize`` with its Gaussian against aliasing; within two grey levels, nothing shifted."""
    photograph = skimage.data.chelsea()[:, :450]
    ours = reduced_to(photograph, *size).astype(float)
    theirs = resize(photograph, size[::-1], order=1, anti_aliasing=True, preserve_range=True)
    assert ours.shape == theirs.shape
    assert np.abs(ours - theirs)[3:-3, 3:-3].mean() < 2.5
    for axis in (0, 1):  # a shift by half a pixel would be worse than what is there, either way
        shifted = (ours + np.roll(ours, 1, axis)) / 2
        assert np.abs(ours - theirs)[3:-3, 3:-3].mean() < np.abs(shifted - theirs)[3:-3, 3:-3].mean()


@pytest.mark.parametrize("size", [(578, 391), (577, 390), (400, 300)])
def test_noise_goes_down_alike_everywhere(size: tuple[int, int]):
    """Sides that are no multiple: where middles of pixels fall onto each other as little noise is left as between."""
    noise = np.random.default_rng(1).normal(128, 20, (781, 1155)).astype(np.float32)
    small = reduced_to(noise, *size)
    bands = [b.std() for axis in (0, 1) for b in np.array_split(small, 6, axis)]
    assert max(bands) < 1.35 * min(bands)
    assert small.std() < 0.7 * noise.std()
    assert small.mean() == pytest.approx(noise.mean(), abs=0.2)


@pytest.mark.parametrize("whole", [(601, 401), (600, 401), (601, 400), (1204, 803)])
@pytest.mark.parametrize("size", [(300, 200), (301, 201), (283, 190), (121, 80), (560, 380)])
def test_nothing_is_shifted_whatever_is_odd(whole: tuple[int, int], size: tuple[int, int]):
    """A wave reduced shows at each pixel what it is at that pixel's middle in the whole, to the rim."""

    def wave(width: int, height: int) -> np.ndarray:
        x, y = ((np.arange(n) + 0.5) * w / n for n, w in zip((width, height), whole))
        return 127 + 100 * np.sin(x / 60 + y[:, None] / 75)

    found = reduced_to(wave(*whole).astype(np.float32), *size)
    assert np.abs(found - wave(*size))[4:-4, 4:-4].max() < 0.7
    assert np.abs(found - wave(*size)).max() < 6


@pytest.mark.parametrize("shape", [(40, 60), (41, 61), (1, 7), (2, 1), (1, 1)])
def test_halves_lie_between_two_pixels_whatever_is_odd(shape: tuple[int, int]):
    slope = (np.arange(shape[1]) + 100 * np.arange(shape[0])[:, None]).astype(np.float32)
    half = halved(slope)
    assert half.shape == (-(-shape[0] // 2), -(-shape[1] // 2))
    inside = half[: max(1, shape[0] // 2), : max(1, shape[1] // 2)]
    x, y = (2 * np.arange(n) + (0.5 if side > 1 else 0) for n, side in zip(inside.shape[::-1], shape[::-1]))
    np.testing.assert_allclose(inside, x + 100 * y[:, None], rtol=1e-6)


def test_the_same_size_and_a_mask_and_halves():
    picture = np.random.default_rng(2).integers(0, 65536, (40, 60, 3), np.uint16)
    assert reduced_to(picture, 60, 40) is picture
    assert np.array_equal(
        reduced_to(picture, 30, 20), np.rint(picture.reshape(20, 2, 30, 2, 3).mean((1, 3)) + 1e-9).astype(np.uint16)
    )
    assert (reduced_to(np.full((33, 47), 255, np.uint8), 20, 11) == 255).all()


@pytest.mark.parametrize("dtype", [np.uint8, np.uint16, np.float32])
def test_over_colours_as_along_the_last_axis(dtype: type):
    picture = (np.random.default_rng(3).random((31, 17, 3)) * 250).astype(dtype)
    assert np.array_equal(largest(picture), picture.max(-1))
    assert np.array_equal(smallest(picture), picture.min(-1))
    assert np.allclose(total(picture.astype(np.float32)), picture.astype(np.float32).sum(-1), rtol=1e-6)
