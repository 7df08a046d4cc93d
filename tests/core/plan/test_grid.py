"""Plans are never holed, keep their overlap and agree with what the trade counts on."""

from __future__ import annotations

import math

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from tests.strategies import rigs, wishes

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.plan import planner
from idle_lantern.core.plan.brief import Brief
from idle_lantern.core.plan.coverage import outline, prove
from idle_lantern.core.plan.grid import plan_grid
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.judge import judge
from idle_lantern.core.plan.planner import angle_list, frames_expected, make_plan
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.size import JoinedSize, joined_size
from idle_lantern.core.plan.target_field import TargetField


def _uncovered(rig: Rig, frames: tuple[GridFrame, ...], target_field: TargetField, count: int = 1500) -> float:
    """Share of random wanted directions in no frame, by OpenCV's projection and nothing of the planner's."""
    rng = np.random.default_rng(1)
    az = np.radians(rng.uniform(target_field.left_deg, target_field.right_deg, count))
    s0, s1 = math.sin(math.radians(target_field.low_deg)), math.sin(math.radians(target_field.high_deg))
    y = -rng.uniform(s0, s1, count)
    world = np.stack([np.sqrt(1 - y * y) * np.sin(az), y, np.sqrt(1 - y * y) * np.cos(az)], -1)
    # by the sensor's own sides in millimetres: its pixels need not be square
    long_mm, short_mm = rig.sensor_width_mm, rig.sensor_height_mm
    width, height = (short_mm, long_mm) if rig.upright else (long_mm, short_mm)
    camera = np.array([[rig.focal_mm, 0, width / 2], [0, rig.focal_mm, height / 2], [0, 0, 1.0]])
    seen = np.zeros(count, bool)
    for f in frames:
        camera_from_world = f.world_from_camera.T
        vector, _ = cv2.Rodrigues(camera_from_world)
        ahead = world @ camera_from_world[2] > 1e-3
        pixels, _ = cv2.projectPoints(world, vector, np.zeros(3), camera, None)
        u, v = pixels[:, 0].T
        seen |= ahead & (u > 0) & (u < width) & (v > 0) & (v < height)
    return float(1 - seen.mean())


@settings(max_examples=60, deadline=None)
@given(rigs(), wishes())
def test_plans_have_no_hole(rig: Rig, target_field: TargetField):
    frames = plan_grid(rig, target_field)
    if len(frames) <= 600:  # beyond, the independent check would take minutes
        assert _uncovered(rig, frames, target_field) == 0


@settings(max_examples=60, deadline=None)
@given(rigs(), wishes())
def test_neighbours_in_a_row_keep_the_overlap(rig: Rig, target_field: TargetField):
    """The share of one frame that the next shows too, counted over random pixels."""
    frames = plan_grid(rig, target_field)
    rng = np.random.default_rng(2)
    lens = rig.lens()
    pixels = rng.uniform([0, 0], [lens.width - 1, lens.height - 1], (3000, 2))
    rays = lens.unproject(pixels)
    pairs = [(a, b) for a, b in zip(frames, frames[1:]) if a.row == b.row][:8]
    for a, b in pairs:
        share = lens.sees(rays @ a.world_from_camera.T @ b.world_from_camera).mean()
        # 3 000 random pixels know the share to 0.01; the planner samples 625
        assert share >= target_field.overlap - 0.05


def test_single_upright_row_of_the_trade():
    """16 mm on 36 x 24 mm sideways: 5 frames do 180 degrees with a third of overlap or more (common practice, no source)."""
    rig = Rig(36, 24, 6000, 4000, 16, upright=False)
    frames = plan_grid(rig, TargetField(-90, 90, -10, 10, 0.5))
    assert len(frames) <= 5


