"""The walk along the suspects of a joined picture, as plain values: no Qt, tested without a window."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.frames.masks import Mask, mask_bytes, read_mask
from idle_lantern.core.frames.reading import read_again
from idle_lantern.core.geometry.sphere import azimuth_altitude
from idle_lantern.core.join.asking import JoinResult
from idle_lantern.core.join.canvas.warp import Tile
from idle_lantern.core.join.render.outline import outlined
from idle_lantern.core.join.render.single import Area, frame_alone, frames_showing, hide_there, let_show
from idle_lantern.core.join.solve.poses import Poses
from idle_lantern.core.outing import assets, document
from idle_lantern.core.outing.edits import Edit, paint_several
from idle_lantern.core.outing.model import Outing, Verdict

Array = NDArray[Any]

KINDS_IN_WORDS = {
    "double": "Double", "cut": "Cut", "step": "Step", "soft": "Soft", "colour": "Band", "wedge": "Dark wedge",
    "hole": "Hole", "invented": "Invented", "parallax": "Parallax",
}  # fmt: skip
VERDICTS_IN_WORDS = {"good": "called good", "mend": "to be mended", "later": "left for later", "": "not judged yet"}
#: A verdict holds within this angle, or within the place's own size, and while the figure is within this share.
_SAME_PLACE_DEG, _SAME_FIGURE = 0.4, 0.35
#: A suspect so near to an earlier one, in pixels, is the same.
_AGAIN_PX = 40.0
#: Pixels shown round a place that is looked at frame by frame, and the largest side of what is shown.
_ROUND_PX, _MOST_PX = 260, 2200
#: A place that is given to a frame is so much larger than the suspect.
_WIDER = 1.25


@dataclass(frozen=True)
class Stop:
    """A suspect of the open picture. ``frames`` are ids of the outing, ``names`` the files; ``verdict`` is empty while nothing is said."""

    u: float
    v: float
    width: float
    height: float
    kind: str
    suspicion: float
    frames: tuple[str, ...]
    names: tuple[str, ...]
    sentence: str
    figure: float
    yaw_deg: float
    pitch_deg: float
    said: Verdict | None = None

    @property
    def verdict(self) -> str:
        """What was said of it."""
        return "" if self.said is None else self.said.verdict


def stops_of(outing: Outing, joined: JoinResult | None) -> tuple[Stop, ...]:
    """The suspects of a picture in the order of the walk, with what was said of them."""
    if joined is None:
        return ()
    files = [str(row["file"]) for row in joined.report.get("frames", ())]
    ids = dict(zip(files, joined.frame_ids))
    found = []
    for row in joined.report.get("suspects") or ():
        ray = joined.canvas.directions(np.array([float(row["u"]), float(row["v"])]))
        azimuth, altitude = (math.degrees(float(a)) for a in azimuth_altitude(np.nan_to_num(ray)))
        frames = tuple(ids[name] for name in row["frames"] if name in ids)
        stop = Stop(
            float(row["u"]), float(row["v"]), float(row["width"]), float(row["height"]), str(row["kind"]),
            float(row["suspicion"]), frames, tuple(row["frames"]), str(row["sentence"]), float(row.get("figure", 0)),
            azimuth, altitude,
        )  # fmt: skip
        found.append(
            _with_verdict(stop, outing, math.degrees(max(stop.width, stop.height) / 2 / joined.canvas.px_per_rad))
        )
    return tuple(found)


def _with_verdict(stop: Stop, outing: Outing, half_deg: float) -> Stop:
    within = max(_SAME_PLACE_DEG, half_deg)
    for said in reversed(outing.verdicts):
        across = (said.yaw_deg - stop.yaw_deg + 180) % 360 - 180
        near = math.hypot(across * math.cos(math.radians(stop.pitch_deg)), said.pitch_deg - stop.pitch_deg) <= within
        alike = abs(said.figure - stop.figure) <= _SAME_FIGURE * max(abs(said.figure), abs(stop.figure)) + 1e-9
        if said.kind == stop.kind and set(said.frames[:2]) == set(stop.frames[:2]) and near and alike:
            return replace(stop, said=said)
    return stop


def verdict_on(stop: Stop, word: str) -> Verdict:
    """Something said of a suspect."""
    return Verdict(stop.kind, stop.frames, round(stop.yaw_deg, 4), round(stop.pitch_deg, 4), stop.figure, word)


def next_open(stops: Sequence[Stop], at: int, step: int = 1) -> int:
    """The next stop on the way that is not called good, -1 where there is none; from ``at``, round and round."""
    for n in range(1, len(stops) + 1):
        k = (at + step * n) % len(stops)
        if stops[k].verdict != "good":
            return k
    return -1


def found_again(before: Stop, stops: Sequence[Stop]) -> int:
    """Which suspect of a picture made anew is an earlier one; -1 for none."""
    return next(
        (i for i, s in enumerate(stops) if s.kind == before.kind and abs(s.u - before.u) + abs(s.v - before.v) < _AGAIN_PX),
        -1,
    )  # fmt: skip


def summary(stops: Sequence[Stop], joined: JoinResult | None) -> str:
    """How the walk stands, in a sentence."""
    if joined is None or "suspects" not in joined.report:
        return ""
    if joined.report["suspects"] is None:
        return "This picture could not be looked over: look along its seams yourself."
    if not stops:
        return "Nothing in this picture looks suspicious."
    likely = sum(s.suspicion >= 0.5 for s in stops)
    said = [s.verdict for s in stops]
    if len(stops) == 1:
        told = f"1 place to look at{', likely a fault' * likely}"
    else:
        some = "all of them" if likely == len(stops) else f"{likely} of them"
        told = f"{len(stops)} places to look at, {some} likely faults"
    parts = [
        f"{said.count(w)} {words}"
        for w, words in (("good", "good"), ("mend", "to mend"), ("later", "for later"))
        if w in said
    ]
    return f"{told}: {', '.join(parts)}." if parts else f"{told}."


def stop_in_words(stop: Stop, at: int, count: int) -> str:
    """What is told of a suspect, the ``at``-th of so many."""
    said = f", {VERDICTS_IN_WORDS[stop.verdict]}" if stop.verdict else ""
    return (
        f"Place {at + 1} of {count}: {KINDS_IN_WORDS[stop.kind]}, suspicion {100 * stop.suspicion:.0f} %{said}. "
        f"{stop.sentence}. Frames: {', '.join(stop.names[:3])}."
    )


def own_in_words(stop: Stop) -> str:
    """What is told of a place that somebody chose."""
    return f"A place that you chose; the picture shows {stop.names[0]} there. B blinks its frames, T tries another one."


def off_in_words(file: str) -> str:
    """What is told when a frame was switched off."""
    return f"{file.rsplit('/', 1)[-1]} shows nowhere now; it still ties the others. Ctrl + Z takes it back."


def tried_in_words(candidate: Candidate, at: int, count: int) -> str:
    """What is told while a frame is laid over a place, the ``at``-th of so many that can be."""
    return f"Here {candidate.name} would show, {at + 1} of {count} that can. T tries the next."


def seams_of(joined: JoinResult | None) -> list[list[tuple[float, float]]]:
    """Outlines of what the picture shows of each frame, in its pixels."""
    if joined is None:
        return []
    rows = joined.report.get("frames", ())
    return [[(float(u), float(v)) for u, v in outline] for row in rows for outline in row.get("shown_px") or ()]


@dataclass(frozen=True)
class Candidate:
    """A frame that shows a place: its number in the poses, id and file name."""

    at: int
    frame: str
    name: str


def candidates(stop: Stop, joined: JoinResult | None) -> tuple[Candidate, ...]:
    """The frames that show the middle of a place, in the order in which they are tried: the others that the suspect names
    come first, the one to blame last."""
    if joined is None or joined.solution is None:
        return ()
    solution = joined.solution
    showing = frames_showing(solution.poses, joined.canvas, stop.u, stop.v)
    rows = [
        Candidate(i, joined.frame_ids[f], solution.frames.names[f])
        for i in showing
        if (f := solution.poses.frames[i]) < len(joined.frame_ids)
    ]
    return tuple(sorted(rows, key=lambda c: (c.frame in stop.frames[:1], c.frame not in stop.frames)))


def tile_about(stop: Stop, joined: JoinResult) -> Tile:
    """The window of the picture that is looked at with a stop."""
    width = min(_MOST_PX, round(stop.width) + 2 * _ROUND_PX)
    height = min(_MOST_PX, round(stop.height) + 2 * _ROUND_PX)
    left, top = max(0, round(stop.u - width / 2)), max(0, round(stop.v - height / 2))
    right, bottom = min(joined.canvas.width, left + width), min(joined.canvas.height, top + height)
    return Tile(left, top, right - left, bottom - top)


def alone(joined: JoinResult, candidate: Candidate, tile: Tile) -> Array | None:
    """A frame by itself on a window of the picture, (h, w, 4) uint8.

    Raises
    ------
    UnreadableFrame
        Its file is gone or damaged.
    """
    solution = joined.solution
    assert solution is not None
    f = solution.poses.frames[candidate.at]
    row = joined.report["frames"][f]
    terms = joined.report.get("falloff", {}).get("terms", (0.0, 0.0))
    picture = read_again(solution.frames.infos[f])
    return frame_alone(
        solution.poses, joined.canvas, candidate.at, picture, np.asarray(row["gain"], float),
        (float(terms[0]), float(terms[1])), tile,
    )  # fmt: skip


def sharpest_of(found: Sequence[Candidate], views: Mapping[str, Array]) -> int | None:
    """Which of the frames of a place shows most fine detail there, by their views of it as ``alone`` gives them; None while one of them
    is not there, or where there is nothing to choose from."""
    from idle_lantern.core.join.suspects.sharpness import sharpest  # loads the engine, which no start needs

    if len(found) < 2 or any(c.frame not in views for c in found):
        return None
    return sharpest([views[c.frame] for c in found])


def area_of(stop: Stop) -> tuple[float, float, float, float]:
    """The ellipse that is given to one frame: middle and half axes in pixels of the picture."""
    return stop.u, stop.v, max(24.0, stop.width / 2 * _WIDER), max(24.0, stop.height / 2 * _WIDER)


def own_stop(joined: JoinResult, u: float, v: float, size_px: float) -> Stop | None:
    """A place that somebody chose, as a stop of its own; None where the picture shows nothing."""
    if joined.solution is None:
        return None
    shown = shown_at(joined, u, v)
    if shown is None:
        return None
    f = joined.solution.poses.frames[shown]
    ray = joined.canvas.directions(np.array([u, v]))
    azimuth, altitude = (math.degrees(float(a)) for a in azimuth_altitude(np.nan_to_num(ray)))
    names = (joined.solution.frames.names[f],)
    return Stop(u, v, size_px, size_px, "", 0.0, (joined.frame_ids[f],), names, "", 0.0, azimuth, altitude)


def shown_at(joined: JoinResult, u: float, v: float) -> int | None:
    """Place in the poses of the frame that the picture shows at a pixel, None where nothing can be told."""
    solution = joined.solution
    if solution is None:
        return None
    showing = frames_showing(solution.poses, joined.canvas, u, v)
    rows = joined.report.get("frames", ())
    for i in showing:
        f = solution.poses.frames[i]
        for outline in (rows[f].get("shown_px") if f < len(rows) else None) or ():
            if cv2.pointPolygonTest(np.asarray(outline, np.float32), (float(u), float(v)), measureDist=False) >= 0:
                return i
    return showing[0] if showing else None


def masks_so_far(outing: Outing, folder: Path, joined: JoinResult) -> tuple[dict[int, str], dict[int, Mask]]:
    """Ids of the joined frames and what is painted on them, by place in the poses.

    Raises
    ------
    InputError
        The frames of the join are gone, or a mask cannot be read.
    """
    solution = joined.solution
    if solution is None:
        raise InputError("The frames of this join are gone", remedy="Join again")
    ids = {i: joined.frame_ids[f] for i, f in enumerate(solution.poses.frames) if f < len(joined.frame_ids)}
    before = {}
    for i, frame in ids.items():
        file = document.mask_file(folder, outing, frame)
        if file is not None:
            before[i] = read_mask(file)
    return ids, before


def paint_masks(folder: Path, title: str, ids: Mapping[int, str], changed: Mapping[int, Mask]) -> Edit:
    """The edit that lets masks stand for what is painted on frames, by place in the poses."""
    painted: Mapping[str, str | None] = {
        ids[i]: assets.put(folder, mask_bytes(m), document.MASK_ASSET) if m.hide.any() or m.keep.any() else None
        for i, m in changed.items()
        if i in ids
    }
    return paint_several(title, painted)


def take_here(outing: Outing, folder: Path, joined: JoinResult, stop: Stop, candidate: Candidate) -> Edit:
    """The edit that lets a frame show at a place; what was painted elsewhere stays.

    Raises
    ------
    InputError
        The frames of the join are gone, or a mask cannot be read or kept.
    """
    ids, before = masks_so_far(outing, folder, joined)
    assert joined.solution is not None
    area = Area.ellipse(*area_of(stop))
    changed = let_show(joined.solution.poses, joined.canvas, candidate.at, area, before)
    return paint_masks(folder, f"Let {candidate.name} show at a place", ids, changed)


Points = Sequence[tuple[float, float]]


def hide_stroke(outing: Outing, folder: Path, joined: JoinResult, points: Points, radius_px: float) -> Edit:
    """The edit after which what the picture shows under a stroke no longer shows: the frames behind it take its place.

    Raises
    ------
    InputError
        No other frame shows the place, or as of ``take_here``.
    """
    ids, before = masks_so_far(outing, folder, joined)
    assert joined.solution is not None
    poses, canvas = joined.solution.poses, joined.canvas
    shown = _shown_along(joined, points)
    if not shown:
        raise InputError("The picture shows nothing there", remedy="Paint on what it shows")
    for u, v in points:
        if set(frames_showing(poses, canvas, u, v)) <= shown:
            name = joined.solution.frames.names[poses.frames[min(shown)]]
            only = f"Only {name} shows all of that" if len(shown) == 1 else "No other frame shows all of that"
            raise InputError(f"{only}: hiding it would leave a hole", remedy="Paint less, or fill the rim afterwards")
    changed = hide_there(poses, canvas, shown, Area.stroke(points, radius_px), before)
    names = ", ".join(joined.solution.frames.names[poses.frames[i]] for i in sorted(shown))
    return paint_masks(folder, f"Hide a part of {names}", ids, changed)


def keep_stroke(outing: Outing, folder: Path, joined: JoinResult, points: Points, radius_px: float) -> Edit:
    """The edit after which one frame shows all that a stroke covers, so that no seam runs through it: the one that the
    picture shows under most of it.

    Raises
    ------
    InputError
        That frame does not show all of it, or as of ``take_here``.
    """
    poses, canvas = _poses_of(joined), joined.canvas
    along = [i for u, v in points if (i := shown_at(joined, u, v)) is not None]
    if not along:
        raise InputError("The picture shows nothing there", remedy="Paint on what it shows")
    best = max(
        set(along), key=lambda i: (sum(i in frames_showing(poses, canvas, u, v) for u, v in points), along.count(i))
    )
    return _alone_along(outing, folder, joined, best, points, radius_px, "Let {} alone show a thing")


def move_seam(outing: Outing, folder: Path, joined: JoinResult, points: Points, radius_px: float) -> Edit:
    """The edit after which the frame that shows where a stroke begins shows all along it: the seam goes where it was dragged to.

    Raises
    ------
    InputError
        That frame does not show all of it, or as of ``take_here``.
    """
    poses, canvas = _poses_of(joined), joined.canvas
    grows = shown_at(joined, *points[0]) if points else None
    if grows is None:
        raise InputError("The picture shows nothing there", remedy="Press on what it shows, and drag across a seam")
    if not all(grows in frames_showing(poses, canvas, u, v) for u, v in points):
        raise InputError(
            f"{_name_of(joined, grows)} does not reach that far", remedy="Drag within what both frames show"
        )
    return _alone_along(outing, folder, joined, grows, points, radius_px, "Move a seam of {}")


def _alone_along(
    outing: Outing, folder: Path, joined: JoinResult, frame: int, points: Points, radius_px: float, title: str
) -> Edit:
    """The edit after which one frame (by place in the poses) shows all along a stroke; its name goes into the title."""
    ids, before = masks_so_far(outing, folder, joined)
    changed = let_show(_poses_of(joined), joined.canvas, frame, Area.stroke(points, radius_px), before)
    return paint_masks(folder, title.format(_name_of(joined, frame)), ids, changed)


def _poses_of(joined: JoinResult) -> Poses:
    if joined.solution is None:
        raise InputError("The frames of this join are gone", remedy="Join again")
    return joined.solution.poses


def _name_of(joined: JoinResult, frame: int) -> str:
    assert joined.solution is not None
    return joined.solution.frames.names[joined.solution.poses.frames[frame]]


def figure_at(joined: JoinResult, u: float, v: float, reach_px: float) -> tuple[Area, int]:
    """The whole thing at a place of the picture, by its outline, and the frame (by place in the poses) that shows it there.

    ``reach_px`` is how far the thing may reach from the place.

    Raises
    ------
    InputError
        Nothing stands out there, or the picture shows nothing.
    UnreadableFrame
        The frame is gone or damaged.
    """
    best = shown_at(joined, u, v)
    if best is None or joined.solution is None:
        raise InputError("The picture shows nothing there", remedy="Click on a thing that it shows")
    left, top = max(0, round(u - reach_px)), max(0, round(v - reach_px))
    right = min(joined.canvas.width, round(u + reach_px) + 1)
    bottom = min(joined.canvas.height, round(v + reach_px) + 1)
    tile = Tile(left, top, right - left, bottom - top)
    f = joined.solution.poses.frames[best]
    seen = alone(joined, Candidate(best, joined.frame_ids[f], joined.solution.frames.names[f]), tile)
    found = None if seen is None else outlined(seen, u - left, v - top)
    if found is None:
        raise InputError(
            "Nothing stands out there",
            remedy="Zoom in so that the thing fills a good part of the view, or paint with A",
        )
    return Area(float(left), float(top), 1.0, found.astype(np.uint8)), best


def keep_figure(outing: Outing, folder: Path, joined: JoinResult, area: Area, frame: int) -> Edit:
    """The edit after which one frame alone shows a thing, so that no seam runs through it.

    Raises
    ------
    InputError
        As of ``take_here``.
    """
    ids, before = masks_so_far(outing, folder, joined)
    assert joined.solution is not None
    changed = let_show(joined.solution.poses, joined.canvas, frame, area, before)
    name = joined.solution.frames.names[joined.solution.poses.frames[frame]]
    return paint_masks(folder, f"Keep a whole figure by {name}", ids, changed)


def _shown_along(joined: JoinResult, points: Points) -> set[int]:
    return {i for u, v in points if (i := shown_at(joined, u, v)) is not None}
