"""What the Deliver stage shows, as plain values: no Qt, tested without a window."""

from __future__ import annotations

import io
import math
from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PIL import Image

from idle_lantern.app.cropping import crop_box, has_gaps
from idle_lantern.app.stages import deliver_paper_model as paper
from idle_lantern.app.words import PROJECTIONS
from idle_lantern.core.base import units
from idle_lantern.core.base.figures import figure
from idle_lantern.core.base.strict_json import read_bytes
from idle_lantern.core.colour.profiles import named_space, space_of
from idle_lantern.core.deliver.formats import FileFormat
from idle_lantern.core.deliver.job import CoverNadir, DeliverJob
from idle_lantern.core.deliver.kinds import KINDS, Kind, kind_named, planned
from idle_lantern.core.deliver.known import share_within
from idle_lantern.core.deliver.known import shows_nadir as canvas_shows_nadir
from idle_lantern.core.deliver.output_sharpening import step_for
from idle_lantern.core.finish.steps.heal import Heal
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.geometry.rectangles import Rectangle, size_within
from idle_lantern.core.geometry.sphere import direction
from idle_lantern.core.join.request import JoinResult
from idle_lantern.core.outing import assets, document, edits
from idle_lantern.core.outing.edits import Edit
from idle_lantern.core.outing.model import Outing
from idle_lantern.core.pictures.source import PictureSource

if TYPE_CHECKING:
    from idle_lantern.core.deliver.delivery import Delivery
    from idle_lantern.core.deliver.proof import Line
    from idle_lantern.core.deliver.zoom_page import Caption

FACTS = (("size", "Picture"), ("pixels", "Pixels"), ("print", "Print"), ("file", "File"))
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


def kinds() -> tuple[Kind, ...]:
    """What can be written."""
    return KINDS


def kind_of(outing: Outing) -> Kind:
    """What is chosen to be written."""
    return kind_named(outing.delivery.format)


def bearing(text: str) -> float:
    """A compass bearing as people write it, -1 where it is not known; raises InputError."""
    plain = text.strip().lower().replace("°", "")
    if plain in ("", "not known"):
        return -1.0
    return figure(DeliverJob, "heading_deg").checked(units.parse_number(plain, "a bearing", "210") % 360)


def write_bearing(value: float) -> str:
    """A bearing as it is shown."""
    return "not known" if value < 0 else f"{value:g}°"


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


def cropped_size(outing: Outing, joined: JoinResult) -> tuple[int, int]:
    """Width and height of what is written, at the picture's own size."""
    crop = box(outing, joined)
    return crop.width, crop.height


def print_judged(outing: Outing, joined: JoinResult | None) -> tuple[str, bool]:
    """What the eye makes of the print, and whether it is good; empty where none is chosen or it does not fit."""
    if joined is None or not kind_of(outing).is_printed:
        return "", True
    size = cropped_size(outing, joined)
    laid = paper.layout(size, outing.delivery)
    return ("", True) if isinstance(laid, str) else paper.judged(size, laid, outing.delivery.on_paper.seen_from_m)


def facts(outing: Outing, joined: JoinResult | None, *, imperial: bool) -> dict[str, str]:
    """Figures of what would be written, by the keys of ``FACTS``."""
    if joined is None:
        return dict.fromkeys((key for key, _ in FACTS), "–")
    job, kind = outing.delivery, kind_of(outing)
    w, h = written_size(outing, joined)
    across, up = (units.length(side / job.dpi * 25.4, imperial) for side in (w, h))
    unit = up[up.rfind(" ") :]
    printed = f"{across.removesuffix(unit)} × {up}"
    if kind.is_printed:
        laid = paper.layout(cropped_size(outing, joined), job)
        printed = "–" if isinstance(laid, str) else paper.size_told(laid, imperial=imperial, strip=job.on_paper.strip)
    return {
        "size": f"{units.grouped(w)} × {units.grouped(h)} px",
        "pixels": units.megapixels(w * h),
        "print": printed,
    }


