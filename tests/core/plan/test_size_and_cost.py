"""Pixels, paper and bytes against ISO 216, the format specifications and what the trade counts on."""

from __future__ import annotations

import math

import numpy as np
import pytest

from idle_lantern.core.plan import hole_chance as chances
from idle_lantern.core.plan.brief import Brief, Exposure, Scene, Support, Target
from idle_lantern.core.plan.cost import PastJoin, cards_needed, cost
from idle_lantern.core.plan.coverage import prove
from idle_lantern.core.plan.crop import crop_loss
from idle_lantern.core.plan.grid import plan_grid
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.judge import judge
from idle_lantern.core.plan.kinds import kind_of
from idle_lantern.core.plan.planner import make_plan
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.rules_support import lean_of_base
from idle_lantern.core.plan.shallow import distance_advice, single_shot
from idle_lantern.core.plan.size import (
    JoinedSize,
    a_size_mm,
    canvas_px,
    focal_for_pixels,
    focal_for_px,
    focal_for_px_per_degree,
    joined_size,
    largest_sheet,
    needed_px,
    unfit_formats,
)
from idle_lantern.core.plan.target_field import TargetField


def test_paper_sizes_of_iso_216():
    """ISO 216:2007, table of the A series."""
    assert [a_size_mm(n) for n in range(7)] == [
        (841, 1189), (594, 841), (420, 594), (297, 420), (210, 297), (148, 210), (105, 148)
    ]  # fmt: skip


def test_twelve_megapixels_are_about_a4_just_a3():
    """12 MP is about A4 at 300 dpi, just A3 at less (common practice, no source)."""
    size = JoinedSize("flat", 4000, 3000)
    assert largest_sheet(size, 300) == "A4"
    assert largest_sheet(size, 240) == "A3"


def test_limits_of_formats():
    """JPEG: ITU-T T.81 B.2.2, 16-bit sides; TIFF 6.0: 32-bit offsets."""
    assert unfit_formats(JoinedSize("flat", 65535, 10)) == []
    assert [n for n, _ in unfit_formats(JoinedSize("flat", 65536, 10))] == ["JPEG"]
    assert [n for n, _ in unfit_formats(JoinedSize("flat", 32768, 16384))] == ["classic TIFF"]  # 8 bytes a pixel: 4 GiB
    assert unfit_formats(JoinedSize("flat", 32768, 16383)) == []


def test_four_upright_frames_of_sixteen_megapixels_are_some_700_mb():
    """At 16 bit (common practice, no source): 4 x 16 MP with overlap, with the working copies of the day."""
    size = JoinedSize("cylindrical", round(3264 * (1 + 3 * 0.7)), 4928)
    assert 300e6 < size.tiff16_bytes < 800e6


def test_columns_from_the_air():
    """8 x 3 frames of 4000 x 3000 give about 11 000 x 4 500 after the crop (common practice, no source).

    By arithmetic that is a step of a third of the frame: 4000 (1 + 7 / 3) by 3000 (1 + 2 / 3), less a quarter of the area for the crop (20 to 30 % is usual).
    """
    step = 1 / 3
    kept = math.sqrt(0.75)
    width, height = 4000 * (1 + 7 * step) * kept, 3000 * (1 + 2 * step) * kept
    assert width == pytest.approx(11000, rel=0.1)
    assert height == pytest.approx(4500, rel=0.1)
    rig = Rig(6.17, 4.63, 4000, 3000, 24.0, upright=False)  # so long a lens that turning is like sliding
    wide, tall = (math.degrees(v) for v in rig.lens().field_rad())
    # a hundredth less than the frames reach, so that rounding asks for no further row
    target_field = TargetField(0, 0.99 * wide * (1 + 7 * step), 0, 0.99 * tall * (1 + 2 * step), 2 / 3)
    rows = make_plan(Brief(rig=rig, target_field=target_field)).rows
    assert len(rows) == 3
    assert all(8 <= len(r) <= 10 for r in rows)
    size = joined_size(rig, target_field)
    assert size.width_px * kept == pytest.approx(11000, rel=0.12)
    assert size.height_px * kept == pytest.approx(4500, rel=0.12)


