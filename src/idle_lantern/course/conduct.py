"""How a run is done: each frame as it is really taken, and what is wrong about all of them; taken by the simulated camera."""

from __future__ import annotations

import math
from dataclasses import dataclass, field, replace
from pathlib import Path

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import SRGB, ColourSpace
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.merging.radiance import merge
from idle_lantern.simulator.camera import CameraSettings, SimulatedCamera, SimulatedHead
from idle_lantern.simulator.surfaces import Diorama, SurfaceView

Angles = tuple[float, float, float]

#: What light a polariser takes from the clearest sky, at right angles to the sun (common practice, no source: two stops).
_POLARISED = 0.75
#: How narrow the glow about a low sun is: a power of the cosine (from the look of it, no source).
_GLOW = 6
#: The exposure that is right for the scene as it stands at the beginning.
_RIGHT_S = 1 / 256


@dataclass(frozen=True)
class Situation:
    """A place, a lens and a wanted field (left, right, low, high, degrees): what an exercise plays in.

    ``facing_deg`` is the way the middle of the field looks in the scene; light falls by ``fading_ev_s`` stops a second, and
    by ``fading_sun_ev_s`` more towards the sun. ``subject_deg`` (left, right, low, high) is where the subject stands; ``empty`` is the scene without its ``people``.
    """

    scene: Diorama
    lens: Lens
    field_deg: tuple[float, float, float, float]
    focal_mm: float = 24.0
    facing_deg: float = 0.0
    projection: str = "cylindrical"
    fading_ev_s: float = 0.0
    fading_sun_ev_s: float = 0.0
    subject_deg: tuple[float, float, float, float] | None = None
    empty: Diorama | None = None
    people: int = 0
    seed: int = 1


@dataclass(frozen=True)
class Take:
    """One position: where the head points, when, and with what settings.

    ``exposure_ev`` more is brighter. ``shakes_px`` tells how far the camera moves in each of its repeats, of which the
    sharpest is kept; ``brackets_ev`` are merged.
    """

    angles: Angles
    at_s: float = 0.0
    exposure_ev: float = 0.0
    white_balance: tuple[float, float, float] = (1.0, 1.0, 1.0)
    focus_m: float = math.inf
    shakes_px: tuple[tuple[float, float], ...] = ((0.0, 0.0),)
    brackets_ev: tuple[float, ...] = (0.0,)


@dataclass(frozen=True)
class Conduct:
    """A whole run: what was taken in the order of shooting, and how the camera stood.

    ``swing`` turns the camera on its head (world-from-camera of the head's own frame): a ball head that was levelled instead of
    the base.
    """

    takes: tuple[Take, ...]
    pupil_mm: float = 0.0
    lean_deg: float = 0.0
    lean_toward_deg: float = 0.0
    pointing_deg: float = 0.1
    rolling_deg: float = 0.0
    aperture: float = 8.0
    iso: float = 100.0
    defocus: bool = False
    polariser: bool = False
    seconds: float = 0.0
    swing: Array | None = field(default=None, repr=False, compare=False)


@dataclass(frozen=True)
class Taken:
    """Files of a run, and how each camera really stood (world-from-camera)."""

    files: tuple[Path, ...]
    cameras: tuple[Array, ...]


def camera_of(situation: Situation, conduct: Conduct) -> SimulatedCamera:
    """The camera of a run on its rail."""
    lens = situation.lens
    return SimulatedCamera(
        lens,
        situation.focal_mm,
        situation.focal_mm * lens.width / lens.focal_px,
        pupil_m=(0, 0, conduct.pupil_mm / 1000),
        defocus=conduct.defocus,
    )


