"""A net loft on the invented island: a dim room with one bright window, for light that no single exposure holds.

The turning axis stands at the origin, 1.5 m above the boards. x is right, z forward; the window is in the wall ahead.
"""

from __future__ import annotations

import math

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.simulator import textures
from idle_lantern.simulator.camera import SCENE_EV
from idle_lantern.simulator.materials import masonry, planks, scaled, tiles
from idle_lantern.simulator.shapes import DOWN, box, quad
from idle_lantern.simulator.sky import make_sky
from idle_lantern.simulator.surfaces import Diorama, Material, Quad

_FLOOR, _CEILING = 1.5, -1.3
_WIDE, _DEEP = 7.0, 6.0
#: Light of the window's sky, and of the room's shade, where sunlit white is 0.8: six to seven stops apart.
_OUTSIDE, _INSIDE = 1.9, 0.075
#: What of the room's shade its stone and boards give back, as seen in the middle of the walls.
_GIVEN_BACK = 0.42


def metered_ev() -> tuple[float, float]:
    """What a meter reads in the room and at the window, EV at ISO 100: it takes what it sees for 18 % grey (ISO 2720)."""
    room, window = (SCENE_EV + math.log2(light / 0.18) for light in (_INSIDE * _GIVEN_BACK, _OUTSIDE))
    return room, window


def net_loft(window_x_m: float = 0.0, *, outside: float = _OUTSIDE, seed: int = 1) -> Diorama:
    """The room, its window ``window_x_m`` to the right of the middle of the wall ahead."""
    rng = np.random.default_rng(seed)
    right, ahead = _WIDE / 2, _DEEP * 0.6
    stone = masonry((0.8, 0.72, 0.62), 31 + seed)
    boards, beams = planks((0.75, 0.6, 0.42), 37 + seed, 0.18), planks((0.6, 0.5, 0.38), 41 + seed, 0.4)
    high = _FLOOR - _CEILING
    back = ahead - _DEEP
    walls = [
        quad((-right, _CEILING, ahead), (1, 0, 0), DOWN, (_WIDE, high), stone),
        quad((right, _CEILING, ahead), (0, 0, -1), DOWN, (_DEEP, high), stone),
        quad((-right, _CEILING, back), (0, 0, 1), DOWN, (_DEEP, high), stone),
        quad((right, _CEILING, back), (-1, 0, 0), DOWN, (_WIDE, high), stone),
        quad((-right, _FLOOR, ahead), (1, 0, 0), (0, 0, -1), (_WIDE, _DEEP), boards),
        quad((-right, _CEILING, back), (1, 0, 0), (0, 0, 1), (_WIDE, _DEEP), beams),
    ]
    window = quad(
        (window_x_m - 0.8, -0.75, ahead - 0.02), (1, 0, 0), DOWN, (1.6, 1.3), _view(outside, seed), layer=5, lit=False
    )
    things: list[Quad] = []
    for x, z in ((-2.6, 2.4), (2.5, 2.0), (-2.9, -0.9), (2.8, -1.2), (1.4, 3.1), (-1.5, 3.0)):
        size = float(rng.uniform(0.45, 0.9))
        side = tiles((0.7, 0.5, 0.35), 51 + len(things)) if rng.random() < 0.4 else scaled(boards, 0.7)
        things += box((x, z), (size, size, size), _FLOOR, float(rng.uniform(-40, 40)), side, layer=6, top=boards)
    dim = (_INSIDE, _INSIDE * 0.93, _INSIDE * 0.82)
    return Diorama(
        quads=(*walls, window, *things), sky=make_sky((0, -1, 0), 0.0), sun_direction=(0, -1, 0), sun=(0, 0, 0), shade=dim,
        haze=(0, 0, 0), haze_m=1e6,
    )  # fmt: skip


def _view(outside: float, seed: int) -> Material:
    """What stands before the window: bright sky over a shore, behind bars."""

    def material(a: Array, b: Array, f: Array) -> Array:
        sky = (
            np.array([0.86, 0.93, 1.0], np.float32)
            * (1 + 0.25 * textures.noise(a * 3, b * 6, f, 1.0, 71 + seed))[..., None]
        )
        shore = np.array([0.24, 0.27, 0.16], np.float32) * textures.detail(a * 6, b * 6, f, 73 + seed, 0.6)[..., None]
        line = 0.86 + 0.06 * textures.noise(a * 2, np.zeros_like(a), f, 1.0, 77 + seed)
        land = textures.edge(b - line, f)[..., None]
        seen = (sky + land * (shore - sky)) * np.float32(outside)
        bars = np.maximum(textures.lines(a, f, 0.4, 0.05), textures.lines(b, f, 0.43, 0.05))[..., None]
        return np.asarray(seen + bars * (np.float32(0.02) - seen))

    return material
