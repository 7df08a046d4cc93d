"""Frames as polygons on the unrolled sphere, and what of a join lies on the map."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtCore import QPointF
from PyQt6.QtGui import QPolygonF

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry.sphere import azimuth_altitude
from idle_lantern.core.plan.coverage import cameras_of

if TYPE_CHECKING:
    from idle_lantern.core.geometry.lenses import Lens
    from idle_lantern.core.plan.grid_frame import GridFrame
    from idle_lantern.core.plan.rig import Rig

_POINTS_PER_SIDE = 10


def planned_outlines(rig: Rig, frames: Sequence[GridFrame]) -> list[QPolygonF]:
    """As ``outlines``; a shift lens stands elsewhere for each frame."""
    if rig.motion == "lens-shift":
        return [outlines(rig.lens_of(f), [f])[0] for f in frames]
    return outlines(rig.lens(), frames)


def outlines(lens: Lens, frames: Sequence[GridFrame]) -> list[QPolygonF]:
    """The frames' rims as polygons in degrees (azimuth, altitude), each continuous about its own yaw."""
    if not frames:
        return []
    rays = lens.unproject(lens.rim_px(_POINTS_PER_SIDE))
    rays = rays[np.isfinite(rays[:, 0])]
    if len(rays) < 3:  # all that the lens sees lies inside the frame
        rays = _circle(lens)
    cameras = cameras_of(frames)
    azimuth, altitude = azimuth_altitude(np.einsum("fij,nj->fni", cameras, rays))
    yaw = np.array([f.yaw_deg for f in frames])[:, None]
    az = yaw + (np.degrees(azimuth) - yaw + 180) % 360 - 180
    alt = np.degrees(altitude)
    up, down = (lens.sees(cameras.transpose(0, 2, 1) @ np.array([0.0, s, 0.0])) for s in (-1.0, 1.0))
    return [
        _cap(az[i], alt[i], 90.0 if up[i] else -90.0) if up[i] or down[i] else _polygon(az[i], alt[i])
        for i in range(len(frames))
    ]


def outlines_of(frames: Sequence[tuple[Lens, GridFrame]]) -> tuple[QPolygonF, ...]:
    """The rims of frames that each have a lens; those of one lens, nearly always all, are reckoned together."""
    by_lens: dict[Lens, list[GridFrame]] = {}
    for lens, frame in frames:
        by_lens.setdefault(lens, []).append(frame)
    return tuple(shape for lens, same in by_lens.items() for shape in outlines(lens, same))


def _circle(lens: Lens) -> Array:
    """Rays round the edge of what a lens sees, (N, 3)."""
    theta = 0.999 * min(lens.limit_rad, math.pi)
    phi = np.linspace(0, 2 * math.pi, 4 * _POINTS_PER_SIDE, endpoint=False)
    return np.stack(
        [math.sin(theta) * np.cos(phi), math.sin(theta) * np.sin(phi), np.full(len(phi), math.cos(theta))], -1
    )


def _polygon(az: Array, alt: Array) -> QPolygonF:
    return QPolygonF([QPointF(x, y) for x, y in zip(az.tolist(), alt.tolist())])


def _cap(az: Array, alt: Array, pole: float) -> QPolygonF:
    """A frame that holds a pole reaches over the whole width of the map."""
    az = (az + 180) % 360 - 180
    order = np.argsort(az)
    az, alt = az[order], alt[order]
    return _polygon(np.array([-180.0, *az, 180.0, 180.0, -180.0]), np.array([alt[0], *alt, alt[-1], pole, pole]))


@dataclass(frozen=True)
class JoinOnMap:
    """A join's result as the map shows it, in degrees.

    ``shapes`` are frames without a planned cell (pictures brought in), ``loose`` those that plan or grid
    placed since nothing in them matches; ``links`` tie the middles of two frames, with a quality from 0 to 1.
    ``missing`` are frames that the rows ask for and nobody shot, each with where it belongs in words; ``unseen`` is what of the
    picture nobody looked at yet, once somebody began.
    """

    shapes: tuple[QPolygonF, ...] = ()
    loose: tuple[QPolygonF, ...] = ()
    links: tuple[tuple[QPointF, QPointF, float], ...] = ()
    missing: tuple[tuple[QPolygonF, str], ...] = ()
    unseen: tuple[QPolygonF, ...] = ()
