"""Camera raw, HEIC, AVIF and JPEG XL: read as other programs read them, against known light."""

from __future__ import annotations

import re
from datetime import datetime, timedelta
from fractions import Fraction
from pathlib import Path

import cv2
import imagecodecs
import numpy as np
import pillow_heif
import pytest
import rawpy
import tifffile
from PIL import Image
from tests.helpers.outside import debian_source, unpacked

from idle_lantern.core.base.errors import UnreadableFrame
from idle_lantern.core.frames.decoders import raw
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.frames.reading import probe, read, thumbnail
from idle_lantern.simulator.raw_files import BLACK, WHITE, write_dng

META = Metadata(
    focal_mm=35,
    sensor_width_mm=36,
    aperture=8,
    exposure_s=1 / 250,
    iso=200,
    taken="2026:05:14 18:40:01",
    camera="Simulated",
)


def _light(height: int = 200, width: int = 300) -> np.ndarray:
    y, x = np.mgrid[:height, :width].astype(np.float32)
    return np.stack([0.1 + 0.5 * x / width, 0.1 + 0.5 * y / height, 0.3 + 0 * x], -1).astype(np.float32)


@pytest.fixture
def dng(tmp_path: Path) -> Path:
    """A raw file of known light."""
    write_dng(tmp_path / "a.dng", _light(), META)
    return tmp_path / "a.dng"


def test_raw_is_developed_to_the_light_it_was_made_of(dng: Path):
    """Through LibRaw: mosaic, black and white level, white balance and camera matrix undone; half a thousandth of full."""
    made = raw.linear(dng) / 65535
    assert np.abs(made - _light())[4:-4, 4:-4].max() < 5e-4
    assert np.allclose(raw.white_balance_of(dng), (2, 1, 1.6, 1), atol=1e-3)
    half = raw.linear(dng, half=True) / 65535
    assert half.shape == (100, 150, 3)


def test_raw_tells_its_facts_and_agrees_with_rawpy_itself(dng: Path):
    info = probe(dng)
    assert (info.width, info.height, info.bits, info.raw) == (300, 200, 16, True)
    m = info.metadata
    assert (m.focal_mm, m.aperture, m.iso, m.sensor_width_mm) == (35, 8, 200, 36)
    assert m.exposure_s == pytest.approx(1 / 250)
    with rawpy.imread(str(dng)) as other:
        assert other.other.shutter_speed == pytest.approx(m.exposure_s)
        assert other.other.aperture == m.aperture
        assert other.white_level == WHITE
        assert set(other.black_level_per_channel) == {BLACK}


@pytest.mark.parametrize("code", [3, 6, 8])
def test_raw_and_its_preview_stand_upright(tmp_path: Path, code: int):
    """EXIF orientation (EXIF 2.32, 4.6.4) as Pillow turns it."""
    write_dng(tmp_path / "t.dng", _light(), Metadata(orientation=code))
    turned = Image.fromarray((_light() * 255).astype(np.uint8))
    turned.getexif()[274] = code
    turned.save(tmp_path / "t.png", exif=turned.getexif())
    upright = read(tmp_path / "t.png").pixels
    picture = read(tmp_path / "t.dng")
    assert picture.pixels.shape == upright.shape
    small = thumbnail(tmp_path / "t.dng", 60).pixels
    assert small.shape[:2] == cv2.resize(upright, (60, 40) if code == 3 else (40, 60)).shape[:2]
    for c in (0, 1):  # the light grows to the same side
        steps = [
            np.sign(round(float(np.diff(p[..., c].astype(float).mean(axis)).mean() / p.max()), 3))
            for p in (picture.pixels, small)
            for axis in (0, 1)
        ]
        assert steps[:2] == steps[2:]


def test_raw_under_another_name_and_raw_that_is_none(tmp_path: Path, dng: Path):
    other = dng.rename(tmp_path / "scan.tif")
    assert probe(other).raw
    cut = tmp_path / "cut.dng"
    cut.write_bytes(other.read_bytes()[:2000])
    for name, data in (("cut.dng", None), ("text.nef", b"no raw at all"), ("empty.arw", b"")):
        if data is not None:
            (tmp_path / name).write_bytes(data)
        with pytest.raises(UnreadableFrame) as caught:
            read(tmp_path / name)
        assert name in caught.value.sentence


