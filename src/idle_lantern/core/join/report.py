"""The join report of the contract, made from results."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import asdict
from typing import Any

import cv2
import numpy as np

from idle_lantern.core.base.memory import peak_rss_mib
from idle_lantern.core.compositing.canvas.stretch import Stretch
from idle_lantern.core.compositing.render.compose import Composed
from idle_lantern.core.compositing.rim.outcome import Filled, Stretched
from idle_lantern.core.frames.frameset import FrameSet
from idle_lantern.core.geometry import rotations
from idle_lantern.core.inspection.find import LookedOver
from idle_lantern.core.inspection.ghosts import Ghost
from idle_lantern.core.inspection.suspect import Suspect
from idle_lantern.core.join.packed_warp import packed
from idle_lantern.core.registration.solve.hand_held import HandHeld
from idle_lantern.core.registration.solve.parallax import Parallax
from idle_lantern.core.registration.solve.solve import Solution

SCHEMA = "idle-lantern/join-report/1"
_STAGES = ("read", "features", "match", "adjust", "refine", "warp", "seams", "blend", "suspects", "write")


def report_of(
    solution: Solution,
    joined: Composed,
    *,
    ratio: float | None = None,
    looked: LookedOver | None = None,
) -> dict[str, Any]:
    """The whole report of a finished join; ``looked`` tells places of the whole canvas, None where nobody looked."""
    poses, names = solution.poses, solution.frames.names
    timings = {**solution.timings_s, **joined.timings_s}
    canvas, box = joined.shown, joined.crop
    left, top = (box.left, box.top) if joined.cropped else (0, 0)
    width, height = canvas.width, canvas.height
    invented = joined.rim if isinstance(joined.rim, Filled) else None
    return {
        "schema": SCHEMA,
        "frames": [_frame(solution, joined, f, (left, top)) for f in range(len(names))],
        "groups": [[names[f] for f in g] for g in solution.groups if len(g) > 1],
        "links": [
            {"a": k.a, "b": k.b, "matches": len(k.points_a), "inliers": k.inliers, "rms_px": _plain(k.rms_px)}
            for k in solution.links
        ],
        "rms_px": _plain(poses.rms_px),
        "focal_sigma": _plain(poses.focal_sigma),
        "canvas": {
            "projection": canvas.projection.name,
            "parameters": dict(canvas.projection.parameters),
            "width": width,
            "height": height,
            "px_per_rad": canvas.px_per_rad,
            "centre_px": list(canvas.centre_px),
            "rotation": canvas.canvas_from_world.tolist(),
            "full_circle": canvas.full_circle,
            "reason": canvas.reason,
            "stretch": _stretch(canvas.stretch),
        },
        "parallax": _parallax(solution),
        "pupil": _pupil(solution),
        "level": _level(solution),
        "lean": _lean(solution),
        "known_lens": None if solution.known is None else asdict(solution.known),
        "falloff": {"terms": list(joined.vignetting), "corner": math.exp(sum(joined.vignetting))},
        "dust": [
            {"u": round(s.u, 1), "v": round(s.v, 1), "size_px": round(s.size_px, 1), "loss": round(s.loss, 3)}
            for s in joined.dust
        ],
        "head_left_out": [names[f] for f in joined.carried],
        "suspects": None
        if looked is None
        else _suspects([*looked.suspects, *_invented(invented)], names, left, top, width, height),
        "ghosts": [] if looked is None else [_ghost(m, names, left, top) for m in looked.ghosts],
        "invented_px": 0 if invented is None else invented.pixels,
        "rim": None if joined.rim is None else {**_rim(joined.rim), "sentence": joined.rim.sentence},
        "profile": joined.space,
        "largest_rectangle": {"left": box.left, "top": box.top, "width": box.width, "height": box.height},
        "cropped": joined.cropped,
        "crop": {"x": left, "y": top, "width": width, "height": height, "ratio": ratio},
        "tiles": {"made": len(joined.made), "of": joined.tiles},
        "timings_s": {stage: round(timings.get(stage, 0.0), 4) for stage in _STAGES},
        "peak_rss_mib": round(peak_rss_mib(), 1),
    }


def _suspects(
    suspects: Sequence[Suspect], names: Sequence[str], left: int, top: int, width: int, height: int
) -> list[dict[str, Any]]:
    """Those that the picture still shows after its crop, in its own pixels."""
    rows = []
    for s in suspects:
        if (
            left - s.width / 2 < s.u < left + width + s.width / 2
            and top - s.height / 2 < s.v < top + height + s.height / 2
        ):
            rows.append(
                {
                    "u": round(s.u - left),
                    "v": round(s.v - top),
                    "width": round(s.width),
                    "height": round(s.height),
                    "kind": s.kind,
                    "suspicion": round(s.suspicion, 3),
                    "frames": [names[f] for f in s.frames],
                    "sentence": s.sentence,
                    "figure": round(s.figure, 3),
                    "unit": s.unit,
                }
            )
    return rows


def _ghost(ghost: Ghost, names: Sequence[str], left: int, top: int) -> dict[str, Any]:
    return {
        "sentence": ghost.sentence(names),
        "places": [
            {
                "u": round(p.u - left), "v": round(p.v - top), "width": round(p.width), "height": round(p.height),
                "frame": names[p.frame], "instead": names[p.instead], "shown": p.shown,
            }
            for p in ghost.places
        ],
    }  # fmt: skip


def _stretch(stretch: Stretch | None) -> dict[str, Any] | None:
    if stretch is None:
        return None
    return {
        "origin_px": list(stretch.origin),
        "step_px": list(stretch.step),
        "flat_px": np.round(stretch.at, 3).tolist(),
        "period_px": stretch.period_px,
    }


def _rim(rim: Stretched | Filled) -> dict[str, Any]:
    if isinstance(rim, Stretched):
        return {"way": "stretch", "largest": round(rim.largest, 3), "bow_px": round(rim.bow_px, 2)}
    return {"way": "fill", "invented_px": rim.pixels, "left_open": list(rim.left)}


def _size(pixels: int) -> str:
    return f"{pixels / 1e6:.2f} Mpx" if pixels >= 10_000 else f"some {max(10, round(pixels, -1))} px"


def _invented(filled: Filled | None) -> list[Suspect]:
    """What is invented as places that should be looked at: it surely is."""
    return [
        Suspect(
            a.u, a.v, a.width, a.height, "invented", 0.99, (),
            f"Invented, {_size(a.pixels)}: no frame shows this, it was copied from elsewhere in the picture",
            a.pixels / 1e6, "Mpx",
        )
        for a in (filled.areas if filled else ())
    ]  # fmt: skip


def failure_report(frames: FrameSet | None, names: list[str], reason: str) -> dict[str, Any]:
    """A report of a join that could not be: it still says why."""
    infos = frames.infos if frames else [None] * len(names)
    return {
        "schema": SCHEMA,
        "error": reason,
        "frames": [
            {
                "file": name,
                "used": False,
                "reason": reason,
                "width": info.width if info else None,
                "height": info.height if info else None,
                "lens": None,
                "pose": None,
                "gain": [1, 1, 1],
                "placed_by": None,
            }
            for name, info in zip(frames.names if frames else names, infos)
        ],
        "groups": [],
        "links": [],
        "rms_px": None,
        "canvas": None,
        "timings_s": dict.fromkeys(_STAGES, 0.0),
        "peak_rss_mib": round(peak_rss_mib(), 1),
    }


def is_beside(row: dict[str, Any]) -> bool:
    """Whether a row is of a file beside the frames: another exposure of a place, a bookend, a raw's JPEG."""
    return "stands" in row or ("position" in row and row["position"] is None)


