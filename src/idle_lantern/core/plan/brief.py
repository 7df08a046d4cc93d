"""All that the planner is told: one model for every kind of picture."""

from __future__ import annotations

import datetime
import math
from dataclasses import dataclass, field, replace
from typing import Annotated

from msgspec import Meta

from idle_lantern.core.base.checks import one_of, within
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.plan.limits import check_limits, limit
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField

SUPPORTS = ("head", "tripod", "hand", "air")
ORDERS = ("rows", "rows-left", "snake", "columns", "columns-up", "subject", "mirrored", "rings", "sun")
SUBJECTS = ("still", "leaves", "walking", "running")
SKIES = ("clear", "clouds", "overcast", "indoors")
METERING = ("brightest", "subject", "average", "middle")
APERTURE_SCHOOLS = ("own", "sharpest", "depth", "open", "star")
#: Light that a scene may want: by the height of the sun.
LIGHTS = ("any", "day", "golden", "blue", "night")
#: What a mark stands for: a thing, the subject, the nearest thing, what the picture must hold whole, where frames may be bare.
MARK_ROLES = ("thing", "subject", "nearest", "whole", "bare")
OVERLAP_SCHOOLS = {"quick": 0.15, "long": 0.2, "third": 1 / 3, "thrice": 0.4, "half": 0.5}

#: Finer stops than this nobody feels; each is a place where a frame may stand.
FINEST_STOP_DEG = 0.1

#: Pointing error by support, degrees in yaw and pitch (common practice, no source; can be changed).
POINTING_DEG = {"head": 0.1, "tripod": 0.8, "hand": 2.5, "air": 1.5}


@dataclass(frozen=True)
class Support:
    """What holds the camera.

    ``step_deg`` and ``tilt_step_deg`` are the stops of a click head, 0 for none;
    ``scale_start_deg`` is what the yaw scale reads at the map's yaw 0 and
    ``scale_clockwise`` whether its numbers grow when turning right.
    ``pointing_deg`` 0 takes the usual value of the kind; ``legs_kg`` 0 is unknown. The feet stand on a circle of
    ``leg_circle_mm`` across (0 is unknown), the first at yaw ``first_leg_deg``.
    """

    kind: str = "head"
    step_deg: Annotated[float, limit("step_deg")] = 0.0
    tilt_step_deg: Annotated[float, limit("tilt_step_deg")] = 0.0
    scale_start_deg: Annotated[float, limit("scale_start_deg")] = 0.0
    scale_clockwise: bool = True
    tilt_low_deg: Annotated[float, limit("tilt_low_deg")] = -90.0
    tilt_high_deg: Annotated[float, limit("tilt_high_deg")] = 90.0
    base_tilt_deg: Annotated[float, limit("base_tilt_deg")] = 0.3
    pointing_deg: Annotated[float, limit("pointing_deg")] = 0.0
    pupil_off_mm: Annotated[float, limit("pupil_off_mm")] = 0.0
    legs_kg: Annotated[float, limit("legs_kg")] = 0.0
    leg_circle_mm: Annotated[float, limit("leg_circle_mm")] = 0.0
    first_leg_deg: Annotated[float, limit("first_leg_deg")] = 0.0

    def __post_init__(self) -> None:
        one_of("Support", self.kind, SUPPORTS)
        check_limits(self)
        for name, stop in (("Stops of the head", self.step_deg), ("Stops of the tilt", self.tilt_step_deg)):
            if 0 < stop < FINEST_STOP_DEG:
                raise InputError(
                    f"must be 0 for none, or at least {FINEST_STOP_DEG:g}°, not {stop:g}°",
                    where=name,
                    remedy="A head without stops has 0",
                )

    @property
    def pointing(self) -> float:
        """Spread of yaw and pitch in degrees."""
        return self.pointing_deg or POINTING_DEG[self.kind]

    def as_used(self) -> Support:
        """What holds for this kind: a hand and a hovering camera have neither stops nor a base, whatever was told before."""
        if self.kind in ("head", "tripod"):
            return self
        return replace(self, step_deg=0.0, tilt_step_deg=0.0, base_tilt_deg=0.0)

    @property
    def first_stop_deg(self) -> float:
        """Yaw of a stop: those where the scale reads a multiple of the step."""
        return -self.scale_start_deg if self.scale_clockwise else self.scale_start_deg

    def reading(self, yaw_deg: float) -> float:
        """What the head's scale reads at a yaw, 0 to 360."""
        return (self.scale_start_deg + (yaw_deg if self.scale_clockwise else -yaw_deg)) % 360.0


