"""Files of every kind become upright pictures, or are refused in one sentence."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np
import pytest
import tifffile
from PIL import ExifTags, Image, ImageOps

from idle_lantern.core.base.errors import InputError, UnreadableFrame
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.deliver.formats import check_target
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.decoders import raw
from idle_lantern.core.frames.frameset import gather, in_people_order, pictures_in
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.frames.reading import probe, read, read_again, sound_jpeg
from idle_lantern.simulator.raw_files import write_dng


@pytest.fixture
def colours() -> np.ndarray:
    """A picture without symmetry, 40 high and 60 wide."""
    rng = np.random.default_rng(0)
    small = rng.integers(0, 256, (4, 6, 3), dtype=np.uint8)
    return np.kron(small, np.ones((10, 10, 1), np.uint8))


def test_all_unreadable_files_of_a_set_are_named_at_once(tmp_path: Path):
    """A join stopped at each of them, one at a time."""
    paths = [tmp_path / f"{n}.jpg" for n in "abcdefg"]
    for path in paths[1:]:
        path.write_bytes(b"no picture")
    Image.new("RGB", (40, 30)).save(paths[0])
    with pytest.raises(UnreadableFrame) as caught:
        gather(paths)
    assert "neither can c.jpg, d.jpg, e.jpg and 2 more be read" in caught.value.sentence
    assert "Leave these 6 of 7 frames out" in caught.value.sentence


@pytest.mark.parametrize("code", range(1, 9))
def test_orientation_agrees_with_pillow(tmp_path: Path, colours: np.ndarray, code: int):
    """All eight codes of EXIF against Pillow's own transposition."""
    path = tmp_path / "a.png"
    exif = Image.Exif()
    exif[ExifTags.Base.Orientation] = code
    Image.fromarray(colours).save(path, exif=exif)
    with Image.open(path) as image:
        expected = np.asarray(ImageOps.exif_transpose(image))
    assert (read(path).pixels == expected).all()
    info = probe(path)
    assert (info.width, info.height) == (expected.shape[1], expected.shape[0])


def test_sixteen_bit_tiff_keeps_every_step(tmp_path: Path):
    deep = np.arange(64 * 48 * 3, dtype=np.uint16).reshape(48, 64, 3) * 7
    tifffile.imwrite(tmp_path / "a.tif", deep, photometric="rgb", compression="lzw")
    assert probe(tmp_path / "a.tif").bits == 16
    assert (read(tmp_path / "a.tif").pixels == deep).all()


def test_sixteen_bit_png_keeps_every_step(tmp_path: Path):
    deep = np.arange(64 * 48 * 3, dtype=np.uint16).reshape(48, 64, 3) * 7
    cv2.imwrite(str(tmp_path / "a.png"), deep[..., ::-1])
    assert probe(tmp_path / "a.png").bits == 16
    assert (read(tmp_path / "a.png").pixels == deep).all()


def test_grey_becomes_three_channels(tmp_path: Path, colours: np.ndarray):
    for name in ("a.jpg", "a.png", "a.tif"):
        Image.fromarray(colours[..., 0]).save(tmp_path / name)
        pixels = read(tmp_path / name).pixels
        assert pixels.shape == (40, 60, 3)
        assert (pixels[..., 0] == pixels[..., 2]).all()


def test_cmyk_becomes_rgb(tmp_path: Path, colours: np.ndarray):
    Image.fromarray(colours).convert("CMYK").save(tmp_path / "a.jpg")
    assert read(tmp_path / "a.jpg").pixels.shape == (40, 60, 3)


