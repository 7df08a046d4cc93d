"""Faults seeded into joins whose geometry is known: how many are among the first suspects, and what clean joins are suspected of.

    .venv/bin/python benchmarks/seeded_faults.py [--runs 6] [--only NAME ...]

Sets are natural photographs (``natural_scenes.py``) and the rendered island (``join_vs_opencv.py``). Each is solved once; each run then
puts five faults into it at frames and seams of chance, no two at one frame: a figure doubled across a seam, a long thing cut at one, a
frame turned by 1.5 px, a frame softened by 1.5 px, a band brighter by 3 %, and for sets of several rows the frames of one place left out.
What the seams went round is no fault any more. One is found when one of the first suspects, twice as many as faults, is of its kind and at its frame (a figure or cut thing: at its place).
"""

from __future__ import annotations

import argparse
import sys
import tempfile
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import cv2
import join_vs_opencv
import natural_scenes
import numpy as np
from natural_scenes import SETS

from idle_lantern.core.compositing.canvas.canvas import Canvas, make_canvas
from idle_lantern.core.compositing.render.compose import lay_out
from idle_lantern.core.frames.frameset import gather
from idle_lantern.core.frames.reading import read
from idle_lantern.core.geometry import rotations
from idle_lantern.core.inspection.find import find_suspects
from idle_lantern.core.inspection.suspect import Suspect
from idle_lantern.core.registration.solve.solve import Solution, solve
from idle_lantern.core.request.options import JoinOptions

ISLAND = {"island 8 x 1 MP": (8, 1.0), "island 8 x 6 MP": (8, 6.0)}
KINDS = ("double", "cut", "step", "soft", "colour")
#: Kinds by which a fault may be told, where one looks like another.
ALSO = {"double": ("double", "cut"), "cut": ("cut", "double")}


@dataclass
class Joined:
    """A set with its solution, and places on its seams: (a, b, u, v), in places of the poses and canvas pixels."""

    solution: Solution
    canvas: Canvas
    frames: list[np.ndarray]
    seams: list[tuple[int, int, float, float]]

    @classmethod
    def of(cls, paths: list[Path]) -> Joined:
        solution = solve(gather(paths), JoinOptions())
        canvas = make_canvas(solution.poses, solution.seen)
        label = lay_out(solution, canvas, JoinOptions())[0].label
        fx, fy = canvas.width / label.shape[1], canvas.height / label.shape[0]
        beside = label[:, :-1], label[:, 1:]
        at = np.argwhere((beside[0] != beside[1]) & (beside[0] >= 0) & (beside[1] >= 0))
        seams = [(int(label[y, x]), int(label[y, x + 1]), (x + 1) * fx, (y + 0.5) * fy) for y, x in at]
        return cls(solution, canvas, [read(p).pixels for p in paths], seams)

    def in_frame(self, k: int, u: float, v: float) -> tuple[int, int] | None:
        """Where a place of the canvas lies in a frame, well inside it."""
        poses = self.solution.poses
        (xy,), (valid,) = poses.lenses[k].project(
            self.canvas.directions(np.array([[u, v]])) @ poses.world_from_camera[k]
        )
        h, w = self.frames[poses.frames[k]].shape[:2]
        return (
            (round(float(xy[0])), round(float(xy[1])))
            if valid and 20 < xy[0] < w - 20 and 20 < xy[1] < h - 20
            else None
        )


@dataclass(frozen=True)
class Fault:
    """What was put in: its kind, frames by index into the set, and its place where it has one."""

    kind: str
    frames: tuple[int, ...]
    at: tuple[float, float] | None = None

    def shows(self, joined: Joined, label: np.ndarray) -> bool:
        """Whether the seams, which go round what differs where they can, left the fault in the picture."""
        if self.at is None:
            return True
        a, b = (joined.solution.poses.frames.index(f) for f in self.frames)
        fx, fy = joined.canvas.width / label.shape[1], joined.canvas.height / label.shape[0]
        row = label[int(np.clip(self.at[1] / fy, 0, len(label) - 1))]
        left, right = (row[int(np.clip((self.at[0] + side) / fx, 0, len(row) - 1))] for side in (-42, 42))
        return (left, right) == (a, b)

    def told_by(self, suspect: Suspect) -> bool:
        """Whether a suspect means this fault."""
        if suspect.kind not in ALSO.get(self.kind, (self.kind,)) or not set(suspect.frames) & set(self.frames):
            return False
        if self.at is None:
            return True
        near = (suspect.width, suspect.height)
        return all(abs(p - q) < side / 2 + 80 for p, q, side in zip((suspect.u, suspect.v), self.at, near))


