"""Spheres as viewers know them: every field of the published photo-sphere metadata, for whole and partial ones."""

from __future__ import annotations

import math
import xml.etree.ElementTree as ET
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from tests.helpers.commands import run_command
from tests.helpers.sets import FrameFiles

from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.deliver.sphere import SpherePlace, sphere_facts
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.deliver.xmp import xmp_packet
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.geometry.projections import Projection

_GPANO = "{http://ns.google.com/photos/1.0/panorama/}"


def fields(packet: bytes) -> dict[str, str]:
    """What a reader finds in a packet, by name."""
    tree = ET.fromstring(packet.decode().split("?>", 1)[1].rsplit("<?", 1)[0])
    return {e.tag.removeprefix(_GPANO): e.text or "" for e in tree.iter() if e.tag.startswith(_GPANO)}


def test_a_part_of_a_sphere_lies_where_its_canvas_has_it():
    """Full and cropped sizes by the schema: a pixel of the part and the same one of the full picture look the same way."""
    scale = 4000 / (2 * math.pi)
    canvas = Canvas(Projection("equirectangular"), 1500, 700, scale, (900.0, 300.0))
    place = SpherePlace.of(scale, canvas.centre_px, (1500, 700))
    assert (place.full_width, place.full_height) == (4000, 2000)
    full = Canvas(Projection("equirectangular"), 4000, 2000, scale, (1999.5, 999.5), full_circle=True)
    for u, v in ((0, 0), (1499, 699), (700, 20)):
        looks = canvas.directions(np.array([float(u), float(v)]))
        there = full.directions(np.array([float(u + place.left), float(v + place.top)]))
        assert math.degrees(math.acos(min(1.0, float(looks @ there)))) < 0.07  # half a pixel across and down
    told = fields(xmp_packet(Metadata(), sphere_facts(place, heading_deg=250.0)))
    assert told == {
        "UsePanoramaViewer": "True",
        "ProjectionType": "equirectangular",
        "CroppedAreaImageWidthPixels": "1500",
        "CroppedAreaImageHeightPixels": "700",
        "FullPanoWidthPixels": "4000",
        "FullPanoHeightPixels": "2000",
        "CroppedAreaLeftPixels": str(place.left),
        "CroppedAreaTopPixels": str(place.top),
        "PoseHeadingDegrees": "250.00",
        "InitialViewHeadingDegrees": str(round(250 + (place.left + 750) / 4000 * 360 - 180) % 360),
    }
    half = place.scaled((750, 350))
    assert (half.full_width, half.full_height, half.width) == (2000, 1000, 750)
    assert half.left + half.width <= half.full_width


def test_a_whole_sphere_closes():
    place = SpherePlace.of(800 / (2 * math.pi), (399.5, 199.5), (800, 400))
    assert place == SpherePlace.whole((800, 400))
    assert "PoseHeadingDegrees" not in sphere_facts(place)


def test_the_command_writes_a_sphere_that_a_reader_knows(sphere_set: FrameFiles, tmp_path: Path):
    joined, report, out = tmp_path / "joined.tif", tmp_path / "report.json", tmp_path / "sphere.jpg"
    done = run_command(
        "join", *sphere_set.paths, "--out", joined, "--report", report, "--projection", "equirectangular"
    )
    assert done.returncode == 0, done.stderr
    done = run_command(
        "deliver", joined, "--as", "sphere", "--report", report, "--heading", "90", "--long-side", "1000", "--out", out
    )
    assert done.returncode == 0, done.stderr
    with Image.open(out) as image:
        size, told = image.size, fields(image.info["xmp"])
    assert size[0] == 1000
    assert (told["FullPanoWidthPixels"], told["CroppedAreaImageWidthPixels"]) == ("1000", "1000")
    assert int(told["FullPanoHeightPixels"]) == 500
    assert int(told["CroppedAreaTopPixels"]) + size[1] <= 500
    assert told["PoseHeadingDegrees"] == "90.00"


@pytest.mark.parametrize(
    ("size", "more", "said"),
    [
        ((300, 200), [], "Nothing tells which part of a sphere"),
        ((400, 200), ["--out", "a.png"], "is not named so"),
    ],
)
def test_what_is_no_sphere_is_refused(tmp_path: Path, size: tuple[int, int], more: list[str], said: str):
    plain = tmp_path / "in.png"
    write(Picture(np.full((size[1], size[0], 3), 90, np.uint8)), plain)
    out = ["--out", str(tmp_path / "a.png")] if more else ["--out", str(tmp_path / "a.jpg")]
    done = run_command("deliver", plain, "--as", "sphere", *out)
    assert done.returncode == 2
    assert said in done.stderr
    done = run_command("deliver", plain, "--heading", "90", "--out", tmp_path / "b.jpg")
    assert "--heading is told with a sphere only" in done.stderr
    if not more:
        whole = tmp_path / "whole.png"
        write(Picture(np.full((200, 400, 3), 90, np.uint8)), whole)
        assert run_command("deliver", whole, "--as", "sphere", *out).returncode == 0
