"""Colour profiles: read, brought to one space, joined, written, with LittleCMS (through Pillow) as the measure."""

from __future__ import annotations

import io
import json
from pathlib import Path

import cv2
import imagecodecs
import numpy as np
import pytest
import tifffile
from PIL import Image, ImageCms
from tests.helpers.sets import FrameFiles

from idle_lantern.cli.main import main
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.profiles import common_space, space_of
from idle_lantern.core.colour.space import SRGB, ColourSpace
from idle_lantern.core.frames.decoded import DecodedFrames
from idle_lantern.core.frames.frameset import gather
from idle_lantern.core.frames.reading import probe, read, read_again

SRGB_ICC = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
#: Primaries and white of a wide display space (SMPTE RP 431-2 primaries, D65), gamma 2.2.
WIDE_ICC = imagecodecs.cms_profile(
    "rgb",
    whitepoint=(0.3127, 0.3290, 1),
    primaries=(0.68, 0.32, 1, 0.265, 0.69, 1, 0.15, 0.06, 1),
    gamma=2.2,
)
#: Primaries and white of ultra-high-definition television (ITU-R BT.2020), gamma 2.4.
WIDER_ICC = imagecodecs.cms_profile(
    "rgb",
    whitepoint=(0.3127, 0.3290, 1),
    primaries=(0.708, 0.292, 1, 0.170, 0.797, 1, 0.131, 0.046, 1),
    gamma=2.4,
)


def _by_pillow(pixels: np.ndarray, source: bytes, target: bytes) -> np.ndarray:
    profiles = (ImageCms.ImageCmsProfile(io.BytesIO(p)) for p in (source, target))
    return np.asarray(ImageCms.profileToProfile(Image.fromarray(pixels), *profiles))


def _file(path: Path, icc: bytes | None, pixels: np.ndarray | None = None) -> Path:
    if pixels is None:
        pixels = np.random.default_rng(1).integers(0, 255, (60, 80, 3), dtype=np.uint8)
    if path.suffix == ".tif":
        tifffile.imwrite(path, pixels.astype(np.uint16) * 257, photometric="rgb", iccprofile=icc)
    else:
        Image.fromarray(pixels).save(path, quality=97, icc_profile=icc)
    return path


@pytest.mark.parametrize("ending", [".jpg", ".png", ".tif"])
def test_every_way_of_reading_keeps_the_profile(tmp_path: Path, ending: str):
    """The quick decoder used to drop it."""
    info = probe(_file(tmp_path / f"a{ending}", WIDE_ICC))
    assert info.space.icc == WIDE_ICC
    for reduce in (1, 2):
        assert read(info.path, reduce).space.icc == WIDE_ICC
        assert read_again(info, reduce).space.icc == WIDE_ICC
    store = DecodedFrames([info])
    assert store.first(0).space.icc == store.take(0).space.icc == store.reduced(0, 2).space.icc == WIDE_ICC
    assert probe(_file(tmp_path / f"b{ending}", None)).space.icc is None


def test_sixteen_bit_png_keeps_its_profile(tmp_path: Path):
    from idle_lantern.core.deliver.writing import write

    pixels = np.random.default_rng(2).integers(0, 65535, (50, 70, 3), dtype=np.uint16)
    write(Picture(pixels, None, space_of(WIDE_ICC)), tmp_path / "p.png")
    found = read(tmp_path / "p.png")
    assert found.space.icc == WIDE_ICC
    np.testing.assert_array_equal(found.pixels, pixels)


def _common(*profiles: bytes | None) -> ColourSpace:
    return common_space([space_of(icc) for icc in profiles])


def test_the_common_space_is_that_of_most_frames():
    assert _common(None, None).icc is None
    assert space_of(None) == space_of(SRGB_ICC), "no profile counts as sRGB, whatever variant another has"
    assert _common(None, SRGB_ICC).icc == SRGB_ICC
    assert _common(WIDE_ICC, WIDE_ICC, None).icc == WIDE_ICC
    assert _common(None, WIDE_ICC) == SRGB, "of equally common ones the first frame's"
    assert space_of(b"no profile at all") == SRGB
    for other in (None, WIDER_ICC):
        assert space_of(WIDE_ICC) != space_of(other), "another space, though both may carry one name"


