"""A page to look around in: spheres as tiles of cube faces inside one file, the coarse ones first, so that it shows at once."""

from __future__ import annotations

import base64
import io
import math
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO, Any

from PIL import Image

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.atomic import replacing
from idle_lantern.core.base.progress import SILENT, InParts, Progress
from idle_lantern.core.base.runners import Runner
from idle_lantern.core.deliver import pages
from idle_lantern.core.deliver.ball import Ball
from idle_lantern.core.deliver.cube import FACES, FacePicture, face_px
from idle_lantern.core.deliver.write_options import WriteOptions, jpeg_keywords
from idle_lantern.core.deliver.zoom_tiles import TILE_PX, levels_of, walk_tiles

#: The field that a page begins with, degrees across, and the closest one, in pixels of the screen for a pixel of the picture.
_FIRST_DEG, _MOST_LARGE = 75.0, 4.0
#: A usual window, by which the closest view is reckoned.
_WINDOW_PX = 1280


@dataclass(frozen=True)
class Link:
    """From one place of a page to another, number ``to``, in that direction."""

    to: int
    yaw_deg: float
    pitch_deg: float


@dataclass(frozen=True)
class PagePlace:
    """A sphere of a page; ``north_deg`` is the compass bearing of azimuth 0, None where it is not known, ``at_m``
    where it lies on the plan, in metres to the east and north."""

    ball: Ball
    name: str
    note: str = ""
    north_deg: float | None = None
    links: tuple[Link, ...] = field(default=())
    at_m: tuple[float, float] | None = None


def write_look_page(
    places: Sequence[PagePlace],
    target: Path,
    options: WriteOptions,
    progress: Progress = SILENT,
    runner: Runner | None = None,
) -> Path:
    """Write the page, whole or not at all; the pictures are sRGB. Returns ``target``.

    Raises
    ------
    InputError
        It cannot be written, or a picture shows nothing.
    Cancelled
        Stopped; nothing is left.
    """
    told = [_told(place) for place in places]
    script = pages.filled("look.js", faces=pages.data([f.world_from_face.T.tolist() for f in FACES]))
    head = pages.filled(
        "look.html",
        title=pages.text(places[0].name),
        style=pages.part("page.css") + pages.part("look.css"),
        places=pages.data(told),
        script=script,
    )
    with replacing(target) as part, tempfile.TemporaryFile(dir=part.parent) as scratch, open(part, "wb") as page:
        page.write(head.encode())
        whole = InParts(progress, len(places))
        for number, (place, one) in enumerate(zip(places, told)):
            _add_tiles(number, place, one["side"], one["levels"], scratch, page, options, whole, runner)
        page.write(b"</body>\n</html>\n")
    return target


def _told(place: PagePlace) -> dict[str, Any]:
    """What the page's script is told of a place."""
    shown = place.ball.shown()
    wanted = face_px(place.ball.px_per_rad)
    levels = max(1, math.ceil(math.log2(wanted / TILE_PX)) + 1)
    side = math.ceil(wanted / 2 ** (levels - 1)) * 2 ** (levels - 1)
    yaw, pitch = shown.middle_deg
    wide = 360.0 if shown.yaw_deg is None else shown.yaw_deg[1] - shown.yaw_deg[0]
    closest = min(60.0, math.degrees(2 * math.atan(_WINDOW_PX / 2 / (_MOST_LARGE * side / 2))))
    return {
        "name": place.name,
        "note": place.note,
        "side": side,
        "tile": TILE_PX,
        "levels": levels,
        "north_deg": place.north_deg,
        "view": {"yaw_deg": yaw, "pitch_deg": pitch, "fov_deg": max(closest, min(_FIRST_DEG, wide))},
        "limits": {
            "fov_deg": closest,
            "down_deg": shown.pitch_deg[0],
            "up_deg": shown.pitch_deg[1],
            "yaw_deg": shown.yaw_deg,
        },
        "at_m": place.at_m,
        "links": [{"to": link.to, "yaw_deg": link.yaw_deg, "pitch_deg": link.pitch_deg} for link in place.links],
    }


def _add_tiles(
    number: int,
    place: PagePlace,
    side: int,
    levels: int,
    scratch: IO[bytes],
    page: IO[bytes],
    options: WriteOptions,
    progress: Progress,
    runner: Runner | None,
) -> None:
    """Write the tiles of a place into the page, coarse ones first; those that show nothing are left away."""
    scratch.seek(0)
    scratch.truncate()
    lies: dict[tuple[int, int, int, int], tuple[int, int]] = {}
    coarsest = levels_of(side, side) - (levels - 1)
    counted = InParts(progress, len(FACES))
    for face_number, face in enumerate(FACES):

        def keep(at: tuple[int, int, int], pixels: Array, face_number: int = face_number) -> None:
            level, row, column = at
            if level < coarsest or not pixels.any():
                return
            packed = io.BytesIO()
            Image.fromarray(pixels).save(packed, "JPEG", **{**jpeg_keywords(options), "subsampling": 2})
            lies[level - coarsest, face_number, row, column] = scratch.tell(), packed.tell()
            scratch.write(packed.getvalue())

        walk_tiles(FacePicture(place.ball, face, side), keep, counted, runner)
    for key, (start, size) in sorted(lies.items()):
        scratch.seek(start)
        name = "-".join(map(str, (number, *key)))
        page.write(f'<script type="text/plain" id="t{name}">'.encode())
        page.write(base64.b64encode(scratch.read(size)))
        page.write(b"</script>\n")
