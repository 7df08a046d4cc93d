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
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.sphere import azimuth_altitude
from idle_lantern.core.join.asking import JoinFrame, JoinRequest, JoinResult
from idle_lantern.core.join.checkpoint import checkpoints_folder
from idle_lantern.core.join.options import JoinOptions
from idle_lantern.core.merging.recipe import Brackets, Exposure, Recipe
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
    "blend": "blending and writing",
}


@dataclass(frozen=True)
class LeftOut:
    """A frame that is not in the picture, or is so on demand: its sentence, and what a link beside it would do."""

    sentence: str
    link: str
    action: str  # "use", "leave" or "" for nothing
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


def request_for(outing: Outing, folder: Path, solution: Solution | None = None) -> JoinRequest:
    """Everything a join of the outing depends on, as it is now; with ``solution`` only its picture is made anew."""
    refs = outing.frames_to_join()
    prior = [prior_of(r) for r in refs]
    known = all(p is not None for p in prior)
    frames = tuple(
        JoinFrame(
            document.resolve(folder, r),
            r.id,
            p if known else None,
            document.mask_file(folder, outing, r.id),
            tuple(Exposure(document.resolve(folder, other), ev) for other, ev in outing.exposures_beside(r.id)),
        )
        for r, p in zip(refs, prior)
    )
    wanted = frozenset(i for i, r in enumerate(refs) if r.id in outing.choices.put_back)
    pictures = folder / document.PICTURES
    return JoinRequest(
        frames,
        pictures / document.PICTURE,
        JoinOptions(projection=outing.choices.projection, wanted=wanted),
        report=pictures / document.REPORT,
        document_id=outing.id,
        solution=solution,
        rough=True,
        checkpoints=checkpoints_folder(),
        recipe=Recipe(cast(Brackets, outing.choices.brackets)),
    )


def has_brackets(outing: Outing) -> bool:
    """Whether any position has several exposures that can be merged."""
    return any(outing.exposures_beside(ref.id) for ref in outing.frames_to_join())


def prior_of(ref: FrameRef) -> Array | None:
    """The direction that a head told, (3, 3), or None."""
    if ref.yaw_deg is None or ref.pitch_deg is None:
        return None
    return rotations.from_yaw_pitch_roll(*np.radians([ref.yaw_deg, ref.pitch_deg, ref.roll_deg or 0.0]))


def differs(outing: Outing, joined: JoinResult | None) -> str:
    """Why the picture is not what the outing asks for now: ``frames``, ``choices`` or empty.

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
    same = asked.get("projection") == outing.choices.projection and asked.get("masks", {}) == masks
    if has_brackets(outing):
        same = same and asked.get("brackets") == outing.choices.brackets
    return "" if same else "choices"


def status(outing: Outing, joined: JoinResult | None, *, running: str, elsewhere: bool) -> str:
    """The sentence under the main button; ``running`` tells of a join of this outing that is under way."""
    if running:
        return running
    if elsewhere:
        return "Another outing is being joined; this one can be joined after it."
    why = differs(outing, joined)
    if why == "frames":
        return "Frames came or went since this join. Join again to take them in."
    if why == "choices":
        return "This picture was made under other choices. Join again to follow them."
    if joined is not None:
        return "Joined. The picture and its report are kept in the outing's folder."
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


def findings(solution: Solution | None) -> str:
    """What the join found out about head and placing, in sentences."""
    if solution is None:
        return ""
    told = [found.sentence() for found in (solution.parallax, solution.level) if found]
    from idle_lantern.core.join.solve.placing import placing_in_words  # loads the solver, which no start needs

    told.append(placing_in_words(solution.frames.names, solution.poses, solution.placed_by))
    return "\n".join(filter(None, told))


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
