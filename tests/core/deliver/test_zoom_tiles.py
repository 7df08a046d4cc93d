"""Tiles for pages that zoom: every file where the published layouts have it, of the right size, showing the picture; whole or not at all."""

from __future__ import annotations

import json
import math
import xml.etree.ElementTree as ET
from pathlib import Path

import cv2
import numpy as np
import pytest
from PIL import Image
from skimage import data
from skimage.metrics import peak_signal_noise_ratio
from tests.helpers.commands import run_command

from idle_lantern.core.base.errors import Cancelled, InputError
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.deliver.zoom_tiles import write_iiif, write_xml_tiles
from idle_lantern.core.pictures.source import HeldPicture


def photo(width: int = 1301, height: int = 777) -> np.ndarray:
    return cv2.resize(data.coffee(), (width, height), interpolation=cv2.INTER_CUBIC)


def tile(path: Path) -> np.ndarray:
    with Image.open(path) as image:
        assert image.format == "JPEG"
        return np.asarray(image.convert("RGB"))


@pytest.mark.parametrize("size", [(1301, 777), (512, 512), (513, 1), (90, 3000)])
def test_levels_of_the_xml_layout_are_as_published(tmp_path: Path, size: tuple[int, int]):
    """Level L of n = ceil(log2(longer side)) has ceil(side / 2^(n - L)) pixels, in tiles column_row.jpg from the upper left corner."""
    pixels = photo(*size)
    told = write_xml_tiles(HeldPicture(Picture(pixels)), tmp_path / "wide", WriteOptions())
    assert told == tmp_path / "wide.xml"
    image = ET.fromstring(told.read_text())
    name = "{http://schemas.microsoft.com/deepzoom/2008}"
    assert image.tag == f"{name}Image"
    assert (image.get("Format"), image.get("Overlap"), image.get("TileSize")) == ("jpg", "0", "512")
    asked = image.find(f"{name}Size")
    assert asked is not None
    assert (asked.get("Width"), asked.get("Height")) == tuple(str(s) for s in size)
    last = math.ceil(math.log2(max(size)))
    folder = tmp_path / "wide_files"
    assert {p.name for p in folder.iterdir()} == {str(k) for k in range(last + 1)}
    for level in range(last + 1):
        w, h = (math.ceil(side / 2 ** (last - level)) for side in size)
        shown = np.zeros((h, w, 3), np.uint8)
        count = 0
        for row in range(math.ceil(h / 512)):
            for column in range(math.ceil(w / 512)):
                part = tile(folder / str(level) / f"{column}_{row}.jpg")
                assert part.shape[:2] == (min(512, h - 512 * row), min(512, w - 512 * column))
                shown[512 * row : 512 * row + 512, 512 * column : 512 * column + 512] = part
                count += 1
        assert len(list((folder / str(level)).iterdir())) == count
        if min(w, h) >= 48:
            wanted = cv2.resize(pixels, (w, h), interpolation=cv2.INTER_AREA)
            # smaller ones are all edges, and each is made from the one below
            assert peak_signal_noise_ratio(wanted, shown) > (30 if level == last else 24)
    assert not [p for p in tmp_path.iterdir() if p.name.startswith(".")]


def test_iiif_tiles_stand_at_their_canonical_addresses(tmp_path: Path):
    """As a client asks for them (IIIF Image API 3.0, implementation notes, section 3: tile region parameter calculation)."""
    pixels = photo()
    write_iiif(HeldPicture(Picture(pixels)), tmp_path / "wide", WriteOptions())
    info = json.loads((tmp_path / "wide" / "info.json").read_text())
    assert (info["type"], info["protocol"], info["profile"]) == ("ImageService3", "http://iiif.io/api/image", "level0")
    assert (info["width"], info["height"]) == (1301, 777)
    (told,) = info["tiles"]
    asked = 0
    for factor in told["scaleFactors"]:
        step = told["width"] * factor
        for top in range(0, info["height"], step):
            for left in range(0, info["width"], step):
                w, h = min(step, info["width"] - left), min(step, info["height"] - top)
                size = math.ceil(w / factor), math.ceil(h / factor)
                shown = tile(tmp_path / "wide" / f"{left},{top},{w},{h}" / f"{size[0]},{size[1]}" / "0" / "default.jpg")
                assert shown.shape[1::-1] == size
                wanted = cv2.resize(pixels[top : top + h, left : left + w], size, interpolation=cv2.INTER_AREA)
                assert peak_signal_noise_ratio(wanted, shown) > (30 if factor == 1 else 24)
                asked += 1
    assert asked >= 8
    for size in info["sizes"]:
        whole = tile(tmp_path / "wide" / "full" / f"{size['width']},{size['height']}" / "0" / "default.jpg")
        assert whole.shape[1::-1] == (size["width"], size["height"])
    small = tmp_path / "small"
    write_iiif(HeldPicture(Picture(photo(300, 200))), small, WriteOptions())
    assert tile(small / "full" / "max" / "0" / "default.jpg").shape == (200, 300, 3)


