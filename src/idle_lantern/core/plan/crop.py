"""What is lost at the crop: by trying it out."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from idle_lantern.core.base import units
from idle_lantern.core.base.arrays import Array, Flags
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.core.geometry.rectangles import largest_rectangles
from idle_lantern.core.plan.brief import Support
from idle_lantern.core.plan.coverage import cameras_of, shown
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.pointing import pointing_errors
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField

#: Answers kept: most of what is changed in a plan leaves its frames where they are.
_KEPT = 16
#: Cells of the coarse picture in which the crop is looked for: to find where it lies, as planned, in a tried run at most and at least.
_FIRST_CELLS, _CELLS, _CELLS_OF_TRY, _FEWEST_CELLS = 6_000, 100_000, 8_000, 4_000
#: Cells times frames at most, in all tries together, and tries of the crop.
_ASKED, _FEWEST_TRIES, _MOST_TRIES = 6_000_000, 20, 60


@dataclass(frozen=True)
class CropLoss:
    """Share of the joined picture's canvas that lies outside its largest rectangle without gaps.

    ``planned`` if all goes as planned, ``expected`` on average over tried runs in which base and pointing err as the
    support does; of four runs in five it lies between ``low`` and ``high``, of one in ten above.
    """

    planned: float
    expected: float
    low: float
    high: float

    @property
    def told(self) -> str:
        """What it costs on average, and more than what only one run in ten loses."""
        return f"about {units.share(self.expected)}, seldom over {units.share(self.high)}"


@lru_cache(maxsize=_KEPT)
def crop_loss(
    rig: Rig, frames: tuple[GridFrame, ...], target_field: TargetField, support: Support, projection: str
) -> CropLoss:
    """Project the union of all frames and find its largest rectangle, as planned and in many tried runs.

    The tries are the same each time.
    """
    cameras = cameras_of(frames)
    lean = rotations.about_z(math.radians(support.base_tilt_deg))
    plane = _Plane.of(rig, target_field, projection)
    cells = int(np.clip(_ASKED / len(frames), _FEWEST_CELLS, _CELLS))
    first = plane.shown(rig, frames, cameras, _FIRST_CELLS)
    part = plane.part(first, 0.0)
    planned = float(_losses(part.shown(rig, frames, cameras, cells)[None])[0])
    if rig.motion != "turn":  # the lens moves or sees all at once: only the base can lean
        leaning = plane.part(first, support.base_tilt_deg).shown(rig, frames, lean @ cameras, cells)
        lost = float(_losses(leaning[None])[0])
        return CropLoss(planned, lost, min(planned, lost), max(planned, lost))
    rng = np.random.default_rng(7)
    part = plane.part(first, 2 * support.base_tilt_deg + 4 * support.pointing)
    asked = _ASKED / len(frames)
    tries = int(np.clip(asked / _CELLS_OF_TRY, _FEWEST_TRIES, _MOST_TRIES))
    cells_of_try = int(np.clip(asked / tries, _FEWEST_CELLS, _CELLS_OF_TRY))
    shown_in = [
        part.shown(rig, frames, lean @ cameras @ pointing_errors(rng, support, len(frames)), cells_of_try)
        for _ in range(tries)
    ]
    losses = _losses(np.array(shown_in))
    low, high = np.quantile(losses, (0.1, 0.9))
    return CropLoss(planned, float(np.mean(losses)), float(low), float(high))


def _losses(masks: Flags) -> Array:
    """Share of the box round what each of masks (N, H, W) shows that its largest rectangle leaves out, (N,)."""
    wide, tall = (_extent(np.asarray(masks.any(axis))) for axis in (1, 2))
    rectangles = largest_rectangles(masks)
    return np.asarray(1.0 - rectangles[:, 2] * rectangles[:, 3] / np.maximum(wide * tall, 1))


def _extent(shown: Flags) -> Array:
    """Cells from the first to the last that is shown in each row, (N,)."""
    count = shown.shape[1]
    extent = count - shown.argmax(1) - shown[:, ::-1].argmax(1)
    return np.where(shown.any(1), extent, 0)


@dataclass(frozen=True)
class _Plane:
    """A box on the plane of a projection whose middle looks at an azimuth."""

    projection: str
    middle_rad: float
    left: float
    right: float
    top: float
    bottom: float

    @classmethod
    def of(cls, rig: Rig, target_field: TargetField, projection: str) -> _Plane:
        """The box in which a plan of the field lies."""
        lens = rig.lens()
        middle = math.radians((target_field.left_deg + target_field.right_deg) / 2)
        half = math.radians(min(360.0, target_field.sweep_deg) / 2) + (
            0 if target_field.full_circle else 0.6 * lens.field_rad()[0]
        )
        tall = 0.6 * lens.field_rad()[1]
        low = max(-math.pi / 2, math.radians(target_field.low_deg) - tall)
        high = min(math.pi / 2, math.radians(target_field.high_deg) + tall)
        if projection == "rectilinear":
            half, low, high = min(half, 1.35), max(low, -1.3), min(high, 1.3)
            return cls(projection, middle, -math.tan(half), math.tan(half), -math.tan(high), -math.tan(low))
        half = min(half, math.pi)
        if projection == "cylindrical":
            return cls(projection, middle, -half, half, -math.tan(min(high, 1.3)), -math.tan(max(low, -1.3)))
        return cls(projection, middle, -half, half, -high, -low)

    def shown(self, rig: Rig, frames: Sequence[GridFrame], cameras: Array, cells: int) -> Flags:
        """What the frames show on about so many cells of the box, (H, W)."""
        size, directions, known = _directions(self, cells)
        return np.asarray((shown(rig, frames, cameras, directions) & known).reshape(size))

    def part(self, mask: Flags, more_deg: float) -> _Plane:
        """The part of the box that ``mask`` (H, W) shows, a cell and so many degrees wider on each side."""
        if not mask.any():
            return self
        rows, columns = (np.flatnonzero(mask.any(axis)) for axis in (1, 0))
        across, down = (self.right - self.left) / mask.shape[1], (self.bottom - self.top) / mask.shape[0]
        # off the middle of a plane an angle is drawn larger
        wide, tall = (
            math.radians(more_deg) * (1 + side**2 * (self.projection in grows))
            for side, grows in (
                (max(-self.left, self.right), ("rectilinear",)),
                (max(-self.top, self.bottom), ("rectilinear", "cylindrical")),
            )
        )
        return replace(
            self,
            left=max(self.left, self.left + (columns[0] - 1) * across - wide),
            right=min(self.right, self.left + (columns[-1] + 2) * across + wide),
            top=max(self.top, self.top + (rows[0] - 1) * down - tall),
            bottom=min(self.bottom, self.top + (rows[-1] + 2) * down + tall),
        )


@lru_cache(maxsize=4)
def _directions(plane: _Plane, cells: int) -> tuple[tuple[int, int], Array, Flags]:
    """Rows and columns of a box cut into cells, world directions (N, 3) of their middles, and which there are, (N,)."""
    wide, tall = plane.right - plane.left, plane.bottom - plane.top
    rows = int(np.clip(math.sqrt(cells * max(1e-6, tall) / wide), 48, 400))
    columns = int(np.clip(cells / rows, 48, 1200))
    across = plane.left + wide * (np.arange(columns) + 0.5) / columns
    down = plane.top + tall * (np.arange(rows) + 0.5) / rows
    u, v = np.meshgrid(across, down)
    directions = Projection(plane.projection).inverse(np.stack([u, v], -1).reshape(-1, 2))
    known = np.isfinite(directions[:, 0])
    turned = np.where(known[:, None], directions, 0.0) @ rotations.about_y(plane.middle_rad).T
    return (rows, columns), turned, known
