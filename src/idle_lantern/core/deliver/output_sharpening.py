"""Sharpening for what a picture is looked at on: by what a screen or ink on paper will blur, at the size that is written."""

from __future__ import annotations

import math

from idle_lantern.core.deliver.job import DeliverJob
from idle_lantern.core.finish.finishing import Finish
from idle_lantern.core.finish.steps.sharpen import Sharpen, sharpen_for_blur
from idle_lantern.core.finish.tile_look import Ground
from idle_lantern.core.pictures.operations import OperatedPicture
from idle_lantern.core.pictures.source import PictureSource

#: How far ink spreads in paper, its deviation in millimetres (from memory: dot gain of some 15 and 25 %).
_INK_MM = {"glossy": 0.05, "matte": 0.07}
#: What making a picture smaller leaves of blur, and what a screen adds, in its pixels: each pixel is as wide as it is.
_SCREEN_PX = 0.7


def step_for(job: DeliverJob) -> Sharpen | None:
    """The sharpening of a job, in pixels of the file; None where none is asked for."""
    if job.sharpen_for == "none":
        return None
    if job.sharpen_for == "screen":
        return sharpen_for_blur(_SCREEN_PX)
    spread_px = _INK_MM[job.sharpen_for] * job.dpi / 25.4
    return sharpen_for_blur(math.hypot(spread_px, 1 / math.sqrt(12)))


def sharpened(made: PictureSource, job: DeliverJob) -> PictureSource:
    """The picture as it is written, sharpened as asked; the very same one where nothing is."""
    step = step_for(job)
    if step is None or step.idle or made.space.is_linear:
        return made
    return OperatedPicture(made, [Finish([step], made, Ground(made.space, made.sizes[0]))])
