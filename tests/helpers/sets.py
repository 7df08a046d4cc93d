"""Frame sets rendered by the simulator, with the truth about them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.simulator.camera import CameraSettings, SimulatedCamera, SimulatedHead
from idle_lantern.simulator.diorama import ambrel_holm
from idle_lantern.simulator.surfaces import Diorama
from idle_lantern.simulator.truth import registration_error_px

Angles = tuple[float, float, float]


@dataclass(frozen=True)
class FrameFiles:
    """Files in order, and what really took them."""

    paths: tuple[Path, ...]
    lens: Lens
    cameras: tuple[Array, ...]
    scene: Diorama

    def error_px(self, report: dict[str, Any]) -> Array:
        """Registration errors of a join report, for the frames it used, by file name."""
        place = {p.name: i for i, p in enumerate(self.paths)}
        used = [f for f in report["frames"] if f["used"]]
        at = [place[Path(f["file"]).name] for f in used]
        lenses = [Lens(**f["lens"], width=f["width"], height=f["height"]) for f in used]
        solved = [np.array(f["pose"]["rotation"]) for f in used]
        return registration_error_px(self.lens, [self.cameras[i] for i in at], lenses, solved)


def rms(errors: Array) -> float:
    """Root of the mean square."""
    return float(np.sqrt((errors**2).mean()))


def render(
    folder: Path,
    lens: Lens,
    directions: Sequence[Angles],
    *,
    metadata: bool = True,
    suffix: str = ".jpg",
    settings: Sequence[CameraSettings] | None = None,
    scene: Diorama | None = None,
    play_deg: float = 0.25,
    seconds: float = 0.0,
    **camera: Any,
) -> FrameFiles:
    """Shoot ``directions`` with a head that points a little beside them."""
    scene = scene or ambrel_holm()
    head = SimulatedHead(play_deg=play_deg, base_tilt_deg=0.5, base_tilt_toward_deg=30)
    body = SimulatedCamera(lens, 24.0, 24.0 * lens.width / lens.focal_px, **camera)
    long_side_mm = 24.0 * max(lens.width, lens.height) / lens.focal_px
    meta = Metadata(focal_mm=24.0, sensor_width_mm=long_side_mm) if metadata else Metadata()
    paths, cameras = [], []
    for i, angles in enumerate(directions):
        pose = head.pointed(*angles, shot=i)
        chosen = settings[i] if settings else CameraSettings()
        picture = body.expose(scene, pose, chosen, time_s=i * seconds, seed=i)
        path = folder / f"f{i:02d}{suffix}"
        write(picture, path, WriteOptions(jpeg_quality=95, metadata=meta))
        paths.append(path)
        cameras.append(pose)
    return FrameFiles(tuple(paths), lens, tuple(cameras), scene)


def row_of_eight(folder: Path) -> FrameFiles:
    """Eight upright frames, a third of overlap and a little more."""
    return render(folder, Lens("rectilinear", 640, 480, 680), [(-98.0 + 28 * i, 0, 0) for i in range(8)])


def grid_with_distortion(folder: Path) -> FrameFiles:
    """Two rows of four frames with k1 = -0.05."""
    lens = Lens("rectilinear", 700, 640, 480, k1=-0.05)
    return render(folder, lens, [(-45.0 + 30 * c, p, 0) for p in (12, -10) for c in range(4)])


def fisheye_sphere(folder: Path) -> FrameFiles:
    """Six round, zenith and nadir."""
    directions: list[Angles] = [(60.0 * i, 0, 0) for i in range(6)]
    return render(folder, Lens("equidistant", 208, 480, 672), [*directions, (0, 90, 0), (0, -90, 0)])