@dataclass(frozen=True)
class Mark:
    """A thing in the picture: where it stands, how wide and high it is, whether a seam may cross it.

    ``height_deg`` 0 is as high as wide, ``distance_m`` 0 is not known.
    """

    name: str
    yaw_deg: float
    pitch_deg: float = 0.0
    width_deg: float = 4.0
    keep_off_seams: bool = True
    role: str = "thing"
    height_deg: float = 0.0
    distance_m: float = 0.0

    def __post_init__(self) -> None:
        within(f"Distance of {self.name or 'the mark'}", self.distance_m, 0, 1e6, "m")
        one_of("What a mark stands for", self.role, MARK_ROLES)
        within(f"Height of {self.name or 'the mark'}", self.height_deg, 0, 180, "°")
        within(f"Yaw of {self.name or 'the mark'}", self.yaw_deg, -540, 540, "°")
        within(f"Pitch of {self.name or 'the mark'}", self.pitch_deg, -90, 90, "°")
        within(f"Width of {self.name or 'the mark'}", self.width_deg, 0, 180, "°")

    @property
    def tall_deg(self) -> float:
        """How high it is."""
        return self.height_deg or self.width_deg


@dataclass(frozen=True)
class Scene:
    """Distances and what moves. ``far_m`` and ``background_m`` may be infinite; ``subject_m`` 0 is none."""

    near_m: Annotated[float, limit("near_m")] = 5.0
    far_m: float = math.inf
    subject_m: Annotated[float, limit("subject_m")] = 0.0
    background_m: float = math.inf
    subject: str = "leaves"
    wind_ms: Annotated[float, limit("wind_ms")] = 3.0
    sky: str = "clouds"
    marks: tuple[Mark, ...] = ()

    def __post_init__(self) -> None:
        check_limits(self)
        for name, value in (("Farthest thing", self.far_m), ("Background", self.background_m)):
            if math.isnan(value) or value < self.near_m:
                raise InputError(
                    f"must lie at least as far away as the nearest thing ({self.near_m:g} m)",
                    where=name,
                    remedy="Write a distance or 'infinity'",
                )
        if 0 < self.subject_m < self.near_m:
            raise InputError(
                f"must stand at least as far away as the nearest thing ({self.near_m:g} m), not at {self.subject_m:g} m",
                where="Subject",
                remedy="Bring the nearest thing nearer first, or write 0 for no subject",
            )
        one_of("What moves", self.subject, SUBJECTS)
        one_of("Sky", self.sky, SKIES)

    @property
    def subject_mark(self) -> Mark | None:
        """The mark of the subject, else the first one of a thing."""
        things = [m for m in self.marks if m.role in ("subject", "thing", "whole")]
        return next((m for m in things if m.role == "subject"), things[0] if things else None)


@dataclass(frozen=True)
class Exposure:
    """Meter readings (EV at ISO 100 by azimuth) and how they are used.

    ``aperture_school`` other than ``own`` finds the aperture by itself;
    ``focus_m`` 0 focuses for the nearest and farthest thing. A bracket lies evenly round the metered exposure,
    shifted by ``bracket_shift_ev`` towards longer times.
    """

    readings: tuple[tuple[float, float], ...] = ((-90.0, 13.5), (0.0, 14.0), (90.0, 14.5))
    metering: str = "average"
    aperture: Annotated[float, limit("aperture")] = 8.0
    aperture_school: str = "own"
    iso: Annotated[float, limit("iso")] = 100.0
    focus_m: Annotated[float, limit("focus_m")] = 0.0
    filter_stops: Annotated[float, limit("filter_stops")] = 0.0
    polariser: bool = False
    bracket_count: Annotated[int, limit("bracket_count")] = 1
    bracket_step_ev: Annotated[float, limit("bracket_step_ev")] = 2.0
    bracket_shift_ev: Annotated[float, limit("bracket_shift_ev")] = 0.0
    bracket_only_above_ev: Annotated[float, limit("bracket_only_above_ev")] = 0.0
    white_balance_k: Annotated[float, limit("white_balance_k")] = 5500.0

    def __post_init__(self) -> None:
        one_of("Metering", self.metering, METERING)
        one_of("Aperture school", self.aperture_school, APERTURE_SCHOOLS)
        if not self.readings:
            raise InputError("needs at least one value", where="Meter readings", remedy="Write an EV, like 14")
        for azimuth, ev in self.readings:
            within("Azimuth of a reading", azimuth, -540, 540, "°")
            within("Meter reading", ev, -10, 24, "EV")
        check_limits(self)


