"""What a join report tells, read back: canvas, suspects, and a solution that is enough for any other picture of it."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.compositing.canvas.stretch import Stretch
from idle_lantern.core.frames.decoded import DecodedFrames
from idle_lantern.core.frames.frameset import FrameSet
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.inspection.suspect import Suspect
from idle_lantern.core.join.packed_warp import unpacked
from idle_lantern.core.join.report import is_beside
from idle_lantern.core.optics.known import known_from
from idle_lantern.core.registration.match.features import working_frame
from idle_lantern.core.registration.match.links import Link
from idle_lantern.core.registration.solve.covered_field import field_of
from idle_lantern.core.registration.solve.hand_held import HandHeld
from idle_lantern.core.registration.solve.level import Level
from idle_lantern.core.registration.solve.parallax import Parallax
from idle_lantern.core.registration.solve.poses import Poses
from idle_lantern.core.registration.solve.solve import Solution


def suspects_of(report: Mapping[str, Any], names: Sequence[str]) -> tuple[Suspect, ...]:
    """The suspects of a report of an uncropped picture of these frames.

    Raises
    ------
    KeyError, TypeError, ValueError
        It is no such report.
    """
    index = {name: f for f, name in enumerate(names)}
    return tuple(
        Suspect(
            float(row["u"]), float(row["v"]), float(row["width"]), float(row["height"]), row["kind"],
            float(row["suspicion"]), tuple(index[name] for name in row["frames"]), str(row["sentence"]),
            float(row["figure"]), str(row["unit"]),
        )
        for row in report["suspects"] or ()
    )  # fmt: skip


def canvas_of(report: dict[str, Any]) -> Canvas:
    """The canvas that a report describes; raises KeyError, TypeError or ValueError for a damaged one."""
    c = report["canvas"]
    return Canvas(
        Projection(c["projection"], dict(c["parameters"])),
        int(c["width"]),
        int(c["height"]),
        float(c["px_per_rad"]),
        (float(c["centre_px"][0]), float(c["centre_px"][1])),
        np.asarray(c["rotation"], float).reshape(3, 3),
        bool(c.get("full_circle", False)),
        str(c.get("reason", "")),
        _stretch_of(c.get("stretch")),
    )


def _stretch_of(told: dict[str, Any] | None) -> Stretch | None:
    if told is None:
        return None
    at = np.asarray(told["flat_px"], float)
    if at.ndim != 3 or at.shape[2] != 2 or min(at.shape[:2]) < 2 or not np.isfinite(at).all():
        raise ValueError("no grid")
    (x, y), (across, down) = (map(float, told[key]) for key in ("origin_px", "step_px"))
    return Stretch((x, y), (across, down), at, float(told["period_px"]))


def solution_of(report: dict[str, Any], frames: FrameSet, working_mp: float) -> Solution:
    """The solution that a report tells, with the frames it was made of: enough for any other picture of it.

    Tie points are not in a report, only how many there were: their places in ``links`` are NaN. Frames are read small.

    Raises
    ------
    InputError
        The frames are not those of the report.
    KeyError, TypeError, ValueError
        The report is damaged.
    """
    rows = [row for row in report["frames"] if not is_beside(row)]
    if len(rows) != len(frames) or any(
        (r["width"], r["height"]) != (i.width, i.height) for r, i in zip(rows, frames.infos)
    ):
        raise InputError("The frames have changed since the join", remedy="Join again")
    used = [f for f, row in enumerate(rows) if row["used"]]
    lenses = tuple(
        Lens(
            **rows[f]["lens"],
            width=rows[f]["width"],
            height=rows[f]["height"],
            circle_px=float(rows[f].get("image_circle_px", math.inf)),
        )
        for f in used
    )
    turned = np.array([rows[f]["pose"]["rotation"] for f in used], float).reshape(-1, 3, 3)
    warps = tuple(unpacked(rows[f].get("local_warp_px")) for f in used)
    poses = Poses(
        tuple(used),
        lenses,
        turned,
        float(report["rms_px"] or 0.0),
        _number(report.get("focal_sigma")),
        np.radians([_number(rows[f]["pose"].get("sigma_deg")) for f in used]),
        warps if any(w is not None for w in warps) else (),
    )
    store = DecodedFrames(frames.infos, 0)
    place = {name: f for f, name in enumerate(frames.names)}
    return Solution(
        frames,
        poses,
        tuple(_link_of(row, poses) for row in report["links"] if {row["a"], row["b"]} <= set(used)),
        [[place[n] for n in g if n in place] for g in report["groups"]],
        {f: row["reason"] for f, row in enumerate(rows) if row["reason"]},
        {f: str(rows[f]["placed_by"]) for f in used},
        field_of(poses),
        tuple(working_frame(f, store, working_mp) for f in used),
        {},
        _parallax_of(report.get("parallax")),
        _level_of(report.get("level")),
        known_from(report["known_lens"], "report") if report.get("known_lens") else None,
    )


def _link_of(row: dict[str, Any], poses: Poses) -> Link:
    """A link as a report tells it: between which frames, how many points, how well they agree."""
    a, b, matches = int(row["a"]), int(row["b"]), int(row["matches"])
    b_from_a = poses.world_from_camera[poses.index(b)].T @ poses.world_from_camera[poses.index(a)]
    nowhere = np.full((matches, 2), np.nan)
    return Link(a, b, nowhere, nowhere, b_from_a, np.arange(matches) < int(row["inliers"]), _number(row["rms_px"]))


def crop_of(report: dict[str, Any]) -> Rectangle:
    """The largest rectangle that a report tells."""
    if report.get("cropped"):
        return Rectangle(0, 0, int(report["canvas"]["width"]), int(report["canvas"]["height"]))
    box = report["largest_rectangle"]
    return Rectangle(int(box["left"]), int(box["top"]), int(box["width"]), int(box["height"]))


def _level_of(told: dict[str, Any] | None) -> Level | None:
    if told is None:
        return None
    sigma, lean, toward = (_number(told[k]) for k in ("sigma_deg", "axis_lean_deg", "axis_lean_toward_deg"))
    return Level(int(told["edges"]), math.radians(sigma), math.radians(lean), math.radians(toward))


def _parallax_of(told: dict[str, Any] | None) -> Parallax | HandHeld | None:
    if told is None:
        return None
    if told.get("hand_held"):
        return HandHeld(float(told["share_of_nearest_distance"]), float(told["largest_px"]))
    right, down, forward = (float(told["direction"][k]) for k in ("right", "down", "forward"))
    return Parallax(
        (right, down, forward),
        math.radians(_number(told["direction_sigma_deg"])),
        float(told["share_of_nearest_distance"]),
        _number(told["share_sigma"]),
        float(told["largest_px"]),
    )


def _number(value: float | None) -> float:
    return math.nan if value is None else float(value)
