"""Frames with a hand before the lens, or with the cap on, that part one run from the next."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.sorting.previews import FilePreview, common, goes_on

#: A covered lens lets in so many EV less than the place gives.
_COVERED_EV = 3.5
#: What is brighter than the place by this looks towards the sun; what is burnt out over this share is no hand either.
_GLARE_EV, _BURNT = 2.5, 0.3
#: A hand before the lens is all out of focus: fine contrast is so small a share of the usual, and of its coarse contrast unless
#: there is next to none at all.
_SOFT, _SMOOTH, _EVEN = 0.35, 0.16, 0.1
#: Mean distance in CIE Lab from the nearest colours of the frames about it beyond which nothing there is known from them.
_STRANGE = 4.5
#: Up to this nothing there is strange; and up to this what was only out of focus is known by its shapes that go on in a frame about
#: it, by so much.
_KNOWN, _FAR, _GOES_ON = 2.2, 8.0, 0.87
#: A sky or a wall goes on in what is even in the frames about it: fine contrast up to so many times its own, or this share of the usual.
_AS_EVEN, _EVEN_BLOCKS = 2.0, 0.3
#: Likeness from which a dark frame is an exposure of the place that another one shows.
_SAME_PLACE = 0.3
#: So many other soft frames of much the same colours, among those this near: none of them is a hand.
_NEAR, _MOST_TOGETHER = 7, 3
_DARK_GREY = 0.12
#: So many frames before and after are looked at.
_BESIDE = 4


def bookends(looks: Sequence[FilePreview]) -> list[bool]:
    """For frames in the order taken, whether each is a bookend."""
    if len(looks) < 3:
        return [False] * len(looks)
    usual_detail = float(np.median([look.detail for look in looks]))
    usual_light = float(np.median([look.light_ev for look in looks]))
    covered = [_covered(look, usual_light) and not _seen_beside(looks, i) for i, look in enumerate(looks)]
    soft = [
        look.detail < _SOFT * usual_detail
        and (look.detail < _SMOOTH * look.coarse or look.detail < _EVEN * usual_detail)
        and look.light_ev < usual_light + _GLARE_EV
        and float((look.grey > 0.95).mean()) < _BURNT
        for look in looks
    ]
    # hands come alone or by twos; many soft frames alike are a sky or a fog
    maybe = [covered[i] or (soft[i] and not _one_of_many(looks, soft, i)) for i in range(len(looks))]
    # a sky is known from its neighbour, and that one from its own: what is known makes more known
    for _ in looks:
        open_to = [i for i in range(len(looks)) if maybe[i] and not covered[i]]
        known = [i for i in open_to if not _strange(looks[i], _about(looks, maybe, i), usual_detail)]
        if not known:
            break
        for i in known:
            maybe[i] = False
    return maybe


def _one_of_many(looks: Sequence[FilePreview], soft: Sequence[bool], i: int) -> bool:
    near = [j for j in range(max(0, i - _NEAR), min(len(looks), i + _NEAR + 1)) if soft[j] and j != i]
    return sum(_apart(looks[i], looks[j].blocks) <= _STRANGE for j in near) >= _MOST_TOGETHER


def _covered(look: FilePreview, usual_light: float) -> bool:
    """Next to no light where there should be some; a frame that was exposed for less is none."""
    return look.light_ev < usual_light - _COVERED_EV and float(np.percentile(look.grey, 98)) < _DARK_GREY


def _seen_beside(looks: Sequence[FilePreview], i: int) -> bool:
    """Whether a frame taken just before or after shows the same place brighter."""
    beside = [looks[j] for j in range(max(0, i - _BESIDE), min(len(looks), i + _BESIDE + 1)) if j != i]
    return any((seen := common(other, looks[i])) is not None and seen.ground >= _SAME_PLACE for other in beside)


def _about(looks: Sequence[FilePreview], maybe: Sequence[bool], i: int) -> list[FilePreview]:
    """The frames about one that are no bookends."""
    return [looks[j] for j in range(max(0, i - _BESIDE), min(len(looks), i + _BESIDE + 1)) if not maybe[j]]


def _strange(look: FilePreview, about: Sequence[FilePreview], usual_detail: float) -> bool:
    """Whether what it shows is no part of the place that the frames about it show."""
    if not about:
        return True
    away = _apart(look, np.concatenate([other.blocks for other in about]))
    if away <= _KNOWN:
        return False
    most = max(_AS_EVEN * look.detail, _EVEN_BLOCKS * usual_detail)
    even = np.concatenate([other.blocks[other.block_details < most] for other in about])
    if len(even) and _apart(look, even) <= _STRANGE:
        return False
    return away > _FAR or max(goes_on(look, other) for other in about) < _GOES_ON


def _apart(look: FilePreview, known: Array) -> float:
    """Mean distance of a frame's colours from the nearest of others, CIE Lab."""
    return float(np.linalg.norm(look.blocks[:, None] - known[None], axis=2).min(1).mean())
