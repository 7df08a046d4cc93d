"""What a join can be told; one frozen object for all stages."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

from idle_lantern.core.frames.profiles import WorkingSpace
from idle_lantern.core.optics.known import KnownLens

Rim = Literal["none", "stretch", "fill"]
Level = Literal["auto", "none"] | tuple[float, float, float]


@dataclass(frozen=True)
class TiePoint:
    """One thing in two frames, set by hand: frames by index into the set, places in full-resolution pixels, how well known.

    People set points at 100 % to about 0.4 px. With ``to_a`` and ``to_b`` it is a straight line, drawn from ``xy`` to ``to`` in each
    frame: not from and to the same things, so that it says nothing along itself.
    """

    a: int
    xy_a: tuple[float, float]
    b: int
    xy_b: tuple[float, float]
    sigma_px: float = 0.4
    to_a: tuple[float, float] | None = None
    to_b: tuple[float, float] | None = None

    @property
    def is_line(self) -> bool:
        """Whether it is a line and no point."""
        return self.to_a is not None and self.to_b is not None

    def told(self, names: Sequence[str]) -> list[Any]:
        """As a plain list, with the frames by ``names``."""
        row = [names[self.a], *self.xy_a, names[self.b], *self.xy_b]
        return [*row, *self.to_a, *self.to_b] if self.to_a is not None and self.to_b is not None else row

    def seen_from(self, a: int) -> TiePoint:
        """The same with frame ``a`` first."""
        return (
            self if self.a == a else TiePoint(self.b, self.xy_b, self.a, self.xy_a, self.sigma_px, self.to_b, self.to_a)
        )


@dataclass(frozen=True)
class JoinOptions:
    """Options of a join, each default with its reason.

    Attributes
    ----------
    projection : str
        A projection name or ``auto``: chosen by field of view and rows, with the reason told.
    width_px : int or None
        Canvas width; None keeps the frames' own scale, so that nothing is thrown away.
    working_mp : float
        Size at which features are sought first, and quickly: 0.2 MP ties most sets at a fraction
        of the cost of full size; fine registration brings back what that loses.
    second_mp : float
        Size of a second, thorough look when the first leaves frames apart or ties them weakly.
    features : int
        Most points kept per frame, spread evenly; the quick first look takes four fifths of them.
    refine : bool
        Re-localise tie points at full resolution.
    seed : int
        Of the random samples; the same frames always give the same picture.
    threads : int
        Workers; OpenCV and BLAS run one thread inside each.
    crop : bool
        Cut the picture to the largest rectangle without gaps.
    ratio : float or None
        Width by height of that rectangle, where one is wished.
    level : "auto", "none", or (yaw, pitch, roll) in degrees
        Upright by what the frames show, as the first frame stands, or turned by so much from upright.
    turn_deg : (yaw, pitch, roll)
        Turns the picture after all that ``level`` does; poses stay as they are.
    distance : float
        How far panini's eye stands behind the middle: 0 is flat, 1 usual.
    straighten : float
        How far panini makes lines across the view straight, 0 to 1.
    rim : "none", "stretch" or "fill"
        Gaps between outline and rectangle: left, taken up by a warp, or filled with what is invented.
    invent_anything : bool
        Fill gaps also where more than sky, grass or water borders on them.
    profile : WorkingSpace or None
        Colour space of the picture; None keeps that of the frames.
    jpeg_quality : int
        Of a JPEG result.
    memory_bytes : int or None
        Most memory for pictures; None takes a quarter of the machine.
    wanted : frozenset of int
        Frames to use whatever speaks against them: doubles stay, and what nothing ties is
        placed where it was planned or where the grid puts it.
    lens : KnownLens or None
        A lens whose distortion, lateral colour and fall-off are known; frames that it does not fit, and tie points
        that contradict it, are told and solved for.
    tie_points : tuple of TiePoint
        Set by hand, and believed.
    cut_links : tuple of (int, int)
        Pairs of frames, the smaller index first, that are not matched with each other: what they show alike is not the same.
    off : frozenset of int
        Frames that tie the others but show nowhere.
    shifts : bool
        The camera stood still and its lens was shifted: frames differ by a shift, not by a turn.
    """

    projection: str = "auto"
    width_px: int | None = None
    working_mp: float = 0.2
    second_mp: float = 0.7
    features: int = 1000
    refine: bool = True
    seed: int = 1
    threads: int = max(1, min(8, os.cpu_count() or 1))
    crop: bool = False
    ratio: float | None = None
    level: Level = "auto"
    turn_deg: tuple[float, float, float] = (0.0, 0.0, 0.0)
    distance: float = 1.0
    straighten: float = 0.0
    rim: Rim = "none"
    invent_anything: bool = False
    profile: WorkingSpace | None = None
    jpeg_quality: int = 92
    memory_bytes: int | None = None
    wanted: frozenset[int] = frozenset()
    lens: KnownLens | None = None
    shifts: bool = False
    tie_points: tuple[TiePoint, ...] = ()
    cut_links: tuple[tuple[int, int], ...] = ()
    off: frozenset[int] = frozenset()

    def points(self, *, quick: bool) -> int:
        """Most points of a frame in the quick first look, or in the thorough second one."""
        return self.features * 4 // 5 if quick else self.features

    def memory(self) -> int:
        """Bytes that a join may use for pictures: as told, else a quarter of the machine."""
        return self.memory_bytes or machine_memory() // 4


def machine_memory() -> int:
    """Bytes of memory in this computer."""
    return os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE")
