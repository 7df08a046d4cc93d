"""Frames with a hand before the lens, or with the cap on, that part one run from the next."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.sorting.previews import FilePreview

#: A covered lens lets in so many EV less than the place gives.
_COVERED_EV = 3.5
#: What is brighter than the place by this looks towards the sun; what is burnt out over this share is no hand either.
_GLARE_EV, _BURNT = 2.5, 0.3
#: A hand before the lens is all out of focus: fine contrast is so small a share of the usual, and of its coarse contrast.
_SOFT, _SMOOTH = 0.35, 0.16
#: Mean distance in CIE Lab from the nearest colours of the frames about it beyond which nothing there is known from them.
_STRANGE = 4.5
#: So many other soft frames of much the same colours, among those this near: none of them is a hand.
_NEAR, _MOST_TOGETHER = 7, 3
_DARK_GREY = 0.12


def bookends(looks: Sequence[FilePreview]) -> list[bool]:
    """For frames in the order taken, whether each is a bookend."""
    if len(looks) < 3:
        return [False] * len(looks)
    usual_detail = float(np.median([look.detail for look in looks]))
    usual_light = float(np.median([look.light_ev for look in looks]))
    covered = [_covered(look, usual_light) for look in looks]
    soft = [
        look.detail < _SOFT * usual_detail
        and look.detail < _SMOOTH * look.coarse
        and look.light_ev < usual_light + _GLARE_EV
        and float((look.grey > 0.95).mean()) < _BURNT
        for look in looks
    ]
    # hands come alone or by twos; many soft frames alike are a sky or a fog
    maybe = [covered[i] or (soft[i] and not _one_of_many(looks, soft, i)) for i in range(len(looks))]
    # a sky is known from its neighbour, and that one from its own: what is known makes more known
    for _ in looks:
        known = [i for i in range(len(looks)) if maybe[i] and not covered[i] and not _strange(looks, maybe, i)]
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


def _strange(looks: Sequence[FilePreview], maybe: Sequence[bool], i: int) -> bool:
    """Whether the frames about it show none of its colours: a sky without clouds goes on in its neighbours."""
    others = [looks[j].blocks for j in range(max(0, i - 4), min(len(looks), i + 5)) if not maybe[j]]
    if not others:
        return True
    return _apart(looks[i], np.concatenate(others)) > _STRANGE


def _apart(look: FilePreview, known: Array) -> float:
    """Mean distance of a frame's colours from the nearest of others, CIE Lab."""
    return float(np.linalg.norm(look.blocks[:, None] - known[None], axis=2).min(1).mean())
