"""Plans are lean: close to the best of a brute-force search, never above the naive row rule, never holed."""

from __future__ import annotations

import itertools
import math

import numpy as np
import pytest

from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.sphere import even_samples
from idle_lantern.core.plan.brief import Support
from idle_lantern.core.plan.grid import plan_grid
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField


def _even_rays(rig: Rig, side: int) -> np.ndarray:
    """Directions of even places of a frame, by the lens only."""
    lens = rig.lens()
    u = (np.arange(side) + 0.5) / side * lens.width - 0.5
    v = (np.arange(side) + 0.5) / side * lens.height - 0.5
    pixels = np.stack(np.meshgrid(u, v), -1).reshape(-1, 2)
    rays = lens.unproject(pixels)
    inside = np.hypot(*(pixels - lens.principal_px).T) <= lens.circle_px
    return rays[np.isfinite(rays[:, 0]) & inside]


def brute_force(rig: Rig, target_field: TargetField, lattice_deg: float, most_rows: int) -> int:
    """Fewest frames over all sets of rows on a lattice of pitches, for full circles.

    Its own code throughout: counts by trying, coverage by sampling, overlap by rays.
    """
    lens, rays = rig.lens(), _even_rays(rig, 21)
    samples = even_samples(
        (-math.pi, math.pi), (math.radians(target_field.low_deg), math.radians(target_field.high_deg)), 900
    )
    rows = []
    for pitch in np.arange(-90, 90.1, lattice_deg):
        tilt = rotations.about_x(math.radians(pitch))
        count = 1
        if abs(pitch) < 90:
            for count in range(3, 80):
                turned = tilt.T @ rotations.about_y(-2 * math.pi / count) @ tilt
                if lens.sees(rays @ turned.T).mean() >= target_field.overlap:
                    break
        cameras = [rotations.about_y(2 * math.pi * k / count) @ tilt for k in range(count)]
        rows.append((count, cameras, np.any([lens.sees(samples @ c, 0.5) for c in cameras], 0)))

    def shared(a: int, b: int) -> float:
        few, more = sorted((rows[a], rows[b]), key=lambda r: r[0])
        world = rays @ few[1][0].T
        return float(np.any([lens.sees(world @ c) for c in more[1]], 0).mean())

    overlaps = {pair: shared(*pair) for pair in itertools.combinations(range(len(rows)), 2)}
    best = 10**6
    for many in range(1, most_rows + 1):
        for chosen in itertools.combinations(range(len(rows)), many):
            if sum(rows[i][0] for i in chosen) >= best:
                continue
            if any(overlaps[p] < target_field.between_rows for p in zip(chosen, chosen[1:])):
                continue
            if np.any([rows[i][2] for i in chosen], 0).all():
                best = sum(rows[i][0] for i in chosen)
    return best


@pytest.mark.parametrize(
    ("rig", "target_field", "lattice_deg", "most_rows"),
    [
        (Rig(focal_mm=20), TargetField(-180, 180, -90, 90, 1 / 3), 6.0, 5),
        (Rig(focal_mm=10), TargetField(-180, 180, -90, 90, 1 / 3), 5.0, 4),
        (Rig(23.6, 15.7, 6000, 4000, 8.0, "equisolid", True), TargetField(-180, 180, -90, 90, 0.25), 5.0, 4),
        (Rig(focal_mm=20, upright=False), TargetField(-180, 180, -60, 60, 0.3), 5.0, 4),
        (Rig(focal_mm=14), TargetField(-180, 180, -40, 70, 0.3), 5.0, 4),
        (Rig(focal_mm=28), TargetField(-180, 180, -10, 55, 0.25), 5.0, 4),
    ],
)
def test_within_a_tenth_of_brute_force(rig: Rig, target_field: TargetField, lattice_deg: float, most_rows: int):
    best = brute_force(rig, target_field, lattice_deg, most_rows)
    assert len(plan_grid(rig, target_field)) <= math.ceil(1.1 * best)


def _naive(rig: Rig, target_field: TargetField) -> list[tuple[float, float]]:
    """The row rule done in the head: steps of field times one minus overlap, all rows alike."""
    wide, tall = (math.degrees(v) for v in rig.lens().field_rad())
    keep = 1 - target_field.overlap
    height = target_field.high_deg - target_field.low_deg
    rows = 1 + math.ceil(max(0.0, height - tall) / (tall * keep) - 1e-9)
    if target_field.full_circle:
        count = math.ceil(360 / (wide * keep) - 1e-9)
        yaws = [target_field.left_deg + 360 * (i + 0.5) / count for i in range(count)]
    else:
        count = 1 + math.ceil(max(0.0, target_field.sweep_deg - wide) / (wide * keep) - 1e-9)
        ends = (target_field.left_deg + wide / 2, target_field.right_deg - wide / 2)
        yaws = list(np.linspace(*ends, count)) if count > 1 else [sum(ends) / 2]
    low, high = target_field.low_deg + tall / 2, target_field.high_deg - tall / 2
    pitches = list(np.linspace(low, high, rows)) if rows > 1 else [(low + high) / 2]
    return [(y, p) for p in pitches for y in yaws]


