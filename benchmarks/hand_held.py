"""Rows held in the hand with a fence near: the joined picture against the scene.

    .venv/bin/python benchmarks/hand_held.py [--frames 4] [--seeds 2]

Each frame is taken from a place of its own, 2 cm about one (root mean square), with a fence of planks or of pickets at
3 m, or ropes and posts from 3 m on. Told are decibel of the picture against the scene as the middle of all places sees
it, and the largest turn by which a frame lies off, in its pixels. On 2026-11-28, in brackets before each frame was given a
place of its own:

    planks, seed 1: 39.2 dB, turned off by at most 0.04 px (21.8 dB, 10.99 px)
    planks, seed 2: 36.4 dB, turned off by at most 0.13 px (28.0 dB, 0.54 px)
    pickets, seed 1: 37.3 dB, turned off by at most 0.16 px (21.5 dB, 6.08 px)
    pickets, seed 2: 35.1 dB, turned off by at most 0.11 px (26.7 dB, 0.82 px)
    ropes, seed 1: 37.2 dB, turned off by at most 0.09 px (23.9 dB, 3.25 px)
    ropes, seed 2: 35.2 dB, turned off by at most 0.20 px (27.8 dB, 1.72 px)
"""

from __future__ import annotations

import argparse
import math
import sys
import tempfile
from dataclasses import replace
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))
from tests.helpers import true_picture

from idle_lantern.core.compositing.canvas.canvas import make_canvas
from idle_lantern.core.compositing.render.compose import compose_picture
from idle_lantern.core.frames.frameset import gather
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.solve.solve import solve
from idle_lantern.simulator.camera import SimulatedCamera, SimulatedHead
from idle_lantern.simulator.diorama import TERRACE_Y, ambrel_holm
from idle_lantern.simulator.materials import planks
from idle_lantern.simulator.shapes import DOWN, quad
from idle_lantern.simulator.surfaces import Diorama

LENS, STEP_DEG, WANDER_M, FINE = Lens("rectilinear", 900, 1000, 700), 24.0, 0.02, 2
KINDS = ("planks", "pickets", "ropes")


def scene(kind: str) -> Diorama:
    """The island with that before the camera."""
    if kind == "ropes":
        return ambrel_holm()
    wood, place = planks((0.42, 0.33, 0.22), 904, 0.12), ambrel_holm(railing=False)
    near = []
    for side in range(8):  # an octagon of 3 m about the camera
        middle = side * math.pi / 4
        along = (math.cos(middle), 0.0, -math.sin(middle))
        half = 3.0 * math.tan(math.pi / 8)
        corner = np.array([3 * math.sin(middle), TERRACE_Y - 1.1, 3 * math.cos(middle)]) - half * np.array(along)
        if kind == "planks":
            near.append(quad(tuple(corner), along, DOWN, (2 * half, 1.1), wood, layer=6))
            continue
        for at in np.arange(0.05, 2 * half, 0.2):
            near.append(quad(tuple(corner + at * np.array(along)), along, DOWN, (0.08, 1.1), wood, layer=6))
        for low in (0.2, 0.75):
            near.append(quad(tuple(corner + np.array([0, low, 0])), along, DOWN, (2 * half, 0.07), wood, layer=6))
    return replace(place, quads=(*place.quads, *near))


def measured(kind: str, seed: int, count: int, folder: Path) -> tuple[float, float]:
    """Decibel against the scene, and pixels by which the farthest frame is turned off."""
    rng, head, place = np.random.default_rng(seed), SimulatedHead(play_deg=1.2, seed=seed), scene(kind)
    stood = rng.normal(0, WANDER_M / math.sqrt(3), (count, 3))
    stood -= stood.mean(0)
    cameras = [head.pointed((i - (count - 1) / 2) * STEP_DEG, -6, shot=i) for i in range(count)]
    width_mm = 24.0 * LENS.width / LENS.focal_px
    paths = [folder / f"{kind}-{seed}-{i}.jpg" for i in range(count)]
    for i, path in enumerate(paths):
        pupil_m = tuple((cameras[i].T @ stood[i]).tolist())
        body = SimulatedCamera(LENS.scaled(FINE), 24.0, width_mm, pupil_m=pupil_m)
        meta = Metadata(focal_mm=24.0, sensor_width_mm=width_mm)
        true_picture.shoot(body, place, cameras[i], path, meta, i, FINE)
    solution = solve(gather(paths))
    canvas = make_canvas(solution.poses, solution.seen, "cylindrical")
    picture = compose_picture(solution, canvas).picture
    wanted, inside = true_picture.expected(place, picture, solution, canvas, cameras, FINE)
    true = np.stack([cameras[f] for f in solution.poses.frames])
    solved = solution.poses.world_from_camera
    turn = rotations.nearest((true @ np.swapaxes(solved, 1, 2)).sum(0))
    off = np.linalg.norm(rotations.to_vector(np.swapaxes(true, 1, 2) @ turn @ solved), axis=1)
    return true_picture.decibel(picture, wanted, inside), float(off.max()) * LENS.focal_px


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--frames", type=int, default=4)
    parser.add_argument("--seeds", type=int, default=2)
    args = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        for kind in KINDS:
            for seed in range(1, args.seeds + 1):
                decibel, off_px = measured(kind, seed, args.frames, Path(folder))
                print(f"{kind}, seed {seed}: {decibel:.1f} dB, turned off by at most {off_px:.2f} px", flush=True)


if __name__ == "__main__":
    main()
