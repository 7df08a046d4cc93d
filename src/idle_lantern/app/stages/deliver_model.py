"""What the Deliver stage shows, as plain values: no Qt, tested without a window."""

from __future__ import annotations

import io
from pathlib import Path
from typing import TYPE_CHECKING, Any

from numpy.typing import NDArray
from PIL import Image

from idle_lantern.app.cropping import crop_box, has_gaps
from idle_lantern.core.base import units
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.deliver.targets import JPEG_MAX_SIDE
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.join.request import JoinResult
from idle_lantern.core.outing import assets, document, edits
from idle_lantern.core.outing.edits import Edit
from idle_lantern.core.outing.model import Outing
from idle_lantern.core.pictures.source import PictureSource

if TYPE_CHECKING:
    from idle_lantern.core.deliver.nadir_patch import Cover

Array = NDArray[Any]

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
    """What of the picture that is written was invented at its rim, in pixels of the whole, and its share of what is written."""
    if joined is None:
        return (), 0.0
    from idle_lantern.core.deliver.margin import invented_in  # loads what writes words, which no start needs

    return invented_in(joined.report.get("suspects") or (), box(outing, joined))


def shows_nadir(joined: JoinResult | None) -> bool:
    """Whether the picture reaches straight down, where the tripod stands."""
    if joined is None:
        return False
    from idle_lantern.core.deliver import nadir_patch

    return nadir_patch.shows_nadir(joined.canvas, joined.canvas.width, joined.canvas.height)


def covered(outing: Outing, joined: JoinResult, picture: PictureSource, folder: Path) -> PictureSource:
    """The picture with its nadir covered as it was chosen.

    Raises
    ------
    InputError
        The mark cannot be read.
    """
    choices = outing.choices
    if choices.nadir == "none" or not shows_nadir(joined):
        return picture
    from idle_lantern.core.deliver.nadir_patch import NadirCovered, read_mark

    mark = None
    if choices.nadir == "mark":
        if choices.nadir_mark is None:
            return picture
        mark = read_mark(assets.path(folder, choices.nadir_mark, document.MARK_ASSET))
    how: Cover = "mark" if choices.nadir == "mark" else "blur"
    return NadirCovered(picture, joined.canvas, how, choices.nadir_deg, mark)


def take_mark(path: Path, folder: Path) -> Edit:
    """The edit that covers the nadir by a mark of one's own, kept in the outing.

    Raises
    ------
    InputError
        It cannot be read, or not be kept.
    """
    from idle_lantern.core.deliver.nadir_patch import read_mark

    data = io.BytesIO()
    Image.fromarray(read_mark(path)).save(data, "PNG")
    asset = assets.put(folder, data.getvalue(), document.MARK_ASSET)
    return edits.choose("Cover the nadir by a mark", nadir="mark", nadir_mark=asset)


def degrees(text: str) -> float:
    """A radius about the nadir as people write it; raises InputError."""
    value = units.parse_angle_deg(text)
    from idle_lantern.core.deliver.nadir_patch import RADIUS_DEG

    if not RADIUS_DEG[0] <= value <= RADIUS_DEG[1]:
        raise InputError(f"'{text}' lies outside 1° to 45°", remedy="A tripod head covers 8° to 20°")
    return value


def limit(outing: Outing, joined: JoinResult | None, suffix: str) -> str:
    """What the chosen format cannot hold; empty where it can."""
    if joined is None or suffix != ".jpg":
        return ""
    size = box(outing, joined)
    if max(size.width, size.height) <= JPEG_MAX_SIDE:
        return ""
    return f"A JPEG holds {units.grouped(JPEG_MAX_SIDE)} pixels a side. Write TIFF instead."
