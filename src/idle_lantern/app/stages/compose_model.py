"""How the picture is composed, as plain values: projections with what they cost, turns, crops. No Qt, tested without a window."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from idle_lantern.app import words
from idle_lantern.app.cropping import crop_box, hand_box, has_gaps
from idle_lantern.core.base import units
from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import InputError, LanternError
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.projections import PROJECTIONS
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.geometry.sphere import direction
from idle_lantern.core.geometry.uprights import then_turned, upright_turn
from idle_lantern.core.join.request import JoinResult
from idle_lantern.core.outing.model import CropBox, Outing
from idle_lantern.core.pictures.source import PictureSource, reduced_in
from idle_lantern.core.plan.crop import CropLoss
from idle_lantern.core.request.choices import JoinChoices
from idle_lantern.core.request.eased import Eased, RoundThing, StraightLine, ray_of
from idle_lantern.core.request.options import JoinOptions

Turn = tuple[float, float, float]

_FROM_PX = 1100  # longer side of what previews are drawn from
CARD_PX = 16_000  # pixels of each of the small ones beside each other
LIVE_PX = 90_000  # pixels of the one that follows the hand
#: A bent canvas takes longer to be asked.
_LIVE_BENT_PX = 30_000
#: Round things that can be drawn round, by the angle from their middle to their rim.
_LEAST_ROUND_DEG, _MOST_ROUND_DEG = 0.3, 30.0
#: What is told of the tool that the pointer holds.
HINTS = {
    "turn": "Drag the picture, with Shift to roll it. Arrow keys turn by 0.1°, comma and full stop roll; with Shift by 1°.",
    "line": "Drag along a mast or wall and it becomes upright, along the horizon and it becomes level.",
    "centre": "Click on what shall lie straight ahead.",
    "straight": "Drag from one end of a bent edge to its other end: it is drawn straight. A click on one takes it back.",
    "round": "Drag from the middle of a face or globe beyond its rim: it keeps its shape. A click on one takes it back.",
    "crop": "Drag edges, corners or the middle. Arrow keys move it, with Shift they draw it larger or smaller.",
}
#: Ratios that can be chosen, by their words; None is whatever loses least.
RATIOS: tuple[tuple[str, tuple[float, float] | None], ...] = (
    ("the largest", None), ("3 : 1", (3, 1)), ("2 : 1", (2, 1)), ("16 : 9", (16, 9)), ("3 : 2", (3, 2)), ("4 : 3", (4, 3)),
    ("5 : 4", (5, 4)), ("square", (1, 1)), ("A paper, lying", (math.sqrt(2), 1)), ("A paper, standing", (1, math.sqrt(2))),
    ("2 : 3", (2, 3)), ("1 : 2", (1, 2)), ("1 : 3", (1, 3)),
)  # fmt: skip
RIMS: Mapping[str, str] = {
    "none": "left as it is",
    "stretch": "stretched to a rectangle",
    "fill": "filled where it is even",
    "fill-all": "filled, whatever is there",
}
#: How panini's sliders are told.
SLIDERS: Mapping[str, Callable[[float], str]] = {
    "distance": lambda value: f"{value:.2f}",
    "straighten": lambda value: f"{100 * value:.0f} % straight",
}


@dataclass(frozen=True)
class ProjectionCard:
    """A projection that could be chosen: how the picture would look (h, w, 4), and what it costs, in words.

    ``suits`` says why it fits best; ``cannot`` why it cannot be chosen.
    """

    name: str
    title: str
    pixels: Array | None
    costs: str
    suits: str = ""
    cannot: str = ""


def small_picture(source: PictureSource) -> Array:
    """What previews are drawn from, in sRGB."""
    return reduced_in(source, _FROM_PX, SRGB)


def preview(
    joined: JoinResult, small: Array, choices: JoinChoices, most_px: int = LIVE_PX
) -> tuple[Array, tuple[int, int]]:
    """The picture under other choices, (h, w, 4), and the size it would have.

    Raises
    ------
    LanternError
        Nothing of it fits the projection, or the frames are gone.
    """
    return _previewed(joined, small, _canvas(joined, choices), most_px)


def _previewed(joined: JoinResult, small: Array, new: Any, most_px: int) -> tuple[Array, tuple[int, int]]:
    from idle_lantern.core.compositing.canvas.redrawn import redrawn  # loads the engine, which no start needs

    if joined.canvas.stretch is not None:
        most_px = min(most_px, _LIVE_BENT_PX)
    return redrawn(small, joined.canvas, new, most_px), (new.width, new.height)


def _canvas(joined: JoinResult, choices: JoinChoices) -> Any:
    from idle_lantern.core.compositing.canvas.requested_canvas import canvas_for

    solution = joined.solution
    if solution is None:
        raise InputError("The frames of this join are gone", remedy="Join again")
    return canvas_for(solution.poses, solution.seen, JoinOptions.of(choices))


def eased_lines(joined: JoinResult, eased: Sequence[Eased]) -> list[Array]:
    """Where on the picture what is eased lies: places (N, 2) along each line and round each thing, as far as the picture shows them."""
    made = []
    for one in eased:
        if isinstance(one, RoundThing):
            centre, angle = ray_of(one.centre_deg), math.radians(one.radius_deg)
            right = np.cross([0.0, 1.0, 0.0], centre)
            right /= max(float(np.linalg.norm(right)), 1e-9)
            turn = np.linspace(0, 2 * math.pi, 49)[:, None]
            rays = math.cos(angle) * centre + math.sin(angle) * (
                np.cos(turn) * right + np.sin(turn) * np.cross(centre, right)
            )
        else:
            along = np.linspace(0, 1, 33)[:, None]
            rays = (1 - along) * ray_of(one.from_deg) + along * ray_of(one.to_deg)
        places = joined.canvas.pixels(rays / np.linalg.norm(rays, axis=1, keepdims=True))
        made.append(places[np.isfinite(places).all(1)])
    return made


def check_eased(joined: JoinResult, choices: JoinChoices) -> None:
    """Say before a picture is made whether its canvas can be bent so; raises LanternError."""
    _canvas(joined, choices)


def cards(outing: Outing, joined: JoinResult, small: Array) -> list[ProjectionCard]:
    """All projections under the present turn, each with its costs."""
    from idle_lantern.core.compositing.canvas.canvas import choose_projection
    from idle_lantern.core.compositing.canvas.costs import costs_of, straight_line

    if joined.solution is None:
        return []
    best, reason = choose_projection(joined.solution.seen)
    line = straight_line(joined.solution.seen)
    made = []
    for name in PROJECTIONS:
        choices = replace(outing.choices, projection=name)
        try:
            canvas = _canvas(joined, choices)
            pixels, _size = _previewed(joined, small, canvas, CARD_PX)
        except LanternError as error:
            made.append(ProjectionCard(name, words.PROJECTIONS[name], None, "", cannot=error.sentence))
            continue
        costs = costs_of(canvas, pixels[..., 3] > 127, line)
        if name == joined.canvas.projection.name and (canvas.width, canvas.height) == (
            joined.canvas.width,
            joined.canvas.height,
        ):
            # of this one the crop is known, to the pixel
            costs = replace(costs, loss=1 - joined.crop.area / (canvas.width * canvas.height))
        told = costs_in_words(costs, _cut_share(joined, canvas))
        made.append(ProjectionCard(name, words.PROJECTIONS[name], pixels, told, reason if name == best else ""))
    return made


def _cut_share(joined: JoinResult, canvas: Any) -> float:
    """Share of the frames, told by places spread over them, that the canvas has no place for."""
    solution = joined.solution
    assert solution is not None
    seen = []
    for i, lens in enumerate(solution.poses.lenses):
        world = solution.poses.directions(i, lens.places_px(7).reshape(-1, 2))
        seen.append(world[np.isfinite(world[:, 0])])
    with np.errstate(invalid="ignore"):
        places = canvas.pixels(np.concatenate(seen))
        inside = (places >= -0.5).all(-1) & (places < np.array([canvas.width, canvas.height]) - 0.5).all(-1)
    return float(1 - inside.mean())


def costs_in_words(costs: Any, cut: float) -> str:
    """What a projection costs, briefly; ``cut`` is the share of the frames that it has no place for."""
    if cut > 0.01:
        return f"cuts {100 * cut:.0f}\u00a0% off, crop loses {100 * max(0.0, costs.loss):.0f}\u00a0%"
    rim = "rim over 9\u00a0× as large" if costs.stretch > 9 else f"rim {costs.stretch:.1f}\u00a0× as large"
    bend = "lines stay straight" if costs.bend < 0.004 else f"lines bow {100 * costs.bend:.0f}\u00a0%"
    return f"{rim}, {bend}, crop loses {100 * max(0.0, costs.loss):.0f}\u00a0%"


def angle(text: str) -> float:
    """An angle in degrees as people write it; raises InputError."""
    value = units.parse_number(text.replace("°", ""), "an angle", "−1.5°")
    if not -360 <= value <= 360:
        raise InputError(f"'{text}' lies outside −360 to 360°", remedy="Give an angle like 2.5")
    return value


def write_angle(value: float) -> str:
    """An angle with its unit, to a hundredth."""
    return f"{round(value, 2) + 0.0:.2f}".rstrip("0").rstrip(".").replace("-", "−") + "°"


def looking(turn: Turn, up_deg: float) -> Turn:
    """The turn after which a round picture looks so far up or, below zero, down: straight down it is a planet, straight up what a
    mirror ball on the ground shows from above."""
    return (turn[0], -up_deg + 0.0, turn[2])


def look_told(up_deg: float) -> str:
    """Where a round picture looks, in words."""
    named = {-90: "down: planet", 90: "up: mirror ball", 0: "ahead"}
    return named.get(round(up_deg), f"{abs(up_deg):.0f}° {'up' if up_deg > 0 else 'down'}")


def line_turn(joined: JoinResult, turn: Turn, one: tuple[float, float], other: tuple[float, float]) -> tuple[Turn, str]:
    """The turn after which a line drawn on the picture is upright or level, whichever it is nearer to, and what it was.

    Raises
    ------
    InputError
        The line is too short, or leaves the picture.
    """
    du, dv = other[0] - one[0], other[1] - one[1]
    if math.hypot(du, dv) < 8:
        raise InputError(
            "That line is too short to tell a direction", remedy="Drag along a mast, a wall or the horizon"
        )
    rays = joined.canvas.directions(np.array([one, other], float))
    if not np.isfinite(rays).all():
        raise InputError("That line leaves the picture", remedy="Draw it on what the picture shows")
    now = _turn_matrix(turn)
    pair = (now @ rays[0], now @ rays[1])
    upright = abs(dv) > abs(du)
    more = upright_turn([pair], []) if upright else upright_turn([], [pair])
    return then_turned(turn, more), "upright" if upright else "level"


def made_straight(joined: JoinResult, one: tuple[float, float], other: tuple[float, float]) -> StraightLine:
    """A line between two places of the picture that is to be drawn straight; raises InputError where it leaves the picture."""
    return StraightLine(_place_deg(joined, one), _place_deg(joined, other))


def made_round(joined: JoinResult, middle: tuple[float, float], rim: tuple[float, float]) -> RoundThing:
    """A round thing by its middle and a place on its rim; raises InputError where it leaves the picture or is too large."""
    rays = joined.canvas.directions(np.array([middle, rim], float))
    centre = _place_deg(joined, middle)
    _place_deg(joined, rim)
    radius = math.degrees(math.acos(float(np.clip(rays[0] @ rays[1], -1, 1))))
    if not _LEAST_ROUND_DEG <= radius <= _MOST_ROUND_DEG:
        raise InputError(
            f"That reaches over {radius:.1f}°", remedy=f"Drag over {_LEAST_ROUND_DEG:g} to {_MOST_ROUND_DEG:g} degrees"
        )
    return RoundThing(centre, round(radius, 2))


def without_eased(
    joined: JoinResult, eased: Sequence[Eased], place: tuple[float, float], within_px: float
) -> tuple[Eased, ...] | None:
    """What is eased without the one that a click met; None where it met none."""
    ray = joined.canvas.directions(np.array(place, float))
    reach = within_px / joined.canvas.px_per_rad

    def away(one: Eased) -> float:
        if isinstance(one, RoundThing):
            angle = math.acos(float(np.clip(ray_of(one.centre_deg) @ ray, -1, 1)))
            return max(0.0, angle - math.radians(one.radius_deg))
        ends = [ray_of(one.from_deg), ray_of(one.to_deg)]
        along = [end + share * (ends[1] - end) for end in ends[:1] for share in np.linspace(0, 1, 65)]
        return min(math.acos(float(np.clip(p @ ray / np.linalg.norm(p), -1, 1))) for p in along)

    if not np.isfinite(ray).all() or not eased:
        return None
    off = [away(one) for one in eased]
    k = int(np.argmin(off))
    return (*eased[:k], *eased[k + 1 :]) if off[k] <= reach else None


def _place_deg(joined: JoinResult, place: tuple[float, float]) -> tuple[float, float]:
    ray = joined.canvas.directions(np.array(place, float))
    if not np.isfinite(ray).all():
        raise InputError("That leaves the picture", remedy="Draw it on what the picture shows")
    yaw, pitch = math.atan2(ray[0], ray[2]), math.atan2(-ray[1], math.hypot(ray[0], ray[2]))
    return round(math.degrees(yaw), 4), round(math.degrees(pitch), 4)


def centred_on(joined: JoinResult, turn: Turn, place: tuple[float, float]) -> Turn:
    """The turn after which a place of the picture lies straight ahead: its azimuth only, so that level stays level."""
    ray = _turn_matrix(turn) @ joined.canvas.directions(np.array(place, float))
    if not np.isfinite(ray).all():
        raise InputError("There is no picture at that place", remedy="Click on what the picture shows")
    middle = 0.0 if joined.solution is None or joined.canvas.full_circle else joined.solution.seen.middle_rad
    return turned(turn, -math.degrees(math.atan2(ray[0], ray[2]) - middle), 0.0, 0.0)


def turned(turn: Turn, yaw_deg: float, pitch_deg: float, roll_deg: float) -> Turn:
    """A turn and another one after it."""
    found = then_turned(turn, _turn_matrix((yaw_deg, pitch_deg, roll_deg)))
    return (round(found[0], 4) + 0.0, round(found[1], 4) + 0.0, round(found[2], 4) + 0.0)


def dragged(joined: JoinResult, turn: Turn, du: float, dv: float, roll_deg: float = 0.0) -> Turn:
    """The turn after the picture was grabbed and moved by so many of its pixels."""
    degree = 180 / math.pi / joined.canvas.px_per_rad
    return turned(turn, du * degree, -dv * degree, roll_deg)


def _turn_matrix(turn: Turn) -> Array:
    return rotations.from_yaw_pitch_roll(*np.radians(turn))


#: A loss that lies outside what the plan foretold by less is as foretold.
_AS_FORETOLD = 0.01


def crop_told(outing: Outing, joined: JoinResult | None, foretold: CropLoss | None = None) -> str:
    """The crop in figures: its size, what it loses against what the plan foretold, whether it leaves a gap or cuts a mark."""
    if joined is None:
        return ""
    box = crop_box(outing, joined)
    cut = " ".join(f"It cuts {name}: {how}." for name, how in marks_cut(outing, joined, box))
    size = f"{units.grouped(box.width)} × {units.grouped(box.height)} px"
    if not outing.composition.crop:
        return f"{size}, not cropped. {cut}".rstrip()
    whole = joined.canvas.width * joined.canvas.height
    lost = 1 - box.area / whole
    told = f"{size}, the crop loses {100 * lost:.0f} %."
    if foretold is not None and hand_box(outing, joined) is None and outing.composition.ratio is None:
        more = (
            "as the plan foretold"
            if foretold.low - _AS_FORETOLD <= lost <= foretold.high + _AS_FORETOLD
            else f"the plan foretold {100 * foretold.low:.0f} to {100 * foretold.high:.0f} %"
        )
        told = f"{told[:-1]} ({more})."
    if hand_box(outing, joined) is not None and has_gaps(joined, box):
        told += " A part of it shows nothing: make it smaller, or fill the rim."
    return f"{told} {cut}".rstrip()


def marks_cut(outing: Outing, joined: JoinResult, box: Rectangle) -> list[tuple[str, str]]:
    """Marks of the plan that must not be cut and that a crop cuts, each with how far it would have to reach further.

    Only where frames were logged with their directions: without them nothing tells where a mark lies in the picture.
    """
    ids = set(joined.frame_ids)
    if not any(ref.yaw_deg is not None for ref in outing.frames if ref.id in ids):
        return []
    found = []
    for mark in outing.brief.scene.marks:
        if mark.role not in ("whole", "subject"):
            continue
        sides = [(x * mark.width_deg / 2, y * mark.tall_deg / 2) for x in (-1, 0, 1) for y in (-1, 0, 1)]
        yaw, pitch = np.radians([(mark.yaw_deg + x, max(-89.9, min(89.9, mark.pitch_deg + y))) for x, y in sides]).T
        places = joined.canvas.pixels(direction(yaw, pitch))
        if not np.isfinite(places).all():
            found.append((mark.name, "this projection has no place for all of it"))
            continue
        low, high = places.min(0), places.max(0)
        beyond = {
            "to the left": box.left - low[0], "to the right": high[0] - (box.left + box.width),
            "up": box.top - low[1], "down": high[1] - (box.top + box.height),
        }  # fmt: skip
        way, px = max(beyond.items(), key=lambda row: row[1])
        if px > 1:
            found.append((mark.name, f"{px:.0f} px further {way} would hold it"))
    return found


def ratio_index(outing: Outing) -> int:
    """Which of ``RATIOS`` is chosen."""
    chosen = outing.composition.ratio
    for i, (_words, ratio) in enumerate(RATIOS):
        if (ratio is None) == (chosen is None) and (
            ratio is None or chosen is None or abs(ratio[0] / ratio[1] - chosen[0] / chosen[1]) < 1e-6
        ):
            return i
    return 0


def box_for(joined: JoinResult, box: Rectangle, ratio: tuple[float, float] | None) -> CropBox:
    """A rectangle as it is kept, inside the picture."""
    width, height = joined.canvas.width, joined.canvas.height
    left, top = min(max(0, box.left), width - 1), min(max(0, box.top), height - 1)
    return CropBox(
        left, top, max(1, min(box.width, width - left)), max(1, min(box.height, height - top)), ratio, (width, height)
    )


def rim_told(joined: JoinResult | None) -> str:
    """What was done at the rim of the picture that is there."""
    rim = None if joined is None else joined.report.rim
    return "" if rim is None else rim.sentence


def next_projection(names: Sequence[str], present: str) -> str:
    """The one after the present one, round and round."""
    at = names.index(present) if present in names else -1
    return names[(at + 1) % len(names)]
