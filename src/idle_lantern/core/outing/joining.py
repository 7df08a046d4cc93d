"""What an outing asks of a join: its frames with what is known of them, and its choices as far as they concern those."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.checkpoint import checkpoints_folder
from idle_lantern.core.geometry import rotations
from idle_lantern.core.join.request import JoinFrame, JoinRequest, JoinResult
from idle_lantern.core.merging.recipe import BracketExposure
from idle_lantern.core.outing import document
from idle_lantern.core.outing.model import FrameRef, Outing
from idle_lantern.core.request.choices import JoinChoices
from idle_lantern.core.request.options import JoinOptions

if TYPE_CHECKING:
    from idle_lantern.core.registration.solve.solve import Solution


def has_brackets(outing: Outing) -> bool:
    """Whether any position has several exposures that can be merged."""
    return any(outing.exposures_beside(ref.id) for ref in outing.frames_to_join())


def has_repeats(outing: Outing) -> bool:
    """Whether any position was taken again."""
    return any(kind == "repeat" for ref in outing.frames_to_join() for _other, kind in outing.taken_again(ref.id))


def has_twins(outing: Outing) -> bool:
    """Whether any raw frame has a JPEG beside it."""
    return any(ref.twin for ref in outing.frames_to_join())


def wanted_choices(outing: Outing) -> JoinChoices:
    """The choices of an outing as far as they concern the frames that are joined now."""
    choices = replace(outing.choices, lens_shift=outing.rig.motion == "lens-shift")
    return choices.among([r.id for r in outing.frames_to_join()]).relevant(
        brackets=has_brackets(outing), repeats=has_repeats(outing), twins=has_twins(outing)
    )


def joined_frames(outing: Outing, folder: Path) -> tuple[JoinFrame, ...]:
    """The frames that an outing in a folder joins, with what heads told of them, their masks and their other exposures."""
    refs = outing.frames_to_join()
    prior = [prior_of(r) for r in refs]
    known = all(p is not None for p in prior)

    def file_of(ref: FrameRef) -> Path:
        return document.twin_of(folder, ref) if outing.choices.twins == "jpeg" else document.resolve(folder, ref)

    return tuple(
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


def request_for(
    outing: Outing, folder: Path, solution: Solution | None = None, before: JoinResult | None = None
) -> JoinRequest:
    """The join that makes an outing's own picture; with ``solution``, that of ``before``, only its picture is made anew."""
    pictures = folder / document.PICTURES
    rail_mm = rail_of(before)
    return JoinRequest(
        joined_frames(outing, folder),
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


def request_beside(outing: Outing, folder: Path, target: Path, report: Path | None) -> JoinRequest:
    """The same join with its picture elsewhere, cut as it was composed; a crop by hand is laid on a picture that is there, so it is left."""
    composed = outing.composition
    options = JoinOptions.of(wanted_choices(outing), crop=composed.crop, ratio=composed.ratio)
    return JoinRequest(
        joined_frames(outing, folder),
        target,
        options,
        report=report,
        document_id=outing.id,
        checkpoints=checkpoints_folder(),
        rail_mm=outing.rig.rail_mm if outing.shows_plan else None,
    )


def prior_of(ref: FrameRef) -> Array | None:
    """The direction that a head told, (3, 3), or None."""
    if ref.yaw_deg is None or ref.pitch_deg is None:
        return None
    return rotations.from_yaw_pitch_roll(*np.radians([ref.yaw_deg, ref.pitch_deg, ref.roll_deg or 0.0]))


def rail_of(joined: JoinResult | None) -> float | None:
    """The rail setting of the plan under which the frames of a picture were joined, in mm; None where its report tells none."""
    return None if joined is None else joined.report.rail_mm
