"""What of the joined picture is shown and delivered: by hand, the largest of a ratio, or the largest without gaps."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

import numpy as np

from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.geometry.rectangles import Rectangle, inner_rectangle
from idle_lantern.core.join.request import JoinResult
from idle_lantern.core.outing.model import CropBox, Outing
from idle_lantern.core.pictures.source import reduced
from idle_lantern.core.pictures.tiled import open_picture

#: Pixels of the reduced picture in which gaps are looked for.
_LOOKED_PX = 1100


def crop_box(outing: Outing, joined: JoinResult) -> Rectangle:
    """The crop that is chosen; all of the picture where it is not to be cropped."""
    width, height = joined.canvas.width, joined.canvas.height
    if not outing.composition.crop:
        return Rectangle(0, 0, width, height)
    by_hand = hand_box(outing, joined)
    if by_hand is not None:
        return Rectangle(by_hand.x, by_hand.y, by_hand.width, by_hand.height)
    ratio = outing.composition.ratio
    return joined.crop if ratio is None else largest(joined, ratio[0] / ratio[1])


def hand_box(outing: Outing, joined: JoinResult) -> CropBox | None:
    """The crop that was set by hand on a picture of this very size, if any."""
    box = outing.composition.box
    if box is None or box.of != (joined.canvas.width, joined.canvas.height):
        return None
    return box if box.x + box.width <= box.of[0] and box.y + box.height <= box.of[1] else None


def largest(joined: JoinResult, ratio: float) -> Rectangle:
    """The largest rectangle of a width by height without gaps."""
    try:
        return _largest(joined.picture, joined.picture.stat().st_mtime_ns, ratio)
    except (OSError, LanternError):  # the picture is gone: what shows it says so
        return joined.crop


@lru_cache(maxsize=16)
def _largest(picture: Path, _written: int, ratio: float) -> Rectangle:
    source = open_picture(picture)
    small = reduced(source, _LOOKED_PX)
    width, height = source.sizes[0]
    alpha = small[..., 3] if small.shape[2] == 4 else np.full(small.shape[:2], 255, np.uint8)
    found = inner_rectangle(alpha, ratio=ratio)
    # on the full picture, inside by a reduced pixel so that no gap is left, and exactly of the ratio
    scale = width / small.shape[1]
    spare = 0.0 if bool((alpha == np.iinfo(alpha.dtype).max).all()) else scale
    left, top = found.left * scale + spare, found.top * scale + spare
    room = min(found.width * scale, width - found.left * scale) - 2 * spare
    tall = min(found.height * scale, height - found.top * scale) - 2 * spare
    across, down = min(room, tall * ratio), min(tall, room / ratio)
    return Rectangle(
        round(left + (room - across) / 2), round(top + (tall - down) / 2), max(1, int(across)), max(1, int(down))
    )


def has_gaps(joined: JoinResult, box: Rectangle) -> bool:
    """Whether a box holds a place that shows nothing."""
    try:
        small = reduced(open_picture(joined.picture), _LOOKED_PX)
    except LanternError:
        return False
    if small.shape[2] == 3:
        return False
    scale = joined.canvas.width / small.shape[1]
    rows = slice(int(box.top / scale), max(int(box.top / scale) + 1, int((box.top + box.height) / scale)))
    columns = slice(int(box.left / scale), max(int(box.left / scale) + 1, int((box.left + box.width) / scale)))
    return bool((small[rows, columns, 3] == 0).any())
