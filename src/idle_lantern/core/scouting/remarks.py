"""What a scouting picture tells against a plan: frames with nothing to match, readings that are others."""

from __future__ import annotations

import datetime
import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from idle_lantern.core.base import units
from idle_lantern.core.base.judgement import Judgement, Severity
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.plan.sun import day, sun_at
from idle_lantern.core.scouting.scout_picture import (
    BARE,
    SURE_FRAME,
    ScoutPicture,
    SkylineRow,
    height_towards,
    matching_word,
    on_map,
    share_about,
    skyline_on_map,
)

_MOST_LOWERED_DEG = 45
#: The picture's upper edge passes a skyline by so much, as people leave over roofs and tops (common practice, no source).
_OVER_TOPS_DEG = 2.0
#: A skyline that is known no better than this tells no time of the sun.
_DOUBTFUL_DEG = 4.0
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


def weak_frames(plan: Plan, pictures: Sequence[ScoutPicture]) -> tuple[FrameDetail, ...]:
    """Frames of which less than a third has something to match, and yet something."""
    return tuple(d for d in details_of(plan, pictures) if matching_word(d.share, SURE_FRAME) == "weak")


def lowered_deg(plan: Plan, pictures: Sequence[ScoutPicture], bare: Sequence[FrameDetail]) -> float | None:
    """By how much the upper edge must come down so that each bare frame shows something on a third of it; None where no way down does."""
    wide, tall = (math.degrees(v) for v in plan.rig.lens().field_rad())
    for down in range(1, _MOST_LOWERED_DEG + 1):
        looks = (d.frame for d in bare)
        if bare and all(share_about(pictures, f.yaw_deg, f.pitch_deg - down, wide, tall) >= SURE_FRAME for f in looks):
            return float(down)
    return None


@dataclass(frozen=True)
class ScoutedFacts:
    """What scouting tells of a plan.

    Frames with nothing to match, those that are weakly tied, and by how much the upper edge must come down for them; the skyline by azimuth on the map;
    when the sun goes behind it, or comes over it, on the day of the plan.
    """

    bare: tuple[FrameDetail, ...] = ()
    weak: tuple[FrameDetail, ...] = ()
    lowered_deg: float | None = None
    skyline: tuple[SkylineRow, ...] = ()
    sun_behind: datetime.datetime | None = None
    sun_over: datetime.datetime | None = None

    def highest(self, plan: Plan) -> SkylineRow | None:
        """Where the skyline stands highest in the wanted field."""
        field = plan.target_field
        inside = [r for r in self.skyline if (r[0] - field.left_deg) % 360 <= field.sweep_deg]
        return max(inside, key=lambda r: r[1], default=None)


def facts_of(plan: Plan, pictures: Sequence[ScoutPicture]) -> ScoutedFacts:
    """The facts by the pictures that are shown; a plan of hundreds of frames takes a moment."""
    shown = [p for p in pictures if p.shown]
    bare, weak = bare_frames(plan, shown), weak_frames(plan, shown)
    skyline = skyline_on_map(shown)
    behind, over = sun_and_skyline(plan, skyline)
    return ScoutedFacts(bare, weak, lowered_deg(plan, shown, bare), skyline, behind, over)


def sun_and_skyline(
    plan: Plan, skyline: Sequence[SkylineRow]
) -> tuple[datetime.datetime | None, datetime.datetime | None]:
    """When the sun goes behind the skyline for the last time that day, and when it first comes over it, to the minute.

    Only where the skyline is known in the sun's direction at that moment; a height that was typed counts in all directions.
    """
    site = plan.brief.site

    def clear(at: datetime.datetime) -> bool | None:
        sun = sun_at(site, at)
        top = skyline_towards(plan, skyline, site.yaw_of(sun.bearing_deg))
        return None if top is None or top[1] > _DOUBTFUL_DEG else sun.altitude_deg > max(top[0], 0.0)

    up = [t for t, s in zip(day(site).times, day(site).sun) if s.altitude_deg > 0]
    if not up:
        return None, None

    def crossing(hidden: datetime.datetime, free: datetime.datetime) -> datetime.datetime:
        while abs(free - hidden) > datetime.timedelta(seconds=20):
            middle = hidden + (free - hidden) / 2
            hidden, free = (hidden, middle) if clear(middle) else (middle, free)
        return free.replace(second=0, microsecond=0)

    step = datetime.timedelta(minutes=10)
    behind = over = None
    for earlier, later in zip(up, [*up[1:], up[-1] + step]):
        if clear(earlier) and clear(later) is False:
            behind = crossing(later, earlier)
        if over is None and clear(earlier) is False and clear(later):
            over = crossing(earlier, later)
    return behind, over


def skyline_towards(plan: Plan, skyline: Sequence[SkylineRow], yaw_deg: float) -> tuple[float, float] | None:
    """Height of the skyline in a direction and its doubt: as typed under Light, else as scouted."""
    typed = plan.brief.site.skyline_deg
    return (typed, 0.0) if typed is not None else height_towards(skyline, yaw_deg)


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
    yield from _judge_skyline(plan, facts)


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


def _judge_skyline(plan: Plan, facts: ScoutedFacts) -> Iterator[Judgement]:
    field, top = plan.target_field, facts.highest(plan)
    if top is not None and top[1] - top[2] > field.high_deg:
        wanted = math.ceil(top[1] + _OVER_TOPS_DEG)
        yield Judgement(
            "skyline-cut",
            Severity.CARE,
            f"At yaw {units.angle(top[0], 0)} the skyline stands {units.angle(top[1])} high (± {units.angle(top[2])}), "
            f"and the picture ends at {units.angle(field.high_deg)}: it is cut there.",
            f"Let the upper edge go up to {units.angle(wanted, 0)}, if it is not to be cut.",
        )
    if plan.brief.scene.sky == "indoors":
        return
    begin, behind, over = plan.brief.site.begin, facts.sun_behind, facts.sun_over
    sunset = day(plan.brief.site).first("sunset")
    end = begin + datetime.timedelta(seconds=plan.shoot_s)
    if behind is not None and begin <= behind < end and (sunset is None or behind < sunset):
        yield Judgement(
            "sun-behind",
            Severity.CARE,
            f"At {behind:%H:%M} the sun goes behind the skyline while the run lasts to {end:%H:%M}: the frames after it lie in the shade.",
            "Start earlier, or after it is gone.",
        )
    elif behind is not None and behind < begin and sunset is not None and begin < sunset:
        yield Judgement(
            "sun-gone",
            Severity.NOTE,
            f"At {plan.brief.site.start} the sun is behind the skyline, since {behind:%H:%M}; it sets at {sunset:%H:%M}.",
            "Start earlier, if this place is to be sunlit.",
        )
    if over is not None and begin < over < end:
        yield Judgement(
            "sun-over",
            Severity.CARE,
            f"At {over:%H:%M} the sun comes over the skyline while the run lasts to {end:%H:%M}: sunlight falls in on the frames after it.",
            "Start later, or be done before it.",
        )
