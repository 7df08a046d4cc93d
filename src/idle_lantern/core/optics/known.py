"""A lens that is known before the frames are joined: distortion, lateral colour, fall-off, and where they come from."""

from __future__ import annotations

import math
from dataclasses import dataclass, fields, replace
from pathlib import Path
from typing import Any, Literal

import msgspec

from idle_lantern.core.base.checks import one_of, within
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.strict_json import read_json, whole_numbers
from idle_lantern.core.geometry.lenses import MODELS, Lens

#: Schema of a lens on its own in a file: what ``calibrate lens --json`` writes.
SCHEMA = "idle-lantern/lens-calibration/1"
#: Frames whose sides are in another ratio by more than this were not taken on the whole sensor.
_SAME_ASPECT = 0.01
_MOST_PX = 1_000_000
#: Two focal lengths that are the same setting of a zoom.
_SAME_FOCAL = 0.02

Falloff = tuple[float, float]
Lateral = tuple[float, float]


@dataclass(frozen=True)
class KnownLens:
    """Numbers of a lens for a frame of ``width`` x ``height`` pixels, as of the join contract.

    Attributes
    ----------
    focal_sigma, corner_sigma_px : float
        Standard errors: of the focal length as a share, and of where the model puts a corner; 0 where not known.
    falloff : (a, b)
        Natural logarithm of the light at a share rho of the half diagonal: ``a rho^2 + b rho^4``.
    lateral_red, lateral_blue : (a, b)
        Lateral colour: red and blue lie at ``1 + a + b rho^2`` times the radius of green.
    source : "measured" or "database"
    measured : str
        Day as ISO 8601 says it.
    """

    width: int
    height: int
    focal_px: float
    model: str = "rectilinear"
    k1: float = 0.0
    k2: float = 0.0
    k3: float = 0.0
    cx: float = 0.0
    cy: float = 0.0
    focal_sigma: float = 0.0
    corner_sigma_px: float = 0.0
    falloff: Falloff | None = None
    lateral_red: Lateral = (0.0, 0.0)
    lateral_blue: Lateral = (0.0, 0.0)
    focal_mm: float = 0.0
    camera: str = ""
    lens: str = ""
    measured: str = ""
    source: Literal["measured", "database"] = "measured"

    def __post_init__(self) -> None:
        one_of("Lens kind", self.model, MODELS)
        within("Width", self.width, 1, _MOST_PX, "px")
        within("Height", self.height, 1, _MOST_PX, "px")
        within("Focal length", self.focal_px, 1, 100 * _MOST_PX, "px")
        for name in ("k1", "k2", "k3"):
            within(name, getattr(self, name), -1e6, 1e6, "")
        for name in ("cx", "cy"):
            within(name, getattr(self, name), -self.width, self.width, "px")
        for name, pair in (
            ("Fall-off", self.falloff or (0.0, 0.0)),
            ("Lateral red", self.lateral_red),
            ("Lateral blue", self.lateral_blue),
        ):
            for value in pair:
                within(name, value, -20, 20, "")

    @property
    def colour_shifts(self) -> bool:
        """Whether red or blue lie elsewhere than green."""
        return any((*self.lateral_red, *self.lateral_blue))

    def for_frame(self, width: int, height: int) -> Lens | None:
        """The lens for a frame of that size, camera level or upright; None where the frame is not the whole sensor's.

        Which way an upright camera was turned is not known, so its principal point stays in the middle.
        """
        own = Lens(
            self.model, self.focal_px, self.width, self.height,
            k1=self.k1, k2=self.k2, k3=self.k3, cx=self.cx, cy=self.cy,
        )  # fmt: skip
        turned = (self.width >= self.height) != (width >= height)
        if turned:
            own = replace(own, width=self.height, height=self.width, cx=0.0, cy=0.0)
        if abs(math.log(width / height * own.height / own.width)) > _SAME_ASPECT:
            return None
        return replace(own.scaled(width / own.width), width=width, height=height)

    def fits_focal(self, focal_mm: float | None) -> bool:
        """Whether it was measured at this setting of a zoom; what tells no focal length may be any."""
        if not focal_mm or not self.focal_mm:
            return True
        return abs(math.log(focal_mm / self.focal_mm)) <= _SAME_FOCAL

    def sentence(self) -> str:
        """Where it comes from, in a few words."""
        name = self.lens or f"{self.focal_mm:g} mm"
        return f"{name}, from the lens database" if self.source == "database" else f"{name}, measured {self.measured}"


def known_from(facts: object, where: str) -> KnownLens:
    """A known lens from plain data; keys that it has not are left aside.

    Raises
    ------
    InputError
        A number is missing or impossible.
    """
    if not isinstance(facts, dict):
        raise InputError("Is no lens", where=where, remedy="Give what calibrate lens --json wrote")
    names = {f.name for f in fields(KnownLens)}
    try:
        return msgspec.convert(whole_numbers({k: v for k, v in facts.items() if k in names}), KnownLens)
    except msgspec.ValidationError as error:
        raise InputError(f"Is no lens ({error})", where=where, remedy="Measure the lens again") from error


def read_lens(path: Path) -> KnownLens:
    """The lens of a file that ``calibrate lens --json`` wrote.

    Raises
    ------
    InputError
        The file is missing, damaged or something else.
    """
    told: Any = read_json(path)
    if not isinstance(told, dict) or told.get("schema") != SCHEMA or not isinstance(told.get("known"), dict):
        raise InputError("Is no measured lens", where=str(path), remedy="Give what calibrate lens --json wrote")
    return known_from(told["known"], str(path))
