"""What a join is asked for, and what it tells: frozen values, loaded without what carries a join out.

A request carries everything that the join may depend on, the document it belongs to included, so that
nobody asks a window what is open while the work runs.
"""

from __future__ import annotations

import uuid
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Literal

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.join.report import Report
from idle_lantern.core.merging.recipe import BracketExposure
from idle_lantern.core.request.choices import JoinChoices
from idle_lantern.core.request.options import JoinOptions

if TYPE_CHECKING:
    from idle_lantern.core.compositing.canvas.canvas import Canvas
    from idle_lantern.core.compositing.canvas.warp import Tile
    from idle_lantern.core.compositing.render.compose import Joined
    from idle_lantern.core.registration.solve.solve import Solution

#: Usual share of each stage in the whole run, for progress and remaining time.
STAGE_WEIGHTS = {
    "prepare": 0.05,
    "read": 0.09,
    "features": 0.09,
    "match": 0.07,
    "adjust": 0.04,
    "refine": 0.16,
    "warp": 0.02,
    "seams": 0.04,
    "rim": 0.03,
    "blend": 0.29,
    "suspects": 0.12,
}


@dataclass(frozen=True)
class JoinFrame:
    """A position of a request: the file that stands for it, the id by which choices name it, its known direction, what is painted on it.

    ``others`` are the other exposures of its bracket, and frames taken there again.
    """

    path: Path
    id: str = ""
    prior: Array | None = field(default=None, compare=False)
    mask: Path | None = None
    others: tuple[BracketExposure, ...] = ()


@dataclass(frozen=True)
class Aside:
    """A file of the set that is no part of the picture, and why; ``run`` names the other run that it is of."""

    path: Path
    role: Literal["bookend", "twin", "single", "base", "bracket", "repeat", "sensor-shift"]
    reason: str
    run: str = ""


@dataclass(frozen=True)
class JoinRequest:
    """Everything a join may depend on.

    ``solution`` is taken as it is where a picture of known poses is wanted; what of an ``earlier`` picture stays the same is
    then taken over, and with its report what was suspected there. With ``rough`` a first look is made
    and told; ``checkpoints`` is where a killed run goes on from, None for nowhere; ``fresh`` throws that away.
    ``light`` writes linear light: OpenEXR always is, TIFF then holds floats.
    ``prepared`` is where raw and brackets wait that were made ready, None for the user's cache; ``rail_mm`` is the rail setting under
    which the frames were taken, where it is known.
    """

    frames: tuple[JoinFrame, ...]
    target: Path
    options: JoinOptions = field(default_factory=JoinOptions)
    report: Path | None = None
    document_id: str = ""
    request_id: str = field(default_factory=lambda: uuid.uuid4().hex)
    solution: Solution | None = field(default=None, compare=False)
    earlier: Path | None = None
    rough: bool = False
    checkpoints: Path | None = None
    fresh: bool = False
    asides: tuple[Aside, ...] = ()
    prepared: Path | None = None
    rail_mm: float | None = None
    light: bool = False

    @property
    def choices(self) -> JoinChoices:
        """What was chosen of it, as far as its frames are concerned."""
        return self.options.choices().among([f.id for f in self.frames])


@dataclass(frozen=True)
class JoinResult:
    """A finished picture: where it lies, and how it came to be. ``solution`` is None where its frames are gone.

    ``frame_ids`` are those of the request, ``took_s`` what this request took from its start.
    """

    picture: Path
    canvas: Canvas
    crop: Rectangle
    frame_ids: tuple[str, ...]
    took_s: float
    peak_mib: float
    report: Report = field(compare=False)
    solution: Solution | None = field(default=None, compare=False)
    solved_anew: bool = True


@dataclass(frozen=True)
class Event:
    """Something that became known of a request; ``document_id`` and ``request_id`` are the request's."""

    document_id: str
    request_id: str


@dataclass(frozen=True)
class RoughReady(Event):
    """A first look: a small picture in memory that stands for ``canvas``."""

    picture: Joined
    canvas: Canvas


@dataclass(frozen=True)
class Solved(Event):
    """Where the frames belong, before the picture is made."""

    solution: Solution
    canvas: Canvas


@dataclass(frozen=True)
class TileDone(Event):
    """A tile of the picture was made."""

    tile: Tile


@dataclass(frozen=True)
class Finished(Event):
    """The picture stands; ``report_error`` says why its report does not, where one was asked for."""

    result: JoinResult
    report_error: LanternError | None = None


@dataclass(frozen=True)
class Failed(Event):
    """It could not be; ``report`` says why."""

    error: LanternError
    report: Report


Sink = Callable[[Event], None]