def test_a_mosaic_of_a_real_sensor_is_developed_as_a_plain_reckoning_does(tmp_path: Path):
    """rawpipe 0.19.3 (PyPI, MIT) carries one bare mosaic of 12 bit, RGGB; its greens are compared, which no matrix mixes much."""
    folder = unpacked("rawpipe", "0.19.3") / "test"
    with Image.open(folder / "expected.ppm") as expected:  # the size is told there only
        width, height = expected.size
    sensor = np.frombuffer((folder / "input.raw").read_bytes(), np.uint16).reshape(height, width).astype(np.float32)
    level = sensor / sensor.max()
    light = np.repeat(np.repeat(level[0::2, 1::2], 2, 0), 2, 1)[..., None].repeat(3, -1) * 0.5
    write_dng(tmp_path / "real.dng", np.ascontiguousarray(light), META)
    half = raw.linear(tmp_path / "real.dng", half=True)[..., 1] / 65535
    assert np.corrcoef(half.ravel(), level[0::2, 1::2][: half.shape[0], : half.shape[1]].ravel())[0, 1] > 0.999


def test_a_mosaic_packed_in_jpeg_xl_is_developed_as_the_plain_one(tmp_path: Path, dng: Path):
    """Digital Negative 1.7: LibRaw cannot unpack it, and its colours are dealt out into quarters."""
    with tifffile.TiffFile(dng) as plain:
        first, sensor = plain.pages.first, plain.pages.first.pages[0]
        mosaic = sensor.asarray()
        facts = [
            (t.code, t.dtype, t.count, t.value, True) for p in (first, sensor) for t in p.tags if t.code >= 33421
            and t.code != 34665
        ]  # fmt: skip
    dealt = np.vstack([np.hstack([mosaic[r::2, c::2] for c in (0, 1)]) for r in (0, 1)])
    packed = tmp_path / "packed.dng"
    with tifffile.TiffWriter(packed) as tiff:
        stream = imagecodecs.jpegxl_encode(dealt, lossless=True)
        tiff.write(
            iter([stream]), shape=dealt.shape, dtype=np.uint16, photometric="cfa", compression=52546, subfiletype=0,
            rowsperstrip=len(dealt), extratags=[*facts, (50975, "I", 1, 2, True), (52547, "I", 1, 2, True)], metadata=None,
        )  # fmt: skip
    with rawpy.imread(str(packed)) as refused, pytest.raises(rawpy.LibRawError):
        refused.postprocess()
    assert np.array_equal(raw.linear(packed), raw.linear(dng))
    info = probe(packed)
    assert (info.width, info.height, info.raw) == (300, 200, True)
    packed.write_bytes(packed.read_bytes()[:-5000])
    with pytest.raises(UnreadableFrame, match=r"packed\.dng"):
        read(packed)


def test_one_photograph_packed_as_mosaic_and_as_bent_linear_light_is_the_same(tmp_path: Path):
    """dngpy 0.1.3 (PyPI, MIT) carries files of the format's maker in JPEG XL: 01 and 03 show one photograph of 61 MP."""
    folder = unpacked("dngpy", "0.1.3") / "extern" / "sample_files"
    upper = tmp_path / "upper.dng"
    upper.write_bytes((folder / "01_jxl_linear_raw_integer.dng").read_bytes())
    with tifffile.TiffFile(upper, mode="r+b") as tiff:  # two rows of its nine of tiles are enough
        tags = tiff.pages[0].pages[0].tags
        tags["ImageLength"].overwrite(1408)
        tags[50720].overwrite((9504, 1, 1408, 1))  # DefaultCropSize
    linear, mosaic = (raw.linear(path, half=True) for path in (upper, folder / "03_jxl_bayer_raw_integer.dng"))
    # the mosaic has a margin of (32, 20) pixels beside the picture (DefaultCropOrigin)
    mosaic = mosaic[10 : 10 + 704, 16 : 16 + 4752]
    small = [cv2.resize(p, (475, 70), interpolation=cv2.INTER_AREA).astype(float) for p in (linear, mosaic)]
    assert np.median(np.abs(small[0] / small[1] - 1)) < 0.02
    assert np.corrcoef(small[0].ravel(), small[1].ravel())[0, 1] > 0.998


