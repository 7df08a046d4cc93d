"""The skyline of a place, when the sun goes behind it, and plans that take into account what moved."""

from __future__ import annotations

import datetime
import math
from dataclasses import replace
from functools import cache

import numpy as np
import pytest

from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.core.geometry.sphere import direction
from idle_lantern.core.plan.brief import Brief, Mark, Run, Scene, Site
from idle_lantern.core.plan.planner import make_plan
from idle_lantern.core.plan.sun import day, sun_at
from idle_lantern.core.plan.target_field import TargetField
from idle_lantern.core.scouting.plan_transfer import MOVED, Change, frames_with, in_field, planned_for
from idle_lantern.core.scouting.remarks import facts_of, judge_scouted
from idle_lantern.core.scouting.reprojection import ReprojectedScouts
from idle_lantern.core.scouting.scout_picture import ScoutPicture, SkylineRow, height_towards, skyline_on_map
from idle_lantern.core.scouting.skyline import skyline_of
from idle_lantern.simulator.diorama import ambrel_holm
from idle_lantern.simulator.surfaces import SurfaceView, look

_WIDTH = 1440
#: As wide and high as the band of a telephone's sweep.
_BAND_DEG = (-30.0, 40.0)


def _rays() -> np.ndarray:
    """A direction for each place of the whole sphere."""
    azimuth = np.radians((np.arange(_WIDTH) + 0.5) * 360 / _WIDTH - 180)
    altitude = np.radians(90 - (np.arange(_WIDTH // 2) + 0.5) * 360 / _WIDTH)
    return direction(azimuth[None, :], altitude[:, None]).astype(np.float32)


@cache
def _looked(clouds: float) -> SurfaceView:
    """The island all round."""
    return look(ambrel_holm(walkers=0, clouds=clouds), np.zeros(3), _rays(), math.radians(360 / _WIDTH))


def _ground(
    clouds: float, gain: float = 1.0, *, glow: bool = False, gable: tuple[int, int, int] | None = None
) -> tuple[ReprojectedScouts, np.ndarray]:
    """The island all round, and the true altitude of its skyline by column of a quarter of a degree.

    With a ``glow`` the sky is that of a sunset, and the land dark before it; a ``gable`` of that colour fills the
    directions from 40 to 90 degrees from the ground to the top.
    """
    px = _WIDTH / 360
    azimuth = np.radians((np.arange(_WIDTH) + 0.5) / px - 180)
    altitude = np.radians(90 - (np.arange(_WIDTH // 2) + 0.5) / px)
    view = _looked(clouds)
    band = (np.degrees(altitude) > _BAND_DEG[0]) & (np.degrees(altitude) < _BAND_DEG[1])
    shades = np.random.default_rng(3).normal(0, 1.5, view.light.shape)
    light, land = view.light * gain, np.isfinite(view.distance_m)
    if glow:
        near = np.exp(-((azimuth[None] / 0.7) ** 2)) * np.exp(-(np.clip(altitude[:, None], 0, None) / math.radians(7)))
        sky = np.array([0.10, 0.13, 0.22]) + near[..., None] * np.array([1.1, 0.55, 0.2])
        light = np.where(land[..., None], 0.15 * light, sky)
    if gable is not None:
        wall = (np.abs(np.degrees(azimuth) - 65) < 25)[None] & (np.degrees(altitude) > -4)[:, None]
        light = np.where(wall[..., None], SRGB.to_linear(np.array(gable) / 255), light)
    pixels = np.clip(SRGB.from_linear(np.clip(light, 0, 1)) * 255 + shades, 0, 255).astype(np.uint8)
    alpha = np.where(band[:, None], 255, 0) * np.ones((1, _WIDTH), int)
    scale = _WIDTH / (2 * math.pi)
    canvas = Canvas(
        Projection("equirectangular"),
        _WIDTH,
        _WIDTH // 2,
        scale,
        (_WIDTH / 2 - 0.5, _WIDTH / 4 - 0.5),
        full_circle=True,
    )
    return ReprojectedScouts(np.dstack([pixels, alpha.astype(np.uint8)]), canvas), 90 - (land.argmax(0) + 0.5) / px


@pytest.mark.parametrize(("clouds", "gain"), [(0.0, 1.0), (1.0, 1.0), (1.0, 0.35)])
def test_the_skyline_is_where_the_simulator_has_it(clouds: float, gain: float):
    """The truth is the first place of each column whose distance is finite; trees and masts are thinner than a degree."""
    ground, truth = _ground(clouds, gain)
    rows = np.array(skyline_of(ground))
    assert len(rows) > 300, "seen nearly all round"
    off = _off(rows, truth)
    assert np.median(off) < 0.3
    assert (off < 1.0).mean() > 0.97
    assert (off <= 2 * rows[:, 2]).mean() > 0.9, "its doubt is about its error"


def _off(rows: np.ndarray, truth: np.ndarray) -> np.ndarray:
    """By how much heights miss the true ones of their degree, which holds four columns."""
    columns = truth.reshape(360, 4)[np.floor(rows[:, 0]).astype(int) + 180]
    return np.asarray(np.maximum(rows[:, 1] - columns.max(1), columns.min(1) - rows[:, 1]).clip(0))


def test_the_glow_of_a_sunset_is_sky():
    """It falls off over seven degrees above the shore: the skyline must not climb it."""
    ground, truth = _ground(0.0, glow=True)
    rows = np.array(skyline_of(ground))
    before = rows[np.abs(rows[:, 0]) < 40]
    assert len(before) > 40, "told before the glow too"
    assert (_off(rows, truth) < 2.0).mean() > 0.98


@pytest.mark.parametrize("colour", [(232, 226, 212), (170, 160, 150), (205, 214, 226)])
def test_no_skyline_runs_along_the_foot_of_a_wall_that_fills_the_picture_to_its_top(colour: tuple[int, int, int]):
    """Pale, grey and as blue as the sky: above the foot of a gable stands no sky."""
    ground, truth = _ground(1.0, gable=colour)
    rows = np.array(skyline_of(ground))
    beside = (rows[:, 0] > 42) & (rows[:, 0] < 88)
    assert not beside.any()
    assert len(rows) == 0 or (_off(rows, truth) < 2.0).mean() > 0.95


def test_a_picture_without_sky_or_without_land_tells_no_skyline():
    ground, _truth = _ground(0.0)
    wall = np.random.default_rng(1).integers(90, 110, ground.pixels.shape, dtype=np.uint8)
    wall[..., 3] = ground.pixels[..., 3]
    assert skyline_of(replace(ground, pixels=wall)) == ()
    sky_only = ground.pixels.copy()
    sky_only[_WIDTH // 4 :, :, 3] = 0
    assert skyline_of(replace(ground, pixels=sky_only)) == ()


def _scouted(rows: list[SkylineRow], turn_deg: float = 0.0) -> ScoutPicture:
    eye = ((1.0, 0.0, 0.0), (0.0, 1.0, 0.0), (0.0, 0.0, 1.0))
    return ScoutPicture(
        "p", "p", "0" * 64, "cylindrical", 100, 100, 30.0, (50.0, 50.0), eye, turn_deg=(turn_deg, 0.0, 0.0),
        sigma_deg=0.3, skyline=tuple(rows),
    )  # fmt: skip


def test_the_skyline_lies_on_the_map_as_its_picture_is_turned():
    front, back = _scouted([(0.5, 10.0, 0.4)], 30.0), _scouted([(30.5, 3.0, 0.1), (40.5, 4.0, 0.1)])
    rows = skyline_on_map([front, back])
    assert [(a, h) for a, h, _ in rows] == [(30.5, 10.0), (40.5, 4.0)], "the one in front counts"
    assert rows[0][2] == pytest.approx(0.5), "its own doubt and that of the horizon: a triangle of 3, 4 and 5"
    assert height_towards(rows, 31.2) == rows[0][1:]
    assert height_towards(rows, 35.0) is None
    assert skyline_on_map([replace(front, shown=False)]) == ()


def test_a_skyline_above_the_upper_edge_is_told_with_the_edge_that_holds_it():
    plan = make_plan(Brief(target_field=TargetField(-60, 60, -15, 12, 0.3)))
    picture = _scouted([(a + 0.5, 16.0 if a == 20 else 5.0, 0.2) for a in range(-80, 80)])
    facts = facts_of(plan, [picture])
    (told,) = [j for j in judge_scouted(plan, [picture], facts) if j.key == "skyline-cut"]
    assert "20°" in told.sentence
    assert "16" in told.sentence
    assert "18°" in told.remedy
    higher = make_plan(replace(plan.brief, target_field=TargetField(-60, 60, -15, 18, 0.3)))
    assert "skyline-cut" not in [j.key for j in judge_scouted(higher, [picture], facts_of(higher, [picture]))]


def test_the_sun_goes_behind_a_skyline_when_it_stands_as_high():
    """A typed height counts in every direction; the moment is that of the ephemeris at this height, to a minute's travel."""
    site = Site("", 57.0, -2.0, "2026-05-14", "19:00", 1.0, 270.0, skyline_deg=8.0)
    plan = make_plan(Brief(site=site))
    facts = facts_of(plan, [])
    assert facts.sun_behind is not None
    assert facts.sun_over is not None
    for at in (facts.sun_behind, facts.sun_over):
        assert sun_at(site, at).altitude_deg == pytest.approx(8.0, abs=0.2)
    assert facts.sun_over.hour < 12 < facts.sun_behind.hour
    late = make_plan(replace(plan.brief, site=replace(site, start=f"{facts.sun_behind:%H:%M}")))
    assert "sun-behind" in [j.key for j in judge_scouted(late, [], facts_of(late, []))]
    sunset = day(site).first("sunset")
    assert sunset is not None
    gone = make_plan(replace(plan.brief, site=replace(site, start=f"{sunset - datetime.timedelta(minutes=5):%H:%M}")))
    (told,) = [j for j in judge_scouted(gone, [], facts_of(gone, [])) if j.key == "sun-gone"]
    assert f"{facts.sun_behind:%H:%M}" in told.sentence
    scouted = _scouted([(a + 0.5, 8.0, 0.2) for a in range(-180, 180)])
    by_picture = make_plan(replace(plan.brief, site=replace(site, skyline_deg=None)))
    assert facts_of(by_picture, [scouted]).sun_behind == facts.sun_behind
    assert facts_of(by_picture, []).sun_behind is None, "nothing is known of a skyline that nobody scouted"


def test_what_moved_near_one_place_is_shot_first_and_often():
    plan = make_plan(Brief(target_field=TargetField(-90, 90, -15, 15, 0.3), scene=Scene(subject="still")))
    one, other, outside = Change(40.0, -5.0, 3.0, 4.0), Change(46.0, -5.0, 2.0, 4.0), Change(170.0, 0.0, 3.0, 3.0)
    assert in_field(plan, [one, outside]) == (one,)
    changed, why = planned_for(plan, [one, other, outside])
    made = make_plan(changed)
    assert changed.run.order == "subject"
    assert changed.run.repeats == 3
    assert changed.scene.subject == "walking"
    assert [m.name for m in changed.scene.marks] == [MOVED]
    assert made.frames[0].number in frames_with(made, [one]), "the frame that shows it comes first"
    assert "3 times" in why
    kept = replace(plan.brief, scene=replace(plan.brief.scene, marks=(Mark("boat", 10.0, role="subject"),)))
    again, _ = planned_for(make_plan(kept), [one])
    assert [m.name for m in again.scene.marks] == ["boat"], "a subject that was marked stays the subject"


def test_what_moved_far_apart_asks_for_neighbours_close_in_time():
    plan = make_plan(Brief(target_field=TargetField(-90, 90, -15, 15, 0.3), run=Run(repeats=5)))
    changed, _why = planned_for(plan, [Change(-70.0, 0.0, 3.0, 3.0), Change(70.0, 0.0, 3.0, 3.0)])
    assert (changed.run.order, changed.run.repeats) == ("snake", 5)
    same, why = planned_for(plan, [Change(170.0, 0.0, 3.0, 3.0)])
    assert same == plan.brief
    assert "stays as it is" in why
