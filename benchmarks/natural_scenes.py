"""The joining engine beside OpenCV's stitching class on natural pictures: judge speed by these.

    .venv/bin/python benchmarks/natural_scenes.py [--runs 3] [--only NAME ...] [--tiff]

The rendered island of ``join_vs_opencv.py`` says much about the island: flat surfaces, even grain. Here photographs
that ship with scikit-image (BSD-3-Clause) are laid over a band of the sphere, each once, with the fine detail of
other photographs of the same set on top, so that every scale holds what real lenses saw; frames are cut from it with
noise and JPEG. Both programs read and write JPEG, OpenCV at full compositing size and confidence 0.3; runs are
paired, medians of their ratios are told. ``--tiff`` times TIFF and PNG beside JPEG instead. On 2026-11-28, two cores,
five runs (three of the last set), the machine's own noise a fifth (on its quietest a set of 10 took 4.7 s):

    | set | used | RMS px | CPU s | to OpenCV | to floor | peak MiB |
    | 7 x 1 MP | 7 of 7 | 0.0051 | 3.3 | 1.53 | 4.01 | 211 |
    | 8 x 2 MP | 8 of 8 | 0.0074 | 4.2 | 0.95 | 3.28 | 248 |
    | 10 x 3 MP | 10 of 10 | 0.0087 | 5.3 | 0.78 | 2.83 | 299 |
    | 8 x 6 MP | 8 of 8 | 0.0107 | 9.3 | 0.90 | 2.42 | 419 |
    | 24 x 3 MP | 24 of 24 | 0.0074 | 12.1 | 0.32 | 3.37 | 516 |
"""

from __future__ import annotations

import argparse
import math
import statistics
import sys
import tempfile
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import skimage.data
from join_vs_opencv import FLOOR, OPENCV, measured, measured_join

from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.simulator.truth import registration_error_px

PHOTOGRAPHS = ("astronaut", "coffee", "chelsea", "rocket", "hubble_deep_field", "brick", "grass", "gravel", "retina")
PHOTOGRAPHS += ("stereo_motorcycle", "immunohistochemistry", "moon")


@dataclass(frozen=True)
class Set:
    """Frames of ``megapixels`` each: ``columns`` x ``rows`` of them, upright or sideways."""

    columns: int
    rows: int
    megapixels: float
    upright: bool = True
    step_deg: float = 26.0
    seed: int = 1


SETS = {
    "7 x 1 MP": Set(7, 1, 1.0),
    "8 x 2 MP": Set(8, 1, 2.0, seed=2),
    "10 x 3 MP": Set(10, 1, 3.0, upright=False, step_deg=31.0, seed=3),
    "8 x 6 MP": Set(8, 1, 6.0, seed=4),
    "24 x 3 MP": Set(8, 3, 3.0, seed=5),
}


def photographs(rng: np.random.Generator) -> list[np.ndarray]:
    """Each picture once, in colour, in an order of chance."""
    found = []
    for name in PHOTOGRAPHS:
        picture = getattr(skimage.data, name)()
        picture = picture[0] if isinstance(picture, tuple) else picture
        found.append(np.ascontiguousarray(picture if picture.ndim == 3 else np.repeat(picture[..., None], 3, -1)))
    return [found[i] for i in rng.permutation(len(found))]


