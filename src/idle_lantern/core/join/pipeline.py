"""Frames in, picture out: the only module that knows the order of it all.

``solve`` finds where the frames belong, ``render.compose`` makes a picture of any
canvas from that; ``join`` does both and writes the result. ``service`` is how the window,
the command line and scripts run it as a whole, with a report and events.
"""

from __future__ import annotations

import logging
import shutil
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.checkpoint import Checkpoint
from idle_lantern.core.base.errors import Cancelled, InputError, LanternError
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.base.runners import Runner
from idle_lantern.core.base.units import file_size
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.compositing.canvas.requested_canvas import canvas_for
from idle_lantern.core.compositing.canvas.warp import Tile
from idle_lantern.core.compositing.render.compose import Composed
from idle_lantern.core.compositing.render.rework import EarlierPicture
from idle_lantern.core.compositing.render.to_file import JustMade, compose_to_file
from idle_lantern.core.deliver.formats import check_target
from idle_lantern.core.frames.decoded import Ahead, DecodedFrames
from idle_lantern.core.frames.frameset import FrameSet
from idle_lantern.core.frames.masks import Masks
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.inspection import find
from idle_lantern.core.inspection.find import LookedOver
from idle_lantern.core.inspection.suspect import Suspect
from idle_lantern.core.registration.match.features import WorkingFrame
from idle_lantern.core.registration.solve.solve import OnRough, Solution, solve, working_of
from idle_lantern.core.request.options import JoinOptions

log = logging.getLogger(__name__)


def join(
    frames: FrameSet,
    target: Path,
    options: JoinOptions | None = None,
    prior: Sequence[Array | None] | None = None,
    progress: Progress = SILENT,
    *,
    masks: Masks | None = None,
    checkpoint: Checkpoint | None = None,
    runner: Runner | None = None,
    ahead: Ahead | None = None,
    solution: Solution | None = None,
    earlier: EarlierPicture | None = None,
    known_suspects: Sequence[Suspect] = (),
    on_rough: OnRough | None = None,
    on_solved: Callable[[Solution, Canvas, Sequence[WorkingFrame]], None] | None = None,
    on_tile: Callable[[Tile], None] | None = None,
    on_looked: Callable[[LookedOver], None] | None = None,
) -> tuple[Solution, Composed]:
    """Solve, make the picture and write it to ``target`` as it is made; the file appears only when complete. ``prior`` are rotations (3, 3).

    ``runner`` finds the points and makes the tiles, None for threads of this process; ``ahead`` hands out frames that were read whole before. A ``solution`` that is given is not solved again; of an ``earlier`` picture what stays the same is taken over, and
    ``known_suspects`` of it where nothing changed. ``on_rough`` gets what is known early, ``on_solved`` the
    final geometry, with the reduced frames, before the picture is made, ``on_tile`` each tile of it, ``on_looked`` the places that should
    be looked at and what moved.

    Raises
    ------
    JoinError
        The frames cannot be joined.
    InputError
        A frame cannot be read, or the target not written.
    Cancelled
        Stopped by ``progress``; nothing is left at the target.
    """
    options = options or JoinOptions()
    check_target(target)
    store = DecodedFrames(frames.infos, options.memory() // 4, ahead=ahead)

    solved = solution or solve(frames, options, prior, progress, store, checkpoint, on_rough, runner)
    working = working_of(solved, store)
    canvas = canvas_for(solved.poses, solved.seen, options)
    straight = None
    if options.rim == "stretch":
        from idle_lantern.core.compositing.render.straight_rim import straight_rim  # takes a third of a second to load

        straight = straight_rim(solved, canvas, options, working, progress, masks)
    canvas = canvas if straight is None else straight[0]
    check_target(target, canvas.width, canvas.height)
    check_space(target, canvas, deep=any(i.bits == 16 for i in frames.infos), filled=options.fills_rim)
    if on_solved is not None:
        on_solved(solved, canvas, working)

    def look_over(made: JustMade) -> None:
        if on_looked is None:
            return
        try:
            found = find.look_over(
                made.plan,
                made.overview,
                frames=made.frames,
                parallax=solved.parallax is not None,
                changed=made.remade,
                known=known_suspects,
                threads=options.threads,
                progress=progress,
            )
        except (Cancelled, LanternError):
            raise
        except Exception:  # the picture is made: a fault in looking it over must not cost it
            log.exception("looking the picture over")
            return
        on_looked(found)

    made = compose_to_file(
        solved,
        canvas,
        target,
        options,
        progress,
        runner=runner,
        # geometry is found in the frames' own colours, whatever those of the picture are to be
        store=store if options.profile is None else None,
        working=working,
        masks=masks,
        checkpoint=checkpoint,
        earlier=earlier,
        on_tile=on_tile,
        before_it_stands=look_over,
    )
    return solved, made if straight is None else replace(made, rim=straight[1])


def check_space(target: Path, canvas: Canvas, *, deep: bool, filled: bool = False) -> None:
    """Say before the work whether the picture and the halves that wait beside it fit onto the disk.

    Raises
    ------
    InputError
        There is too little room. Photographs pack to some two thirds of their pixels.
    """
    if target.suffix.lower() in (".jpg", ".jpeg"):
        needed = canvas.width * canvas.height * 1.5
    else:
        needed = canvas.width * canvas.height * 4 * (2 if deep else 1) * (0.67 + 0.33)
    if filled:  # the whole picture waits beside it until its gaps are filled
        needed += canvas.width * canvas.height * (7 if deep else 4)
    free = shutil.disk_usage(target.parent).free
    if needed > free:
        raise InputError(
            f"The {canvas.projection.name} picture of {canvas.width} x {canvas.height} pixels needs some "
            f"{file_size(needed)} and the disk has {file_size(free)} free",
            where=str(target),
            remedy="Make room, or choose another projection or a smaller width",
        )


def cropped(picture: Picture, box: Rectangle) -> Picture:
    """The part of a picture inside ``box``, without alpha if nothing is missing there."""
    at = (slice(box.top, box.top + box.height), slice(box.left, box.left + box.width))
    alpha = None if picture.alpha is None else picture.alpha[at]
    if alpha is not None and (alpha == picture.full_scale).all():
        alpha = None
    return Picture(picture.pixels[at], alpha, picture.space)