def test_backwards_from_a_print_megapixels_and_density():
    rig, target_field = Rig(36, 24, 6000, 4000, 24), TargetField(-40, 40, -15, 15)
    target = Target(print_mm=1500, dpi=240)
    needed = needed_px(target)
    assert needed == math.ceil(1500 / 25.4 * 240)
    for focal, check in (
        (
            focal_for_px(rig, target_field, needed),
            lambda s: max(s.width_px, s.height_px) == pytest.approx(needed, abs=2),
        ),
        (focal_for_pixels(rig, target_field, 400e6), lambda s: s.pixels == pytest.approx(400e6, rel=1e-3)),
    ):
        longer = Rig(36, 24, 6000, 4000, focal)
        assert check(joined_size(longer, target_field))
    dense = Rig(36, 24, 6000, 4000, focal_for_px_per_degree(rig, 120))
    assert dense.focal_px * math.pi / 180 == pytest.approx(120)


def test_crop_factor_equivalents():
    """56 mm f/1.2 at crop 1.5 is like 85 mm f/1.8 (common practice, no source)."""
    rig = Rig(24, 16, 6000, 4000, 56, upright=False)
    wide, tall = (math.degrees(v) for v in rig.lens().field_rad())
    single = single_shot(rig, TargetField(-wide / 2, wide / 2, -tall / 2, tall / 2), 1.2)
    assert single is not None
    assert single.focal_mm == pytest.approx(85, rel=0.02)
    assert single.aperture == pytest.approx(1.8, rel=0.02)
    assert single.sensor_width_mm == pytest.approx(24, rel=1e-6)


def test_a_grid_of_85_mm_is_framed_like_25_mm():
    """85 mm grid framing like 25 mm (common practice, no source): the field of 25 mm on the same sensor."""
    rig = Rig(24, 16, 6000, 4000, 85)
    half_w, half_h = (math.degrees(math.atan(v / 2 / 25)) for v in (24, 16))
    single = single_shot(rig, TargetField(-half_w, half_w, -half_h, half_h), 1.8)
    assert single is not None
    assert single.same_camera_mm == pytest.approx(25, rel=1e-6)
    # the pupil stays: 85 / 1.8 mm behind a view of 25 mm x 1.5
    assert single.focal_mm / single.aperture == pytest.approx(85 / 1.8)
    assert single.aperture < 0.9


@pytest.mark.parametrize(
    ("subject", "background", "keys"),
    [
        (1.2, 40, {"subject-near"}),
        (2.5, 40, set()),
        (12, 60, {"subject-far"}),
        (2.5, 5, {"background-near"}),
    ],
)
def test_distances_of_a_shallow_portrait(subject: float, background: float, keys: set[str]):
    """1.8 to 3.7 m, beyond 9 m like an ordinary panorama (common practice, no source)."""
    assert {j.key for j in distance_advice(subject, background)} == keys


def test_a_leaning_base_costs_the_height_that_geometry_says():
    """A long flat row that leans by d stands higher at one end and lower at the other: the canvas grows by what the crop loses."""
    rig, target_field = Rig(24, 16, 6000, 4000, 50), TargetField(-60, 60, -8, 8, 0.3)
    frames = plan_grid(rig, target_field)
    level = crop_loss(rig, frames, target_field, Support(base_tilt_deg=0, pointing_deg=1e-6), "cylindrical")
    leaning = crop_loss(rig, frames, target_field, Support(base_tilt_deg=3, pointing_deg=1e-6), "cylindrical")
    assert leaning.expected > level.expected
    tall = math.degrees(rig.lens().field_rad()[1])
    # the base turned about the middle of the sweep: ends move by 60 degrees x sin 3 degrees up and down
    off = 2 * math.degrees(math.sin(math.radians(3)) * math.sin(math.radians(60)))
    assert leaning.expected - level.expected == pytest.approx(1 - (tall - off) / (tall + off), abs=0.05)


def test_a_fifth_to_a_third_is_lost_by_hand():
    """20 to 30 % of the joined picture is lost at the crop, more when hand-held (common practice, no source)."""
    rig, target_field = Rig(focal_mm=35, upright=False), TargetField(-50, 50, -20, 25, 1 / 3)
    frames = plan_grid(rig, target_field)
    loss = crop_loss(rig, frames, target_field, Support("hand", base_tilt_deg=2), "cylindrical")
    assert 0.1 < loss.expected < 0.4