@dataclass(frozen=True)
class Stop:
    """Another scene of the evening: how long it takes, how far it is to walk there, what light it wants, where it lies.

    ``place_m`` is metres to the east and north of this picture; None where it is not known.
    """

    name: str
    minutes: float
    walk_minutes: float = 0.0
    light: str = "any"
    place_m: tuple[float, float] | None = None

    def __post_init__(self) -> None:
        one_of(f"Light of {self.name or 'the scene'}", self.light, LIGHTS)
        for side, metres in zip(("east", "north"), self.place_m or ()):
            within(f"Metres {side} of {self.name or 'the scene'}", metres, -1e6, 1e6, "m")
        within(f"Minutes of {self.name or 'the scene'}", self.minutes, 0, 1440, "min")
        within(f"Walk to {self.name or 'the scene'}", self.walk_minutes, 0, 1440, "min")


@dataclass(frozen=True)
class Site:
    """Place and start of the run.

    ``facing_deg`` is the compass bearing of the map's yaw 0. ``skyline_deg`` is how high land or houses stand where the sun
    rises and sets, None for as scouted.
    """

    name: str = ""
    latitude_deg: Annotated[float, limit("latitude_deg")] = 55.0
    longitude_deg: Annotated[float, limit("longitude_deg")] = -8.0
    date: str = "2026-05-14"
    start: str = "19:30"
    utc_offset_h: Annotated[float, limit("utc_offset_h")] = 1.0
    facing_deg: Annotated[float, limit("facing_deg")] = 250.0
    stops: tuple[Stop, ...] = ()
    skyline_deg: Annotated[float, Meta(ge=0, le=89)] | None = None

    def __post_init__(self) -> None:
        check_limits(self)
        if self.skyline_deg is not None:
            within("Skyline towards the sun", self.skyline_deg, 0, 89, "°")
        try:
            datetime.date.fromisoformat(self.date)
        except (TypeError, ValueError):
            raise InputError(f"'{self.date}' is no date", where="Date", remedy="Write it like 2026-05-14") from None
        try:
            zone = datetime.time.fromisoformat(self.start).tzinfo
        except (TypeError, ValueError):
            raise InputError(f"'{self.start}' is no time", where="Start", remedy="Write it like 19:30") from None
        if zone is not None:
            raise InputError(
                f"'{self.start}' names a zone", where="Start", remedy="Write 19:30, and the zone as hours from UTC"
            )
        if not 1900 <= datetime.date.fromisoformat(self.date).year <= 2100:
            raise InputError("must lie between 1900 and 2100", where="Date")

    @property
    def begin(self) -> datetime.datetime:
        """Start in local time, without a zone."""
        return datetime.datetime.fromisoformat(f"{self.date}T{self.start}")

    def yaw_of(self, bearing_deg: float) -> float:
        """Yaw on the map of a compass bearing, -180 to 180."""
        return (bearing_deg - self.facing_deg + 180.0) % 360.0 - 180.0


@dataclass(frozen=True)
class Run:
    """In what order and how often the frames are taken, how long that takes, the card they go to, and checks of one's own."""

    order: str = "rows"
    repeats: Annotated[int, limit("repeats")] = 1
    bookends: bool = True
    settle_s: Annotated[float, limit("settle_s")] = 2.0
    turn_deg_per_s: Annotated[float, limit("turn_deg_per_s")] = 12.0
    delay_s: Annotated[float, limit("delay_s")] = 0.0
    card_gb: Annotated[float, limit("card_gb")] = 64.0
    own_checks: tuple[Annotated[str, Meta(max_length=200)], ...] = ()

    def __post_init__(self) -> None:
        one_of("Order", self.order, ORDERS)
        check_limits(self)


@dataclass(frozen=True)
class Target:
    """What the picture is wanted for: the longer side of a print, its resolution, how near people stand.

    ``print_mm`` 0 wants no print.
    """

    print_mm: Annotated[float, limit("print_mm")] = 0.0
    dpi: Annotated[float, limit("dpi")] = 240.0
    viewing_m: Annotated[float, limit("viewing_m")] = 1.5

    def __post_init__(self) -> None:
        check_limits(self)


@dataclass(frozen=True)
class Brief:
    """Everything a plan is made from. ``kind`` only names the starting point it came from."""

    rig: Rig = field(default_factory=Rig)
    target_field: TargetField = field(default_factory=TargetField)
    support: Support = field(default_factory=Support)
    scene: Scene = field(default_factory=Scene)
    exposure: Exposure = field(default_factory=Exposure)
    site: Site = field(default_factory=Site)
    run: Run = field(default_factory=Run)
    target: Target = field(default_factory=Target)
    kind: str = "row"
