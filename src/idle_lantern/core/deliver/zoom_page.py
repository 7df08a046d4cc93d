"""A page that zooms into a picture of any size: one file, and its tiles in a folder beside it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import msgspec

from idle_lantern.core.base.atomic import write_text
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.base.runners import Runner
from idle_lantern.core.base.strict_json import read_json
from idle_lantern.core.deliver import pages
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.zoom_tiles import TILE_PX, write_tile_folder
from idle_lantern.core.pictures.source import PictureSource


@dataclass(frozen=True)
class Caption:
    """Words at a place of the picture, in its pixels."""

    x: float
    y: float
    text: str


def read_captions(path: Path) -> tuple[Caption, ...]:
    """Captions from a file: [{"x": 1200, "y": 340, "text": "Salt house"}, ...].

    Raises
    ------
    InputError
        It holds none.
    """
    try:
        return tuple(msgspec.convert(read_json(path), list[Caption]))
    except msgspec.ValidationError as error:
        raise InputError(
            f"Holds no captions ({error})", where=str(path), remedy='Write [{"x": 1200, "y": 340, "text": "..."}]'
        ) from error


def folder_of_page(target: Path) -> Path:
    """Where the tiles of a page lie."""
    return target.with_name(f"{target.stem}_files")


def write_zoom_page(
    source: PictureSource,
    target: Path,
    options: WriteOptions,
    *,
    name: str,
    note: str = "",
    captions: Sequence[Caption] = (),
    progress: Progress = SILENT,
    runner: Runner | None = None,
) -> Path:
    """Write the page and its folder of tiles; returns ``target``.

    Raises
    ------
    InputError
        It cannot be written, or something else stands where the tiles would; nothing is left half-written.
    Cancelled
        Stopped; nothing is left.
    """
    folder = folder_of_page(target)
    write_tile_folder(source, folder, options, progress, runner)
    width, height = source.sizes[0]
    told = {
        "width": width,
        "height": height,
        "tile": TILE_PX,
        "folder": folder.name,
        "captions": [{"x": c.x, "y": c.y, "text": c.text} for c in captions],
    }
    page = pages.filled(
        "zoom.html",
        title=pages.text(name),
        note=pages.text(note),
        style=pages.part("page.css") + pages.part("zoom.css"),
        library=pages.part("third_party/openseadragon.min.js"),
        picture=pages.data(told),
        script=pages.part("zoom.js"),
    )
    write_text(target, page)
    return target
