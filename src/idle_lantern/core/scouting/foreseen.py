"""The planned picture drawn before it is shot: the scouting ground on the canvas that the join would make of the plan."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.compositing.canvas.costs import costs_of
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.projections import Projection, suited
from idle_lantern.core.geometry.rectangles import Rectangle, inner_rectangle
from idle_lantern.core.geometry.sphere import azimuth_altitude, direction
from idle_lantern.core.plan.coverage import cameras_of
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.scouting.reprojection import ReprojectedScouts, on_canvas

Array = NDArray[Any]

_PER_SIDE = 12
#: The straight line whose bow is told: level, half-way up, over so much of the width, and no longer than an eye takes for one.
_LINE_OVER, _LONGEST_RAD = 0.8, math.radians(110)


@dataclass(frozen=True)
class Foreseen:
    """The picture that a plan would give.

    Attributes
    ----------
    canvas : Canvas
        At the size of ``pixels``; ``full_px`` is the size that the join's would have.
    pixels : (h, w, 4) uint8
        The ground where it shows something and a frame will.
    outlines : tuple of (N, 2) float
        Rims of the frames on the canvas, NaN where it has no place for them.
    covered : (h, w) bool
        What the frames show, scouted or not.
    crop : Rectangle
        The largest rectangle, of the ratio that was asked for.
    loss, unscouted : float
        Share of what the frames show that the crop leaves out, and share of the crop of which no scouting picture tells.
    stretch, bow : float
        As of ``costs_of``.
    """

    canvas: Canvas
    full_px: tuple[int, int]
    pixels: Array
    outlines: tuple[Array, ...]
    covered: Array
    crop: Rectangle
    loss: float
    unscouted: float
    stretch: float = 1.0
    bow: float = 0.0


def projection_of(plan: Plan) -> str:
    """The projection that the join would choose for the plan."""
    seen = _seen(_rims(plan), plan)
    return suited(seen[1] - seen[0], seen[2], seen[3])


def foreseen_canvas(plan: Plan, projection: str = "auto", distance: float = 1.0) -> Canvas:
    """The canvas that the join of the planned frames would have, at full size.

    The same rules as ``make_canvas``, from the frames' rims alone: a plan of hundreds of frames follows the hand.
    """
    rims = _rims(plan)
    return _canvas(plan, rims, _seen(rims, plan), projection, distance)


def _canvas(
    plan: Plan, rims: Array, seen: tuple[float, float, float, float], projection: str, distance: float
) -> Canvas:
    left, right, low, high = seen
    if projection == "auto":
        projection = suited(right - left, low, high)
    kind = Projection(projection, {"distance": distance} if projection == "panini" else {})
    full = kind.wraps and right - left >= 2 * math.pi - 1e-6
    turn = np.eye(3) if full else rotations.about_y(-(left + right) / 2)
    middle = (low + high) / 2
    if projection == "stereographic" or (
        projection == "rectilinear" and abs(middle) > math.radians(25) and high - low <= math.radians(100)
    ):
        turn = rotations.about_x(-middle) @ turn
    scale = plan.rig.focal_px
    whole = np.concatenate([rims.reshape(-1, 3), _rims(plan, 0.5).reshape(-1, 3)])
    box = _bounds(kind, whole @ turn.T, (low, high), turn)
    x0, x1 = (-math.pi, math.pi) if full else (box[0], box[2])
    width, height = max(8, math.ceil((x1 - x0) * scale)), max(8, math.ceil((box[3] - box[1]) * scale))
    return Canvas(
        kind, width, height, scale, (-0.5 - x0 * scale, -0.5 - box[1] * scale), turn, full_circle=full
    )  # fmt: skip


def foresee(
    plan: Plan,
    grounds: Sequence[ReprojectedScouts],
    *,
    projection: str = "auto",
    distance: float = 1.0,
    ratio: float | None = None,
    most_px: int = 200_000,
    costs: bool = True,
) -> Foreseen:
    """The picture that the plan would give, drawn with some ``most_px`` pixels.

    Raises
    ------
    InputError
        The projection has no such name.
    """
    rims = _rims(plan)
    seen = _seen(rims, plan)
    full = _canvas(plan, rims, seen, projection, distance)
    small = full.scaled(min(1.0, math.sqrt(most_px / (full.width * full.height))))
    with np.errstate(invalid="ignore"):
        outlines = tuple(small.pixels(rims))
    covered = _covered(plan, small, outlines)
    pixels = on_canvas(small, grounds)
    scouted = pixels[..., 3] > 0
    pixels[~covered] = 0
    crop = inner_rectangle((covered * 255).astype(np.uint8), 400, ratio)
    inside = (slice(crop.top, crop.top + crop.height), slice(crop.left, crop.left + crop.width))
    area = float(covered.sum())
    told = costs_of(small, covered, _line(seen)) if costs else None
    return Foreseen(
        small,
        (full.width, full.height),
        pixels,
        outlines,
        covered,
        crop,
        1 - crop.area / area if area else 0.0,
        1 - float(scouted[inside].mean()) if crop.area else 1.0,
        told.stretch if told else 1.0,
        told.bend if told else 0.0,
    )


def seams_of(plan: Plan, seen: Foreseen) -> Array:
    """Where the picture would pass from one frame to the next if nothing spoke against it: midway, (h, w) bool.

    The join leads its seams round what moves and along edges; midway between the frames is where they begin.
    """
    step = 3
    u, v = np.meshgrid(np.arange(0.0, seen.canvas.width, step), np.arange(0.0, seen.canvas.height, step))
    rays = np.nan_to_num(seen.canvas.directions(np.stack([u, v], -1)))
    axes = cameras_of(plan.frames)[:, :, 2]
    nearest = (rays.reshape(-1, 3) @ axes.T).argmax(1).reshape(u.shape)
    size = (seen.canvas.width, seen.canvas.height)
    label = cv2.resize(nearest.astype(np.float32), size, interpolation=cv2.INTER_NEAREST)
    edge = np.zeros(label.shape, bool)
    edge[:, 1:] |= label[:, 1:] != label[:, :-1]
    edge[1:] |= label[1:] != label[:-1]
    return edge & seen.covered


def _rims(plan: Plan, part: float = 1.0) -> Array:
    """World directions round each frame, or round a ``part`` of it about its middle, (F, N, 3)."""
    cameras = cameras_of(plan.frames)
    if plan.rig.motion == "lens-shift":
        rays = np.stack([_rim(plan.rig.lens_of(f), part) for f in plan.frames])
        return np.asarray(rays @ cameras.transpose(0, 2, 1))
    return np.asarray(_rim(plan.rig.lens(), part) @ cameras.transpose(0, 2, 1))


def _rim(lens: Lens, part: float) -> Array:
    """Rays round what a lens shows, in order: its frame where it is filled, else the image circle within."""
    middle = np.array([(lens.width - 1) / 2, (lens.height - 1) / 2])
    pixels = middle + (lens.rim_px(_PER_SIDE) - middle) * part
    if math.isfinite(lens.circle_px):
        off = pixels - np.asarray(lens.principal_px)
        reach = np.hypot(*off.T)
        pixels = np.asarray(lens.principal_px) + off * np.minimum(1.0, 0.999 * lens.circle_px / reach)[:, None]
    rays = lens.unproject(pixels)
    return np.asarray(rays[np.isfinite(rays[:, 0])])


def _poles(plan: Plan) -> Array:
    """Which frames hold the zenith and which the nadir, (F, 2) bool."""
    cameras = cameras_of(plan.frames)
    lens = plan.rig.lens()
    return np.stack([lens.sees(cameras.transpose(0, 2, 1) @ np.array([0.0, s, 0.0])) for s in (-1.0, 1.0)], -1)


def _seen(rims: Array, plan: Plan) -> tuple[float, float, float, float]:
    """Left, right, low and high of what the frames show, in radians; a full turn where they close."""
    azimuth, altitude = azimuth_altitude(rims)
    low, high = float(altitude.min()), float(altitude.max())
    poles = _poles(plan)
    if poles[:, 0].any():
        high = math.pi / 2
    if poles[:, 1].any():
        low = -math.pi / 2
    field = plan.target_field
    middle = math.radians((field.left_deg + field.right_deg) / 2)
    if poles.any():
        return middle - math.pi, middle + math.pi, low, high
    yaws = np.radians([f.yaw_deg for f in plan.frames])[:, None]
    about = np.angle(np.exp(1j * (yaws - middle))) + middle
    at = about + np.angle(np.exp(1j * (azimuth - yaws)))
    left, right = float(at.min()), float(at.max())
    if right - left >= 2 * math.pi or field.full_circle:
        return -math.pi, math.pi, low, high
    return left, right, low, high


def _bounds(
    kind: Projection, local: Array, heights: tuple[float, float], turn: Array
) -> tuple[float, float, float, float]:
    """Left, top, right, bottom on the plane, within the reach of the projection."""
    limits = kind.limits
    ring = [
        np.stack([np.sin(a) * 1e-6, np.full_like(a, -s), np.cos(a) * 1e-6], -1) @ turn.T
        for s, reached in ((1.0, heights[1] > 1.57), (-1.0, heights[0] < -1.57))
        if reached
        for a in (np.linspace(-math.pi, math.pi, 73),)
    ]
    local = np.concatenate([local, *ring])
    azimuth, altitude = azimuth_altitude(local)
    if kind.name in ("rectilinear", "stereographic"):
        # what lies beyond the reach ends at it
        off, about = np.arccos(np.clip(local[:, 2], -1, 1)), np.arctan2(local[:, 1], local[:, 0])
        off = np.minimum(off, limits.longitude_rad)
        local = np.stack([np.sin(off) * np.cos(about), np.sin(off) * np.sin(about), np.cos(off)], -1)
        within = np.ones(len(local), bool)
    else:
        within = np.abs(azimuth) <= limits.longitude_rad + 1e-9
        local = direction(azimuth, np.clip(altitude, -limits.latitude_rad, limits.latitude_rad))
    plane = kind.forward(local[within])
    return (
        float(np.nanmin(plane[:, 0])), float(np.nanmin(plane[:, 1])),
        float(np.nanmax(plane[:, 0])), float(np.nanmax(plane[:, 1])),
    )  # fmt: skip


def _covered(plan: Plan, small: Canvas, outlines: Sequence[Array]) -> Array:
    """What any frame shows of a canvas, (h, w) bool: its outline filled; frames that hold a pole or leave the canvas by pixel."""
    sheet = np.zeros((small.height, small.width), np.uint8)
    poles = np.asarray(_poles(plan).any(-1))
    odd = []
    for f, outline in enumerate(outlines):
        if poles[f] or not np.isfinite(outline).all():
            odd.append(f)
            continue
        u = np.unwrap(outline[:, 0], period=small.width) if small.full_circle else outline[:, 0]
        if small.full_circle and abs(u[0] - u[-1]) > small.width / 2:
            odd.append(f)
            continue
        for turn in (-small.width, 0, small.width) if small.full_circle else (0,):
            points = np.stack([u + turn, outline[:, 1]], -1)
            if points[:, 0].max() > -1 and points[:, 0].min() < small.width:
                # in sixteenths of a pixel, so that neighbours leave no gap
                cv2.fillPoly(sheet, [np.round(points * 16).astype(np.int32)], 1, shift=4)
    if odd:
        step = 4
        u, v = np.meshgrid(np.arange(0, small.width, step, dtype=float), np.arange(0, small.height, step, dtype=float))
        rays = small.directions(np.stack([u, v], -1))
        cameras, known = cameras_of([plan.frames[f] for f in odd]), np.isfinite(rays[..., 0])
        found = np.zeros(u.shape, bool)
        for f, camera in zip(odd, cameras):
            found |= plan.rig.lens_of(plan.frames[f]).sees(np.nan_to_num(rays) @ camera) & known
        sheet |= cv2.resize(found.astype(np.uint8), (small.width, small.height), interpolation=cv2.INTER_NEAREST)
    return sheet > 0


def _line(seen: tuple[float, float, float, float]) -> Array:
    """Ends of a straight line, level and half-way up or down, such as an eaves or a quay: what bends most."""
    left, right, low, high = seen
    middle, half = (left + right) / 2, min(_LINE_OVER * (right - left) / 2, _LONGEST_RAD / 2)
    up = min((high if abs(high) > abs(low) else low) / 2, math.radians(40), key=abs)
    return np.asarray(direction(np.array([middle - half, middle + half]), np.array([up, up])))
