"""What a scouting picture tells against a plan: frames with nothing to match, readings that are others."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from idle_lantern.core.base import units
from idle_lantern.core.base.judgement import Judgement, Severity
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.scouting.kept import BARE, ScoutPicture, on_map, share_about

#: A frame that is lowered is well tied when such a share of it has something to match (common practice, no source: a third land).
_TIED = 1 / 3
_MOST_LOWERED_DEG = 45
#: Readings that differ by less are the same (a third of a stop is what meters tell).
_SAME_EV = 0.5


@dataclass(frozen=True)
class FrameDetail:
    """A planned frame and the share of it with something to match; NaN where no scouting picture shows it."""

    frame: GridFrame
    share: float


def details_of(plan: Plan, pictures: Sequence[ScoutPicture]) -> tuple[FrameDetail, ...]:
    """Detail of each planned frame as scouted."""
    wide, tall = (math.degrees(v) for v in plan.rig.lens().field_rad())
    return tuple(FrameDetail(f, share_about(pictures, f.yaw_deg, f.pitch_deg, wide, tall)) for f in plan.frames)


def bare_frames(plan: Plan, pictures: Sequence[ScoutPicture]) -> tuple[FrameDetail, ...]:
    """Frames that could not be matched by what they show, without those that were marked as allowed to be bare."""
    allowed = [m for m in plan.brief.scene.marks if m.role == "bare"]
    wide, tall = (math.degrees(v) for v in plan.rig.lens().field_rad())

    def wanted(frame: GridFrame) -> bool:
        return any(
            abs((m.yaw_deg - frame.yaw_deg + 180) % 360 - 180) <= wide / 2
            and abs(m.pitch_deg - frame.pitch_deg) <= tall / 2
            for m in allowed
        )

    return tuple(d for d in details_of(plan, pictures) if d.share < BARE and not wanted(d.frame))


def lowered_deg(plan: Plan, pictures: Sequence[ScoutPicture], bare: Sequence[FrameDetail]) -> float | None:
    """By how much the upper edge must come down so that each bare frame shows something on a third of it; None where no way down does."""
    wide, tall = (math.degrees(v) for v in plan.rig.lens().field_rad())
    for down in range(1, _MOST_LOWERED_DEG + 1):
        looks = (d.frame for d in bare)
        if bare and all(share_about(pictures, f.yaw_deg, f.pitch_deg - down, wide, tall) >= _TIED for f in looks):
            return float(down)
    return None


@dataclass(frozen=True)
class ScoutedFacts:
    """What scouting tells of a plan's frames: those with nothing to match, and by how much the upper edge must come down for them."""

    bare: tuple[FrameDetail, ...] = ()
    lowered_deg: float | None = None


def facts_of(plan: Plan, pictures: Sequence[ScoutPicture]) -> ScoutedFacts:
    """The facts by the pictures that are shown; a plan of hundreds of frames takes a moment."""
    shown = [p for p in pictures if p.shown]
    bare = bare_frames(plan, shown)
    return ScoutedFacts(bare, lowered_deg(plan, shown, bare))


def judge_scouted(plan: Plan, pictures: Sequence[ScoutPicture], facts: ScoutedFacts) -> Iterator[Judgement]:
    """All that the scouting pictures that are shown tell against the plan, by their ``facts_of`` it."""
    shown = [p for p in pictures if p.shown]
    bare, down = facts.bare, facts.lowered_deg
    if bare:
        numbers = ", ".join(str(d.frame.number) for d in bare[:8]) + (" …" if len(bare) > 8 else "")
        least = min(bare, key=lambda d: d.share)
        remedy = "Mark the place as allowed to be bare, and trust the head's angles."
        if down is not None and plan.target_field.high_deg - down > plan.target_field.low_deg + 1:
            high = plan.target_field.high_deg - down
            remedy = f"Bring the upper edge down by {units.angle(down, 0)}, to {units.angle(high, 0)}: each frame then has something on a third of it. {remedy}"
        yield Judgement(
            "bare-frames",
            Severity.CARE,
            f"{'Frame' if len(bare) == 1 else 'Frames'} {numbers} will show hardly anything to match: in the scouting picture "
            f"only {units.share(least.share)} of frame {least.frame.number} holds detail.",
            remedy,
        )
    yield from _judge_light(plan, shown)


def readings_for(plan: Plan, pictures: Sequence[ScoutPicture]) -> tuple[tuple[float, float, str], ...]:
    """Readings towards the wanted field, by azimuth near it: azimuth, EV at ISO 100, "ok", "at least" or "at most"."""
    field = plan.target_field
    middle = (field.left_deg + field.right_deg) / 2
    near = [(middle + (a - middle + 180) % 360 - 180, ev, bound) for a, ev, bound in on_map(pictures)]
    return tuple(sorted(r for r in near if field.left_deg - 5 <= r[0] <= field.right_deg + 5))


def _judge_light(plan: Plan, pictures: Sequence[ScoutPicture]) -> Iterator[Judgement]:
    found = readings_for(plan, pictures)
    if not found:
        return
    low, high = min(ev for _, ev, _ in found), max(ev for _, ev, _ in found)
    told = [ev for _, ev in plan.brief.exposure.readings]
    if abs(min(told) - low) > _SAME_EV or abs(max(told) - high) > _SAME_EV:
        clipped = any(bound == "at least" for _, _, bound in found)
        yield Judgement(
            "readings-scouted",
            Severity.NOTE,
            f"The scouting picture reads {units.ev_range(low, high)}{' and more' if clipped else ''} here; the plan is metered "
            f"at {units.ev_range(min(told), max(told))}.",
            "Take its readings over under Scouting, if the light will be the same.",
        )