@pytest.mark.parametrize("ending", [".jpg", ".tif"])
def test_mixed_frames_are_converted_as_littlecms_does(tmp_path: Path, ending: str):
    pixels = np.random.default_rng(3).integers(0, 255, (60, 80, 3), dtype=np.uint8)
    infos = [
        probe(_file(tmp_path / f"{n}{ending}", icc, pixels))
        for n, icc in (("a", SRGB_ICC), ("b", None), ("c", WIDE_ICC))
    ]
    store = DecodedFrames(infos)
    assert store.space == SRGB
    scale = 257 if ending == ".tif" else 1
    stored = pixels if ending == ".tif" else np.asarray(Image.open(infos[0].path))
    np.testing.assert_array_equal(store.first(0).pixels, stored.astype(int) * scale)
    expected = _by_pillow(stored, WIDE_ICC, SRGB_ICC).astype(int)
    found = store.first(2).pixels.astype(int) / scale
    assert np.abs(found - expected).max() <= 1.0  # Pillow rounds to 8 bit, 16 bit are converted as such
    assert {store.first(k).space.icc for k in range(3)} == {SRGB_ICC}
    # whether frames are kept in memory makes no difference
    small = DecodedFrames(infos, 0)
    np.testing.assert_array_equal(small.take(2).pixels, store.take(2).pixels)
    np.testing.assert_array_equal(small.grey(1), store.grey(1))


def _coloured(row_set: FrameFiles, folder: Path, profiles: list[bytes | None]) -> list[Path]:
    """Frames of the set as they would be stored in other spaces."""
    paths = []
    for path, icc in zip(row_set.paths, profiles):
        pixels = np.asarray(Image.open(path))
        if icc is not None:
            pixels = _by_pillow(pixels, SRGB_ICC, icc)
        paths.append(folder / f"{path.stem}.png")
        Image.fromarray(pixels).save(paths[-1], icc_profile=icc)
    return paths


def test_mixed_profiles_join_to_the_picture_of_equal_ones(row_set: FrameFiles, tmp_path: Path):
    """Two frames in sRGB and one stored in a wide space show what three in sRGB show."""
    pictures = []
    for name, profiles in (("plain", [None, None, None]), ("mixed", [None, WIDE_ICC, None])):
        folder = tmp_path / name
        folder.mkdir()
        out, report = folder / "o.png", folder / "o.json"
        paths = _coloured(row_set, folder, profiles)
        assert main(["join", *map(str, paths), "--out", str(out), "--report", str(report)]) == 0
        assert json.loads(report.read_text())["profile"] == SRGB.name
        pictures.append(np.asarray(Image.open(out)).astype(int))
    # a way out to 8 bit of another space and back moves a value by a level or two; the geometry then differs by
    # hundredths of a pixel, which may move the rim by one: so both are compared at a quarter of their size
    height, width = (min(a, b) for a, b in zip(pictures[0].shape[:2], pictures[1].shape[:2]))
    assert abs(pictures[0].shape[0] - pictures[1].shape[0]) <= 1
    small = [
        cv2.resize(p.astype(np.float32), (width // 8, height // 8), interpolation=cv2.INTER_AREA) for p in pictures
    ]
    shown = (small[0][..., 3] > 254) & (small[1][..., 3] > 254)
    assert np.abs(small[0] - small[1])[shown].mean() < 1.5
    # unconverted, the middle frame would differ by far more
    wrong = np.abs(
        _by_pillow(np.asarray(Image.open(row_set.paths[1])), SRGB_ICC, WIDE_ICC).astype(int)
        - np.asarray(Image.open(row_set.paths[1]))
    )
    assert wrong.mean() > 1.5
    assert len(gather([tmp_path / "mixed" / "f01.png"])) == 1
