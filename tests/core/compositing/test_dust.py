"""Dust on the sensor: found, told, and left out of the picture where a neighbour shows the place clean."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import pytest

from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.frameset import gather
from idle_lantern.core.frames.masks import Mask, together
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.frames.reading import read
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.sphere import azimuth_altitude
from idle_lantern.core.join.pipeline import join
from idle_lantern.core.request.options import JoinOptions
from idle_lantern.simulator.camera import CameraSettings, SimulatedCamera, SimulatedHead
from idle_lantern.simulator.diorama import ambrel_holm

LENS = Lens("rectilinear", 560, 480, 600)
CAMERA = SimulatedCamera(LENS, 24.0, 24.0 * 480 / 560)
#: Place, radius in pixels and share of light taken, in the sky of every frame.
SPOTS = ((120.0, 90.0, 6.0, 0.2), (300.0, 150.0, 5.0, 0.25))


def _frames(folder: Path) -> tuple[list[Path], list[Path]]:
    """Five frames of a sky over land, clean and dusty, with the same noise."""
    v, u = np.mgrid[: LENS.height, : LENS.width]
    rays = LENS.unproject(np.stack([u, v], -1).reshape(-1, 2).astype(float))
    dust = np.ones((LENS.height, LENS.width))
    for x, y, radius, loss in SPOTS:
        dust *= 1 - loss / (1 + np.exp(np.minimum((np.hypot(u - x, v - y) - radius) * 2, 50)))
    paths: tuple[list[Path], list[Path]] = [], []
    for i in range(5):
        pose = SimulatedHead(play_deg=0.3).pointed(-50.0 + 24 * i, 6.0, 0.0, shot=i)
        view = CAMERA.view(ambrel_holm(walkers=0), pose)
        azimuth, altitude = (np.degrees(a).reshape(dust.shape) for a in azimuth_altitude(rays @ pose.T))
        sky = np.stack([0.16 + altitude / 400, 0.22 + altitude / 500, 0.36 + 0 * azimuth], -1)
        light = np.where((altitude > 3)[..., None], sky, view.light)
        for name, left, files in (("clean", 1.0, paths[0]), ("dusty", dust[..., None], paths[1])):
            through = replace(view, light=(light * left).astype(np.float32))
            seen = np.clip(CAMERA.sensed(through, CameraSettings(), seed=i), 0, 1)
            files.append(folder / f"{name}{i}.png")
            write(
                Picture(np.rint(SRGB.from_linear(seen) * 255).astype(np.uint8)),
                files[-1],
                WriteOptions(metadata=Metadata()),
            )
    return paths


def test_dust_is_told_and_gives_way_to_neighbours_that_are_clean(tmp_path: Path):
    options = JoinOptions(projection="cylindrical")
    clean, dusty = (gather(paths) for paths in _frames(tmp_path))
    _, made = join(clean, tmp_path / "clean.png", options)
    assert made.dust == ()
    own, mended = join(dusty, tmp_path / "own.png", options)
    found = sorted((s.u, s.v) for s in mended.dust)
    assert found == [(pytest.approx(x, abs=2), pytest.approx(y, abs=2)) for x, y, _r, _l in SPOTS]
    # where spots of one frame stand in the picture, seen through the frames that are clean there
    canvas = mended.canvas
    picture = cv2.GaussianBlur(read(tmp_path / "own.png").pixels[..., 1].astype(np.float32), (0, 0), 1.0)
    about = cv2.GaussianBlur(picture, (0, 0), 12.0)
    depths = []
    for i in range(1, 4):
        world = own.poses.directions(i, np.array([(x, y) for x, y, _r, _l in SPOTS]))
        for x, y in canvas.pixels(world):
            depths.append(float(picture[round(y), round(x)] / about[round(y), round(x)]))
    # light that is a fifth less is a tenth less of the display value
    assert min(depths) > 0.97


def test_what_is_painted_to_be_kept_is_kept():
    keep = np.zeros((60, 80), np.uint8)
    keep[:, :40] = 255
    dust = Mask(np.zeros((120, 160), np.uint8), np.zeros((120, 160), np.uint8))
    dust.hide[20:40, 20:40] = dust.hide[20:40, 120:140] = 255
    both = together({0: Mask(np.zeros_like(keep), keep)}, {0: dust})[0]
    assert both.hide[15, 15] == 0
    assert both.hide[15, 65] == 255
