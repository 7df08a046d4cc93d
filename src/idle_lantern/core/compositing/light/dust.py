"""Dust on the sensor: dark spots at one place in every frame, whatever the frame shows; left out where others are clean."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.frames.masks import Mask, Masks
from idle_lantern.core.frames.reading import FrameInfo
from idle_lantern.core.registration.match.features import WorkingFrame
from idle_lantern.core.registration.solve.poses import Poses

#: Only frames that are smooth about a place can tell of dust there: so many, and this share of all.
_LEAST_FRAMES, _LEAST_SHARE = 4, 0.3
#: Contrast about a place up to which it is smooth.
_SMOOTH = 0.022
_LEAST_LOSS = 0.02  # of light in a spot that is told, as a share
_EACH = 0.35  # share of it that every smooth frame must show
_ALIKE = 0.4  # by how much, as a share, frames may differ in it
_MOST_SPOTS = 12
#: On a ring about a spot nothing is darker than this share of its depth.
_RING = 0.35
_WIDER = 0.8  # times the spot's size is left out round it
_RIM_PX = 2.0  # and so much more
_MASK_PX = 1500  # longer side of a mask at most


@dataclass(frozen=True)
class Spot:
    """A spot: its place and size in pixels of the frame as the sensor saw it, and the share of light it takes."""

    u: float
    v: float
    size_px: float
    loss: float


def spots(frames: Sequence[WorkingFrame]) -> list[Spot]:
    """Spots common to all frames of a set, the darkest first. Frames are as the sensor saw them, of one size."""
    if len(frames) < _LEAST_FRAMES or len({f.picture.pixels.shape for f in frames}) > 1:
        return []
    total, squares, votes = (np.zeros(frames[0].picture.pixels.shape[:2], np.float32) for _ in range(3))
    least = np.full_like(total, -np.inf)
    for frame in frames:
        grey = cv2.cvtColor(frame.picture.pixels, cv2.COLOR_RGB2GRAY)
        logs = LOGS[grey]
        value = cv2.GaussianBlur(logs, (0, 0), 1.0) - wide(logs, 7)
        about = np.sqrt(np.maximum(wide(value * value, 8), 0))
        smooth = (about < np.maximum(_SMOOTH, 0.5 * np.abs(value))) & (grey > 20) & (grey < 250)
        votes += smooth
        total += np.where(smooth, value, 0)
        squares += np.where(smooth, value * value, 0)
        least = np.maximum(least, np.where(smooth, value, -np.inf))
    many = np.maximum(votes, 1)
    common = total / many
    spread = np.sqrt(np.maximum(squares / many - common**2, 0))
    dark = (
        (votes >= max(_LEAST_FRAMES, _LEAST_SHARE * len(frames)))
        & (common < -_LEAST_LOSS)
        & (spread < _ALIKE * -common)
        & (least < _EACH * common)
    ).astype(np.uint8)
    count, _labels, stats, centres = cv2.connectedComponentsWithStats(dark)
    scale = frames[0].scale
    found = []
    for k in range(1, count):
        area = int(stats[k, cv2.CC_STAT_AREA])
        if not 3 <= area <= 400:
            continue
        x, y = centres[k]
        if not _stands_alone(common, x, y, area):
            continue
        loss = light_lost(-float(common[round(float(y)), round(float(x))]))
        found.append(
            Spot((x + 0.5) * scale[0] - 0.5, (y + 0.5) * scale[1] - 0.5, 2 * (area / np.pi) ** 0.5 * scale[0], loss)
        )
    return sorted(found, key=lambda s: -s.loss)[:_MOST_SPOTS]


def light_lost(depth: float) -> float:
    """Share of the light that a spot takes whose display values are lower by a logarithm of ``depth``."""
    return 1 - float(np.exp(-_LIGHT_OF_DISPLAY * depth))


#: Light goes with about this power of display values (sRGB, IEC 61966-2-1, away from black).
_LIGHT_OF_DISPLAY = 2.2
#: Logarithm of a grey value of 8 bit, the darkest held off nothing.
LOGS = np.log(np.maximum(np.arange(256), 4)).astype(np.float32)


def wide(values: Array, sigma: float) -> Array:
    """A wide Gaussian of values (h, w), ``sigma`` in pixels, reckoned at a quarter of the size."""
    height, width = values.shape
    small = cv2.resize(values, (max(1, width // 4), max(1, height // 4)), interpolation=cv2.INTER_AREA)
    return np.asarray(
        cv2.resize(cv2.GaussianBlur(small, (0, 0), sigma / 4), (width, height), interpolation=cv2.INTER_LINEAR)
    )


def _stands_alone(common: Array, x: float, y: float, area: int) -> bool:
    """Whether it is clean all round: a horizon that lies at one height in every frame goes on at two sides."""
    radius = 3 + 1.8 * (area / np.pi) ** 0.5
    angles = np.arange(16) * np.pi / 8
    px = np.clip(np.rint(x + radius * np.cos(angles)).astype(int), 0, common.shape[1] - 1)
    py = np.clip(np.rint(y + radius * np.sin(angles)).astype(int), 0, common.shape[0] - 1)
    depth = -float(common[round(y), round(x)])
    return depth > 0 and float(-common[py, px].min()) < _RING * depth


def alike_held(infos: Sequence[FrameInfo]) -> list[int]:
    """The largest number of frames that were held one way: only their sensors lie on each other."""
    by_hold: dict[tuple[int, ...], list[int]] = {}
    for i, info in enumerate(infos):
        by_hold.setdefault((info.width, info.height, info.metadata.orientation), []).append(i)
    return max(by_hold.values(), key=len, default=[])


def dust_masks(poses: Poses, infos: Sequence[FrameInfo], working: Sequence[WorkingFrame]) -> tuple[list[Spot], Masks]:
    """Spots of a set, and for each frame (by place in the poses) a mask over those that another frame shows clean."""
    held = alike_held(infos)
    found = spots([working[i] for i in held])
    if not found:
        return [], {}
    at = np.array([(s.u, s.v) for s in found])
    reach = np.array([_WIDER * s.size_px + _RIM_PX for s in found])
    masks: dict[int, Mask] = {}
    for i in held:
        lens = poses.lenses[i]
        world = poses.directions(i, at)
        clean = np.zeros(len(found), bool)
        for j in range(len(poses.lenses)):
            if j == i or clean.all():
                continue
            seen, valid = poses.pixels(j, world)
            size = (poses.lenses[j].width - 1, poses.lenses[j].height - 1)
            inside = valid & (seen >= 2 * reach[:, None]).all(1) & (seen <= size - 2 * reach[:, None]).all(1)
            apart = np.linalg.norm(seen[:, None] - at[None], axis=2) > reach[:, None] + reach[None]
            clean |= inside & (apart.all(1) if j in held else True)
        if clean.any():
            masks[i] = _discs(at[clean], reach[clean], lens.width, lens.height)
    return found, masks


def _discs(at: Array, reach: Array, width: int, height: int) -> Mask:
    factor = min(1.0, _MASK_PX / max(width, height))
    hide = np.zeros((max(1, round(height * factor)), max(1, round(width * factor))), np.uint8)
    for (u, v), r in zip(at, reach):
        place = round((u + 0.5) * factor - 0.5), round((v + 0.5) * factor - 0.5)
        cv2.circle(hide, place, max(1, int(np.ceil(r * factor))), 255, -1)
    return Mask(hide, np.zeros_like(hide))
