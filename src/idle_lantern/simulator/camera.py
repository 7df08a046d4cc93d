"""A simulated camera: what a given lens and sensor make of the scene.

From linear light to a display-encoded frame in the order light takes: pupil
position, projection and distortion, defocus by distance, motion, fall-off,
exposure and white balance, noise, clipping, sRGB encoding.
"""

from __future__ import annotations

import math
import os
from dataclasses import dataclass, replace
from functools import lru_cache

import cv2
import numpy as np
from threadpoolctl import threadpool_limits

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.simulator.surfaces import Diorama, SurfaceView, look

#: Workers that look along the rows of a frame.
ALL_CORES = os.cpu_count() or 2
#: Frames of more pixels are looked at in bands of so many rows, so that rays and their like take little memory beside them.
_AT_ONCE_PX, _BAND = 4_000_000, 512
#: Exposure value at ISO 100 at which the scene's sunlit white just stays below clipping.
SCENE_EV = 14.0
_FULL_WELL_ELECTRONS = 60000.0
_READ_NOISE_ELECTRONS = 4.0


@dataclass(frozen=True)
class CameraSettings:
    """What the photographer sets before a frame."""

    aperture: float = 8.0
    exposure_s: float = 1 / 256
    iso: float = 100.0
    focus_m: float = math.inf
    white_balance: tuple[float, float, float] = (1.0, 1.0, 1.0)

    @property
    def exposure_value(self) -> float:
        """EV at ISO 100: log2(N^2 / t) - log2(ISO / 100)."""
        return math.log2(self.aperture**2 / self.exposure_s) - math.log2(self.iso / 100)


@dataclass(frozen=True)
class SimulatedCamera:
    """A body and lens.

    Attributes
    ----------
    lens : Lens
        Geometry in pixels, for the frame as it is turned.
    focal_mm, sensor_width_mm : float
        For defocus and metadata; the sensor side that lies along the frame's width.
    pupil_m : (right, down, forward)
        Where the entrance pupil stands from the turning axis, in the camera frame.
    falloff : (a, b)
        Light at half-diagonal radius rho is ``1 + a rho^2 + b rho^4``.
    defocus, noise : bool
        Whether to simulate them.
    """

    lens: Lens
    focal_mm: float
    sensor_width_mm: float
    pupil_m: tuple[float, float, float] = (0.0, 0.0, 0.0)
    falloff: tuple[float, float] = (0.0, 0.0)
    defocus: bool = False
    noise: bool = True
    shake_px: tuple[float, float] = (0.0, 0.0)
    bits: int = 8

    def expose(
        self,
        scene: Diorama,
        world_from_camera: Array,
        settings: CameraSettings | None = None,
        *,
        time_s: float = 0.0,
        seed: int = 0,
        threads: int = ALL_CORES,
    ) -> Picture:
        """Take one frame turned by ``world_from_camera`` (3, 3); the same arguments always give the same pixels."""
        view = self.view(scene, world_from_camera, time_s=time_s, threads=threads)
        return self.develop(view, settings, seed=seed)

    def develop(self, view: SurfaceView, settings: CameraSettings | None = None, *, seed: int = 0) -> Picture:
        """The frame that this light makes with these settings."""
        full = 255 if self.bits == 8 else 65535
        encoded = SRGB.from_linear(np.clip(self.sensed(view, settings, seed=seed), 0, 1)) * full + 0.5
        return Picture(encoded.astype(np.uint8 if self.bits == 8 else np.uint16))

    def sensed(self, view: SurfaceView, settings: CameraSettings | None = None, *, seed: int = 0) -> Array:
        """What the sensor makes of this light (H, W, 3): linear, one where it is full, and above where it would be."""
        settings = settings or CameraSettings()
        light = view.light
        if self.defocus:
            light = self._defocused(view, settings)
        if any(self.shake_px):
            light = _smeared(light, self.shake_px)
        rng = np.random.default_rng([seed, 77])
        return self._with_noise(light, settings, rng)

    def view(
        self, scene: Diorama, world_from_camera: Array, *, time_s: float = 0.0, threads: int = ALL_CORES
    ) -> SurfaceView:
        """The light (h, w, 3) that falls through the lens before anything spoils it."""
        rotation = np.asarray(world_from_camera, np.float32)
        origin = np.asarray(world_from_camera, float) @ np.asarray(self.pupil_m)
        h, w = self.lens.height, self.lens.width
        rows = h if h * w <= _AT_ONCE_PX else _BAND
        light, distance = np.empty((h, w, 3), np.float32), np.empty((h, w), np.float32)
        for top in range(0, h, rows):
            with threadpool_limits(1, user_api="blas"):
                directions = (_rays(self.lens) if rows == h else _rays_of(self.lens, top, top + rows)) @ rotation.T
            seen = look(scene, origin, directions, 1 / self.lens.focal_px, time_s=time_s, threads=threads)
            light[top : top + rows], distance[top : top + rows] = seen.light, seen.distance_m
        return SurfaceView(light, distance)

    def finder(self, width_px: int = 480) -> SimulatedCamera:
        """The same camera with few pixels and no noise, quick enough to look through."""
        return replace(self, lens=self.lens.scaled(width_px / self.lens.width), noise=False, defocus=False)

    def blur_disc_px(self, distance_m: Array, settings: CameraSettings) -> Array:
        """Diameter of the blur disc by distance, (h, w) each (thin lens)."""
        focal_m = self.focal_mm / 1000
        aperture_m = focal_m / settings.aperture
        pixel_m = self.sensor_width_mm / 1000 / self.lens.width
        if math.isinf(settings.focus_m):
            return aperture_m * focal_m / distance_m / pixel_m
        magnification = focal_m / (settings.focus_m - focal_m)
        with np.errstate(invalid="ignore"):
            share = np.where(np.isinf(distance_m), 1.0, np.abs(distance_m - settings.focus_m) / distance_m)
        return aperture_m * magnification * share / pixel_m

    def _defocused(self, view: SurfaceView, settings: CameraSettings) -> Array:
        diameter = np.minimum(self.blur_disc_px(view.distance_m, settings), 80)
        steps = np.rint(2 * np.log2(np.maximum(diameter, 1))).astype(int)
        total = np.zeros_like(view.light)
        weight = np.zeros(view.light.shape[:2], np.float32)
        for step in np.unique(steps):
            mask = (steps == step).astype(np.float32)
            disc = _disc(2.0 ** (step / 2))
            total += cv2.filter2D(view.light * mask[..., None], -1, disc, borderType=cv2.BORDER_REFLECT)
            weight += cv2.filter2D(mask, -1, disc, borderType=cv2.BORDER_REFLECT)
        return total / np.maximum(weight, 1e-6)[..., None]

    def relative_light(self) -> Array:
        """Fall-off over the frame, (H, W), 1 at the axis."""
        return _relative_light(self.lens, self.falloff)

    def _with_noise(self, light: Array, settings: CameraSettings, rng: np.random.Generator) -> Array:
        gain = 2.0 ** (SCENE_EV - settings.exposure_value) * np.asarray(settings.white_balance)
        light = light * gain.astype(np.float32)
        if any(self.falloff) or math.isfinite(self.lens.circle_px):
            light = light * self.relative_light()[..., None]
        if self.noise:
            well = np.float32(_FULL_WELL_ELECTRONS * 100 / settings.iso)
            spread = np.sqrt(np.maximum(light, 0) * well + np.float32(_READ_NOISE_ELECTRONS**2)) / well
            light = light + spread * rng.standard_normal(light.shape, dtype=np.float32)
        return light


