"""Plans with stops, frames at the poles, a wished number in each row, shift lenses: by rays of the test's own."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence

import numpy as np
import pytest

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.geometry import rotations
from idle_lantern.core.plan.brief import Brief, Support
from idle_lantern.core.plan.crop import crop_loss
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.judge import judge
from idle_lantern.core.plan.kinds import kind_of
from idle_lantern.core.plan.planner import Plan, make_plan
from idle_lantern.core.plan.remedies import REMEDIES
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField
from idle_lantern.core.plan.yaws import spread

FULL = {"sensor_width_mm": 36, "sensor_height_mm": 24, "width_px": 6000, "height_px": 4000}
SMALL = {"sensor_width_mm": 23.5, "sensor_height_mm": 15.6, "width_px": 6000, "height_px": 4000}
FISHEYE = Rig(**SMALL, focal_mm=8, lens_model="equisolid")
SPHERE = TargetField(-180, 180, -90, 90, 0.3, 0.25, zenith_frames=1, nadir_frames=2)


def _plan(rig: Rig, field: TargetField, support: Support | None = None) -> Plan:
    return make_plan(Brief(rig=rig, target_field=field, support=support or Support()))


def _rays(rig: Rig, side: int = 40) -> np.ndarray:
    """Even places of a rectilinear frame by its millimetres: x / f right, y / f down."""
    wide, tall = (
        (rig.sensor_height_mm, rig.sensor_width_mm) if rig.upright else (rig.sensor_width_mm, rig.sensor_height_mm)
    )
    at = (np.arange(side) + 0.5) / side - 0.5
    x, y = np.meshgrid(at * wide, at * tall)
    rays = np.stack([x, y, np.full_like(x, rig.focal_mm)], -1).reshape(-1, 3)
    return rays / np.linalg.norm(rays, axis=1, keepdims=True)


def _camera(frame: GridFrame) -> np.ndarray:
    return rotations.from_yaw_pitch_roll(*np.radians([frame.yaw_deg, frame.pitch_deg, frame.roll_deg]))


def _seen(rig: Rig, frames: Sequence[GridFrame], world: np.ndarray) -> np.ndarray:
    """Which directions a rectilinear frame shows, by its millimetres."""
    wide, tall = (
        (rig.sensor_height_mm, rig.sensor_width_mm) if rig.upright else (rig.sensor_width_mm, rig.sensor_height_mm)
    )
    shown = np.zeros(len(world), bool)
    for frame in frames:
        x, y, z = (world @ _camera(frame)).T
        with np.errstate(divide="ignore", invalid="ignore"):
            shown |= (z > 0) & (np.abs(x / z) <= wide / 2 / rig.focal_mm) & (np.abs(y / z) <= tall / 2 / rig.focal_mm)
    return shown


def _even(field: TargetField, count: int) -> np.ndarray:
    """Random directions over the field, equal areas alike."""
    rng = np.random.default_rng(5)
    azimuth = np.radians(rng.uniform(field.left_deg, field.right_deg, count))
    up = rng.uniform(math.sin(math.radians(field.low_deg)), math.sin(math.radians(field.high_deg)), count)
    level = np.sqrt(1 - up * up)
    return np.stack([level * np.sin(azimuth), -up, level * np.cos(azimuth)], -1)


def test_stops_that_leave_a_row_too_low_get_a_second_row():
    """14 mm upright, 45 degrees: half a step beside its middle a frame reaches atan(18 / 14 * cos 22.5) = 49.9 degrees."""
    assert math.degrees(math.atan(18 / 14 * math.cos(math.radians(22.5)))) < 50
    rig, field = Rig(**FULL, focal_mm=14), TargetField(-180, 180, -50, 50, 0.25)
    plan = _plan(rig, field, Support(step_deg=45))
    assert plan.coverage.complete
    assert _seen(rig, plan.frames, _even(field, 20_000)).all()
    assert len(plan.frames) <= 16, "two rows of eight at 10 degrees up and down would do"


def test_random_plans_on_stops_leave_no_avoidable_hole():
    """Where no finer wish is broken, a head with stops covers what a free one covers."""
    rng = np.random.default_rng(14)
    for _ in range(40):
        rig = Rig(**FULL, focal_mm=rng.uniform(12, 40), upright=bool(rng.integers(2)))
        half = rng.uniform(20, 180)
        field = TargetField(-half, half, -rng.uniform(5, 60), rng.uniform(5, 60), rng.uniform(0.15, 0.4))
        stop = float(rng.choice([5, 7.5, 10, 15]))
        plan = _plan(rig, field, Support(step_deg=stop))
        assert _seen(rig, plan.frames, _even(field, 4000)).all(), (rig, field, stop)


def test_stops_that_do_not_divide_the_circle_leave_no_wider_gap():
    """On stops of 7 degrees the last step round is shorter, never longer."""
    plan = _plan(Rig(**FULL, focal_mm=24), TargetField(-180, 180, -20, 20, 0.3), Support(step_deg=7))
    yaws = np.sort([f.yaw_deg for f in plan.frames])
    steps = np.diff(np.append(yaws, yaws[0] + 360))
    assert steps.max() == pytest.approx(np.median(steps))


@pytest.mark.parametrize(("start", "clockwise"), [(7.0, True), (7.0, False), (352.5, True)])
def test_stops_are_those_of_the_scale(start: float, clockwise: bool):
    """A head clicks where its scale reads 0, 15, 30: whatever the scale reads at yaw 0."""
    support = Support(step_deg=15, scale_start_deg=start, scale_clockwise=clockwise)
    for half in (60, 180):
        plan = _plan(Rig(), TargetField(-half, half, -20, 20, 0.3), support)
        readings = np.array([plan.scale_reading(f) for f in plan.frames])
        np.testing.assert_allclose(readings / 15, np.round(readings / 15), atol=1e-3)
        assert plan.coverage.complete


@pytest.mark.parametrize("kind", ["hand", "air"])
def test_stops_and_base_that_a_hand_does_not_have_change_nothing(kind: str):
    """They are hidden on the page once a head is no longer used, and must not go on working from there."""
    field = TargetField(-80, 80, -20, 20, 0.3)
    told = _plan(Rig(), field, Support(kind, step_deg=45, tilt_step_deg=15, base_tilt_deg=8))
    plain = _plan(Rig(), field, Support(kind, base_tilt_deg=0))
    assert told.frames == plain.frames
    assert told.crop == plain.crop
    assert {j.key for j in judge(told)} == {j.key for j in judge(plain)}


def test_a_hole_of_the_stops_is_put_down_to_the_stops():
    plan = _plan(Rig(**FULL, focal_mm=24), TargetField(-180, 180, -20, 20, 0.3), Support(step_deg=90))
    hole = next(j for j in judge(plan) if j.key == "hole")
    assert "the head's stops of 90.0° round" in hole.sentence
    assert make_plan(REMEDIES[hole.remedy_id].apply(plan)).coverage.complete


@pytest.mark.parametrize("poles", [-1, 1])
@pytest.mark.parametrize(
    ("focal_mm", "half_deg", "overlap"), [(28, 15, 0.33), (35, 30, 0.4), (20, 45, 0.3), (50, 10, 0.25)]
)
def test_frames_at_the_poles_of_a_narrow_sweep_keep_the_overlap(
    focal_mm: float, half_deg: float, overlap: float, poles: int
):
    """Only the rows on their own side show them: counted by rays over the frame at the pole."""
    rig = Rig(**FULL, focal_mm=focal_mm, upright=False)
    plan = _plan(rig, TargetField(-half_deg, half_deg, -90, 90, overlap, zenith_frames=poles, nadir_frames=poles))
    ends = [f for f in plan.frames if f.role in ("zenith", "nadir")]
    assert len(ends) == 2 or poles < 0
    for end in ends:
        rows = [f for f in plan.frames if f.role == "field" and f.pitch_deg * end.pitch_deg > 0]
        nearest = max(abs(f.pitch_deg) for f in rows)
        beside = [f for f in rows if abs(f.pitch_deg) == nearest]
        assert _seen(rig, beside, _rays(rig) @ _camera(end).T).mean() >= overlap - 0.03
    assert not any(j.key == "overlap-small" for j in judge(plan))


def test_random_narrow_sweeps_to_the_poles_keep_coverage_and_overlap():
    """Any focal length, sweep, overlap and wish: dense samples by area, and the frame at each pole by its rays."""
    rng = np.random.default_rng(5)
    for _ in range(30):
        rig = Rig(**FULL, focal_mm=rng.uniform(18, 60), upright=bool(rng.integers(2)))
        half, overlap = rng.uniform(5, 60), rng.uniform(0.15, 0.45)
        low = -90.0 if rng.random() < 0.5 else rng.uniform(-40, 10)
        wish = int(rng.integers(-1, 3))
        field = TargetField(-half, half, low, 90, overlap, zenith_frames=wish, nadir_frames=wish)
        plan = _plan(rig, field)
        assert _seen(rig, plan.frames, _even(field, 6000)).all(), (rig, field)
        assert wish < 0 or sum(f.role == "zenith" for f in plan.frames) == wish
        top = next((f for f in plan.frames if f.role == "zenith"), None)
        if top is not None:
            rows = [f for f in plan.frames if f.role == "field"]
            beside = [f for f in rows if f.pitch_deg == max(f.pitch_deg for f in rows)]
            assert _seen(rig, beside, _rays(rig) @ _camera(top).T).mean() >= overlap - 0.04, (rig, field)


def _rings(plan: Plan) -> Counter[tuple[str, int]]:
    return Counter((f.role, round(f.pitch_deg)) for f in plan.frames)


def test_a_sphere_is_planned_as_wished():
    """One straight up and two straight down as told, the ring level, six in it when six are wished."""
    assert _rings(_plan(FISHEYE, SPHERE)) == {("zenith", 90): 1, ("field", 0): 4, ("nadir", -90): 2}
    six = TargetField(-180, 180, -90, 90, 0.3, zenith_frames=2, nadir_frames=1, row_frames=6)
    assert _rings(_plan(FISHEYE, six)) == {("zenith", 90): 2, ("field", 0): 6, ("nadir", -90): 1}


def test_the_usual_sphere_and_the_leanest_are_offered_beside_each_other():
    """Usual are six round or more, one zenith, two nadir (common practice, no source)."""
    usual = make_plan(kind_of("sphere").start(Brief(rig=FISHEYE)))
    assert _rings(usual) == {("zenith", 90): 1, ("field", 0): 6, ("nadir", -90): 2}
    offered = next(j for j in judge(usual) if j.key == "sphere-usual")
    lean = make_plan(REMEDIES[offered.remedy_id].apply(usual))
    assert len(lean.frames) <= 5
    assert lean.coverage.complete
    assert f"with {len(lean.frames)} frames instead of 9" in offered.sentence
    back = next(j for j in judge(lean) if j.key == "sphere-lean")
    assert "takes the tripod out" in back.sentence
    assert make_plan(REMEDIES[back.remedy_id].apply(lean)).frames == usual.frames


def test_a_fisheye_row_looks_at_the_middle_of_the_field():
    """Tilted far down a fisheye row would take a frame less; nobody shoots a landscape so."""
    plan = _plan(FISHEYE, TargetField(-180, 180, -24, 24, 1 / 3))
    assert {f.pitch_deg for f in plan.frames} == {0.0}


@pytest.mark.parametrize(("half_deg", "wished"), [(180, 7), (60, 9), (10, 3)])
def test_each_row_has_as_many_frames_as_wished(half_deg: float, wished: int):
    plan = _plan(Rig(), TargetField(-half_deg, half_deg, -30, 30, 0.3, row_frames=wished))
    assert {len(row) for row in plan.rows} == {wished}
    assert len({(f.row, f.yaw_deg) for f in plan.frames}) == len(plan.frames)


def test_too_few_frames_wished_are_told_with_the_way_back():
    plan = _plan(Rig(), TargetField(-180, 180, -20, 20, 0.3, row_frames=5))
    hole = next(j for j in judge(plan) if j.key == "hole")
    assert "5 frames in a row are too few for this lens" in hole.sentence
    assert make_plan(REMEDIES[hole.remedy_id].apply(plan)).coverage.complete


def test_less_overlap_than_wished_is_told():
    plan = _plan(Rig(), TargetField(-180, 180, -20, 20, 0.4, row_frames=10))
    told = next(j for j in judge(plan) if j.key == "overlap-short")
    share = plan.coverage.smallest_overlap
    assert share is not None
    assert f"share {100 * share:.0f}" in told.sentence
    assert "less than the 40" in told.sentence


def test_a_row_leaned_far_up_may_save_a_frame():
    """50 mm upright, 180 x 50 degrees at 33 %: 19 frames do, ten and nine."""
    assert len(_plan(Rig(**FULL, focal_mm=50), TargetField(-90, 90, -25, 25, 0.33)).frames) <= 19


SHIFT = Rig(**FULL, focal_mm=24, upright=False, motion="lens-shift", shift_mm=12, image_circle_mm=58)
WIDE_FLAT = TargetField(-50, 50, -40, 40, 1 / 3)


def test_no_corner_of_a_shifted_frame_leaves_the_image_circle():
    """A corner at (18 + |x|, 12 + |y|) mm lies within 29 mm of the middle."""
    frames = _plan(SHIFT, WIDE_FLAT).frames
    assert len({f.row for f in frames}) == 3
    for f in frames:
        assert math.hypot(18 + abs(f.shift_right_mm), 12 + abs(f.shift_up_mm)) <= 29
    assert len({(f.shift_right_mm, f.shift_up_mm) for f in frames}) == len(frames)


def test_what_a_shift_lens_cannot_reach_is_put_down_to_circle_or_range():
    def reason(rig: Rig, field: TargetField) -> str:
        return next(j.sentence for j in judge(_plan(rig, field)) if j.key == "hole")

    # the corner of 50 by 30 degrees lies at 28.6 and 21.6 mm: the range of 12 mm reaches 30 and 24, the circle does not
    assert "image circle of 58 mm" in reason(SHIFT, TargetField(-50, 50, -30, 30, 1 / 3))
    short = Rig(**FULL, focal_mm=24, upright=False, motion="lens-shift", shift_mm=4)
    assert "shifts only 4 mm" in reason(short, WIDE_FLAT)


def test_the_crop_of_shifted_frames_counts_them_all():
    """The union of rectangles on the sensor plane and its largest rectangle, counted on a raster of a twentieth mm."""
    plan = _plan(SHIFT, WIDE_FLAT)
    step = 0.05
    grid = np.arange(-32, 32, step)
    x, y = np.meshgrid(grid, grid)
    union = np.zeros(x.shape, bool)
    for f in plan.frames:
        union |= (np.abs(x - f.shift_right_mm) <= 18) & (np.abs(y - f.shift_up_mm) <= 12)
    # all frames lie symmetrically: the largest rectangle stands in the middle
    quarter = union[len(grid) // 2 :, len(grid) // 2 :]
    best = max(int(row) * int(quarter[: i + 1].all(0).sum()) for i, row in enumerate(range(1, len(quarter) + 1)))
    flat = crop_loss(SHIFT, plan.frames, WIDE_FLAT, plan.brief.support, "rectilinear")
    canvas = union.any(0).sum() * union.any(1).sum()
    assert flat.planned == pytest.approx(1 - 4 * best / canvas, abs=0.01)


def test_moving_the_lens_takes_time():
    """Twelve millimetres in six seconds, knob by knob from the middle, and settling at each place."""
    plan = _plan(SHIFT, WIDE_FLAT)
    at, path = np.zeros(2), 0.0
    for f in plan.frames:
        to = np.array([f.shift_right_mm, f.shift_up_mm])
        path += np.abs(to - at).sum()
        at = to
    assert plan.time.turning_s == pytest.approx(path / 2)
    assert plan.time.settling_s == pytest.approx(len(plan.frames) * plan.brief.run.settle_s)


def test_the_height_of_a_frame_is_that_of_the_sensor():
    """2 atan(15.6 / 2 / 8) is 88.5 degrees; 4000 square pixels of 23.5 / 6000 mm would make it 88.8."""
    lens = Rig(**SMALL, focal_mm=8, upright=False).lens()
    assert math.degrees(lens.field_rad()[1]) == pytest.approx(2 * math.degrees(math.atan(7.8 / 8)), abs=0.02)


def test_a_sensor_that_does_not_fit_its_pixels_is_refused_and_a_doubtful_one_told():
    with pytest.raises(InputError, match=r"Sensor height: 36 x 24 mm with 6000 x 3000 px"):
        Rig(36, 24, 6000, 3000)
    told = {j.key: j.sentence for j in judge(_plan(Rig(36, 24, 6000, 3700), TargetField()))}
    assert "8.1 % higher than wide" in told["pixels-not-square"]


def test_frames_of_a_row_are_spread_by_the_step_they_may_take():
    """Frames of 40 degrees, 30 from one to the next: a sweep of 130 takes (130 - 40) / 30 + 1 = 4 of them, one of 130.2 takes 5."""
    sweep, step, half = np.radians([130.0, 30.0, 20.0])
    assert np.degrees(spread(0.1, sweep, step, half)) == pytest.approx(
        math.degrees(0.1) + np.array([20.0, 50.0, 80.0, 110.0])
    )
    assert len(spread(0.0, math.radians(130.2), step, half)) == 5
    assert spread(-0.5, 1.0, step, 0.6) == [0.0], "one shows it all"
    assert len(spread(0.0, math.radians(41), step, half)) == 2
    seven = spread(0.0, sweep, step, half, 7)
    assert (len(seven), seven[0], seven[-1]) == (7, pytest.approx(half), pytest.approx(sweep - half))
