"""What the Deliver stage shows, as plain values: no Qt, tested without a window."""

from __future__ import annotations

from idle_lantern.app.cropping import crop_box, has_gaps
from idle_lantern.core.base import units
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.deliver.targets import JPEG_MAX_SIDE
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.join.asking import JoinResult
from idle_lantern.core.outing.model import Outing

FACTS = (("size", "Picture"), ("pixels", "Pixels"), ("print", "Print"), ("raw", "In memory"))


def quality(text: str) -> float:
    """A JPEG quality as people write it; raises InputError."""
    value = units.parse_number(text, "a quality", "92")
    if not 40 <= value <= 100:
        raise InputError(f"'{text}' lies outside 40 to 100", remedy="92 is hard to tell from the original")
    return float(round(value))


def dpi(text: str) -> float:
    """A print resolution as people write it; raises InputError."""
    value = units.parse_number(text.lower().replace("dpi", ""), "a print resolution", "300")
    if not 20 <= value <= 2400:
        raise InputError(f"'{text}' lies outside 20 to 2400 dpi", remedy="300 is usual for prints held in the hand")
    return value


def crops(outing: Outing) -> bool:
    """Whether the picture is written cropped."""
    return outing.choices.crop


def box(outing: Outing, joined: JoinResult) -> Rectangle:
    """What of the picture is written."""
    return crop_box(outing, joined)


def has_gap(outing: Outing, joined: JoinResult) -> bool:
    """Whether what is written shows nothing somewhere, as a crop by hand may."""
    return has_gaps(joined, box(outing, joined))


def facts(outing: Outing, joined: JoinResult | None, suffix: str, per_inch: float, *, imperial: bool) -> dict[str, str]:
    """Figures of what would be written, by the keys of ``FACTS``."""
    if joined is None:
        return dict.fromkeys((key for key, _ in FACTS), "–")
    size = box(outing, joined)
    w, h = size.width, size.height
    channels = 3 if crops(outing) or suffix == ".jpg" else 4
    deep = any(row.get("bits") == 16 for row in joined.report.get("frames", ()))
    depth = 2 if deep and suffix != ".jpg" else 1
    sides = (units.length(side / per_inch * 25.4, imperial) for side in (w, h))
    return {
        "size": f"{units.grouped(w)} × {units.grouped(h)} px",
        "pixels": units.megapixels(w * h),
        "print": " × ".join(sides),
        "raw": units.file_size(w * h * channels * depth),
    }


def invented(outing: Outing, joined: JoinResult | None) -> tuple[tuple[Rectangle, ...], float]:
    """What of the picture that is written was invented, in pixels of the whole, and its share of what is written."""
    if joined is None:
        return (), 0.0
    kept = box(outing, joined)
    areas, pixels = [], 0.0
    for row in joined.report.get("suspects") or ():
        wide, high = round(row["width"]), round(row["height"])
        left, top = round(row["u"] - row["width"] / 2), round(row["v"] - row["height"] / 2)
        across = min(left + wide, kept.left + kept.width) - max(left, kept.left)
        down = min(top + high, kept.top + kept.height) - max(top, kept.top)
        if row["kind"] == "invented" and across > 0 and down > 0:
            areas.append(Rectangle(left, top, wide, high))
            # of an area that the crop cuts, as much as it leaves of its rectangle
            pixels += 1e6 * float(row["figure"]) * across * down / (wide * high)
    return tuple(areas), min(1.0, pixels / (kept.width * kept.height))


def limit(outing: Outing, joined: JoinResult | None, suffix: str) -> str:
    """What the chosen format cannot hold; empty where it can."""
    if joined is None or suffix != ".jpg":
        return ""
    size = box(outing, joined)
    if max(size.width, size.height) <= JPEG_MAX_SIDE:
        return ""
    return f"A JPEG holds {units.grouped(JPEG_MAX_SIDE)} pixels a side. Write TIFF instead."
