"""Tie points and lines set by hand, as plain values: which frames need one, how well they agree. No Qt, tested without a window."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry.lenses import Lens, transfer
from idle_lantern.core.geometry.sphere import azimuth_altitude
from idle_lantern.core.join.request import JoinResult
from idle_lantern.core.outing.model import FrameRef, Outing
from idle_lantern.core.request.choices import TiePoint

if TYPE_CHECKING:
    from idle_lantern.core.frames.reading import FrameInfo
    from idle_lantern.core.registration.match.line_snapping import SnappedLine
    from idle_lantern.core.registration.match.snapping import Snapped

Place = tuple[float, float]

#: How far a hand misses a line, in pixels of the screen, and of the frame at least and at most.
_HAND_PX, _REACH_PX = 3.0, (8.0, 40.0)
#: A point that misses by more is told to be doubtful.
DOUBTFUL_PX = 3.0
#: Points that fix a pair of frames, and make sure of it.
ENOUGH, SURE = 2, 3


@dataclass(frozen=True)
class Tie:
    """A point or line between the two frames that are shown: its places in them (a line has two), and by how much it misses, None
    where nothing tells."""

    point: TiePoint
    left: tuple[Place, ...]
    right: tuple[Place, ...]
    miss_px: float | None
    #: How far the right place lies beside where the turn of all ties puts the left one, in pixels of the right frame; None for lines.
    off_px: Place | None = None

    @property
    def is_line(self) -> bool:
        """Whether it is a line and no point."""
        return len(self.left) > 1

    def told(self, number: int) -> str:
        """One line of the list."""
        miss = "the turn is not known yet" if self.miss_px is None else f"misses by {self.miss_px:.2f} px"
        return f"{number}  {'line' if self.is_line else 'point'}, {miss}"


def pair_to_tie(outing: Outing, joined: JoinResult | None, chosen: str | None) -> tuple[str, str] | None:
    """The two frames to tie: the one that was chosen, else one that is not in the picture, and its neighbour in the order of
    taking."""
    refs = outing.frames_to_join()
    if len(refs) < 2:
        return None
    ids = [r.id for r in refs]
    used = set(_used(joined))
    loose = [i for i, frame in enumerate(ids) if used and frame not in used]
    at = ids.index(chosen) if chosen in ids else loose[0] if loose else 0
    neighbours = [i for i in (at - 1, at + 1) if 0 <= i < len(ids)]
    other = next((i for i in neighbours if ids[i] in used), neighbours[0])
    first, second = sorted((at, other))
    return ids[first], ids[second]


def _used(joined: JoinResult | None) -> Sequence[str]:
    if joined is None or joined.solution is None:
        return ()
    return [joined.frame_ids[f] for f in joined.solution.poses.frames if f < len(joined.frame_ids)]


def loose_frames(outing: Outing, joined: JoinResult | None) -> list[FrameRef]:
    """Frames that should be in the picture and that nothing ties."""
    if joined is None or joined.solution is None:
        return []
    used = set(_used(joined))
    return [r for r in outing.frames_to_join() if r.id not in used]


def lens_for(joined: JoinResult | None, info: FrameInfo) -> Lens | None:
    """The lens of a frame: as the join found it, else as its metadata tells; None where neither does."""
    if joined is not None and joined.solution is not None:
        lens = joined.solution.poses.lenses[0]
        if (lens.width, lens.height) == (info.width, info.height):
            return lens
    focal = info.metadata.focal_px(info.width, info.height)
    return None if focal is None else Lens("rectilinear", focal, info.width, info.height)


def ties_between(outing: Outing, left: str, right: str, lenses: tuple[Lens | None, Lens | None]) -> list[Tie]:
    """The points and lines between two frames, each with its miss."""
    mine = [p for p in outing.choices.points if {p.a, p.b} == {left, right}]
    points = [p.seen_from(left) for p in mine]
    misses: list[float | None] = [None] * len(points)
    offs: list[Place | None] = [None] * len(points)
    one, other = lenses
    if one is not None and other is not None and len(points) >= ENOUGH:
        # loads the engine, which no start needs
        from idle_lantern.core.registration.match.by_hand import links_by_hand, misses_px

        misses = [m if math.isfinite(m) else None for m in misses_px(points, (left, right), (one, other))]
        links = links_by_hand(points, (left, right), (one, other))
        if links:
            there, seen = transfer(one, other, links[0].b_from_a, np.array([t.xy_a for t in points]))
            offs = [
                (t.xy_b[0] - float(u), t.xy_b[1] - float(v)) if ok and t.to_a is None else None
                for t, (u, v), ok in zip(points, there, seen)
            ]
    return [
        Tie(p, _ends(t.xy_a, t.to_a), _ends(t.xy_b, t.to_b), miss, off)
        for p, t, miss, off in zip(mine, points, misses, offs)
    ]


def frames_on_strip(
    outing: Outing, joined: JoinResult | None
) -> tuple[list[tuple[float, float]], list[tuple[int, int, float]]]:
    """Directions of the frames that are to be joined, in degrees, and links between them as places in their list with a quality.

    By the join where it knows them, else as they were logged; where any is known by neither, all stand in their order.
    """
    refs = outing.frames_to_join()
    at = {ref.id: i for i, ref in enumerate(refs)}
    known: dict[str, tuple[float, float]] = {
        r.id: (r.yaw_deg, r.pitch_deg) for r in refs if r.yaw_deg is not None and r.pitch_deg is not None
    }
    links: list[tuple[int, int, float]] = []
    if joined is not None and joined.solution is not None:
        ids, poses = list(joined.frame_ids), joined.solution.poses
        azimuth, altitude = (np.degrees(v) for v in azimuth_altitude(poses.world_from_camera[:, :, 2]))
        known |= {ids[f]: (float(azimuth[i]), float(altitude[i])) for i, f in enumerate(poses.frames) if f < len(ids)}
        most = max((link.inliers for link in joined.solution.links), default=1)
        for link in joined.solution.links:
            if max(link.a, link.b) < len(ids) and {ids[link.a], ids[link.b]} <= set(at):
                links.append((at[ids[link.a]], at[ids[link.b]], link.inliers / most))
    if any(r.id not in known for r in refs):
        return [(float(i), 0.0) for i in range(len(refs))], links
    return [known[r.id] for r in refs], links


def _ends(start: Place, to: Place | None) -> tuple[Place, ...]:
    return (start,) if to is None else (start, to)


def made_exact(
    pixels: tuple[Array, Array],
    places: tuple[tuple[float, float], tuple[float, float]],
    lenses: tuple[Lens | None, Lens | None],
    ties: Sequence[Tie],
) -> Snapped:
    """A new point as exact as both frames show it, the shear of wide lenses reckoned with as far as the turn is known."""
    from idle_lantern.core.registration.match.by_hand import links_by_hand  # loads the engine, which no start needs
    from idle_lantern.core.registration.match.snapping import drawn_as, snapped

    one, other = lenses
    warp = None
    if one is not None and other is not None:
        points = (t for t in ties if not t.is_line)
        so_far = [
            *(TiePoint("one", t.left[0], "other", t.right[0]) for t in points),
            TiePoint("one", places[0], "other", places[1]),
        ]
        links = links_by_hand(so_far, ("one", "other"), (one, other))
        if links:  # none where the points contradict each other
            warp = drawn_as(one, other, places[0], places[1], links[0].b_from_a)
    return snapped(pixels[0], places[0], pixels[1], places[1], warp)


def line_made_exact(
    pixels: tuple[Array, Array],
    lines: tuple[tuple[Place, Place], tuple[Place, Place]],
    lenses: tuple[Lens | None, Lens | None],
    zooms: tuple[float, float] = (1.0, 1.0),
) -> tuple[SnappedLine, SnappedLine]:
    """A new line as exact as both frames show it: the same side of it is the brighter one in both. ``zooms``, at which it was drawn,
    tell how far a hand may miss."""
    from idle_lantern.core.registration.match.line_snapping import SnappedLine, snapped_line  # loads the engine

    first, second = lines
    (across, down), (also_across, also_down) = ((to[0] - start[0], to[1] - start[1]) for start, to in lines)
    if across * also_across + down * also_down < 0:
        second = (second[1], second[0])  # drawn the other way round
    reaches = [min(max(_HAND_PX / max(zoom, 1e-3), _REACH_PX[0]), _REACH_PX[1]) for zoom in zooms]
    one = snapped_line(pixels[0], first, lenses[0], reach_px=reaches[0])
    other = snapped_line(pixels[1], second, lenses[1], reach_px=reaches[1], brighter=one.brighter)
    if one.brighter and other.brighter:
        return one, other
    # an edge in one of the frames only may be another one
    by_hand = (SnappedLine(ends, 0.0, TiePoint.sigma_px, 0) for ends in (first, second))
    return next(by_hand), next(by_hand)


def told(ties: Sequence[Tie], left: str, right: str) -> str:
    """What is still to be done with a pair of frames, in a sentence."""
    if not ties:
        return (
            f"Show one thing that both {left} and {right} show: a corner, a window, the tip of a branch. Click it in both. "
            "Where there is no such point, draw along something straight: press L."
        )
    worst = max((t.miss_px for t in ties if t.miss_px is not None), default=0.0)
    if worst > DOUBTFUL_PX:
        return (
            f"These points disagree by {worst:.0f} px: one of them is not the same thing in both frames. Take it away."
        )
    lines = sum(t.is_line for t in ties)
    if len(ties) < ENOUGH:
        if lines:
            return "A line says nothing along itself: one more, a point or a line that runs another way."
        return "One more, far from the first: two points fix the turn between the frames."
    counted = [_counted(n, what) for n, what in ((len(ties) - lines, "point"), (lines, "line")) if n]
    what = " and ".join(counted)
    if len(ties) < SURE:
        return f"{what} fix it. A third tie makes sure that each is the same thing in both. Then join."
    return f"{what}, which agree to {worst:.1f} px. Join, or tie other frames."


def _counted(number: int, what: str) -> str:
    return f"{number} {what}{'' if number == 1 else 's'}"


def is_cut(outing: Outing, one: str, other: str) -> bool:
    """Whether two frames are not to be matched with each other."""
    return any(set(pair) == {one, other} for pair in outing.choices.cut_links)


def link_told(outing: Outing, joined: JoinResult | None, one: str, other: str) -> str:
    """What ties two frames by themselves: how many points, how well they agree; or that it is cut."""
    if is_cut(outing, one, other):
        return "The link between these two is cut: the join does not match them. Points set by hand still count."
    if joined is None or one == other:
        return ""
    ids = list(joined.frame_ids)
    for row in joined.report.links:
        if row.a < len(ids) and row.b < len(ids) and {ids[row.a], ids[row.b]} == {one, other}:
            return (
                f"{row.inliers} points tie them by themselves, to {row.rms_px or 0:.2f} px. If what agrees there is not the same "
                "thing (waves, windows that repeat), cut it."
            )
    return "Nothing ties these two by itself."
