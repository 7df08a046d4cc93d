"""Whether a picture may stand on its head: a camera that hung from a clamp, and files that do not say so."""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.registration.match.features import WorkingFrame
from idle_lantern.core.registration.solve.poses import Poses

#: Said of it.
SENTENCE = "The picture may stand on its head: what looks like sky lies below the horizon."
#: Sky is smooth (standard deviation of display values about a place), brighter than most of the picture, and no redder than blue by more.
_SMOOTH, _BRIGHTER_THAN, _REDDER = 5.0, 0.6, 8.0
#: So much of what lies on one side of the horizon looks like sky, and so little on the other; either side is so much of all that is seen.
_MUCH, _LITTLE, _LEAST_SIDE = 0.5, 0.03, 0.15
#: What lies nearer to the horizon (sine of the altitude) tells nothing, and frames are looked at in so many pixels across.
_NEAR_HORIZON, _ACROSS = 0.03, 96


def upside_down(poses: Poses, working: Sequence[WorkingFrame]) -> bool:
    """Whether sky lies below and none above, in upright poses; ``working`` are their reduced frames, in the order of ``poses.frames``."""
    parts = [_looked_at(poses, i, frame) for i, frame in enumerate(working)]
    up, grey, smooth = (np.concatenate([part[k] for part in parts]) for k in range(3))
    sky = smooth & (grey > np.quantile(grey, _BRIGHTER_THAN))
    above, below = up > _NEAR_HORIZON, up < -_NEAR_HORIZON
    if min(above.mean(), below.mean()) < _LEAST_SIDE:
        return False
    return bool(sky[below].mean() > _MUCH and sky[above].mean() < _LITTLE)


def _looked_at(poses: Poses, i: int, frame: WorkingFrame) -> tuple[Array, Array, Array]:
    """Of places of a frame the sine of their altitude, how bright they are, and whether they are as smooth as sky, (N,) each."""
    pixels = frame.picture.pixels
    size = (_ACROSS, max(8, round(_ACROSS * pixels.shape[0] / pixels.shape[1])))
    small = cv2.resize(pixels, size, interpolation=cv2.INTER_AREA).astype(np.float32)
    grey = cv2.cvtColor(small, cv2.COLOR_RGB2GRAY)
    rough = np.sqrt(np.maximum(cv2.blur(grey**2, (5, 5)) - cv2.blur(grey, (5, 5)) ** 2, 0))
    smooth = (rough < _SMOOTH) & (small[..., 2] > small[..., 0] - _REDDER)
    up = -poses.directions(i, poses.lenses[i].places_px(size[0], size[1]))[..., 1]
    seen = np.isfinite(up)
    return up[seen], grey[seen], smooth[seen]