@pytest.mark.parametrize("reduce", [2, 4, 8])
def test_reduced_reading_shows_the_same_picture(tmp_path: Path, reduce: int):
    rng = np.random.default_rng(1)
    smooth = cv2.resize(rng.integers(0, 256, (8, 12, 3), dtype=np.uint8), (600, 401), interpolation=cv2.INTER_CUBIC)
    for name in ("a.jpg", "a.png"):
        Image.fromarray(smooth).save(tmp_path / name, quality=95)
        small = read(tmp_path / name, reduce).pixels
        assert small.shape[:2] == (-(-401 // reduce), -(-600 // reduce))
        expected = cv2.resize(smooth, (small.shape[1], small.shape[0]), interpolation=cv2.INTER_AREA)
        assert np.abs(small.astype(int) - expected).mean() < 3  # JPEG rounding and another filter


@pytest.mark.parametrize(
    ("name", "content", "sentence"),
    [
        ("zero.jpg", b"", "empty"),
        ("text.jpg", b"hello, this is no picture at all", "damaged or not a picture"),
        ("text.tif", b"II*\x00 nonsense", "damaged or not a picture"),
        ("half.png", b"\x89PNG\r\n\x1a\n\x00\x00", "damaged or not a picture"),
    ],
)
def test_unreadable_files_are_named(tmp_path: Path, name: str, content: bytes, sentence: str):
    (tmp_path / name).write_bytes(content)
    with pytest.raises(UnreadableFrame, match=sentence) as caught:
        read(tmp_path / name)
    assert name in caught.value.sentence


def test_truncated_pictures_are_refused_not_greyed(tmp_path: Path):
    rng = np.random.default_rng(2)
    for name in ("a.jpg", "a.png", "a.tif"):
        path = tmp_path / name
        Image.fromarray(rng.integers(0, 256, (200, 300, 3), dtype=np.uint8)).save(path)
        path.write_bytes(path.read_bytes()[: path.stat().st_size // 2])
        with pytest.raises(UnreadableFrame, match=r"damaged|cut short"):
            read(path)


def test_missing_files_and_folders_are_named(tmp_path: Path):
    with pytest.raises(UnreadableFrame, match="missing"):
        probe(tmp_path / "none.jpg")
    with pytest.raises(UnreadableFrame, match="folder"):
        probe(tmp_path)


@pytest.mark.parametrize("ending", ["jpg", "png", "tif"])
@pytest.mark.parametrize("kind", ["JPEG", "PNG", "TIFF"])
def test_what_a_file_is_counts_not_how_it_is_called(tmp_path: Path, colours: np.ndarray, kind: str, ending: str):
    path = tmp_path / f"frame.{ending}"
    Image.fromarray(colours).save(path, format=kind, **({"quality": 100, "subsampling": 0} if kind == "JPEG" else {}))
    off = np.abs(read(path).pixels.astype(int) - colours)
    assert off.mean() < (2 if kind == "JPEG" else 1e-9)
    np.testing.assert_array_equal(read_again(probe(path)).pixels, read(path).pixels)


def test_deep_pictures_under_another_ending_stay_deep(tmp_path: Path):
    rng = np.random.default_rng(3)
    deep = rng.integers(0, 65536, (40, 60, 3)).astype(np.uint16)
    tifffile.imwrite(tmp_path / "deep.tif", deep)
    (tmp_path / "deep.tif").rename(tmp_path / "deep.jpg")
    np.testing.assert_array_equal(read(tmp_path / "deep.jpg").pixels, deep)


def test_of_pictures_that_move_the_first_is_taken(tmp_path: Path, colours: np.ndarray):
    """An animated PNG and a TIFF of several pages; an animated GIF is refused like any other."""
    first, second = Image.fromarray(colours), Image.fromarray(colours[::-1].copy())
    for name in ("moves.png", "pages.tif"):
        first.save(tmp_path / name, save_all=True, append_images=[second])
        np.testing.assert_array_equal(read(tmp_path / name).pixels, colours)


def test_other_kinds_are_refused(tmp_path: Path, colours: np.ndarray):
    Image.fromarray(colours).save(tmp_path / "a.gif")
    (tmp_path / "a.gif").rename(tmp_path / "a.jpg")
    with pytest.raises(UnreadableFrame, match="GIF"):
        probe(tmp_path / "a.jpg")


def test_focal_length_in_pixels_by_each_way():
    """From the sensor, from the 36 x 24 mm equivalent by diagonal, or not at all."""
    assert Metadata(focal_mm=24, sensor_width_mm=36).focal_px(6000, 4000) == pytest.approx(4000)
    assert Metadata(focal_mm=24, sensor_width_mm=36).focal_px(4000, 6000) == pytest.approx(4000)
    assert Metadata(focal_35mm=24).focal_px(6000, 4000) == pytest.approx(4000, rel=1e-3)
    assert Metadata(focal_mm=24).focal_px(6000, 4000) is None


def test_metadata_comes_back_from_a_file(tmp_path: Path, colours: np.ndarray):
    meta = Metadata(
        focal_mm=20, sensor_width_mm=24, aperture=8, exposure_s=1 / 250, iso=100, taken="2026:05:14 18:40:00"
    )
    write(Picture(colours), tmp_path / "a.jpg", WriteOptions(metadata=meta))
    found = probe(tmp_path / "a.jpg").metadata
    assert found.focal_mm == 20
    assert found.sensor_width_mm == pytest.approx(24, rel=1e-3)
    assert found.exposure_s == pytest.approx(1 / 250)
    assert found.taken == meta.taken


@pytest.mark.parametrize("suffix", [".tif", ".png"])
@pytest.mark.parametrize("dtype", [np.uint8, np.uint16])
def test_lossless_formats_give_every_pixel_back(tmp_path: Path, suffix: str, dtype: type):
    rng = np.random.default_rng(3)
    full = np.iinfo(dtype).max
    pixels = rng.integers(0, full, (50, 70, 3)).astype(dtype)
    alpha = (rng.random((50, 70)) > 0.5).astype(dtype) * full
    write(Picture(pixels, alpha), tmp_path / f"a{suffix}")
    found = read(tmp_path / f"a{suffix}")
    assert (found.pixels == pixels).all()
    assert found.alpha is not None
    assert (found.alpha == alpha).all()


def test_format_limits_are_told_before_the_work(tmp_path: Path):
    """JPEG lines and samples are 16-bit counts (ISO/IEC 10918-1)."""
    check_target(tmp_path / "a.jpg", 65535, 1000)
    with pytest.raises(InputError, match=r"65535 pixels.*\.tif"):
        check_target(tmp_path / "a.jpg", 65536, 1000)
    with pytest.raises(InputError, match="no picture ending"):
        check_target(tmp_path / "a.bmp")
    with pytest.raises(InputError, match="does not exist"):
        check_target(tmp_path / "none" / "a.tif")


def test_names_are_told_apart_and_sorted_as_people_count(tmp_path: Path, colours: np.ndarray):
    for folder in ("one", "two"):
        (tmp_path / folder).mkdir()
        Image.fromarray(colours).save(tmp_path / folder / "a.jpg")
    frames = gather([tmp_path / "one" / "a.jpg", tmp_path / "two" / "a.jpg"])
    assert frames.names == ("one/a.jpg", "two/a.jpg")
    with pytest.raises(InputError, match="given twice"):
        gather([tmp_path / "one" / "a.jpg", tmp_path / "one" / "a.jpg"])
    assert in_people_order(["f10.jpg", "f2.jpg", "F1.jpg"], str) == ["F1.jpg", "f2.jpg", "f10.jpg"]
    (tmp_path / "one" / "note.txt").write_text("x")
    assert [p.name for p in pictures_in(tmp_path / "one")] == ["a.jpg"]


def test_a_file_that_goes_while_a_set_is_looked_at_is_told_in_a_sentence(tmp_path: Path):
    """A card pulled out, or a folder moved: the second look at a JPEG, and whatever is asked of a raw file."""
    Image.new("RGB", (120, 80)).save(tmp_path / "a.jpg")
    write_dng(tmp_path / "b.dng", np.full((60, 90, 3), 0.3, np.float32), Metadata())
    info = probe(tmp_path / "a.jpg")
    assert sound_jpeg(info)
    (tmp_path / "a.jpg").unlink()
    assert not sound_jpeg(info)
    (tmp_path / "b.dng").unlink()
    asks = (
        raw.white_balance_of,
        raw.turn_of,
        raw.look_matrix,
        raw.linear,
        lambda p: raw.quick(p, np.eye(3)),
        raw.preview,
    )
    for ask in asks:
        with pytest.raises(UnreadableFrame) as caught:
            ask(tmp_path / "b.dng")
        assert "b.dng" in caught.value.sentence
