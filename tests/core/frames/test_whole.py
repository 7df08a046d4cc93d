"""Files whose head is sound and whose pixels are not, or lie deeper than 8 bit: told, or read as another library reads them."""

from __future__ import annotations

import io
from collections.abc import Callable
from pathlib import Path

import imagecodecs
import numpy as np
import pillow_heif
import pytest
import skimage.data
import tifffile
from PIL import Image

from idle_lantern.core.base.errors import UnreadableFrame
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.frames.reading import probe, read, read_again
from idle_lantern.simulator.raw_files import write_dng

#: A photograph with the grain of a sensor (scikit-image, BSD-3-Clause).
PHOTOGRAPH = np.clip(skimage.data.astronaut() + np.random.default_rng(1).normal(0, 6, (512, 512, 3)), 0, 255).astype(
    np.uint8
)


def _jpeg(pixels: np.ndarray, **how: object) -> bytes:
    stream = io.BytesIO()
    Image.fromarray(pixels).save(stream, "JPEG", **how)
    return stream.getvalue()


def _zeroed(data: bytes, end: bytes = b"") -> bytes:
    return data[: len(data) // 2] + bytes(len(data) - len(data) // 2 - len(end)) + end


CUTS: dict[str, Callable[[bytes], bytes]] = {
    "cut": lambda data: data[: len(data) // 2],
    "cut, end mark": lambda data: data[: len(data) // 2] + b"\xff\xd9",
    "zeros": _zeroed,
    "zeros, end mark": lambda data: _zeroed(data, b"\xff\xd9"),
}


@pytest.mark.parametrize("quality", [75, 92, 100])
@pytest.mark.parametrize("cut", CUTS)
def test_a_jpeg_that_is_not_whole_is_told_whoever_decodes_it(cut: str, quality: int, tmp_path: Path):
    """libjpeg draws grey, or zeros, where data are missing, and says nothing."""
    path = tmp_path / "a.jpg"
    path.write_bytes(CUTS[cut](_jpeg(PHOTOGRAPH, quality=quality)))
    info = probe(path)
    for way in (lambda: read(path), lambda: read_again(info)):
        with pytest.raises(UnreadableFrame, match=r"cut short|damaged"):
            way()


def test_whole_jpegs_are_read_however_even_they_are(tmp_path: Path):
    """Even places are few bytes, or zeros where the tables are made for them (``optimize``)."""
    foot = PHOTOGRAPH.copy()
    foot[300:] = 128
    for k, (pixels, how) in enumerate(
        (p, h)
        for p in (PHOTOGRAPH, foot, np.full_like(PHOTOGRAPH, 90), np.full((2000, 3000, 3), 255, np.uint8))
        for h in ({}, {"quality": 100}, {"optimize": True}, {"progressive": True}, {"quality": 30, "optimize": True})
    ):
        path = tmp_path / f"{k}.jpg"
        path.write_bytes(_jpeg(pixels, **how))
        assert np.array_equal(read(path).pixels, np.asarray(Image.open(path).convert("RGB")))


@pytest.mark.parametrize("share", [0.1, 0.5, 0.9])
def test_raw_and_heic_that_are_not_whole_are_told(share: float, tmp_path: Path):
    dng, heic = tmp_path / "a.dng", tmp_path / "a.heic"
    write_dng(dng, (PHOTOGRAPH / 255.0).astype(np.float32) ** 2, Metadata())
    pillow_heif.from_bytes("RGB", (512, 512), PHOTOGRAPH.tobytes()).save(heic, quality=90)
    for path in (dng, heic):
        data = path.read_bytes()
        kept = data[: int(share * len(data))]
        for bad in (kept, kept + bytes(len(data) - len(kept))):
            path.write_bytes(bad)
            with pytest.raises(UnreadableFrame, match=path.name):
                read(path)


def test_a_head_that_claims_more_mosaic_than_the_file_holds_is_not_developed(tmp_path: Path):
    path = tmp_path / "head.dng"
    write_dng(path, (PHOTOGRAPH / 255.0).astype(np.float32), Metadata())
    with tifffile.TiffFile(path, mode="r+b") as tiff:
        mosaic = tiff.pages[0].pages[0]
        mosaic.tags["StripByteCounts"].overwrite(10_000_000)
    with pytest.raises(UnreadableFrame, match="cut short"):
        read(path)


@pytest.mark.parametrize("kind", [np.float16, np.float32, np.float64])
def test_floating_tiff_is_read_from_nothing_to_white(kind: type, tmp_path: Path):
    path = tmp_path / "a.tif"
    tifffile.imwrite(path, (PHOTOGRAPH / 255).astype(kind), photometric="rgb")
    np.testing.assert_allclose(read(path).pixels / 65535, PHOTOGRAPH / 255, atol=1e-3)
    tifffile.imwrite(path, (PHOTOGRAPH / 255 * 4).astype(kind), photometric="rgb")
    with pytest.raises(UnreadableFrame, match=r"Goes up to 4\.0 times white"):
        read(path)


@pytest.mark.parametrize("place", ["page", "below"])
def test_a_thumbnail_that_comes_first_is_not_the_picture(place: str, tmp_path: Path):
    path = tmp_path / "a.tif"
    with tifffile.TiffWriter(path) as file:
        file.write(PHOTOGRAPH[::8, ::8].copy(), photometric="rgb", subifds=1 if place == "below" else None)
        file.write(PHOTOGRAPH, photometric="rgb")
    assert (probe(path).width, probe(path).height) == (512, 512)
    assert np.array_equal(read(path).pixels, PHOTOGRAPH)


@pytest.mark.parametrize("ending", [".heic", ".avif"])
def test_what_telephones_write_in_ten_bit_keeps_its_depth(ending: str, tmp_path: Path):
    """A ramp in a thousand steps has more than 256 values left."""
    ramp = np.repeat(np.linspace(0, 65535, 1024)[None], 64, 0)
    deep = np.repeat(np.rint(ramp)[..., None], 3, -1).astype(np.uint16)
    path = tmp_path / f"a{ending}"
    if ending == ".heic":
        pillow_heif.from_bytes("RGB;16", (1024, 64), deep.tobytes()).save(path, quality=-1)
    else:
        path.write_bytes(imagecodecs.avif_encode(deep >> 6, bitspersample=10, level=100))
    assert probe(path).bits == 16
    pixels = read(path).pixels
    assert pixels.dtype == np.uint16
    assert len(np.unique(pixels[..., 1])) > 600
    assert np.abs(pixels[32, :, 1] - ramp[0]).mean() < 250


@pytest.mark.parametrize(
    ("name", "made", "sentence"),
    [
        ("a.jpg", lambda p: imagecodecs.jpeg_encode(p.astype(np.uint16) << 4, bitspersample=12), "12-bit JPEG picture"),
        ("a.jpg", imagecodecs.jpegls_encode, "JPEG-LS picture"),
        ("a.jxl", lambda p: imagecodecs.jpegxl_encode(np.stack([p, p[::-1]])), "Is an animation"),
    ],
)
def test_what_is_sound_and_not_read_is_not_called_damaged(
    name: str, made: Callable[[np.ndarray], bytes], sentence: str, tmp_path: Path
):
    path = tmp_path / name
    path.write_bytes(made(PHOTOGRAPH))
    for way in (probe, read):
        with pytest.raises(UnreadableFrame, match=sentence):
            way(path)


def test_a_jpeg_without_loss_is_read(tmp_path: Path):
    path = tmp_path / "a.jpg"
    path.write_bytes(imagecodecs.jpeg_encode(PHOTOGRAPH, lossless=True))
    np.testing.assert_array_equal(read(path).pixels, PHOTOGRAPH)


def test_a_dark_picture_of_twelve_bit_is_not_taken_for_one_of_ten(tmp_path: Path):
    """Its brightest value is one that ten bit have too: the head tells, not the pixels."""
    path = tmp_path / "dark.avif"
    path.write_bytes(imagecodecs.avif_encode(np.full((64, 64, 3), 800, np.uint16), bitspersample=12, level=100))
    assert read(path).pixels.mean() == pytest.approx(800 / 4095 * 65535, rel=0.02)
