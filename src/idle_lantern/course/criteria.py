"""What counts in several exercises: a figure, when it is good, when it is worth nothing, and what it means."""

from __future__ import annotations

from idle_lantern.core.base import units
from idle_lantern.course.exercise import Criterion, Values

MISSING = Criterion("missing", 0.002, 0.05, lambda v: units.share(v, 1), "{} of the wanted field is missing.")
PLACED = Criterion("placed", 1.0, 0.75, lambda v: units.share(v), "{} of the frames found their place.")
WRONG = Criterion(
    "wrong", 0.01, 0.08, lambda v: units.share(v, 1), "{} of the places show something else than stands there."
)
UNEVEN = Criterion("uneven_ev", 0.5, 1.4, lambda v: f"{v:.1f} stops", "Brightness wanders by {} against the place.")
COLOUR = Criterion("colour", 0.06, 0.25, lambda v: units.share(v), "Colours wander by {}.")
EVENED = Criterion(
    "evened_ev",
    0.12,
    0.6,
    lambda v: f"{v:.2f} stops",
    "The join had to even out {} between frames, which costs tones in the lights.",
)
SHARP = Criterion("sharp", 0.75, 0.45, lambda v: units.share(v), "{} of the detail that the lens could show is there.")
BURNT = Criterion("burnt", 0.01, 0.06, lambda v: units.share(v, 1), "{} is white without any tone.")
DROWNED = Criterion("drowned", 0.02, 0.2, lambda v: units.share(v, 1), "{} is black without any tone.")
AGAIN = Criterion("again", 0.5, 2.0, lambda v: f"{v:.0f}", "Figures that stand there again: {}.")


def within(seconds: float, most: float) -> Criterion:
    """Done in so many seconds, and worth nothing after the ``most``."""
    return Criterion("seconds", seconds, most, units.duration, "It took {}.")


def number(values: Values, key: str) -> float:
    """A chosen amount."""
    return float(values[key])


def yes(values: Values, key: str) -> bool:
    """A chosen yes."""
    return values[key] == "yes"
