"""Rules about the overlap and the rows."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import replace

from idle_lantern.core.base import units
from idle_lantern.core.base.judgement import Judgement, Severity
from idle_lantern.core.plan.grid import plan_grid
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.rows import frame_rays

#: Of a frame with sky at least so much should be land (common practice, no source).
_LAND_SHARE = 1 / 3
#: A plan may miss the wished overlap by so much before it is told: samples know it no better.
_SHORT = 0.03


def judge_overlap(plan: Plan) -> Iterator[Judgement]:
    """Whether neighbours share enough."""
    c = plan.coverage
    if (
        c.smallest_overlap is not None
        and c.smallest_between
        and c.smallest_overlap < 0.15
        and plan.rig.motion != "two-lens"
    ):
        a, b = c.smallest_between
        yield Judgement(
            "overlap-small",
            Severity.CARE,
            f"Frames {a} and {b} share only {units.share(c.smallest_overlap)}: "
            "with less than 15 % a little missed turning leaves too few points to match.",
            "Take a third: it costs few frames and forgives a missed step.",
            "overlap-third",
        )
    elif c.smallest_overlap is not None and c.smallest_between and plan.rig.motion == "turn" and not plan.given:
        yield from _short_of_wish(plan, c.smallest_overlap, c.smallest_between)
    advised, reason = advised_overlap(plan)
    if (
        plan.rig.motion == "turn"
        and plan.target_field.overlap < advised - 0.08
        and len(plan.frames) > 1
        and plan.target_field.overlap >= 0.15
        and not plan.target_field.row_frames  # so many are wished, whatever the overlap
    ):
        more = len(plan_grid(plan.rig, replace(plan.target_field, overlap=advised), plan.brief.support.as_used()))
        yield Judgement(
            "overlap-advice",
            Severity.NOTE,
            f"{units.share(plan.target_field.overlap)} of overlap is on the small side here: {reason}.",
            f"Take {units.share(advised)}: {units.counted(more, 'frame')} instead of {len(plan.frames)}.",
            "overlap-advised",
        )
    chance = plan.hole_chance
    if chance is not None and chance.share > 0.05:
        yield Judgement(
            "hole-chance",
            Severity.CARE,
            f"With a pointing error of {units.angle(plan.brief.support.pointing)} {units.share(chance.share)} "
            f"(± {units.share(chance.error)}) of {chance.tries} tried runs leave a hole.",
            "Take more overlap, or shoot the run three times.",
            "overlap-half",
        )


def _short_of_wish(plan: Plan, share: float, between: tuple[int, int]) -> Iterator[Judgement]:
    """Where the plan cannot keep the overlap that is wished, and by what."""
    a, b = (plan.frame(number) for number in between)
    if a is None or b is None:
        return
    field, support = plan.target_field, plan.brief.support.as_used()
    wish = field.overlap if a.row == b.row else field.between_rows
    if share >= wish - _SHORT:
        return
    remedy = ""
    if field.row_frames and a.row == b.row:
        why, todo = (
            f"{units.counted(field.row_frames, 'frame')} in a row give no more",
            "Take as many as the overlap asks.",
        )
        remedy = "row-as-needed"
    elif support.step_deg or support.tilt_step_deg:
        why, todo, remedy = "the head's stops allow no more", "Set finer stops, or turn by the scale.", "no-stops"
    elif {a.role, b.role} & {"zenith", "nadir"}:
        why, todo = "the row next to the pole stands so far from it", "Wish a little more overlap between rows."
    elif a.row != b.row:
        why = "towards the ends of a row the next row stands turned against it"
        todo = "Wish a little more overlap between rows."
    else:
        why, todo = "the frames' corners turn against each other here", "Wish a little more overlap."
    yield Judgement(
        "overlap-short",
        Severity.NOTE,
        f"Frames {a.number} and {b.number} share {units.share(share)}, less than the {units.share(wish)} wished: {why}.",
        todo,
        remedy,
    )


def advised_overlap(plan: Plan) -> tuple[float, str]:
    """Recommended overlap along a row and its reason (common practice, no source)."""
    wide_deg = math.degrees(plan.rig.lens().field_rad()[0])
    if plan.brief.exposure.aperture_school == "open" and plan.rig.corner_loss_stops >= 1:
        return (
            0.5,
            f"wide open the corners lose {plan.rig.corner_loss_stops:g} stops, so only the bright middle should count",
        )
    if plan.brief.support.kind in ("hand", "air"):
        return 0.4, "pointed by hand, frames miss their place by some degrees"
    if plan.pupil.tolerance_mm < 10 and plan.brief.scene.near_m < 3 and plan.rig.rail_mm == 0:
        return (
            0.4,
            f"things {plan.brief.scene.near_m:g} m away shift between frames, and more overlap leaves room for the seam",
        )
    if wide_deg < 20:
        return 0.25, "a long lens on a firm head needs no more"
    return 1 / 3, "a third forgives a missed step"


def judge_rows(plan: Plan) -> Iterator[Judgement]:
    """What single rows show: land to match by, things cut."""
    field_w, field_h = (math.degrees(v) for v in plan.rig.lens().field_rad())
    rows = [r for r in plan.rows if r[0].role in ("field", "spare")]
    if (
        plan.target_field.high_deg - plan.target_field.low_deg > field_h * 0.9
        and not plan.rig.upright
        and len(rows) > 1
        and plan.rig.motion == "turn"
    ):
        yield Judgement(
            "turn-upright",
            Severity.NOTE,
            f"Held sideways a frame is {units.angle(field_h)} high, so the picture takes {len(rows)} rows.",
            f"Hold the camera upright: {units.angle(field_w)} of height in one frame.",
            "upright",
        )
    sky = [f for f in plan.frames if f.pitch_deg - field_h / 2 > 1.0 and f.role == "field"]
    shallow = plan.brief.exposure.aperture_school == "open"  # a subject with things behind it, not a sky
    outdoors = plan.brief.scene.sky != "indoors" and plan.rig.motion == "turn" and not shallow
    if sky and outdoors:
        share = {"clear": "a clear sky has nothing to match", "overcast": "an even sky has nothing to match"}.get(
            plan.brief.scene.sky, "clouds are a weak help and move"
        )
        yield Judgement(
            "sky-row",
            Severity.CARE,
            f"{units.counted(len(sky), 'frame')} from frame {sky[0].number} on {'hold' if len(sky) > 1 else 'holds'} no land: {share}.",
            "Keep the horizon in the frame with more overlap between the rows; else they are placed by the head's angles.",
            "rows-half",
        )
    if outdoors:
        in_sky = {f.number for f in sky}
        little = [f for f in plan.frames if f.role == "field" and f.number not in in_sky and f.pitch_deg > 0]
        by_pitch = {f.pitch_deg: f for f in little}  # how much land a frame shows hangs on nothing else
        shares_at = {pitch: land_share(plan.rig, f) for pitch, f in by_pitch.items()}
        shares = {f.number: shares_at[f.pitch_deg] for f in little}
        least = min(shares, key=lambda n: shares[n], default=0)
        few = sum(share < _LAND_SHARE for share in shares.values())
        if few:
            yield Judgement(
                "little-land",
                Severity.NOTE,
                f"{units.counted(few, 'frame')} {'hold' if few > 1 else 'holds'} less than a third of land, frame {least} only "
                f"{units.share(shares[least])} below the horizon: there is little to match.",
                "Tilt them lower by more overlap between the rows, or take a taller frame.",
                "rows-half",
            )


def land_share(rig: Rig, frame: GridFrame) -> float:
    """Share of a frame that lies below the horizon."""
    down = (frame_rays(rig.lens(), 25) @ frame.world_from_camera.T)[:, 1]
    return float((down > 0).mean())
