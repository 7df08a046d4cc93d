"""Fields solved from a composition, against brute force; what marks ask of a plan."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.core.geometry.sphere import direction
from idle_lantern.core.plan.brief import Brief, Mark, Scene
from idle_lantern.core.plan.composed import Composition, composed, ways_to_shoot
from idle_lantern.core.plan.judge import judge
from idle_lantern.core.plan.planner import make_plan
from idle_lantern.core.plan.remedies import REMEDIES
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.rules_marks import MARGIN_DEG, missing_deg
from idle_lantern.core.plan.target_field import TargetField

FIELD = TargetField(-60, 60, -20, 20)
MAST = Mark("mast", 20.0, 6.0, 3.0, role="subject", height_deg=14.0)


def test_a_mast_on_the_left_third_by_hand():
    """On a cylinder azimuth runs evenly: 120 degrees wide, the mast at 20 on the left third, so from -20 to 100."""
    found = composed(FIELD, Composition(3.0, across=1 / 3, horizon=2 / 3), [MAST], MAST)
    assert (found.left_deg, found.right_deg) == (pytest.approx(-20), pytest.approx(100))
    # the plane is 2 pi / 3 wide and a third of that high: two thirds of it over the horizon
    tall = math.radians(120) / 3
    assert math.tan(math.radians(found.high_deg)) == pytest.approx(tall * 2 / 3, abs=1e-3)
    assert math.tan(math.radians(found.low_deg)) == pytest.approx(-tall / 3, abs=1e-3)
    assert (found.overlap, found.reserve) == (FIELD.overlap, FIELD.reserve)


@pytest.mark.parametrize("projection", ["cylindrical", "rectilinear", "equirectangular"])
@pytest.mark.parametrize("ratio", [3.0, 1.5])
def test_the_narrowest_picture_that_holds_all_marks_is_that_of_brute_force(projection: str, ratio: float):
    marks = [MAST, Mark("boat", -14.0, -5.0, 6.0, role="whole"), Mark("gull", 80.0, 60.0, 2.0)]
    wanted = Composition(ratio, across=2 / 3, horizon=0.5, hold=True, projection=projection)
    found = composed(FIELD, wanted, marks, MAST)
    tried = [half for half in np.radians(np.arange(1.0, 69.0, 0.1)) if _holds(half, wanted, marks[:2])]
    plane = Projection(projection)
    if plane.wraps:
        assert found.sweep_deg / 2 == pytest.approx(math.degrees(min(tried)), abs=0.15)
    else:  # the plane's middle looks beside the field's: compare the widths of the planes
        turn = math.radians(MAST.yaw_deg) - math.atan((2 / 3 - 0.5) * 2 * math.tan(min(tried)))
        assert math.radians(found.left_deg) == pytest.approx(turn - min(tried), abs=0.01)
    assert not _holds(min(tried) - math.radians(0.5), wanted, marks[:2])


def _holds(half: float, wanted: Composition, marks: list[Mark]) -> bool:
    """Whether a picture of half a width holds the rims of marks; thirds and shape by plain arithmetic on the plane."""
    plane = Projection(wanted.projection)
    wide = 2 * float(plane.forward(direction(half, 0.0))[0])
    at = (2 / 3 - 0.5) * wide
    turn = math.radians(MAST.yaw_deg) - (math.atan(at) if wanted.projection == "rectilinear" else at)
    x, y = np.meshgrid(np.linspace(-1, 1, 21), np.linspace(-1, 1, 21))
    for mark in marks:
        azimuth = np.radians(mark.yaw_deg + x * (mark.width_deg / 2 + MARGIN_DEG))
        altitude = np.radians(mark.pitch_deg + y * (mark.tall_deg / 2 + MARGIN_DEG))
        u, v = np.moveaxis(plane.forward(direction(azimuth, altitude) @ rotations.about_y(-turn).T), -1, 0)
        if np.abs(u).max() > wide / 2 + 1e-9 or np.abs(v).max() > wide / wanted.ratio / 2 + 1e-9:
            return False
    return True


def test_what_cannot_be_composed_is_told_and_nothing_kept():
    for wanted, what in (
        (Composition(0.05, projection="cylindrical"), "does not fit"),
        (Composition(40.0, across=0.1, hold=True), "holds all"),
    ):
        with pytest.raises(InputError, match=what):
            composed(FIELD, wanted, [replace(MAST, yaw_deg=y, role="whole") for y in (-170, 20, 170)], MAST)
    with pytest.raises(InputError, match="shape"):
        Composition(0.0)
    with pytest.raises(InputError, match="inside"):
        Composition(1.0, across=1.5)
    # nothing asked for but the shape: middle and width stay
    kept = composed(FIELD, Composition(2.0), [], None)
    assert (kept.left_deg, kept.right_deg) == (-60, 60)


def test_the_lens_with_the_fewest_frames_of_enough_pixels_comes_first():
    brief = Brief(rig=Rig(focal_mm=35), target_field=FIELD)
    ways = ways_to_shoot(brief, [("wide", 20.0), ("normal", 35.0), ("long", 85.0)], least_px=4000)
    enough = [w for w in ways if max(w.plan.size.width_px, w.plan.size.height_px) >= 4000]
    assert ways[: len(enough)] == tuple(enough)
    assert len(ways[0].plan.frames) == min(len(w.plan.frames) for w in enough)
    assert ways[0].lens_name != "wide", "which has too few pixels"
    assert "px on the longer side" in ways[0].reason


def test_what_is_cut_is_told_with_the_degrees_and_mended_by_its_button():
    scene = Scene(marks=(Mark("mast", 62.0, 20.0, 4.0, role="whole", height_deg=10.0), Mark("lamp", -58.0, 0.0, 2.0)))
    plan = make_plan(Brief(target_field=FIELD, scene=scene))
    (told,) = [j for j in judge(plan) if j.key == "cut-mast"]
    # by hand: 62 + 2 + 1 - 60 to the right, 20 + 5 + 1 - 20 up
    assert "5.0° more to the right" in told.sentence
    assert "6.0° more up" in told.sentence
    mended = make_plan(REMEDIES["hold-marks"].apply(plan))
    assert not [j for j in judge(mended) if j.key == "cut-mast"]
    assert (mended.target_field.right_deg, mended.target_field.high_deg) == (65.0, 26.0)
    assert (mended.target_field.left_deg, mended.target_field.low_deg) == (-60.0, -20.0)
    assert missing_deg(TargetField(-180, 180, -30, 30), scene.marks[0]) == {}


def test_a_seam_on_a_mark_names_the_frame_and_the_turn():
    """Frame and turn by plain arithmetic: well inside is 45 % of the frame's width from its middle."""
    scene = Scene(marks=(Mark("house", 26.0, 0.0, 26.0),))
    plan = make_plan(Brief(target_field=FIELD, scene=scene))
    told = [j for j in judge(plan) if j.key == "seam-on-house"]
    if told:
        wide = math.degrees(plan.rig.lens().field_rad()[0])
        misses = {f.number: abs(f.yaw_deg - 26) + 13 - 0.45 * wide for f in plan.frames}
        nearest = min(misses, key=lambda n: misses[n])
        assert f"Frame {nearest} comes nearest" in told[0].sentence
        assert f"{misses[nearest]:.1f}°" in told[0].sentence
    assert told


def test_the_subject_is_the_one_that_is_marked_so():
    marks = (
        Mark("sky", 0, 40, role="bare"),
        Mark("rail", -50, -15, role="nearest"),
        Mark("boat", 30),
        Mark("tower", 5, role="subject"),
    )
    assert make_plan(Brief(scene=Scene(marks=marks))).subject.name == "tower"
    assert make_plan(Brief(scene=Scene(marks=marks[:3]))).subject.name == "boat"
    assert make_plan(Brief(scene=Scene(marks=marks[:2]))).subject.name == "middle"
