"""Ambrel Holm: an invented salt-works island with a signal house, seen from its terrace.

The turning axis stands at the origin, 1.6 m above the paved terrace. Rope rail,
crates and a lamp stand within reach; the salt pans lie 3.4 m lower, the sea 2 m
below them; the signal house stands 38 m off; other islands lie 2 to 5 km away.
x is east, z north, y down; yaw 0 looks north.
"""

from __future__ import annotations

import math
from dataclasses import replace
from functools import lru_cache, partial
from typing import Any

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.simulator import textures
from idle_lantern.simulator.materials import masonry, plain, planks, scaled, tiles, wall_with_windows
from idle_lantern.simulator.shapes import DOWN, box, facing, quad
from idle_lantern.simulator.sky import make_sky
from idle_lantern.simulator.surfaces import Diorama, Material, Outline, Quad
from idle_lantern.simulator.weather import STILL, Weather

#: Heights below the camera in metres.
TERRACE_Y = 1.6
LAND_Y = 5.0
SEA_Y = 7.0
_UP = (0.0, -1.0, 0.0)


@lru_cache(maxsize=8)
def ambrel_holm(
    *,
    clouds: float = 1.0,
    walkers: int = 18,
    railing: bool = True,
    sun_azimuth_deg: float = 250.0,
    sun_altitude_deg: float = 24.0,
    seed: int = 1,
    weather: Weather = STILL,
) -> Diorama:
    """The whole place. ``railing`` adds what stands within 5 m; ``walkers`` move with time, the rest as ``weather`` tells."""
    azimuth, altitude = math.radians(sun_azimuth_deg), math.radians(sun_altitude_deg)
    sun = (
        math.cos(altitude) * math.sin(azimuth),
        -math.sin(altitude),
        math.cos(altitude) * math.cos(azimuth),
    )
    rng = np.random.default_rng(seed)
    quads = [_land(), *_far_islands(rng), *_signal_house(), *_sheds(rng), *_heaps(rng), *_trees(rng)]
    quads += [*_walls(), *_boats(rng), *_walkers(rng, walkers), *_terrace()]
    if railing:
        quads += [*_rail(), *_things_near(rng)]
    still = Diorama(quads=(_sea(), *quads), sky=make_sky(sun, clouds), sun_direction=sun)
    return still if weather.still else replace(still, later=partial(_later, still, weather, clouds))


def _later(still: Diorama, weather: Weather, clouds: float, time_s: float) -> Diorama:
    """The place after so many seconds: clouds drifted, waves run on, light changed."""
    drift, light = weather.drift_m(time_s), weather.light(time_s)
    return replace(
        still,
        quads=(_sea(weather.waves_m_s * time_s), *still.quads[1:]),
        sky=make_sky(still.sun_direction, clouds, drift_m=drift, light=light),
        sun=_dimmed(still.sun, light * weather.sunshine(time_s)),
        shade=_dimmed(still.shade, light),
        haze=_dimmed(still.haze, light),
        later=None,
    )


def _dimmed(light: tuple[float, float, float], by: float) -> tuple[float, float, float]:
    red, green, blue = light
    return red * by, green * by, blue * by


def upright(near_m: float) -> Quad:
    """A post of brick in front of the camera: what a no-parallax point is measured by."""
    return Quad((-0.06, -0.8, near_m), (1, 0, 0), (0, 1, 0), (0.12, 1.6), masonry((0.5, 0.4, 0.35), 7, 0.05, 0.03))


