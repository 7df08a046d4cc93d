"""What is asked of a join, and in what the picture differs from what would be asked now: no Qt, tested without a window."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from idle_lantern.app.stages.choices_model import has_brackets, has_repeats, has_twins
from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.checkpoint import checkpoints_folder
from idle_lantern.core.geometry import rotations
from idle_lantern.core.join.request import JoinFrame, JoinRequest, JoinResult
from idle_lantern.core.merging.recipe import BracketExposure
from idle_lantern.core.outing import document
from idle_lantern.core.outing.model import FrameRef, Outing
from idle_lantern.core.request.choices import JoinChoices, changed_by, differing
from idle_lantern.core.request.options import JoinOptions

if TYPE_CHECKING:
    from idle_lantern.core.registration.solve.solve import Solution

#: Why a picture must be joined again, by the choice that changed; what is not named here only draws it anew.
_WHY = {"lens": "lens", "lens_shift": "lens", "points": "points", "cut_links": "cut", "twins": "files"}


def wanted_choices(outing: Outing) -> JoinChoices:
    """The choices of an outing as far as they concern the frames that are joined now."""
    choices = replace(outing.choices, lens_shift=outing.rig.motion == "lens-shift")
    return choices.among([r.id for r in outing.frames_to_join()]).relevant(
        brackets=has_brackets(outing), repeats=has_repeats(outing), twins=has_twins(outing)
    )


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
    pictures = folder / document.PICTURES
    rail_mm = rail_of(before)
    return JoinRequest(
        frames,
        pictures / document.PICTURE,
        JoinOptions.of(wanted_choices(outing)),
        report=pictures / document.REPORT,
        document_id=outing.id,
        solution=solution,
        earlier=pictures / document.PICTURE,
        rough=True,
        checkpoints=checkpoints_folder(),
        # the rail that the frames were shot with: a picture made anew is still of those
        rail_mm=outing.rig.rail_mm if rail_mm is None and outing.shows_plan else rail_mm,
    )


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
    asked = joined.report.chosen
    if asked is None:  # a report that does not tell
        return ""
    changed = differing(asked, wanted_choices(outing))
    if changed_by(changed) & {"files", "solve"}:
        return next((_WHY[name] for name in changed if name in _WHY), "frames")
    return "choices" if changed else ""


#: Why a picture must be joined again before anything can be done on it.
AGAIN = {
    "frames": "Frames came or went since this join. Join again to take them in.",
    "lens": "Another lens was chosen. Join again to lay the frames by it.",
    "points": "Points were set or taken away by hand. Join again to lay the frames by them.",
    "cut": "A link was cut or mended by hand. Join again to lay the frames without it.",
    "files": "Other files of the frames were chosen. Join again to take them.",
}


def must_join_again(outing: Outing, joined: JoinResult | None) -> str:
    """Why nothing can be done on a picture before it is joined again, in a sentence; empty where it can."""
    return AGAIN.get(differs(outing, joined), "")


def outdated(running: JoinRequest, wanted: JoinRequest) -> bool:
    """Whether a picture that is being made anew from a solution is no longer the one that is wanted."""
    return running.solution is not None and running.choices != wanted.choices


def asks_the_same(one: JoinRequest, other: JoinRequest) -> bool:
    """Whether two requests would make the same picture of the same frames."""
    return [f.id for f in one.frames] == [f.id for f in other.frames] and one.choices == other.choices


def rail_of(joined: JoinResult | None) -> float | None:
    """The rail setting of the plan under which the frames of a picture were joined, in mm; None where its report tells none."""
    return None if joined is None else joined.report.rail_mm
