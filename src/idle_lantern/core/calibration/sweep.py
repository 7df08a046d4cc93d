"""A lens from a set that joins well: the join has measured it already, fall-off included."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.calibration.result import Calibration
from idle_lantern.core.compositing.canvas.canvas import make_canvas
from idle_lantern.core.compositing.render.compose import rough_picture
from idle_lantern.core.frames.frameset import gather
from idle_lantern.core.registration.solve.solve import Solution, solve
from idle_lantern.core.request.options import JoinOptions


def calibrate_by_sweep(paths: Sequence[Path], progress: Progress = SILENT) -> Calibration:
    """The lens that took a set of overlapping frames.

    Raises
    ------
    JoinError
        They do not join.
    UnreadableFrame
        Names the frames that cannot be read.
    """
    frames = gather(paths)
    solution = solve(frames, JoinOptions(), None, progress)
    rough = rough_picture(solution, make_canvas(solution.poses, solution.seen, "auto"))
    return calibration_of(solution, rough.vignetting)


def calibration_of(solution: Solution, falloff: Sequence[float]) -> Calibration:
    """The lens that a solution found, with its fall-off."""
    poses, frames = solution.poses, solution.frames
    lens = poses.lenses[0]
    sigma = {"focal_px": poses.focal_sigma * lens.focal_px} if poses.focal_sigma == poses.focal_sigma else {}
    left = tuple(frames.names[f] for f in sorted(set(range(len(frames))) - set(poses.frames)))
    points = sum(len(link.points_a) for link in solution.links)
    return Calibration(lens, sigma, poses.rms_px, len(poses.frames), points, (falloff[0], falloff[1]), left)
