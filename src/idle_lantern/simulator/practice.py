"""Practice with the simulated camera: a rail whose right setting is not told, before an upright near the lens."""

from __future__ import annotations

import hashlib
import math
from dataclasses import dataclass, replace
from pathlib import Path

from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.plan.rig import Rig
from idle_lantern.simulator.camera import CameraSettings, SimulatedCamera, SimulatedHead
from idle_lantern.simulator.diorama import ambrel_holm, upright
from idle_lantern.simulator.limits import MOST_MEGAPIXELS
from idle_lantern.simulator.surfaces import Diorama

#: The upright stands near the rim of both frames of a pair: at such a share of the half frame from the middle.
_TO_RIM = 0.55


@dataclass(frozen=True)
class PupilPractice:
    """A rig before an upright ``near_m`` away; ``true_mm`` is the setting that is to be found.

    ``up_mm`` is how far the no-parallax point stands above the axis that the camera tilts about.
    """

    rig: Rig
    near_m: float
    true_mm: float
    up_mm: float = 0.0

    @property
    def turn_deg(self) -> float:
        """How far to turn to either side."""
        return math.degrees(math.atan(_TO_RIM * math.tan(self.rig.lens().field_rad()[0] / 2)))

    def take_pair(
        self, rail_mm: float, folder: Path, progress: Progress = SILENT, *, pitch_deg: float = 0.0
    ) -> tuple[Path, Path]:
        """Two frames turned left and right with the rail at a setting, tilted by ``pitch_deg``, written into ``folder``.

        Raises
        ------
        InputError
            They cannot be written.
        """
        lens = self.rig.lens()
        factor = min(1.0, math.sqrt(MOST_MEGAPIXELS * 1e6 / (lens.width * lens.height)))
        lens = lens.scaled(factor) if factor < 1 else lens
        side_mm = self.rig.sensor_height_mm if self.rig.upright else self.rig.sensor_width_mm
        pupil_m = (0, -self.up_mm / 1000, (rail_mm - self.true_mm) / 1000)
        camera = SimulatedCamera(lens, self.rig.focal_mm, side_mm, pupil_m=pupil_m)
        scene, files = _scene(self.near_m), []
        meta = Metadata(
            focal_mm=self.rig.focal_mm, sensor_width_mm=max(self.rig.sensor_width_mm, self.rig.sensor_height_mm)
        )
        progress.begin("work", 2)
        name = f"rail-{rail_mm:g}" + (f"-pitch{pitch_deg:+g}" if pitch_deg else "")
        for k, side in enumerate((-1, 1)):
            pose = SimulatedHead(play_deg=0.2).pointed(
                side * self.turn_deg, pitch_deg, 0.0, shot=round(abs(rail_mm) * 10) + k
            )
            number = 1
            while (target := folder / f"{name}-{number}.jpg").exists():
                number += 1
            picture = camera.expose(scene, pose, CameraSettings(), seed=k)
            write(picture, target, WriteOptions(jpeg_quality=95, metadata=meta))
            files.append(target)
            progress.advance()
        return files[0], files[1]


def practice_for(rig: Rig, near_m: float) -> PupilPractice:
    """A practice whose setting is that of the lens, unknown to the one who looks for it: 40 mm and a good half of the focal length."""
    odd = int(hashlib.sha256(f"{rig.focal_mm}|{rig.lens_name}".encode("utf-8", "surrogatepass")).hexdigest()[:4], 16)
    up_mm = (-7.0, -4.0, 5.0, 8.0)[odd % 4]
    return PupilPractice(rig, near_m, round(40 + 0.55 * rig.focal_mm + odd / 65535 * 12 - 6, 1), up_mm)


def _scene(near_m: float) -> Diorama:
    island = ambrel_holm(walkers=0)
    return replace(island, quads=(*island.quads, upright(near_m)))
