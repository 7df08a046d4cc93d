"""Exercises about what moves and what is near: wind, people, shallow depth."""

from __future__ import annotations

import math
from dataclasses import replace

from idle_lantern.core.base import units
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.course.conduct import Conduct, Situation, Take
from idle_lantern.course.criteria import AGAIN, MISSING, PLACED, SHARP, number, within
from idle_lantern.course.exercise import Alternative, Amount, Criterion, Exercise, Values
from idle_lantern.course.places import facing_of, island, on_the_terrace, rng_of, row, timed, with_people
from idle_lantern.simulator.diorama import upright

_YAWS = (-56.0, -28.0, 0.0, 28.0, 56.0)

# --- wind and the long lens ------------------------------------------------------------------------

_LONG = Lens("rectilinear", 1150, 400, 300)


def _wind_ms(seed: int) -> float:
    return round(float(rng_of(seed).uniform(6, 10)), 1)


def _wind_conduct(seed: int, values: Values) -> Conduct:
    rng, iso, repeats = rng_of(seed + 3), number(values, "iso"), round(number(values, "repeats"))
    time_s = 1 / 30 * 100 / iso
    takes = []
    for take in row(-18, 12, 4, 0.0, 3.0 * repeats):
        gusts = rng.exponential(_wind_ms(seed) / 8, size=(repeats, 2)) * 3.4 * min(1.0, time_s * 30) ** 0.7
        signs = rng.choice([-1.0, 1.0], size=(repeats, 2))
        shakes = tuple((float(a), float(b)) for a, b in gusts * signs)
        takes.append(replace(take, shakes_px=shakes))
    return Conduct(tuple(takes), iso=iso, seconds=4 * (3.0 + 2.5 * repeats))


WIND = Exercise(
    "wind",
    "Wind and the long lens",
    "A long lens trembles in the wind. Take each frame several times and keep the sharpest, or raise the ISO for a shorter time; either "
    "has its price.",
    "Repeats cost seconds, ISO costs grain: in gusts three or four repeats at a moderate ISO find a still moment for each frame.",
    lambda seed: Situation(
        island(seed), _LONG, (-24.0, 24.0, -6.0, 6.0), 100.0, facing_of(seed), "rectilinear", seed=seed
    ),
    (
        Amount("repeats", "Each frame", "times", 1, 8, 1, 1),
        Alternative("iso", "ISO", {"100": "100", "200": "200", "400": "400", "800": "800", "3200": "3200"}, "100"),
    ),
    lambda seed, values: (
        ("Wind", f"{_wind_ms(seed):.1f} m/s"),
        ("Exposure", units.exposure_time(1 / 30 * 100 / number(values, "iso"))),
    ),
    _wind_conduct,
    lambda _seed: {"repeats": 4.0, "iso": "400"},
    (
        replace(SHARP, good=0.72, bad=0.45),
        Criterion("grain", 3.0, 7.0, lambda v: f"{v:.1f} grey levels", "Grain of {}."),
        within(60, 110),
    ),
)

# --- people who walk -------------------------------------------------------------------------------


def _walk(seed: int) -> tuple[float, float]:
    """Which way people walk (1 right, -1 left) and how fast, degrees a second."""
    rng = rng_of(seed)
    return (1.0 if rng.random() < 0.5 else -1.0), round(float(rng.uniform(3.2, 4.4)), 1)


def _street(seed: int) -> Situation:
    way, speed = _walk(seed)
    facing = facing_of(seed)
    first = -40.0 * way
    scene = with_people(island(seed), facing, [first, first - 9 * way, first + 11 * way], way * speed, 15.0)
    return on_the_terrace(
        seed, scene=scene, empty=island(seed), people=3, facing_deg=facing, field_deg=(-66.0, 66.0, -20.0, 20.0)
    )


def _people_conduct(_seed: int, values: Values) -> Conduct:
    yaws = sorted(_YAWS, reverse=values["order"] == "right")
    pace = number(values, "pace")
    return Conduct(timed([(yaw, 0.0, 0.0) for yaw in yaws], pace), seconds=pace * len(yaws))


