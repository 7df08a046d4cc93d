"""Layers by the published layout of OpenRaster, by another reader's pages of TIFF, and against the picture they were joined to."""

from __future__ import annotations

import io
import xml.etree.ElementTree as ET
import zipfile
from pathlib import Path

import numpy as np
import pytest
import tifffile
from PIL import Image
from tests.helpers.commands import run_command
from tests.helpers.sets import FrameFiles


@pytest.fixture(scope="module")
def joined(row_set: FrameFiles, tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Path]:
    folder = tmp_path_factory.mktemp("joined")
    picture, report = folder / "joined.tif", folder / "report.json"
    done = run_command("join", *row_set.paths, "--out", picture, "--report", report)
    assert done.returncode == 0, done.stderr
    return picture, report


def placed(layer: Image.Image, x: int, y: int, size: tuple[int, int]) -> np.ndarray:
    whole = Image.new("RGBA", size)
    whole.paste(layer, (x, y))
    return np.asarray(whole)


def check_frames(layers: list[tuple[str, np.ndarray]], picture: np.ndarray, count: int) -> None:
    """Each frame lies on the picture where it shows it, and what the picture shows of all of them covers it."""
    shown = np.zeros(picture.shape[:2], bool)
    there = picture[..., 3] > 0 if picture.shape[2] == 4 else np.ones(picture.shape[:2], bool)
    names = [name for name, _pixels in layers]
    assert len(names) == 2 * count
    assert len(set(names)) == 2 * count
    for name, pixels in layers:
        alpha = pixels[..., 3] > 0
        if name.endswith("as joined"):
            shown |= alpha
            inside = alpha & there
            off = np.abs(pixels[inside][:, :3].astype(float) - picture[inside][:, :3])
            assert np.median(off) <= 3, name  # but near seams, where frames are blended
    assert shown[there].mean() > 0.99


def test_open_raster_as_it_is_published(joined: tuple[Path, Path], row_set: FrameFiles, tmp_path: Path):
    """OpenRaster 0.0.6, baseline: its kind first and not packed, a stack, each layer, the merged picture, a thumbnail up to 256 px."""
    picture, report = joined
    out = tmp_path / "layers.ora"
    done = run_command(
        "deliver", picture, "--as", "layers", "--report", report, "--frames", row_set.paths[0].parent, "--out", out
    )
    assert done.returncode == 0, done.stderr
    assert "recognised as OpenRaster" in done.stderr
    with zipfile.ZipFile(out) as file:
        first = file.infolist()[0]
        assert (first.filename, first.compress_type) == ("mimetype", zipfile.ZIP_STORED)
        assert file.read("mimetype") == b"image/openraster"
        image = ET.fromstring(file.read("stack.xml"))
        merged = Image.open(io.BytesIO(file.read("mergedimage.png")))
        thumbnail = Image.open(io.BytesIO(file.read("Thumbnails/thumbnail.png")))
        stack = image.find("stack")
        assert stack is not None
        assert image.tag == "image"
        size = int(image.get("w", "")), int(image.get("h", ""))
        assert size == merged.size
        assert max(thumbnail.size) <= 256
        rows = list(stack)
        assert {row.tag for row in rows} == {"layer"}
        assert {row.get("composite-op") for row in rows} == {"svg:src-over"}
        # the uppermost comes first; what is seen at first is the picture itself
        assert [row.get("visibility") for row in rows] == ["hidden"] * (len(rows) - 1) + ["visible"]
        layers = [
            (
                row.get("name", ""),
                placed(
                    Image.open(io.BytesIO(file.read(row.get("src", "")))),
                    int(row.get("x", "")),
                    int(row.get("y", "")),
                    size,
                ),
            )
            for row in rows
        ]
    assert layers[-1][0] == "Joined picture"
    assert np.array_equal(np.asarray(merged.convert("RGBA")), layers[-1][1])
    check_frames(layers[:-1], tifffile.imread(picture), len(row_set.paths))


def test_pages_of_tiff_with_their_names_and_places(joined: tuple[Path, Path], row_set: FrameFiles, tmp_path: Path):
    """TIFF 6.0: PageName 285, XPosition 286, YPosition 287 in units of the resolution."""
    picture, report = joined
    out = tmp_path / "layers.tif"
    done = run_command(
        "deliver", picture, "--as", "layers", "--report", report, "--frames", row_set.paths[0].parent, "--out", out
    )
    assert done.returncode == 0, done.stderr
    with tifffile.TiffFile(out) as file:
        size = file.pages[0].imagewidth, file.pages[0].imagelength
        layers = []
        for page in file.pages:
            x, y = (page.tags[tag].value for tag in (286, 287))
            dpi = page.tags["XResolution"].value
            at = [round(n / d * dpi[0] / dpi[1]) for n, d in (x, y)]
            layers.append((page.tags[285].value, placed(Image.fromarray(page.asarray()), *at, size)))
    assert layers[0][0] == "Joined picture"
    check_frames(layers[1:], tifffile.imread(picture), len(row_set.paths))
    with Image.open(out) as image:
        assert image.n_frames == len(layers)


def test_frames_that_are_not_there_are_named_and_a_picture_alone_is_one_layer(
    joined: tuple[Path, Path], tmp_path: Path
):
    picture, report = joined
    done = run_command("deliver", picture, "--as", "layers", "--report", report, "--out", tmp_path / "l.ora")
    assert done.returncode == 2
    assert "frames of the join are not there" in done.stderr
    assert "--frames" in done.stderr
    assert not (tmp_path / "l.ora").exists()
    done = run_command("deliver", picture, "--as", "layers", "--out", tmp_path / "l.ora")
    assert done.returncode == 0
    assert "1 layers, all there" in done.stderr
