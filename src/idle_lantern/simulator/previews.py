"""What a shallow-depth grid will look like beside one wide frame of the same view, on the invented island."""

from __future__ import annotations

import math

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.progress import Progress
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.plan.planner import Plan
from idle_lantern.simulator.camera import CameraSettings, SimulatedCamera
from idle_lantern.simulator.diorama import ambrel_holm

#: Widest aperture that a usual wide lens has (common practice, no source).
WIDE_APERTURE = 2.8
_LONGER_PX = 440


def blur_pair(plan: Plan, progress: Progress) -> tuple[Picture, Picture]:
    """The joined grid as one frame with its own lens's pupil, and the camera at hand with a wide lens.

    Raises
    ------
    InputError
        The view is too wide for any flat frame.
    """
    single = plan.single
    if single is None:
        raise InputError("The picture is too wide for one flat frame", remedy="Plan a field below 150 degrees")
    target_field, s = plan.target_field, plan.sharpness
    wide, tall = single.sensor_width_mm / plan.rig.focal_mm, single.sensor_height_mm / plan.rig.focal_mm
    scale = _LONGER_PX / max(wide, tall)
    lens = Lens("rectilinear", scale, max(16, round(wide * scale)), max(16, round(tall * scale)))
    look = rotations.from_yaw_pitch_roll(
        math.radians((target_field.left_deg + target_field.right_deg) / 2),
        math.radians((target_field.low_deg + target_field.high_deg) / 2),
    )
    scene = ambrel_holm()
    pictures = []
    progress.begin("render", 2)
    for focal_mm, aperture in (
        (plan.rig.focal_mm, s.aperture),
        (single.same_camera_mm, max(WIDE_APERTURE, s.aperture)),
    ):
        camera = SimulatedCamera(lens, focal_mm, focal_mm * wide, defocus=True, noise=False)
        # the same light in both: only the blur differs
        exposed = CameraSettings(aperture=aperture, exposure_s=aperture**2 / 2**14, focus_m=s.focus_m)
        pictures.append(camera.expose(scene, look, exposed))
        progress.advance()
    return pictures[0], pictures[1]
