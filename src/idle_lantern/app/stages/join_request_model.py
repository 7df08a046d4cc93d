"""What is asked of a join, and in what the picture differs from what would be asked now: no Qt, tested without a window."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast

import numpy as np
from numpy.typing import NDArray

from idle_lantern.app.stages.choices_model import has_brackets, has_repeats, has_twins
from idle_lantern.core.base.checkpoint import checkpoints_folder
from idle_lantern.core.geometry import rotations
from idle_lantern.core.join.request import JoinFrame, JoinRequest, JoinResult, development_told, lens_told
from idle_lantern.core.merging.development import Development
from idle_lantern.core.merging.recipe import BracketExposure, Brackets, Recipe, Repeats
from idle_lantern.core.outing import document
from idle_lantern.core.outing.model import FrameRef, Outing
from idle_lantern.core.request.options import JoinOptions, Rim, TiePoint

if TYPE_CHECKING:
    from idle_lantern.core.registration.solve.solve import Solution

Array = NDArray[Any]


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
                *(BracketExposure(file_of(other), ev) for other, ev in outing.exposures_beside(r.id)),
                *(BracketExposure(file_of(other), kind=kind) for other, kind in outing.taken_again(r.id)),
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


#: Under which name a report tells the rail setting of the plan that its frames were joined under, in mm.
RAIL = "rail_mm"


def rail_of(joined: JoinResult | None) -> str:
    """That setting of an earlier picture, empty where its report does not tell it."""
    return "" if joined is None else str((joined.report.get("asked") or {}).get(RAIL, ""))
