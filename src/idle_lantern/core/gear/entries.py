"""Entries of the gear library and what each gives to a plan.

Names of facts are those of the brief wherever they mean the same, so that taking an
entry over is a plain replacement.
"""

from __future__ import annotations

import datetime
from dataclasses import asdict, dataclass, fields, replace
from typing import Any

import msgspec

from idle_lantern.core.base.checks import one_of, within
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.strict_json import whole_numbers
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.geometry.lenses import MODELS
from idle_lantern.core.optics.known import KnownLens
from idle_lantern.core.plan.brief import Brief, Support
from idle_lantern.core.plan.limits import LIMITS, check_limit, check_limits


@dataclass(frozen=True)
class Camera:
    """A body. ``exposures_each`` counts what its sensor-shift mode takes for one frame."""

    sensor_width_mm: float = 24.0
    sensor_height_mm: float = 16.0
    width_px: int = 6000
    height_px: int = 4000
    raw_mb: float = 28.0
    bits: int = 14
    base_iso: float = 100.0
    range_stops: float = 13.0
    exposures_each: int = 1

    def __post_init__(self) -> None:
        check_limits(self)


@dataclass(frozen=True)
class RailFound:
    """How a rail setting was found: at which focal length, how well it is known, on which day (ISO 8601), on which body."""

    focal_mm: float
    doubt_mm: float
    on: str
    camera: str = ""

    def __post_init__(self) -> None:
        within("Focal length of a rail setting", self.focal_mm, 1, 3000, "mm")
        within("Doubt of a rail setting", self.doubt_mm, 0, 100, "mm")
        try:
            datetime.date.fromisoformat(self.on)
        except ValueError:
            raise InputError(f"'{self.on}' is no date", where="Day of a rail setting") from None


@dataclass(frozen=True)
class RailKnown:
    """A rail setting at a focal length with its doubt, and in words what speaks for and against it."""

    setting_mm: float
    doubt_mm: float
    words: str


@dataclass(frozen=True)
class LensEntry:
    """A lens.

    ``rail`` maps a focal length in mm to the rail setting in mm that was found for it, ``rail_found`` tells of those that were
    measured how and when.
    """

    lens_model: str = "rectilinear"
    shortest_mm: float = 24.0
    longest_mm: float = 24.0
    widest_aperture: float = 2.8
    narrowest_aperture: float = 22.0
    image_circle_mm: float = 0.0
    shift_mm: float = 0.0
    corner_loss_stops: float = 1.0
    rail: tuple[tuple[float, float], ...] = ()
    rail_doubt_mm: float = 2.0
    rail_found: tuple[RailFound, ...] = ()

    def __post_init__(self) -> None:
        one_of("Lens kind", self.lens_model, MODELS)
        check_limits(self)
        within("Longest focal length", self.longest_mm, self.shortest_mm, 3000, "mm")
        within("Narrowest aperture", self.narrowest_aperture, self.widest_aperture, 128, "")
        for focal, setting in self.rail:
            within("Focal length of a rail setting", focal, 1, 3000, "mm")
            within("Rail setting", setting, -300, 300, "mm")

    def rail_at(self, focal_mm: float) -> tuple[float, float] | None:
        """Rail setting and its doubt in mm at a focal length, straight between the nearest known ones.

        The doubt grows with the distance to the nearest focal length that was found by
        trying, and doubles beyond the ends; None where nothing is known.
        """
        if not self.rail:
            return None
        known = sorted(self.rail)
        below = max((k for k in known if k[0] <= focal_mm), default=None)
        above = min((k for k in known if k[0] >= focal_mm), default=None)
        if below is None or above is None:
            at = below or above
            assert at is not None
            beyond = abs(focal_mm - at[0]) / max(at[0], 1.0)
            return at[1], self.rail_doubt_mm * (1 + 10 * beyond) * (2 if beyond > 0 else 1)
        if below[0] == above[0]:
            return below[1], self.rail_doubt_mm
        share = (focal_mm - below[0]) / (above[0] - below[0])
        setting = below[1] + share * (above[1] - below[1])
        return setting, self.rail_doubt_mm + 0.15 * abs(above[1] - below[1]) * 4 * share * (1 - share)

    def rail_known(self, focal_mm: float, camera: str, today: datetime.date) -> RailKnown | None:
        """What is known of the rail: the setting, how much it is to be doubted, and why.

        A setting that was found on another body, or long ago, is doubted more: plates are changed and rails get a knock.
        """
        found = self.rail_at(focal_mm)
        if found is None:
            return None
        setting, doubt = found
        note = min(self.rail_found, key=lambda n: abs(n.focal_mm - focal_mm), default=None)
        if note is None:
            return RailKnown(setting, doubt, "")
        words = f"found on {note.on}" + (f" with {note.camera}" if note.camera else "")
        exact = abs(note.focal_mm - focal_mm) < 0.05
        doubt = note.doubt_mm if exact else max(doubt, note.doubt_mm)
        if not exact:
            words += f" at {note.focal_mm:g} mm"
        if camera and note.camera and camera != note.camera:
            doubt = max(doubt, _OTHER_BODY_MM)
            words += "; this is another body: measure it once"
        if (today - datetime.date.fromisoformat(note.on)).days > _OLD_DAYS:
            doubt = max(2 * doubt, _OLD_MM)
            words += "; that is more than a year ago: measure it again"
        return RailKnown(setting, doubt, words)


