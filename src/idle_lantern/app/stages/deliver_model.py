"""What the Deliver stage shows, as plain values: no Qt, tested without a window."""

from __future__ import annotations

import io
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PIL import Image

from idle_lantern.app.cropping import crop_box, has_gaps
from idle_lantern.core.base import units
from idle_lantern.core.base.figures import figure
from idle_lantern.core.base.strict_json import read_bytes
from idle_lantern.core.colour.profiles import named_space, space_of
from idle_lantern.core.deliver.formats import FORMATS, FileFormat, format_named
from idle_lantern.core.deliver.job import CoverNadir, DeliverJob
from idle_lantern.core.deliver.known import share_within
from idle_lantern.core.deliver.known import shows_nadir as canvas_shows_nadir
from idle_lantern.core.deliver.output_sharpening import step_for
from idle_lantern.core.finish.steps.heal import Heal
from idle_lantern.core.geometry.rectangles import Rectangle, size_within
from idle_lantern.core.join.request import JoinResult
from idle_lantern.core.outing import assets, document, edits
from idle_lantern.core.outing.edits import Edit
from idle_lantern.core.outing.model import Outing
from idle_lantern.core.pictures.source import PictureSource

if TYPE_CHECKING:
    from idle_lantern.core.deliver.service import Delivery

FACTS = (("size", "Picture"), ("pixels", "Pixels"), ("print", "Print"), ("raw", "Uncompressed"))
#: What stands under the tripod, in words.
COVERS: tuple[tuple[str, str], ...] = (
    ("as joined", ""), ("blurred", "blur"), ("covered by a mark …", "mark"),
)  # fmt: skip
#: Colours of the file, in words; the last one asks for a profile.
PROFILES: tuple[tuple[str, str], ...] = (
    ("as the frames", "keep"), ("sRGB", "srgb"), ("Display P3", "p3"), ("another profile …", "own"),
)  # fmt: skip

#: What a file is looked at on.
SHARPEN_FOR: tuple[tuple[str, str], ...] = (
    ("nothing", "none"), ("the screen", "screen"), ("a glossy print", "glossy"), ("a matte print", "matte"),
)  # fmt: skip


def sharpening_told(job: DeliverJob) -> str:
    """How the file is sharpened, at the size that is written."""
    step = step_for(job)
    if step is None:
        return "The file is as sharp as the picture."
    if step.idle:
        return f"At {job.dpi:g} dpi the paper takes nothing of the picture: nothing is sharpened."
    return f"Sharpened by {step.amount:g} over {step.radius_px:g} px of the file, which is what will be blurred there."


def field(of: type, name: str, clean: Callable[[str], str] = str.strip) -> Callable[[str], float]:
    """How a figure of a job is read as people write it; the function raises InputError."""
    known = figure(of, name)

    def parse(text: str) -> float:
        return known.checked(
            units.parse_number(clean(text), f"a {known.title.lower()}", f"{known.default or known.least:g}")
        )

    return parse


quality = field(DeliverJob, "quality")
dpi = field(DeliverJob, "dpi", lambda text: text.lower().replace("dpi", ""))
degrees_about_nadir = field(CoverNadir, "radius_deg", lambda text: text.replace("°", ""))
_long_side = field(DeliverJob, "long_side_px", lambda text: text.lower().removesuffix("px").replace(" ", ""))


def long_side(text: str) -> float:
    """A longer side as people write it, 0 for the picture's own; raises InputError."""
    return 0.0 if text.strip().lower() in ("", "full", "full size") else _long_side(text)


def write_long_side(value: float) -> str:
    """A longer side as it is shown."""
    return f"{units.grouped(value)} px" if value else "full size"


def formats() -> tuple[FileFormat, ...]:
    """What can be written."""
    return FORMATS


def profile_choice(job: DeliverJob) -> int:
    """Which of ``PROFILES`` is chosen."""
    words = [word for _text, word in PROFILES]
    return words.index(job.profile) if job.profile in words else words.index("own")


def profile_name(outing: Outing, folder: Path | None) -> str:
    """The name of a profile of one's own, empty where none is chosen."""
    job = outing.delivery
    if folder is None or profile_choice(job) != len(PROFILES) - 1:
        return ""
    try:
        return space_of(assets.path(folder, job.profile, document.PROFILE_ASSET).read_bytes()).name
    except OSError:
        return "its file is gone"


def take_profile(path: Path, folder: Path) -> Edit:
    """The edit that delivers in a profile of one's own, kept in the outing.

    Raises
    ------
    InputError
        It is no profile of red, green and blue, or cannot be kept.
    """
    data = read_bytes(path)
    space = named_space(path.name, data)
    return edits.deliver_as(f"Colours: {space.name}", profile=assets.put(folder, data, document.PROFILE_ASSET))