PEOPLE = Exercise(
    "people",
    "People who walk",
    "Three people cross the picture. In which direction do you go through the row, and how quickly?",
    "Go against them: each is met once. Going with them takes them along from frame to frame, and each stands there again and again. "
    "Do not hurry past what moves, and do not wait where they come to.",
    _street,
    (
        Alternative("order", "Begin", {"left": "at the left", "right": "at the right"}, "left"),
        Amount("pace", "From frame to frame", "s", 2, 14, 1, 7),
    ),
    lambda seed, _values: (
        ("People walk", f"to the {'right' if _walk(seed)[0] > 0 else 'left'}, {_walk(seed)[1]:.1f}° a second"),
        ("They come", f"from the {'left' if _walk(seed)[0] > 0 else 'right'} third"),
    ),
    _people_conduct,
    lambda seed: {"order": "right" if _walk(seed)[0] > 0 else "left", "pace": 7.0},
    (AGAIN, PLACED),
)

# --- shallow depth ---------------------------------------------------------------------------------

_PORTRAIT = Lens("rectilinear", 1000, 300, 400)
_FIGURE_M = 3.2


def _shallow_place(seed: int) -> Situation:
    post = replace(upright(_FIGURE_M), size_m=(0.5, 1.6), corner_m=(-0.25, -0.5, _FIGURE_M))
    scene = island(seed)
    return Situation(
        replace(scene, quads=(*scene.quads, post)), _PORTRAIT, (-17.0, 17.0, -13.0, 11.0), 85.0, 0.0, "rectilinear",
        subject_deg=(-4.2, 4.2, -10.0, 7.0), seed=seed,
    )  # fmt: skip


def _shallow_conduct(seed: int, values: Values) -> Conduct:
    wide, tall = (2 * math.degrees(math.atan(n / 2 / _PORTRAIT.focal_px)) for n in (_PORTRAIT.width, _PORTRAIT.height))
    share = 1 - number(values, "overlap") / 100
    columns = max(2, math.ceil((34 - 0.7 * wide) / (wide * share)) + 1)
    rows = max(2, math.ceil((24 - 0.7 * tall) / (tall * share)) + 1)
    rng = rng_of(seed)
    takes: list[Take] = []
    for r in range(rows):
        for c in range(columns):
            yaw, pitch = (c - (columns - 1) / 2) * wide * share, ((rows - 1) / 2 - r) * tall * share - 1
            on_figure = abs(yaw) < wide / 2
            focus = _FIGURE_M if values["focus"] == "locked" or on_figure else float(rng.uniform(20, 60))
            takes.append(Take((yaw, pitch, 0.0), at_s=2.0 * len(takes), focus_m=focus))
    return Conduct(tuple(takes), aperture=float(values["aperture"]), defocus=True, seconds=3.0 * len(takes))


SHALLOW = Exercise(
    "shallow",
    "A shallow-depth grid round a figure",
    "A figure 3 m away before a far shore, a fast long lens. The figure is to be sharp and all behind it soft, over a field that no such "
    "lens shows in one frame.",
    "Wide open, focus locked on the figure for every frame, a third of overlap: what is soft ties badly, so take enough of it.",
    _shallow_place,
    (
        Alternative("aperture", "Aperture", {"1.8": "f/1.8", "2.8": "f/2.8", "5.6": "f/5.6", "11": "f/11"}, "11"),
        Alternative("focus", "Focus", {"auto": "automatic", "locked": "locked on the figure"}, "auto"),
        Amount("overlap", "Overlap", "%", 10, 60, 5, 20),
    ),
    lambda _seed, _values: (("Frame", "17° × 23°"), ("Figure", "3.2 m away"), ("Shore", "20 m and more")),
    _shallow_conduct,
    lambda _seed: {"aperture": "2.8", "focus": "locked", "overlap": 40.0},
    (
        Criterion("sharp_subject", 0.7, 0.35, lambda v: units.share(v), "The figure shows {} of its detail."),
        Criterion("sharp_beside", 0.5, 0.85, lambda v: units.share(v), "What lies behind keeps {} of its detail."),
        MISSING,
        PLACED,
    ),
)
