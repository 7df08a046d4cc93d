"""What another program changed of a joined picture, taken in again: layers handed on, flattened by OpenRaster's own merged picture."""

from __future__ import annotations

import zipfile
from pathlib import Path

import numpy as np
import pytest
import tifffile
from PIL import Image
from skimage import data

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.deliver.coming_back import TakenIn, take_in
from idle_lantern.core.deliver.layers import write_layers
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.finish.finishing import finished
from idle_lantern.core.finish.recipe import Recipe, parsed
from idle_lantern.core.finish.steps.exposure import ExposureStep as Exposure
from idle_lantern.core.finish.steps.retouched import Retouched
from idle_lantern.core.finish.tile_look import Ground
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.source import HeldPicture, region

#: Where something is painted out by hand: rows and columns of the whole picture.
PAINTED = np.s_[100:160, 200:300]


def _joined() -> HeldPicture:
    """A photograph in 16 bit with more than 8 bits of tones, larger than one tile."""
    photograph = np.asarray(Image.fromarray(data.astronaut()).resize((1400, 1300)), np.uint16)
    rng = np.random.default_rng(1)
    return HeldPicture(
        Picture(photograph * 257 - rng.integers(0, 200, photograph.shape).astype(np.uint16).clip(0, photograph * 257))
    )


@pytest.fixture
def joined() -> HeldPicture:
    return _joined()


def _all(picture: HeldPicture) -> np.ndarray:
    return region(picture, Rectangle(0, 0, *picture.sizes[0]))


def _canvas(width: int = 1400, height: int = 1300) -> Canvas:
    return Canvas(Projection("cylindrical"), width, height, 900.0, (width / 2, height / 2))


def _taken(path: Path, joined: HeldPicture, recipe: Recipe, box: Rectangle, folder: Path) -> TakenIn:
    ground = Ground(joined.space, joined.sizes[0], _canvas())
    return take_in(path, joined, (joined, finished(joined, recipe, ground)), box, _canvas(), folder)


def test_what_was_painted_elsewhere_lies_over_the_picture_and_the_rest_keeps_its_depth(
    joined: HeldPicture, tmp_path: Path
):
    """By way of our own layers and their merged picture, which is of 8 bit: outside of what was painted not a bit is lost."""
    box = Rectangle(30, 40, 1300, 1200)
    cut = HeldPicture(Picture(np.ascontiguousarray(_all(joined)[40:1240, 30:1330])))
    write_layers(cut, box, (), tmp_path / "l.ora", WriteOptions())
    with zipfile.ZipFile(tmp_path / "l.ora") as layers, layers.open("mergedimage.png") as merged:
        flat = np.asarray(Image.open(merged).convert("RGB")).copy()
    flat[PAINTED[0].start - 40 : PAINTED[0].stop - 40, PAINTED[1].start - 30 : PAINTED[1].stop - 30] = (40, 200, 90)
    Image.fromarray(flat).save(tmp_path / "flat.tif")
    found = _taken(tmp_path / "flat.tif", joined, Recipe(), box, tmp_path / "assets")
    assert found.changed == pytest.approx(60 * 100 / (1300 * 1200))
    assert not found.of_finished
    step = Retouched(asset=found.asset, looks_deg=found.looks_deg)
    ground = Ground(joined.space, joined.sizes[0], _canvas(), lambda name: tmp_path / "assets" / name)
    made = _all(finished(joined, Recipe((step,)), ground))  # type: ignore[arg-type]
    expected = _all(joined).copy()
    expected[PAINTED] = np.array((40, 200, 90)) * 257
    assert made.dtype == np.uint16
    np.testing.assert_array_equal(made, expected)
    # steps go on from it, and coarse levels show the same
    brighter = finished(joined, Recipe((step, Exposure(ev=0.5))), ground)
    plain = finished(HeldPicture(Picture(expected)), Recipe((Exposure(ev=0.5),)), ground)
    for level, size in enumerate(brighter.sizes):
        a, b = (region(p, Rectangle(0, 0, *size), level).astype(int) for p in (brighter, plain))
        assert np.abs(a - b).mean() < 40, "of 65 535"
    assert [p.name for p in (tmp_path / "assets").iterdir()] == [found.asset]


def test_a_finished_picture_that_comes_back_is_told_from_a_joined_one(joined: HeldPicture, tmp_path: Path):
    whole = Rectangle(0, 0, 1400, 1300)
    recipe = Recipe((Exposure(ev=0.6),))
    ground = Ground(joined.space, joined.sizes[0], _canvas())
    for name, source, of_finished in (("f.tif", finished(joined, recipe, ground), True), ("j.tif", joined, False)):
        pixels = _all(source).copy()  # type: ignore[arg-type]
        pixels[PAINTED] = 0
        tifffile.imwrite(tmp_path / name, pixels, photometric="rgb")
        found = _taken(tmp_path / name, joined, recipe, whole, tmp_path / "assets")
        assert found.of_finished == of_finished
        assert (found.changed > 0.5) == of_finished


def test_what_does_not_belong_to_the_picture_is_refused_and_leaves_nothing(joined: HeldPicture, tmp_path: Path):
    whole = Rectangle(0, 0, 1400, 1300)
    Image.fromarray(data.astronaut()).save(tmp_path / "small.png")
    Image.fromarray(np.random.default_rng(2).integers(0, 255, (1300, 1400, 3), np.uint8)).save(tmp_path / "other.png")
    for name, words in (
        ("small.png", "Has 512 x 512 px; the joined picture has 1400 x 1300 px"),
        ("other.png", "something else"),
    ):
        with pytest.raises(InputError, match=words):
            _taken(tmp_path / name, joined, Recipe(), whole, tmp_path / "assets")
    assert not list(tmp_path.glob("assets/*"))
    # another canvas of the same size is known by where it looks
    tifffile.imwrite(tmp_path / "j.tif", _all(joined), photometric="rgb")
    found = _taken(tmp_path / "j.tif", joined, Recipe(), whole, tmp_path / "assets")
    assert found.changed == 0
    step = parsed({"steps": [{"do": "retouched", "asset": found.asset, "looks_deg": found.looks_deg}]}, "r").steps[0]
    for canvas, words in (
        (Canvas(Projection("cylindrical"), 1400, 1300, 800.0, (700.0, 650.0)), "another projection"),
        (_canvas(), ""),
    ):
        ground = Ground(joined.space, joined.sizes[0], canvas, lambda name: tmp_path / "assets" / name)
        if words:
            with pytest.raises(InputError, match=words):
                step.check(ground)
        else:
            step.check(ground)
    (tmp_path / "assets" / found.asset).unlink()
    with pytest.raises(InputError, match="is gone"):
        step.check(ground)
