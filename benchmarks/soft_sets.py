"""Registration of sets that are mostly out of focus, bare or few, cut from natural pictures: no saving of time may lower it.

    .venv/bin/python benchmarks/soft_sets.py [--only NAME ...] [--seeds 3] [--src FOLDER]

Photographs that ship with scikit-image (``natural_scenes.py``) are laid over a band and blurred as a large aperture does: sharp about a
subject, discs of many pixels elsewhere; ``bare`` leaves some of it nearly without detail. Frames are cut from it with noise and JPEG,
and solved by features alone. Told are the frames that were placed, how far every pair of frames lies off its truth (RMS and the worst
frame's axis), and how far off the focal length is. ``--src`` runs the engine of another checkout. On 2026-11-30, RMS in px:

    | set | seed 1 | 2 | 3 | 4 |
    | shallow 5 x 3 | 0.019 | 0.022 | | |
    | shallow 4 x 3, softer | 0.060 | 0.072 | 0.031 | 0.040 |
    | the same, reduced frames halved and averaged by area | 0.044 | 0.047 | 0.032 | 0.043 |
"""

from __future__ import annotations

import argparse
import json
import math
import os
import subprocess
import sys
import tempfile
from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
from natural_scenes import band, registration

from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens


@dataclass(frozen=True)
class Soft:
    """A grid of frames of ``wide_px`` with the angle of view of ``focal_mm`` on 36 x 24 mm.

    ``disc_px`` is the largest blur, ``sharp`` the share of the picture's height within which nothing is blurred, ``bare`` the share of
    the height, from below (or from above where negative), with nearly no detail.
    """

    columns: int
    rows: int
    focal_mm: float
    disc_px: float
    sharp: float
    bare: float = 0.0
    wide_px: int = 1500
    share: float = 0.4


SETS = {
    "shallow 5 x 3": Soft(5, 3, 85.0, 40.0, 0.2, 0.3),
    "shallow 4 x 3, softer": Soft(4, 3, 85.0, 80.0, 0.15, 0.3),
    "shallow row of 3": Soft(3, 1, 50.0, 60.0, 0.3),
    "bare sky 4 x 2": Soft(4, 2, 35.0, 0.0, 1.0, -0.4),
    "two frames, soft": Soft(2, 1, 85.0, 60.0, 0.3),
}


def ground(width: int, height: int, what: Soft, seed: int) -> np.ndarray:
    """A band, sharp about a place near its middle, blurred by discs elsewhere, bare at one rim."""
    picture = band(width, height, seed).astype(np.float32)
    rng = np.random.default_rng(seed)
    x0, y0 = width * rng.uniform(0.4, 0.6), height * rng.uniform(0.4, 0.6)
    v, u = np.mgrid[:height, :width].astype(np.float32)
    far = np.hypot(u - x0, v - y0) / (height * max(what.sharp, 1e-3))
    disc = what.disc_px * np.clip(2 * (far - 1), 0, 1)
    result = picture.copy()
    levels = np.linspace(0, what.disc_px, 6)
    for low, high in zip(levels, levels[1:]):
        if what.disc_px == 0:
            break
        kernel = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * math.ceil(high / 2) + 1,) * 2).astype(np.float32)
        softer = cv2.filter2D(picture, -1, kernel / kernel.sum())
        share = np.clip((disc - low) / (high - low), 0, 1)[..., None]
        result = np.where(disc[..., None] >= low, (1 - share) * result + share * softer, result)
    if what.bare:
        edge = height * (1 - what.bare) if what.bare > 0 else height * -what.bare
        bare = np.clip(((v - edge) if what.bare > 0 else (edge - v)) / (0.06 * height) + 0.5, 0, 1)[..., None]
        smooth = cv2.resize(
            cv2.resize(result, (6, 4), interpolation=cv2.INTER_AREA), (width, height), interpolation=cv2.INTER_CUBIC
        )
        result = result * (1 - bare) + bare * (smooth + 0.02 * (result - smooth))
    return result


