"""Sets on which joins usually fail, at small size: each joins right, or says precisely why not."""

from __future__ import annotations

import shutil
from pathlib import Path

import numpy as np
from PIL import Image
from tests.helpers.reports import report_of
from tests.helpers.sets import FrameFiles, render, rms

from idle_lantern.core.compositing.canvas.canvas import make_canvas
from idle_lantern.core.compositing.render.compose import compose_picture
from idle_lantern.core.frames.frameset import gather
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.solve.solve import Solution, solve, working_of
from idle_lantern.simulator.diorama import ambrel_holm


def _errors(files: FrameFiles, solution: Solution) -> np.ndarray:
    canvas = make_canvas(solution.poses, solution.seen, width_px=300)
    return files.error_px(report_of(solution, compose_picture(solution, canvas, rough=True)))


def test_walkers_are_shown_once_or_not_at_all(tmp_path: Path):
    """People move on between frames: no seam cuts through what differs where a way round it exists."""
    lens = Lens("rectilinear", 700, 480, 640)
    scene = ambrel_holm(walkers=40, clouds=0.3)
    files = render(tmp_path, lens, [(-15.0 + 20 * i, -6, 0) for i in range(3)], scene=scene, seconds=4.0)
    solution = solve(gather(files.paths))
    assert rms(_errors(files, solution)) < 0.1
    joined = compose_picture(solution, make_canvas(solution.poses, solution.seen))
    # along the seams of the reduced canvas the two frames agree far better than over the whole overlap
    from idle_lantern.core.compositing.canvas.overview import make_overview

    overview = make_overview(solution.poses, working_of(solution), joined.canvas)
    along, over = [], []
    for one, other in zip(overview.patches, overview.patches[1:]):
        shape = joined.label.shape
        a, there = np.zeros((*shape, 3), np.uint8), np.zeros(shape, bool)
        a[one.index], there[one.index] = one.pixels, one.inside
        b, here = np.zeros((*shape, 3), np.uint8), np.zeros(shape, bool)
        b[other.index], here[other.index] = other.pixels, other.inside
        difference = np.abs(a.astype(int) - b).sum(-1)
        seam = np.zeros(shape, bool)
        change = joined.label[:, 1:] != joined.label[:, :-1]
        seam[:, 1:] |= change
        along.append(difference[seam & there & here])
        over.append(difference[there & here])
    assert np.concatenate(along).mean() < 0.6 * np.concatenate(over).mean()


def test_frames_of_unequal_size_and_orientation(row_set: FrameFiles, tmp_path: Path):
    """One turned sideways in the file, one at three quarters of the size."""
    shutil.copy(row_set.paths[0], tmp_path / "u0.jpg")
    with Image.open(row_set.paths[1]) as image:
        exif = Image.Exif()
        exif[274] = 6
        image.transpose(Image.Transpose.ROTATE_90).save(tmp_path / "u1.jpg", quality=95, exif=exif)
    with Image.open(row_set.paths[2]) as image:
        image.resize((360, 510), Image.Resampling.LANCZOS).save(tmp_path / "u2.jpg", quality=95)
    solution = solve(gather([tmp_path / f"u{i}.jpg" for i in range(3)]))
    assert len(solution.poses.frames) == 3
    yaw = np.degrees(np.arctan2(solution.poses.world_from_camera[:, 0, 2], solution.poses.world_from_camera[:, 2, 2]))
    order = [solution.poses.frames.index(f) for f in range(3)]
    np.testing.assert_allclose(np.diff(yaw[order]), 28, atol=1.5)
