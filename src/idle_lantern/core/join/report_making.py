"""The join report made from results."""

from __future__ import annotations

import math
from collections.abc import Sequence
from pathlib import Path

import cv2
import numpy as np
from msgspec import UNSET, structs

from idle_lantern.core.base.memory import peak_rss_mib
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.compositing.canvas.stretch import Stretch
from idle_lantern.core.compositing.render.compose import Composed
from idle_lantern.core.compositing.rim.outcome import Filled, Stretched
from idle_lantern.core.frames.frameset import FrameSet, names_of
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.inspection.find import LookedOver
from idle_lantern.core.inspection.ghosts import Ghost
from idle_lantern.core.inspection.suspect import Suspect
from idle_lantern.core.join import report as told
from idle_lantern.core.join.packed_warp import packed
from idle_lantern.core.registration.match.by_hand import HandTie
from idle_lantern.core.registration.solve.hand_held import HandHeld
from idle_lantern.core.registration.solve.parallax import Parallax
from idle_lantern.core.registration.solve.solve import Solution

_STAGES = ("read", "features", "match", "adjust", "refine", "warp", "seams", "blend", "suspects", "write")
#: Distance for which the offset of the pupil is told; it grows with that of the nearest things.
_PUPIL_AT_M = 2.0
#: Outlines keep within so many pixels of the reduced canvas on which seams are cut, and are traced on so many times as many:
#: those of neighbours then run within a quarter of such a pixel.
_OUTLINE_PX, _FINER = 0.75, 4


def report_of(
    solution: Solution,
    joined: Composed,
    *,
    ratio: tuple[float, float] | None = None,
    looked: LookedOver | None = None,
) -> told.Report:
    """The whole report of a finished join; ``looked`` tells places of the whole canvas, None where nobody looked."""
    poses, names = solution.poses, solution.frames.names
    timings = {**solution.timings_s, **joined.timings_s}
    canvas, box = joined.shown, joined.crop
    left, top = (box.left, box.top) if joined.cropped else (0, 0)
    shown = Rectangle(left, top, canvas.width, canvas.height)
    filled = joined.rim if isinstance(joined.rim, Filled) else None
    return told.Report(
        frames=tuple(_frame(solution, joined, f, (left, top)) for f in range(len(names))),
        groups=[[names[f] for f in g] for g in solution.groups if len(g) > 1],
        links=tuple(
            told.LinkRow(k.a, k.b, len(k.points_a) - k.assumed, k.inliers, _maybe(k.rms_px)) for k in solution.links
        ),
        ties=tuple(_tie(t, names, solution.frames.ids) for t in solution.ties),
        rms_px=_maybe(poses.rms_px),
        focal_sigma=_maybe(poses.focal_sigma),
        working_mp=solution.working_mp,
        canvas=_canvas(canvas),
        parallax=_parallax(solution),
        pupil=_pupil(solution),
        level=_level(solution),
        lean=_lean(solution),
        known_lens=solution.known,
        falloff=told.FalloffRow(joined.vignetting, math.exp(sum(joined.vignetting))),
        dust=tuple(
            told.DustRow(round(s.u, 1), round(s.v, 1), round(s.size_px, 1), round(s.loss, 3)) for s in joined.dust
        ),
        head_left_out=tuple(names[f] for f in joined.carried),
        suspects=None if looked is None else _suspects([*looked.suspects, *_invented(filled)], names, shown),
        ghosts=() if looked is None else tuple(_ghost(g, names, left, top) for g in looked.ghosts),
        invented_px=0 if filled is None else filled.pixels,
        rim=None if joined.rim is None else _rim(joined.rim),
        profile=joined.space,
        largest_rectangle=told.BoxRow(box.left, box.top, box.width, box.height),
        cropped=joined.cropped,
        crop=told.CropRow(left, top, shown.width, shown.height, None if ratio is None else ratio[0] / ratio[1]),
        tiles=told.TilesRow(len(joined.made), joined.tiles),
        timings_s={stage: round(timings.get(stage, 0.0), 4) for stage in _STAGES},
        peak_rss_mib=round(peak_rss_mib(), 1),
    )


def failure_report(frames: FrameSet | None, paths: Sequence[Path], reason: str) -> told.Report:
    """A report of a join that could not be: it still says why."""
    names = frames.names if frames else names_of(paths) if paths else ()
    infos = frames.infos if frames else [None] * len(names)
    return told.Report(
        error=reason,
        frames=tuple(
            told.FrameRow(
                file=name,
                used=False,
                reason=reason,
                width=info.width if info else None,
                height=info.height if info else None,
            )
            for name, info in zip(names, infos)
        ),
        timings_s=dict.fromkeys(_STAGES, 0.0),
        peak_rss_mib=round(peak_rss_mib(), 1),
    )


def _frame(solution: Solution, joined: Composed, f: int, corner: tuple[int, int]) -> told.FrameRow:
    info, poses = solution.frames.infos[f], solution.poses
    row = told.FrameRow(
        file=solution.frames.names[f],
        used=f in poses.frames,
        reason=solution.reasons.get(f),
        width=info.width,
        height=info.height,
        bits=info.bits,
    )
    if not row.used:
        return row
    i = poses.index(f)
    lens, rotation = poses.lenses[i], poses.world_from_camera[i]
    yaw, pitch, roll = (float(v) for v in np.degrees(rotations.to_yaw_pitch_roll(rotation)))
    sigma = UNSET if poses.sigma_rad is None else _maybe(math.degrees(poses.sigma_rad[i]))
    bend = poses.bend(i)
    return structs.replace(
        row,
        lens=told.LensRow(lens.model, lens.focal_px, lens.k1, lens.k2, lens.k3, lens.cx, lens.cy),
        pose=told.PoseRow(yaw, pitch, roll, _matrix(rotation), sigma),
        sigma_deg=sigma,
        gain=tuple(float(g) for g in joined.gains[i]),
        placed_by=solution.placed_by.get(f),
        shown_px=_outlines(joined, i, corner),
        image_circle_px=lens.circle_px if math.isfinite(lens.circle_px) else UNSET,
        local_warp_px=UNSET if bend is None else packed(bend),
    )


