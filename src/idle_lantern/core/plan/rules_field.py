"""Rules about the field: whether all of it is shown, by which school, with what sensor."""

from __future__ import annotations

from collections.abc import Iterator

from idle_lantern.core.base import units
from idle_lantern.core.base.judgement import Judgement, Severity
from idle_lantern.core.plan.coverage import cameras_of
from idle_lantern.core.plan.grid import plan_grid
from idle_lantern.core.plan.kinds import USUAL_ROUND
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.plan.required import Required
from idle_lantern.core.plan.shift_grid import limited_by_circle
from idle_lantern.core.plan.target_field import fewest_sphere

#: A crop that costs more in one run of ten asks for a reserve.
_MUCH_LOSS = 0.2


def _told_share(share: float) -> str:
    return units.share(share, 1) if share >= 0.001 else "Less than 0.1 %"


def judge_field(plan: Plan) -> Iterator[Judgement]:
    """Whether the whole field is covered, and what lies on its rim."""
    if not plan.coverage.complete:
        share = plan.coverage.hole_share
        support, rig, remedy = plan.brief.support.as_used(), plan.rig, ""
        if plan.given:
            why, todo = (
                "the frame list that was brought in leaves it out",
                "Plan the frames anew, or shoot one more there.",
            )
        elif rig.motion == "lens-shift":
            why, todo = _shift_reason(plan), "Want a smaller field, or turn the camera instead."
        elif plan.target_field.row_frames:
            why = f"{units.counted(plan.target_field.row_frames, 'frame')} in a row {'is' if plan.target_field.row_frames == 1 else 'are'} too few for this lens"
            todo = "Take as many as the overlap asks."
            remedy = "row-as-needed"
        elif support.tilt_low_deg > -90 or support.tilt_high_deg < 90:
            why = f"the head tilts only from {units.angle(support.tilt_low_deg, 0)} to {units.angle(support.tilt_high_deg, 0)}"
            todo = "Use a wider lens, hold the camera upright, or shoot that part by hand."
        elif support.step_deg or support.tilt_step_deg:
            stops = " and ".join(
                f"{units.angle(stop)} {how}"
                for stop, how in ((support.step_deg, "round"), (support.tilt_step_deg, "up and down"))
                if stop
            )
            why, todo = f"the head's stops of {stops} leave it out", "Turn by the scale instead, or set finer stops."
            remedy = "no-stops"
        else:
            why, todo = "this lens does not reach there", "Use a wider lens or a smaller field."
        yield Judgement(
            "hole", Severity.STOP, f"{_told_share(share)} of the wanted field lies in no frame: {why}.", todo, remedy
        )
    if plan.target_field.reserve == 0 and not plan.target_field.full_circle and plan.crop.high > _MUCH_LOSS:
        yield Judgement(
            "no-reserve",
            Severity.NOTE,
            f"The crop will cost {plan.crop.told} of the picture (nine of ten tried runs lose less; edges bow, the base leans "
            f"{units.angle(plan.brief.support.as_used().base_tilt_deg)}, pointing errs by {units.angle(plan.brief.support.pointing)}), "
            "and no reserve is planned.",
            "Keep a quarter in reserve: 20 to 30 % is usual.",
            "reserve-quarter",
        )
    if plan.rig.motion == "turn" and not plan.given:
        yield from _capped_reserve(plan)
    if (
        not plan.target_field.full_circle
        and plan.target_field.spare_ends == 0
        and plan.brief.support.kind in ("hand", "air")
    ):
        yield Judgement(
            "no-spare-ends",
            Severity.NOTE,
            "Without a head the ends are easily missed, and no frame is planned beyond them.",
            "Shoot one frame beyond each end.",
            "spare-ends",
        )


