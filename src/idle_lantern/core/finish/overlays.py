"""What is laid over a finished picture while it is looked at, and never written: where a mask works, and what is cut."""

from __future__ import annotations

import hashlib

import msgspec
import numpy as np

from idle_lantern.core.base.arrays import Float32Image
from idle_lantern.core.finish.finishing import CUT
from idle_lantern.core.finish.masks import Mask
from idle_lantern.core.finish.tile_look import Form, Ground, TileLook
from idle_lantern.core.pictures.operations import Operation, TilePlace

#: Where a mask does not work the picture is paler and darker, by so much.
_AWAY = 0.75
#: Cut to white is shown so, cut to black so: a light and a dark that no picture has beside each other, striped.
_WHITE, _BLACK = (0.85, 0.25, 0.75), (0.35, 0.75, 0.95)
_STRIPE_PX = 4


class MaskShown(Operation):
    """All that a mask leaves out in a dark grey, as far as it does."""

    name = "show-mask"

    def __init__(self, mask: Mask, ground: Ground) -> None:
        self._mask, self._ground = mask, ground

    @property
    def key(self) -> str:
        """As of ``Operation``."""
        return hashlib.sha256(msgspec.json.encode(self._mask)).hexdigest()

    def apply(self, tile: Float32Image, at: TilePlace) -> Float32Image:
        """As of ``Operation``."""
        form: Form = "linear" if self._ground.space.is_linear else "display"
        look = TileLook(self._ground, at, tile[..., 3], np.ascontiguousarray(tile[..., :3]), form)
        away = _AWAY * (1 - self._mask.strength(look))[..., None]
        grey = 0.3 * tile[..., :3].mean(2, keepdims=True)
        return np.dstack([tile[..., :3] * (1 - away) + grey * away, tile[..., 3:]]).astype(np.float32)


class CutShown(Operation):
    """Places where any colour is cut, striped: to white, or all of them to black."""

    name = "show-cut"
    key = "show-cut"

    def apply(self, tile: Float32Image, at: TilePlace) -> Float32Image:
        """As of ``Operation``."""
        values, seen = tile[..., :3], tile[..., 3] > 0
        made = tile.copy()
        y, x = np.mgrid[at.box.top : at.box.top + tile.shape[0], at.box.left : at.box.left + tile.shape[1]]
        stripe = (x + y) // _STRIPE_PX % 2 == 0
        made[seen & stripe & (values.max(2) >= 1 - CUT), :3] = _WHITE
        made[seen & stripe & (values.max(2) <= CUT), :3] = _BLACK
        return made
