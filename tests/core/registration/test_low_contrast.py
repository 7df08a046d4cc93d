"""Frames with nothing to match: whole rows by the grid, a leaning base, and what haze still tells."""

from __future__ import annotations

import math

import cv2
import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.solve.grid_regularity import place_by_regularity
from idle_lantern.core.registration.solve.low_contrast import fitted
from idle_lantern.core.registration.solve.placing import placing_in_words
from idle_lantern.core.registration.solve.poses import Poses
from idle_lantern.core.registration.solve.tie_points import smoothed

LENS = Lens("rectilinear", 900, 600, 800)
COLUMNS, STEP_DEG = 6, 26.0


def _grid(lean_deg: float, *, to_and_fro: bool, play_deg: float = 0.0) -> list[np.ndarray]:
    """Three rows of a head on a leaning base, by SciPy's rotations; yaw about y, pitch about -x (y is down)."""
    lean = Rotation.from_euler("z", lean_deg, degrees=True)
    rng = np.random.default_rng(2)
    result = []
    for r, pitch in enumerate((0.0, 27.0, 54.0)):
        columns = range(COLUMNS) if not to_and_fro or r % 2 == 0 else reversed(range(COLUMNS))
        for c in columns:
            yaw, up = np.array([-65 + STEP_DEG * c, pitch]) + rng.normal(0, play_deg, 2)
            result.append((lean * Rotation.from_euler("YX", [yaw, up], degrees=True)).as_matrix())
    return result


@pytest.mark.parametrize(("gone", "to_and_fro"), [(0, False), (1, False), (2, False), (0, True), (2, True)])
def test_a_whole_row_stands_where_the_others_put_it(gone: int, to_and_fro: bool):
    """Bottom, middle or top row missing, on a base that leans by three degrees: exact where the head is.

    Shot to and fro, the middle one is left out: both rows left run the same way, so nothing tells that it ran back.
    """
    wanted = _grid(3.0, to_and_fro=to_and_fro)
    missing = list(range(gone * COLUMNS, (gone + 1) * COLUMNS))
    placed = {f: r for f, r in enumerate(wanted) if f not in missing}
    found = place_by_regularity(list(range(len(wanted))), placed, missing)
    assert set(found) == set(missing)
    for f in missing:
        assert math.degrees(float(rotations.angle_between(found[f].rotation, wanted[f]))) < 0.01


def test_told_error_of_the_grid_is_honest():
    """A head that plays by a tenth of a degree: frames miss by about what is told, and within the third that is asked."""
    wanted = _grid(1.0, to_and_fro=False, play_deg=0.1)
    missing = [3, *range(2 * COLUMNS, 3 * COLUMNS)]
    placed = {f: r for f, r in enumerate(wanted) if f not in missing}
    found = place_by_regularity(list(range(len(wanted))), placed, missing)
    off = np.array([float(rotations.angle_between(found[f].rotation, wanted[f])) for f in missing])
    told = np.array([found[f].sigma_rad for f in missing])
    assert np.degrees(off).max() < 0.5
    assert 0.3 < float(np.sqrt((off**2).mean() / (told**2).mean())) < 2.0


def _sky(seed: int, grain: float) -> np.ndarray:
    """A cylinder of haze: large soft shapes of ``grain`` grey levels on a bright sky, (H, W) float."""
    rng = np.random.default_rng(seed)
    soft = cv2.GaussianBlur(rng.standard_normal((1500, 2600)), (0, 0), 14)
    return 150 + grain * soft / soft.std()


def _shot(sky: np.ndarray, rotation: np.ndarray, seed: int) -> np.ndarray:
    """What the lens makes of the haze: fall-off of a third at the corner, a grey level and a half of noise, 8 bit."""
    v, u = np.mgrid[: LENS.height, : LENS.width].astype(np.float64)
    d = LENS.unproject(np.stack([u, v], -1)) @ rotation.T
    x = (sky.shape[1] - 1) / 2 + LENS.focal_px * np.arctan2(d[..., 0], d[..., 2])
    y = (sky.shape[0] - 1) / 2 + LENS.focal_px * d[..., 1] / np.hypot(d[..., 0], d[..., 2])
    light = cv2.remap(sky.astype(np.float32), x.astype(np.float32), y.astype(np.float32), cv2.INTER_CUBIC)
    rho2 = ((u - 299.5) ** 2 + (v - 399.5) ** 2) / (300**2 + 400**2)
    noise = np.random.default_rng(seed).normal(0, 1.5, light.shape)
    return smoothed(np.clip(light * (1 - rho2 / 3) + noise, 0, 255).round().astype(np.uint8))


def _three(grain: float) -> tuple[Poses, Poses, list[np.ndarray]]:
    """Three frames side by side: where they stand, where the middle one is expected, and their brightness."""
    true = [rotations.from_yaw_pitch_roll(math.radians(y), 0.02, 0.01) for y in (-22, 0, 22)]
    sky = _sky(1, grain)
    greys = [_shot(sky, r, i) for i, r in enumerate(true)]
    expected = [true[0], true[1] @ rotations.from_vector(np.radians([0.2, -0.35, 0.15])), true[2]]
    sigma = np.array([1e-5, math.radians(0.25), 1e-5])
    poses = [Poses((0, 1, 2), (LENS,) * 3, np.stack(r), sigma_rad=sigma) for r in (true, expected)]
    return poses[0], poses[1], greys


def test_haze_brings_a_frame_home():
    """Soft shapes of four grey levels, 14 pixels wide: no corner, yet they place the frame seven times as well as the plan."""
    true, expected, greys = _three(grain=4.0)
    found = fitted(expected, {1: math.radians(0.25)}, greys.__getitem__)
    before, after = (
        math.degrees(float(rotations.angle_between(p.world_from_camera[1], true.world_from_camera[1])))
        for p in (expected, found)
    )
    assert before > 0.4
    assert after < 0.06
    assert found.sigma_rad is not None
    assert after / 3 < math.degrees(found.sigma_rad[1]) < 0.04
    np.testing.assert_array_equal(found.world_from_camera[[0, 2]], expected.world_from_camera[[0, 2]])


def test_a_clear_sky_moves_nothing():
    """Brightness that only runs smoothly, fall-off and noise: neither light nor lens is taken for detail."""
    _true, expected, greys = _three(grain=0.0)
    found = fitted(expected, {1: math.radians(0.25)}, greys.__getitem__)
    np.testing.assert_array_equal(found.world_from_camera, expected.world_from_camera)
    np.testing.assert_array_equal(found.sigma_rad, expected.sigma_rad)


def test_words_name_the_frames_and_how_well_they_are_known():
    poses = Poses((0, 2, 1), (LENS,) * 3, np.stack([np.eye(3)] * 3), sigma_rad=np.radians([0.001, 0.25, 0.1]))
    names = ["a.jpg", "b.jpg", "c.jpg"]
    told = placing_in_words(names, poses, {0: "features", 2: "grid", 1: "grid"})
    assert "c.jpg, b.jpg" in told
    assert "0.25°" in told
    assert "a.jpg" not in told
    assert placing_in_words(names, poses, dict.fromkeys(range(3), "features")) == ""
