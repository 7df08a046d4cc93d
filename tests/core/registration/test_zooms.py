"""Frames that were zoomed or cropped and do not tell it, of natural photographs: they are one picture all the same."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from tests.reference.photographs import cut

from idle_lantern.core.base.errors import JoinError
from idle_lantern.core.frames.frameset import gather
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.match.lens_guess import camera_groups
from idle_lantern.core.registration.solve import solve as solve_module
from idle_lantern.core.registration.solve.solve import Solution, solve

LENS = Lens("rectilinear", 900, 520, 400)


def _frames(
    folder: Path, zooms: list[float], step_deg: float = 13.0
) -> tuple[list[Path], list[np.ndarray], list[Lens]]:
    """A row, each frame at its own zoom: files, true rotations and lenses."""
    rng = np.random.default_rng(3)
    paths, cameras, lenses = [], [], []
    for i, zoom in enumerate(zooms):
        own = folder / f"{i}"
        own.mkdir()
        lens = replace(LENS, focal_px=LENS.focal_px * zoom)
        yaw = step_deg * (i - (len(zooms) - 1) / 2)
        angles = tuple((np.array([yaw, 0, 0]) + rng.normal(0, 0.3, 3)).tolist())
        (path,), (camera,) = cut(own, lens, [angles])
        paths.append(path.rename(folder / f"z{i}.jpg"))
        cameras.append(camera)
        lenses.append(lens)
    return paths, cameras, lenses


def _off_deg(solution: Solution, cameras: list[np.ndarray]) -> float:
    """The worst frame's miss, after the turn of the whole that suits all best."""
    true = [cameras[f] for f in solution.poses.frames]
    turned = solution.poses.world_from_camera
    whole = rotations.nearest(sum(t @ s.T for t, s in zip(true, turned, strict=True)))
    return max(math.degrees(float(rotations.angle_between(t, whole @ s))) for t, s in zip(true, turned, strict=True))


@pytest.mark.parametrize(
    "zooms",
    [
        pytest.param([1, 1, 1, 1.04, 1.04, 1.04], id="a little, and all matched under one lens, half a degree off"),
        pytest.param([1, 1, 1, 1.12, 1.12, 1.12], id="by an eighth, and the rest was another picture"),
        pytest.param([1, 1, 1.4, 1, 1], id="one frame"),
    ],
)
def test_frames_of_another_zoom_are_solved(zooms: list[float], tmp_path: Path):
    paths, cameras, lenses = _frames(tmp_path, zooms)
    solution = solve(gather(paths))
    assert sorted(solution.poses.frames) == list(range(len(zooms)))
    assert _off_deg(solution, cameras) < 0.05
    for f, found in zip(solution.poses.frames, solution.poses.lenses, strict=True):
        assert found.focal_px / lenses[f].focal_px == pytest.approx(1, abs=0.005)
    labels = camera_groups(solution.frames)
    assert len(set(labels)) == 2
    assert [labels[f] == labels[0] for f in range(len(zooms))] == [z == zooms[0] for z in zooms]


def test_a_cropped_frame_is_solved(tmp_path: Path):
    """Cut off below and to the right: its middle is not where its lens looks."""
    paths, cameras, _lenses = _frames(tmp_path, [1] * 5)
    with Image.open(paths[2]) as picture:
        picture.crop((0, 0, 400, 310)).save(paths[2], quality=95)
    solution = solve(gather(paths))
    assert sorted(solution.poses.frames) == [0, 1, 2, 3, 4]
    lens = solution.poses.lenses[solution.poses.index(2)]
    assert lens.focal_px == pytest.approx(900, rel=0.01)
    # the axis stands at the middle of the frame as it was, (519 / 2, 399 / 2)
    middle = LENS.unproject(np.array([259.5, 199.5]))
    off = _off_deg(solution, cameras)
    assert middle == pytest.approx([0, 0, 1])
    assert off < 0.3


def test_frames_of_one_zoom_share_their_lens_as_before(tmp_path: Path):
    paths, cameras, _lenses = _frames(tmp_path, [1] * 4)
    solution = solve(gather(paths))
    assert solution.frames.lens_labels == ()
    assert len({lens.focal_px for lens in solution.poses.lenses}) == 1
    assert _off_deg(solution, cameras) < 0.02


def test_where_another_zoom_leads_nowhere_what_was_tied_stays(tmp_path: Path, monkeypatch: pytest.MonkeyPatch):
    """Looking for zooms failed a join that had succeeded without them."""
    paths, _cameras, _lenses = _frames(tmp_path, [1, 1, 1, 1.04, 1.04, 1.04])
    adjusted, calls = solve_module.initial_rotations, []

    def once(*given: object) -> np.ndarray:
        calls.append(given)
        if len(calls) > 1:
            raise JoinError("The frames fall into separate pictures")
        return adjusted(*given)

    monkeypatch.setattr(solve_module, "initial_rotations", once)
    solution = solve(gather(paths))
    assert len(calls) > 1
    assert len(solution.poses.frames) == 6
    assert solution.frames.lens_labels == ()
