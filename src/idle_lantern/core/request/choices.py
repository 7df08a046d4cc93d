"""What is asked of a join: one frozen value by frame id, in the document, the request, the report and the names of what is kept.

Each field tells what it changes (``changed_by``), so that comparing, re-using and re-making follow from the fields themselves:

========  ==================================================================
files     which files make the set: the join begins anew
solve     where frames belong: they are solved anew
light     what of each frame is shown: they are made ready and blended anew
canvas    where things lie in the picture: it is drawn anew
pixels    what of the frames shows where: tiles that differ are made anew
run       how it is reckoned, not what
========  ==================================================================
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, field, fields, replace
from typing import Annotated, Any, Literal, TypeVar

from msgspec import Meta

from idle_lantern.core.merging.development import Development
from idle_lantern.core.merging.recipe import Brackets, Recipe, Repeats
from idle_lantern.core.optics.known import KnownLens
from idle_lantern.core.request.eased import EasedPlaces

FrameId = Annotated[str, Meta(min_length=1, max_length=4096, description="The identity of a frame, or its name")]
Sha256 = Annotated[str, Meta(pattern="^[0-9a-f]{64}$", description="SHA-256 of the file's bytes")]
Degrees = Annotated[float, Meta(ge=-1080, le=1080)]
Pixels = Annotated[float, Meta(ge=-1e6, le=1e6)]
Changes = Literal["files", "solve", "light", "canvas", "pixels", "run"]
Level = Literal["auto", "none"] | tuple[Degrees, Degrees, Degrees]
Rim = Literal["none", "stretch", "fill", "fill-all"]
C = TypeVar("C", bound="JoinChoices")


@dataclass(frozen=True)
class TiePoint:
    """One thing in two frames, set by hand: frames by id, places in full-resolution pixels, how well known.

    People set points at 100 % to about 0.4 px. With ``to_a`` and ``to_b`` it is a straight line, drawn from ``xy`` to ``to`` in each
    frame: not from and to the same things, so that it says nothing along itself.
    """

    a: FrameId
    xy_a: tuple[Pixels, Pixels]
    b: FrameId
    xy_b: tuple[Pixels, Pixels]
    sigma_px: Annotated[float, Meta(ge=0.001, le=100)] = 0.4
    to_a: tuple[Pixels, Pixels] | None = None
    to_b: tuple[Pixels, Pixels] | None = None

    @property
    def is_line(self) -> bool:
        """Whether it is a line and no point."""
        return self.to_a is not None and self.to_b is not None

    def seen_from(self, a: str) -> TiePoint:
        """The same with frame ``a`` first."""
        return (
            self if self.a == a else TiePoint(self.b, self.xy_b, self.a, self.xy_a, self.sigma_px, self.to_b, self.to_a)
        )


@dataclass(frozen=True)
class MaskRef:
    """What is painted on a frame: a PNG, by its hash (``docs/formats/masks.md``)."""

    frame: FrameId
    asset: Sha256


def changing(what: Changes, default: Any) -> Any:
    """A field that changes ``what``."""
    return field(default=default, metadata={"changes": what})


@dataclass(frozen=True)
class JoinChoices:
    """What the photographer chose for the join.

    Attributes
    ----------
    left_out : frames to keep out of the join
    twins : which of raw and JPEG of one exposure is used
    put_back : frames to use whatever speaks against them
        Doubles stay, and what nothing ties is placed where it was planned or where the grid puts it.
    lens : a lens whose distortion, lateral colour and fall-off are known, None where the join is to find it
        Frames that it does not fit, and tie points that contradict it, are told and solved for.
    points : tie points set by hand, and believed
    cut_links : pairs of frames that are not matched with each other: what they show alike is not the same
    level : upright by what the frames show, as the first frame stands, or turned by so much from upright
    lens_shift : the camera stood still and its lens was shifted: frames differ by a shift, not by a turn
    brackets, repeats : what becomes of the exposures of a place, and of frames taken again there
    development : the one development of all frames
    projection : a projection name, or ``auto``: chosen by field of view and rows, with the reason told
    turn_deg : yaw, pitch, roll by which the picture is turned after all that ``level`` does; poses stay as they are
    distance : how far panini's eye stands behind the middle: 0 is flat, 1 usual
    straighten : how far panini makes lines across the view straight, 0 to 1
    eased : lines and round things that the projection bends and that are drawn straight and round all the same
    rim : gaps between outline and rectangle: left, taken up by a warp, or filled with what is invented
        ``fill-all`` also where more than sky, grass or water borders on them.
    off : frames that tie the others but show nowhere
    masks : what is painted on frames
    """

    left_out: tuple[FrameId, ...] = changing("files", ())
    twins: Literal["raw", "jpeg"] = changing("files", "raw")
    put_back: tuple[FrameId, ...] = changing("solve", ())
    lens: KnownLens | None = changing("solve", None)
    points: tuple[TiePoint, ...] = changing("solve", ())
    cut_links: tuple[tuple[FrameId, FrameId], ...] = changing("solve", ())
    level: Level = changing("solve", "auto")
    lens_shift: bool = changing("solve", False)
    brackets: Brackets = changing("light", "merge")
    repeats: Repeats = changing("light", "sharpest")
    development: Development = changing("light", Development())
    projection: Annotated[str, Meta(max_length=40)] = changing("canvas", "auto")
    turn_deg: tuple[Degrees, Degrees, Degrees] = changing("canvas", (0.0, 0.0, 0.0))
    distance: Annotated[float, Meta(ge=0, le=10)] = changing("canvas", 1.0)
    straighten: Annotated[float, Meta(ge=0, le=1)] = changing("canvas", 0.0)
    eased: EasedPlaces = changing("canvas", ())
    rim: Rim = changing("canvas", "none")
    off: tuple[FrameId, ...] = changing("pixels", ())
    masks: tuple[MaskRef, ...] = changing("pixels", ())

    @property
    def fills_rim(self) -> bool:
        """Whether gaps at the rim are filled with what is invented."""
        return self.rim in ("fill", "fill-all")

    @property
    def recipe(self) -> Recipe:
        """How frames are made ready."""
        return Recipe(self.brackets, self.development, self.repeats)

    def among(self: C, ids: Collection[str]) -> C:
        """What of it concerns the frames ``ids``, in one order: cut links and masks sorted, frames by id."""
        known = set(ids)
        links = {(min(pair), max(pair)) for pair in self.cut_links if set(pair) <= known}
        return replace(
            self,
            left_out=(),
            put_back=tuple(sorted(known & set(self.put_back))),
            points=tuple(p for p in self.points if p.a in known and p.b in known),
            cut_links=tuple(sorted(links)),
            off=tuple(sorted(known & set(self.off))),
            masks=tuple(sorted((m for m in self.masks if m.frame in known), key=lambda m: m.frame)),
        )

    def relevant(self: C, *, brackets: bool, repeats: bool, twins: bool) -> C:
        """The same with what makes no difference as it is by default: of sets without brackets, of other projections than panini."""
        plain = JoinChoices()
        changes: dict[str, Any] = {}
        if not brackets:
            changes["brackets"] = plain.brackets
        if not repeats:
            changes["repeats"] = plain.repeats
        if not twins:
            changes["twins"] = plain.twins
        if self.projection != "panini":
            changes |= {"distance": plain.distance, "straighten": plain.straighten}
        return replace(self, **changes)

    def without(self: C, gone: Collection[str]) -> C:
        """The same after frames are taken out of the set."""
        lost = set(gone)
        return replace(
            self,
            left_out=tuple(f for f in self.left_out if f not in lost),
            put_back=tuple(f for f in self.put_back if f not in lost),
            points=tuple(p for p in self.points if not {p.a, p.b} & lost),
            cut_links=tuple(pair for pair in self.cut_links if not set(pair) & lost),
            off=tuple(f for f in self.off if f not in lost),
            masks=tuple(m for m in self.masks if m.frame not in lost),
        )

    def mask_of(self, frame: str) -> str | None:
        """The asset with what is painted on a frame, None where nothing is."""
        return next((mask.asset for mask in self.masks if mask.frame == frame), None)


def differing(one: JoinChoices, other: JoinChoices) -> tuple[str, ...]:
    """Names of the fields in which two differ."""
    return tuple(f.name for f in fields(JoinChoices) if getattr(one, f.name) != getattr(other, f.name))


def changed_by(names: Sequence[str]) -> frozenset[Changes]:
    """What fields of those names change."""
    tags = {f.name: f.metadata["changes"] for f in fields(JoinChoices)}
    return frozenset(tags[name] for name in names)


def needs_solving(one: JoinChoices, other: JoinChoices) -> bool:
    """Whether the solution of one is none for the other."""
    return bool(changed_by(differing(one, other)) & {"files", "solve"})