#: What is added to the doubt of a rail setting (common practice, no source).
_OTHER_BODY_MM = 4.0  # for another body
_OLD_MM = 2.0  # for a setting older than this:
_OLD_DAYS = 366


@dataclass(frozen=True)
class Head:
    """A head or another support with its scale and stops."""

    kind: str = "head"
    step_deg: float = 0.0
    tilt_step_deg: float = 0.0
    scale_clockwise: bool = True
    tilt_low_deg: float = -90.0
    tilt_high_deg: float = 90.0
    pointing_deg: float = 0.0

    def __post_init__(self) -> None:
        Support(self.kind, self.step_deg, self.tilt_step_deg)  # refuses what no support can have
        check_limits(self)


@dataclass(frozen=True)
class Filter:
    """A filter: stops it takes, and whether it polarises."""

    filter_stops: float = 3.0
    polariser: bool = False

    def __post_init__(self) -> None:
        check_limits(self)


@dataclass(frozen=True)
class MemoryCard:
    """A memory card."""

    capacity_gb: float = 64.0

    def __post_init__(self) -> None:
        check_limits(self)


@dataclass(frozen=True)
class Tripod:
    """Legs: how high, how heavy."""

    highest_m: float = 1.6
    weight_kg: float = 2.0

    def __post_init__(self) -> None:
        check_limits(self)


Facts = Camera | LensEntry | Head | Filter | MemoryCard | Tripod | KnownLens
KINDS: dict[str, Any] = {
    "camera": Camera,
    "lens": LensEntry,
    "head": Head,
    "filter": Filter,
    "card": MemoryCard,
    "tripod": Tripod,
    "measured-lens": KnownLens,
}


@dataclass(frozen=True)
class Entry:
    """A thing with a name that is unique among its kind."""

    kind: str
    name: str
    facts: Facts

    def __post_init__(self) -> None:
        if self.kind not in KINDS:
            raise InputError(f"'{self.kind}' is no kind of gear", remedy=f"Use one of {', '.join(KINDS)}")
        if not self.name.strip() or len(self.name) > 80:
            raise InputError("must have 1 to 80 characters", where="Name")
        if not isinstance(self.facts, KINDS[self.kind]):
            raise InputError(f"holds the facts of another kind than {self.kind}", where=self.name)