def _capped_reserve(plan: Plan) -> Iterator[Judgement]:
    required = Required.of(plan.rig.lens(), plan.target_field)
    if required.capped:
        wide, tall = required.beyond_deg
        yield Judgement(
            "reserve-capped",
            Severity.NOTE,
            f"A reserve of {units.share(plan.target_field.reserve)} would take frames that show nothing of the wished field: it ends "
            f"{units.angle(wide)} beyond the sides and {units.angle(tall)} above and below, where a frame still overlaps the field.",
            "Widen the field itself, if more than that is to be kept.",
        )


def _shift_reason(plan: Plan) -> str:
    """What keeps a shift lens from the missing places: its range, or its image circle."""
    rig = plan.rig
    if not rig.shift_mm:
        return "the lens does not shift"
    ways = plan.coverage.uncovered @ cameras_of(plan.frames[:1])[0]
    ahead = ways[ways[:, 2] > 1e-6]
    on_plane = rig.focal_mm * ahead[:, :2] / ahead[:, 2:]
    if len(on_plane) and all(limited_by_circle(rig, x, y) for x, y in on_plane):
        return f"there the frame's corner would leave the image circle of {rig.image_circle_mm:g} mm"
    return f"the lens shifts only {rig.shift_mm:g} mm"


def judge_sides(plan: Plan) -> Iterator[Judgement]:
    """Whether sensor and pixels tell of square pixels."""
    rig = plan.rig
    if abs(rig.pixel_aspect - 1) > 0.02:
        yield Judgement(
            "pixels-not-square",
            Severity.NOTE,
            f"{rig.sensor_width_mm:g} × {rig.sensor_height_mm:g} mm with {rig.width_px} × {rig.height_px} px makes pixels "
            f"{units.share(abs(rig.pixel_aspect - 1), 1)} {'higher' if rig.pixel_aspect > 1 else 'lower'} than wide, "
            "which few cameras have.",
            "Look both up in the camera's data sheet; the field is reckoned from the millimetres.",
        )


def judge_sphere(plan: Plan) -> Iterator[Judgement]:
    """The two schools of a full sphere with a fisheye: the usual one, and the leanest."""
    field, rig = plan.target_field, plan.rig
    if rig.lens_model == "rectilinear" or rig.motion != "turn" or not field.full_circle or plan.given:
        return
    if field.low_deg > -89 or field.high_deg < 89:
        return
    rings = [row for row in plan.rows if row[0].role == "field"]
    most_round = max((len(row) for row in rings), default=0)
    nadirs = sum(f.role == "nadir" for f in plan.frames)
    zeniths = sum(f.role == "zenith" for f in plan.frames)
    if most_round < USUAL_ROUND or nadirs < 2 or not zeniths:
        lacks = [f"{most_round} round"] if most_round < USUAL_ROUND else []
        lacks += [] if zeniths else ["none straight up"]
        lacks += [] if nadirs > 1 else [f"{nadirs or 'none'} straight down"]
        costs = (
            ["seams may run over people or things, with less overlap to choose from"]
            if most_round < USUAL_ROUND
            else []
        )
        costs += [] if zeniths else ["straight up the frames of the ring meet in a point"]
        costs += [] if nadirs > 1 else ["without two nadir frames nothing takes the tripod out"]
        yield Judgement(
            "sphere-lean",
            Severity.NOTE,
            f"This sphere is shot lean ({', '.join(lacks)}): {'; '.join(costs)}.",
            f"Usual are {USUAL_ROUND} or more round, one at the zenith, and two at the nadir turned by 90°.",
            "sphere-usual",
        )
    elif not field.fewest:
        lean = len(plan_grid(rig, fewest_sphere(field), plan.brief.support.as_used()))
        if lean < len(plan.frames):
            yield Judgement(
                "sphere-usual",
                Severity.NOTE,
                f"Another school shoots this sphere with {units.counted(lean, 'frame')} instead of {len(plan.frames)}: quicker where "
                "people move, but with seams over more of the picture and nothing to take the tripod out with.",
                "Take the fewest only where time is short.",
                "sphere-fewest",
            )