def test_small_sensor_fisheye_needs_few_frames_for_the_sphere():
    """8 mm fisheye on a small sensor: at least 6 round, zenith, nadir are usual (common practice, no source);
    at 25 % overlap the planner must not need more."""
    plan = make_plan(Brief(Rig(23.6, 15.7, 6000, 4000, 8.0, "equisolid", True), TargetField(-180, 180, -90, 90, 0.25)))
    assert len(plan.frames) <= 8
    assert plan.coverage.complete


def test_twelve_megapixels_print_about_a4_at_300_dpi():
    """12 MP is about A4 (common practice, no source); A4 is 210 x 297 mm (ISO 216)."""
    width, height = JoinedSize("flat", 4000, 3000).print_mm(300)
    assert width == pytest.approx(338.7, abs=0.1)
    assert min(width / 297, height / 210) > 1
    assert max(width / 297, height / 210) < 1.25


def test_tilted_rows_need_fewer_frames():
    """The circle of latitude shrinks with the cosine."""
    rows = make_plan(Brief(Rig(), TargetField(-180, 180, -60, 60, 0.3))).rows
    counts = [len(r) for r in rows]
    assert counts[0] < max(counts)
    assert counts == counts[::-1]


def test_full_circle_closes_evenly():
    frames = plan_grid(Rig(), TargetField(-180, 180, -10, 10, 0.3))
    yaws = np.sort([f.yaw_deg for f in frames])
    steps = np.diff(np.append(yaws, yaws[0] + 360))
    np.testing.assert_allclose(steps, 360 / len(frames), atol=0.02)


def test_numbers_and_rows_run_in_order_of_shooting():
    frames = plan_grid(Rig(focal_mm=35), TargetField(-60, 60, -30, 35, 0.33))
    assert [f.number for f in frames] == list(range(1, len(frames) + 1))
    assert [f.row for f in frames] == sorted(f.row for f in frames)


def test_a_small_overlap_is_judged_with_a_remedy():
    plan = make_plan(Brief(Rig(focal_mm=50), TargetField(-180, 180, -5, 5, 0.1)))
    assert any(j.key == "overlap-small" and j.remedy_id == "overlap-third" for j in judge(plan))
    assert not any(j.key == "overlap-small" for j in judge(make_plan(Brief())))


def test_rows_of_sky_are_told():
    plan = make_plan(Brief(Rig(focal_mm=35), TargetField(-60, 60, -10, 70, 0.33)))
    assert any(j.key == "sky-row" for j in judge(plan))


def test_angle_list_names_every_frame():
    plan = make_plan(Brief(Rig(), TargetField()))
    lines = angle_list(plan).splitlines()
    assert len(lines) == 1 + len(plan.frames)
    assert "−78.3°" in lines[1]


@pytest.mark.parametrize(
    ("changes", "word"),
    [
        ({"left_deg": 10, "right_deg": 5}, "Right end"),
        ({"right_deg": 900}, "Right end"),
        ({"high_deg": 95}, "Upper edge"),
        ({"low_deg": 30, "high_deg": 10}, "Upper edge"),
        ({"overlap": 0.99}, "Overlap"),
        ({"overlap": float("nan")}, "Overlap"),
    ],
)
def test_impossible_wishes_are_refused(changes: dict[str, float], word: str):
    with pytest.raises(InputError, match=word):
        TargetField(**changes)


@pytest.mark.parametrize(
    "changes", [{"focal_mm": -5}, {"width_px": 0}, {"sensor_width_mm": 1e9}, {"lens_model": "glass"}]
)
def test_impossible_rigs_are_refused(changes):
    with pytest.raises(InputError):
        Rig(**changes)


def test_joined_size_of_a_cylinder():
    """One row of 90 degrees and 40 high: pi/2 times the focal length wide, 2 f tan 20 high."""
    size = joined_size(Rig(36, 24, 6000, 4000, 24), TargetField(-45, 45, -20, 20))
    assert size.projection == "cylindrical"
    assert size.width_px == round(4000 * math.pi / 2)
    assert size.height_px == round(8000 * math.tan(math.radians(20)))


