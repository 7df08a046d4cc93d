"""Where the frames of one row look: spread over a sweep, closed round a circle, on the stops of a head."""

from __future__ import annotations

import math

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.plan.brief import Support
from idle_lantern.core.plan.target_field import TargetField

#: Reaches come with so much kept back for rounding; it alone is worth no frame more.
_KEPT_BACK_RAD = math.radians(0.05)


def row_yaws(
    field: TargetField, support: Support, pitch: float, step: float, half: float, whole_at_deg: float | None = None
) -> tuple[float, ...]:
    """Yaws of a row at a pitch, in radians, whose frames may stand ``step`` apart and ``half`` inside the field's ends.

    On a full circle that may begin anywhere a frame looks straight at ``whole_at_deg``.
    """
    left, sweep, stop = math.radians(field.left_deg), math.radians(field.sweep_deg), math.radians(support.step_deg)
    if abs(pitch) > math.pi / 2 - 1e-6:  # turned about its line of sight a frame shows the same once more
        return (left + sweep / 2,)
    wished, closed = field.row_frames, field.full_circle
    whole_at = None if whole_at_deg is None else math.radians(whole_at_deg)
    if closed and wished:
        step = 2 * math.pi / wished
    if stop:
        if wished and not closed:
            clicks = math.ceil((sweep - 2 * min(half, sweep / 2)) / max(wished - 1, 1) / stop - 1e-9)
            step = max(1, clicks) * stop
        return tuple(on_stops(left, sweep, closed, step, half, stop, whole_at, math.radians(support.first_stop_deg)))
    if closed:
        return tuple(round_about(left, max(1, math.ceil(2 * math.pi / step - 1e-9)), whole_at))
    return tuple(spread(left, sweep, step, half, wished))


def clicks_of(steps_rad: Array, stop_rad: float, *, closed: bool) -> Array:
    """Stops of the head, (N,), between neighbours that may stand so far apart; at least one.

    A number of clicks that divides the circle closes it evenly; a few frames more are worth that.
    """
    clicks = np.maximum(1, np.floor(np.asarray(steps_rad) / stop_rad + 1e-9)).astype(int)
    around = round_of(stop_rad)
    if not closed or abs(around * stop_rad - 2 * math.pi) > 1e-9:
        return clicks
    even = np.array([c for c in range(1, around + 1) if around % c == 0])
    nearest = even[np.searchsorted(even, np.minimum(clicks, around), side="right") - 1]
    return np.asarray(np.where(nearest < 0.8 * clicks, clicks, nearest))


def round_of(stop_rad: float) -> int:
    """Stops once round; where they do not divide the circle the last is shorter."""
    return math.ceil(2 * math.pi / stop_rad - 1e-9)


def spread(left: float, sweep: float, step: float, half: float, wished: int = 0) -> list[float]:
    """Yaws over a sweep, no farther apart than ``step``, whose frames reach ``half`` to each side.

    ``wished`` frames are spread over it whatever their step, where it is not 0.
    """
    half = min(half, sweep / 2)
    count = wished or 1 + max(0, math.ceil((sweep - 2 * half - 2 * _KEPT_BACK_RAD) / step - 1e-9))
    if count == 1 and half < sweep / 2 - _KEPT_BACK_RAD and not wished:
        count = 2
    half = min(half, sweep / 2 if count == 1 else sweep / (2 * count) if sweep - 2 * half < 1e-9 else half)
    if count == 1:
        return [left + sweep / 2]
    return [float(v) for v in np.linspace(left + half, left + sweep - half, count)]


def round_about(left: float, count: int, whole_at_rad: float | None) -> list[float]:
    """Yaws evenly round the circle; one of them straight at ``whole_at_rad``."""
    turn = 2 * math.pi / count
    first = left + turn / 2
    if whole_at_rad is not None:
        first += (whole_at_rad - first) % turn
    return [first + turn * i for i in range(count)]


def on_stops(
    left: float,
    sweep: float,
    closed: bool,
    step: float,
    half: float,
    stop: float,
    whole_at_rad: float | None = None,
    first_stop: float = 0.0,
) -> list[float]:
    """Yaws on the stops of the head (one of them at ``first_stop``), an equal number of clicks apart."""
    clicks = int(clicks_of(np.array([step]), stop, closed=closed)[0])
    if closed:
        start = round(((left if whole_at_rad is None else whole_at_rad) - first_stop) / stop) * stop + first_stop
        return [start + i * clicks * stop for i in range(math.ceil(round_of(stop) / clicks))]
    first = math.floor((left + min(half, sweep / 2) - first_stop) / stop + 1e-9) * stop + first_stop
    count = 1 + max(0, math.ceil((left + sweep - half - first) / (clicks * stop) - 1e-9))
    return [first + i * clicks * stop for i in range(count)]
