"""What the Join stage shows and may do, as plain values: no Qt, tested without a window."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from idle_lantern.app import words
from idle_lantern.app.stages.join_request_model import AGAIN, differs
from idle_lantern.core.base import units
from idle_lantern.core.base.progress import StageClock
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.sphere import azimuth_altitude
from idle_lantern.core.join.request import JoinResult
from idle_lantern.core.outing.joining import rail_of
from idle_lantern.core.outing.model import Outing
from idle_lantern.core.plan.grid_frame import GridFrame

if TYPE_CHECKING:
    pass


FACTS = (
    ("size", "Picture"),
    ("crop", "Largest crop"),
    ("fit", "Mean error"),
    ("lens", "Lens found"),
    ("frames", "Frames used"),
    ("time", "It took"),
)
#: Focal lengths are told for a sensor of so many millimetres along its longer side.
_FULL_FRAME_MM = 36.0
NOTHING = "–"
STAGES_IN_WORDS = {
    "prepare": "developing raw, merging brackets",
    "read": "reading the frames",
    "features": "finding points",
    "match": "matching",
    "adjust": "turning the frames into place",
    "refine": "placing points exactly",
    "warp": "laying frames on the canvas",
    "seams": "choosing seams",
    "rim": "blending, to fill the rim",
    "blend": "blending and writing",
    "suspects": "looking the picture over",
}


@dataclass(frozen=True)
class LeftOut:
    """A frame that is not in the picture, or is so on demand: its sentence, and what a link beside it would do."""

    sentence: str
    link: str
    action: str  # "use", "leave", "on" or "" for nothing
    frame_id: str


@dataclass(frozen=True)
class OnMap:
    """A join on the map, in degrees: middles of linked frames with a quality, and frames apart from the plan."""

    links: tuple[tuple[tuple[float, float], tuple[float, float], float], ...]
    tied: tuple[tuple[Lens, GridFrame], ...]
    loose: tuple[tuple[Lens, GridFrame], ...]


def running_in_words(clock: StageClock) -> str:
    """How far a join is, and how long it still takes."""
    left = clock.remaining_s
    rest = f", {units.time_left(left)}" if left is not None else ""
    return f"{100 * clock.fraction:.0f} %: {STAGES_IN_WORDS.get(clock.stage, clock.stage)}{rest}"


def status(outing: Outing, joined: JoinResult | None, *, running: str, elsewhere: bool, opening: bool = False) -> str:
    """The sentence under the main button; ``running`` tells of a join of this outing that is under way."""
    if running:
        return running
    if elsewhere:
        return "Another outing is being joined; this one can be joined after it."
    why = differs(outing, joined)
    if why in AGAIN:
        return AGAIN[why]
    if why == "choices":
        return "This picture was made under other choices. Join again to follow them."
    if joined is not None:
        return "Joined, and kept in the outing's folder with its report."
    if opening:
        return "The joined picture is being opened."
    n = len(outing.frames_to_join())
    if n < 2:
        return "Two frames at least are needed. Shoot them in Field or bring them in under Frames."
    return f"{n} frames are ready to be joined."


def facts(joined: JoinResult | None) -> dict[str, str]:
    """Figures of the picture, by the keys of ``FACTS``."""
    shown = dict.fromkeys((key for key, _ in FACTS), NOTHING)
    if joined is None:
        return shown
    canvas, solution = joined.canvas, joined.solution
    shown["size"] = f"{units.grouped(canvas.width)} × {units.grouped(canvas.height)} px"
    shown["crop"] = f"{units.grouped(joined.crop.width)} × {units.grouped(joined.crop.height)} px"
    shown["time"] = units.duration(joined.took_s)
    shown["frames"] = f"{len(joined.frame_ids)}"
    if solution is not None:
        poses = solution.poses
        lens = poses.lenses[0]
        shown["fit"] = f"{poses.rms_px:.2f} px"
        focal_mm = lens.focal_px * _FULL_FRAME_MM / max(lens.width, lens.height)
        exact = units.measured(lens.focal_px, lens.focal_px * poses.focal_sigma)
        shown["lens"] = f"{words.LENSES[lens.model]}, {focal_mm:.1f}\u00a0mm full frame ({exact}\u00a0px)"
        shown["frames"] = f"{len(poses.frames)} of {len(solution.frames)}"
    return shown


#: Of the pupil's offset such a part lies along the lens before the rail can mend it.
_ALONG = 0.5


def rail_correction(outing: Outing, joined: JoinResult | None) -> tuple[float, float] | None:
    """The rail setting at which the axis would have stood under the pupil, and its doubt, in mm; None where the join tells none, or
    where the plan has another setting by now.

    By the nearest distance that the plan was told: the frames themselves tell the offset only as a share of it.
    """
    rig, near_m = outing.rig, outing.brief.scene.near_m
    solution = joined.solution if joined is not None else None
    if (
        solution is None
        or solution.parallax is None
        or not outing.shows_plan
        or rig.motion != "turn"
        or rig.rail_mm == 0
    ):
        return None
    from idle_lantern.core.registration.solve.parallax import Parallax  # loads the solver, which no start needs

    found = solution.parallax
    if not isinstance(found, Parallax) or rail_of(joined) != rig.rail_mm:
        return None
    forward = found.direction[2]
    if abs(forward) < _ALONG:
        return None
    doubt = found.near_sigma * near_m * 1000
    return rig.rail_mm - forward * found.offset_mm(near_m), doubt if math.isfinite(doubt) else rig.rail_doubt_mm


def findings(joined: JoinResult | None, near_m: float | None = None) -> str:
    """What the join found out about head and placing, in sentences; in millimetres by the nearest distance."""
    solution = None if joined is None else joined.solution
    if joined is None or solution is None:
        return ""
    # first what a person has to mend; a tie that keeps its frame out is told with that frame
    left_out = set(solution.reasons.values())
    told = list(dict.fromkeys(tie.sentence for tie in solution.ties if tie.sentence not in left_out))
    told += [solution.parallax.sentence(near_m)] if solution.parallax else []
    if solution.level:
        from idle_lantern.core.registration.solve.hand_held import HandHeld  # loads the solver, which no start needs

        told.append(solution.level.sentence(held_in_hand=isinstance(solution.parallax, HandHeld)))
    if joined.report.level_doubt:
        told.append(f"{joined.report.level_doubt} Compose turns it.")
    from idle_lantern.core.registration.solve.placing import placing_in_words

    told.append(placing_in_words(solution.frames.names, solution.poses, solution.placed_by))
    return "\n".join(filter(None, told))


def head_left_out(joined: JoinResult | None) -> str:
    """That the head of the tripod was taken out, where it was."""
    names = () if joined is None else joined.report.head_left_out
    return (
        f"The tripod head was left out of {', '.join(names[:3])}: the frames turned against it show the ground."
        if names
        else ""
    )


def lens_refused(joined: JoinResult | None) -> str:
    """That the lens which was chosen did not fit, where it did not."""
    asked = None if joined is None else joined.report.chosen
    if joined is None or asked is None or asked.lens is None or joined.report.known_lens:
        return ""
    return "The lens that was chosen contradicts these frames: their distortion was found anew."


def left_out(outing: Outing, joined: JoinResult | None) -> list[LeftOut]:
    """Each frame that is not in the picture with its reason, and those used on demand, with what can be done."""
    if joined is None or joined.solution is None:
        return []
    solution, ids, back = joined.solution, joined.frame_ids, outing.choices.put_back
    rows = []
    for f, reason in sorted(solution.reasons.items()):
        frame = ids[f] if f < len(ids) else ""
        action = "use" if frame and frame not in back else ""
        rows.append(LeftOut(f"{solution.frames.names[f]}: {reason}", "Use it all the same", action, frame))
    for f, frame in enumerate(ids):
        if frame in back:
            sentence = f"{solution.frames.names[f]}: used as you asked."
            rows.append(LeftOut(sentence, "Leave it to the join", "leave", frame))
    for f, frame in enumerate(ids):
        if frame in outing.choices.off:
            rows.append(
                LeftOut(f"{solution.frames.names[f]}: switched off in the picture.", "Switch it on", "on", frame)
            )
    return rows


def on_map(joined: JoinResult | None, planned_ids: Sequence[str]) -> OnMap:
    """Links by quality, and frames that have no cell in the plan (``planned_ids`` have) or that nothing ties."""
    if joined is None or joined.solution is None:
        return OnMap((), (), ())
    solution, poses = joined.solution, joined.solution.poses
    azimuth, altitude = (np.degrees(v) for v in azimuth_altitude(poses.world_from_camera[:, :, 2]))
    middle = {f: (float(azimuth[i]), float(altitude[i])) for i, f in enumerate(poses.frames)}
    most = max((k.inliers for k in solution.links), default=1)
    links = tuple(
        (middle[k.a], middle[k.b], k.inliers / most)
        for k in solution.links
        if abs(middle[k.a][0] - middle[k.b][0]) < 180  # across the end of the map a line would run all over it
    )
    tied: list[tuple[Lens, GridFrame]] = []
    loose: list[tuple[Lens, GridFrame]] = []
    for i, f in enumerate(poses.frames):
        by_features = solution.placed_by.get(f) == "features"
        if f < len(joined.frame_ids) and not (by_features and joined.frame_ids[f] in planned_ids):
            yaw, pitch, roll = (math.degrees(v) for v in rotations.to_yaw_pitch_roll(poses.world_from_camera[i]))
            (tied if by_features else loose).append((poses.lenses[i], GridFrame(f + 1, 1, f + 1, yaw, pitch, roll)))
    return OnMap(links, tuple(tied), tuple(loose))
