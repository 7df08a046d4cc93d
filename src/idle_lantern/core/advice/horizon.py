"""By how much a finished picture leans: the vertical that its uprights or its horizon tell, against its own."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np

from idle_lantern.core.advice.advice import Lean
from idle_lantern.core.base.arrays import Array
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.compositing.canvas.redrawn import remapped
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.match.features import WorkingFrame
from idle_lantern.core.registration.solve.level import levelled
from idle_lantern.core.registration.solve.poses import Poses

#: The picture is looked at through flat views so wide and high, so far apart, of at most so many pixels a degree.
_VIEW_DEG, _APART_DEG, _PX_PER_DEG = (60.0, 50.0), 40.0, 14.0
#: A view tells something where so much of it shows the picture.
_LEAST_SHOWN = 0.85


def lean_of(shown: Array, canvas: Canvas) -> Lean | None:
    """By how much what a picture shows, which may be reduced, (h, w, 4) uint8, leans; None where nothing tells the vertical."""
    upright = replace(canvas, canvas_from_world=np.eye(3))
    scale = min(_PX_PER_DEG, math.radians(canvas.px_per_rad) * shown.shape[1] / canvas.width)
    width, height = (round(side * scale) for side in _VIEW_DEG)
    lens = Lens("rectilinear", width / 2 / math.tan(math.radians(_VIEW_DEG[0] / 2)), width, height)
    grid = np.stack(np.meshgrid(np.arange(width, dtype=float), np.arange(height, dtype=float)), -1)
    rays = lens.unproject(grid)
    views, turns = [], []
    for yaw in np.arange(-180, 180, _APART_DEG):
        turn = rotations.from_yaw_pitch_roll(math.radians(float(yaw)), 0.0, 0.0)
        view = remapped(shown, upright, upright.pixels(rays @ turn.T))
        if (view[..., 3] > 127).mean() >= _LEAST_SHOWN:
            views.append(WorkingFrame(Picture(np.ascontiguousarray(view[..., :3])), (1.0, 1.0)))
            turns.append(turn)
    if not views:
        return None
    poses = Poses(tuple(range(len(views))), (lens,) * len(views), np.stack(turns))
    turned, level = levelled(poses, views)
    if level is None:
        return None
    # the turn that makes it upright takes what is up to the vertical
    turn = turned.world_from_camera[0] @ poses.world_from_camera[0].T
    x, y, z = (float(v) for v in -turn[1])
    return Lean(math.degrees(math.acos(min(1.0, abs(y)))), math.degrees(level.sigma_rad), (x, y, z))
