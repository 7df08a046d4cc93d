"""The tripod's head at the nadir: two frames straight down, turned by 90 degrees, take it out by themselves."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import cv2
import pytest
import tifffile
from tests.helpers.sets import FrameFiles, render

from idle_lantern.cli.main import main
from idle_lantern.core.compositing.canvas.canvas import make_canvas
from idle_lantern.core.compositing.render.compose import compose_picture
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.frameset import gather
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.frames.reading import read
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.solve.solve import solve
from idle_lantern.core.request.options import JoinOptions

LENS = Lens("rectilinear", 420, 420, 600)
#: Colours of the head's plate and arm: nothing in the place has them.
PLATE, ARM = (210, 40, 190), (150, 25, 140)


@pytest.fixture(scope="module")
def nadir_set(tmp_path_factory: pytest.TempPathFactory) -> tuple[FrameFiles, FrameFiles]:
    """A ring that looks down and two frames straight down, without and with a head in the latter two."""
    folder, other = (tmp_path_factory.mktemp(n) for n in ("clean", "head"))
    ring = [(60.0 * i, -42.0, 0.0) for i in range(6)]
    clean = render(folder, LENS, [*ring, (0, -90, 0), (90, -90, 0)])
    meta = Metadata(focal_mm=24.0, sensor_width_mm=24.0 * 600 / 420)
    paths = []
    for i, path in enumerate(clean.paths):
        picture = read(path)
        pixels = picture.pixels.copy()
        if i >= 6:
            cv2.rectangle(pixels, (170, 330), (250, 600), ARM, -1)
            cv2.circle(pixels, (210, 320), 60, PLATE, -1)
        paths.append(other / path.name)
        write(replace(picture, pixels=pixels), paths[-1], WriteOptions(jpeg_quality=95, metadata=meta))
    return clean, replace(clean, paths=tuple(paths))


def _joined(files: FrameFiles):
    options = JoinOptions(projection="stereographic", width_px=900)
    solution = solve(gather(files.paths), options)
    canvas = make_canvas(solution.poses, solution.seen, options.projection, options.width_px)
    return compose_picture(solution, canvas, options)


def test_the_head_is_left_out_where_the_other_frame_shows_the_ground(nadir_set: tuple[FrameFiles, FrameFiles]):
    with_head = nadir_set[1]
    joined = _joined(with_head)
    assert joined.carried == (6, 7)
    pixels = joined.picture.pixels.astype(int)
    pink = (pixels[..., 0] - pixels[..., 1] > 70) & (pixels[..., 2] - pixels[..., 1] > 60)
    in_frames = sum(
        int(((p[..., 0].astype(int) - p[..., 1] > 70) & (p[..., 2].astype(int) - p[..., 1] > 60)).sum())
        for p in (read(f).pixels for f in with_head.paths[6:])
    )
    assert in_frames > 20_000
    # only where both heads lie over each other, at the very nadir, nothing else shows the ground
    assert pink.sum() < 0.12 * in_frames


def test_with_the_rim_filled_nothing_of_the_head_is_left(nadir_set: tuple[FrameFiles, FrameFiles], tmp_path: Path):
    frames = [str(p) for p in nadir_set[1].paths]
    out = tmp_path / "o.tif"
    told = ["--projection", "stereographic", "--width", "360", "--rim", "fill", "--invent-anything"]
    assert main(["join", *frames, "--out", str(out), *told]) == 0
    pixels = tifffile.imread(out).astype(int)
    pink = (pixels[..., 0] - pixels[..., 1] > 70) & (pixels[..., 2] - pixels[..., 1] > 60)
    assert pink.sum() < 20
    assert (pixels[..., 3] == 255).all()


def test_a_clean_set_is_left_as_it_is(nadir_set: tuple[FrameFiles, FrameFiles]):
    assert _joined(nadir_set[0]).carried == ()
