"""Frames as polygons on the unrolled sphere, and what of a join lies on the map."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from PyQt6.QtCore import QPointF
from PyQt6.QtGui import QPolygonF

from idle_lantern.app.widgets.map_forms import Outline
from idle_lantern.core.geometry.frame_outlines import areas_deg
from idle_lantern.core.plan.coverage import cameras_of

if TYPE_CHECKING:
    from idle_lantern.core.geometry.lenses import Lens
    from idle_lantern.core.plan.grid_frame import GridFrame
    from idle_lantern.core.plan.rig import Rig


def planned_outlines(rig: Rig, frames: Sequence[GridFrame]) -> list[Outline]:
    """As ``outlines``; a shift lens stands elsewhere for each frame."""
    if rig.motion == "lens-shift":
        return [outlines(rig.lens_of(f), [f])[0] for f in frames]
    return outlines(rig.lens(), frames)


def outlines(lens: Lens, frames: Sequence[GridFrame]) -> list[Outline]:
    """What frames show as polygons in degrees (azimuth, altitude), as ``areas_deg`` has them."""
    if not frames:
        return []
    return [Outline(area) for area in areas_deg(lens, cameras_of(frames))]


def outlines_of(frames: Sequence[tuple[Lens, GridFrame]]) -> tuple[QPolygonF, ...]:
    """The rims of frames that each have a lens; those of one lens, nearly always all, are reckoned together."""
    by_lens: dict[Lens, list[GridFrame]] = {}
    for lens, frame in frames:
        by_lens.setdefault(lens, []).append(frame)
    return tuple(shape for lens, same in by_lens.items() for shape in outlines(lens, same))


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