def _land_material(a: Array, b: Array, f: Array) -> Array:
    """Grass, tracks and a field of salt pans in different states of drying."""
    grass = np.array([0.20, 0.24, 0.09], np.float32) * textures.detail(a, b, f, 11, 0.5)[..., None]
    dry = np.clip(textures.noise(a, b, f, 60.0, 15) * 0.5 + 0.4, 0, 1)[..., None]
    ground = grass + dry * (
        np.array([0.36, 0.31, 0.20], np.float32) * textures.detail(b, a, f, 12, 0.4)[..., None] - grass
    )
    pan_w, pan_h, dike = 11.0, 7.0, 0.9
    i, j = np.floor(a / pan_w), np.floor(b / pan_h)
    dikes = np.maximum(textures.lines(a, f, pan_w, dike), textures.lines(b, f, pan_h, dike))
    state = textures.cell_noise(i, j, 3)[..., None]
    ripple = (1 + 0.05 * textures.noise(a, b, f, 3.1, 19))[..., None]
    brine = np.array([0.34, 0.46, 0.52], np.float32) * ripple + np.clip(state - 0.6, 0, 1) * np.array(
        [0.45, -0.10, -0.12], np.float32
    )
    crust = np.array([0.78, 0.78, 0.76], np.float32) * textures.detail(a, b, f, 21, 0.16)[..., None]
    dried = np.clip((textures.noise(a, b, f, 9.0, 23)[..., None] * 0.5 + state - 0.35) * 2.5, 0, 1)
    pan = brine + dried * (crust - brine)
    mud = np.array([0.30, 0.25, 0.19], np.float32) * textures.detail(a, b, f, 25, 0.45)[..., None]
    pans = pan + dikes[..., None] * (mud - pan)
    soft = np.maximum(f, 0.3)
    within = textures.edge(np.minimum(np.minimum(a - 88, 220 - a), np.minimum(b - 70, 188 - b)), soft)
    away = textures.edge(np.hypot(a - 150, b - 142) - 15, soft)  # firm ground round the terrace
    return ground + (within * away)[..., None] * (pans - ground)


def _sea_material(a: Array, b: Array, f: Array, run_m: float = 0.0) -> Array:
    """Swell that has run ``run_m`` on, and shorter waves that run slower (deep water: by the root of their length)."""
    swell = textures.noise(a, b * 2 + np.float32(run_m), f, 160.0, 31)
    swell = swell + 0.8 * textures.noise(b * 2 + np.float32(0.4 * run_m), a, f, 23.0, 32)
    chop = textures.noise(a, b * 2 + np.float32(0.16 * run_m), f, 4.1, 33)
    tone = 1 + 0.16 * swell + 0.14 * chop
    foam = np.clip((chop + 0.5 * swell - 3.0) * 1.2, 0, 1)[..., None]
    water = np.array([0.26, 0.40, 0.48], np.float32) * np.clip(tone, 0.4, 2)[..., None]
    return water + foam * (np.array([0.8, 0.8, 0.8], np.float32) - water)


# --- outlines --------------------------------------------------------------------------------


def _gable(width: float, height: float) -> Outline:
    return lambda a, b, f: textures.edge((b - height * np.abs(2 * a / width - 1)) * np.float32(0.7), f)


def _coast(a: Array, b: Array, f: Array) -> Array:
    """An island of about 110 m by 85 m round the place, with a ragged shore."""
    x, z = a - 150, b - 130
    rim = 1 - np.hypot(x / 118, z / 88)
    ragged = 30 * rim + 3.0 * textures.noise(a, b, f, 150.0, 41) + 0.8 * textures.noise(a, b, f, 17.0, 42)
    return textures.edge(ragged, np.maximum(f, 0.2))


def _ridge(width: float, height: float, seed: int) -> Outline:
    def outline(a: Array, b: Array, f: Array) -> Array:
        x = a / width
        zero = np.zeros_like(a)
        crest = 4 * x * (1 - x) * (0.6 + 0.22 * textures.noise(a, zero, f, width * 0.9, seed))
        crest = crest + 0.03 * textures.noise(a, zero, f, width * 0.11, seed + 1)
        return textures.edge(height * np.clip(crest, 0, 1) - (height - b), f)

    return outline


def _crown(width: float, height: float, seed: int) -> Outline:
    def outline(a: Array, b: Array, f: Array) -> Array:
        x, y = a / width - 0.5, b / height - 0.4
        blob = 0.34 - np.hypot(x, y * 0.85) + 0.05 * textures.noise(a, b, f, 6.0, seed)
        leaves = textures.edge(blob * width + 0.12 * textures.noise(b, a, f, 1.1, seed + 1), f)
        trunk = textures.edge(np.minimum(0.14 - np.abs(a - width / 2), b - height * 0.5), f)
        return np.maximum(leaves, trunk)

    return outline