def box(outing: Outing, joined: JoinResult) -> Rectangle:
    """What of the picture is written."""
    return crop_box(outing, joined)


def has_gap(outing: Outing, joined: JoinResult) -> bool:
    """Whether what is written shows nothing somewhere, as a crop by hand may."""
    return not outing.composition.crop or has_gaps(joined, box(outing, joined))


def written_size(outing: Outing, joined: JoinResult) -> tuple[int, int]:
    """Width and height of the file, without a margin."""
    crop = box(outing, joined)
    return size_within(crop.width, crop.height, outing.delivery.long_side_px)


def facts(outing: Outing, joined: JoinResult | None, *, imperial: bool) -> dict[str, str]:
    """Figures of what would be written, by the keys of ``FACTS``."""
    if joined is None:
        return dict.fromkeys((key for key, _ in FACTS), "–")
    job, kind = outing.delivery, format_named(outing.delivery.format)
    w, h = written_size(outing, joined)
    channels = 3 if outing.composition.crop or not kind.alpha else 4
    deep = any(row.bits == 16 for row in joined.report.frames)
    depth = 2 if kind.light == "always" or (deep and kind.bits == 16) else 1
    across, up = (units.length(side / job.dpi * 25.4, imperial) for side in (w, h))
    unit = up[up.rfind(" ") :]
    return {
        "size": f"{units.grouped(w)} × {units.grouped(h)} px",
        "pixels": units.megapixels(w * h),
        "print": f"{across.removesuffix(unit)} × {up}",
        "raw": units.file_size(w * h * channels * depth),
    }


def invented(joined: JoinResult | None) -> tuple[tuple[Rectangle, float], ...]:
    """What of the picture was invented at its rim, in its pixels, and how many."""
    if joined is None:
        return ()
    from idle_lantern.core.join.report_reading import invented_in  # loads the engine, which no start needs

    return invented_in(joined.report)


def tells_anything(outing: Outing, joined: JoinResult | None) -> bool:
    """Whether anything of what is written is invented, so that it could be told."""
    if joined is None:
        return False
    if outing.delivery.nadir is not None and shows_nadir(joined):
        return True
    if any(isinstance(step, Heal) for step in outing.finish.working):
        return True
    return any(share_within(area, pixels, box(outing, joined)) > 0 for area, pixels in invented(joined))


def shows_nadir(joined: JoinResult | None) -> bool:
    """Whether the picture reaches straight down, where the tripod stands."""
    return joined is not None and canvas_shows_nadir(joined.canvas, joined.canvas.width, joined.canvas.height)


def delivery(outing: Outing, joined: JoinResult, picture: PictureSource, folder: Path) -> Delivery:
    """The delivery of a picture as it is chosen."""
    from idle_lantern.core.deliver.known import Known
    from idle_lantern.core.deliver.service import Delivery  # what writes files, which no start needs

    known = Known(joined.canvas, invented(joined))
    return Delivery(
        outing.delivery,
        picture,
        known,
        lambda asset, ending: assets.path(folder, asset, ending),
        outing.finish,
        lambda name: assets.path(folder, name, document.MASK_ASSET),
    )


def cover_edit(outing: Outing, word: str) -> Edit:
    """The edit that covers the nadir by a blur, or leaves it."""
    if not word:
        return edits.cover_nadir("Leave the nadir as joined", None)
    return edits.cover_nadir("Cover the nadir", replace_cover(outing, how="blur"))


def radius_edit(outing: Outing, radius_deg: float) -> Edit:
    """The edit that covers the nadir wider or narrower."""
    return edits.cover_nadir("Cover the nadir wider or narrower", replace_cover(outing, radius_deg=radius_deg))


def replace_cover(outing: Outing, **changes: object) -> CoverNadir:
    """The cover that is chosen, or the usual one, with changes."""
    from msgspec import structs

    cover: CoverNadir = structs.replace(outing.delivery.nadir or CoverNadir(), **changes)
    return cover


def take_mark(path: Path, outing: Outing, folder: Path) -> Edit:
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
    return edits.cover_nadir("Cover the nadir by a mark", replace_cover(outing, how="mark", mark=asset))


def limit(outing: Outing, joined: JoinResult | None) -> str:
    """What the chosen format cannot hold; empty where it can."""
    kind = format_named(outing.delivery.format)
    if joined is None:
        return ""
    w, h = written_size(outing, joined)
    if kind.most_side_px is not None and max(w, h) > kind.most_side_px:
        return f"A {kind.name.upper()} holds {units.grouped(kind.most_side_px)} pixels a side. Write TIFF instead, or a smaller one."
    if kind.most_px is not None and w * h > kind.most_px:
        return f"A {kind.name.upper()} of more than {units.megapixels(kind.most_px)} takes too much memory. Write JPEG instead, or a smaller one."
    return ""
