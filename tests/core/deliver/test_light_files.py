"""Light in files read back by others: OpenEXR by its own library, TIFF by Pillow's neighbour OpenCV."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np
import OpenEXR
import pytest

from idle_lantern.core.base.progress import SILENT
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import DISPLAY_P3, SRGB
from idle_lantern.core.deliver.light_files import write_exr, write_float_tiff
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.pictures.source import HeldPicture


def test_light_beyond_white_comes_back(tmp_path: Path):
    """A half float has eleven bits: within a thousandth, and the curve's own steps of 16 bit."""
    light = np.geomspace(0.02, 8, 1200 * 40 * 3).reshape(1200, 40, 3).astype(np.float32)
    write_exr(HeldPicture(Picture.of_light(light, DISPLAY_P3.up_to(8.0))), tmp_path / "l.exr", WriteOptions(), SILENT)
    file = OpenEXR.File(str(tmp_path / "l.exr"), separate_channels=True)
    assert tuple(file.header()["chromaticities"]) == pytest.approx([v for xy in DISPLAY_P3.chromaticities for v in xy])
    channels = file.channels()
    back = np.stack([channels[c].pixels for c in "RGB"], -1)
    assert back.dtype == np.float16
    assert np.abs(back.astype(np.float32) / light - 1).max() < 4e-3


def test_what_is_transparent_has_no_light(tmp_path: Path):
    alpha = np.zeros((30, 20), np.uint16)
    alpha[:15] = 65535
    picture = Picture(np.full((30, 20, 3), 40000, np.uint16), alpha)
    write_exr(HeldPicture(picture), tmp_path / "a.exr", WriteOptions(), SILENT)
    channels = OpenEXR.File(str(tmp_path / "a.exr"), separate_channels=True).channels()
    assert channels["A"].pixels[:15].min() == 1
    assert channels["R"].pixels[15:].max() == 0
    assert channels["G"].pixels[3, 3] > 0.3


def test_tiff_of_floats_holds_the_light_whole(tmp_path: Path):
    light = np.geomspace(0.02, 8, 300 * 40 * 3).reshape(300, 40, 3).astype(np.float32)
    write_float_tiff(HeldPicture(Picture.of_light(light, SRGB.up_to(8.0))), tmp_path / "l.tif", WriteOptions(), SILENT)
    back = cv2.imread(str(tmp_path / "l.tif"), cv2.IMREAD_UNCHANGED)[..., ::-1]
    assert back.dtype == np.float32
    assert np.abs(back / light - 1).max() < 3e-3