def band(width: int, height: int, seed: int) -> np.ndarray:
    """A band of photographs beside each other, (height, width, 3) uint8, with finer ones laid over them."""
    rng = np.random.default_rng(seed)
    result = np.zeros((height, width, 3), np.float32)
    cell = height
    for octave in range(4):
        columns, rows = -(-width // cell) + 1, -(-height // cell)
        pictures = photographs(rng)
        for k in range(columns * rows):
            source = pictures[k % len(pictures)]
            source = source[:, ::-1] if rng.random() < 0.5 else source
            side = min(source.shape[:2])
            y, x = (int(rng.integers(0, s - side + 1)) for s in source.shape[:2])
            part = cv2.resize(source[y : y + side, x : x + side], (cell, cell), interpolation=cv2.INTER_CUBIC)
            part = part.astype(np.float32)
            if octave:  # only what is finer than what lies below
                part = (part - _blurred(part, cell / 40)) * 0.75
            top, left = (k // columns) * cell, (k % columns) * cell - int(cell * 0.3 * (octave % 2))
            y0, x0 = max(0, top), max(0, left)
            y1, x1 = min(height, top + cell), min(width, left + cell)
            if y1 > y0 and x1 > x0:
                result[y0:y1, x0:x1] += part[y0 - top : y1 - top, x0 - left : x1 - left]
        cell = max(64, cell // 2)
    return np.clip(result, 0, 255).astype(np.uint8)


def _blurred(part: np.ndarray, sigma: float) -> np.ndarray:
    """Blurred; by far, on an eighth of the size."""
    if sigma < 100:
        return cv2.GaussianBlur(part, (0, 0), sigma)
    small = cv2.resize(part, None, fx=1 / 8, fy=1 / 8, interpolation=cv2.INTER_AREA)
    return cv2.resize(cv2.GaussianBlur(small, (0, 0), sigma / 8), part.shape[1::-1], interpolation=cv2.INTER_LINEAR)


def make_set(folder: Path, what: Set) -> tuple[list[Path], Lens, list[np.ndarray]]:
    """Frames cut from a band unless they are there already: files, lens, true ``world_from_camera``."""
    long_side = round(math.sqrt(what.megapixels * 1.5e6))
    width, height = (round(long_side / 1.5), long_side) if what.upright else (long_side, round(long_side / 1.5))
    lens = Lens("rectilinear", 1.2 * min(width, height), width, height)
    rng = np.random.default_rng(what.seed)
    middle = (what.columns - 1) / 2
    pitches = np.linspace(19 * (what.rows - 1) / 2, -19 * (what.rows - 1) / 2, what.rows)
    poses = [
        rotations.from_yaw_pitch_roll(
            *np.radians(np.array([what.step_deg * (c - middle), p, 0.0]) + rng.normal(0, 0.4, 3))
        )
        for p in pitches
        for c in range(what.columns)
    ]
    paths = [folder / f"n{i:03d}.jpg" for i in range(len(poses))]
    folder.mkdir(parents=True, exist_ok=True)
    if all(p.exists() for p in paths):
        return paths, lens, poses
    scale = lens.focal_px
    tall = 2 * math.tan(math.radians(19 * (what.rows - 1) / 2) + math.atan(height / 2 / scale)) * scale * 1.1
    span = math.radians(what.step_deg * (what.columns - 1)) + 2 * math.atan(math.hypot(width, height) / 2 / scale)
    picture = band(round(span * scale), round(tall), what.seed)
    v, u = np.mgrid[:height, :width].astype(np.float64)
    rays = lens.unproject(np.stack([u, v], -1))
    meta = Metadata(focal_mm=24.0, sensor_width_mm=24.0 * max(width, height) / lens.focal_px)
    for path, pose in zip(paths, poses):
        d = rays @ pose.T
        x = (picture.shape[1] - 1) / 2 + scale * np.arctan2(d[..., 0], d[..., 2])
        y = (picture.shape[0] - 1) / 2 + scale * d[..., 1] / np.hypot(d[..., 0], d[..., 2])
        frame = _sampled(picture, x.astype(np.float32), y.astype(np.float32))
        noisy = np.clip(frame + rng.normal(0, 2.0, frame.shape), 0, 255).astype(np.uint8)
        write(Picture(noisy), path, WriteOptions(jpeg_quality=93, metadata=meta))
    return paths, lens, poses


def _sampled(picture: np.ndarray, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """Cubic samples; cut to the part that is asked for, since OpenCV counts columns in 16 bit."""
    left, top = max(0, int(x.min()) - 4), max(0, int(y.min()) - 4)
    part = picture[top : int(y.max()) + 5, left : int(x.max()) + 5]
    return cv2.remap(part, x - left, y - top, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)


def registration(
    report: dict[str, Any], lens: Lens, poses: list[np.ndarray]
) -> tuple[list[int], list[Lens], list[np.ndarray], np.ndarray]:
    """Of the frames that a join used: places in the set, solved lenses and rotations, and how far they lie off the truth in px, (N,)."""
    used = [i for i, f in enumerate(report["frames"]) if f["used"]]
    solved = [Lens(**report["frames"][i]["lens"], width=lens.width, height=lens.height) for i in used]
    turned = [np.array(report["frames"][i]["pose"]["rotation"]) for i in used]
    return used, solved, turned, registration_error_px(lens, [poses[i] for i in used], solved, turned)


def compare(folder: Path, name: str, runs: int) -> tuple[str, float, float]:
    """One row of the table, and its ratios to OpenCV and to the floor."""
    paths, lens, poses = make_set(folder, SETS[name])
    names = [str(p) for p in paths]
    ratios, floors, ours = [], [], []
    with tempfile.TemporaryDirectory() as scratch:
        out = f"{scratch}/o.jpg"
        for _ in range(runs):
            cpu, _wall, report = measured_join(paths, Path(scratch))
            size = [str(report["canvas"]["width"]), str(report["canvas"]["height"])]
            theirs = measured([sys.executable, "-c", OPENCV, out, *names])[0]
            floor = measured([sys.executable, "-c", FLOOR, out, *size, *names])[0]
            ours.append(cpu)
            ratios.append(cpu / theirs)
            floors.append(cpu / floor)
    used, _solved, _turned, error = registration(report, lens, poses)
    ratio, to_floor = statistics.median(ratios), statistics.median(floors)
    row = (
        f"| {name} | {len(used)} of {len(paths)} | {math.sqrt((error**2).mean()):.4f} | {statistics.median(ours):.1f} | "
        f"{ratio:.2f} | {to_floor:.2f} | {report['peak_rss_mib']:.0f} |"
    )
    return row, ratio, to_floor


def formats(folder: Path, name: str, runs: int) -> str:
    """CPU seconds of the same join written as JPEG, PNG and TIFF."""
    paths, _lens, _poses = make_set(folder, SETS[name])
    medians = []
    with tempfile.TemporaryDirectory() as scratch:
        for ending in ("jpg", "png", "tif"):
            command = [sys.executable, "-m", "idle_lantern.cli.main", "join", *map(str, paths), "--fresh"]
            taken = [measured([*command, "--out", f"{scratch}/o.{ending}"])[0] for _ in range(runs)]
            medians.append(statistics.median(taken))
    jpeg, png, tiff = medians
    return f"| {name} | {jpeg:.1f} | {png:.1f} | {tiff:.1f} | {png / jpeg:.2f} | {tiff / jpeg:.2f} |"


def main() -> None:
    """Measure and print the table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--only", nargs="+", default=list(SETS), choices=list(SETS))
    parser.add_argument("--tiff", action="store_true")
    parser.add_argument("--cache", type=Path, default=Path(tempfile.gettempdir()) / "idle-lantern-natural")
    args = parser.parse_args()
    if args.tiff:
        print("| set | JPEG s | PNG s | TIFF s | PNG / JPEG | TIFF / JPEG |")
        print("|---|---|---|---|---|---|")
        for name in args.only:
            print(formats(args.cache / name.replace(" ", ""), name, args.runs), flush=True)
        return
    print("| set | used | RMS px | CPU s | to OpenCV | to floor | peak MiB |")
    print("|---|---|---|---|---|---|---|")
    rows = []
    for name in args.only:
        row, *ratios = compare(args.cache / name.replace(" ", ""), name, args.runs)
        rows.append(ratios)
        print(row, flush=True)
    ratio, floor = (statistics.median(v) for v in zip(*rows))
    print(f"\nmedian to OpenCV {ratio:.2f}, to the floor {floor:.2f}")


if __name__ == "__main__":
    main()