def entry_from(kind: str, name: str, facts: object) -> Entry:
    """An entry from plain data.

    Raises
    ------
    InputError
        An unknown kind or fact, or an impossible value.
    """
    if kind not in KINDS:
        raise InputError(f"'{kind}' is no kind of gear", remedy=f"Use one of {', '.join(KINDS)}")
    if not isinstance(facts, dict):
        raise InputError("must be an object", where=f"{name}, facts")
    known = {f.name for f in fields(KINDS[kind])}
    unknown = sorted(set(facts) - known)
    if unknown:
        raise InputError(
            f"has an unknown fact '{unknown[0]}'", where=name, remedy=f"Known are {', '.join(sorted(known))}"
        )
    try:
        return Entry(kind, name, msgspec.convert(whole_numbers(facts), KINDS[kind]))
    except msgspec.ValidationError as error:
        place = str(error).partition(" - at `$.")[2].rstrip("`")
        if place in LIMITS:
            check_limit(place, facts[place], whole=False)
        raise InputError("has a value of the wrong kind", where=f"{name}, {place}" if place else name) from error
    except InputError as error:
        raise InputError(
            error.what, where=f"{name}, {error.where}" if error.where else name, remedy=error.remedy
        ) from error


def facts_of(entry: Entry) -> dict[str, Any]:
    """The facts as plain data."""
    return asdict(entry.facts)


def taken_over(brief: Brief, entry: Entry) -> Brief:
    """The brief with this thing in use."""
    facts = entry.facts
    if isinstance(facts, Camera):
        return replace(brief, rig=replace(brief.rig, camera=entry.name, motion="turn", **asdict(facts)))
    if isinstance(facts, LensEntry):
        focal = min(max(brief.rig.focal_mm, facts.shortest_mm), facts.longest_mm)
        rail = facts.rail_at(focal)
        return replace(
            brief,
            rig=replace(
                brief.rig,
                lens_name=entry.name,
                lens_model=facts.lens_model,
                focal_mm=focal,
                widest_aperture=facts.widest_aperture,
                narrowest_aperture=facts.narrowest_aperture,
                image_circle_mm=facts.image_circle_mm,
                shift_mm=facts.shift_mm,
                corner_loss_stops=facts.corner_loss_stops,
                rail_mm=rail[0] if rail else 0.0,
                rail_doubt_mm=rail[1] if rail else facts.rail_doubt_mm,
            ),
            exposure=replace(
                brief.exposure,
                aperture=min(max(brief.exposure.aperture, facts.widest_aperture), facts.narrowest_aperture),
            ),
        )
    if isinstance(facts, Head):
        return replace(brief, support=replace(brief.support, **asdict(facts)))
    if isinstance(facts, Filter):
        return replace(brief, exposure=replace(brief.exposure, **asdict(facts)))
    if isinstance(facts, MemoryCard):
        return replace(brief, run=replace(brief.run, card_gb=facts.capacity_gb))
    if isinstance(facts, KnownLens):  # of use to the join; a plan has the lens itself
        return brief
    kind = brief.support.kind if brief.support.kind == "head" else "tripod"
    return replace(brief, support=replace(brief.support, kind=kind, legs_kg=facts.weight_kg))


def from_frame(metadata: Metadata, width_px: int, height_px: int, file_bytes: int) -> list[Entry]:
    """Camera and lens as far as a picture's EXIF tells them.

    Raises
    ------
    InputError
        The file says neither a sensor width nor a focal length.
    """
    long_side, short_side = max(width_px, height_px), min(width_px, height_px)
    sensor = metadata.sensor_width_mm
    if not sensor and metadata.focal_mm and metadata.focal_35mm:
        diagonal = 43.2666 * metadata.focal_mm / metadata.focal_35mm
        sensor = diagonal * long_side / (long_side**2 + short_side**2) ** 0.5
    found = []
    if sensor:
        camera = Camera(
            round(sensor, 2),
            round(sensor * short_side / long_side, 2),
            long_side,
            short_side,
            max(0.1, round(file_bytes / 1e6, 1)),
        )
        found.append(Entry("camera", metadata.camera or "camera of a frame", camera))
    if metadata.focal_mm:
        aperture = metadata.aperture or 2.8
        lens = LensEntry("rectilinear", metadata.focal_mm, metadata.focal_mm, min(aperture, 22.0), 22.0)
        found.append(Entry("lens", metadata.lens or f"{metadata.focal_mm:g} mm", lens))
    if not found:
        raise InputError(
            "The frame says neither its sensor's size nor its focal length", remedy="Type them from the camera's papers"
        )
    return found
