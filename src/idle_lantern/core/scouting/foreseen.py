"""The planned picture drawn before it is shot: the scouting ground on the canvas that the join would make of the plan."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.compositing.canvas.canvas import Canvas, make_canvas
from idle_lantern.core.compositing.canvas.costs import costs_of, straight_line
from idle_lantern.core.geometry.projections import panini_parameters
from idle_lantern.core.geometry.rectangles import Rectangle, inner_rectangle
from idle_lantern.core.plan.coverage import cameras_of
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.registration.solve.covered_field import Field, field_of
from idle_lantern.core.registration.solve.poses import Poses
from idle_lantern.core.scouting.reprojection import ReprojectedScouts, on_canvas

#: Points on each side of a frame's outline.
_PER_SIDE = 12
#: So many places across a frame, and down it, tell where the canvas ends: a plan of hundreds of frames follows the hand.
_ACROSS = 13


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


def foreseen_canvas(plan: Plan, projection: str = "auto", distance: float = 1.0) -> Canvas:
    """The canvas that the join of the planned frames would have, at full size."""
    poses = _poses(plan)
    return _canvas(poses, field_of(poses, _ACROSS), projection, distance)


def _canvas(poses: Poses, seen: Field, projection: str, distance: float) -> Canvas:
    parameters = panini_parameters(distance) if projection == "panini" else None
    return make_canvas(poses, seen, projection, parameters=parameters, across=_ACROSS)


def _poses(plan: Plan) -> Poses:
    """The frames as they lie when all are shot as planned."""
    lenses = tuple(plan.rig.lens_of(f) for f in plan.frames)
    return Poses(tuple(range(len(lenses))), lenses, cameras_of(plan.frames))


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
    poses = _poses(plan)
    seen = field_of(poses, _ACROSS)
    full = _canvas(poses, seen, projection, distance)
    small = full.scaled(min(1.0, math.sqrt(most_px / (full.width * full.height))))
    with np.errstate(invalid="ignore"):
        outlines = tuple(small.pixels(_rims(plan)))
    covered = _covered(plan, small, outlines)
    pixels = on_canvas(small, grounds)
    scouted = pixels[..., 3] > 0
    pixels[~covered] = 0
    crop = inner_rectangle((covered * 255).astype(np.uint8), 400, ratio)
    inside = (slice(crop.top, crop.top + crop.height), slice(crop.left, crop.left + crop.width))
    area = float(covered.sum())
    told = costs_of(small, covered, straight_line(seen)) if costs else None
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


def _rims(plan: Plan) -> Array:
    """World directions round each frame, (F, N, 3)."""
    cameras = cameras_of(plan.frames)
    if plan.rig.motion == "lens-shift":
        rays = np.stack([plan.rig.lens_of(f).rim_rays(_PER_SIDE) for f in plan.frames])
        return np.asarray(rays @ cameras.transpose(0, 2, 1))
    return np.asarray(plan.rig.lens().rim_rays(_PER_SIDE) @ cameras.transpose(0, 2, 1))


def _poles(plan: Plan) -> Array:
    """Which frames hold the zenith and which the nadir, (F, 2) bool."""
    cameras = cameras_of(plan.frames)
    lens = plan.rig.lens()
    return np.stack([lens.sees(cameras.transpose(0, 2, 1) @ np.array([0.0, s, 0.0])) for s in (-1.0, 1.0)], -1)


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
