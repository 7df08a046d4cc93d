"""Wish and rig -> the whole plan, with what a practitioner would say of it."""

from __future__ import annotations

import math
from dataclasses import dataclass

from idle_lantern.core.base import units
from idle_lantern.core.base.judgement import Judgement, Severity
from idle_lantern.core.plan.coverage import Coverage, prove
from idle_lantern.core.plan.grid import GridFrame, plan_grid
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.size import JoinedSize, joined_size
from idle_lantern.core.plan.wish import Wish

#: Seconds a frame takes on a tripod: turn, settle, expose (common practice, no source).
SECONDS_PER_FRAME = 6.0
_JPEG_SIDE = 65535


@dataclass(frozen=True)
class Plan:
    """Everything reckoned from one wish and rig."""

    rig: Rig
    wish: Wish
    frames: tuple[GridFrame, ...]
    coverage: Coverage
    size: JoinedSize
    judgements: tuple[Judgement, ...]

    @property
    def rows(self) -> tuple[tuple[GridFrame, ...], ...]:
        """Frames by row, top row first."""
        numbers = sorted({f.row for f in self.frames})
        return tuple(tuple(f for f in self.frames if f.row == n) for n in numbers)

    @property
    def shoot_s(self) -> float:
        """Time for the whole run."""
        return len(self.frames) * SECONDS_PER_FRAME

    def frame(self, number: int) -> GridFrame | None:
        """The frame of that number."""
        return self.frames[number - 1] if 1 <= number <= len(self.frames) else None


def make_plan(rig: Rig, wish: Wish) -> Plan:
    """Plan the frames, prove them, reckon sizes and judge."""
    frames = plan_grid(rig, wish)
    coverage = prove(rig.lens(), frames, wish)
    size = joined_size(rig, wish)
    judgements = _judge(rig, wish, frames, coverage, size)
    return Plan(rig, wish, frames, coverage, size, judgements)


def angle_list(plan: Plan) -> str:
    """The angles in order of shooting, as text for a pocket or a printer."""
    lines = [f"{'frame':>5}  {'row':>3}  {'yaw':>8}  {'pitch':>7}"]
    lines += [
        f"{f.number:>5}  {f.row:>3}  {units.angle(f.yaw_deg):>8}  {units.angle(f.pitch_deg):>7}" for f in plan.frames
    ]
    return "\n".join(lines) + "\n"


def _judge(
    rig: Rig, wish: Wish, frames: tuple[GridFrame, ...], coverage: Coverage, size: JoinedSize
) -> tuple[Judgement, ...]:
    found = []
    if not coverage.complete:
        share = len(coverage.uncovered) / coverage.samples
        found.append(
            Judgement(
                "hole",
                Severity.STOP,
                f"{units.share(share, 1)} of the wanted field lies in no frame: this lens does not reach there.",
                "Use a wider lens or a smaller field.",
            )
        )
    if coverage.smallest_overlap is not None and coverage.smallest_between:
        a, b = coverage.smallest_between
        if coverage.smallest_overlap < 0.15:
            found.append(
                Judgement(
                    "overlap-small",
                    Severity.CARE,
                    f"Frames {a} and {b} share only {units.share(coverage.smallest_overlap)}: "
                    "with less than 15 % a little missed turning leaves too few points to match.",
                    "Take a third: it costs few frames and forgives a missed step.",
                    "overlap-third",
                )
            )
    field_w, field_h = (math.degrees(v) for v in rig.lens().field_rad())
    if wish.high_deg - wish.low_deg > field_h * 0.9 and not rig.upright and len({f.row for f in frames}) > 1:
        found.append(
            Judgement(
                "turn-upright",
                Severity.NOTE,
                f"Held sideways a frame is {units.angle(field_h)} high, so the picture takes "
                f"{len({f.row for f in frames})} rows.",
                f"Hold the camera upright: {units.angle(field_w)} of height in one frame.",
                "upright",
            )
        )
    sky = [f for f in frames if f.pitch_deg - field_h / 2 > 1.0 and f.pitch_deg < 89]
    if sky:
        found.append(
            Judgement(
                "sky-row",
                Severity.CARE,
                f"{len(sky)} frame{'s' if len(sky) > 1 else ''} from frame {sky[0].number} on hold{'' if len(sky) > 1 else 's'} "
                "no land: a clear sky has nothing to match.",
                "Keep the horizon in the frame with more overlap between the rows, or shoot when there are clouds.",
                "overlap-half",
            )
        )
    if max(size.width_px, size.height_px) > _JPEG_SIDE:
        found.append(
            Judgement(
                "jpeg-limit",
                Severity.CARE,
                f"The joined picture is {units.grouped(size.width_px)} px wide; a JPEG holds {units.grouped(_JPEG_SIDE)}.",
                "Deliver as TIFF.",
            )
        )
    if len(frames) > 150:
        found.append(
            Judgement(
                "many-frames",
                Severity.NOTE,
                f"{len(frames)} frames take about {units.duration(len(frames) * SECONDS_PER_FRAME)}: the light moves on meanwhile.",
                "Use a shorter focal length or less overlap, unless the print needs the pixels.",
            )
        )
    return tuple(sorted(found, key=lambda j: -j.severity))