def test_crop_factor():
    """A 24 x 16 mm sensor has a factor of 1.5 to 36 x 24 mm."""
    assert Rig().crop_factor == pytest.approx(1.5)


@pytest.mark.parametrize("focal_mm", [20, 90])
@pytest.mark.parametrize(("high_deg", "overlap"), [(20, 0.5), (40, 0.15), (89, 0.33)])
def test_the_number_of_frames_is_known_at_once(focal_mm: float, high_deg: float, overlap: float):
    """Within half, and closer the more there are: what is round the field and between rows is extra."""
    brief = Brief(
        rig=Rig(focal_mm=focal_mm), target_field=TargetField(-90, 90, -high_deg, high_deg, overlap, zenith_frames=0)
    )
    planned, expected = len(make_plan(brief).frames), frames_expected(brief)
    assert expected == pytest.approx(planned, rel=0.5 if planned < 60 else 0.2, abs=14)


def test_a_wished_number_in_each_row_counts_before_planning():
    """400 in each row of a long lens were planned without a question: the count went by the overlap alone."""
    wish = TargetField(-10, 10, -40, 40, 1 / 3, row_frames=400)
    assert frames_expected(Brief(rig=Rig(focal_mm=600), target_field=wish)) > planner.MOST_FRAMES
    few = Brief(rig=Rig(), target_field=TargetField(-180, 180, -24, 24, 1 / 3, row_frames=12))
    assert frames_expected(few) == pytest.approx(len(make_plan(few).frames), abs=6)


def test_a_plan_beyond_reason_is_told_by_its_number_at_once(monkeypatch: pytest.MonkeyPatch):
    """A 3000 mm lens over the whole sphere ran past a minute: no grid is begun."""
    monkeypatch.setattr(planner, "plan_grid", None)
    with pytest.raises(InputError, match=r"Some .* frames would be needed, and at most 20.000 are planned"):
        make_plan(Brief(rig=Rig(focal_mm=3000), target_field=TargetField(-180, 180, -90, 90, 1 / 3)))


@pytest.mark.parametrize(
    "lens",
    [
        Lens("rectilinear", 300, 400, 260, cx=31, cy=-17),
        Lens("equidistant", 90, 300, 280),
        Lens("equidistant", 60, 300, 280, circle_px=120),
    ],
    ids=["flat", "fisheye", "circular"],
)
def test_an_outline_lies_just_outside_what_a_frame_shows(lens: Lens):
    rays = outline(lens, 9, 1.5)
    assert not lens.sees(rays).any()
    assert lens.sees(rays, -1.6).all()
    places, _valid = lens.project(rays)
    u0, v0 = lens.principal_px
    reach = 121.5 if math.isfinite(lens.circle_px) else math.inf
    low = np.maximum([-2.0, -2.0], [u0 - reach, v0 - reach])
    high = np.minimum([lens.width + 1.0, lens.height + 1.0], [u0 + reach, v0 + reach])
    np.testing.assert_allclose([places.min(0), places.max(0)], [low, high], atol=0.2)


def test_the_overlap_of_a_shifted_lens_is_that_of_its_neighbours():
    """On 36 x 24 mm: 8 mm across leave 28/36, 6 mm up 18/24 of a frame; across the corner it is less, and no neighbour."""
    rig = Rig(
        sensor_width_mm=36.0, sensor_height_mm=24.0, width_px=3600, height_px=2400, motion="lens-shift", upright=False
    )
    frames = [
        GridFrame(2 * r + c + 1, r, c, 0.0, 0.0, shift_right_mm=8.0 * c, shift_up_mm=6.0 * r)
        for r in range(2)
        for c in range(2)
    ]
    found = prove(rig, frames, TargetField(-10, 10, -5, 5, 0.3))
    assert found.smallest_overlap == pytest.approx(18 / 24)
    assert found.smallest_between in ((1, 3), (2, 4))
