"""Colour from files to files: against LittleCMS, the published matrices, and the standards' own figures."""

from __future__ import annotations

import io
from pathlib import Path

import imagecodecs
import numpy as np
import OpenEXR
import pytest
import tifffile
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image, ImageCms
from tests.helpers.colours import WIDE_ICC, by_littlecms
from tests.helpers.sets import FrameFiles

from idle_lantern.cli.main import main
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.colour.convert import converted
from idle_lantern.core.colour.profiles import named_space, profile_of, space_of
from idle_lantern.core.colour.space import DISPLAY_P3, SRGB, ColourSpace, Transfer, light_matrix, rgb_to_xyz
from idle_lantern.core.frames.reading import probe
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.source import region
from idle_lantern.core.pictures.tiled import open_picture

#: A curve that is no power: the perceptual lightness of CIE 1976, as some editors' working spaces have it.
_L = np.linspace(0, 1, 4096)
LIGHTNESS_ICC = bytes(
    imagecodecs.cms_profile(
        "rgb",
        whitepoint=(0.3127, 0.3290, 1),
        primaries=(0.64, 0.33, 1, 0.21, 0.71, 1, 0.15, 0.06, 1),
        transferfunction=np.rint(np.where(_L > 0.08, ((_L + 0.16) / 1.16) ** 3, _L / 9.033) * 65535).astype(np.uint16),
    )
)


def _light_by_littlecms(pixels: np.ndarray, source: bytes) -> np.ndarray:
    """Linear light in the primaries of the profile: XYZ under D50 by LittleCMS, through the profile's own colorants."""
    xyz = imagecodecs.cms_transform(
        pixels, source, imagecodecs.cms_profile("xyz"), colorspace="rgb", outcolorspace="xyz", outdtype="float32"
    )
    profile = ImageCms.ImageCmsProfile(io.BytesIO(source)).profile
    colorants = np.array([c[0] for c in (profile.red_colorant, profile.green_colorant, profile.blue_colorant)]).T
    return xyz @ np.linalg.inv(colorants).T


def test_the_matrix_is_that_of_the_standard():
    """IEC 61966-2-1, equation 7 (to four digits); the luminance weights of ITU-R BT.2020, Table 4."""
    published = [[0.4124, 0.3576, 0.1805], [0.2126, 0.7152, 0.0722], [0.0193, 0.1192, 0.9505]]
    np.testing.assert_allclose(rgb_to_xyz(SRGB.chromaticities), published, atol=6e-5)
    np.testing.assert_allclose(space_of(WIDE_ICC).luminance, [0.2627, 0.6780, 0.0593], atol=2e-4)
    # white stays white, whatever the primaries
    np.testing.assert_allclose(light_matrix(DISPLAY_P3, SRGB) @ np.ones(3), 1, atol=1e-12)


@pytest.mark.parametrize("icc", [WIDE_ICC, LIGHTNESS_ICC, named_space("p3").icc], ids=["power", "lightness", "p3"])
def test_a_profile_is_read_as_littlecms_has_it(icc: bytes):
    space = space_of(icc)
    shown = np.linspace(0, 255, 256).astype(np.uint8)[None, :, None].repeat(3, 2)
    expected = _light_by_littlecms(shown, icc)
    np.testing.assert_allclose(space.to_linear(shown / np.float32(255)), expected, atol=4e-4)
    np.testing.assert_allclose(space.from_linear(space.to_linear(shown / 255.0)), shown / 255.0, atol=1e-6)
    # linear light of one space in another, by our matrix and by LittleCMS: a level of 8 bit
    pixels = np.random.default_rng(1).integers(60, 190, (20, 20, 3), dtype=np.uint8)
    light = space.to_linear(pixels / 255.0) @ light_matrix(space, SRGB).T
    ours = np.rint(np.clip(SRGB.from_linear(light), 0, 1) * 255)
    assert np.abs(ours - by_littlecms(pixels, icc, profile_of(SRGB))).max() <= 1


def test_spaces_are_known_by_what_they_are():
    assert space_of(named_space("p3").icc) == DISPLAY_P3
    assert space_of(profile_of(SRGB)) == space_of(None) == SRGB
    grey = ImageCms.ImageCmsProfile(ImageCms.createProfile("LAB")).tobytes()
    assert space_of(grey) == SRGB, "what is no profile of red, green and blue tells nothing"
    with pytest.raises(InputError, match="red, green and blue"):
        named_space("lab.icc", grey)
    with pytest.raises(InputError, match="no colour profile"):
        named_space("x.icc", b"nothing")
    assert space_of(profile_of(space_of(LIGHTNESS_ICC).in_light)).is_linear


