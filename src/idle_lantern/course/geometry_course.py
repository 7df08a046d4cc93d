"""Exercises about standing, turning and covering: pupil, base, overlap, rows, sphere, stops."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.base import units
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.course.conduct import Conduct, Situation
from idle_lantern.course.criteria import MISSING, PLACED, WRONG, number, yes
from idle_lantern.course.exercise import Alternative, Amount, Criterion, Exercise, Values
from idle_lantern.course.places import (
    FIELD,
    LENS,
    facing_of,
    island,
    on_the_terrace,
    rng_of,
    row,
    timed,
    with_post,
)

# --- the no-parallax point ---------------------------------------------------------------------

_POST_M, _POST_AT_DEG = 0.9, 14.0
#: Turns to either side of the post by which it is watched in the finder.
_WATCH_DEG = 20.0


def _rail_mm(seed: int) -> float:
    return round(float(rng_of(seed).uniform(55, 105)), 1)


def _pupil_place(seed: int) -> Situation:
    facing = facing_of(seed)
    return on_the_terrace(seed, scene=with_post(island(seed), _POST_M, facing, _POST_AT_DEG), facing_deg=facing)


def _pupil_seen(seed: int, values: Values) -> tuple[tuple[str, str], ...]:
    off = number(values, "rail") - _rail_mm(seed)
    # the post against what lies far behind, from one side of the frame to the other
    shift = 2 * math.degrees(math.atan2(off / 1000 * math.sin(math.radians(_WATCH_DEG)), _POST_M))
    px = abs(shift) * math.radians(LENS.focal_px)
    if px < 0.25:
        return (("Post against the shore", "stands still while the head turns"),)
    # with the pupil before the axis it swings with the camera, and what is near lags behind
    way = "against the turn" if shift > 0 else "with the turn"
    return (("Post against the shore", f"moves {px:.1f} px {way}"),)


PUPIL = Exercise(
    "pupil",
    "Find the no-parallax point",
    "A post stands 0.9 m away. Slide the camera on the rail until the post no longer moves against the shore when the head turns; "
    "then shoot the row.",
    "Turning about any other point shifts near things against far ones, and no software puts them back together. Slide back when "
    "the near thing moves against the turn, forward when it moves with it.",
    _pupil_place,
    (Amount("rail", "Rail", "mm", 0, 160, 1, 20),),
    _pupil_seen,
    lambda seed, values: Conduct(row(-56, 28, 5), pupil_mm=number(values, "rail") - _rail_mm(seed), seconds=60),
    lambda seed: {"rail": round(_rail_mm(seed))},
    (
        WRONG,
        replace(PLACED, bad=0.6),
        Criterion(
            "parted_px",
            1.5,
            20.0,
            lambda v: f"{v:.0f} px" if v >= 10 else f"{v:.1f} px",
            "Where two frames meet, near and far part by {} in frames of 24 megapixels.",
        ),
    ),
)

# --- the base ------------------------------------------------------------------------------------

_LEG_M = 0.45  # from the axis to a foot
_LEG_TOWARDS = (0.0, 120.0, 240.0)


def _ground(seed: int) -> NDArray[np.float64]:
    """How much too low each foot stands, mm: the ground slopes."""
    rng = rng_of(seed)
    towards, slope = math.radians(float(rng.uniform(0, 360))), math.radians(float(rng.uniform(5.0, 7.5)))
    return np.array([1000 * _LEG_M * math.tan(slope) * math.cos(math.radians(a) - towards) for a in _LEG_TOWARDS])


def _lean(seed: int, values: Values) -> tuple[float, float]:
    """How far the base leans and towards where: towards the side that is too low."""
    low = _ground(seed) - np.array([number(values, f"leg{i}") for i in range(3)])
    low = low - low.mean()
    x, z = (float(sum(v * f(math.radians(a)) for v, a in zip(low, _LEG_TOWARDS))) for f in (math.sin, math.cos))
    lean = math.degrees(math.atan(2 / 3 * math.hypot(x, z) / (1000 * _LEG_M)))
    return lean, math.degrees(math.atan2(x, z))


def _base_seen(seed: int, values: Values) -> tuple[tuple[str, str], ...]:
    lean, towards = _lean(seed, values)
    base = (
        "in the ring"
        if lean < 0.15
        else f"{units.angle(lean)} off, high side away from {units.angle(towards % 360, 0)}"
    )
    by_ball = values["ball"] == "camera"
    return (
        ("Bubble of the base", base),
        ("Bubble on the camera", "in the ring" if by_ball or lean < 0.15 else "as the base"),
    )


def _base_conduct(seed: int, values: Values) -> Conduct:
    lean, towards = _lean(seed, values)
    swing = None
    if values["ball"] == "camera":  # level where it was levelled, and nowhere else
        swing = _leaning(lean, towards).T
    return Conduct(row(-56, 28, 5), lean_deg=lean, lean_toward_deg=towards, swing=swing, seconds=60)


def _leaning(lean_deg: float, towards_deg: float) -> NDArray[np.float64]:
    turn = rotations.about_y(math.radians(towards_deg))
    return np.asarray(turn @ rotations.about_x(math.radians(-lean_deg)) @ turn.T)


def _legs_right(seed: int) -> Values:
    low = _ground(seed)
    raised = low - low.min()
    return {**{f"leg{i}": float(round(v)) for i, v in enumerate(raised)}, "ball": "straight"}


BASE = Exercise(
    "base",
    "Level the base, not the ball",
    "The ground slopes. Raise legs until the base is level; the legs stand at 0°, 120° and 240°. The bubble on the camera is not the one "
    "that counts.",
    "A camera levelled on its ball is level in one direction only: the row climbs and falls, and the crop takes the height. Level what "
    "lies below the turning axis.",
    lambda seed: on_the_terrace(seed, field_deg=(-66.0, 66.0, -25.0, 25.0)),
    (
        Amount("leg0", "Leg at 0°", "mm", 0, 150, 1, 0),
        Amount("leg1", "Leg at 120°", "mm", 0, 150, 1, 0),
        Amount("leg2", "Leg at 240°", "mm", 0, 150, 1, 0),
        Alternative("ball", "Ball head", {"straight": "stands straight", "camera": "levels the camera"}, "camera"),
    ),
    _base_seen,
    _base_conduct,
    _legs_right,
    (Criterion("lost_height", 0.01, 0.1, lambda v: units.share(v), "{} of the height is lost to the crop."), MISSING),
)

# --- overlap by hand -------------------------------------------------------------------------------

_WIDE_DEG = 2 * math.degrees(math.atan(LENS.width / 2 / LENS.focal_px))


def _by_hand(seed: int, values: Values) -> Conduct:
    step = _WIDE_DEG * (1 - number(values, "overlap") / 100)
    left, right = FIELD[0] + 0.42 * _WIDE_DEG, FIELD[1] - 0.42 * _WIDE_DEG
    count = max(2, math.ceil((right - left) / step) + 1)
    middle = [left + step * i for i in range(count)]
    return Conduct(
        timed([(yaw, 0.0, 0.0) for yaw in middle], 2.0), pointing_deg=3.0, rolling_deg=1.5, seconds=2.0 * count
    )


HAND = Exercise(
    "hand",
    "Overlap by thirds, by hand",
    "No tripod. Choose how much of each frame the next one shows again: your hands miss by some degrees.",
    "By hand a third is the least: what stood on the right third line comes to the left third line. More costs frames, less leaves gaps.",
    lambda seed: on_the_terrace(seed, field_deg=(FIELD[0] + 7, FIELD[1] - 7, -13.0, 13.0)),
    (Amount("overlap", "Overlap", "%", 0, 80, 5, 5),),
    lambda _seed, values: (
        ("Frame", f"{units.angle(_WIDE_DEG, 0)} wide"),
        ("Turn from frame to frame", units.angle(_WIDE_DEG * (1 - number(values, "overlap") / 100), 0)),
    ),
    _by_hand,
    lambda _seed: {"overlap": 45.0},
    (replace(MISSING, bad=0.02), PLACED, Criterion("frames", 9, 16, lambda v: f"{v:.0f}", "It took {} frames.")),
)

# --- rows of sky -----------------------------------------------------------------------------------

_TALL_DEG = 2 * math.degrees(math.atan(LENS.height / 2 / LENS.focal_px))


def _sky_conduct(_seed: int, values: Values) -> Conduct:
    upper = number(values, "upper")
    angles = [(-42.0 + 28 * c, pitch, 0.0) for pitch in (upper, -6.0) for c in range(4)]
    return Conduct(timed(angles, 5.0), seconds=40)


SKY = Exercise(
    "sky",
    "Rows of sky without land",
    "Two rows under a clear sky. How far up does the upper row look? The picture is to reach 44° high.",
    "A frame of nothing but blue has nothing to hold on to. Lower the row until a third of each frame shows land or houses, and let the "
    "sky come from its upper part.",
    lambda seed: on_the_terrace(seed, scene=island(seed, clouds=0.0), field_deg=(-60.0, 60.0, -24.0, 44.0)),
    (Amount("upper", "Upper row looks", "° up", 10, 60, 1, 50),),
    lambda _seed, values: (
        ("Lower edge of its frames", units.angle(number(values, "upper") - _TALL_DEG / 2, 0)),
        ("Upper edge", units.angle(number(values, "upper") + _TALL_DEG / 2, 0)),
        ("Roofs and trees", "reach some 4° to 15° up"),
    ),
    _sky_conduct,
    lambda _seed: {"upper": 19.0},
    (PLACED, replace(MISSING, bad=0.1)),
)

# --- the sphere --------------------------------------------------------------------------------------

_FISH = Lens("equidistant", 150, 300, 420)


def _sphere_conduct(_seed: int, values: Values) -> Conduct:
    count = round(number(values, "round"))
    angles = [(360.0 / count * i, 0.0, 0.0) for i in range(count)]
    angles += [(0.0, 90.0, 0.0)] if yes(values, "zenith") else []
    angles += [(90.0 * i, -90.0, 0.0) for i in range(round(number(values, "nadir")))]
    return Conduct(timed(angles, 6.0), seconds=6.0 * len(angles))


SPHERE = Exercise(
    "sphere",
    "A full sphere, nadir and all",
    "A circular picture is wanted, all round and from straight up to straight down. How many frames, and where?",
    "Six round, one up, and two down turned by 90°: nothing is missing, and the second nadir frame shows what the legs hid in the first.",
    lambda seed: Situation(island(seed), _FISH, (-180.0, 180.0, -89.0, 89.0), 8.0, 0.0, "equirectangular", seed=seed),
    (
        Amount("round", "Frames round", "", 2, 10, 1, 3),
        Alternative("zenith", "One straight up", {"yes": "yes", "no": "no"}, "no"),
        Amount("nadir", "Straight down", "", 0, 3, 1, 0),
    ),
    lambda _seed, _values: (
        (
            "Frame",
            f"{2 * math.degrees(_FISH.width / 2 / _FISH.focal_px):.0f}° × {2 * math.degrees(_FISH.height / 2 / _FISH.focal_px):.0f}°",
        ),
    ),
    _sphere_conduct,
    lambda _seed: {"round": 6.0, "zenith": "yes", "nadir": 2.0},
    (
        replace(MISSING, good=0.001, bad=0.03),
        PLACED,
        Criterion("frames", 10, 16, lambda v: f"{v:.0f}", "It took {} frames."),
    ),
)

# --- gigapixel ---------------------------------------------------------------------------------------

_LONG = Lens("rectilinear", 1150, 400, 300)
_LONG_DEG = tuple(2 * math.degrees(math.atan(n / 2 / _LONG.focal_px)) for n in (_LONG.width, _LONG.height))
_GIGA_FIELD = (-24.0, 24.0, -10.0, 8.0)


def _giga_conduct(seed: int, values: Values) -> Conduct:
    step, rows = float(values["stop"]), float(values["rows"])
    columns = max(2, math.ceil((_GIGA_FIELD[1] - _GIGA_FIELD[0] - 0.7 * _LONG_DEG[0]) / step) + 1)
    lines = max(1, math.ceil((_GIGA_FIELD[3] - _GIGA_FIELD[2] - 0.7 * _LONG_DEG[1]) / rows) + 1)
    first = -(columns - 1) / 2 * step
    middle = (_GIGA_FIELD[2] + _GIGA_FIELD[3]) / 2
    angles = [
        (first + step * c, middle + rows * ((lines - 1) / 2 - r), 0.0) for c in range(columns) for r in range(lines)
    ]
    slipped = int(rng_of(seed).integers(1, max(2, len(angles) - 1)))
    if not yes(values, "count"):  # one click too many: nobody noticed
        angles.pop(slipped)
    return Conduct(timed(angles, 4.0), pointing_deg=0.15, seconds=len(angles) * (5.0 if yes(values, "count") else 4.0))


GIGAPIXEL = Exercise(
    "gigapixel",
    "Many frames by stops",
    "A long lens, a grid of columns, a head with click stops. Choose the stops, and whether to count aloud: one slipped click is easily "
    "missed among so many.",
    "Stops of two thirds of the frame keep a third of overlap. In a long run something always slips: count, and look at each column's end.",
    lambda seed: Situation(island(seed), _LONG, _GIGA_FIELD, 100.0, facing_of(seed), "rectilinear", seed=seed),
    (
        Alternative("stop", "Stops round", {"9": "9°", "12": "12°", "15": "15°", "18": "18°"}, "18"),
        Alternative("rows", "Stops up and down", {"6": "6°", "9": "9°", "12": "12°"}, "12"),
        Alternative("count", "Count the clicks", {"yes": "yes", "no": "no"}, "no"),
    ),
    lambda _seed, _values: (("Frame", f"{_LONG_DEG[0]:.0f}° × {_LONG_DEG[1]:.0f}°"),),
    _giga_conduct,
    lambda _seed: {"stop": "12", "rows": "9", "count": "yes"},
    (MISSING, PLACED, Criterion("frames", 14, 30, lambda v: f"{v:.0f}", "It took {} frames.")),
)