def test_worse_pointing_leaves_more_holes():
    rig, target_field = Rig(focal_mm=50), TargetField(-60, 60, -25, 25, 0.15)
    frames = plan_grid(rig, target_field)
    tried = [chances.hole_chance(rig, frames, target_field, Support("hand", pointing_deg=e)) for e in (0.05, 1.0, 4.0)]
    shares = [chance.share for chance in tried]
    assert shares == sorted(shares)
    assert shares[-1] > 0.5
    assert all(0 < chance.error < 0.06 for chance in tried)


@pytest.mark.parametrize(
    ("focal_mm", "overlap", "support"), [(50, 0.2, "hand"), (85, 0.15, "tripod"), (35, 0.5, "hand")]
)
def test_holes_between_frames_are_found_that_are_no_wider_than_a_sliver(focal_mm: float, overlap: float, support: str):
    """Own derivation: 120 000 even directions over the field, each tried on every frame by plain projection."""
    rig, target_field = Rig(36, 24, 6000, 4000, focal_mm), TargetField(-50, 50, -20, 20, overlap)
    frames, held = plan_grid(rig, target_field), Support(support)
    lens = rig.lens()
    inner = chances._inner(target_field, 3 * held.pointing)
    inside, edges = chances.samples_of(inner, 260), chances.outline(lens, 160)
    rng = np.random.default_rng(4)
    sines = rng.uniform(*np.sin(np.radians([inner.low_deg, inner.high_deg])), 120_000)
    yaws = np.radians(rng.uniform(inner.left_deg, inner.right_deg, 120_000))
    cosines = np.sqrt(1 - sines**2)
    looks = np.stack([cosines * np.sin(yaws), -sines, cosines * np.cos(yaws)], -1)
    wide, high = lens.width / 2 / lens.focal_px, lens.height / 2 / lens.focal_px
    agreed = dense = 0
    for _ in range(6):
        cameras = chances.cameras_of(frames) @ chances.pointing_errors(rng, held, len(frames))
        seen = np.zeros(len(looks), bool)
        for camera in cameras:
            x, y, z = (looks @ camera).T
            seen |= (z > 0) & (np.abs(x) <= wide * z) & (np.abs(y) <= high * z)
        by_area = not seen.all()
        found = chances._has_hole(lens, cameras, inside, edges, inner)
        dense += by_area
        agreed += found == by_area
        assert found or not by_area, "a hole that plain sampling sees is never missed"
    assert agreed >= 5, f"{agreed} of 6 agree; {dense} have holes"


def test_the_share_of_a_hole_is_by_area():
    """A cap round the zenith that nothing covers: (1 - sin a) of a hemisphere lies above a, whatever the rims say."""
    rig = Rig(36, 24, 6000, 4000, 20)
    frames = [GridFrame(i + 1, 1, i + 1, 20.0 * i, 0.0) for i in range(18)]
    found = prove(rig, frames, TargetField(-180, 180, 0, 90, 0.3))
    lens = rig.lens()
    yaws, sines = np.meshgrid(np.linspace(0, np.pi / 9, 400), (np.arange(2000) + 0.5) / 2000)
    # the nearest frame decides: straight up from its edge, tan(alt) cos(d) <= tan(half)
    offs = np.minimum(yaws, np.pi / 9 - yaws)
    seen = np.tan(np.arcsin(sines)) / np.cos(offs) <= lens.height / 2 / lens.focal_px
    assert found.hole_share == pytest.approx(1 - seen.mean(), abs=0.012)


def test_what_the_crop_of_a_full_circle_loses():
    """Cylindrical: a frame's edge stands at tan(half) cos(d), so a strip cut at the seams keeps cos(x) of the canvas, with x
    half a step."""
    rig = Rig(36, 24, 6000, 4000, 20, upright=False)
    for count in (6, 8, 12):
        frames = tuple(GridFrame(i + 1, 1, i + 1, 360.0 / count * i, 0.0) for i in range(count))
        loss = crop_loss(rig, frames, TargetField(-180, 180, -20, 20, 0.3), Support(), "cylindrical")
        x = math.pi / count
        assert loss.planned == pytest.approx(1 - math.cos(x), abs=0.015)  # to two of 140 rows


