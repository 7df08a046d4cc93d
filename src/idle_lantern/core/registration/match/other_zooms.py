"""Frames that were zoomed or cropped and do not tell it: their scale against the others by what both show."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np

from idle_lantern.core.frames.frameset import FrameSet
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.match.links import Link, groups_of
from idle_lantern.core.registration.match.verify import acceptable, verify

#: Matches that one similarity must explain before its scale is believed, and their share of all.
_LEAST, _SHARE = 12, 0.3
#: How far a match may lie from it, as share of the diagonal: a similarity is not quite what a turn does.
_WITHIN = 0.012
#: Scales about that of a similarity at which a turn is tried.
_TRIED = np.exp(np.linspace(-0.12, 0.12, 13))
#: Scales that explain so much of what the best explains tell it together: the best alone is one of many that do about the same.
_ALL_BUT = 0.97
#: Frames whose scales differ by less share a lens, and less than that is no zoom.
_SAME = 0.03
#: Focal lengths, each found for its frame alone, that differ by more are of another zoom.
_APART = 0.012


@dataclass(frozen=True)
class Zoomed:
    """A lens for each frame, and a label for each: frames of one label share a lens."""

    lenses: list[Lens]
    labels: tuple[int, ...]


def other_zooms(frames: FrameSet, raw: Sequence[Link], links: Sequence[Link], lenses: Sequence[Lens]) -> Zoomed | None:
    """Lenses under which more of the frames match; None where nothing was zoomed or cropped.

    ``raw`` are all matches, ``links`` those that agree under ``lenses``. What is apart from the largest group is carried to it by
    the scale between two frames, the strongest link first.
    """
    groups = groups_of(len(frames), links)
    if len(groups) == 1 or any(lens.model != "rectilinear" for lens in lenses):
        return None
    inside = set(groups[0]) if len(groups[0]) > 1 else set()
    apart = [k for k in raw if not {k.a, k.b} <= inside]
    scales = {(k.a, k.b): found for k in apart if (found := _scale_of(k, lenses)) is not None}
    if not scales:
        return None
    if not inside:  # nothing agrees yet: a frame of the best pair begins
        inside = {max(scales, key=lambda pair: scales[pair][0])[0]}
    focal = {f: lenses[f].focal_px for f in inside}
    while reaching := [pair for pair in scales if (pair[0] in focal) != (pair[1] in focal)]:
        a, b = max(reaching, key=lambda pair: scales[pair][0])
        scale = scales[a, b][1]
        known, new, times = (a, b, scale) if a in focal else (b, a, 1 / scale)
        focal[new] = _agreed(focal[known] * times, list(focal.values()))
    changed = {f: px for f, px in focal.items() if abs(math.log(px / lenses[f].focal_px)) > _SAME}
    if not changed:
        return None
    kinds = list(dict.fromkeys(focal.values()))
    labels = tuple(kinds.index(focal[f]) if f in focal else 0 for f in range(len(frames)))
    made = [replace(lens, focal_px=focal.get(f, lens.focal_px)) for f, lens in enumerate(lenses)]
    return Zoomed(made, labels)


def told_apart(placed: Sequence[int], own: Sequence[Lens], lenses: Sequence[Lens]) -> Zoomed | None:
    """Frames by focal lengths that were found for each of those ``placed``, alike ones under one; None where all are alike.

    ``lenses`` are those of all frames, for the frames that are not placed.
    """
    order = sorted(range(len(placed)), key=lambda i: own[i].focal_px)
    cuts = [
        i for i, (a, b) in enumerate(zip(order, order[1:]), 1) if math.log(own[b].focal_px / own[a].focal_px) > _APART
    ]
    if not cuts:
        return None
    labels, made = [0] * len(lenses), list(lenses)
    for label, part in enumerate(np.split(np.array(order), cuts)):
        focal_px = float(np.median([own[i].focal_px for i in part]))
        for i in part.tolist():
            labels[placed[i]], made[placed[i]] = label, replace(lenses[placed[i]], focal_px=focal_px)
    return Zoomed(made, tuple(labels))


def _agreed(focal_px: float, known: Sequence[float]) -> float:
    """A focal length as that of a frame which has much the same."""
    near = [k for k in known if abs(math.log(focal_px / k)) < _SAME]
    return min(near, key=lambda k: abs(math.log(focal_px / k))) if near else focal_px


def _scale_of(link: Link, lenses: Sequence[Lens]) -> tuple[int, float] | None:
    """How many matches a turn explains where the second frame is drawn so many times as large as the first, and that scale."""
    lens_a, lens_b = lenses[link.a], lenses[link.b]
    if len(link.points_a) < _LEAST:
        return None
    within = _WITHIN * math.hypot(lens_a.width, lens_a.height)
    cv2.setRNGSeed(1)
    matrix, inlier = cv2.estimateAffinePartial2D(
        link.points_a, link.points_b, method=cv2.RANSAC, ransacReprojThreshold=within, maxIters=2000
    )
    if matrix is None or inlier.sum() < max(_LEAST, _SHARE * len(link.points_a)):
        return None
    about = math.hypot(matrix[0, 0], matrix[1, 0])
    if not 0.2 < about < 5:
        return None
    found: list[tuple[int, float]] = []
    for scale in about * _TRIED:
        lens = replace(lens_b, focal_px=lens_a.focal_px * scale)
        tolerance = within / 2
        turned = verify(link, lens_a, lens, tolerance, np.random.default_rng(1))
        if turned is not None and acceptable(turned, lens_a, lens):
            found.append((turned.inliers, float(scale)))
    if not found:
        return None
    most = max(inliers for inliers, _scale in found)
    return most, float(np.median([scale for inliers, scale in found if inliers >= _ALL_BUT * most]))
