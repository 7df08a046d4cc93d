"""What the report of a join tells of its picture, for who is given both."""

from __future__ import annotations

import contextlib
from pathlib import Path

from idle_lantern.core.base.errors import InputError, LanternError
from idle_lantern.core.deliver.known import Known
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.frames.reading import probe
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.join.report import read_report
from idle_lantern.core.join.report_reading import canvas_of, invented_in

_OTHER_REPORT = "Give the report that was written with this picture"


def known_from(path: Path, box: Rectangle) -> Known:
    """What the report of a picture of that size tells.

    Raises
    ------
    InputError
        It is no report, or one of another picture.
    """
    report = read_report(path, remedy=_OTHER_REPORT)
    try:
        canvas = canvas_of(report)
    except ValueError as error:
        raise InputError("Is no report of a join", where=str(path), remedy=_OTHER_REPORT) from error
    if (canvas.width, canvas.height) != (box.width, box.height):
        told = f"{canvas.width} x {canvas.height}"
        raise InputError(
            f"Is of a picture of {told} pixels, and this has {box.width} x {box.height}",
            where=str(path),
            remedy=_OTHER_REPORT,
        )
    return Known(canvas, invented_in(report))


def metadata_of(path: Path) -> Metadata:
    """What the file tells of how it was taken."""
    with contextlib.suppress(LanternError):
        return probe(path).metadata
    return Metadata()