@pytest.mark.parametrize(
    ("lean", "sweep", "ends"), [(2, 180, 2.0), (2, 300, 1.0), (3, 340, 0.52), (1, 120, 0.866), (5, 60, 2.498)]
)
def test_a_leaning_base_moves_the_ends_by_a_wave_and_no_more_than_it_leans(lean: float, sweep: float, ends: float):
    """Own derivation: the horizon of a head turned about z by its lean, looked at along the sweep."""
    moved, wave = lean_of_base(lean, sweep)
    assert moved == pytest.approx(ends, abs=0.005)
    azimuths = np.radians(np.linspace(-sweep / 2, sweep / 2, 2001))
    most = 0.0
    for toward in np.radians(np.arange(0, 360, 3.0)):
        heights = np.degrees(np.arcsin(np.sin(np.radians(lean)) * np.sin(azimuths - toward)))
        most = max(most, float(np.ptp(heights)))
    assert wave == pytest.approx(most, rel=0.002)


def test_card_space_and_past_joins():
    rig = Rig(36, 24, 6000, 4000, raw_mb=27)
    first = cost(rig, 100_000_000, 30, 10)
    assert first.card_gb == pytest.approx(0.81)
    assert cards_needed(100, 64) == 2
    assert cards_needed(57, 64) == 1
    # a machine that took twice as long as expected twice will again
    past = [PastJoin(10, 240, 100, 2 * first.join_s, 2 * first.join_mib)] * 3
    again = cost(rig, 100_000_000, 30, 10, past)
    assert again.join_s == pytest.approx(2 * first.join_s)
    assert again.join_mib == pytest.approx(2 * first.join_mib)
    assert (again.from_joins, again.seconds_within, again.mib_within) == (3, 1.0, 1.0)


@pytest.mark.parametrize(
    ("frames", "frame_px", "made_mp", "seconds", "mib"),
    [  # joins of simulated runs, measured by the command line on two cores on 2026-12-01
        (7, (1224, 816), 4.4, 2.1, 198),
        (7, (1732, 1155), 8.5, 2.4, 210),
        (4, (3000, 2000), 15.8, 2.7, 260),
        (3, (4242, 2828), 21.2, 2.8, 307),
        (14, (2121, 1414), 19.4, 12.1, 336),
        (28, (1024, 683), 12.0, 10.4, 273),
    ],
)
def test_the_first_join_takes_what_is_told_within_the_factor_that_is_told(
    frames: int, frame_px: tuple[int, int], made_mp: float, seconds: float, mib: float
):
    told = cost(Rig(36, 24, *frame_px), round(made_mp * 1e6), frames, frames)
    assert 1 / told.seconds_within < seconds / told.join_s < told.seconds_within
    assert 1 / told.mib_within < mib / told.join_mib < told.mib_within


def test_the_canvas_that_a_join_makes_is_larger_than_the_wished_field():
    """The canvas of the 7 frames above had 4.4 megapixels, where the field alone has 3.2."""
    plan = make_plan(Brief(rig=Rig(24, 16, 1224, 816, 20)))
    assert plan.size.pixels == pytest.approx(3.2e6, rel=0.02)
    assert canvas_px(plan.rig, plan.target_field, plan.frames) == pytest.approx(4.4e6, rel=0.1)


def test_print_that_is_too_large_names_the_focal_length_that_fits():
    brief = Brief(rig=Rig(36, 24, 6000, 4000, 24), target_field=TargetField(-40, 40, -15, 15), target=Target(2000, 240))
    plan = make_plan(brief)
    judgement = next(j for j in judge(plan) if j.key == "print-small")
    assert judgement.remedy_id == "focal-print"


def test_depth_asked_by_a_large_print_is_stricter():
    plain = make_plan(kind_of("rows").start(Brief(rig=Rig(36, 24, 8000, 5300, 35))))
    large = make_plan(
        Brief(
            rig=plain.rig,
            target_field=plain.target_field,
            scene=Scene(),
            exposure=Exposure(),
            target=Target(4000, 240, 0.5),
        )
    )
    assert large.sharpness.coc_mm < plain.sharpness.coc_mm
    assert large.sharpness.coc_from == "the print"
