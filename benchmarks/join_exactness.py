"""How exactly frames are laid on each other, set by set, against the simulator's truth.

    .venv/bin/python benchmarks/join_exactness.py [--sets row "night at 15 %"] [--megapixels 3] [--told]

Each set is rendered once (kept in a cache folder; all of them take some fifteen minutes) and joined by the
command as a user would, without metadata unless ``--told``. "RMS" and "max" are distances in full-size pixels
of a grid of points in each true overlap, mapped by the true and by the solved geometry, over the frames that
features placed. "off" is the largest angle by which any other frame was placed wrongly, in degrees.
On 2026-11-26, ``--megapixels 2``, another job beside it (so processor times are too long):

    | set | frames | placed | wrongly | RMS px | max px | focal % | off deg | CPU s | wall s | peak MiB |
    | row | 8 | 8 + 0 | 0 | 0.0168 | 0.040 | -0.0032 | 0.00 | 5.6 | 5.2 | 275 |
    | 8 x 3, k1 -0.05 | 24 | 24 + 0 | 0 | 0.0116 | 0.032 | +0.0002 | 0.00 | 16.7 | 16.8 | 577 |
    | 10 x 6, long lens | 60 | 60 + 0 | 0 | 0.0212 | 0.155 | -0.0065 | 0.00 | 31.6 | 32.2 | 881 |
    | vertical | 4 | 4 + 0 | 0 | 0.0127 | 0.023 | +0.0067 | 0.00 | 3.1 | 3.2 | 194 |
    | fisheye sphere | 8 | 8 + 0 | 0 | 0.0069 | 0.017 | +0.0000 | 0.00 | 6.5 | 6.6 | 305 |
    | rows sphere | 22 | 22 + 0 | 0 | 0.0092 | 0.040 | +0.0003 | 0.00 | 11.0 | 12.2 | 348 |
    | drift and fall-off | 8 | 8 + 0 | 0 | 0.0159 | 0.053 | +0.0005 | 0.00 | 9.2 | 10.5 | 465 |
    | night at 15 % | 6 | 6 + 0 | 0 | 0.0219 | 0.069 | +0.0139 | 0.00 | 5.8 | 6.4 | 446 |
    | mostly defocused | 9 | 9 + 0 | 0 | 0.0332 | 0.133 | +0.0020 | 0.00 | 6.0 | 6.9 | 236 |
    | intruders | 8 | 8 + 0 | 0 | 0.0094 | 0.026 | +0.0042 | 0.00 | 13.0 | 14.3 | 520 |
    | clear sky, planned | 18 | 12 + 6 | 0 | 0.0138 | 0.068 | -0.0020 | 0.16 | 15.5 | 18.2 | 595 |
    | clear sky, not planned | 18 | 12 + 6 | 0 | 0.0111 | 0.048 | -0.0011 | 0.20 | 16.9 | 17.0 | 560 |
"""

from __future__ import annotations

import argparse
import math
import tempfile
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import skimage.data
from join_vs_opencv import measured_join

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.solve.prior import prior_text
from idle_lantern.simulator.camera import CameraSettings, SimulatedCamera, SimulatedHead
from idle_lantern.simulator.diorama import ambrel_holm
from idle_lantern.simulator.truth import registration_error_px

Angles = tuple[float, float, float]
#: A head that points a little beside where it is told, on a base that leans.
_HEAD = SimulatedHead(play_deg=0.25, base_tilt_deg=0.5, base_tilt_toward_deg=30)


@dataclass(frozen=True)
class Kind:
    """What is shot: a lens for frames of so many pixels, directions, and what makes it hard."""

    lens: Lens
    directions: Sequence[Angles]
    settings: Sequence[CameraSettings] = ()
    scene: dict[str, Any] = field(default_factory=dict)
    camera: dict[str, Any] = field(default_factory=dict)
    intruders: bool = False
    planned: bool = False
    head: SimulatedHead = _HEAD


def _lens(
    megapixels: float, focal_share: float, *, upright: bool = True, model: str = "rectilinear", **more: float
) -> Lens:
    """A lens for frames of 2 : 3; ``focal_share`` is of the longer side."""
    long_side = round(math.sqrt(megapixels * 1.5e6))
    short_side = round(long_side / 1.5)
    size = (short_side, long_side) if upright else (long_side, short_side)
    return Lens(model, focal_share * long_side, *size, **more)


