"""What is changed by hand on the joined picture, as edits of the frames' masks: no Qt, tested without a window."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from idle_lantern.app.stages.shown_model import Candidate, alone, shown_at, shows_alone
from idle_lantern.app.stages.walk_model import WalkStop, area_of
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.compositing.canvas.warp import Tile
from idle_lantern.core.compositing.render.outline import outlined
from idle_lantern.core.compositing.render.single_frame import FrameArea, frames_showing, hide_there, let_show
from idle_lantern.core.frames.masks import Mask, mask_bytes, read_mask
from idle_lantern.core.join.request import JoinResult
from idle_lantern.core.outing import assets, document
from idle_lantern.core.outing.edits import Edit, paint_several
from idle_lantern.core.outing.model import Outing
from idle_lantern.core.registration.solve.poses import Poses


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


def take_here(outing: Outing, folder: Path, joined: JoinResult, stop: WalkStop, candidate: Candidate) -> Edit:
    """The edit that lets a frame show at a place; what was painted elsewhere stays.

    Raises
    ------
    InputError
        The frames of the join are gone, or a mask cannot be read or kept.
    """
    area = FrameArea.ellipse(*area_of(stop))
    _refuse_as_it_is(joined, candidate.at, area)
    return show_there(outing, folder, joined, candidate, area)


def show_there(outing: Outing, folder: Path, joined: JoinResult, candidate: Candidate, area: FrameArea) -> Edit:
    """The edit that lets a frame show over an area; raises as ``masks_so_far``."""
    ids, before = masks_so_far(outing, folder, joined)
    changed = let_show(_poses_of(joined), joined.canvas, candidate.at, area, before)
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
    changed = hide_there(poses, canvas, shown, FrameArea.stroke(points, radius_px), before)
    names = ", ".join(joined.solution.frames.names[poses.frames[i]] for i in sorted(shown))
    return paint_masks(folder, f"Hide a part of {names}", ids, changed)


def keep_stroke(outing: Outing, folder: Path, joined: JoinResult, points: Points, radius_px: float) -> Edit | Kept:
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
    area = FrameArea.stroke(points, radius_px)
    return keep_area(outing, folder, joined, area, best, "Let {} alone show a thing")


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
    area = FrameArea.stroke(points, radius_px)
    _refuse_as_it_is(joined, grows, area)
    ids, before = masks_so_far(outing, folder, joined)
    changed = let_show(poses, canvas, grows, area, before)
    return paint_masks(folder, f"Move a seam of {_name_of(joined, grows)}", ids, changed)


def _poses_of(joined: JoinResult) -> Poses:
    if joined.solution is None:
        raise InputError("The frames of this join are gone", remedy="Join again")
    return joined.solution.poses


def _name_of(joined: JoinResult, frame: int) -> str:
    assert joined.solution is not None
    return joined.solution.frames.names[joined.solution.poses.frames[frame]]


def figure_at(joined: JoinResult, u: float, v: float, reach_px: float) -> tuple[FrameArea, int]:
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
    return FrameArea(float(left), float(top), 1.0, found.astype(np.uint8)), best


@dataclass(frozen=True)
class Kept:
    """An edit that keeps what the picture shows already, so that no later seam runs through it, and what to say of it."""

    edit: Edit
    told: str


def keep_area(
    outing: Outing,
    folder: Path,
    joined: JoinResult,
    area: FrameArea,
    frame: int,
    title: str = "Keep a whole figure by {}",
) -> Edit | Kept:
    """The edit after which one frame (by place in the poses) alone shows an area, so that no seam runs through it.

    Raises
    ------
    InputError
        As of ``take_here``.
    """
    ids, before = masks_so_far(outing, folder, joined)
    poses, name = _poses_of(joined), _name_of(joined, frame)
    edit = paint_masks(folder, title.format(name), ids, let_show(poses, joined.canvas, frame, area, before))
    if shows_alone(joined, frame, area):
        return Kept(
            edit, f"{name} alone shows all of that already and keeps it from now on; the picture does not change."
        )
    return edit


def _refuse_as_it_is(joined: JoinResult, frame: int, area: FrameArea) -> None:
    """Refuse an act that would change nothing.

    Raises
    ------
    InputError
        The picture shows the area by that frame (by place in the poses) alone already.
    """
    if shows_alone(joined, frame, area):
        raise InputError(
            f"{_name_of(joined, frame)} alone shows all of that already",
            remedy="Nothing was changed: try another frame with T, or paint elsewhere",
        )


def _shown_along(joined: JoinResult, points: Points) -> set[int]:
    return {i for u, v in points if (i := shown_at(joined, u, v)) is not None}
