"""What the Field stage shows, as plain values: no Qt, tested without a window."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

from idle_lantern.core.base import units
from idle_lantern.core.geometry import rotations
from idle_lantern.core.outing import document
from idle_lantern.core.outing.model import FrameRef, Outing
from idle_lantern.core.plan.checklist import cautions
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.rows import frame_rays
from idle_lantern.core.plan.tripod_legs import leg_lifts
from idle_lantern.core.shoot.guide import Guide, turn_to_next
from idle_lantern.core.shoot.shooting import field_deg
from idle_lantern.simulator.limits import SECONDS_A_MEGAPIXEL

if TYPE_CHECKING:
    from idle_lantern.app.watcher import ToldFrame
    from idle_lantern.core.scouting.compared import Deviation


@dataclass(frozen=True)
class FieldView:
    """All words of the stage; ``frame`` is the one to shoot next, None when there is none."""

    frame: GridFrame | None
    number: str
    turn: str
    yaw: str
    pitch: str
    row: str
    progress: str
    missing: str
    finished: bool


def field_view(plan: Plan, outing: Outing, guide: Guide) -> FieldView:
    """What is to be done next, and how far the shoot has come."""
    frame = plan.frame(guide.next_number) if guide.next_number else None
    progress = f"{guide.shot} of {len(plan.frames)} shot"
    missing = ""
    if guide.missing:
        listed = ", ".join(map(str, guide.missing[:12])) + (" …" if len(guide.missing) > 12 else "")
        missing = f"Missing: {listed}. About {units.duration(guide.remaining_s)} to go{_light_left(plan, guide)}."
    elif guide.shot:
        skipped = f", {len(outing.skipped)} skipped" if outing.skipped else ""
        then = "The frames can be looked at and joined." if outing.frames else "Bring the card in under Frames."
        missing = f"Nothing is missing{skipped}. {then}"
    finished = bool(guide.shot) and not guide.missing
    if plan.brief.run.bookends and not guide.shot and plan.frames:
        missing = f"{missing} Begin with a hand before the lens." if missing else ""
    elif plan.brief.run.bookends and finished:
        missing = f"{missing} Close the run with a hand before the lens."
    if frame is None:
        turn = "All frames are shot." if guide.shot else "The plan holds no frames."
        return FieldView(None, "✓", turn, "", "", "", progress, missing, finished)
    previous = plan.frame(frame.number - 1) if frame.number > 1 else None
    return FieldView(
        frame,
        f"{frame.number}/{len(plan.frames)}",
        turn_words(previous, frame),
        units.angle(plan.scale_reading(frame)) if plan.brief.support.kind in ("head", "tripod") else "no scale",
        units.angle(frame.pitch_deg),
        f"{frame.row} of {len(plan.rows)}",
        progress,
        missing,
        finished,
    )


#: Light that stays even for so many minutes is no matter.
_LONG_MIN = 240


def _light_left(plan: Plan, guide: Guide) -> str:
    """The time that is left against the light that is left."""
    light = plan.even_light_min
    if plan.brief.scene.sky == "indoors" or light >= _LONG_MIN:
        return ""
    told = f"; from {plan.brief.site.start} on the light stays even for {units.duration(light * 60)}"
    return told + (", which is not enough" if guide.remaining_s > light * 60 else "")


#: A frame that looks elsewhere by less than this share of its width is where it belongs (a fifth of the usual overlap).
_WELL = 0.07


def compared(frame: GridFrame, off: Deviation | None, field_deg: float) -> str:
    """What a frame that was just shot is against what was scouted of it."""
    if off is None:
        return f"Frame {frame.number} cannot be compared with the scouting picture: too little of it is the same."
    away = math.hypot(off.yaw_deg * math.cos(math.radians(frame.pitch_deg)), off.pitch_deg)
    if away < _WELL * field_deg:
        return f"Frame {frame.number} shows what was scouted, to {units.angle(away)}."
    parts = [
        f"{units.angle(abs(value))} further {way}"
        for value, way in (
            (off.yaw_deg, "right" if off.yaw_deg > 0 else "left"),
            (off.pitch_deg, "up" if off.pitch_deg > 0 else "down"),
        )
        if abs(value) >= 0.3
    ]
    return (
        f"Frame {frame.number} looks {' and '.join(parts)} than scouted: check the scale, then shoot it again with A."
    )


def stand_in(plan: Plan, most_megapixels: float) -> str:
    """What head and camera are, and why their files are smaller than planned."""
    planned = plan.rig.width_px * plan.rig.height_px / 1e6
    told = "Head and camera are simulated, on the invented island Ambrel Holm; they write real JPEG files"
    if planned <= most_megapixels:
        takes = planned * SECONDS_A_MEGAPIXEL
        slow = f" of {planned:.1f} megapixels, which takes about {units.duration(takes)} a frame" if takes > 3 else ""
        return f"{told}{slow}."
    return f"{told}, of {most_megapixels:g} instead of the planned {planned:.1f} megapixels, so that a shot takes about a second."


#: How a shoot with a camera of one's own is logged.
LOG = (
    "Your own camera takes the frames; press Space after each, and it is logged. Watch the folder it writes into, or bring "
    "the card in afterwards: where as many pictures come as were logged, they are taken for those frames, in order."
)


def last_logged(plan: Plan, outing: Outing) -> GridFrame | None:
    """The planned frame that was logged last."""
    return plan.frame(outing.logged[-1].number) if outing.logged else None


def caution(plan: Plan) -> str:
    """The two first things that can hurt here, and who decides; the check list has all of them."""
    *first, last = cautions(plan)
    return " ".join([*first[:2], last])


def height_deg(plan: Plan) -> float:
    """Height of the finder's field."""
    return math.degrees(plan.rig.lens().field_rad()[1])