def make_set(folder: Path, what: Soft, seed: int) -> tuple[list[Path], Lens, list[np.ndarray]]:
    """Frames cut from the ground: files, lens, true ``world_from_camera``."""
    width, height = what.wide_px, round(what.wide_px / 1.5)
    lens = Lens("rectilinear", what.focal_mm / 36 * width, width, height)
    rng = np.random.default_rng(100 + seed)
    across, up = (math.degrees(a) for a in lens.field_rad())
    yaws = (np.arange(what.columns) - (what.columns - 1) / 2) * across * (1 - what.share)
    pitches = ((what.rows - 1) / 2 - np.arange(what.rows)) * up * (1 - what.share)
    poses = [
        rotations.from_yaw_pitch_roll(*np.radians(np.array([yaw, pitch, 0.0]) + rng.normal(0, 0.3, 3)))
        for pitch in pitches
        for yaw in yaws
    ]
    scale = lens.focal_px
    span = math.radians(float(np.ptp(yaws)) + across + 6)
    tall = 2 * math.tan(math.radians((float(np.ptp(pitches)) + up) / 2 + 4))
    picture = ground(round(span * scale), round(tall * scale), what, seed)
    rays = lens.unproject(np.stack(np.meshgrid(np.arange(width, dtype=float), np.arange(height, dtype=float)), -1))
    meta = Metadata(focal_mm=what.focal_mm, sensor_width_mm=36.0)
    paths = []
    for i, pose in enumerate(poses):
        d = rays @ pose.T
        x = (picture.shape[1] - 1) / 2 + scale * np.arctan2(d[..., 0], d[..., 2])
        y = (picture.shape[0] - 1) / 2 + scale * d[..., 1] / np.hypot(d[..., 0], d[..., 2])
        frame = cv2.remap(
            picture, x.astype(np.float32), y.astype(np.float32), cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE
        )
        noisy = np.clip(np.rint(frame + rng.normal(0, 3.0, frame.shape)), 0, 255).astype(np.uint8)
        paths.append(folder / f"s{i:03d}.jpg")
        write(Picture(noisy), paths[-1], WriteOptions(jpeg_quality=90, metadata=meta))
    return paths, lens, poses


def measured(what: Soft, seed: int, src: Path | None) -> str:
    """One row of the table."""
    with tempfile.TemporaryDirectory() as scratch:
        paths, lens, poses = make_set(Path(scratch), what, seed)
        report_file = Path(scratch) / "r.json"
        env = os.environ | ({} if src is None else {"PYTHONPATH": str(src)})
        command = [sys.executable, "-m", "idle_lantern.cli.main", "join", *map(str, paths), "--fresh"]
        done = subprocess.run(
            [*command, "--out", f"{scratch}/o.jpg", "--report", str(report_file)], env=env, capture_output=True, text=True
        )  # fmt: skip
        if done.returncode:
            return f"failed: {done.stderr.strip().splitlines()[-1][:80]} |  |  |  |"
        report = json.loads(report_file.read_text())
    used, solved, turned, error = registration(report, lens, poses)
    true = [poses[i] for i in used]
    # where each frame looks, after the turn of the whole that suits all best
    whole = rotations.nearest(sum(t @ s.T for t, s in zip(true, turned, strict=True)))
    off = max(float(rotations.angle_between(t, whole @ s)) for t, s in zip(true, turned, strict=True))
    focal = 100 * (solved[0].focal_px / lens.focal_px - 1)
    return (
        f"{len(used)} of {len(paths)} | {math.sqrt(float((error**2).mean())):.3f} | {float(np.percentile(error, 99)):.2f} | "
        f"{math.degrees(off):.3f} | {focal:+.3f} |"
    )


def main() -> None:
    """Measure and print the table."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--only", nargs="+", default=list(SETS), choices=list(SETS))
    parser.add_argument("--seeds", type=int, default=3)
    parser.add_argument("--src", type=Path)
    args = parser.parse_args()
    print("| set | seed | placed | RMS px | 99th px | worst frame, degrees | focal length, % |")
    print("|---|---|---|---|---|---|---|")
    for name in args.only:
        for seed in range(1, args.seeds + 1):
            print(f"| {name} | {seed} | {measured(SETS[name], seed, args.src)}", flush=True)


if __name__ == "__main__":
    main()