def _grid(columns: int, step: float, pitches: Sequence[float], middle: float = 0.0) -> list[Angles]:
    return [(middle + step * (c - (columns - 1) / 2), p, 0.0) for p in pitches for c in range(columns)]


def _row(mp: float) -> Kind:
    return Kind(_lens(mp, 0.78), _grid(8, 31, [0.0]))


def _distorted(mp: float) -> Kind:
    return Kind(_lens(mp, 1.1, upright=False, k1=-0.05), _grid(8, 32, [20.0, 0.0, -20.0]))


def _long(mp: float) -> Kind:
    return Kind(_lens(mp, 5.0, upright=False), _grid(10, 7.4, [4.5, -0.3, -5.1, -9.9, -14.7, -19.5]))


def _vertical(mp: float) -> Kind:
    return Kind(_lens(mp, 1.0, upright=False), _grid(1, 0, [34.0, 10.0, -14.0, -38.0]))


def _fisheye(mp: float) -> Kind:
    return Kind(_lens(mp, 0.31, model="equidistant"), [*_grid(6, 60, [0.0]), (0, 90, 0), (0, -90, 0)])


def _rows_sphere(mp: float) -> Kind:
    rows = _grid(8, 45, [0.0]) + _grid(6, 60, [48.0]) + _grid(6, 60, [-48.0])
    return Kind(_lens(mp, 0.54), [*rows, (0, 90, 0), (0, -90, 0)])


def _drift(mp: float) -> Kind:
    row = _row(mp)
    balance = [(2 ** (0.04 * i), 1.0, 2 ** (-0.05 * i)) for i in range(8)]
    drift = [CameraSettings(exposure_s=2 ** (0.15 * i) / 512, white_balance=b) for i, b in enumerate(balance)]
    return Kind(row.lens, row.directions, drift, camera={"falloff": (-0.5, 0.1)})


def _night(mp: float) -> Kind:
    lens = _lens(mp, 1.125)
    step = 0.85 * math.degrees(lens.field_rad()[0])
    return Kind(lens, _grid(6, step, [-4.0]), [CameraSettings(iso=6400, exposure_s=1 / 256 / 64)] * 6)


def _defocused(mp: float) -> Kind:
    near = CameraSettings(aperture=1.4, exposure_s=1 / 256 / 32, focus_m=3.0)
    directions = _grid(3, 17, [14.0, -6.0, -26.0])
    return Kind(_lens(mp, 1.63), directions, [near] * 9, camera={"defocus": True})


def _intruded(mp: float) -> Kind:
    row = _row(mp)
    return Kind(row.lens, row.directions, intruders=True)


def _clear_sky(mp: float, *, planned: bool) -> Kind:
    """The upper row shows nothing but blue; a click head, so that plan and grid can be held to a third of a degree."""
    rows, falloff = _grid(6, 28, [0.0, 28.0, 56.0]), {"falloff": (-0.35, 0.05)}
    head = replace(_HEAD, play_deg=0.05)
    return Kind(_lens(mp, 0.8), rows, scene={"clouds": 0.0}, camera=falloff, planned=planned, head=head)


SETS: dict[str, Callable[[float], Kind]] = {
    "row": _row,
    "8 x 3, k1 -0.05": _distorted,
    "10 x 6, long lens": _long,
    "vertical": _vertical,
    "fisheye sphere": _fisheye,
    "rows sphere": _rows_sphere,
    "drift and fall-off": _drift,
    "night at 15 %": _night,
    "mostly defocused": _defocused,
    "intruders": _intruded,
    "clear sky, planned": lambda mp: _clear_sky(mp, planned=True),
    "clear sky, not planned": lambda mp: _clear_sky(mp, planned=False),
}


def rendered(folder: Path, kind: Kind, *, told: bool) -> tuple[list[Path], list[Array]]:
    """Files in order with what really took them; what does not belong comes behind and is listed by its file alone."""
    folder.mkdir(parents=True, exist_ok=True)
    lens = kind.lens
    scene = ambrel_holm(**kind.scene)
    body = SimulatedCamera(lens, 24.0, 24.0 * lens.width / lens.focal_px, **kind.camera)
    meta = Metadata(focal_mm=24.0, sensor_width_mm=24.0 * max(lens.width, lens.height) / lens.focal_px)
    how = WriteOptions(jpeg_quality=95, metadata=meta if told else Metadata())
    poses = [kind.head.pointed(*d, shot=i) for i, d in enumerate(kind.directions)]
    paths = [folder / f"f{i:03d}.jpg" for i in range(len(poses))]
    for i, (path, pose) in enumerate(zip(paths, poses)):
        if not path.exists():
            setting = kind.settings[i] if kind.settings else None
            write(body.expose(scene, pose, setting, time_s=2.0 * i, seed=i), path, how)
    if kind.intruders:
        paths += _intruders(folder, paths, how)
    return paths, poses