def _figure(a: Array, b: Array, f: Array) -> Array:
    """A walking person 0.6 m wide and 1.7 m tall: head, coat, legs."""
    x = a - np.float32(0.3)
    head = 0.115 - np.hypot(x, b - 0.14)
    coat = np.minimum(0.13 + 0.09 * np.clip(b - 0.25, 0, 1) - np.abs(x), 0.62 - np.abs(b - 0.70))
    legs = np.minimum(0.07 - np.abs(np.abs(x) - 0.02 - 0.12 * np.clip(b - 1.1, 0, 1)), 1.7 - b)
    legs = np.where(b > 1.1, legs, -1)
    return textures.edge(np.maximum(np.maximum(head, coat), legs), f)


# --- things ----------------------------------------------------------------------------------


_EAST, _NORTH = (1.0, 0.0, 0.0), (0.0, 0.0, 1.0)


def _sea(run_m: float = 0.0) -> Quad:
    material: Material = partial(_sea_material, run_m=run_m)
    return quad((-20000, SEA_Y, -20000), _EAST, _NORTH, (40000, 40000), material, layer=1)


def _land() -> Quad:
    return quad((-150, LAND_Y, -130), _EAST, _NORTH, (300, 260), _land_material, outline=_coast, layer=3)


def _far_islands(rng: Any) -> list[Quad]:
    quads = []
    for i, azimuth in enumerate(np.radians([8, 41, 77, 122, 163, 196, 240, 283, 322])):
        distance = rng.uniform(2000, 5000)
        size = (rng.uniform(0.25, 0.6) * distance, rng.uniform(0.015, 0.05) * distance)
        x, z = distance * math.sin(azimuth), distance * math.cos(azimuth)
        soil = scaled(plain((0.17, 0.20, 0.13), 51 + i, 0.6), 40)
        quads.append(facing(x, z, SEA_Y + 1, size, soil, _ridge(*size, 60 + 3 * i), layer=2))
    return quads


def _house(
    x: float,
    z: float,
    size: tuple[float, float, float],
    turn: float,
    wall: Material,
    roof: Material,
    seed: int,
    rise: float,
    windows: bool = True,
) -> list[Quad]:
    w, h, dep = size
    walls = [wall_with_windows(wall, side, h, seed + i) if windows else wall for i, side in enumerate((w, dep, w, dep))]
    quads = box((x, z), size, LAND_Y, turn, walls)
    c, s = math.cos(math.radians(turn)), math.sin(math.radians(turn))
    right, back = np.array([c, 0, s]), np.array([-s, 0, c])
    eaves = np.array([x, LAND_Y - h, z])
    slope = math.hypot(dep / 2 + 0.3, rise)
    for sign in (-1, 1):
        down = (back * sign * (dep / 2 + 0.3) + np.array([0, rise, 0])) / slope
        ridge = eaves + np.array([0, -rise, 0]) - sign * -right * (w / 2 + 0.3)
        quads.append(quad(ridge, -right * sign, down, (w + 0.6, slope), roof))
        gable = eaves + right * sign * w / 2 + np.array([0, -rise, 0]) - back * dep / 2
        quads.append(quad(gable, back, DOWN, (dep, rise), wall, outline=_gable(dep, rise)))
    return quads


def _signal_house() -> list[Quad]:
    stone = masonry((0.52, 0.47, 0.40), 101)
    quads = _house(9, 37, (11, 6.5, 7), 12, stone, tiles((0.42, 0.17, 0.11), 103), 105, 3.0)
    plaster = plain((0.74, 0.73, 0.69), 111, 0.16)
    for base, height, radius, material in (
        (LAND_Y, 15.0, 2.3, plaster),
        (LAND_Y - 15, 2.6, 1.6, wall_with_windows(plain((0.4, 0.1, 0.08), 113), 1.3, 2.6, 9)),
    ):
        side = 2 * radius * math.tan(math.pi / 8)
        for k in range(8):
            out = np.array([math.sin(k * math.pi / 4), 0, math.cos(k * math.pi / 4)])
            along = np.array([out[2], 0, -out[0]])
            corner = np.array([-1.5, base - height, 39.5]) + out * radius + along * side / 2
            quads.append(quad(corner, -along, DOWN, (side, height), material))
    quads.append(facing(-1.5, 38.4, LAND_Y - 17.6, (4.4, 2.0), plain((0.22, 0.24, 0.25), 115), _gable(4.4, 2.0)))
    quads.append(facing(-1.5, 38.3, LAND_Y - 19.4, (0.12, 4.0), plain((0.2, 0.2, 0.2), 117), None))
    return quads


