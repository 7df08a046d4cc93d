"""The result of an earlier join, brought back from its files; apart from the join itself, so that opening loads little."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from msgspec import UNSET

from idle_lantern.core.base.errors import InputError, LanternError
from idle_lantern.core.frames.frameset import gather
from idle_lantern.core.join.report import read_report
from idle_lantern.core.join.report_reading import canvas_of, crop_of, solution_of
from idle_lantern.core.join.request import JoinResult
from idle_lantern.core.request.options import JoinOptions


def load_result(picture: Path, report_file: Path, path_of: Callable[[str], Path | None]) -> JoinResult:
    """The result of an earlier join, from its picture and report; nothing is made anew.

    ``path_of`` gives the file of a frame id, None where the frame is gone.

    Raises
    ------
    InputError
        Picture or report are missing or damaged.
    """
    damaged = InputError("The report of the last join is damaged", where=str(report_file), remedy="Join again")
    try:
        report = read_report(report_file)
        canvas, crop = canvas_of(report), crop_of(report)
    except (LanternError, ValueError) as error:
        raise damaged from error
    if not picture.is_file():
        raise InputError("Is missing", where=str(picture), remedy="Join again")
    paths = [path_of(frame) for frame in report.frame_ids]
    solution = None
    try:
        if paths and all(p is not None for p in paths):
            frames = gather([p for p in paths if p is not None], report.frame_ids)
            solution = solution_of(report, frames, JoinOptions().working_mp)
    except (LanternError, ValueError, IndexError, OverflowError):
        solution = None  # frames are gone or changed: the picture is there all the same
    took = sum(report.timings_s.values()) if report.took_s is UNSET else report.took_s
    return JoinResult(picture, canvas, crop, report.frame_ids, took, report.peak_rss_mib, report, solution)
