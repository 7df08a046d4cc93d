"""Brief -> the whole plan: frames in order, proof, sizes, settings, light, time, and what speaks against it."""

from __future__ import annotations

import datetime
import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

from idle_lantern.core.base import units
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.plan.brief import Brief, Mark
from idle_lantern.core.plan.cost import Cost, PastJoin, cost
from idle_lantern.core.plan.coverage import Coverage, prove
from idle_lantern.core.plan.crop import CropLoss, crop_loss
from idle_lantern.core.plan.depth import Sharpness, sharpness
from idle_lantern.core.plan.grid import plan_grid
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.hole_chance import HoleChance, hole_chance
from idle_lantern.core.plan.light import Setting, setting
from idle_lantern.core.plan.order import in_order
from idle_lantern.core.plan.pupil import ALLOWED_PX, PupilNeed, need
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.shallow import SingleShot, single_shot
from idle_lantern.core.plan.size import JoinedSize, canvas_px, joined_size
from idle_lantern.core.plan.sun import SunPosition, minutes_of_even_light, sun_at
from idle_lantern.core.plan.target_field import TargetField
from idle_lantern.core.plan.timing import RunTime, run_time
from idle_lantern.core.plan.tour import Tour, tour


@dataclass(frozen=True)
class Plan:
    """Everything reckoned from one brief. What takes longer is reckoned when it is first asked for."""

    brief: Brief
    frames: tuple[GridFrame, ...]
    coverage: Coverage
    size: JoinedSize
    sharpness: Sharpness
    setting: Setting
    time: RunTime
    pupil: PupilNeed
    sun: SunPosition
    past: tuple[PastJoin, ...] = ()
    given: bool = False

    @property
    def rig(self) -> Rig:
        """Camera and lens."""
        return self.brief.rig

    @property
    def target_field(self) -> TargetField:
        """Wanted field and overlap."""
        return self.brief.target_field

    @cached_property
    def rows(self) -> tuple[tuple[GridFrame, ...], ...]:
        """Frames by row, top row first, each from left to right."""
        numbers = sorted({f.row for f in self.frames})
        return tuple(tuple(sorted((f for f in self.frames if f.row == n), key=lambda f: f.column)) for n in numbers)

    @property
    def shoot_s(self) -> float:
        """Time for the whole run."""
        return self.time.total_s

    @property
    def seconds_per_frame(self) -> float:
        """Average over the run."""
        return self.time.total_s / max(1, len(self.frames))

    @property
    def subject(self) -> Mark:
        """The subject's mark, or the middle of the picture."""
        if self.brief.scene.subject_mark is not None:
            return self.brief.scene.subject_mark
        w = self.target_field
        return Mark("middle", (w.left_deg + w.right_deg) / 2, max(-90.0, min(90.0, (w.low_deg + w.high_deg) / 2)))

    @cached_property
    def crop(self) -> CropLoss:
        """What the crop loses."""
        return crop_loss(self.rig, self.frames, self.target_field, self.brief.support.as_used(), self.size.projection)

    @cached_property
    def hole_chance(self) -> HoleChance | None:
        """How often a hole is left by the support's pointing error; None where not tried."""
        return hole_chance(self.rig, self.frames, self.target_field, self.brief.support)

    @cached_property
    def single(self) -> SingleShot | None:
        """One imaginary frame like the joined picture."""
        return single_shot(self.rig, self.target_field, self.sharpness.aperture)

    @cached_property
    def cost(self) -> Cost:
        """Card, time and memory of the join."""
        made_px = canvas_px(self.rig, self.target_field, self.frames)
        return cost(self.rig, made_px, self.time.exposures, len(self.frames), self.past)

    @cached_property
    def even_light_min(self) -> float:
        """Minutes from the start until daylight changed by a third of a stop."""
        return minutes_of_even_light(self.brief.site, self.brief.site.begin)

    @cached_property
    def evening(self) -> Tour:
        """This scene and those after it."""
        return tour(self.brief.site, "this picture", self.shoot_s)

    @property
    def end(self) -> datetime.datetime:
        """When the run ends, local time."""
        return self.brief.site.begin + datetime.timedelta(seconds=self.shoot_s)

    def frame(self, number: int) -> GridFrame | None:
        """The frame of that number."""
        return self.frames[number - 1] if 1 <= number <= len(self.frames) else None

    def scale_reading(self, frame: GridFrame) -> float:
        """What the head's yaw scale reads for a frame."""
        return self.brief.support.reading(frame.yaw_deg)


