"""Exposure: meter readings round the sweep to one setting, and what it costs.

EV at ISO 100 = log2(N^2 / t) - log2(ISO / 100) (ISO 2720; APEX).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from idle_lantern.core.plan.brief import Exposure, Scene, Support
from idle_lantern.core.plan.rig import Rig

#: From the metered middle grey of 18 % up to white: log2(1 / 0.18).
WHITE_ABOVE_STOPS = math.log2(1 / 0.18)
#: From the metered middle down to shadows that shall still show texture (zone III; common practice, no source).
SHADOW_BELOW_STOPS = 3.0
#: Longest times at which what moves stays sharp (common practice, no source).
SUBJECT_LIMIT_S = {"still": math.inf, "leaves": 1 / 60, "walking": 1 / 250, "running": 1 / 500}
_HAND_LIMIT_S = 1 / 60
_WINDY_MS = 8.0


@dataclass(frozen=True)
class Limit:
    """Longest time and why."""

    time_s: float
    reason: str


@dataclass(frozen=True)
class Setting:
    """One exposure for all frames.

    ``white_over_stops`` is how far white paper in the brightest part lies above full (positive clips) in the metered
    exposure; ``shadow_spare_stops`` how far the shadows of the darkest part stay above the sensor's noise
    floor (negative drowns). ``white_left_stops`` and ``shadow_left_stops`` are the same for what the bracket as it
    is set really holds. ``bracket_needed`` is the smallest bracket that holds all: exposures, and by how much
    it is shifted towards longer ones, in EV.
    """

    ev: float
    time_s: float
    aperture: float
    iso: float
    metering: str
    reason: str
    white_over_stops: float
    shadow_spare_stops: float
    limits: tuple[Limit, ...]
    bracket_ev: tuple[float, ...]
    white_left_stops: float
    shadow_left_stops: float
    bracket_needed: tuple[int, float]

    @property
    def limit(self) -> Limit | None:
        """The tightest limit that is passed, None if the time is short enough."""
        passed = [x for x in self.limits if self.time_s > x.time_s * 1.1]
        return min(passed, key=lambda x: x.time_s) if passed else None

    @property
    def times_s(self) -> tuple[float, ...]:
        """Times of the bracket, shortest first; only the time changes."""
        return tuple(engraved_time(self.time_s * 2.0**e) for e in self.bracket_ev)


def exposure_value(aperture: float, time_s: float, iso: float = 100.0) -> float:
    """EV at ISO 100 that a setting exposes for."""
    return math.log2(aperture**2 / time_s) - math.log2(iso / 100)


def time_for(ev: float, aperture: float, iso: float, filter_stops: float = 0.0) -> float:
    """Exposure time in seconds for a scene of ``ev`` at ISO 100."""
    return float(aperture**2 / 2.0**ev * 100 / iso * 2.0**filter_stops)


#: Times as engraved in third stops (common practice, no source).
_ENGRAVED_S = tuple(
    [
        1 / d
        for d in (8000, 6400, 5000, 4000, 3200, 2500, 2000, 1600, 1250, 1000, 800, 640, 500, 400, 320, 250, 200, 160)
    ]
    + [1 / d for d in (125, 100, 80, 60, 50, 40, 30, 25, 20, 15, 13, 10, 8, 6, 5, 4)]
    + [0.3, 0.4, 0.5, 0.6, 0.8, 1, 1.3, 1.6, 2, 2.5, 3.2, 4, 5, 6, 8, 10, 13, 15, 20, 25, 30]
)


def engraved_time(time_s: float) -> float:
    """The nearest time that a camera offers; shorter or longer ones stay as they are."""
    if not _ENGRAVED_S[0] * 0.9 < time_s < 33:
        return time_s
    return min(_ENGRAVED_S, key=lambda t: abs(math.log2(t / time_s)))


def filter_factor(stops: float) -> float:
    """By how much a filter of so many stops lengthens the time (density D: stops = D / log10 2)."""
    return float(2.0**stops)


def metered_ev(exposure: Exposure, subject_yaw_deg: float) -> tuple[float, str]:
    """The EV to expose for, by school, with its reason."""
    values = [ev for _, ev in exposure.readings]
    if exposure.metering == "brightest":
        return max(values), "by the brightest part: nothing clips, shadows are lifted later"
    if exposure.metering == "subject":
        nearest = min(exposure.readings, key=lambda r: abs((r[0] - subject_yaw_deg + 180) % 360 - 180))
        return nearest[1], f"by the reading at {nearest[0]:.0f}°, where the subject stands"
    if exposure.metering == "middle":
        return (max(values) + min(values)) / 2, "half way between the brightest and the darkest frame"
    return sum(values) / len(values), f"the average of {len(values)} reading{'s' if len(values) > 1 else ''}"


def setting(
    rig: Rig, support: Support, scene: Scene, exposure: Exposure, aperture: float, subject_yaw_deg: float
) -> Setting:
    """One setting for the whole run with what it clips, drowns and blurs."""
    ev, reason = metered_ev(exposure, subject_yaw_deg)
    time_s = engraved_time(time_for(ev, aperture, exposure.iso, exposure.filter_stops))
    values = [v for _, v in exposure.readings]
    usable = rig.range_stops - max(0.0, math.log2(exposure.iso / rig.base_iso))
    white_over = max(values) - ev
    shadow_spare = usable - (WHITE_ABOVE_STOPS + (ev - min(values)) + SHADOW_BELOW_STOPS)
    middle = (exposure.bracket_count - 1) / 2
    bracket = tuple(
        (i - middle) * exposure.bracket_step_ev + exposure.bracket_shift_ev for i in range(exposure.bracket_count)
    )

    def offset(reading_ev: float, end: int) -> float:
        return bracket[end] if bracketed(reading_ev, exposure) else 0.0

    return Setting(
        ev,
        time_s,
        aperture,
        exposure.iso,
        exposure.metering,
        reason,
        white_over,
        shadow_spare,
        _limits(rig, support, scene),
        bracket,
        max(v - ev + offset(v, 0) for v in values),
        min(usable - (WHITE_ABOVE_STOPS + (ev - v) + SHADOW_BELOW_STOPS) + offset(v, -1) for v in values),
        smallest_bracket(white_over, shadow_spare, exposure.bracket_step_ev),
    )


#: Exposure compensation goes by third stops (common practice, no source).
_SHIFT_EV = 1 / 3
_MOST_EXPOSURES = 15


def smallest_bracket(white_over_stops: float, shadow_spare_stops: float, step_ev: float) -> tuple[int, float]:
    """Fewest exposures, and their shift in EV, that hold white and shadows; as near to the metered value as they can.

    The shortest must be shorter by ``white_over_stops``, the longest longer by as much as shadows lack.
    """
    shortest, longest = -white_over_stops, -shadow_spare_stops
    for count in range(1, _MOST_EXPOSURES + 1):
        half = (count - 1) / 2 * step_ev
        # shifts for which the shortest is short enough, and the longest long enough
        least, most = longest - half, shortest + half
        third = min(max(0, math.ceil(least / _SHIFT_EV - 1e-9)), math.floor(most / _SHIFT_EV + 1e-9))
        if least - 1e-9 <= third * _SHIFT_EV <= most + 1e-9:
            return count, third * _SHIFT_EV
    return _MOST_EXPOSURES, (shortest + longest) / 2


def _limits(rig: Rig, support: Support, scene: Scene) -> tuple[Limit, ...]:
    limits = []
    alike_mm = rig.focal_mm * rig.crop_factor
    if support.kind == "hand":
        limits.append(
            Limit(
                min(_HAND_LIMIT_S, 1 / alike_mm),
                f"held by hand: 1/60 s, and no slower than 1/focal length as on 36 x 24 mm, {alike_mm:.0f} mm",
            )
        )
    if support.kind == "air":
        limits.append(Limit(_HAND_LIMIT_S, "it hovers: 1/60 s, or several of each"))
    if support.kind in ("head", "tripod") and scene.wind_ms > _WINDY_MS:
        limits.append(
            Limit(
                1 / alike_mm,
                f"{scene.wind_ms:.0f} m/s of wind on the tripod, 1/focal length as on 36 x 24 mm, {alike_mm:.0f} mm: "
                "shield it, hang weight, no centre column",
            )
        )
    subject = SUBJECT_LIMIT_S[scene.subject]
    if scene.subject == "leaves" and scene.wind_ms < 1.5:
        subject = math.inf  # nothing stirs
    if math.isfinite(subject):
        what = {"leaves": "leaves and grass in the wind", "walking": "people walking", "running": "people running"}
        limits.append(Limit(subject, what[scene.subject]))
    return tuple(limits)


def bracketed(frames_ev: float, exposure: Exposure) -> bool:
    """Whether a frame that reads ``frames_ev`` is bracketed at all: everywhere, or only where it is bright."""
    return exposure.bracket_count > 1 and frames_ev >= exposure.bracket_only_above_ev


def reading_at(exposure: Exposure, yaw_deg: float) -> float:
    """EV towards a yaw: straight between the neighbouring readings round the circle."""
    known = sorted((a % 360.0, ev) for a, ev in exposure.readings)
    angles = [a for a, _ in known]
    at = yaw_deg % 360.0
    above = next((i for i, a in enumerate(angles) if a >= at), 0)
    (a0, e0), (a1, e1) = known[above - 1], known[above]
    gap = (a1 - a0) % 360.0
    return e0 if gap == 0 else e0 + (e1 - e0) * ((at - a0) % 360.0) / gap


def polariser_spread_stops(sun_yaw_deg: float, sun_altitude_deg: float, left_deg: float, right_deg: float) -> float:
    """How unevenly a polariser darkens the sky along the sweep, 20 degrees up, in stops.

    Rayleigh: the degree of polarisation is sin^2 g / (1 + cos^2 g) at the angle g from
    the sun; a real clear sky reaches about three quarters of it (common practice, no source).
    """
    count = 60
    up, sun_up = math.radians(20.0), math.radians(max(sun_altitude_deg, -5.0))
    left_over = []
    for i in range(count + 1):
        turn = math.radians(left_deg + (right_deg - left_deg) * i / count - sun_yaw_deg)
        cos_g = math.sin(up) * math.sin(sun_up) + math.cos(up) * math.cos(sun_up) * math.cos(turn)
        degree = 0.75 * (1 - cos_g**2) / (1 + cos_g**2)
        left_over.append((1 - degree) / 2)
    return math.log2(max(left_over) / min(left_over))
