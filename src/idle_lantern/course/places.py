"""Situations for exercises: other light, direction and people for every seed, so that none can be learned by heart."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.course.conduct import Angles, Situation, Take
from idle_lantern.simulator.camera import SCENE_EV, SimulatedCamera
from idle_lantern.simulator.diorama import ambrel_holm, upright, walker
from idle_lantern.simulator.surfaces import Diorama, Quad

#: A frame of the usual lens, upright: 24 mm on a small sensor, 45 by 59 degrees.
LENS = Lens("rectilinear", 480, 400, 540)
#: Directions of the island in which there is enough to see at any distance.
_FACINGS = (0.0, 20.0, -20.0, 60.0, -60.0, 120.0, -140.0, 170.0)
FIELD = (-70.0, 70.0, -20.0, 22.0)


def rng_of(seed: int) -> np.random.Generator:
    """What is by chance in a situation."""
    return np.random.default_rng([seed, 2026])


def facing_of(seed: int) -> float:
    """Which way the middle of the field looks."""
    return _FACINGS[seed % len(_FACINGS)]


def island(seed: int, **more: float) -> Diorama:
    """The island in the light of some hour, nobody about."""
    rng = rng_of(seed)
    sun = {"sun_azimuth_deg": float(rng.uniform(0, 360)), "sun_altitude_deg": float(rng.uniform(18, 50))}
    return ambrel_holm(walkers=0, **{**sun, **more})


def on_the_terrace(seed: int, **more: object) -> Situation:
    """A row of five frames from the terrace."""
    return replace(Situation(island(seed), LENS, FIELD, facing_deg=facing_of(seed), seed=seed), **more)  # type: ignore[arg-type]


def row(
    first_deg: float, step_deg: float, count: int, pitch_deg: float = 0.0, seconds: float = 6.0
) -> tuple[Take, ...]:
    """Takes from left to right."""
    return tuple(Take((first_deg + step_deg * i, pitch_deg, 0.0), at_s=seconds * i) for i in range(count))


def timed(angles: Sequence[Angles], seconds: float) -> tuple[Take, ...]:
    """Takes one after another."""
    return tuple(Take(a, at_s=seconds * i) for i, a in enumerate(angles))


def with_post(scene: Diorama, near_m: float, facing_deg: float, away_deg: float) -> Diorama:
    """The scene with an upright post near the camera, ``away_deg`` from where the middle looks."""
    post = upright(near_m)
    turn = math.radians(facing_deg + away_deg)
    c, s = math.cos(turn), math.sin(turn)

    def turned(v: tuple[float, float, float]) -> tuple[float, float, float]:
        return (c * v[0] + s * v[2], v[1], -s * v[0] + c * v[2])

    moved: Quad = replace(post, corner_m=turned(post.corner_m), across=turned(post.across), down=turned(post.down))
    return replace(scene, quads=(*scene.quads, moved))


def with_people(
    scene: Diorama, facing_deg: float, yaws_deg: Sequence[float], deg_per_s: float, metres: float
) -> Diorama:
    """The scene with people who walk round the camera to the right by so many degrees a second."""
    people = [
        walker(math.radians(facing_deg + yaw), metres + 0.7 * i, deg_per_s, seed=i) for i, yaw in enumerate(yaws_deg)
    ]
    return replace(scene, quads=(*scene.quads, *people))


#: Share of the frame's size at which a meter looks, and the grey that it takes all it sees for (ISO 2720).
_METER_SCALE, _METER_GREY = 0.06, 0.18
#: Red, green and blue in what a meter sees (ITU-R BT.709).
_METER_SEES = (0.2126, 0.7152, 0.0722)


def metered(place: Situation, yaw_deg: float) -> float:
    """What a meter of the whole frame reads in a direction of a place, EV at ISO 100."""
    camera = SimulatedCamera(place.lens.scaled(_METER_SCALE), place.focal_mm, place.focal_mm, noise=False)
    towards = rotations.from_yaw_pitch_roll(math.radians(place.facing_deg + yaw_deg), 0.0, 0.0)
    light = camera.view(place.scene, towards).light @ np.asarray(_METER_SEES, np.float32)
    return SCENE_EV + math.log2(max(1e-6, float(light.mean())) / _METER_GREY)