@given(st.sampled_from([1.0, 2.0, 16.0]), st.sampled_from(["srgb", "power", "linear"]), st.floats(1e-4, 1))
def test_light_comes_back(white: float, kind: str, share: float):
    transfer = Transfer(kind, 2.2, white=white)  # type: ignore[arg-type]
    light = np.array([share * white])
    assert transfer.to_linear(transfer.from_linear(light)) == pytest.approx(light, rel=1e-6)


@pytest.mark.parametrize("curve", [Transfer("srgb"), Transfer("power", 2.2), Transfer("srgb", white=4)])
def test_a_curve_goes_on_below_black_as_it_does_above(curve: Transfer):
    light = np.array([0, 1e-5, 0.002, 0.0031, 0.2, 0.9, 1.7])
    np.testing.assert_allclose(curve.signed_from_linear(-light), -curve.from_linear(light), atol=1e-12)
    shown = curve.from_linear(light)
    np.testing.assert_allclose(curve.signed_to_linear(-shown), -curve.to_linear(shown), atol=1e-12)


def test_what_white_stands_for_does_not_change_display_values():
    pixels = np.random.default_rng(2).integers(0, 255, (9, 9, 3), dtype=np.uint8)
    assert np.array_equal(converted(pixels, SRGB.up_to(8.0), SRGB), pixels)
    toned = converted(pixels, ColourSpace(icc=None).up_to(4.0), DISPLAY_P3)
    assert np.array_equal(toned, converted(pixels, SRGB, DISPLAY_P3))


@pytest.fixture(scope="module")
def wide_pair(row_set: FrameFiles, tmp_path_factory: pytest.TempPathFactory) -> list[Path]:
    """Two frames of the set stored in a wide space, as a camera set to it writes them."""
    folder = tmp_path_factory.mktemp("wide")
    paths = []
    for path in row_set.paths[:2]:
        pixels = by_littlecms(np.asarray(Image.open(path)), profile_of(SRGB), WIDE_ICC)
        paths.append(folder / f"{path.stem}.png")
        Image.fromarray(pixels).save(paths[-1], icc_profile=WIDE_ICC)
    return paths


@pytest.fixture(scope="module")
def joined(wide_pair: list[Path], tmp_path_factory: pytest.TempPathFactory) -> Path:
    out = tmp_path_factory.mktemp("joined") / "o.tif"
    assert main(["join", *map(str, wide_pair), "--out", str(out)]) == 0
    assert probe(out).space.icc == WIDE_ICC
    return out


def _all(path: Path) -> np.ndarray:
    source = open_picture(path)
    return region(source, Rectangle(0, 0, *source.sizes[0]))


def test_a_wide_set_in_openexr_holds_its_light(wide_pair: list[Path], joined: Path, tmp_path: Path):
    """The light of the joined picture by LittleCMS, in the primaries that the header tells: a level of 8 bit, and half floats."""
    out = tmp_path / "o.exr"
    assert main(["join", *map(str, wide_pair), "--out", str(out)]) == 0
    file = OpenEXR.File(str(out), separate_channels=True)
    told = [v for xy in space_of(WIDE_ICC).chromaticities for v in xy]
    assert tuple(file.header()["chromaticities"]) == pytest.approx(told, abs=1e-6)
    shown = _all(joined)
    light = np.stack([file.channels()[c].pixels for c in "RGB"], -1).astype(np.float32)
    inside = shown[..., 3] == 255
    expected = _light_by_littlecms(np.ascontiguousarray(shown[..., :3]), WIDE_ICC)
    by_level = 255 * np.abs(light[inside] ** (1 / 1.8) - np.clip(expected[inside], 0, 1) ** (1 / 1.8))
    assert by_level.max() <= 1


def test_linear_light_of_another_space_keeps_what_it_cannot_show(wide_pair: list[Path], tmp_path: Path):
    """Colours outside of sRGB have a negative part there; as light nothing is cut off."""
    for name in ("keep", "srgb"):
        assert main(["join", *map(str, wide_pair), "--out", str(tmp_path / f"{name}.exr"), "--profile", name]) == 0
    light = []
    for name in ("keep", "srgb"):
        channels = OpenEXR.File(str(tmp_path / f"{name}.exr"), separate_channels=True).channels()
        light.append(np.stack([channels[c].pixels for c in "RGB"], -1).astype(np.float64))
    back = light[1] @ light_matrix(SRGB, space_of(WIDE_ICC)).T
    assert np.abs(back - light[0]).max() < 2e-3
    with tifffile.TiffFile(_float_tiff(wide_pair, tmp_path)) as tiff:
        assert space_of(bytes(tiff.pages[0].tags[34675].value)).is_linear