class Stopped:
    """Progress that is stopped at the third tile."""

    def __init__(self) -> None:
        self._left = 3

    def begin(self, stage: str, total: int) -> None:
        pass

    def advance(self, n: int = 1) -> None:
        self._left -= 1
        if self._left == 0:
            raise Cancelled


def test_what_is_stopped_or_in_the_way_leaves_all_as_it_was(tmp_path: Path):
    tmp_path = tmp_path / "own"
    tmp_path.mkdir()
    source, options = HeldPicture(Picture(photo())), WriteOptions()
    with pytest.raises(Cancelled):
        write_xml_tiles(source, tmp_path / "a", options, Stopped())
    assert list(tmp_path.iterdir()) == []
    (tmp_path / "b_files").mkdir()
    (tmp_path / "b_files" / "mine.txt").write_text("kept")
    with pytest.raises(InputError, match="Something else stands there"):
        write_xml_tiles(source, tmp_path / "b.xml", options)
    assert (tmp_path / "b_files" / "mine.txt").read_text() == "kept"
    # an XML file beside a folder of somebody else's makes it no folder of tiles
    (tmp_path / "b.xml").write_text("<page/>")
    with pytest.raises(InputError, match="Something else stands there"):
        write_xml_tiles(source, tmp_path / "b.xml", options)
    assert (tmp_path / "b_files" / "mine.txt").exists()
    (tmp_path / "b.xml").unlink()
    write_xml_tiles(source, tmp_path / "c", options)
    # killed before its XML stood: the next run takes the folder over
    (tmp_path / "c.xml").unlink()
    write_xml_tiles(source, tmp_path / "c", options)
    with pytest.raises(Cancelled):
        write_xml_tiles(source, tmp_path / "c", options, Stopped())
    assert (tmp_path / "c_files" / "11" / "2_1.jpg").exists(), "the earlier one stays until the new one is whole"
    # what a killed writer left goes, and its own earlier tiles are replaced
    (tmp_path / ".c_files.x.lantern-part").mkdir()
    write_xml_tiles(HeldPicture(Picture(photo(200, 100))), tmp_path / "c", options)
    assert sorted(p.name for p in tmp_path.iterdir()) == ["b_files", "c.xml", "c_files"]
    assert not (tmp_path / "c_files" / "11").exists()


def test_the_command_writes_both(tmp_path: Path):
    plain = tmp_path / "in.tif"
    write(Picture(photo(700, 600)), plain)
    for kind, wanted in (("tiles", "page.xml"), ("iiif", "page/info.json")):
        done = run_command("deliver", plain, "--as", kind, "--out", tmp_path / "page", "--long-side", "600")
        assert done.returncode == 0, done.stderr
        assert (tmp_path / wanted).exists()
        assert done.stdout.strip() == str(tmp_path / wanted.removesuffix("/info.json"))
    assert tile(tmp_path / "page_files" / "10" / "1_1.jpg").shape == (2, 88, 3)
    done = run_command("deliver", plain, "--as", "tiles", "--out", tmp_path / "nowhere" / "page")
    assert done.returncode == 2
    # no output may be an input: a tile of the folder that would be replaced
    inside = next((tmp_path / "page_files" / "9").iterdir())
    done = run_command("deliver", inside, "--as", "tiles", "--out", tmp_path / "page")
    assert done.returncode == 2
    assert "Lies in the folder that would be written" in done.stderr
    assert inside.exists()