def _frame(solution: Solution, joined: Composed, f: int, corner: tuple[int, int]) -> dict[str, Any]:
    info = solution.frames.infos[f]
    row: dict[str, Any] = {
        "file": solution.frames.names[f],
        "used": f in solution.poses.frames,
        "reason": solution.reasons.get(f),
        "width": info.width,
        "height": info.height,
        "bits": info.bits,
        "lens": None,
        "pose": None,
        "gain": [1.0, 1.0, 1.0],
        "placed_by": solution.placed_by.get(f),
    }
    if row["used"]:
        i = solution.poses.index(f)
        lens, rotation = solution.poses.lenses[i], solution.poses.world_from_camera[i]
        yaw, pitch, roll = np.degrees(rotations.to_yaw_pitch_roll(rotation))
        row["lens"] = {
            "model": lens.model,
            "focal_px": lens.focal_px,
            "k1": lens.k1,
            "k2": lens.k2,
            "k3": lens.k3,
            "cx": lens.cx,
            "cy": lens.cy,
        }
        row["pose"] = {
            "yaw_deg": float(yaw),
            "pitch_deg": float(pitch),
            "roll_deg": float(roll),
            "rotation": rotation.tolist(),
        }
        row["gain"] = [float(g) for g in joined.gains[i]]
        row["shown_px"] = _outlines(joined, i, corner)
        if math.isfinite(lens.circle_px):
            row["image_circle_px"] = lens.circle_px
        poses = solution.poses
        if poses.sigma_rad is not None:
            row["pose"]["sigma_deg"] = _plain(math.degrees(poses.sigma_rad[i]))
        bend = poses.bend(i)
        if bend is not None:
            row["local_warp_px"] = packed(bend)
    return row