@dataclass(frozen=True)
class SimulatedHead:
    """A panoramic head that points nearly where it is told.

    ``play_deg`` is the spread of its pointing; ``base_tilt_deg`` and
    ``base_tilt_toward_deg`` say how the base leans.
    """

    play_deg: float = 0.0
    base_tilt_deg: float = 0.0
    base_tilt_toward_deg: float = 0.0
    seed: int = 1

    def pointed(self, yaw_deg: float, pitch_deg: float, roll_deg: float = 0.0, *, shot: int = 0) -> Array:
        """``world_from_camera`` (3, 3) really reached for the wanted angles."""
        play = np.random.default_rng([self.seed, shot]).normal(0, self.play_deg, 3) if self.play_deg else np.zeros(3)
        yaw, pitch, roll = np.radians(np.array([yaw_deg, pitch_deg, roll_deg]) + play)
        toward = math.radians(self.base_tilt_toward_deg)
        lean = (
            rotations.about_y(toward) @ rotations.about_x(math.radians(self.base_tilt_deg)) @ rotations.about_y(-toward)
        )
        result: Array = lean @ rotations.from_yaw_pitch_roll(yaw, pitch, roll)
        return result


@lru_cache(maxsize=2)
def _rays(lens: Lens) -> Array:
    """The ray of each pixel in the camera's frame, (H, W, 3); the same for every frame of a run."""
    return _rays_of(lens, 0, lens.height)


def _rays_of(lens: Lens, top: int, bottom: int) -> Array:
    """The rays of some rows."""
    rows, columns = np.mgrid[top : min(bottom, lens.height), : lens.width].astype(np.float64)
    return lens.unproject(np.stack([columns, rows], -1)).astype(np.float32)


@lru_cache(maxsize=2)
def _relative_light(lens: Lens, falloff: tuple[float, float]) -> Array:
    u0, v0 = lens.principal_px
    half = math.hypot(lens.width, lens.height) / 2
    v, u = np.mgrid[: lens.height, : lens.width].astype(np.float32)
    rho2 = ((u - np.float32(u0)) ** 2 + (v - np.float32(v0)) ** 2) / np.float32(half * half)
    light = np.maximum(1 + rho2 * (falloff[0] + rho2 * falloff[1]), 0)
    # outside the image circle there is none
    light[np.hypot(u - u0, v - v0) > lens.circle_px] = 0
    return np.asarray(light.astype(np.float32))


def _disc(diameter: float) -> Array:
    """A disc of that diameter with soft rim, sum 1."""
    n = math.ceil(diameter / 2) + 1
    y, x = np.mgrid[-n : n + 1, -n : n + 1]
    disc = np.clip(diameter / 2 - np.hypot(x, y) + 0.5, 0, 1)
    return np.asarray((disc / disc.sum()).astype(np.float32))


def _smeared(light: Array, shake_px: tuple[float, float]) -> Array:
    """Motion blur along a straight path of that length in pixels."""
    dx, dy = shake_px
    n = max(2, int(math.hypot(dx, dy) * 2))
    size = int(max(abs(dx), abs(dy)) / 2) + 2
    kernel = np.zeros((2 * size + 1, 2 * size + 1), np.float32)
    for t in np.linspace(-0.5, 0.5, n):
        x, y = size + t * dx, size + t * dy
        i, j = int(y), int(x)
        for di, dj, w in (
            (0, 0, (1 - y + i) * (1 - x + j)),
            (1, 0, (y - i) * (1 - x + j)),
            (0, 1, (1 - y + i) * (x - j)),
            (1, 1, (y - i) * (x - j)),
        ):
            kernel[i + di, j + dj] += w
    return np.asarray(cv2.filter2D(light, -1, kernel / kernel.sum(), borderType=cv2.BORDER_REFLECT))