def foretold(outing: Outing, joined: JoinResult, picture: PictureSource, folder: Path) -> Callable[[], int] | None:
    """What reckons how large the file will be; None where it is not one picture file, or holds light."""
    kind = kind_of(outing)
    if kind.format is None or kind.name not in (kind.format.name, "sphere") or kind.format.light == "always":
        return None
    made = delivery(outing, joined, picture, folder)
    area, file = box(outing, joined), kind.format

    def reckoned() -> int:
        from idle_lantern.core.deliver.foretold import foretold_bytes
        from idle_lantern.core.deliver.write_options import WriteOptions

        return foretold_bytes(made.made(area), file, WriteOptions(outing.delivery.quality))

    return reckoned


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


def captions(outing: Outing, joined: JoinResult) -> tuple[Caption, ...]:
    """Names of the marks of the plan, where they stand in the picture."""
    from idle_lantern.core.deliver.zoom_page import Caption

    found = []
    for mark in outing.brief.scene.marks:
        x, y = joined.canvas.pixels(direction(math.radians(mark.yaw_deg), math.radians(mark.pitch_deg)))
        if mark.name and math.isfinite(x) and math.isfinite(y):
            found.append(Caption(float(x), float(y), mark.name))
    return tuple(found)


def told_of(outing: Outing, joined: JoinResult, author: str, rights: str) -> Metadata:
    """What the file says of itself: whose it is, what it shows, and the exposure of its first frame where the frames are there."""
    solution, canvas = joined.solution, joined.canvas
    taken = solution.frames.infos[solution.poses.frames[0]].metadata if solution is not None else Metadata()
    count = sum(row.used for row in joined.report.frames)
    words = f"{outing.name}: {count} frames, {PROJECTIONS[canvas.projection.name].lower()}"
    return replace(
        taken, author=author or None, rights=rights or None, description=words, sensor_width_mm=None, orientation=1
    )


def delivery(outing: Outing, joined: JoinResult, picture: PictureSource, folder: Path) -> Delivery:
    """The delivery of a picture as it is chosen."""
    from idle_lantern.core.deliver.delivery import Delivery  # what writes files, which no start needs
    from idle_lantern.core.deliver.known import Known
    from idle_lantern.core.join.frame_layers import frame_layers

    known = Known(joined.canvas, invented(joined))
    return Delivery(
        outing.delivery,
        picture,
        known,
        lambda asset, ending: assets.path(folder, asset, ending),
        outing.finish,
        partial(document.finish_file, folder),
        outing.name,
        lambda: frame_layers(joined),
        captions=captions(outing, joined),
    )


def written_told(path: Path) -> str:
    """What was written, and how large it is."""
    files = [path] if path.is_file() else []
    size = f" ({units.file_size(sum(file.stat().st_size for file in files))})" if files else ""
    return f"Written: {path}{size}".replace(" MB)", "\u00a0MB)")


def planned_told(outing: Outing) -> str:
    """What will be looked at once it is written."""
    return f"Then looked at: {planned(outing.delivery.format)}."


def proof_told(lines: Sequence[Line], *, short: bool = False) -> str:
    """What was looked at in it, a line each, or in one."""
    if short:
        return f"✓ {len(lines)} checks, all right"
    return "\n".join(f"{'✓' if line.good else '✗'} {line.text}" for line in lines)


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
    if joined is None:
        return ""
    kind = kind_of(outing)
    if kind.is_printed:
        laid = paper.layout(cropped_size(outing, joined), outing.delivery)
        return laid if isinstance(laid, str) else ""
    if kind.name == "sphere" and (
        joined.canvas.projection.name != "equirectangular" or joined.canvas.stretch is not None
    ):
        return (
            f"Viewers of spheres take an equirectangular picture, and this is {joined.canvas.projection.name}. "
            "Choose Sphere under Compose, or write a page to look around in."
        )
    if kind.is_sphere and outing.delivery.tells_invented:
        return "A sphere has no margin that could tell what was invented. Untick it, or write another format."
    if kind.format is None or kind.name != kind.format.name:
        return ""
    return _format_limit(kind.format, written_size(outing, joined))


def _format_limit(kind: FileFormat, size: tuple[int, int]) -> str:
    w, h = size
    if kind.most_side_px is not None and max(w, h) > kind.most_side_px:
        return f"A {kind.name.upper()} holds {units.grouped(kind.most_side_px)} pixels a side. Write TIFF instead, or a smaller one."
    if kind.most_px is not None and w * h > kind.most_px:
        return f"A {kind.name.upper()} of more than {units.megapixels(kind.most_px)} takes too much memory. Write JPEG instead, or a smaller one."
    return ""
