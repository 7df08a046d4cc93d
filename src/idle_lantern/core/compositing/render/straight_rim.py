"""The canvas of a solution bent so that its picture is a rectangle."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.compositing.render.compose import rough_picture
from idle_lantern.core.compositing.rim.outcome import Stretched
from idle_lantern.core.compositing.rim.rectangling import rectangled
from idle_lantern.core.frames.masks import Masks
from idle_lantern.core.registration.match.features import WorkingFrame
from idle_lantern.core.registration.solve.solve import Solution
from idle_lantern.core.request.options import JoinOptions


def straight_rim(
    solution: Solution,
    canvas: Canvas,
    options: JoinOptions | None = None,
    working: Sequence[WorkingFrame] | None = None,
    progress: Progress = SILENT,
    masks: Masks | None = None,
) -> tuple[Canvas, Stretched] | None:
    """The bent canvas, reckoned from a rough picture, and what it costs; None where nothing is missing."""
    small = rough_picture(solution, canvas, options, progress, masks, working=working)
    assert small.picture.alpha is not None
    pixels = small.picture.pixels
    if pixels.dtype == np.uint16:
        pixels = (pixels >> 8).astype(np.uint8)
    found = rectangled(pixels, small.picture.alpha > 0, full_circle=canvas.full_circle)
    if found is None:
        return None
    factor = canvas.width / small.canvas.width
    width = canvas.width if canvas.full_circle else max(1, int(found.size[0] * factor))
    height = max(1, int(found.size[1] * factor))
    stretch = found.stretch.scaled(factor)
    if canvas.stretch is not None:  # places of the picture were eased before
        stretch = replace(stretch, at=canvas.stretch.flat(stretch.at))
    bent = replace(canvas, width=width, height=height, stretch=stretch)
    return bent, Stretched(found.stretch.largest, found.bow_px * factor)