def _outlines(joined: Composed, i: int, corner: tuple[int, int]) -> list[list[tuple[int, int]]]:
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
    traced = (np.rint(((c - 0.5) / _FINER + first) * scale - 0.5 - np.array(corner)) for c in outlines)
    return [[(int(u), int(v)) for u, v in outline] for outline in traced]


def _canvas(canvas: Canvas) -> told.CanvasRow:
    (cx, cy) = canvas.centre_px
    return told.CanvasRow(
        canvas.projection.name, dict(canvas.projection.parameters), canvas.width, canvas.height, canvas.px_per_rad,
        (float(cx), float(cy)), _matrix(canvas.canvas_from_world), canvas.full_circle, canvas.reason, _stretch(canvas.stretch),
    )  # fmt: skip


def _stretch(stretch: Stretch | None) -> told.StretchRow | None:
    if stretch is None:
        return None
    rows = [[(float(x), float(y)) for x, y in row] for row in np.round(stretch.at, 3)]
    return told.StretchRow(stretch.origin, stretch.step, rows, stretch.period_px)


def _parallax(solution: Solution) -> told.ParallaxRow | told.CarriedRow | None:
    found = solution.parallax
    if found is None:
        return None
    if isinstance(found, HandHeld):
        return told.CarriedRow(found.near_share, found.largest_px, found.sentence())
    return told.ParallaxRow(
        told.OffAxis(*found.direction),
        _maybe(math.degrees(found.direction_sigma_rad)),
        found.near_share,
        _maybe(found.near_sigma),
        found.largest_px,
        found.sentence(),
    )


def _pupil(solution: Solution) -> told.PupilRow | None:
    """The pupil's offset in millimetres, if the nearest things that were matched stand so far off."""
    found = solution.parallax
    if not isinstance(found, Parallax):
        return None
    sigma = _maybe(round(found.near_sigma * _PUPIL_AT_M * 1000, 2))
    return told.PupilRow(round(found.offset_mm(_PUPIL_AT_M), 2), _PUPIL_AT_M, sigma)


def _level(solution: Solution) -> told.LevelRow | None:
    found = solution.level
    if found is None:
        return None
    lean, toward = math.degrees(found.lean_rad), math.degrees(found.lean_toward_rad)
    in_words = found.sentence(held_in_hand=isinstance(solution.parallax, HandHeld))
    return told.LevelRow(found.edges, _maybe(math.degrees(found.sigma_rad)), lean, toward, in_words)


def _lean(solution: Solution) -> told.LeanRow | None:
    """How the turning axis leaned, where edges in the frames tell the vertical."""
    found = solution.level
    if found is None:
        return None
    sigma = _maybe(math.degrees(found.lean_sigma_rad))
    return told.LeanRow(math.degrees(found.lean_rad), math.degrees(found.lean_toward_rad), sigma)


def _suspects(suspects: Sequence[Suspect], names: Sequence[str], shown: Rectangle) -> tuple[told.SuspectRow, ...]:
    """Those that the picture still shows after its crop, in its own pixels."""
    left, top = shown.left, shown.top
    return tuple(
        told.SuspectRow(
            round(s.u - left), round(s.v - top), round(s.width), round(s.height), s.kind, round(s.suspicion, 3),
            tuple(names[f] for f in s.frames), s.sentence, round(s.figure, 3), s.unit,
        )
        for s in suspects
        if left - s.width / 2 < s.u < left + shown.width + s.width / 2
        and top - s.height / 2 < s.v < top + shown.height + s.height / 2
    )  # fmt: skip


def _ghost(ghost: Ghost, names: Sequence[str], left: int, top: int) -> told.GhostRow:
    places = (
        told.GhostPlaceRow(
            round(p.u - left),
            round(p.v - top),
            round(p.width),
            round(p.height),
            names[p.frame],
            names[p.instead],
            p.shown,
        )
        for p in ghost.places
    )
    return told.GhostRow(ghost.sentence(names), tuple(places))


def _rim(rim: Stretched | Filled) -> told.RimRow:
    if isinstance(rim, Stretched):
        return told.RimRow("stretch", rim.sentence, largest=round(rim.largest, 3), bow_px=round(rim.bow_px, 2))
    return told.RimRow("fill", rim.sentence, invented_px=rim.pixels, left_open=tuple(rim.left))


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


def _matrix(rotation: np.ndarray) -> tuple[told.Triple, told.Triple, told.Triple]:
    one, two, three = ((float(x), float(y), float(z)) for x, y, z in rotation)
    return one, two, three


def _tie(tie: HandTie, names: Sequence[str], ids: Sequence[str]) -> told.TieRow:
    name, p = dict(zip(ids, names)), tie.point
    return told.TieRow(
        name.get(p.a, p.a), name.get(p.b, p.b), p.xy_a, p.xy_b, p.to_a, p.to_b, p.sigma_px,
        _maybe(tie.miss_px), tie.believed, tie.sentence or None,
    )  # fmt: skip


def _maybe(value: float) -> float | None:
    return float(value) if math.isfinite(value) else None
