"""WebP and AVIF: opened by independent readers, as the picture is; refused where they cannot hold it."""

from __future__ import annotations

import io
from pathlib import Path

import imagecodecs
import numpy as np
import pytest
from PIL import Image, ImageCms
from skimage import data
from skimage.metrics import peak_signal_noise_ratio
from tests.helpers.commands import run_command
from tests.helpers.sets import FrameFiles

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.colour.convert import eight_bit
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import DISPLAY_P3
from idle_lantern.core.deliver.formats import AVIF, FORMATS, WEBP, check_target
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write


@pytest.mark.parametrize("kind", [WEBP, AVIF], ids=lambda k: k.name)
@pytest.mark.parametrize("deep", [False, True])
def test_another_reader_sees_the_same_picture_and_its_profile(tmp_path: Path, kind, deep: bool):
    """Read by imagecodecs' own decoders (libwebp, libavif); lossy, so by 38 dB at quality 92."""
    photo = data.astronaut()
    pixels = photo.astype(np.uint16) * 257 if deep else photo
    path = tmp_path / f"picture{kind.ending}"
    write(Picture(pixels, None, DISPLAY_P3), path, WriteOptions(jpeg_quality=92))
    decode = imagecodecs.webp_decode if kind is WEBP else imagecodecs.avif_decode
    assert peak_signal_noise_ratio(photo, decode(path.read_bytes())[..., :3]) > 38
    with Image.open(path) as image:
        assert image.format == kind.name.upper()
        assert "P3" in ImageCms.getProfileDescription(ImageCms.ImageCmsProfile(io.BytesIO(image.info["icc_profile"])))
        assert image.getexif()[0x0131] == "Idle Lantern"


@pytest.mark.parametrize("kind", [WEBP, AVIF], ids=lambda k: k.name)
def test_gaps_stay_gaps_or_are_black(tmp_path: Path, kind):
    alpha = np.full((200, 300), 255, np.uint8)
    alpha[:, 200:] = 0
    picture = Picture(np.full((200, 300, 3), 180, np.uint8), alpha)
    for keep, mode in ((True, "RGBA"), (False, "RGB")):
        path = tmp_path / f"{mode}{kind.ending}"
        write(picture, path, WriteOptions(alpha=keep))
        with Image.open(path) as image:
            assert image.mode == mode
            shown = np.asarray(image).astype(int)
        assert abs(shown[100, 100, :3] - 180).max() < 4
        assert (shown[100, 280, 3] == 0) if keep else (shown[100, 280].max() < 12)


def test_what_is_too_large_is_refused_with_the_way_out(tmp_path: Path):
    with pytest.raises(InputError, match=r"at most 16383 pixels a side .* Write \.tif"):
        check_target(tmp_path / "a.webp", 20_000, 400)
    with pytest.raises(InputError, match=r"packed whole in memory: at most 100 MP, .* 225 MP.*Write \.jpg"):
        check_target(tmp_path / "a.avif", 15_000, 15_000)
    assert len({f.name for f in FORMATS}) == len(FORMATS)


def test_a_join_and_a_delivery_end_in_them(row_set: FrameFiles, tmp_path: Path):
    joined = tmp_path / "joined.webp"
    done = run_command("join", *row_set.paths[:2], "--out", joined, "--crop", "largest")
    assert done.returncode == 0, done.stderr
    with Image.open(joined) as image:
        size = image.size
        assert image.mode == "RGB"
    assert not list(tmp_path.glob("*.tif"))
    small = tmp_path / "small.avif"
    tif = tmp_path / "plain.tif"
    write(Picture(data.coffee()), tif)
    assert run_command("deliver", tif, "--as", "avif", "--long-side", "300", "--out", small).returncode == 0
    with Image.open(small) as image:
        assert image.size == (300, 200)
    assert size[0] > 500


def test_eight_bit_of_every_depth():
    assert eight_bit(np.array([0, 257, 65535], np.uint16)).tolist() == [0, 1, 255]
    assert eight_bit(np.array([-0.2, 0.5, 3.0], np.float32)).tolist() == [0, 128, 255]
    same = np.array([7], np.uint8)
    assert eight_bit(same) is same