def _sheds(rng: Any) -> list[Quad]:
    quads = []
    for i, (azimuth, distance, width) in enumerate(
        (
            (-52, 46, 9),
            (-33, 63, 12),
            (47, 52, 10),
            (66, 34, 7),
            (108, 48, 11),
            (141, 60, 9),
            (178, 41, 8),
            (-150, 55, 12),
            (-118, 38, 8),
            (-84, 58, 10),
        )
    ):
        x, z = distance * math.sin(math.radians(azimuth)), distance * math.cos(math.radians(azimuth))
        tone = rng.uniform(0.6, 1.2)
        wall = planks((0.30 * tone, 0.22 * tone, 0.15 * tone), 130 + 10 * i)
        roof = tiles((0.34, 0.20 * tone, 0.15), 134 + 10 * i)
        size = (width, rng.uniform(2.6, 4.2), width * 0.6)
        quads += _house(
            x, z, size, float(rng.uniform(-40, 40)), wall, roof, 137 + 10 * i, rng.uniform(1.2, 2.4), i % 2 == 0
        )
    return quads


def _heaps(rng: Any) -> list[Quad]:
    quads = []
    for i in range(26):
        azimuth, distance = rng.uniform(0, 2 * math.pi), rng.uniform(22, 62)
        width = rng.uniform(2.2, 5.5)
        size = (width, width * 0.42)
        salt = plain((0.78, 0.78, 0.77), 300 + 4 * i, 0.22)
        quads.append(
            facing(distance * math.sin(azimuth), distance * math.cos(azimuth), LAND_Y + 0.05, size, salt, _gable(*size))
        )
    return quads


def _trees(rng: Any) -> list[Quad]:
    quads = []
    for i in range(30):
        azimuth, distance = rng.uniform(0, 2 * math.pi), rng.uniform(24, 80)
        height = rng.uniform(3.5, 8)
        size = (height * 0.9, height)
        leaf = plain((0.13, 0.19, 0.07), 420 + 5 * i, 0.8)
        quads.append(
            facing(
                distance * math.sin(azimuth),
                distance * math.cos(azimuth),
                LAND_Y,
                size,
                leaf,
                _crown(*size, 423 + 5 * i),
            )
        )
    return quads


def _walls() -> list[Quad]:
    quads = []
    for i, (azimuth, distance, length) in enumerate(((20, 17, 10), (-68, 21, 12), (128, 19, 11), (-140, 24, 9))):
        x, z = distance * math.sin(math.radians(azimuth)), distance * math.cos(math.radians(azimuth))
        stone = masonry((0.45, 0.42, 0.38), 570 + 5 * i, 0.4, 0.2)
        quads += box((x, z), (length, 1.1, 0.5), LAND_Y, azimuth * -0.6, stone, top=plain((0.5, 0.48, 0.44), 573 + i))
    return quads


def _boats(rng: Any) -> list[Quad]:
    quads = []
    for i in range(9):
        azimuth, distance = rng.uniform(0, 2 * math.pi), rng.uniform(180, 700)
        size = (9.0, 11.0)
        paint = plain(tuple(rng.uniform(0.3, 0.8, 3)), 600 + i, 0.2)

        def sail(a: Array, b: Array, f: Array) -> Array:
            hull = np.minimum(b - 9.6, 11.0 - b - 0.5 * np.abs(a - 4.5) / 4.5)
            hull = np.minimum(hull, 4.2 - np.abs(a - 4.5))
            canvas = np.minimum(np.minimum(a - 2.2, 9.2 - b), (b - 0.4) * 0.55 - (a - 2.2))
            return textures.edge(np.maximum(hull, canvas), f)

        quads.append(
            facing(distance * math.sin(azimuth), distance * math.cos(azimuth), SEA_Y, size, paint, sail, layer=2)
        )
    return quads


def _walkers(rng: Any, count: int) -> list[Quad]:
    quads = []
    for i in range(count):
        azimuth, distance = rng.uniform(0, 2 * math.pi), rng.uniform(14, 45)
        x, z = distance * math.sin(azimuth), distance * math.cos(azimuth)
        tone, warmth = rng.uniform(0.06, 0.45), rng.uniform(-0.25, 0.35)
        coat = (tone * (1 + warmth), tone, tone * (1 - warmth))
        speed = rng.uniform(0.7, 1.4) * rng.choice([-1, 1])
        velocity = (float(speed * math.cos(azimuth)), 0.0, float(-speed * math.sin(azimuth)))
        quads.append(facing(x, z, LAND_Y, (0.6, 1.7), plain(coat, 640 + i, 0.3), _figure, velocity_m_s=velocity))
    return quads


