"""The walk along the suspects of a joined picture, as plain values: no Qt, tested without a window."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from idle_lantern.app.stages.shown_model import Candidate, shown_at, shows_alone
from idle_lantern.core.compositing.canvas.warp import Tile
from idle_lantern.core.compositing.render.single_frame import FrameArea, frames_showing
from idle_lantern.core.geometry.sphere import azimuth_altitude, direction
from idle_lantern.core.join.request import JoinResult
from idle_lantern.core.outing.model import Outing, Verdict

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
class WalkStop:
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


def stops_of(outing: Outing, joined: JoinResult | None) -> tuple[WalkStop, ...]:
    """The suspects of a picture in the order of the walk, with what was said of them."""
    if joined is None:
        return ()
    ids = ids_by_name(joined)
    found = []
    for row in joined.report.suspects or ():
        ray = joined.canvas.directions(np.array([row.u, row.v]))
        azimuth, altitude = (math.degrees(float(a)) for a in azimuth_altitude(np.nan_to_num(ray)))
        frames = tuple(ids[name] for name in row.frames if name in ids)
        stop = WalkStop(
            row.u, row.v, row.width, row.height, row.kind, row.suspicion, frames, row.frames, row.sentence, row.figure,
            azimuth, altitude,
        )  # fmt: skip
        found.append(
            _with_verdict(stop, outing, math.degrees(max(stop.width, stop.height) / 2 / joined.canvas.px_per_rad))
        )
    return tuple(found)


def ids_by_name(joined: JoinResult) -> dict[str, str]:
    """Ids of the frames of a picture by the names that its report has for them."""
    return dict(zip((row.file for row in joined.report.frames), joined.frame_ids))


def _with_verdict(stop: WalkStop, outing: Outing, half_deg: float) -> WalkStop:
    within = max(_SAME_PLACE_DEG, half_deg)
    for said in reversed(outing.verdicts):
        across = (said.yaw_deg - stop.yaw_deg + 180) % 360 - 180
        near = math.hypot(across * math.cos(math.radians(stop.pitch_deg)), said.pitch_deg - stop.pitch_deg) <= within
        alike = abs(said.figure - stop.figure) <= _SAME_FIGURE * max(abs(said.figure), abs(stop.figure)) + 1e-9
        if said.kind == stop.kind and set(said.frames[:2]) == set(stop.frames[:2]) and near and alike:
            return replace(stop, said=said)
    return stop


def verdict_on(stop: WalkStop, word: str) -> Verdict:
    """Something said of a suspect."""
    return Verdict(stop.kind, stop.frames, round(stop.yaw_deg, 4), round(stop.pitch_deg, 4), stop.figure, word)


def next_open(stops: Sequence[WalkStop], at: int, step: int = 1) -> int:
    """The next stop on the way that is not called good, -1 where there is none; from ``at``, round and round."""
    for n in range(1, len(stops) + 1):
        k = (at + step * n) % len(stops)
        if stops[k].verdict != "good":
            return k
    return -1


def found_again(before: WalkStop, stops: Sequence[WalkStop]) -> int:
    """Which suspect of a picture made anew is an earlier one; -1 for none."""
    return next(
        (i for i, s in enumerate(stops) if s.kind == before.kind and abs(s.u - before.u) + abs(s.v - before.v) < _AGAIN_PX),
        -1,
    )  # fmt: skip


def summary(stops: Sequence[WalkStop], joined: JoinResult | None) -> str:
    """How the walk stands, in a sentence."""
    if joined is None:
        return ""
    if joined.report.suspects is None:
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


def stop_in_words(stop: WalkStop, at: int, count: int) -> str:
    """What is told of a suspect, the ``at``-th of so many."""
    said = f", {VERDICTS_IN_WORDS[stop.verdict]}" if stop.verdict else ""
    return (
        f"Place {at + 1} of {count}: {KINDS_IN_WORDS[stop.kind]}, suspicion {100 * stop.suspicion:.0f}\u00a0%{said}. "
        f"{stop.sentence}. Frames: {', '.join(stop.names[:3])}."
    )


def same_place(joined: JoinResult, before: WalkStop) -> WalkStop | None:
    """A place of an earlier picture in one that was made anew, by its direction; None where the picture does not show it."""
    place = joined.canvas.pixels(direction(math.radians(before.yaw_deg), math.radians(before.pitch_deg)))
    u, v = float(place[0]), float(place[1])
    if not (0 <= u < joined.canvas.width and 0 <= v < joined.canvas.height):
        return None
    found = own_stop(joined, u, v, max(before.width, before.height))
    return None if found is None else replace(found, width=before.width, height=before.height)


def no_suspect_in_words(stop: WalkStop) -> str:
    """What is told of a place that was a suspect before the picture was made anew."""
    return f"Nothing is suspicious here any more; the picture shows {stop.names[0]}. B blinks its frames, N goes on."


def own_in_words(stop: WalkStop) -> str:
    """What is told of a place that somebody chose."""
    return f"A place that you chose; the picture shows {stop.names[0]} there. B blinks its frames, T tries another one."


def off_in_words(file: str) -> str:
    """What is told when a frame was switched off."""
    return f"{file.rsplit('/', 1)[-1]} shows nowhere now; it still ties the others. Ctrl + Z takes it back."


def only_one_in_words(found: Sequence[Candidate]) -> str:
    """What is told where no other frame can be tried at a place."""
    if not found:
        return "No frame shows the middle of this place."
    return f"Only {found[0].name} shows this place, and the picture shows it already: there is no other frame to try."


def next_to_try(found: Sequence[Candidate], at: int) -> int | None:
    """The candidate to try after the ``at``-th, round and round, without the one that the picture shows; None where there is no other."""
    order = [(at + n) % len(found) for n in range(1, len(found) + 1)] if found else []
    return next((k for k in order if not found[k].shown), None)


def tried_in_words(candidate: Candidate, at: int, count: int) -> str:
    """What is told while a frame is laid over a place, the ``at``-th of so many that can be."""
    return f"Here {candidate.name} would show, {at + 1} of {count} that can. U uses it, T tries the next."


def seams_of(joined: JoinResult | None) -> list[list[tuple[float, float]]]:
    """Outlines of what the picture shows of each frame, in its pixels."""
    if joined is None:
        return []
    rows = joined.report.frames
    return [[(float(u), float(v)) for u, v in outline] for row in rows for outline in row.outlines_px]


def candidates(stop: WalkStop, joined: JoinResult | None) -> tuple[Candidate, ...]:
    """The frames that show the middle of a place, in the order in which they are tried: the others that the suspect names
    come first, the one to blame last. That which the picture shows there already is one of them, to be blinked and compared."""
    if joined is None or joined.solution is None:
        return ()
    solution = joined.solution
    showing = frames_showing(solution.poses, joined.canvas, stop.u, stop.v)
    area = FrameArea.ellipse(*area_of(stop))
    rows = [
        Candidate(i, joined.frame_ids[f], solution.frames.names[f], shows_alone(joined, i, area))
        for i in showing
        if (f := solution.poses.frames[i]) < len(joined.frame_ids)
    ]
    return tuple(sorted(rows, key=lambda c: (c.frame in stop.frames[:1], c.frame not in stop.frames)))


def tile_about(stop: WalkStop, joined: JoinResult) -> Tile:
    """The window of the picture that is looked at with a stop."""
    width = min(_MOST_PX, round(stop.width) + 2 * _ROUND_PX)
    height = min(_MOST_PX, round(stop.height) + 2 * _ROUND_PX)
    left, top = max(0, round(stop.u - width / 2)), max(0, round(stop.v - height / 2))
    right, bottom = min(joined.canvas.width, left + width), min(joined.canvas.height, top + height)
    return Tile(left, top, right - left, bottom - top)


def area_of(stop: WalkStop) -> tuple[float, float, float, float]:
    """The ellipse that is given to one frame: middle and half axes in pixels of the picture."""
    return stop.u, stop.v, max(24.0, stop.width / 2 * _WIDER), max(24.0, stop.height / 2 * _WIDER)


def own_stop(joined: JoinResult, u: float, v: float, size_px: float) -> WalkStop | None:
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
    return WalkStop(u, v, size_px, size_px, "", 0.0, (joined.frame_ids[f],), names, "", 0.0, azimuth, altitude)