def take(situation: Situation, conduct: Conduct, folder: Path, progress: Progress = SILENT) -> Taken:
    """Let the simulated camera do the run into ``folder``.

    Raises
    ------
    InputError
        The folder cannot be written.
    Cancelled
        Stopped by ``progress``.
    """
    lens, files, cameras = situation.lens, [], []
    base = camera_of(situation, conduct)
    meta = Metadata(
        focal_mm=situation.focal_mm, sensor_width_mm=situation.focal_mm * max(lens.width, lens.height) / lens.focal_px
    )
    head = SimulatedHead(conduct.pointing_deg, conduct.lean_deg, conduct.lean_toward_deg, seed=situation.seed)
    rng = np.random.default_rng([situation.seed, 5])
    facing = rotations.about_y(math.radians(situation.facing_deg))
    # the darkest exposure of any bracket tells what is to be shown as white in all frames
    space = SRGB.up_to(max(2.0 ** -min(one.brackets_ev) for one in conduct.takes))
    progress.begin("shoot", len(conduct.takes))
    for number, one in enumerate(conduct.takes):
        yaw, pitch, roll = one.angles
        roll += float(rng.normal(0, conduct.rolling_deg)) if conduct.rolling_deg else 0.0
        pose = facing @ head.pointed(yaw, pitch, roll, shot=number)
        if conduct.swing is not None:
            pose = pose @ conduct.swing
        view = base.view(situation.scene, pose, time_s=one.at_s)
        view = _lit(situation, conduct, view, pose, one)
        target = folder / f"f{number + 1:02d}.jpg"
        picture = _exposed(base, view, conduct, one, space, seed=1000 * situation.seed + number)
        write(picture, target, WriteOptions(jpeg_quality=94, metadata=meta))
        files.append(target)
        cameras.append(pose)
        progress.advance()
    return Taken(tuple(files), tuple(cameras))


def _lit(situation: Situation, conduct: Conduct, view: SurfaceView, pose: Array, one: Take) -> SurfaceView:
    """The light as it is at that moment and behind that filter."""
    light = view.light
    fading = situation.fading_ev_s or situation.fading_sun_ev_s
    if not (fading or conduct.polariser):
        return view
    v, u = np.mgrid[: situation.lens.height, : situation.lens.width].astype(float)
    rays = situation.lens.unproject(np.stack([u, v], -1)) @ pose.T
    cosine = np.nan_to_num(rays @ np.asarray(situation.scene.sun_direction))
    if fading:
        # the glow about the sun goes first
        glow = np.maximum(cosine, 0) ** _GLOW
        stops = one.at_s * (situation.fading_ev_s + situation.fading_sun_ev_s * glow)
        light = light * np.exp2(-stops)[..., None].astype(np.float32)
    if conduct.polariser:
        part = (1 - cosine**2) / (1 + cosine**2)  # Rayleigh's single scattering
        taken = np.where(np.isinf(view.distance_m), _POLARISED * part, 0.25)
        light = light * (1 - taken)[..., None].astype(np.float32) * np.float32(1.4)
    return replace(view, light=light)


def _exposed(
    base: SimulatedCamera, view: SurfaceView, conduct: Conduct, one: Take, space: ColourSpace, seed: int
) -> Picture:
    """The file that is kept: the sharpest of the repeats, its exposures merged and shown in the space of the run."""
    kept: tuple[float, Picture] | None = None
    for again, shake in enumerate(one.shakes_px):
        camera = replace(base, shake_px=shake)
        exposures = []
        for ev in one.brackets_ev:
            stops = one.exposure_ev + ev
            settings = CameraSettings(
                conduct.aperture,
                # a shorter time at a higher ISO gives the same brightness and more grain
                _RIGHT_S * 2**stops * (conduct.aperture / 8.0) ** 2 * 100 / conduct.iso,
                conduct.iso,
                one.focus_m,
                one.white_balance,
            )
            exposures.append(camera.develop(view, settings, seed=97 * seed + 7 * again + round(10 * ev)))
        picture = exposures[0]
        if len(exposures) > 1 or space.transfer.white > 1:
            shown = Picture.of_light(merge(exposures, one.brackets_ev), space)
            picture = Picture((shown.pixels >> 8).astype(np.uint8))
        sharp = float(cv2.Laplacian(cv2.cvtColor(picture.pixels, cv2.COLOR_RGB2GRAY), cv2.CV_32F, ksize=3).var())
        if kept is None or sharp > kept[0]:
            kept = sharp, picture
    assert kept is not None, "a take has at least one exposure"
    return kept[1]
