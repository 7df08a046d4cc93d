"""A memory card as it comes home: several runs, brackets, repeats, raw beside JPEG, hands before the lens, a snapshot."""

from __future__ import annotations

import datetime
import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Literal

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.simulator.camera import CameraSettings, SimulatedCamera, SimulatedHead
from idle_lantern.simulator.diorama import ambrel_holm
from idle_lantern.simulator.raw_files import write_dng
from idle_lantern.simulator.surfaces import Diorama

Angles = tuple[float, float, float]

_SKIN = (0.42, 0.24, 0.17)
Files = Literal["jpeg", "raw", "both"]


@dataclass(frozen=True)
class CardRun:
    """What was shot in one go.

    Attributes
    ----------
    directions : sequence of (yaw, pitch, roll), degrees
    brackets_ev : exposures of each position, more is brighter
    repeats : exposures of each position and bracket step
    bookends : what closes and opens the run: a hand, the cap, or nothing
    files : what the camera writes
    pause_s : since the run before
    play_deg : how far the camera moves between the exposures of one position
    shaken : by position, how many pixels the camera moves across and down while it is exposed
    """

    directions: Sequence[Angles]
    brackets_ev: tuple[float, ...] = (0.0,)
    repeats: int = 1
    bookends: Literal["hand", "cap", "none"] = "none"
    files: Files = "jpeg"
    pause_s: float = 20.0
    step_s: float = 6.0
    play_deg: float = 0.0
    metadata: bool = True
    exposure_s: float = 1 / 256
    shaken: dict[int, tuple[float, float]] = field(default_factory=dict)


@dataclass(frozen=True)
class CardShot:
    """What a file of the card really is."""

    name: str
    run: int
    position: int
    role: str
    ev: float = 0.0
    camera: Array | None = field(default=None, repr=False, compare=False)


def write_card(
    folder: Path,
    camera: SimulatedCamera,
    runs: Sequence[CardRun],
    *,
    scene: Diorama | None = None,
    seed: int = 1,
    progress: Progress = SILENT,
    begin: datetime.datetime = datetime.datetime(2026, 5, 14, 18, 40),
) -> list[CardShot]:
    """Shoot the runs into ``folder`` under one camera's numbers; what each file is."""
    card = _Card(folder, camera, scene or ambrel_holm(), np.random.default_rng(seed), begin)
    progress.begin("shoot", sum(len(run.directions) for run in runs))
    for r, run in enumerate(runs):
        card.clock += datetime.timedelta(seconds=run.pause_s)
        card.bookend(r, run)
        for p, angles in enumerate(run.directions):
            card.position(r, p, run, angles)
            progress.advance()
        card.bookend(r, run)
    return card.shots


@dataclass
class _Card:
    folder: Path
    camera: SimulatedCamera
    scene: Diorama
    rng: np.random.Generator
    clock: datetime.datetime
    shots: list[CardShot] = field(default_factory=list)
    number: int = 1

    def position(self, r: int, p: int, run: CardRun, angles: Angles) -> None:
        """All exposures of a place."""
        role = "bracket" if len(run.brackets_ev) > 1 else "repeat" if run.repeats > 1 else "single"
        self.clock += datetime.timedelta(seconds=run.step_s)
        view, pose = None, None
        for ev in run.brackets_ev:
            for _again in range(run.repeats):
                if view is None or run.play_deg:
                    move = self.rng.normal(0, run.play_deg, 3) if run.play_deg else np.zeros(3)
                    yaw, pitch, roll = (float(v) for v in np.asarray(angles) + move)
                    pose = SimulatedHead().pointed(yaw, pitch, roll)
                    view = self.camera.view(self.scene, pose, time_s=len(self.shots) * 1.0)
                settings = CameraSettings(exposure_s=run.exposure_s * 2**ev)
                held = replace(self.camera, shake_px=run.shaken.get(p, (0.0, 0.0)))
                light = held.sensed(view, settings, seed=self.number)
                self._write(light, run, settings, CardShot("", r, p, role, ev, pose))

    def bookend(self, r: int, run: CardRun) -> None:
        """A hand before the lens, or next to nothing."""
        if run.bookends == "none":
            return
        self.clock += datetime.timedelta(seconds=2)
        lens = self.camera.lens
        light = hand(lens.width, lens.height, self.rng) if run.bookends == "hand" else _nothing(lens.width, lens.height)
        light = light + self.rng.normal(0, 0.001, light.shape)
        self._write(
            light.astype(np.float32), run, CameraSettings(exposure_s=run.exposure_s), CardShot("", r, -1, "bookend")
        )

    def _write(self, light: Array, run: CardRun, settings: CameraSettings, shot: CardShot) -> None:
        stem = f"IL_{self.number:04d}"
        self.number += 1
        self.clock += datetime.timedelta(seconds=0.4 + settings.exposure_s)
        meta = Metadata()
        if run.metadata:
            meta = Metadata(
                focal_mm=self.camera.focal_mm,
                sensor_width_mm=max(1.0, self.camera.lens.height / self.camera.lens.width)
                * self.camera.sensor_width_mm,
                aperture=settings.aperture,
                exposure_s=settings.exposure_s,
                iso=settings.iso,
                taken=self.clock.strftime("%Y:%m:%d %H:%M:%S"),
                fraction_s=self.clock.microsecond / 1e6,
                camera="Simulated camera",
            )
        if run.files in ("raw", "both"):
            write_dng(self.folder / f"{stem}.dng", light, meta)
            self.shots.append(replace(shot, name=f"{stem}.dng"))
        if run.files in ("jpeg", "both"):
            encoded = np.rint(SRGB.from_linear(np.clip(light, 0, 1)) * 255).astype(np.uint8)
            write(Picture(encoded), self.folder / f"{stem}.jpg", WriteOptions(jpeg_quality=93, metadata=meta))
            twin = run.files == "both"
            self.shots.append(replace(shot, name=f"{stem}.jpg", role="twin" if twin else shot.role))


def hand(width: int, height: int, rng: np.random.Generator) -> Array:
    """Linear light (h, w, 3) of a hand held close before the lens: fingers far out of focus, some of the place beside them."""
    factor = 8
    w, h = max(8, width // factor), max(8, height // factor)
    light = np.empty((h, w, 3), np.float32)
    light[:] = np.asarray((0.35, 0.45, 0.6)) * rng.uniform(0.4, 1.2)
    shade = np.asarray(_SKIN) * rng.uniform(0.6, 1.3)
    for finger in range(int(rng.integers(3, 6))):
        x = w * (0.1 + 0.22 * finger + rng.uniform(-0.05, 0.05))
        top = (round(x), round(h * rng.uniform(-0.2, 0.25)))
        cv2.line(
            light,
            (round(x + w * rng.uniform(-0.1, 0.1)), h),
            top,
            tuple(shade * rng.uniform(0.8, 1.2)),
            round(w * 0.17),
        )
    cv2.ellipse(light, (w // 2, h), (round(w * 0.5), round(h * 0.4)), 0, 0, 360, tuple(shade), -1)
    light = cv2.GaussianBlur(light, (0, 0), max(2.0, w / 22))
    return np.asarray(cv2.resize(light, (width, height), interpolation=cv2.INTER_CUBIC))


def _nothing(width: int, height: int) -> Array:
    return np.full((height, width, 3), 0.0006, np.float32)


def round_sweep(first_deg: float, count: int, step_deg: float, pitch_deg: float = 0.0) -> list[Angles]:
    """Directions of one row."""
    return [(math.remainder(first_deg + step_deg * i, 360), pitch_deg, 0.0) for i in range(count)]
