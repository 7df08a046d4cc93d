"""A scouting picture as an outing keeps it: where it lies on the map and what was read from it. Loads no engine.

The pixels are an asset of the outing, a PNG with alpha on the ground's own canvas.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated, Literal

import numpy as np
from msgspec import Meta

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.sphere import direction

#: Side of the cells in which detail is told: finer than the overlap of most frames.
CELL_DEG = 5.0
#: A cell or frame with less of it to match by is bare: the engine finds no place for it by what it shows. Of 318 frames of 28
#: simulated places with clear and clouded skies this tells 306 rightly (``benchmarks/bare_frames.py``).
BARE = 0.04
#: A cell of which so much holds corners is sure to be matched: of 2 390 such cells of simulated, natural and lake pictures 2.6 %
#: held no feature of the engine's, of 280 between that and bare 34 % (common practice, no source, asks a third of a frame).
SURE_CELL, SURE_FRAME = 0.5, 1 / 3
#: What stands within so much of upright is upright.
_UPRIGHT_DEG = 8.0
#: Directions that one reading stands for.
_READING_DEG = 10.0
Degrees = Annotated[float, Meta(ge=-1080, le=1080)]
Side = Annotated[int, Meta(ge=1, le=1_000_000)]
Number = Annotated[float, Meta(ge=-1e9, le=1e9)]
Positive = Annotated[float, Meta(gt=0, le=1e9)]
#: Light in one direction: azimuth on the picture, EV at ISO 100, and whether it is at least or at most so much.
ReadingRow = tuple[Degrees, Annotated[float, Meta(ge=-30, le=40)], Literal["ok", "at least", "at most"]]
#: A straight thing: azimuth and altitude of both its ends on the picture.
LineRow = tuple[Degrees, Degrees, Degrees, Degrees]
#: How well a place can be matched.
Matching = Literal["sure", "weak", "nothing"]
#: The skyline in one direction: azimuth on the picture, altitude, and how well it is known, in degrees.
SkylineRow = tuple[Degrees, Degrees, Annotated[float, Meta(ge=0, le=180)]]
#: A cell of directions on the picture: azimuth and altitude of its middle, and the share of it with something to match.
DetailRow = tuple[Degrees, Degrees, Annotated[float, Meta(ge=0, le=1)]]


@dataclass(frozen=True)
class ScoutPicture:
    """One scouting picture.

    ``projection`` to ``full_circle`` are its canvas as in the join contract; ``turn_deg`` (yaw, pitch, roll) lays it on the
    map. ``readings``, ``details``, ``lines`` (the longest straight things) and ``skyline`` are told in its own azimuths. ``facing_deg`` is the compass bearing of its own
    azimuth 0, ``sigma_deg`` how well its horizon is known, ``taken`` when it was taken, ``told`` what was taken for granted.
    """

    id: Annotated[str, Meta(pattern="^[0-9a-z-]{1,64}$")]
    name: Annotated[str, Meta(max_length=400)]
    asset: Annotated[str, Meta(pattern="^[0-9a-f]{64}$")]
    projection: Annotated[str, Meta(max_length=40)]
    width: Side
    height: Side
    px_per_rad: Positive
    centre_px: tuple[Number, Number]
    rotation: tuple[tuple[Number, Number, Number], tuple[Number, Number, Number], tuple[Number, Number, Number]]
    full_circle: bool = False
    distance: Annotated[float, Meta(ge=0, le=10)] = 1.0
    turn_deg: tuple[Degrees, Degrees, Degrees] = (0.0, 0.0, 0.0)
    sigma_deg: Annotated[float, Meta(ge=0, le=180)] = 3.0
    readings: Annotated[tuple[ReadingRow, ...], Meta(max_length=720)] = ()
    details: Annotated[tuple[DetailRow, ...], Meta(max_length=4000)] = ()
    facing_deg: Annotated[float, Meta(ge=0, le=360)] | None = None
    taken: Annotated[str, Meta(max_length=100)] | None = None
    told: Annotated[tuple[Annotated[str, Meta(max_length=2000)], ...], Meta(max_length=50)] = ()
    shown: bool = True
    lines: Annotated[tuple[LineRow, ...], Meta(max_length=200)] = ()
    skyline: Annotated[tuple[SkylineRow, ...], Meta(max_length=720)] = ()

    @property
    def world_from_ground(self) -> Array:
        """How it is laid on the map, (3, 3)."""
        return rotations.from_yaw_pitch_roll(*np.radians(self.turn_deg))


def front(pictures: Sequence[ScoutPicture]) -> ScoutPicture | None:
    """The one that lies in front: the first that is shown."""
    return next((p for p in pictures if p.shown), None)


def on_map(pictures: Sequence[ScoutPicture]) -> tuple[tuple[float, float, str], ...]:
    """Readings of all pictures by azimuth on the map, -180 to 180; where several read one direction the first one stands."""
    found: dict[int, tuple[float, float, str]] = {}
    for picture in pictures:
        for azimuth, ev, bound in picture.readings:
            at = (azimuth + picture.turn_deg[0] + 180) % 360 - 180
            found.setdefault(math.floor(at / _READING_DEG), (at, ev, bound))
    return tuple(sorted(found.values()))


def skyline_on_map(pictures: Sequence[ScoutPicture]) -> tuple[SkylineRow, ...]:
    """The skyline by azimuth on the map, -180 to 180, of pictures that are shown; the first that shows a direction counts.

    What is in doubt about a picture's horizon is in doubt about its skyline.
    """
    found: dict[int, SkylineRow] = {}
    for picture in pictures:
        for azimuth, altitude, sigma in picture.skyline if picture.shown else ():
            at = (azimuth + picture.turn_deg[0] + 180) % 360 - 180
            found.setdefault(math.floor(at), (at, altitude, math.hypot(sigma, picture.sigma_deg)))
    return tuple(row for _, row in sorted(found.items()))


def height_towards(skyline: Sequence[SkylineRow], azimuth_deg: float) -> tuple[float, float] | None:
    """Altitude and doubt of the skyline in a direction, None where no picture tells."""
    near = [r for r in skyline if abs((r[0] - azimuth_deg + 180) % 360 - 180) <= 1.0]
    if not near:
        return None
    best = min(near, key=lambda r: abs((r[0] - azimuth_deg + 180) % 360 - 180))
    return best[1], best[2]


def matching_word(share: float, sure: float) -> Matching:
    """What can be matched where such a share holds corners; ``sure`` is that from which on it surely can."""
    return "nothing" if share < BARE else "weak" if share < sure else "sure"


def share_about(
    pictures: Sequence[ScoutPicture], yaw_deg: float, pitch_deg: float, wide_deg: float, tall_deg: float
) -> float:
    """Mean share of detail in a box of directions about a look, NaN where no picture shows a third of it."""
    for picture in pictures:
        if not picture.details:
            continue
        azimuth, altitude, share = np.array(picture.details).T
        narrow = np.maximum(np.cos(np.radians(altitude)), 0.1)  # cells shrink towards the poles
        turn = np.abs((azimuth + picture.turn_deg[0] - yaw_deg + 180) % 360 - 180)
        weights = _common(turn, wide_deg / narrow) * narrow * _common(np.abs(altitude - pitch_deg), tall_deg)
        if weights.sum() * CELL_DEG**2 >= wide_deg * tall_deg / 3:
            return float((share * weights).sum() / weights.sum())
    return math.nan


def _common(off_deg: Array, side_deg: Array | float) -> Array:
    """The part of a cell's side that lies within a side of a box whose middle is ``off_deg`` away."""
    half, cell = np.asarray(side_deg) / 2, CELL_DEG / 2
    return np.asarray(np.clip(np.minimum(half, off_deg + cell) - np.maximum(-half, off_deg - cell), 0, None) / CELL_DEG)


def ends_of(line: LineRow) -> Array:
    """Directions of both ends of a straight thing on its picture, (2, 3)."""
    return direction(np.radians([line[0], line[2]]), np.radians([line[1], line[3]]))


def is_upright(line: LineRow) -> bool:
    """Whether a straight thing stands upright: its plane through the eye holds the vertical."""
    normal = np.cross(*ends_of(line))
    off = abs(float(normal[1])) / max(1e-12, float(np.linalg.norm(normal)))
    return off < math.sin(math.radians(_UPRIGHT_DEG))
