"""What a join report tells, read back: canvas, suspects, and a solution that is enough for any other picture of it."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from msgspec import UNSET, UnsetType

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.compositing.canvas.stretch import Stretch
from idle_lantern.core.frames.frameset import FrameSet
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.inspection.suspect import Suspect
from idle_lantern.core.join.packed_warp import unpacked
from idle_lantern.core.join.report import (
    CanvasRow,
    CarriedRow,
    FrameRow,
    LeanRow,
    LevelRow,
    LinkRow,
    ParallaxRow,
    PoseRow,
    Report,
    StretchRow,
    TieRow,
)
from idle_lantern.core.registration.match.by_hand import HandTie
from idle_lantern.core.registration.match.links import Link
from idle_lantern.core.registration.solve.covered_field import field_of
from idle_lantern.core.registration.solve.hand_held import HandHeld
from idle_lantern.core.registration.solve.level import Level
from idle_lantern.core.registration.solve.parallax import Parallax
from idle_lantern.core.registration.solve.poses import Poses
from idle_lantern.core.registration.solve.solve import Solution
from idle_lantern.core.registration.solve.upside_down import SENTENCE
from idle_lantern.core.request.choices import TiePoint


def suspects_of(report: Report, names: Sequence[str]) -> tuple[Suspect, ...]:
    """The suspects of a report of an uncropped picture of these frames; raises KeyError where it is of others."""
    index = {name: f for f, name in enumerate(names)}
    return tuple(
        Suspect(
            s.u, s.v, s.width, s.height, s.kind, s.suspicion, tuple(index[name] for name in s.frames), s.sentence, s.figure,
            s.unit,
        )
        for s in report.suspects or ()
    )  # fmt: skip


def invented_in(report: Report) -> tuple[tuple[Rectangle, float], ...]:
    """Areas of a picture that are invented, in its pixels, each with how many of its pixels are."""
    return tuple(
        (
            Rectangle(round(s.u - s.width / 2), round(s.v - s.height / 2), round(s.width), round(s.height)),
            1e6 * s.figure,
        )
        for s in report.suspects or ()
        if s.kind == "invented"
    )


def canvas_of(report: Report) -> Canvas:
    """The canvas that a report describes.

    Raises
    ------
    ValueError
        It tells none, or an impossible one.
    """
    if report.canvas is None:
        raise ValueError("no canvas")
    c: CanvasRow = report.canvas
    return Canvas(
        Projection(c.projection, dict(c.parameters)), c.width, c.height, c.px_per_rad, c.centre_px, np.array(c.rotation),
        c.full_circle, c.reason, _stretch_of(c.stretch),
    )  # fmt: skip


def _stretch_of(row: StretchRow | None) -> Stretch | None:
    if row is None:
        return None
    at = np.asarray(row.flat_px, float)
    if at.ndim != 3 or at.shape[2] != 2 or min(at.shape[:2]) < 2:
        raise ValueError("no grid")
    return Stretch(row.origin_px, row.step_px, at, row.period_px)


def solution_of(report: Report, frames: FrameSet, working_mp: float) -> Solution:
    """The solution that a report tells, with the frames it was made of: enough for any other picture of it. No pixel is read.

    Tie points are not in a report, only how many there were: their places in ``links`` are NaN. ``working_mp`` is the size of reduced
    frames where the report tells none.

    Raises
    ------
    InputError
        The frames are not those of the report.
    ValueError
        The report is damaged.
    """
    rows = [row for row in report.frames if not row.is_beside]
    if len(rows) != len(frames) or any((r.width, r.height) != (i.width, i.height) for r, i in zip(rows, frames.infos)):
        raise InputError("The frames have changed since the join", remedy="Join again")
    used = [f for f, row in enumerate(rows) if row.used]
    warps = tuple(unpacked(rows[f].local_warp_px or None) for f in used)
    sigmas = [_number(_pose(rows[f]).sigma_deg) for f in used]
    poses = Poses(
        tuple(used),
        tuple(lens_of(rows[f]) for f in used),
        np.array([_pose(rows[f]).rotation for f in used], float).reshape(-1, 3, 3),
        float(report.rms_px or 0.0),
        _number(report.focal_sigma),
        np.radians(sigmas),
        warps if any(w is not None for w in warps) else (),
    )
    place = {name: f for f, name in enumerate(frames.names)}
    return Solution(
        frames,
        poses,
        tuple(_link_of(row, poses) for row in report.links if {row.a, row.b} <= set(used)),
        [[place[n] for n in g if n in place] for g in report.groups],
        {f: row.reason for f, row in enumerate(rows) if row.reason},
        {f: str(rows[f].placed_by) for f in used},
        field_of(poses),
        working_mp if report.working_mp is UNSET else report.working_mp,
        {},
        _parallax_of(report.parallax or None),
        _level_of(report.level or None, report.lean or None),
        report.known_lens or None,
        tuple(_tie_of(row, dict(zip(frames.names, frames.ids))) for row in report.ties),
        SENTENCE in report.level_doubt,
    )


def _tie_of(row: TieRow, ids: dict[str, str]) -> HandTie:
    point = TiePoint(ids.get(row.a, row.a), row.xy_a, ids.get(row.b, row.b), row.xy_b, row.sigma_px, row.to_a, row.to_b)
    return HandTie(point, _number(row.miss_px), row.believed, row.sentence or "")


def _pose(row: FrameRow) -> PoseRow:
    if row.pose is None:
        raise ValueError("a used frame without a pose")
    return row.pose


def lens_of(row: FrameRow) -> Lens:
    """The lens of a used frame; raises ValueError where it tells none."""
    lens = row.lens
    if lens is None or row.width is None or row.height is None:
        raise ValueError("a used frame without a lens")
    return Lens(
        lens.model,
        lens.focal_px,
        row.width,
        row.height,
        lens.k1,
        lens.k2,
        lens.k3,
        lens.cx,
        lens.cy,
        circle_px=row.circle_px,
    )


def _link_of(row: LinkRow, poses: Poses) -> Link:
    """A link as a report tells it: between which frames, how many points, how well they agree."""
    b_from_a = poses.turn(poses.index(row.a), poses.index(row.b))
    nowhere = np.full((row.matches, 2), np.nan)
    agree = np.arange(row.matches) < row.inliers
    return Link(row.a, row.b, nowhere, nowhere, b_from_a, agree, _number(row.rms_px))


def crop_of(report: Report) -> Rectangle:
    """The largest rectangle that a report tells; raises ValueError where it tells none."""
    box = report.largest_rectangle
    if report.canvas is None or not box:
        raise ValueError("no rectangle")
    if report.cropped:
        return Rectangle(0, 0, report.canvas.width, report.canvas.height)
    return Rectangle(box.left, box.top, box.width, box.height)


def _level_of(row: LevelRow | None, of_lean: LeanRow | None) -> Level | None:
    if row is None:
        return None
    told = (
        row.axis_lean_deg,
        row.axis_lean_toward_deg,
        _number(row.sigma_deg if of_lean is None else of_lean.sigma_deg),
    )
    return Level(row.edges, math.radians(_number(row.sigma_deg)), *(math.radians(a) for a in told))


def _parallax_of(row: ParallaxRow | CarriedRow | None) -> Parallax | HandHeld | None:
    if row is None:
        return None
    if isinstance(row, CarriedRow):
        return HandHeld(row.share_of_nearest_distance, row.largest_px)
    way = row.direction
    return Parallax(
        (way.right, way.down, way.forward),
        math.radians(_number(row.direction_sigma_deg)),
        row.share_of_nearest_distance,
        _number(row.share_sigma),
        row.largest_px,
    )


def _number(value: float | UnsetType | None) -> float:
    return math.nan if value is None or value is UNSET else float(value)
