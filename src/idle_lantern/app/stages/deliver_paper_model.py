"""What the Deliver stage shows of a print, as plain values: no Qt."""

from __future__ import annotations

from collections.abc import Callable

from msgspec import structs

from idle_lantern.core.base import units
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.base.figures import figure
from idle_lantern.core.deliver.job import DeliverJob, OnPaper
from idle_lantern.core.deliver.papers import OWN, ROLLS_MM, SHEETS, paper_named
from idle_lantern.core.deliver.print_layout import PrintLayout, laid_out
from idle_lantern.core.deliver.viewing import largest_print_m, needed_px, seen_dpi, sharp_from_m
from idle_lantern.core.outing import edits
from idle_lantern.core.outing.edits import Edit
from idle_lantern.core.outing.model import Outing

#: What is done with a paper that the list does not have.
ANOTHER = "another"
#: Papers in words, and their names; the last one asks.
PAPERS: tuple[tuple[str, str], ...] = (
    *((f"{p.name} ({p.long_mm:g} × {p.short_mm:g} mm)", p.name) for p in SHEETS),
    *((f"roll of {width / 25.4:g} in ({width:g} mm)", f"roll:{width:g}") for width in ROLLS_MM),
    ("cut to the picture", OWN.name),
    ("another …", ANOTHER),
)  # fmt: skip


def paper_choice(job: DeliverJob) -> int:
    """Which of ``PAPERS`` is chosen."""
    names = [name for _words, name in PAPERS]
    name = job.on_paper.paper
    return names.index(name) if name in names else len(names) - 1


def paper_edit(outing: Outing, title: str, **changes: object) -> Edit:
    """The edit that lays the print otherwise on its paper."""
    return edits.deliver_as(title, on_paper=structs.replace(outing.delivery.on_paper, **changes))


def another_paper(outing: Outing, text: str) -> Edit:
    """The edit that takes a paper as people write it (``420x297``, ``roll:610``); raises InputError."""
    return paper_edit(outing, f"Paper: {text}", paper=paper_named(text).name)


def millimetres(name: str, nothing: str = "") -> tuple[Callable[[str], float], Callable[[float], str]]:
    """How a length of the paper is read and shown; ``nothing`` is what 0 is called. Reading raises InputError."""
    known = figure(OnPaper, name)

    def parse(text: str) -> float:
        plain = text.strip().lower()
        if nothing and plain in ("", nothing, "0"):
            return 0.0
        for unit, mm in (("mm", 1.0), ("cm", 10.0), ("in", 25.4), ('"', 25.4), ("m", 1000.0)):
            if plain.endswith(unit):
                return known.checked(units.parse_number(plain.removesuffix(unit), known.title.lower(), "10") * mm)
        return known.checked(units.parse_number(plain, known.title.lower(), "10"))

    def write(value: float) -> str:
        return nothing if nothing and not value else f"{value:g} mm"

    return parse, write


def metres(text: str) -> float:
    """A distance from which a print is seen; raises InputError."""
    plain = text.strip().lower().removesuffix("m")
    return figure(OnPaper, "seen_from_m").checked(units.parse_number(plain, "a distance", "0.5"))


def layout(size_px: tuple[int, int], job: DeliverJob) -> PrintLayout | str:
    """How a picture of that size lies on its paper, or why it does not."""
    try:
        return laid_out(size_px, job.dpi, job.on_paper)
    except LanternError as error:
        return error.sentence


def size_told(laid: PrintLayout, *, imperial: bool, strip: bool = False) -> str:
    """The size of the print, and on how many sheets, or that a strip of it is printed."""
    across, up = (units.length(side, imperial) for side in (laid.width_mm, laid.height_mm))
    unit = up[up.rfind(" ") :]
    size = f"{across.removesuffix(unit)} × {up}"
    count = len(laid.sheets)
    if strip:
        return f"a strip of {size}"
    return size if count == 1 else f"{size}, {count} sheets ({laid.rows} × {laid.columns})"


def judged(size_px: tuple[int, int], laid: PrintLayout, distance_m: float) -> tuple[str, bool]:
    """What the eye makes of a print from where it is seen, with the reason and what to do; whether it is good."""
    dpi, seen = laid.dpi, seen_dpi(distance_m)
    told = f"From {distance_m:g} m an eye tells {seen:.0f} dots an inch apart, and this print has {dpi:.0f}"
    width, height = largest_print_m(size_px, distance_m)
    largest = f"The largest print of this picture that looks sharp there is {width:.2f} × {height:.2f} m."
    if dpi >= seen * 0.995:
        return f"{told}: it looks sharp. {largest}", True
    needs = needed_px(laid.width_mm / 1000, distance_m)
    wide = f"So wide a print needs {units.grouped(needs)} px across, a focal length {needs / size_px[0]:.1f} times as long."
    return f"{told}: it looks soft nearer than {sharp_from_m(dpi):.2f} m. {largest} {wide}", False