def test_facts_of_many_makes_are_told_as_another_program_tells_them():
    """The source of exiv2 0.27.6 (GPL-2+) carries pictures of many cameras and what that program says of them."""
    folder = debian_source("exiv2", "0.27.6") / "test" / "data"
    said: dict[str, dict[str, str]] = {}
    for line in (folder / "exiv2-test.out").read_text("latin-1").splitlines():
        found = re.match(r"(\d{8}_\d{6})\S*\s+(Exposure time|Aperture|Focal length|ISO speed)\s*: (\S.*)", line)
        if found:
            # what it says is of copies whose clocks were put back
            taken = datetime.strptime(found[1], "%Y%m%d_%H%M%S") + timedelta(hours=12, minutes=1, seconds=1)
            said.setdefault(f"{taken:%Y:%m:%d %H:%M:%S}", {}).setdefault(found[2], found[3].strip())
    names = {
        "Exposure time": "exposure_s", "Aperture": "aperture", "Focal length": "focal_mm", "ISO speed": "iso",
    }  # fmt: skip
    cameras = set()
    for path in sorted(folder.glob("exiv2-*.jpg")):
        try:
            told = probe(path).metadata
        except UnreadableFrame:  # a few are of one pixel, or of none
            continue
        there = said.get(told.taken or "", {})
        for name, mine in names.items():
            number = re.match(r"F?([\d./]+)", there.get(name, ""))
            value = getattr(told, mine)
            if number and value is not None:
                assert value == pytest.approx(float(Fraction(number[1])), rel=0.02), (path.name, name)
                cameras.add(told.camera)
    assert len(cameras) >= 10
    phone = probe(folder / "IMG_1361.dng")
    assert (phone.width, phone.height, phone.raw, phone.metadata.focal_mm) == (3024, 4032, True, 4.2)
    for name, size in (
        ("IMG_3578.heic", (4032, 3024)),
        ("2021-02-13-1929.heic", (3024, 4032)),
    ):
        info = probe(folder / name)
        assert (info.width, info.height) == size
        assert read(folder / name).pixels.shape[:2] == (info.height, info.width)


@pytest.mark.parametrize(("bits", "kind"), [(10, np.uint16), (16, np.float16)])
def test_jpeg_xl_of_odd_depth_and_of_half_floats(tmp_path: Path, bits: int, kind: type):
    """Both came out black: ten bits were taken for sixteen, and half floats end at 65504."""
    ramp = np.linspace(0, 1, 64 * 64 * 3, dtype=np.float32).reshape(64, 64, 3)
    samples = ramp.astype(np.float16) if kind is np.float16 else np.rint(ramp * 1023).astype(np.uint16)
    path = tmp_path / "odd.jxl"
    path.write_bytes(imagecodecs.jpegxl_encode(samples, lossless=True, bitspersample=bits))
    assert probe(path).bits == 16
    assert np.abs(read(path).pixels / 65535 - ramp).max() < 1e-3


def test_facts_packed_in_jpeg_xl_are_read(tmp_path: Path):
    """ISO/IEC 18181-2: a brob box holds another one, packed by Brotli."""
    exif = Image.Exif()
    exif.get_ifd(0x8769)[37386] = 35.0
    body = b"Exif" + imagecodecs.brotli_encode(b"\0\0\0\0" + exif.tobytes()[6:])
    made = imagecodecs.jpegxl_encode(np.zeros((40, 60, 3), np.uint8), usecontainer=True)
    box = (8 + len(body)).to_bytes(4, "big") + b"brob" + body
    (tmp_path / "p.jxl").write_bytes(made + box)
    assert probe(tmp_path / "p.jxl").metadata.focal_mm == 35


def test_telephones_and_new_kinds_are_read_as_their_own_libraries_do(tmp_path: Path):
    """HEIC and AVIF turned by their orientation, JPEG XL of 8 and 16 bit without loss."""
    rng = np.random.default_rng(1)
    pixels = np.kron(rng.integers(0, 256, (5, 8, 3), dtype=np.uint8), np.ones((40, 40, 1), np.uint8))
    image = Image.fromarray(pixels)
    exif = Image.Exif()
    exif[274] = 6
    exif.get_ifd(0x8769)[37386] = 35.0
    pillow_heif.register_heif_opener()
    for name in ("a.heic", "a.avif"):
        image.save(tmp_path / name, exif=exif.tobytes(), quality=95)
        info, picture = probe(tmp_path / name), read(tmp_path / name)
        assert (info.width, info.height, info.metadata.focal_mm) == (200, 320, 35)
        assert np.abs(picture.pixels.astype(int) - np.rot90(pixels, -1)).mean() < 6
    for bits, box in ((8, False), (16, True)):
        samples = pixels if bits == 8 else pixels.astype(np.uint16) * 257
        path = tmp_path / f"b{bits}.jxl"
        path.write_bytes(imagecodecs.jpegxl_encode(samples, lossless=True, usecontainer=box))
        info = probe(path)
        assert (info.width, info.height, info.bits) == (320, 200, bits)
        assert np.array_equal(read(path).pixels, samples)
        path.write_bytes(path.read_bytes()[:40])
        with pytest.raises(UnreadableFrame):
            read(path)


@pytest.mark.parametrize(
    ("width", "height"), [(37, 41), (1200, 800), (1920, 1080), (500, 500), (4000, 3000), (70000, 20)]
)
def test_the_size_of_a_jpeg_xl_is_in_its_first_bytes(tmp_path: Path, width: int, height: int):
    """ISO/IEC 18181-1, SizeHeader: all of its forms, as libjxl writes them."""
    path = tmp_path / "s.jxl"
    path.write_bytes(imagecodecs.jpegxl_encode(np.zeros((height, width, 3), np.uint8), effort=1))
    assert (probe(path).width, probe(path).height) == (width, height)
