"""The demo outing: an evening on Ambrel Holm, made by the simulator at first start.

Made rather than shipped: seven frames take some ten seconds to render and would
weigh several megabytes in every copy of the program.
"""

from __future__ import annotations

import datetime
import math
from pathlib import Path

import numpy as np

from idle_lantern.core.base.atomic import make_folder
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.core.outing import document, edits
from idle_lantern.core.outing.model import Outing
from idle_lantern.core.plan.brief import Brief, Site
from idle_lantern.core.plan.planner import make_plan
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField
from idle_lantern.core.shoot.shooting import logged
from idle_lantern.simulator.camera import SimulatedCamera
from idle_lantern.simulator.cards import CardRun, round_sweep, write_card
from idle_lantern.simulator.devices import SimulatedRig
from idle_lantern.simulator.diorama import ambrel_holm
from idle_lantern.simulator.limits import MOST_MEGAPIXELS
from idle_lantern.simulator.truth import ideal_canvas

_START = datetime.datetime(2026, 5, 14, 18, 40)
NAME = "Ambrel Holm, evening"
#: The invented island lies where the sea is open, and so that the sun stands where the diorama's does.
_SITE = Site("the terrace of Ambrel Holm", 57.0, -26.0, "2026-05-14", "18:40", 0.0, 18.0)


def demo_outing() -> Outing:
    """The outing as planned, nothing shot yet."""
    return Outing(
        name=NAME,
        created=_START.isoformat(timespec="minutes"),
        brief=Brief(
            rig=Rig(focal_mm=20.0, rail_mm=62.0), target_field=TargetField(-100, 100, -24, 24, 1 / 3), site=_SITE
        ),
        origin="simulated",
        plan_made=True,
    )


def make_demo_card(folder: Path, progress: Progress = SILENT, *, scale: float = 1.0) -> None:
    """A card as it comes home, into ``folder``: one frame shaken, brackets in raw and JPEG, repeats, hands, a snapshot."""
    make_folder(folder)
    lens = Lens("rectilinear", 900, 800, 1080).scaled(scale)
    camera = SimulatedCamera(lens, 24.0, 24.0 * 800 / 900, falloff=(-0.12, -0.05))
    runs = [
        CardRun(round_sweep(-84, 7, 28), bookends="hand", shaken={3: (3.0, 1.0)}),
        CardRun(round_sweep(-30, 4, 28), brackets_ev=(0, -2, 2), files="both", bookends="cap", pause_s=90),
        CardRun(round_sweep(40, 3, 28), repeats=3, play_deg=0.2, pause_s=300, shaken={1: (2.0, 2.0)}),
        CardRun([(-170, -8, 12)], pause_s=600),
    ]
    write_card(folder, camera, runs, progress=progress, begin=_START)


#: Spheres of the place: metres to the east and north of the terrace's camera, and the bearing of the picture's middle.
DEMO_STANDS = {"Terrace": (0.0, 0.0, 0.0), "Steps": (7.0, 5.0, 70.0), "Pans": (-8.0, 9.0, 200.0)}
_SPHERE_PX, _SPHERE_GAIN = 1600, 1.6


def make_demo_spheres(folder: Path) -> list[Path]:
    """Write a sphere from each of ``DEMO_STANDS`` into a folder; returns their files."""
    scene, paths = ambrel_holm(), []
    for name, (east, north, facing) in DEMO_STANDS.items():
        light = ideal_canvas(
            scene,
            Projection("equirectangular"),
            (_SPHERE_PX // 2, _SPHERE_PX),
            _SPHERE_PX / (2 * math.pi),
            ((_SPHERE_PX - 1) / 2, (_SPHERE_PX // 2 - 1) / 2),
            rotations.about_y(-math.radians(facing)),
            eye_m=(east, 0.0, north),
        )
        pixels = np.rint(255 * SRGB.from_linear(np.clip(_SPHERE_GAIN * light, 0, 1))).astype(np.uint8)
        paths.append(folder / f"{name}.jpg")
        write(Picture(pixels), paths[-1])
    return paths


def make_telephone_frames(folder: Path, progress: Progress = SILENT) -> list[Path]:
    """Seven overlapping frames of the demo's place, as a telephone held upright takes them an hour earlier."""
    make_folder(folder)
    camera = SimulatedCamera(Lens("rectilinear", 640, 600, 800), 5.0, 5.0 * 600 / 640)
    run = CardRun(round_sweep(-84, 7, 28, 3.0), play_deg=0.4, exposure_s=1 / 300)
    write_card(folder, camera, [run], progress=progress, begin=_START - datetime.timedelta(hours=1))
    return sorted(folder.glob("*.jpg"))


def make_demo(folder: Path, progress: Progress = SILENT, *, most_megapixels: float = MOST_MEGAPIXELS) -> Outing:
    """Plan and shoot the demo outing into ``folder``; one that is complete is only opened."""
    if (folder / document.DOCUMENT).exists():
        outing = document.load(folder)
        if all(document.resolve(folder, r).exists() for r in outing.frames) and outing.origin == "simulated":
            return outing
    outing = demo_outing()
    plan = make_plan(outing.brief)
    devices = SimulatedRig(outing.rig, most_megapixels=most_megapixels)
    make_folder(folder / document.FRAMES)
    progress.begin("shoot", len(plan.frames))
    for frame in plan.frames:
        reading = devices.turn_to(frame.yaw_deg, frame.pitch_deg, frame.roll_deg)
        taken = (_START + datetime.timedelta(seconds=6 * frame.number)).strftime("%Y:%m:%d %H:%M:%S")
        target = folder / document.FRAMES / f"f{frame.number:03d}.jpg"
        devices.shoot(target, taken)
        ref = logged(folder, target, frame, reading, taken, outing.rig)
        outing = edits.add_frame(ref).apply(outing)
        progress.advance()
    document.save(outing, folder)
    return outing
