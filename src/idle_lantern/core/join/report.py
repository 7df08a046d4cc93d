"""The join report of the contract: typed, as it stands in the file. ``report_making`` fills it, ``report_reading`` reads it back."""

from __future__ import annotations

import json
import math
from pathlib import Path
from typing import Literal

import msgspec
import numpy as np
from msgspec import UNSET, Struct, UnsetType

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.strict_json import read_bytes
from idle_lantern.core.inspection.suspect import Kind
from idle_lantern.core.optics.known import KnownLens
from idle_lantern.core.request.choices import JoinChoices

SCHEMA: Literal["idle-lantern/join-report/1"] = "idle-lantern/join-report/1"
#: A number that may not be known.
Maybe = float | None
Triple = tuple[float, float, float]


class LensRow(Struct, frozen=True):
    """A lens in pixels of its frame (``geometry.lenses``)."""

    model: str
    focal_px: float
    k1: float
    k2: float
    k3: float
    cx: float
    cy: float


class PoseRow(Struct, frozen=True):
    """Where a frame looks; ``rotation`` is world-from-camera, ``sigma_deg`` how well it is known."""

    yaw_deg: float
    pitch_deg: float
    roll_deg: float
    rotation: tuple[Triple, Triple, Triple]
    sigma_deg: Maybe | UnsetType = UNSET


class PackedWarp(Struct, frozen=True):
    """A local warp of a frame (``packed_warp``)."""

    rows: int
    columns: int
    unit_px: float
    int16_deflated_base64: str


Role = Literal["single", "base", "bracket", "repeat", "bookend", "twin", "stray", "sensor-shift"]


class FrameRow(Struct, frozen=True, kw_only=True):
    """What became of a file.

    Of a file beside the frames ``stands`` names the frame that stands for it; ``sigma_deg`` is that of its pose.
    """

    file: str
    used: bool
    reason: str | None = None
    width: int | None = None
    height: int | None = None
    bits: int | UnsetType = UNSET
    lens: LensRow | None = None
    pose: PoseRow | None = None
    sigma_deg: Maybe | UnsetType = UNSET
    gain: tuple[float, ...] = (1.0, 1.0, 1.0)
    placed_by: str | None = None
    shown_px: list[list[tuple[int, int]]] | UnsetType = UNSET
    image_circle_px: float | UnsetType = UNSET
    local_warp_px: PackedWarp | UnsetType = UNSET
    position: str | UnsetType | None = UNSET
    role: Role | UnsetType = UNSET
    ev: float | UnsetType = UNSET
    stands: str | UnsetType = UNSET

    @property
    def is_beside(self) -> bool:
        """Whether it is of a file beside the frames: another exposure of a place, a bookend, a raw's JPEG."""
        return self.stands is not UNSET or self.position is None

    @property
    def circle_px(self) -> float:
        """Radius of the image circle, infinite where the lens fills the frame."""
        return math.inf if self.image_circle_px is UNSET else self.image_circle_px

    @property
    def outlines_px(self) -> list[list[tuple[int, int]]]:
        """What the picture shows of it, as polygons."""
        return [] if self.shown_px is UNSET else self.shown_px


class LinkRow(Struct, frozen=True):
    """A verified link between two frames, by index."""

    a: int
    b: int
    matches: int
    inliers: int
    rms_px: Maybe


class TieRow(Struct, frozen=True):
    """A point or line that a person set: by how much it misses in the picture, whether it tied its frames, and what is to be said."""

    a: str
    b: str
    xy_a: tuple[float, float]
    xy_b: tuple[float, float]
    to_a: tuple[float, float] | None
    to_b: tuple[float, float] | None
    sigma_px: float
    miss_px: Maybe
    believed: bool
    sentence: str | None


class StretchRow(Struct, frozen=True):
    """How a canvas is bent (``compositing.canvas.stretch``)."""

    origin_px: tuple[float, float]
    step_px: tuple[float, float]
    flat_px: list[list[tuple[float, float]]]
    period_px: float


class CanvasRow(Struct, frozen=True):
    """Where directions lie on the picture."""

    projection: str
    parameters: dict[str, float]
    width: int
    height: int
    px_per_rad: float
    centre_px: tuple[float, float]
    rotation: tuple[Triple, Triple, Triple]
    full_circle: bool = False
    reason: str = ""
    stretch: StretchRow | None = None


class CarriedRow(Struct, frozen=True, tag_field="kind", tag="hand-held"):
    """A camera that was carried (``registration.solve.hand_held``)."""

    share_of_nearest_distance: float
    largest_px: float
    in_words: str


class OffAxis(Struct, frozen=True):
    """Where the pupil stood from the turning axis: a direction of unit length in the camera frame."""

    right: float
    down: float
    forward: float


class ParallaxRow(Struct, frozen=True, tag_field="kind", tag="off-axis"):
    """An axis beside the no-parallax point (``registration.solve.parallax``)."""

    direction: OffAxis
    direction_sigma_deg: Maybe
    share_of_nearest_distance: float
    share_sigma: Maybe
    largest_px: float
    in_words: str


class PupilRow(Struct, frozen=True):
    """The pupil's offset, if the nearest things that were matched stand so far off."""

    offset_mm: float
    for_distance_m: float
    sigma_mm: Maybe


class LevelRow(Struct, frozen=True):
    """How the vertical was found, and how the turning axis leaned."""

    edges: int
    sigma_deg: Maybe
    axis_lean_deg: float
    axis_lean_toward_deg: float
    in_words: str