def walker(azimuth_rad: float, metres: float, deg_per_s: float, seed: int = 0) -> Quad:
    """Somebody who walks to the right across a direction, seen from the turning axis at so many degrees a second."""
    x, z = metres * math.sin(azimuth_rad), metres * math.cos(azimuth_rad)
    speed = metres * math.radians(deg_per_s)
    velocity = (speed * math.cos(azimuth_rad), 0.0, -speed * math.sin(azimuth_rad))
    coat = plain(_COATS[seed % len(_COATS)], 840 + seed, 0.3)
    return facing(x, z, LAND_Y, (0.6, 1.7), coat, _figure, velocity_m_s=velocity)


def standing(azimuth_rad: float, metres: float) -> Quad:
    """Somebody who stands still on the terrace, so many metres from the turning axis."""
    x, z = metres * math.sin(azimuth_rad), metres * math.cos(azimuth_rad)
    return facing(x, z, TERRACE_Y, (0.6, 1.7), plain((0.40, 0.10, 0.08), 861, 0.5), _figure, layer=7)


#: Coats that are seen from afar: dark, red, blue.
_COATS = ((0.02, 0.02, 0.025), (0.45, 0.03, 0.03), (0.02, 0.04, 0.28))


def _terrace() -> list[Quad]:
    """Paving 13 m by 11 m under the tripod."""
    slabs = masonry((0.50, 0.47, 0.42), 701, 0.9, 0.6)
    return [quad((-6, TERRACE_Y, -5), (1, 0, 0), (0, 0, 1), (13, 11), slabs, layer=5)]


def _rail() -> list[Quad]:
    """Posts with two hanging ropes along the north and east rim of the terrace, 3 to 7 m off."""
    quads = []
    posts = [(x, 4.2) for x in np.arange(-5.4, 5.5, 1.8)] + [(5.4, z) for z in np.arange(2.4, -4.5, -1.8)]
    wood, hemp = planks((0.34, 0.26, 0.18), 731, 0.07), plain((0.55, 0.44, 0.28), 735, 0.45)
    for x, z in posts:
        quads += box((x, z), (0.11, 1.05, 0.11), TERRACE_Y, 0, wood, layer=6)
    for (x0, z0), (x1, z1) in zip(posts, posts[1:]):
        length = math.hypot(x1 - x0, z1 - z0)
        along = np.array([(x1 - x0) / length, 0, (z1 - z0) / length])

        def ropes(a: Array, b: Array, f: Array, length: float = length) -> Array:
            sag = 0.22 * 4 * (a / length) * (1 - a / length)
            upper = 0.016 - np.abs(b - 0.06 - sag)
            lower = 0.014 - np.abs(b - 0.46 - sag)
            return textures.edge(np.maximum(upper, lower), f)

        quads.append(quad((x0, TERRACE_Y - 1.0, z0), along, DOWN, (length, 0.8), hemp, outline=ropes, layer=6))
    return quads


def _things_near(rng: Any) -> list[Quad]:
    quads = []
    for i, (x, z, size) in enumerate(
        ((-3.4, 2.6, 0.62), (-4.1, 2.2, 0.7), (-3.7, 3.1, 0.55), (3.9, -2.1, 0.7), (-1.8, -3.6, 0.8))
    ):
        wood = planks((0.42, 0.31, 0.20), 760 + 4 * i, 0.11)
        quads += box((x, z), (size, size, size), TERRACE_Y, float(rng.uniform(-40, 40)), wood, layer=6, top=wood)
    iron = plain((0.10, 0.11, 0.11), 790, 0.4)
    quads += box((3.3, 3.2), (0.09, 2.9, 0.09), TERRACE_Y, 15, iron, layer=6)
    pane = wall_with_windows(iron, 0.34, 0.5, 793)
    quads += box((3.3, 3.2), (0.34, 0.5, 0.34), TERRACE_Y - 2.9, 15, scaled(pane, 0.4), layer=6, top=iron)
    return quads
