"""Cards of photographs cut into frames by a lens with fall-off and distortion (``benchmarks/natural_cards.py``), and grids of frames."""

from __future__ import annotations

import math
from pathlib import Path

import natural_cards
import numpy as np
import pytest

from idle_lantern.core.audit.lattice import missing
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.inspection.overlaps import balanced
from idle_lantern.core.registration.solve.grid_regularity import place_by_regularity
from idle_lantern.core.registration.solve.poses import Poses
from idle_lantern.core.sorting.card import sort


def test_frames_that_share_a_horizon_are_no_repeats_and_frames_of_one_view_are(tmp_path: Path):
    """Bare sky over a level shore looks alike along it wherever the camera points."""
    with natural_cards.frames_of(450, 300):
        camera, grid = natural_cards.camera_for(105)
        shots = [*(g[:2] for g in grid[:3]), grid[8][:2], grid[8][:2]]
        for k, (yaw, pitch) in enumerate(shots):
            camera.written(camera.seen(yaw, pitch, ""), tmp_path / f"f{k}.jpg", Metadata())
    (run,) = sort(sorted(tmp_path.glob("*.jpg"))).runs
    assert [[f.name for f in p.files] for p in run.positions] == [
        ["f0.jpg"],
        ["f1.jpg"],
        ["f2.jpg"],
        ["f3.jpg", "f4.jpg"],
    ]


def test_one_wrong_pair_shifts_no_side_and_one_odd_frame_is_named():
    pairs = np.array([(i, i + 1) for i in range(8)])
    truth = np.zeros((9, 1))
    truth[5] = -0.5
    differences = truth[pairs[:, 0]] - truth[pairs[:, 1]]
    sigmas = np.full(8, 0.03)
    np.testing.assert_allclose(balanced(9, pairs, differences, sigmas, 6.0), truth, atol=0.02)
    differences[2] += 0.4  # a veil over one of them, where they meet
    sigmas[2] = 0.3
    np.testing.assert_allclose(balanced(9, pairs, differences, sigmas, 6.0), truth, atol=0.05)


def _grid(rng: np.random.Generator) -> tuple[list[tuple[int, int, float, float]], bool, Lens]:
    """Row, column, yaw and pitch of a grid as heads shoot it, whether it goes all round, and the lens."""
    field = rng.uniform(25, 70)
    lens = Lens("rectilinear", 600 / math.tan(math.radians(field / 2)), 1200, 800)
    overlap, rows, closed = rng.uniform(0.25, 0.45), int(rng.integers(1, 4)), bool(rng.random() < 0.5)
    rise, span = math.degrees(lens.field_rad()[1]) * (1 - overlap), rng.uniform(120, 250)
    frames = []
    for row in range(rows):
        pitch = min(55.0, rise) * ((rows - 1) / 2 - row)
        step = field * (1 - overlap) / math.cos(math.radians(pitch))
        count = math.ceil(360 / step) if closed else max(3, math.ceil(span / step) + 1)
        first, step = (-180.0, 360 / count) if closed else (-span / 2, span / (count - 1))
        frames += [(row + 1, k + 1, first + step * k, pitch) for k in range(count)]
    return frames, closed, lens


def test_what_is_missing_in_a_grid_is_told_and_nothing_else():
    """In rows nearly closed seven were told, one of them true, and that with the wrong column."""
    rng = np.random.default_rng(7)
    lost = found = named = 0
    for _ in range(150):
        frames, closed, lens = _grid(rng)
        gone = frames[int(rng.integers(len(frames)))] if rng.random() < 0.6 else None
        ends = [f for f in frames if gone and f[0] == gone[0]]
        if gone and not closed and frames[-1][0] == 1 and gone in (ends[0], ends[-1]):
            gone = None  # of a single row nobody knows where it was to end
            continue
        turned = [
            rotations.from_yaw_pitch_roll(*np.radians(rng.normal((y, p, 0), 0.6)))
            for f in frames
            if f != gone
            for _r, _c, y, p in [f]
        ]
        poses = Poses(tuple(range(len(turned))), (lens,) * len(turned), np.stack(turned))
        told = missing(poses)
        lost += gone is not None
        assert len(told) == (gone is not None), (frames, gone, told)
        for one in told:
            found += abs((one.yaw_deg - gone[2] + 180) % 360 - 180) * math.cos(math.radians(gone[3])) < 6
            named += (one.row, one.column) == gone[:2]
    assert lost > 60
    assert found == lost
    assert named > 0.9 * lost


def test_a_frame_missing_among_bare_ones_is_told_though_not_where():
    """Three rows of six, the upper one sky but for its second frame; its fourth was not shot."""
    angles = [(-75.0 + 30 * c, 20.0 - 20 * r, 0.0) for r in range(3) for c in range(6)]
    bare = [0, 2, 4, 5]
    lens = Lens("rectilinear", 1200, 1200, 800)

    def placed(gone: set[int]) -> Poses:
        kept = [i for i in range(18) if i not in gone and i not in bare]
        turned = np.stack([rotations.from_yaw_pitch_roll(*np.radians(angles[i])) for i in kept])
        return Poses(tuple(kept), (lens,) * len(kept), turned)

    (told,) = missing(placed({3}), bare)
    assert (told.row, told.column) == (1, None)
    assert "it has 5, with 4 bare ones" in told.sentence
    assert missing(placed(set()), bare) == []


def test_bare_frames_beside_a_gap_are_not_put_where_others_are():
    """Two of a row, after a frame that is missing: the run before it went on over a frame that stands there."""
    yaws = {0: -98.0, 1: -70.0, 2: -42.0, 3: 14.0, 6: 98.0, 7: -98.0, 8: -70.0, 9: -42.0, 10: -14.0, 11: 14.0}
    placed = {f: rotations.from_yaw_pitch_roll(*np.radians([y, 10.0 if f < 7 else -10.0, 0])) for f, y in yaws.items()}
    found = place_by_regularity(list(range(12)), placed, [4, 5])
    angles = {f: math.degrees(float(rotations.to_yaw_pitch_roll(g.rotation)[0])) for f, g in found.items()}
    assert angles == {4: pytest.approx(42, abs=0.5), 5: pytest.approx(70, abs=0.5)}