#: Nobody shoots more; planning it would keep the machine busy for a minute.
MOST_FRAMES = 20_000


def frames_expected(brief: Brief) -> int:
    """About how many frames a brief will take, at once: the target field by what a frame adds to its neighbours."""
    if brief.rig.motion != "turn":
        return 1
    target = brief.target_field
    across, up = brief.rig.lens().field_rad()
    low, high = math.radians(target.low_deg), math.radians(target.high_deg)
    rows = max(1.0, (high - low) / (up * (1 - target.between_rows)))
    if target.row_frames:
        return round(rows * target.row_frames)
    # rows get shorter towards the poles: their mean length over the heights
    length = math.radians(target.sweep_deg) * (math.sin(high) - math.sin(low)) / (high - low)
    return round(rows * max(1.0, length / (across * (1 - target.overlap))))


def make_plan(brief: Brief, *, frames: Sequence[GridFrame] = (), past: Sequence[PastJoin] = ()) -> Plan:
    """Plan the frames, prove them, reckon everything.

    ``frames`` that are given (from a list made elsewhere) are taken as they are, proven
    and judged like planned ones; ``past`` are this machine's joins so far.

    Raises
    ------
    InputError
        Some tens of thousands of frames would be needed; the sentence tells how many.
    """
    expected = len(frames) or frames_expected(brief)
    if expected > MOST_FRAMES:
        raise InputError(
            f"Some {units.grouped(expected)} frames would be needed, and at most {units.grouped(MOST_FRAMES)} are planned",
            where="Frames",
            remedy="Use a shorter focal length, a smaller field, or less overlap",
        )
    rig, target_field, scene, site = brief.rig, brief.target_field, brief.scene, brief.site
    sun = sun_at(site, site.begin)
    subject = scene.subject_mark
    subject_yaw = subject.yaw_deg if subject else (target_field.left_deg + target_field.right_deg) / 2
    subject_pitch = subject.pitch_deg if subject else (target_field.low_deg + target_field.high_deg) / 2
    if frames:
        ordered = tuple(frames)
    else:
        ordered = in_order(
            plan_grid(
                rig,
                target_field,
                brief.support.as_used(),
                subject.yaw_deg if subject and subject.keep_off_seams else None,
            ),
            brief.run.order,
            subject_yaw,
            subject_pitch,
            site.yaw_of(sun.bearing_deg),
        )
    size = joined_size(rig, target_field)
    sharp = sharpness(rig, scene, brief.exposure, brief.target, max(size.width_px, size.height_px), target_field)
    exposed = setting(rig, brief.support, scene, brief.exposure, sharp.aperture, subject_yaw)
    return Plan(
        brief,
        ordered,
        prove(rig, ordered, target_field),
        size,
        sharp,
        exposed,
        run_time(ordered, rig, brief.exposure, exposed, brief.run),
        need(rig, ordered, scene, brief.support.pupil_off_mm, ALLOWED_PX),
        sun,
        tuple(past),
        bool(frames),
    )


def angle_list(plan: Plan) -> str:
    """The angles in order of shooting, as text for a pocket or a printer."""
    shifted = any(f.shift_right_mm or f.shift_up_mm for f in plan.frames)
    lines = [
        f"{'frame':>5}  {'row':>3}  {'yaw':>8}  {'pitch':>7}  {'scale':>7}" + ("  lens right, up" if shifted else "")
    ]
    for f in plan.frames:
        line = f"{f.number:>5}  {f.row:>3}  {units.angle(f.yaw_deg):>8}  {units.angle(f.pitch_deg):>7}  "
        line += f"{units.angle(plan.scale_reading(f)):>7}"
        if shifted:
            line += f"  {f.shift_right_mm:+.1f} mm, {f.shift_up_mm:+.1f} mm"
        lines.append(line)
    return "\n".join(lines) + "\n"
