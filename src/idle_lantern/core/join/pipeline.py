"""Frames in, picture and report out: the only module that knows the order of it all.

``solving`` finds where the frames belong, ``composing`` makes a picture of any
canvas from that; ``join`` does both and writes the result.
"""

from __future__ import annotations

import resource
import shutil
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from numpy.typing import NDArray

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.picture import Picture
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.deliver.writing import WriteOptions, check_target, write
from idle_lantern.core.frames.decoded import DecodedFrames
from idle_lantern.core.frames.frameset import FrameSet
from idle_lantern.core.frames.masks import Masks
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.join.canvas.canvas import Canvas, make_canvas
from idle_lantern.core.join.checkpoint import Checkpoint
from idle_lantern.core.join.options import JoinOptions, machine_memory
from idle_lantern.core.join.render.compose import Composed, compose_picture, compose_to_file
from idle_lantern.core.join.solve.solve import Solution, solve
from idle_lantern.core.join.workers import Clock

Array = NDArray[Any]

#: Usual share of each stage in the whole run, for progress and remaining time.
STAGE_WEIGHTS = {
    "read": 0.10,
    "features": 0.18,
    "match": 0.06,
    "adjust": 0.06,
    "refine": 0.16,
    "warp": 0.03,
    "seams": 0.05,
    "blend": 0.28,
    "write": 0.08,
}
#: The canvas is held once while it is made and once more while it is packed for the file.
_COPIES = 2.2
_MEMORY_SHARE = 0.8
#: A picture that takes less while it is made is held whole.
_HELD_BYTES = 150_000_000


def join(
    frames: FrameSet,
    target: Path,
    options: JoinOptions | None = None,
    prior: Sequence[Array | None] | None = None,
    progress: Progress = SILENT,
    masks: Masks | None = None,
    checkpoint: Checkpoint | None = None,
) -> tuple[Solution, Composed]:
    """Solve, make the picture and write it to ``target``, which appears only when complete.

    TIFF and JPEG of more than some megapixels are written as they are made.
    """
    options = options or JoinOptions()
    check_target(target)
    store = DecodedFrames(frames.infos, options.memory() // 4)
    solution = solve(frames, options, prior, progress, store, checkpoint)
    canvas = make_canvas(solution.poses, solution.seen, options.projection, options.width_px)
    check_target(target, canvas.width, canvas.height)
    deep = any(i.bits == 16 for i in frames.infos)
    if target.suffix.lower() != ".png" and memory_needed(canvas, deep=deep) > min(_HELD_BYTES, options.memory()):
        check_space(target, canvas, deep=deep)
        return solution, compose_to_file(solution, canvas, target, options, progress, store, masks, checkpoint)
    check_memory(canvas, deep=deep)
    joined = compose_picture(solution, canvas, options, progress, store=store, masks=masks)
    clock = Clock()
    with clock.stage("write"):
        progress.begin("write", 1)
        picture = cropped(joined.picture, joined.crop) if options.crop else joined.picture
        write(picture, target, WriteOptions(jpeg_quality=options.jpeg_quality))
        progress.advance()
    return solution, replace(joined, timings_s={**joined.timings_s, **clock.seconds})


def memory_needed(canvas: Canvas, *, deep: bool) -> float:
    """Bytes to hold the picture while it is made and packed."""
    return canvas.width * canvas.height * 4 * (2 if deep else 1) * _COPIES


def check_space(target: Path, canvas: Canvas, *, deep: bool) -> None:
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
    free = shutil.disk_usage(target.parent).free
    if needed > free:
        raise InputError(
            f"The {canvas.projection.name} picture of {canvas.width} x {canvas.height} pixels needs some "
            f"{needed / 1e9:.0f} GB and the disk has {free / 1e9:.0f} GB free",
            where=str(target),
            remedy="Make room, or choose another projection or a smaller width",
        )


def check_memory(canvas: Canvas, *, deep: bool) -> None:
    """Say before the work whether the picture fits into this computer.

    Raises
    ------
    InputError
        It would need more than most of the memory.
    """
    needed = memory_needed(canvas, deep=deep)
    present = machine_memory()
    if needed > _MEMORY_SHARE * present:
        raise InputError(
            f"The {canvas.projection.name} picture of {canvas.width} x {canvas.height} pixels needs "
            f"{needed / 1e9:.0f} GB of memory and this computer has {present / 1e9:.0f} GB",
            remedy="Write .tif or .jpg, which are made in pieces, or choose another projection or a smaller width",
        )


def cropped(picture: Picture, box: Rectangle) -> Picture:
    """The part of a picture inside ``box``, without alpha if nothing is missing there."""
    at = (slice(box.top, box.top + box.height), slice(box.left, box.left + box.width))
    alpha = None if picture.alpha is None else picture.alpha[at]
    if alpha is not None and (alpha == picture.full_scale).all():
        alpha = None
    return Picture(picture.pixels[at], alpha, picture.icc)


def peak_rss_mib() -> float:
    """Most memory this process ever held.

    From the kernel's own count: ``getrusage`` would tell that of a large process which started this one.
    """
    try:
        lines = Path("/proc/self/status").read_text(encoding="ascii").splitlines()
        return next(int(line.split()[1]) for line in lines if line.startswith("VmHWM:")) / 1024
    except (OSError, StopIteration):
        return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
