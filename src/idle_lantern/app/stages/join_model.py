"""What the Join stage shows and may do, as plain values: no Qt, tested without a window."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast

import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.base import units
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.progress import StageClock
from idle_lantern.core.frames.reading import probe
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.sphere import azimuth_altitude
from idle_lantern.core.join.asking import JoinFrame, JoinRequest, JoinResult, development_told, lens_told
from idle_lantern.core.join.checkpoint import checkpoints_folder
from idle_lantern.core.join.options import JoinOptions, Rim, TiePoint
from idle_lantern.core.merging.development import Development
from idle_lantern.core.merging.recipe import Brackets, Exposure, Recipe, Repeats
from idle_lantern.core.optics.known import KnownLens
from idle_lantern.core.outing import document
from idle_lantern.core.outing.model import FrameRef, Outing
from idle_lantern.core.plan.grid_frame import GridFrame

if TYPE_CHECKING:
    from idle_lantern.core.join.solve.solve import Solution

Array = NDArray[Any]

FACTS = (
    ("size", "Picture"),
    ("crop", "Without gaps"),
    ("fit", "Mean miss"),
    ("lens", "Lens found"),
    ("frames", "Frames used"),
    ("time", "It took"),
)
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


#: What becomes of the exposures of a place, in words.
BRACKET_WORDS: dict[Brackets, str] = {
    "merge": "merged to linear light",
    "fuse": "fused, the well exposed of each",
    "base": "the middle exposure only",
}


@dataclass(frozen=True)
class OnMap:
    """A join on the map, in degrees: middles of linked frames with a quality, and frames apart from the plan."""

    links: tuple[tuple[tuple[float, float], tuple[float, float], float], ...]
    tied: tuple[tuple[Lens, GridFrame], ...]
    loose: tuple[tuple[Lens, GridFrame], ...]


def request_for(
    outing: Outing, folder: Path, solution: Solution | None = None, before: JoinResult | None = None
) -> JoinRequest:
    """Everything a join of the outing depends on, as it is now; with ``solution``, that of ``before``, only its picture is made anew."""
    refs = outing.frames_to_join()
    prior = [prior_of(r) for r in refs]
    known = all(p is not None for p in prior)

    def file_of(ref: FrameRef) -> Path:
        return document.twin_of(folder, ref) if outing.choices.twins == "jpeg" else document.resolve(folder, ref)

    frames = tuple(
        JoinFrame(
            file_of(r),
            r.id,
            p if known else None,
            document.mask_file(folder, outing, r.id),
            (
                *(Exposure(file_of(other), ev) for other, ev in outing.exposures_beside(r.id)),
                *(Exposure(file_of(other), kind=kind) for other, kind in outing.taken_again(r.id)),
            ),
        )
        for r, p in zip(refs, prior)
    )
    wanted = frozenset(i for i, r in enumerate(refs) if r.id in outing.choices.put_back)
    off = frozenset(i for i, r in enumerate(refs) if r.id in outing.choices.off)
    pictures = folder / document.PICTURES
    return JoinRequest(
        frames,
        pictures / document.PICTURE,
        JoinOptions(
            projection=outing.choices.projection,
            wanted=wanted,
            off=off,
            lens=outing.lens,
            shifts=outing.rig.motion == "lens-shift",
            turn_deg=outing.choices.turn_deg,
            distance=outing.choices.distance,
            straighten=outing.choices.straighten,
            rim=cast(Rim, outing.choices.rim.removesuffix("-all")),
            invent_anything=outing.choices.rim == "fill-all",
            tie_points=tie_points_of(outing, [r.id for r in refs]),
            cut_links=cut_links_of(outing, [r.id for r in refs]),
        ),
        report=pictures / document.REPORT,
        document_id=outing.id,
        solution=solution,
        earlier=pictures / document.PICTURE,
        rough=True,
        checkpoints=checkpoints_folder(),
        recipe=Recipe(
            cast(Brackets, outing.choices.brackets), outing.development, cast(Repeats, outing.choices.repeats)
        ),
        # the rail that the frames were shot with: a picture made anew is still of those
        asked={"twins": outing.choices.twins, RAIL: rail_of(before) or f"{outing.rig.rail_mm:g}"},
    )


def tie_points_of(outing: Outing, ids: Sequence[str]) -> tuple[TiePoint, ...]:
    """The points set by hand between frames that are joined."""
    at = {frame: i for i, frame in enumerate(ids)}
    return tuple(
        TiePoint(at[p.a], p.xy_a, at[p.b], p.xy_b, p.sigma_px, p.to_a, p.to_b)
        for p in outing.points
        if p.a in at and p.b in at
    )


def cut_links_of(outing: Outing, ids: Sequence[str]) -> tuple[tuple[int, int], ...]:
    """The links that are cut, between frames that are joined."""
    at = {frame: i for i, frame in enumerate(ids)}
    pairs = [sorted((at[a], at[b])) for a, b in outing.cut_links if a in at and b in at]
    return tuple((a, b) for a, b in sorted(pairs))


def has_brackets(outing: Outing) -> bool:
    """Whether any position has several exposures that can be merged."""
    return any(outing.exposures_beside(ref.id) for ref in outing.frames_to_join())


def has_repeats(outing: Outing) -> bool:
    """Whether any position was taken again."""
    return any(kind == "repeat" for ref in outing.frames_to_join() for _other, kind in outing.taken_again(ref.id))


def has_twins(outing: Outing) -> bool:
    """Whether any raw frame has a JPEG beside it."""
    return any(ref.twin for ref in outing.frames_to_join())


#: The choices under Join that ask which files make the picture, in words.
REPEAT_WORDS: dict[Repeats, str] = {"sharpest": "the sharpest one", "stack": "the mean of the sharp ones"}
TWIN_WORDS = {"raw": "the raw files", "jpeg": "the camera's JPEGs"}
#: Where the lens comes from that is no name of the gear library.
FOUND, DATABASE = "found by the join", "from the lens database"


def lens_names(lens: KnownLens | None, measured: Sequence[str]) -> tuple[list[str], int]:
    """What can be chosen as the lens, and which of it is."""
    names = [FOUND, DATABASE, *measured]
    if lens is None:
        return names, 0
    if lens.source == "database":
        return names, 1
    if lens.lens not in measured:  # its outing came from elsewhere, or it left the library
        names.append(lens.lens)
    return names, names.index(lens.lens)


def lens_of_set(outing: Outing, folder: Path) -> KnownLens:
    """What the lens database knows of the lens of an outing's first frame.

    Raises
    ------
    UnreadableFrame
        The frame cannot be read.
    InputError
        It tells no lens, or one that the database does not hold.
    """
    from idle_lantern.core.optics.database import lens_from_database  # a library that no start needs

    info = probe(document.resolve(folder, outing.frames_to_join()[0]))
    return lens_from_database(info.metadata, info.width, info.height)


def measured_lens(joined: JoinResult, name: str, day: str) -> KnownLens:
    """The lens of a finished join, as the gear library keeps it.

    Raises
    ------
    InputError
        The join found none: its frames are gone.
    """
    from idle_lantern.core.calibration.sweep import calibration_of

    if joined.solution is None:
        raise InputError("The frames of this join are gone", remedy="Join again")
    found = calibration_of(joined.solution, joined.report["falloff"]["terms"])
    first = joined.solution.frames.infos[joined.solution.poses.frames[0]]
    return found.known(first.metadata, name, day)


def prior_of(ref: FrameRef) -> Array | None:
    """The direction that a head told, (3, 3), or None."""
    if ref.yaw_deg is None or ref.pitch_deg is None:
        return None
    return rotations.from_yaw_pitch_roll(*np.radians([ref.yaw_deg, ref.pitch_deg, ref.roll_deg or 0.0]))


def differs(outing: Outing, joined: JoinResult | None) -> str:
    """Why the picture is not what the outing asks for now: ``frames``, ``files``, ``lens``, ``points``, ``cut``,
    ``choices`` or empty.

    After a change of choices the picture can be made anew from the same solution.
    """
    if joined is None:
        return ""
    if joined.frame_ids != tuple(r.id for r in outing.frames_to_join()):
        return "frames"
    asked = joined.report.get("asked")
    if asked is None:  # a report that does not tell
        return ""
    masks = {m.frame: m.asset for m in outing.masks if m.frame in joined.frame_ids}
    if "lens" in asked and asked["lens"] != lens_told(outing.lens):
        return "lens"
    ids = list(joined.frame_ids)
    if asked.get("points", []) != [p.told(ids) for p in tie_points_of(outing, ids)]:
        return "points"
    now = {frozenset(pair) for pair in outing.cut_links if set(pair) <= set(joined.frame_ids)}
    if {frozenset(pair) for pair in asked.get("cut", ())} != now:
        return "cut"
    if asked.get("twins", outing.choices.twins) != outing.choices.twins and has_twins(outing):
        return "files"
    same = asked.get("projection") == outing.choices.projection and asked.get("masks", {}) == masks
    same = same and asked.get("off", []) == sorted(set(outing.choices.off) & set(joined.frame_ids))
    same = same and tuple(asked.get("turn_deg", (0.0, 0.0, 0.0))) == outing.choices.turn_deg
    same = same and asked.get("rim", "none") == outing.choices.rim
    if outing.choices.projection == "panini":
        same = same and asked.get("distance", 1.0) == outing.choices.distance
        same = same and asked.get("straighten", 0.0) == outing.choices.straighten
    if has_brackets(outing):
        same = same and asked.get("brackets") == outing.choices.brackets
    if has_repeats(outing):
        same = same and asked.get("repeats", "sharpest") == outing.choices.repeats
    same = same and asked.get("development", development_told(Development())) == development_told(outing.development)
    return "" if same else "choices"


def outdated(running: JoinRequest, wanted: JoinRequest) -> bool:
    """Whether a picture that is being made anew from a solution is no longer the one that is wanted."""
    return running.solution is not None and running.told() != wanted.told()


def running_in_words(clock: StageClock) -> str:
    """How far a join is, and how long it still takes."""
    left = clock.remaining_s
    rest = f", about {units.duration(left)} left" if left is not None else ""
    return f"{100 * clock.fraction:.0f} %: {STAGES_IN_WORDS.get(clock.stage, clock.stage)}{rest}"


def status(outing: Outing, joined: JoinResult | None, *, running: str, elsewhere: bool) -> str:
    """The sentence under the main button; ``running`` tells of a join of this outing that is under way."""
    if running:
        return running
    if elsewhere:
        return "Another outing is being joined; this one can be joined after it."
    why = differs(outing, joined)
    if why == "frames":
        return "Frames came or went since this join. Join again to take them in."
    if why == "lens":
        return "Another lens was chosen. Join again to lay the frames by it."
    if why == "points":
        return "Points were set or taken away by hand. Join again to lay the frames by them."
    if why == "cut":
        return "A link was cut or mended by hand. Join again to lay the frames without it."
    if why == "files":
        return "Other files of the frames were chosen. Join again to take them."
    if why == "choices":
        return "This picture was made under other choices. Join again to follow them."
    if joined is not None:
        return "Joined, and kept in the outing's folder with its report."
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
        shown["lens"] = f"{lens.model}, f = {units.measured(lens.focal_px, lens.focal_px * poses.focal_sigma)} px"
        shown["frames"] = f"{len(poses.frames)} of {len(solution.frames)}"
    return shown


#: Under which name a report tells the rail setting of the plan that its frames were joined under, in mm.
RAIL = "rail_mm"


def rail_of(joined: JoinResult | None) -> str:
    """That setting of an earlier picture, empty where its report does not tell it."""
    return "" if joined is None else str((joined.report.get("asked") or {}).get(RAIL, ""))


#: Of the pupil's offset such a part lies along the lens before the rail can mend it.
_ALONG = 0.5


def rail_correction(outing: Outing, joined: JoinResult | None) -> tuple[float, float] | None:
    """The rail setting at which the axis would have stood under the pupil, and its doubt, in mm; None where the join tells none, or
    where the plan has another setting by now.

    By the nearest distance that the plan was told: the frames themselves tell the offset only as a share of it.
    """
    rig, near_m = outing.rig, outing.brief.scene.near_m
    solution = joined.solution if joined is not None else None
    if solution is None or solution.parallax is None or rig.motion != "turn" or rig.rail_mm == 0:
        return None
    from idle_lantern.core.join.solve.parallax import Parallax  # loads the solver, which no start needs

    found = solution.parallax
    if not isinstance(found, Parallax) or rail_of(joined) != f"{rig.rail_mm:g}":
        return None
    forward = found.direction[2]
    if abs(forward) < _ALONG:
        return None
    doubt = found.near_sigma * near_m * 1000
    return rig.rail_mm - forward * found.offset_mm(near_m), doubt if math.isfinite(doubt) else rig.rail_doubt_mm


def findings(solution: Solution | None, near_m: float | None = None) -> str:
    """What the join found out about head and placing, in sentences; in millimetres by the nearest distance."""
    if solution is None:
        return ""
    told = [solution.parallax.sentence(near_m)] if solution.parallax else []
    if solution.level:
        from idle_lantern.core.join.solve.hand_held import HandHeld  # loads the solver, which no start needs

        told.append(solution.level.sentence(held_in_hand=isinstance(solution.parallax, HandHeld)))
    from idle_lantern.core.join.solve.placing import placing_in_words

    told.append(placing_in_words(solution.frames.names, solution.poses, solution.placed_by))
    return "\n".join(filter(None, told))


def head_left_out(joined: JoinResult | None) -> str:
    """That the head of the tripod was taken out, where it was."""
    names = [] if joined is None else joined.report.get("head_left_out") or []
    return (
        f"The tripod head was left out of {', '.join(names[:3])}: the frames turned against it show the ground."
        if names
        else ""
    )


def lens_refused(joined: JoinResult | None) -> str:
    """That the lens which was chosen did not fit, where it did not."""
    if joined is None or not (joined.report.get("asked") or {}).get("lens") or joined.report.get("known_lens"):
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
