"""What the guide needs of a head and a camera; stand-ins and real devices fill it alike."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Protocol


@dataclass(frozen=True)
class HeadReading:
    """Where the head says it stands, in degrees."""

    yaw_deg: float
    pitch_deg: float
    roll_deg: float = 0.0


class HeadDevice(Protocol):
    """A head that can be turned and read."""

    def turn_to(self, yaw_deg: float, pitch_deg: float, roll_deg: float = 0.0) -> HeadReading:
        """Turn; returns what the scales read afterwards."""


class CameraDevice(Protocol):
    """A camera that writes a file, with a lens that may be shifted."""

    def shift_lens(self, right_mm: float, up_mm: float) -> None:
        """Move the lens; 0, 0 is its middle."""

    def shoot(self, target: Path, taken: str, exposure_ev: float = 0.0) -> None:
        """Take a frame into ``target``, longer than metered by ``exposure_ev`` stops; ``taken`` is the EXIF time."""