def _random_case(rng: np.random.Generator) -> tuple[Rig, TargetField]:
    width = rng.uniform(6, 54)
    model = rng.choice(["rectilinear", "rectilinear", "rectilinear", "equidistant", "equisolid", "stereographic"])
    focal = width * (rng.uniform(0.5, 2.5) if model == "rectilinear" else rng.uniform(0.3, 0.9))
    ratio = rng.choice([9 / 16, 2 / 3, 3 / 4])
    rig = Rig(width, width * ratio, 1200, round(1200 * ratio), focal, str(model), bool(rng.integers(2)))
    sweep = 360.0 if rng.random() < 0.3 else rng.uniform(5, 340)
    low = rng.uniform(-90, 50)
    high = min(90.0, low + rng.uniform(5, 120))
    left = rng.uniform(-180, 180)
    return rig, TargetField(left, left + sweep, low, high, rng.uniform(0.1, 0.5), rng.choice([0.0, 0.2, 0.4]))


def _shown_share(rig: Rig, directions: list[tuple[float, float]], target_field: TargetField, count: int) -> float:
    """Share of random wanted directions in a frame; by the lens's pixels, nothing of the planner's."""
    rng = np.random.default_rng(3)
    az = np.radians(rng.uniform(target_field.left_deg, target_field.right_deg, count))
    s0, s1 = math.sin(math.radians(target_field.low_deg)), math.sin(math.radians(target_field.high_deg))
    y = -rng.uniform(s0, s1, count)
    level = np.sqrt(np.maximum(0, 1 - y * y))
    world = np.stack([level * np.sin(az), y, level * np.cos(az)], -1)
    lens, shown = rig.lens(), np.zeros(count, bool)
    for yaw, pitch in directions:
        rest = ~shown
        camera = rotations.from_yaw_pitch_roll(math.radians(yaw), math.radians(pitch))
        pixels, valid = lens.project(world[rest] @ camera)
        u, v = pixels.T
        inside = valid & (u > -0.5) & (u < lens.width - 0.5) & (v > -0.5) & (v < lens.height - 0.5)
        inside &= np.hypot(u - lens.principal_px[0], v - lens.principal_px[1]) <= lens.circle_px
        shown[rest] = inside
    return float(shown.mean())


def test_random_plans_have_no_hole_and_are_never_above_the_naive_rule():
    """Rectilinear and fisheye lenses, any field; the naive rule counts only where it leaves no hole itself."""
    rng = np.random.default_rng(20261123)
    compared = 0
    for _ in range(30):
        rig, target_field = _random_case(rng)
        frames = plan_grid(rig, target_field)
        if len(frames) > 300:
            continue
        directions = [(f.yaw_deg, f.pitch_deg) for f in frames]
        assert _shown_share(rig, directions, target_field, 500) == 1.0, (rig, target_field)
        naive = _naive(rig, target_field)
        if len(naive) < len(frames) and rig.lens_model == "rectilinear" and target_field.overlap_rows == 0:
            # only a rule that covers and keeps the overlap where rows lean is a fair measure
            compared += 1
            assert _shown_share(rig, naive, target_field, 4000) < 1.0 or _thinnest(rig, naive) < target_field.overlap, (
                rig,
                target_field,
            )
    assert compared >= 1


def _thinnest(rig: Rig, directions: list[tuple[float, float]]) -> float:
    """Smallest overlap between neighbours of the naive rows, along rows and between them."""
    lens, rays = rig.lens(), _even_rays(rig, 41)
    by_pitch: dict[float, list[float]] = {}
    for yaw, pitch in directions:
        by_pitch.setdefault(pitch, []).append(yaw)
    least = 1.0

    def camera(yaw: float, pitch: float) -> np.ndarray:
        return rotations.from_yaw_pitch_roll(math.radians(yaw), math.radians(pitch))

    pitches = sorted(by_pitch)
    for pitch in pitches:
        yaws = by_pitch[pitch]
        if len(yaws) > 1:
            turned = camera(yaws[1], pitch).T @ camera(yaws[0], pitch)
            least = min(least, float(lens.sees(rays @ turned.T).mean()))
    for low, high in zip(pitches, pitches[1:]):
        turned = camera(0, high).T @ camera(0, low)
        least = min(least, float(lens.sees(rays @ turned.T).mean()))
    return least


