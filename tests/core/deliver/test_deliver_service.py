"""A job bound to a picture: each of its fields does what it says to the file, and nothing else."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path
from typing import Any, ClassVar

import cv2
import numpy as np
import OpenEXR
import pytest
import tifffile
from PIL import Image
from skimage import data

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.colour.convert import converted
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.profiles import named_space, profile_of
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.deliver.delivery import Delivery
from idle_lantern.core.deliver.job import CoverNadir, DeliverJob, TellInvented
from idle_lantern.core.deliver.known import Known, share_within, shows_nadir
from idle_lantern.core.deliver.output_sharpening import step_for
from idle_lantern.core.deliver.service import check_delivery, deliver
from idle_lantern.core.frames.reading import read
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.source import HeldPicture, region

WIDE, TALL = 360, 180
SPHERE = Canvas(
    Projection("equirectangular"), WIDE, TALL, WIDE / (2 * math.pi), (WIDE / 2 - 0.5, TALL / 2 - 0.5), full_circle=True
)
WHOLE = Rectangle(0, 0, WIDE, TALL)
PIXELS = np.random.default_rng(2).integers(30, 220, (TALL, WIDE, 3), dtype=np.uint8)
PICTURE = HeldPicture(Picture(PIXELS))


def _written(job: DeliverJob, box: Rectangle = WHOLE, known: Known | None = None, **named: object) -> np.ndarray:
    made = Delivery(job, PICTURE, known or Known(SPHERE), **named).made(box)  # type: ignore[arg-type]
    return region(made, Rectangle(0, 0, *made.sizes[0]))


def test_a_plain_job_gives_the_picture_and_a_crop_its_part():
    assert np.array_equal(_written(DeliverJob()), PIXELS)
    assert np.array_equal(_written(DeliverJob(), Rectangle(5, 7, 101, 60)), PIXELS[7:67, 5:106])
    assert np.array_equal(_written(DeliverJob(), Rectangle(0, 0, WIDE, 100)), PIXELS[:100])


@pytest.mark.parametrize("how", ["blur", "mark"])
def test_the_nadir_is_covered_where_it_is_shown(how: str, tmp_path: Path):
    """Eighteen degrees of 180 are eighteen of 180 rows from the lower rim up."""
    Image.new("RGBA", (50, 50), (255, 0, 0, 255)).save(tmp_path / "m.png")
    job = DeliverJob(operations=(CoverNadir(how, 18.0, "a" * 64 if how == "mark" else None),))  # type: ignore[arg-type]

    def asset(name: str, ending: str) -> Path:
        assert (name, ending) == ("a" * 64, "png")
        return tmp_path / "m.png"

    delivery = Delivery(job, PICTURE, Known(SPHERE), asset)
    covered = region(delivery.shown(), WHOLE)
    assert np.array_equal(covered[: TALL - 18], PIXELS[: TALL - 18])
    below = covered[TALL - 9 :].astype(int)
    assert (below == [255, 0, 0]).all() if how == "mark" else np.ptp(below, axis=1).max() < 60
    assert np.array_equal(region(delivery.made(WHOLE), WHOLE), covered)
    for known in (Known(None), Known(replace(SPHERE, centre_px=(WIDE / 2 - 0.5, TALL * 2.0)))):
        left = Delivery(job, PICTURE, known, asset)
        assert left.shown() is PICTURE
        assert np.array_equal(region(left.made(WHOLE), WHOLE), PIXELS)
    no_mark = DeliverJob(operations=(CoverNadir("mark", 18.0),))
    assert Delivery(no_mark, PICTURE, Known(SPHERE)).shown() is PICTURE


def test_what_is_invented_is_told_in_a_margin_only_when_asked_and_there():
    """A corner of 90 x 45 of 360 x 180 pixels, two thirds of it invented: 4.2 %, and none of a crop beside it."""
    known = Known(SPHERE, ((Rectangle(0, 0, 90, 45), 2700.0),))
    told = DeliverJob(operations=(TellInvented(),))
    assert share_within(*known.invented[0], WHOLE) == pytest.approx(2700 / (WIDE * TALL))
    assert share_within(*known.invented[0], Rectangle(45, 0, 100, 45)) == pytest.approx(1350 / 4500)
    assert len(_written(told, known=known)) == TALL + 72
    assert np.array_equal(_written(told, known=known)[:TALL], PIXELS)
    assert len(_written(DeliverJob(), known=known)) == TALL
    assert len(_written(told, Rectangle(100, 0, 200, 180), known)) == TALL
    covered = DeliverJob(operations=(CoverNadir("blur", 18.0), TellInvented()))
    assert len(_written(covered)) == TALL + 72, "a cover is invented too"


def test_a_file_is_sharpened_by_what_its_paper_will_blur():
    """Printed, that is blurred by the spread of its ink (a Gaussian), edges stand nearer to the picture's than without; at its own size."""
    photo = data.camera()
    picture = HeldPicture(Picture(np.dstack([photo] * 3)))
    whole = Rectangle(0, 0, 512, 512)

    def written(**asked: Any) -> np.ndarray:
        job = DeliverJob(**asked)
        return region(Delivery(job, picture, Known(None)).made(whole), Rectangle(0, 0, 512, 512))[..., 0].astype(
            np.float32
        )

    plain = written()
    assert np.array_equal(plain, photo)
    ink_px = 0.07 * 300 / 25.4
    soft, sharp = (cv2.GaussianBlur(p, (0, 0), ink_px) for p in (plain, written(sharpen_for="matte")))
    assert np.abs(sharp - photo).mean() < 0.8 * np.abs(soft - photo).mean()
    # coarse print: the ink is small beside its pixels; glossy paper takes less than matte
    assert step_for(DeliverJob(sharpen_for="glossy", dpi=100)).idle
    assert step_for(DeliverJob(sharpen_for="glossy")).amount < step_for(DeliverJob(sharpen_for="matte")).amount
    small = Delivery(DeliverJob(sharpen_for="screen", long_side_px=200), picture, Known(None)).made(whole)
    assert small.sizes[0] == (200, 200)
    assert np.array_equal(
        region(Delivery(DeliverJob(sharpen_for="matte"), picture, Known(None)).shown(), whole)[..., 0], photo
    )