class LeanRow(Struct, frozen=True):
    """How the turning axis leaned."""

    deg: float
    towards_yaw_deg: float
    sigma_deg: Maybe


class FalloffRow(Struct, frozen=True):
    """Light fall-off that was taken out: its terms, and the light left in a corner."""

    terms: tuple[float, float] = (0.0, 0.0)
    corner: float = 1.0


class DustRow(Struct, frozen=True):
    """A spot on the sensor."""

    u: float
    v: float
    size_px: float
    loss: float


class SuspectRow(Struct, frozen=True):
    """A place that should be looked at, in pixels of the picture."""

    u: float
    v: float
    width: float
    height: float
    kind: Kind
    suspicion: float
    frames: tuple[str, ...]
    sentence: str
    figure: float = 0.0
    unit: str = ""


class GhostPlaceRow(Struct, frozen=True):
    """Where a thing that moved shows in one frame, and which frame shows the ground there."""

    u: float
    v: float
    width: float
    height: float
    frame: str
    instead: str
    shown: bool


class GhostRow(Struct, frozen=True):
    """A thing that moved while the frames were taken."""

    sentence: str
    places: tuple[GhostPlaceRow, ...]


class RimRow(Struct, frozen=True):
    """What was done at the rim."""

    way: Literal["stretch", "fill"]
    sentence: str
    largest: float | UnsetType = UNSET
    bow_px: float | UnsetType = UNSET
    invented_px: int | UnsetType = UNSET
    left_open: tuple[str, ...] | UnsetType = UNSET


class BoxRow(Struct, frozen=True):
    """A rectangle of the picture."""

    left: int
    top: int
    width: int
    height: int


class CropRow(Struct, frozen=True):
    """What of the canvas was written; ``ratio`` is width by height where one was held."""

    x: int
    y: int
    width: int
    height: int
    ratio: Maybe = None


class TilesRow(Struct, frozen=True):
    """How many tiles were made, of how many."""

    made: int
    of: int


class Report(Struct, frozen=True, kw_only=True):
    """The whole report; what is not known of a failed join is absent."""

    schema: Literal["idle-lantern/join-report/1"] = SCHEMA
    error: str | UnsetType = UNSET
    frames: tuple[FrameRow, ...] = ()
    groups: list[list[str]] = []
    links: tuple[LinkRow, ...] = ()
    ties: tuple[TieRow, ...] = ()
    rms_px: Maybe = None
    focal_sigma: Maybe | UnsetType = UNSET
    working_mp: float | UnsetType = UNSET
    canvas: CanvasRow | None = None
    parallax: ParallaxRow | CarriedRow | UnsetType | None = UNSET
    pupil: PupilRow | UnsetType | None = UNSET
    level: LevelRow | UnsetType | None = UNSET
    level_doubt: str = ""
    lean: LeanRow | UnsetType | None = UNSET
    known_lens: KnownLens | UnsetType | None = UNSET
    falloff: FalloffRow | UnsetType = UNSET
    dust: tuple[DustRow, ...] | UnsetType = UNSET
    head_left_out: tuple[str, ...] = ()
    suspects: tuple[SuspectRow, ...] | None = None
    ghosts: tuple[GhostRow, ...] = ()
    invented_px: int = 0
    rim: RimRow | None = None
    profile: str | UnsetType = UNSET
    largest_rectangle: BoxRow | UnsetType = UNSET
    cropped: bool = False
    crop: CropRow | UnsetType = UNSET
    tiles: TilesRow | UnsetType = UNSET
    timings_s: dict[str, float] = {}
    peak_rss_mib: float = 0.0
    took_s: float | UnsetType = UNSET
    frame_ids: tuple[str, ...] = ()
    asked: JoinChoices | UnsetType = UNSET
    rail_mm: Maybe = None
    prepared: tuple[str, ...] = ()

    @property
    def falloff_terms(self) -> tuple[float, float]:
        """Of the fall-off, none where it tells none."""
        return (0.0, 0.0) if self.falloff is UNSET else self.falloff.terms

    @property
    def chosen(self) -> JoinChoices | None:
        """What was asked for, where the report tells."""
        return None if self.asked is UNSET else self.asked

    def to_json(self) -> bytes:
        """As it stands in the file."""
        try:
            return msgspec.json.format(msgspec.json.encode(self, enc_hook=_plain), indent=1)
        except (
            UnicodeEncodeError
        ):  # names of files that are no text: JSON can hold them escaped, msgspec writes none of them
            return json.dumps(msgspec.to_builtins(self, enc_hook=_plain), indent=1).encode()


def _plain(value: object) -> object:
    """A number of NumPy as one of Python: the figures come from arrays."""
    if isinstance(value, np.generic):
        return value.item()
    raise NotImplementedError(f"{type(value).__name__} in a report")


def _finite(text: str) -> float:
    value = float(text)
    if not math.isfinite(value):
        raise ValueError(f"{text} is no number that a report holds")
    return value


def read_report(path: Path, *, remedy: str = "Join again") -> Report:
    """The report in a file.

    Raises
    ------
    InputError
        It is missing, or no report of a join.
    """
    data = read_bytes(path, remedy=remedy)
    try:
        try:
            return msgspec.json.decode(data, type=Report)
        except msgspec.DecodeError:  # names of files that are no text
            return msgspec.convert(json.loads(data, parse_float=_finite, parse_constant=_finite), Report)
    except (msgspec.MsgspecError, ValueError, RecursionError) as error:
        raise InputError("Is no report of a join", where=str(path), remedy=remedy) from error
