"""What the simulator knows and a photographer never does: for tests and benchmarks."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.simulator.surfaces import Diorama, look


def registration_error_px(
    lens: Lens,
    true_world_from_camera: Sequence[Array],
    solved_lenses: Sequence[Lens],
    solved_world_from_camera: Sequence[Array],
    grid: int = 24,
) -> Array:
    """Distances in full-resolution pixels between true and solved places in the neighbour.

    A grid of points in each true overlap is mapped from one frame to the other by
    the true and by the solved geometry.

    Returns
    -------
    (N,) array
        One distance for each grid point of each overlapping ordered pair.
    """
    u, v = np.meshgrid(np.linspace(0, lens.width - 1, grid), np.linspace(0, lens.height - 1, grid))
    points = np.stack([u.ravel(), v.ravel()], -1)
    rays = lens.unproject(points)
    good = np.isfinite(rays[:, 0])
    points, rays = points[good], rays[good]
    errors = []
    for a, true_a in enumerate(true_world_from_camera):
        solved_rays = solved_lenses[a].unproject(points) @ np.asarray(solved_world_from_camera[a]).T
        world = rays @ np.asarray(true_a).T
        for b, true_b in enumerate(true_world_from_camera):
            if a == b:
                continue
            local = world @ np.asarray(true_b)
            seen = lens.sees(local)
            if not seen.any():
                continue
            expected, _ = lens.project(local[seen])
            found, _ = solved_lenses[b].project(solved_rays[seen] @ np.asarray(solved_world_from_camera[b]))
            errors.append(np.linalg.norm(found - expected, axis=1))
    return np.concatenate(errors) if errors else np.zeros(0)


def ideal_canvas(
    scene: Diorama,
    projection: Projection,
    shape: tuple[int, int],
    px_per_rad: float,
    centre_px: tuple[float, float],
    canvas_from_world: Array,
    time_s: float = 0.0,
    eye_m: tuple[float, float, float] = (0.0, 0.0, 0.0),
) -> Array:
    """Linear light (H, W, 3) of the scene drawn straight onto a canvas, seen from ``eye_m``."""
    v, u = np.mgrid[: shape[0], : shape[1]].astype(np.float64)
    plane = np.stack([u - centre_px[0], v - centre_px[1]], -1) / px_per_rad
    directions = projection.inverse(plane) @ np.asarray(canvas_from_world)
    return look(scene, np.array(eye_m), directions.astype(np.float32), 1 / px_per_rad, time_s=time_s).light