def last_shot(outing: Outing) -> int | None:
    """Number of the planned frame that was shot last."""
    return next((r.number for r in reversed(outing.frames) if r.number), None)


def turn_words(previous: GridFrame | None, frame: GridFrame, there: str = "Stay as you are", keys: str = "") -> str:
    """How to turn from the frame before, in words; ``there`` where no turn is left, ``keys`` that turn the camera."""
    if previous is None:
        return f"Start at {units.angle(frame.yaw_deg)}, pitch {units.angle(frame.pitch_deg)}"
    right, up = turn_to_next(previous, frame)
    parts = []
    if abs(right) >= 0.05:
        parts.append(f"Turn {'right' if right > 0 else 'left'} {units.angle(abs(right))}")
    if abs(up) >= 0.05:
        parts.append(f"tilt {'up' if up > 0 else 'down'} {units.angle(abs(up))}")
    return f"{', '.join(parts)}{keys}" if parts else there


def shared(plan: Plan, one: tuple[float, float], other: tuple[float, float]) -> float:
    """Share of a frame that another one shows too, each by yaw and pitch in degrees."""
    lens = plan.rig.lens()
    cameras = [rotations.from_yaw_pitch_roll(*(math.radians(a) for a in look)) for look in (one, other)]
    rays = frame_rays(lens, 25)
    seen = lens.sees(rays @ cameras[0].T @ cameras[1])
    return float(seen.mean())


def meter(plan: Plan, share: float, aim: tuple[float, float], frame: GridFrame | None) -> str:
    """The overlap with the last frame against what is wanted, and where to go on."""
    wanted = plan.target_field.overlap
    low, high = max(0.15, wanted - _BAND), wanted + _BAND
    told = f"Overlap {units.share(share)}, wanted {units.share(low)} to {units.share(high)}"
    if share > high:
        return f"{told}: go on turning."
    if share < low:
        return f"{told}: too far, come back."
    off = 0.0 if frame is None else frame.pitch_deg - aim[1]
    level = "" if abs(off) < _LEVEL_DEG else f" Tilt {'up' if off > 0 else 'down'} by {units.angle(abs(off))}."
    return f"{told}: good. What stood on the far third line now stands on the near one.{level}"


#: Overlap by hand is as wanted within so much; a tilt of so much is told.
_BAND, _LEVEL_DEG = 0.12, 1.5
_DOING = {"turning": "Turning", "settling": "Coming to rest", "delay": "Shutter opens in", "exposing": "Exposing"}


def countdown(doing: str, left_s: float) -> str:
    """What takes its time, and how long still."""
    return f"{_DOING[doing]} {left_s:.1f} s"


#: Where the base leans by less the crop takes it (common practice, no source).
_LEANS_DEG = 0.3


def as_frame(told: ToldFrame, rig: Rig) -> FrameRef:
    """A judged frame as it stands in its outing, at the direction that was found for it."""
    judged, arrival = told.judged, told.arrival
    yaw, pitch, roll = judged.angles_deg or (None, None, None)
    return FrameRef(
        document.relative(told.place.folder, arrival.path),
        judged.number,
        yaw,
        pitch,
        roll,
        judged.taken,
        sha256=arrival.sha256 or None,
        field_deg=judged.field_deg or field_deg(rig),
        twin=None if arrival.twin is None else document.relative(told.place.folder, arrival.twin),
        told_by="matches" if judged.placed_by == "features" else "plan",
    )


def verdict(told: ToldFrame) -> str:
    """What to say of a frame that arrived, with a sign that needs no colour."""
    sign = {"good": "✓", "care": "◆", "again": "↺"}[told.judged.kind]
    return f"{sign} {told.judged.sentence}"


def _how_to_level(plan: Plan, lean_deg: float, toward_deg: float) -> str:
    """Which legs to raise by how much, where it is known where they stand."""
    support = plan.brief.support
    if not support.leg_circle_mm:
        return "raise it on that side (tell how far apart the feet stand under Support, and it is told in millimetres)"
    lifts = leg_lifts(lean_deg, toward_deg, support.leg_circle_mm, support.first_leg_deg)
    legs = [f"the leg at {units.angle(lift.yaw_deg, 0)} by {lift.mm:.0f} mm" for lift in lifts]
    return f"raise {' and '.join(legs)}" if legs else "that is less than a leg can be set to"


def also_told(told: ToldFrame, plan: Plan, guide: Guide) -> str:
    """What else is known by now: further faults, the lean of the base, holes that the plan will not close."""
    lines = [f"Also: {f.sentence}." for f in told.judged.faults[1:3]]
    if told.lean is not None and math.degrees(told.lean.lean_rad) >= _LEANS_DEG:
        lean, toward = math.degrees(told.lean.lean_rad), math.degrees(told.lean.lean_toward_rad)
        doubt = max(0.01, math.degrees(told.lean.sigma_rad))
        costs = f" Left so, it costs {units.share(told.lean_costs)} of the picture." if told.lean_costs >= 0.01 else ""
        lines.append(
            f"The base leans {units.measured(lean, doubt)}° towards yaw {units.angle(toward, 0)}: {_how_to_level(plan, lean, toward)}, "
            f"level the base and not the ball.{costs}"
        )
    if told.holes and not guide.missing:
        yaw, pitch = told.holes[len(told.holes) // 2]
        lines.append(
            f"A hole is left at yaw {units.angle(yaw, 0)}, pitch {units.angle(pitch, 0)}: shoot a frame there."
        )
    return " ".join(lines)