def test_profile_and_size_are_as_asked(tmp_path: Path):
    """Colours by LittleCMS, as the window shows them; a longer side never makes a picture larger."""
    p3 = named_space("p3")
    (tmp_path / "own.icc").write_bytes(profile_of(p3))
    for profile in ("keep", "srgb", "p3", "b" * 64):
        made = Delivery(DeliverJob(profile=profile), PICTURE, assets=lambda _a, _e: tmp_path / "own.icc").made(WHOLE)
        asked = p3 if profile in ("p3", "b" * 64) else SRGB
        assert made.space == asked
        assert np.array_equal(region(made, WHOLE), converted(PIXELS, SRGB, asked))
        assert np.array_equal(region(made, WHOLE), PIXELS) == (asked is SRGB)
    with pytest.raises(InputError, match="Choose the profile again"):
        Delivery(DeliverJob(profile="b" * 64), PICTURE, assets=lambda _a, _e: tmp_path / "gone.icc").made(WHOLE)
    with pytest.raises(InputError, match="lies nowhere"):
        Delivery(DeliverJob(profile="b" * 64), PICTURE).made(WHOLE)
    assert _written(DeliverJob(long_side_px=90)).shape[:2] == (45, 90)
    assert _written(DeliverJob(long_side_px=900)).shape[:2] == (TALL, WIDE)


@pytest.mark.parametrize(("ending", "light"), [("tif", False), ("tif", True), ("png", True), ("exr", False)])
def test_light_is_written_where_asked_and_held(ending: str, light: bool, tmp_path: Path):
    """TIFF holds either, OpenEXR light only, PNG display values only; light by the curve of IEC 61966-2-1."""
    target = tmp_path / f"o.{ending}"
    deliver(Delivery(DeliverJob(light=light), PICTURE), target, WHOLE, alpha=False)
    shown = PIXELS / 255
    linear = np.where(shown <= 0.04045, shown / 12.92, ((shown + 0.055) / 1.055) ** 2.4)
    if ending == "tif":
        found = tifffile.imread(target)
        assert found.dtype == (np.float32 if light else np.uint8)
        np.testing.assert_allclose(found, linear if light else PIXELS, atol=1e-5)
    elif ending == "exr":
        channels = OpenEXR.File(str(target), separate_channels=True).channels()
        found = np.stack([channels[c].pixels for c in "RGB"], -1)
        np.testing.assert_allclose(found, linear, rtol=2e-3)
    else:
        assert np.array_equal(read(target).pixels, PIXELS)


def test_a_delivery_that_cannot_be_is_refused_before_it_begins(tmp_path: Path):
    delivery = Delivery(DeliverJob(), PICTURE)
    mine = tmp_path / "frame.tif"
    mine.write_bytes(b"mine")
    with pytest.raises(InputError):
        deliver(delivery, mine, WHOLE, inputs=[mine])
    assert mine.read_bytes() == b"mine"
    with pytest.raises(InputError):
        check_delivery(delivery, tmp_path / "o.jpg", Rectangle(0, 0, 70_000, 100), [])
    check_delivery(
        Delivery(DeliverJob(long_side_px=6000), PICTURE), tmp_path / "o.jpg", Rectangle(0, 0, 70_000, 100), []
    )


def test_the_nadir_is_shown_up_to_the_rim():
    assert shows_nadir(SPHERE, WIDE, TALL)
    assert not shows_nadir(SPHERE, WIDE, TALL - 3)


class Vast:
    """A picture of 100 000 x 40 000 pixels that nobody has to hold."""

    sizes: ClassVar = ((100_000, 40_000),)
    tile_px, space = 512, SRGB

    def tile(self, level: int, row: int, column: int) -> np.ndarray:
        return np.full((min(512, 40_000 - 512 * row), min(512, 100_000 - 512 * column), 3), 90, np.uint8)


@pytest.mark.parametrize(
    ("kind", "name", "why"),
    [
        ("jpeg", "a.jpg", "65535 pixels a side"), ("webp", "a.webp", "16383 pixels a side"), ("avif", "a.avif", "16383 pixels a side"),
        ("jxl", "a.jxl", "at most 100 MP"), ("sphere", "a.jpg", "not twice as wide"), ("sphere-page", "a.html", "not twice as wide"),
        ("tiff", "a.tif", ""), ("png", "a.png", ""), ("exr", "a.exr", ""), ("tiles", "a.xml", ""), ("tiles-page", "a.html", ""),
        ("iiif", "a", ""), ("print", "a.pdf", ""),
    ],
)  # fmt: skip
def test_four_gigapixels_go_where_they_can_and_are_refused_with_the_way_out(
    tmp_path: Path, kind: str, name: str, why: str
):
    delivery = Delivery(DeliverJob(kind), Vast())
    box = Rectangle(0, 0, 100_000, 40_000)
    if not why:
        check_delivery(delivery, tmp_path / name, box, [])
        return
    with pytest.raises(InputError, match=why) as refused:
        check_delivery(delivery, tmp_path / name, box, [])
    assert refused.value.remedy
