"""Frames that show the same as another: repeats and copies, of which the sharpest is kept."""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numpy as np

from idle_lantern.core.registration.match.features import WorkingFrame
from idle_lantern.core.registration.solve.poses import Poses

#: Neighbours of the tightest school share half of a frame; repeats share nearly all.
_SAME_SHARE = 0.93
#: What share of a frame another one shows is told by so many places across and down.
_ACROSS = 31


def duplicates(poses: Poses, working: Sequence[WorkingFrame]) -> dict[int, int]:
    """Frames to leave out, each with the frame that stays in its place.

    ``working`` is indexed by frame of the whole set. The sharpest frame of a place
    stays; of equally sharp ones the first.
    """
    axes = poses.world_from_camera[:, :, 2]
    close = axes @ axes.T > np.cos(0.2 * min(min(lens.field_rad()) for lens in poses.lenses))
    pairs = [
        (i, j)
        for i, j in zip(*np.nonzero(np.triu(close, 1)))
        if all(poses.share_shown(int(a), int(b), _ACROSS) > _SAME_SHARE for a, b in ((i, j), (j, i)))
    ]
    if not pairs:
        return {}
    sharp = {i: sharpness(working[poses.frames[i]]) for pair in pairs for i in pair}
    gone: dict[int, int] = {}
    for i in sorted(sharp, key=lambda k: (-sharp[k], k)):
        if i in gone:
            continue
        for a, b in pairs:
            if i in (a, b):
                other = int(b if a == i else a)
                gone.setdefault(other, int(i))
    return {poses.frames[a]: poses.frames[b] for a, b in gone.items()}


def sharpness(frame: WorkingFrame) -> float:
    """Energy of fine detail, comparable between frames of the same place only."""
    grey = cv2.cvtColor(frame.picture.pixels, cv2.COLOR_RGB2GRAY)
    return float(cv2.Laplacian(grey, cv2.CV_32F).var())