@pytest.mark.parametrize(("stop", "tilt_stop"), [(15.0, 15.0), (10.0, 0.0), (30.0, 10.0), (7.5, 7.5)])
def test_click_heads_get_only_their_stops(stop: float, tilt_stop: float):
    support = Support(step_deg=stop, tilt_step_deg=tilt_stop)
    for target_field in (TargetField(-180, 180, -40, 40, 0.3), TargetField(-75, 80, -20, 30, 0.3)):
        frames = plan_grid(Rig(focal_mm=16), target_field, support)
        for f in frames:
            assert f.yaw_deg / stop == pytest.approx(round(f.yaw_deg / stop), abs=1e-6)
            if tilt_stop:
                assert f.pitch_deg / tilt_stop == pytest.approx(round(f.pitch_deg / tilt_stop), abs=1e-6)
        assert _shown_share(Rig(focal_mm=16), [(f.yaw_deg, f.pitch_deg) for f in frames], target_field, 3000) == 1.0


def test_a_head_that_tilts_no_farther_plans_no_farther():
    frames = plan_grid(Rig(), TargetField(-180, 180, -90, 90, 0.3), Support(tilt_low_deg=-30, tilt_high_deg=45))
    assert all(-30.01 <= f.pitch_deg <= 45.01 for f in frames)


def test_frames_beyond_the_ends_and_turned_nadir():
    row = plan_grid(Rig(), TargetField(-60, 60, -20, 20, 1 / 3, spare_ends=2))
    roles = [f.role for f in row]
    assert roles[:2] == roles[-2:] == ["spare", "spare"]
    assert set(roles[2:-2]) == {"field"}
    sphere = plan_grid(Rig(focal_mm=10), TargetField(-180, 180, -90, 90, 0.3, nadir_frames=2))
    nadir = [f for f in sphere if f.role == "nadir"]
    assert [f.yaw_deg for f in nadir] == [0.0, 90.0]
    assert all(f.pitch_deg == -90 for f in nadir)


def test_the_reserve_grows_the_field_by_its_share():
    """A quarter of the area in reserve leaves the target field as three quarters of what is shot."""
    target_field = TargetField(-40, 40, -15, 15, 0.3, reserve=0.25)
    shot = target_field.with_reserve()
    wanted = target_field.sweep_deg * (target_field.high_deg - target_field.low_deg)
    assert wanted / (shot.sweep_deg * (shot.high_deg - shot.low_deg)) == pytest.approx(0.75)
    whole = TargetField(-180, 180, -15, 15, 0.3, reserve=0.25).with_reserve()
    assert whole.sweep_deg == 360
    assert whole.high_deg == pytest.approx(20)


def test_shift_lens_frames_cover_the_plane_within_the_circle():
    """Frame corners stay inside the image circle: hypot(w / 2 + x, h / 2) <= R, plane geometry."""
    rig = Rig(36, 24, 6000, 4000, 24, upright=False, motion="lens-shift", shift_mm=12, image_circle_mm=60)
    frames = plan_grid(rig, TargetField(-45, 45, -25, 25, 0.3))
    assert len(frames) > 3
    for f in frames:
        assert abs(f.shift_right_mm) <= 12
        assert math.hypot(18 + abs(f.shift_right_mm), 12) <= 30 + 1e-6
        assert math.hypot(18, 12 + abs(f.shift_up_mm)) <= 30 + 1e-6
    # a shift to the right shows more of the right: its middle ray stands at atan(shift / f)
    right = max(frames, key=lambda f: f.shift_right_mm)
    lens = rig.lens_of(right)
    ray = lens.unproject(np.array([(lens.width - 1) / 2, (lens.height - 1) / 2 - right.shift_up_mm * 0]))
    assert math.degrees(math.atan2(ray[0], ray[2])) == pytest.approx(
        math.degrees(math.atan(right.shift_right_mm / 24)), abs=1e-6
    )


def test_two_lenses_look_opposite_ways():
    rig = Rig(5.6, 5.6, 2900, 2900, 1.65, "equidistant", False, motion="two-lens", image_circle_mm=5.6)
    frames = plan_grid(rig, TargetField(-180, 180, -90, 90, 0.05))
    assert [f.yaw_deg for f in frames] == [0.0, 180.0]
    assert (
        _shown_share(rig, [(f.yaw_deg, f.pitch_deg) for f in frames], TargetField(-180, 180, -90, 90, 0.05), 3000)
        == 1.0
    )


def test_on_a_full_circle_a_frame_of_each_row_looks_at_what_must_stay_whole():
    frames = plan_grid(Rig(), TargetField(-180, 180, -40, 40, 0.3), whole_at_deg=37.0)
    for row in {f.row for f in frames}:
        assert min(abs(f.yaw_deg - 37.0) for f in frames if f.row == row) < 0.02
    assert len(frames) == len(plan_grid(Rig(), TargetField(-180, 180, -40, 40, 0.3)))