def _intruders(folder: Path, paths: Sequence[Path], how: WriteOptions) -> list[Path]:
    """A softer repeat, a frame blurred past use, a hand before the lens, two foreign pictures."""
    own = [cv2.cvtColor(cv2.imread(str(p)), cv2.COLOR_BGR2RGB) for p in (paths[2], paths[5], paths[0])]
    size = (own[0].shape[1], own[0].shape[0])
    strangers = [
        cv2.resize(p, size, interpolation=cv2.INTER_CUBIC) for p in (skimage.data.coffee(), skimage.data.rocket())
    ]
    blur = size[0] / 60
    pictures = [
        cv2.GaussianBlur(own[0], (0, 0), 2.0),
        cv2.GaussianBlur(own[1], (0, 0), blur),
        (own[2] * 0.02).astype(np.uint8),
        *strangers,
    ]
    names = [folder / f"x{i}.jpg" for i in range(len(pictures))]
    for name, pixels in zip(names, pictures):
        if not name.exists():
            write(Picture(np.ascontiguousarray(pixels)), name, how)
    return names


def row_of_table(name: str, cache: Path, megapixels: float, *, told: bool) -> str:
    """Join one set and tell how well."""
    kind = SETS[name](megapixels)
    folder = cache / f"{name.replace(' ', '_').replace('%', '')}-{megapixels:g}{'-told' if told else ''}"
    paths, poses = rendered(folder, kind, told=told)
    more = []
    if kind.planned:
        plan = folder / "plan.json"
        plan.write_text(prior_text([p.name for p in paths], list(kind.directions)))
        more = ["--prior", str(plan)]
    with tempfile.TemporaryDirectory() as scratch:
        # in no order, as files come
        order = np.random.default_rng(5).permutation(len(paths)) if kind.intruders else range(len(paths))
        cpu, wall, report = measured_join([paths[i] for i in order], Path(scratch), *more)
    place = {p.name: i for i, p in enumerate(paths)}
    used = [f for f in report["frames"] if f["used"]]
    wrongly = [f["file"] for f in used if place[Path(f["file"]).name] >= len(poses)]
    right = [f for f in used if place[Path(f["file"]).name] < len(poses)]
    tied = [f for f in right if f["placed_by"] == "features"]
    true = [poses[place[Path(f["file"]).name]] for f in tied]
    lenses = [Lens(**f["lens"], width=f["width"], height=f["height"]) for f in tied]
    solved = [np.array(f["pose"]["rotation"]) for f in tied]
    error = registration_error_px(kind.lens, true, lenses, solved)
    focal = 100 * (lenses[0].focal_px / kind.lens.focal_px - 1)
    # the rotation that carries the solved frames onto the true ones best
    turn = rotations.nearest(np.sum([t @ s.T for t, s in zip(true, solved)], axis=0))
    off = [
        math.degrees(
            float(rotations.angle_between(turn @ np.array(f["pose"]["rotation"]), poses[place[Path(f["file"]).name]]))
        )
        for f in right
        if f["placed_by"] != "features"
    ]
    return (
        f"| {name} | {len(poses)} | {len(tied)} + {len(off)} | {len(wrongly)} | {math.sqrt((error**2).mean()):.4f} | "
        f"{error.max():.3f} | {focal:+.4f} | {max(off, default=0):.2f} | {cpu:.1f} | {wall:.1f} | {report['peak_rss_mib']:.0f} |"
    )


def main() -> None:
    """Measure and print the table."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--sets", nargs="+", choices=list(SETS), default=list(SETS))
    parser.add_argument("--megapixels", type=float, default=3.0)
    parser.add_argument("--told", action="store_true", help="with focal length and sensor in the files")
    parser.add_argument("--cache", type=Path, default=Path(tempfile.gettempdir()) / "idle-lantern-benchmark")
    args = parser.parse_args()
    print("| set | frames | placed | wrongly | RMS px | max px | focal % | off deg | CPU s | wall s | peak MiB |")
    print("|---|---|---|---|---|---|---|---|---|---|---|")
    for name in args.sets:
        print(row_of_table(name, args.cache, args.megapixels, told=args.told), flush=True)


if __name__ == "__main__":
    main()