def _float_tiff(frames: list[Path], folder: Path) -> Path:
    out = folder / "light.tif"
    assert main(["join", *map(str, frames), "--out", str(out), "--light"]) == 0
    return out


@pytest.mark.parametrize(("profile", "target"), [("srgb", profile_of(SRGB)), ("p3", named_space("p3").icc)])
def test_a_wide_picture_is_delivered_as_littlecms_converts_it(
    joined: Path, tmp_path: Path, profile: str, target: bytes
):
    out = tmp_path / "d.png"
    assert main(["deliver", str(joined), "--out", str(out), "--profile", profile]) == 0
    with Image.open(out) as image:
        assert space_of(image.info["icc_profile"]) == space_of(target)
        found = np.asarray(image).astype(int)
    shown = _all(joined)
    expected = by_littlecms(np.ascontiguousarray(shown[..., :3]), WIDE_ICC, target).astype(int)
    assert np.abs(found[..., :3] - expected).max() <= 1
    assert np.array_equal(found[..., 3], shown[..., 3])


def test_an_own_profile_is_delivered_in(joined: Path, tmp_path: Path):
    own = tmp_path / "own.icc"
    own.write_bytes(LIGHTNESS_ICC)
    out = tmp_path / "d.jpg"
    assert main(["deliver", str(joined), "--out", str(out), "--profile", str(own)]) == 0
    assert probe(out).space.icc == LIGHTNESS_ICC
    assert main(["deliver", str(joined), "--out", str(own), "--profile", str(own)]) == 2, "no output may be an input"


def test_a_profile_that_is_made_is_named():
    """Viewers show the description; LittleCMS reads it back, and the space is the same."""
    space = ColourSpace("Grünes Licht", DISPLAY_P3.chromaticities, Transfer("power", 2.19921875))  # 563/256
    for made in (DISPLAY_P3, space):
        icc = profile_of(made)
        profile = ImageCms.ImageCmsProfile(io.BytesIO(icc))
        assert ImageCms.getProfileDescription(profile).strip() == made.name
        assert int.from_bytes(icc[:4], "big") == len(icc), "ICC.1:2022, 7.2.2: the size of the profile"
        assert space_of(icc) == made


def test_each_colour_may_have_a_curve_of_its_own():
    """As profiles of scanners have it: red, green and blue are looked up in their own samples, and come back."""
    powers = (1.0, 2.0, 3.0)
    rows = tuple(tuple(float(v) for v in np.linspace(0, 1, 1025) ** p) for p in powers)
    space = ColourSpace("scanner", SRGB.chromaticities, Transfer("sampled", samples=rows))
    shown = np.random.default_rng(2).random((40, 3)) * 0.9 + 0.1
    np.testing.assert_allclose(space.to_linear(shown), shown**powers, atol=1e-5)
    np.testing.assert_allclose(space.from_linear(shown**powers), shown, atol=1e-5)
    table = space.light_table(255)
    assert table.shape == (256, 3)
    np.testing.assert_allclose(table[128], (128 / 255) ** np.array(powers), atol=1e-5)


@pytest.mark.parametrize("dtype", [np.float32, np.float64])
def test_black_and_white_stay_what_they_are_to_the_last_bit(dtype: type):
    """What is cut is told by them. The curve itself by IEC 61966-2-1 as it is printed."""
    for count in (1, 7, 1000):
        black, white = np.zeros((count, 3), dtype), np.ones((count, 3), dtype)
        assert (SRGB.to_linear(black) == 0).all()
        assert (SRGB.from_linear(black) == 0).all()
        assert (SRGB.to_linear(white) == 1).all()
        assert np.abs(SRGB.from_linear(white) - 1).max() < 1e-7
    shown = np.linspace(0, 1, 20001)
    printed = np.where(shown <= 0.04045, shown / 12.92, ((shown + 0.055) / 1.055) ** 2.4)
    assert np.abs(SRGB.to_linear(shown.astype(dtype)) - printed).max() < 4e-7
