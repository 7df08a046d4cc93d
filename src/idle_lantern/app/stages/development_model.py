"""Values of the development as people read and write them, and the kinds of film: no Qt, tested without a window."""

from __future__ import annotations

from pathlib import Path
from typing import cast

from idle_lantern.core.base import units
from idle_lantern.core.base.checks import within
from idle_lantern.core.base.progress import Progress
from idle_lantern.core.merging.film import Film, Kind, measure_film
from idle_lantern.core.merging.temperature import COOLEST_K, WARMEST_K
from idle_lantern.core.outing import document
from idle_lantern.core.outing.model import Outing
from idle_lantern.core.sorting.card import is_raw_name

#: Linear light below which a picked place is black, and display value above which it is burnt out.
TOO_DARK, TOO_BRIGHT = 0.004, 250


def parse_development(name: str, text: str) -> float:
    """A value of the development as people write it: EV, kelvin, or per cent."""
    plain = text.strip("←↑→↓ ").replace("−", "-").lower()
    for unit in ("ev", "k", "%"):
        plain = plain.removesuffix(unit).strip()
    value = units.parse_number(plain.removeprefix("+"), name.lower(), "0.3" if name == "Exposure" else "20")
    return value if name in ("Exposure", "Temperature", "Gamma") else value / 100


def write_ev(value: float) -> str:
    """An exposure with its sign."""
    return f"{value:+.2f} EV".replace("-", "−") if value else "0 EV"


def write_percent(value: float) -> str:
    """A share with its sign."""
    return f"{100 * value:+.0f} %".replace("-", "−") if value else "0 %"


#: Kinds of film in words.
FILM_WORDS: tuple[tuple[str, str], ...] = (
    ("", "no film"), ("negative", "colour negative"), ("grey", "black-and-white negative"), ("slide", "slide"),
)  # fmt: skip


#: Sides of a scan, each with the arrow that stands for it.
SIDES = (("left", "←"), ("top", "↑"), ("right", "→"), ("bottom", "↓"))


def write_cut(arrow: str, share: float) -> str:
    """A share that is cut off at one side."""
    return f"{arrow} {100 * share:.1f} %"


def film_of_set(outing: Outing, folder: Path, kind: str, progress: Progress) -> Film:
    """The conversion of the roll that an outing's frames are scans of.

    Raises
    ------
    UnreadableFrame
        A scan cannot be read.
    """
    return measure_film([document.resolve(folder, r) for r in outing.frames_to_join()], cast(Kind, kind), progress)


def within_light(kelvin: float) -> float:
    """A colour temperature that can be.

    Raises
    ------
    InputError
        It lies beyond all lights.
    """
    within("Temperature", kelvin, COOLEST_K, WARMEST_K, "K")
    return kelvin


def has_raw(outing: Outing) -> bool:
    """Whether any frame is camera raw, by its name."""
    return any(is_raw_name(Path(ref.file)) for ref in outing.frames)
