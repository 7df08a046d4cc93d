"""The margin that tells what is invented: the picture above it stays to the last bit, the hatching lies where it is told."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.deliver.margin import InventedMargin, margin_of
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write_source
from idle_lantern.core.frames.reading import read
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.operations import CroppedPicture, OperatedPicture
from idle_lantern.core.pictures.source import HeldPicture, region


def _picture(dtype: type, alpha: bool) -> Picture:
    full = np.iinfo(dtype).max
    pixels = np.random.default_rng(1).integers(0, full, (700, 1300, 3), dtype=dtype)
    see_through = np.full((700, 1300), full, dtype)
    see_through[:20, :20] = 0
    return Picture(pixels, see_through if alpha else None)


@pytest.mark.parametrize(("dtype", "alpha"), [(np.uint8, False), (np.uint16, True)])
def test_the_picture_above_the_margin_is_untouched(dtype: type, alpha: bool, tmp_path: Path):
    picture, box = _picture(dtype, alpha), Rectangle(10, 5, 1201, 640)
    source = HeldPicture(picture)
    margin = InventedMargin(margin_of(source, box, [Rectangle(0, 0, 400, 100)], 0.031))
    whole = OperatedPicture(CroppedPicture(source, box), [margin])
    write_source(whole, tmp_path / "told.tif", WriteOptions(alpha=alpha))
    written = read(tmp_path / "told.tif")
    width, height = whole.sizes[0]
    assert (written.width, written.height) == (width, height) == (1201, 640 + 72)
    assert np.array_equal(written.pixels[:640], picture.pixels[5:645, 10:1211])
    assert written.pixels[640:].max() > 0.9 * np.iinfo(dtype).max
    if alpha:
        assert np.array_equal(written.alpha[:640], picture.alpha[5:645, 10:1211])
        assert (written.alpha[640:] == np.iinfo(dtype).max).all()
    # tiles of any place agree with the whole
    part = Rectangle(500, 600, 300, 100)
    assert np.array_equal(region(whole, part)[..., :3], written.pixels[600:700, 500:800])


def test_hatching_lies_where_the_invented_part_is():
    grey = HeldPicture(Picture(np.full((1000, 2000, 3), 128, np.uint8)))
    margin = margin_of(grey, Rectangle(0, 0, 2000, 1000), [Rectangle(1500, 0, 500, 500)], 0.125)
    small = margin[9:63, 9:117].astype(int)  # 54 rows of the 72, twice as wide
    hatched = np.abs(small - 128).max(-1) > 60
    assert hatched[:25, 83:].mean() > 0.3
    assert not hatched[:, :78].any()
    assert not hatched[30:].any()
    # and words stand beside it
    assert (margin[:, 130:].min(-1) < 100).mean() > 0.005
