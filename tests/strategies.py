"""Shared generators of lenses, rigs, wishes and outings."""

from __future__ import annotations

import math

from hypothesis import strategies as st

from idle_lantern.core.deliver.job import CoverNadir, DeliverJob, TellInvented
from idle_lantern.core.deliver.kinds import KINDS as DELIVERIES
from idle_lantern.core.finish.drawn import Stroke
from idle_lantern.core.finish.healing import Spot
from idle_lantern.core.finish.masks import Brush, Not, Picture, Round
from idle_lantern.core.finish.recipe import Recipe
from idle_lantern.core.finish.steps.curve import Curve
from idle_lantern.core.finish.steps.exposure import ExposureStep
from idle_lantern.core.finish.steps.heal import Heal
from idle_lantern.core.finish.steps.saturation import Saturation
from idle_lantern.core.geometry.lenses import FISHEYES, Lens
from idle_lantern.core.merging.development import Development
from idle_lantern.core.merging.recipe import BRACKETS
from idle_lantern.core.outing.model import Composition, FrameRef, Outing
from idle_lantern.core.plan.brief import (
    METERING,
    ORDERS,
    SUBJECTS,
    SUPPORTS,
    Brief,
    Exposure,
    Mark,
    Run,
    Scene,
    Site,
    Stop,
    Support,
    Target,
)
from idle_lantern.core.plan.kinds import KINDS
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField
from idle_lantern.core.request.choices import JoinChoices, MaskRef, TiePoint
from idle_lantern.core.request.eased import RoundThing, StraightLine

angles_rad = st.floats(-3.1, 3.1)
pitches_rad = st.floats(-1.5, 1.5)


@st.composite
def lenses(draw: st.DrawFn) -> Lens:
    """Rectilinear and fisheye lenses with mild distortion."""
    model = draw(st.sampled_from(("rectilinear", *FISHEYES)))
    width, height = draw(st.integers(400, 6000)), draw(st.integers(400, 6000))
    share = draw(st.floats(0.5, 4.0))
    k1, k2 = draw(st.floats(-0.03, 0.06)), draw(st.floats(-0.003, 0.01))
    return Lens(model, share * max(width, height), width, height, k1, k2)


@st.composite
def rigs(draw: st.DrawFn) -> Rig:
    """Cameras from small to large, from wide to long."""
    width, across = draw(st.floats(6, 54)), draw(st.integers(800, 9000))
    ratio = draw(st.sampled_from((0.5625, 2 / 3, 0.75)))
    return Rig(
        sensor_width_mm=width,
        sensor_height_mm=width * ratio,
        width_px=across,
        height_px=round(across * ratio * draw(st.floats(0.95, 1.05))),
        focal_mm=width * draw(st.floats(0.5, 3.0)),
        lens_model="rectilinear",
        upright=draw(st.booleans()),
    )


@st.composite
def wishes(draw: st.DrawFn) -> TargetField:
    """Fields from a strip to the sphere."""
    left, sweep = draw(st.floats(-180, 180)), draw(st.one_of(st.floats(5, 350), st.just(360.0)))
    low = draw(st.floats(-90, 60))
    high = draw(st.floats(low + 5, 90)) if low < 85 else 90.0
    return TargetField(left, left + sweep, low, high, draw(st.floats(0.1, 0.55)))


@st.composite
def briefs(draw: st.DrawFn) -> Brief:
    """Whole briefs with marks, stops and infinite distances."""
    near = draw(st.floats(0.3, 50))
    marks = st.builds(Mark, name=st.text(max_size=8), yaw_deg=st.floats(-180, 180), pitch_deg=st.floats(-60, 60))
    return Brief(
        rig=draw(rigs()),
        target_field=draw(wishes()),
        support=Support(kind=draw(st.sampled_from(SUPPORTS)), scale_start_deg=draw(st.floats(0, 360))),
        scene=Scene(
            near_m=near,
            far_m=draw(st.one_of(st.just(math.inf), st.floats(near, 1000))),
            subject=draw(st.sampled_from(SUBJECTS)),
            marks=tuple(draw(st.lists(marks, max_size=3))),
        ),
        exposure=Exposure(readings=((0.0, draw(st.floats(-2, 16))),), metering=draw(st.sampled_from(METERING))),
        site=Site(latitude_deg=draw(st.floats(-80, 80)), stops=(Stop("next", 10.0, 5.0),)),
        run=Run(order=draw(st.sampled_from(ORDERS)), repeats=draw(st.integers(1, 3))),
        target=Target(print_mm=draw(st.floats(100, 5000))),
        kind=draw(st.sampled_from([k.id for k in KINDS])),
    )