def seeded(
    joined: Joined, rng: np.random.Generator, kinds: list[str]
) -> tuple[Solution, list[np.ndarray], list[Fault]]:
    """Frames and solution with one fault of each kind, as far as frames are left."""
    frames = [f.copy() for f in joined.frames]
    solution, poses = joined.solution, joined.solution.poses
    turned = poses.world_from_camera.copy()
    spoilt: set[int] = set()
    faults = []
    for kind in kinds:
        places = [s for s in joined.seams if not {s[0], s[1]} & spoilt]
        if kind in ("double", "cut"):
            reach = 60 if kind == "double" else 170
            places = [
                s for s in places if all(joined.in_frame(k, s[2] + d, s[3]) for k in s[:2] for d in (-reach, 0, reach))
            ]
        if not places:
            continue
        a, b, u, v = places[int(rng.integers(len(places)))]
        pixels = frames[poses.frames[b]]
        colour = tuple(int(c) for c in rng.integers(20, 220, 3))
        at = None
        if kind == "soft":
            pixels[...] = cv2.GaussianBlur(pixels, (0, 0), 1.5)
        elif kind == "colour":
            factor = np.ones((len(pixels), 1, 1), np.float32)
            factor[len(pixels) // 3 : 2 * len(pixels) // 3] = 1.03
            pixels[...] = np.rint(np.clip((pixels / 255.0) ** 2.2 * factor, 0, 1) ** (1 / 2.2) * 255).astype(np.uint8)
        elif kind == "step":
            turned[b] = turned[b] @ rotations.about_x(1.5 / poses.lenses[b].focal_px)
        elif kind == "double":
            at = u, v
            for k, side in ((a, -1), (b, 1)):
                x, y = joined.in_frame(k, u + side * 42, v) or (0, 0)
                cv2.rectangle(frames[poses.frames[k]], (x - 7, y - 22), (x + 7, y + 22), colour, -1)
                cv2.circle(frames[poses.frames[k]], (x, y - 30), 7, colour, -1)
        else:
            at = u, v
            for k, down in ((a, 0), (b, 11)):
                for along in range(-170, 170, 2):
                    place = joined.in_frame(k, u + along, v + down)
                    if place is not None:
                        cv2.circle(frames[poses.frames[k]], place, 4, colour, -1)
        spoilt |= {a, b} if at is not None else {b}
        faults.append(Fault(kind, (poses.frames[b],) if at is None else (poses.frames[a], poses.frames[b]), at))
    return replace(solution, poses=replace(poses, world_from_camera=turned)), frames, faults


def with_a_hole(joined: Joined, rng: np.random.Generator) -> Solution | None:
    """The solution without the frames that show a place in the middle of the picture; None where there is one row only."""
    poses = joined.solution.poses
    pitch = np.abs(poses.world_from_camera[:, 1, 2])
    if pitch.max() - pitch.min() < 0.15:
        return None
    inner = np.flatnonzero(pitch < 0.15)
    there = poses.world_from_camera[int(inner[int(rng.integers(2, len(inner) - 2))]), :, 2]
    rest = [k for k, lens in enumerate(poses.lenses) if not lens.sees(there @ poses.world_from_camera[k])]
    return replace(joined.solution, poses=poses.only(rest))


def suspects(solution: Solution, canvas: Canvas) -> tuple[list[Suspect], np.ndarray]:
    """What the program suspects, and its seams."""
    plan, overview = lay_out(solution, canvas, JoinOptions())
    return find_suspects(plan, overview, threads=2), plan.label


def measure(name: str, make: Callable[[], list[Path]], runs: int, tally: dict[str, Counter[str]]) -> None:
    """Runs on one set, printed as a row."""
    joined = Joined.of(make())
    megapixels = joined.canvas.width * joined.canvas.height / 1e6
    clean = [s for s in suspects(joined.solution, joined.canvas)[0] if s.suspicion > 0.5]
    found, missed = Counter[str](), Counter[str]()
    with tempfile.TemporaryDirectory() as scratch:
        for run in range(runs):
            rng = np.random.default_rng(100 + run)
            solution, frames, faults = seeded(joined, rng, [KINDS[i] for i in rng.permutation(len(KINDS))])
            files = [Path(scratch) / f"f{i:03d}.jpg" for i in range(len(frames))]
            for path, pixels in zip(files, frames):
                cv2.imwrite(str(path), pixels[..., ::-1], [cv2.IMWRITE_JPEG_QUALITY, 94])
            told, label = suspects(replace(solution, frames=gather(files)), joined.canvas)
            faults = [f for f in faults if f.shows(joined, label)]
            for fault in faults:
                hit = any(fault.told_by(s) for s in told[: 2 * len(faults)])
                (found if hit else missed)[fault.kind] += 1
            bare = with_a_hole(joined, rng)
            if bare is not None:
                (found if any(s.kind == "hole" for s in suspects(bare, joined.canvas)[0][:2]) else missed)["hole"] += 1
    tally["found"] += found
    tally["missed"] += missed
    tally["clean"] += Counter({"suspects": len(clean), "pixels": round(megapixels * 1e6)})
    kinds = ", ".join(f"{k} {found[k]}/{found[k] + missed[k]}" for k in (*KINDS, "hole") if found[k] + missed[k])
    print(f"| {name} | {kinds} | {len(clean)} in {megapixels:.0f} Mpx {[s.kind for s in clean] or ''} |", flush=True)


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--runs", type=int, default=6)
    parser.add_argument("--only", nargs="+", default=[*SETS, *ISLAND], choices=[*SETS, *ISLAND])
    parser.add_argument("--cache", type=Path, default=Path(tempfile.gettempdir()) / "idle-lantern-natural")
    args = parser.parse_args()
    tally: dict[str, Any] = {"found": Counter(), "missed": Counter(), "clean": Counter()}
    print("| set | faults found | suspected above a half in the clean join |\n|---|---|---|")
    for name in args.only:
        folder = args.cache / name.replace(" ", "")
        if name in SETS:
            measure(name, lambda f=folder, n=name: natural_scenes.make_set(f, SETS[n])[0], args.runs, tally)
        else:
            folder.mkdir(parents=True, exist_ok=True)
            measure(name, lambda f=folder, n=name: join_vs_opencv.make_set(f, *ISLAND[n])[0], args.runs, tally)
    found, missed = sum(tally["found"].values()), sum(tally["missed"].values())
    a_ten = tally["clean"]["suspects"] / max(1, tally["clean"]["pixels"]) * 1e7
    print(
        f"\nfound {found} of {found + missed} ({100 * found / max(1, found + missed):.1f} %), {a_ten:.2f} by 10 clean Mpx"
    )


if __name__ == "__main__":
    sys.exit(main())
