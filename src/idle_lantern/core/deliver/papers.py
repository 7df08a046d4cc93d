"""Papers that pictures are printed on: sheets by name or by their millimetres, and rolls."""

from __future__ import annotations

import re
from dataclasses import dataclass

from idle_lantern.core.base.errors import InputError

#: Longer and shorter side in millimetres: ISO 216; ANSI/ASME Y14.1; photographic papers by their centimetres (common practice, no source).
_SHEETS_MM = {
    "A0": (1189, 841), "A1": (841, 594), "A2": (594, 420), "A3": (420, 297), "A4": (297, 210), "A5": (210, 148), "A6": (148, 105),
    "B1": (1000, 707), "B2": (707, 500), "B3": (500, 353), "B4": (353, 250),
    "Letter": (279.4, 215.9), "Tabloid": (431.8, 279.4),
    "10x15": (150, 100), "13x18": (180, 130), "20x30": (300, 200), "30x40": (400, 300), "30x45": (450, 300), "40x60": (600, 400), "50x75": (750, 500),
}  # fmt: skip
#: Widths of rolls in millimetres: 17, 24, 36, 44 and 60 inches.
ROLLS_MM = (431.8, 609.6, 914.4, 1117.6, 1524.0)
#: The smallest and largest paper that is taken for one, millimetres.
_LEAST_MM, _MOST_MM = 20.0, 20_000.0


@dataclass(frozen=True)
class Paper:
    """A sheet, its longer side first; a roll has no ``long_mm``, and neither has a paper that is cut to the picture (``short_mm`` 0)."""

    name: str
    short_mm: float
    long_mm: float | None = None

    @property
    def is_roll(self) -> bool:
        """Whether it is as long as one wants."""
        return self.long_mm is None and self.short_mm > 0

    @property
    def is_own(self) -> bool:
        """Whether it is cut to the picture."""
        return self.short_mm == 0


#: Paper as large as the picture.
OWN = Paper("own", 0.0)
#: Sheets by their names.
SHEETS: tuple[Paper, ...] = tuple(Paper(name, short, long) for name, (long, short) in _SHEETS_MM.items())


def paper_named(text: str) -> Paper:
    """The paper of a name (``A3``), of its sides in millimetres (``420x297``), of a roll's width (``roll:610``), or ``own``.

    Raises
    ------
    InputError
        There is no such paper.
    """
    wanted = text.strip().lower().replace("×", "x")
    for paper in SHEETS:
        if paper.name.lower() == wanted:
            return paper
    if wanted == OWN.name:
        return OWN
    number = r"(\d+(?:[.,]\d+)?)"
    if found := re.fullmatch(f"roll:? *{number}(?: *mm)?", wanted):
        return Paper(f"roll:{_checked(found[1], text):g}", _checked(found[1], text))
    if found := re.fullmatch(f"{number} *x *{number}(?: *mm)?", wanted):
        short, long = sorted((_checked(found[1], text), _checked(found[2], text)))
        return Paper(f"{long:g}x{short:g}", short, long)
    names = ", ".join(p.name for p in SHEETS[:7])
    raise InputError(
        f"'{text}' is no paper", remedy=f"Give a name ({names} ...), its millimetres as 420x297, roll:610 or own"
    )


def _checked(number: str, text: str) -> float:
    value = float(number.replace(",", "."))
    if not _LEAST_MM <= value <= _MOST_MM:
        raise InputError(f"Paper of {value:g} mm cannot be printed on", where=text)
    return value
