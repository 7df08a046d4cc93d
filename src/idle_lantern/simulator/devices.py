"""Stand-ins for a head and a camera in the simulated place."""

from __future__ import annotations

import math
import threading
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.geometry import rotations
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.shoot.devices import HeadReading
from idle_lantern.simulator.camera import CameraSettings, SimulatedCamera, SimulatedHead
from idle_lantern.simulator.diorama import ambrel_holm, standing
from idle_lantern.simulator.limits import MOST_MEGAPIXELS
from idle_lantern.simulator.raw_files import write_dng
from idle_lantern.simulator.surfaces import Diorama, SurfaceView
from idle_lantern.simulator.weather import STILL, Weather

_SECONDS_BETWEEN = 6.0
_SEEN_PX = 1.5  # discs of so many pixels are drawn as out of focus
_NEAR_M = 3.0  # what stands near on the terrace
_FAR_M = 40.0  # and far behind it


class SimulatedRig:
    """Head and camera together on a tripod on the terrace of the simulated island.

    Points a fraction of a degree beside where it is told, as real heads do.
    """

    def __init__(
        self,
        rig: Rig,
        scene: Diorama | None = None,
        seed: int = 11,
        most_megapixels: float = MOST_MEGAPIXELS,
        weather: Weather = STILL,
    ) -> None:
        self.scene = scene or ambrel_holm(weather=weather)
        lens = rig.lens()
        factor = min(1.0, math.sqrt(most_megapixels * 1e6 / (lens.width * lens.height)))
        sensor_mm = rig.sensor_height_mm if rig.upright else rig.sensor_width_mm
        self.camera = SimulatedCamera(
            lens.scaled(factor) if factor < 1 else lens, rig.focal_mm, sensor_mm, falloff=(-0.12, -0.05)
        )
        self.rig = rig
        self.head = SimulatedHead(play_deg=0.12, base_tilt_deg=0.4, base_tilt_toward_deg=60, seed=seed)
        self.settings = CameraSettings()
        self.shots = 0
        self._reached: NDArray[Any] = np.eye(3)
        self._seen: tuple[object, SurfaceView] | None = None
        self._looking = threading.Lock()

    @property
    def frame_px(self) -> tuple[int, int]:
        """Width and height of the frames it writes."""
        return self.camera.lens.width, self.camera.lens.height

    def focused(self, aperture: float, focus_m: float) -> SimulatedRig:
        """The same rig at an aperture and a distance; the exposure time goes along, so that the light stays as it is."""
        exposure_s = self.settings.exposure_s * (aperture / self.settings.aperture) ** 2
        self.settings = replace(self.settings, aperture=aperture, focus_m=focus_m, exposure_s=exposure_s)
        disc_px = self.camera.blur_disc_px(np.array([_NEAR_M, _FAR_M]), self.settings).max()
        self.camera = replace(self.camera, defocus=bool(disc_px > _SEEN_PX))
        return self

    def with_somebody(self, yaw_deg: float, metres: float) -> SimulatedRig:
        """The same rig before somebody who stands still there."""
        figure = standing(math.radians(yaw_deg), metres)
        place = self.scene

        def later(time_s: float) -> Diorama:
            there = place.at(time_s)
            return replace(there, quads=(*there.quads, figure), later=None)

        self.scene = replace(place, quads=(*place.quads, figure), later=None if place.later is None else later)
        return self

    def turn_to(self, yaw_deg: float, pitch_deg: float, roll_deg: float = 0.0) -> HeadReading:
        """Turn; the scales read what was asked to a tenth of a degree."""
        self.shots += 1
        self._reached = self.head.pointed(yaw_deg, pitch_deg, roll_deg, shot=self.shots)
        return HeadReading(round(yaw_deg, 1), round(pitch_deg, 1), round(roll_deg, 1))

    def shift_lens(self, right_mm: float, up_mm: float) -> None:
        """Move a shift lens; the principal point moves the other way in the frame."""
        px_per_mm = self.camera.lens.width / self.camera.sensor_width_mm
        lens = replace(self.camera.lens, cx=-right_mm * px_per_mm, cy=up_mm * px_per_mm)
        self.camera = replace(self.camera, lens=lens)

    def shoot(self, target: Path, taken: str, exposure_ev: float = 0.0) -> None:
        """Expose and write a JPEG with EXIF, or a raw file where the target ends in .dng.

        Exposures of one bracket see the same light.
        """
        settings = replace(self.settings, exposure_s=self.settings.exposure_s * 2**exposure_ev)
        view = self._look(self.shots, self._reached)
        seed = self.shots if not exposure_ev else round(1e6 + 100 * exposure_ev) + self.shots
        meta = Metadata(
            focal_mm=self.rig.focal_mm,
            sensor_width_mm=self.rig.sensor_width_mm,
            aperture=self.settings.aperture,
            exposure_s=settings.exposure_s,
            iso=self.settings.iso,
            taken=taken,
            camera="Simulated camera",
            lens=f"Simulated {self.rig.focal_mm:g} mm",
        )
        if target.suffix.lower() == ".dng":
            write_dng(target, self.camera.sensed(view, settings, seed=seed), meta)
            return
        write(self.camera.develop(view, settings, seed=seed), target, WriteOptions(jpeg_quality=94, metadata=meta))

    def prepare(self, yaw_deg: float, pitch_deg: float, roll_deg: float = 0.0) -> None:
        """Look already where the next frame will be taken, in a thread of its own that nobody waits for."""
        shot = self.shots + 1
        reached = self.head.pointed(yaw_deg, pitch_deg, roll_deg, shot=shot)
        if not self._looking.locked():
            threading.Thread(target=self._look, args=(shot, reached), name="looking ahead", daemon=True).start()

    def _look(self, shot: int, reached: NDArray[Any]) -> SurfaceView:
        """What the lens sees at that moment; the last look is kept for the other exposures of a bracket."""
        camera = self.camera
        key = (shot, camera.lens, reached.tobytes())
        with self._looking:
            if self._seen is None or self._seen[0] != key:
                self._seen = (key, camera.view(self.scene, reached, time_s=shot * _SECONDS_BETWEEN))
            return self._seen[1]

    def finder(self, yaw_deg: float, pitch_deg: float, roll_deg: float = 0.0, width_px: int = 360) -> Picture:
        """What the finder shows in that direction."""
        look = rotations.from_yaw_pitch_roll(*np.radians([yaw_deg, pitch_deg, roll_deg]))
        return replace(self.camera.finder(width_px), falloff=(0.0, 0.0)).expose(
            self.scene, look, self.settings, time_s=(self.shots + 1) * _SECONDS_BETWEEN
        )
