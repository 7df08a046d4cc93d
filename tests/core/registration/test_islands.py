"""Frames that only each other ties: placed by the grid where nothing could tie them to the rest, and left out where it would have."""

from __future__ import annotations

import math
from pathlib import Path

import cv2
import numpy as np
import skimage.data
from tests.reference.photographs import PX_PER_RAD, band, cut

from idle_lantern.core.frames.frameset import gather
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.match.links import Link
from idle_lantern.core.registration.solve.placing import islands_of, placing_in_words
from idle_lantern.core.registration.solve.solve import solve
from idle_lantern.core.request.options import JoinOptions

LENS = Lens("rectilinear", 900, 520, 400)
STEP_DEG = 26.0


def _row(folder: Path, *, bare: bool) -> tuple[list[Path], list[np.ndarray]]:
    """Six frames that share a sixth; where the fourth and the fifth meet there is nothing but a soft sky, where ``bare``."""
    picture = np.concatenate([band(), band()[:, ::-1]], axis=1).astype(np.float32)
    if bare:
        meet = (picture.shape[1] - 1) / 2 + math.radians(STEP_DEG) * PX_PER_RAD
        part = slice(int(meet) - 110, int(meet) + 110)
        soft = cv2.GaussianBlur(picture, (0, 0), 60)[:, part]
        share = cv2.GaussianBlur(np.pad(np.ones((1, 180), np.float32), ((0, 0), (20, 20))), (0, 0), 8)[..., None]
        picture[:, part] = picture[:, part] * (1 - share) + soft * share
    noisy = np.clip(picture + np.random.default_rng(1).normal(0, 1.5, picture.shape), 0, 255).astype(np.uint8)
    rng = np.random.default_rng(4)
    directions = [tuple((np.array([STEP_DEG * (i - 2.5), 0, 0]) + rng.normal(0, 0.15, 3)).tolist()) for i in range(6)]
    return cut(folder, LENS, directions, picture=noisy)


def test_an_island_is_placed_where_the_steps_of_the_row_go_on(tmp_path: Path):
    """Two frames tied to each other were dropped as another picture; they are placed, as well as the head steps, and that is told."""
    paths, cameras = _row(tmp_path, bare=True)
    solution = solve(gather(paths))
    poses = solution.poses
    assert sorted(poses.frames) == [0, 1, 2, 3, 4, 5]
    assert [solution.placed_by[f] for f in range(6)] == ["features"] * 4 + ["grid"] * 2
    turned = [poses.world_from_camera[poses.index(f)] for f in range(6)]

    def off_deg(a: int, b: int) -> float:
        true, found = cameras[a].T @ cameras[b], turned[a].T @ turned[b]
        return math.degrees(math.acos(min(1.0, (np.trace(true.T @ found) - 1) / 2)))

    assert poses.sigma_rad is not None
    sigma = math.degrees(poses.sigma_rad[poses.index(4)])
    assert off_deg(3, 4) < 3 * sigma < 4
    assert off_deg(4, 5) < 0.15, "to each other they lie as they match"
    told = placing_in_words(solution.frames.names, poses, solution.placed_by)
    assert "Nothing ties p04.jpg, p05.jpg to the others" in told
    assert "known to about" in told


def test_another_picture_shot_in_the_same_steps_stays_apart(tmp_path: Path):
    """Where the two would meet both are full of detail: they would have matched."""
    (tmp_path / "a").mkdir()
    (tmp_path / "b").mkdir()
    paths, _cameras = _row(tmp_path / "a", bare=False)
    others = (skimage.data.immunohistochemistry(), skimage.data.hubble_deep_field()[:512, :800])
    elsewhere = np.concatenate([cv2.resize(o, (700, 427), interpolation=cv2.INTER_AREA) for o in others], axis=1)
    foreign, _cameras = cut(tmp_path / "b", LENS, [(-13.0, 0, 0), (13.0, 0, 0)], picture=elsewhere)
    more = [p.rename(tmp_path / "a" / f"q{i}.jpg") for i, p in enumerate(foreign)]
    solution = solve(gather([*paths[:4], *more]), JoinOptions(refine=False))
    assert sorted(solution.poses.frames) == [0, 1, 2, 3]
    assert solution.groups[1] == [4, 5]
    assert solution.reasons[4] == ("Is tied to q1.jpg alone: another picture, or too little overlap with this one.")


def test_an_island_is_what_features_tie_together():
    """Two pairs that a tie by hand holds: together they had no tree of links, and the whole join failed."""
    none = np.zeros((0, 2))
    links = [Link(0, 1, none, none), Link(3, 4, none, none), Link(5, 6, none, none)]
    found = islands_of([[0, 1, 2], [3, 4, 5, 6]], links, (0, 1, 2))
    assert [[(k.a, k.b) for k in part] for part in found] == [[(3, 4)], [(5, 6)]]