@st.composite
def choices(draw: st.DrawFn) -> JoinChoices:
    """What is asked of a join of the frames a, b and c."""
    frames = st.sampled_from(("a", "b", "c"))
    some = st.lists(frames, max_size=2, unique=True).map(tuple)
    point = st.builds(TiePoint, a=st.just("a"), xy_a=st.just((1.0, 2.5)), b=st.just("b"), xy_b=st.just((3.0, 4.0)))
    return JoinChoices(
        left_out=draw(some),
        put_back=draw(some),
        off=draw(some),
        twins=draw(st.sampled_from(("raw", "jpeg"))),
        points=tuple(draw(st.lists(point, max_size=2))),
        cut_links=draw(st.sampled_from(((), (("b", "a"),)))),
        level=draw(st.sampled_from(("auto", "none", (1.0, 2.0, 3.0)))),
        brackets=draw(st.sampled_from(BRACKETS)),
        development=Development(exposure_ev=draw(st.sampled_from((0.0, 1.5)))),
        projection=draw(st.sampled_from(("auto", "panini"))),
        turn_deg=(draw(st.floats(-180, 180)), 0.0, 0.0),
        eased=draw(st.sampled_from(((), (StraightLine((-20.0, 4.0), (30.0, 5.5)), RoundThing((60.0, 12.0), 4.0))))),
        rim=draw(st.sampled_from(("none", "stretch", "fill", "fill-all"))),
        masks=draw(st.sampled_from(((), (MaskRef("c", "a" * 64),)))),
    )


@st.composite
def deliveries(draw: st.DrawFn) -> DeliverJob:
    """How a picture is written."""
    steps = st.sampled_from(((), (CoverNadir(radius_deg=9.5),), (CoverNadir("mark", 20.0, "b" * 64), TellInvented())))
    return DeliverJob(
        format=draw(st.sampled_from([k.name for k in DELIVERIES])),  # type: ignore[arg-type]
        quality=draw(st.integers(40, 100)),
        dpi=draw(st.floats(20, 2400)),
        profile=draw(st.sampled_from(("keep", "p3", "c" * 64))),
        long_side_px=draw(st.sampled_from((None, 4000))),
        operations=draw(steps),
    )


def recipes() -> st.SearchStrategy[Recipe]:
    """A few recipes, masks within masks among them: drawn figure by figure each document took seconds to be checked."""
    part = Not(of=(Picture(asset="d" * 64), Round(centre_deg=(-20.5, 4.0), radius_deg=4.0)))
    painted = Brush(strokes=(Stroke(((1.5, 2.0), (3.0, -2.5)), 2.5), Stroke(((1.5, 2.0),), 0.5, True)))
    return st.sampled_from(
        (
            Recipe(),
            Recipe((Heal(spots=(Spot((10.0, 2.5), 1.0, (0.0, 0.0)),)), ExposureStep(on=False, ev=-0.5, mask=part))),
            Recipe((Curve(points=((0.0, 0.0), (0.5, 0.625), (1.0, 1.0)), mask=painted), Saturation(factor=1.5))),
        )
    )


@st.composite
def outings(draw: st.DrawFn) -> Outing:
    """Documents with frames, choices and odd names."""
    refs = st.builds(
        FrameRef,
        file=st.text(st.characters(blacklist_categories=("Cs",), min_codepoint=32), min_size=1, max_size=20),
        number=st.one_of(st.none(), st.integers(1, 99)),
        yaw_deg=st.one_of(st.none(), st.floats(-180, 180)),
        pitch_deg=st.one_of(st.none(), st.floats(-90, 90)),
    )
    return Outing(
        name=draw(st.text(st.characters(blacklist_categories=("Cs",)), max_size=40)),
        created="2026-05-14T18:40",
        brief=draw(briefs()),
        frames=tuple(draw(st.lists(refs, max_size=5))),
        skipped=tuple(draw(st.lists(st.integers(1, 50), max_size=3))),
        choices=draw(choices()),
        composition=Composition(crop=draw(st.booleans()), ratio=draw(st.sampled_from((None, (3.0, 2.0))))),
        finish=draw(recipes()),
        delivery=draw(deliveries()),
        note=draw(st.text(st.characters(blacklist_categories=("Cs",)), max_size=60)),
    )