def _parallax(solution: Solution) -> dict[str, Any] | None:
    found = solution.parallax
    if found is None:
        return None
    if isinstance(found, HandHeld):
        return {
            "hand_held": True,
            "share_of_nearest_distance": found.near_share,
            "largest_px": found.largest_px,
            "in_words": found.sentence(),
        }
    return {
        "direction": dict(zip(("right", "down", "forward"), found.direction)),
        "direction_sigma_deg": _plain(math.degrees(found.direction_sigma_rad)),
        "share_of_nearest_distance": found.near_share,
        "share_sigma": _plain(found.near_sigma),
        "largest_px": found.largest_px,
        "in_words": found.sentence(),
    }


#: Distance for which the offset of the pupil is told; it grows with that of the nearest things.
_PUPIL_AT_M = 2.0


#: Outlines keep within so many pixels of the reduced canvas on which seams are cut, and are traced on so many times as many:
#: those of neighbours then run within a quarter of such a pixel.
_OUTLINE_PX, _FINER = 0.75, 4


def _outlines(joined: Composed, i: int, corner: tuple[int, int]) -> list[list[list[int]]]:
    """What the picture shows of a frame, as polygons [u, v] of the picture; blends reach a little beyond."""
    mine = joined.label == i
    rows, columns = np.flatnonzero(mine.any(1)), np.flatnonzero(mine.any(0))
    if not len(rows):
        return []
    top, left = int(rows[0]), int(columns[0])
    part = mine[top : rows[-1] + 1, left : columns[-1] + 1].astype(np.uint8)
    fine = cv2.copyMakeBorder(
        cv2.resize(part, None, fx=_FINER, fy=_FINER, interpolation=cv2.INTER_NEAREST), 1, 1, 1, 1, cv2.BORDER_CONSTANT
    )
    found, _tree = cv2.findContours(fine, cv2.RETR_LIST, cv2.CHAIN_APPROX_SIMPLE)
    height, width = joined.label.shape
    scale = np.array([joined.canvas.width / width, joined.canvas.height / height])
    outlines = [cv2.approxPolyDP(c, _OUTLINE_PX * _FINER, True)[:, 0] for c in found if len(c) > 2]
    first = np.array([left, top])
    return [
        np.rint(((c - 0.5) / _FINER + first) * scale - 0.5 - np.array(corner)).astype(int).tolist() for c in outlines
    ]


def _pupil(solution: Solution) -> dict[str, Any] | None:
    """The pupil's offset in millimetres, if the nearest things that were matched stand so far off."""
    found = solution.parallax
    if not isinstance(found, Parallax):
        return None
    sigma = found.near_sigma * _PUPIL_AT_M * 1000
    return {
        "offset_mm": round(found.offset_mm(_PUPIL_AT_M), 2),
        "for_distance_m": _PUPIL_AT_M,
        "sigma_mm": None if math.isnan(sigma) else round(sigma, 2),
    }


def _lean(solution: Solution) -> dict[str, Any] | None:
    """How the turning axis leaned, where edges in the frames tell the vertical."""
    found = solution.level
    if found is None:
        return None
    return {
        "deg": math.degrees(found.lean_rad),
        "towards_yaw_deg": math.degrees(found.lean_toward_rad),
        "sigma_deg": _plain(math.degrees(found.sigma_rad)),
    }


def _level(solution: Solution) -> dict[str, Any] | None:
    found = solution.level
    if found is None:
        return None
    return {
        "edges": found.edges,
        "sigma_deg": _plain(math.degrees(found.sigma_rad)),
        "axis_lean_deg": math.degrees(found.lean_rad),
        "axis_lean_toward_deg": math.degrees(found.lean_toward_rad),
        "in_words": found.sentence(held_in_hand=isinstance(solution.parallax, HandHeld)),
    }


def _plain(value: float) -> float | None:
    return float(value) if math.isfinite(value) else None
