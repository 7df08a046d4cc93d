"""Random briefs of every kind of picture: are their plans as small as they can be, and is what they lack told?

    python benchmarks/random_plans.py [COUNT] [FIRST]

Counted by rays of the benchmark's own, against the rule done in the head (steps of the field of view times one minus
the overlap, all rows alike): plans with more frames than the rule and no remark that says why; frames of which the
wanted field needs nothing; directions that no frame shows though the head reaches them, or that are in no remark.
"""

from __future__ import annotations

import math
import sys
from dataclasses import replace

import numpy as np

from idle_lantern.core.geometry import rotations
from idle_lantern.core.plan.brief import Brief, Support
from idle_lantern.core.plan.judge import judge
from idle_lantern.core.plan.kinds import KINDS, kind_of
from idle_lantern.core.plan.planner import Plan, make_plan
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField

SENSORS = ((36, 24, 6000, 4000), (23.5, 15.6, 6000, 4000), (17.3, 13, 5184, 3888), (13.2, 8.8, 5472, 3648), (6.17, 4.63, 4000, 3000))  # fmt: skip
TURNING = [kind.id for kind in KINDS if kind.id not in ("two-lens", "shift")]


def brief_of(seed: int) -> Brief:
    """A brief that a person may well write: a kind, its camera, and some of its wishes changed."""
    rng = np.random.default_rng([38, seed])
    kind = kind_of(str(rng.choice(TURNING)))
    width, height, across, up = SENSORS[rng.integers(len(SENSORS))]
    rig = Rig(width, height, across, up, float(np.round(width * np.exp(rng.uniform(math.log(0.45), math.log(2.5))), 1)))
    if kind.id == "sphere" and rng.random() < 0.5:
        rig = replace(rig, focal_mm=round(width * 0.3, 1), lens_model="equisolid")
    brief = kind.start(Brief(rig=rig))
    upright = bool(rng.integers(2)) if rng.random() < 0.4 else brief.rig.upright
    focal = rig.focal_mm if kind.id not in ("gigapixel", "shallow") else round(rig.focal_mm * rng.uniform(2, 5), 1)
    brief = replace(brief, rig=replace(brief.rig, focal_mm=focal, upright=upright))
    field = brief.target_field
    if kind.id != "sphere":
        wide = rng.uniform(0.4, 1.2)
        middle, half = rng.uniform(-40, 40), field.sweep_deg / 2 * wide
        low, high = field.low_deg + rng.uniform(-10, 10), field.high_deg + rng.uniform(-10, 30)
        if rng.random() < 0.12 and kind.id in ("row", "rows"):
            middle, half = 0.0, 180.0
        field = replace(field, left_deg=round(middle - half, 1), right_deg=round(middle + half, 1),
                        low_deg=round(max(-90, low)), high_deg=round(min(90, max(high, low + 8))))  # fmt: skip
        if rng.random() < 0.3:
            field = replace(field, overlap=float(rng.choice((0.2, 0.25, 0.4, 0.5))))
        if rng.random() < 0.3:
            field = replace(field, reserve=float(rng.choice((0.0, 0.1, 0.3))))
    support = brief.support
    if support.kind in ("head", "tripod"):
        if rng.random() < 0.3:
            support = replace(support, step_deg=float(rng.choice((5, 7.5, 10, 15, 30, 45, 60))))
        if rng.random() < 0.2:
            support = replace(support, tilt_step_deg=float(rng.choice((7.5, 15, 30, 45))))
        if rng.random() < 0.2:
            support = replace(support, tilt_high_deg=float(rng.choice((30, 45, 60))), tilt_low_deg=-45.0)
    return replace(brief, target_field=field, support=support)


def rule_frames(rig: Rig, field: TargetField) -> int:
    """Frames by the rule in the head."""
    wide_mm, tall_mm = rig.frame_size[0] * rig.pixel_mm, rig.frame_size[1] * rig.pixel_mm
    if rig.lens_model == "rectilinear":
        wide, tall = (2 * math.degrees(math.atan(side / 2 / rig.focal_mm)) for side in (wide_mm, tall_mm))
    else:
        wide, tall = (4 * math.degrees(math.asin(min(1.0, side / 4 / rig.focal_mm))) for side in (wide_mm, tall_mm))
    rows = 1 + math.ceil(max(0.0, field.high_deg - field.low_deg - tall) / (tall * (1 - field.between_rows)) - 1e-6)
    step = wide * (1 - field.overlap)
    if field.full_circle:
        return rows * math.ceil(360 / step - 1e-6)
    return rows * (1 + math.ceil(max(0.0, field.sweep_deg - wide) / step - 1e-6))


def _sees(rig: Rig, cameras: np.ndarray, world: np.ndarray) -> np.ndarray:
    """Which camera (F, 3, 3) shows which direction (N, 3), (N, F), by millimetres on the sensor."""
    wide, tall = (side * rig.pixel_mm / 2 for side in rig.frame_size)
    x, y, z = np.moveaxis(np.einsum("nj,fjk->nfk", world, cameras), -1, 0)
    if rig.lens_model == "rectilinear":
        with np.errstate(divide="ignore", invalid="ignore"):
            return (z > 0) & (np.abs(x / z) * rig.focal_mm <= wide) & (np.abs(y / z) * rig.focal_mm <= tall)
    angle = np.arctan2(np.hypot(x, y), z)
    radius = 2 * rig.focal_mm * np.sin(angle / 2)
    from_axis = np.maximum(np.hypot(x, y), 1e-12)
    across, up = radius * np.abs(x) / from_axis, radius * np.abs(y) / from_axis
    return (angle <= math.pi / 2) & (across <= wide) & (up <= tall)


def _directions(field: TargetField, count: int) -> np.ndarray:
    rng = np.random.default_rng(9)
    azimuth = np.radians(rng.uniform(field.left_deg, field.right_deg, count))
    up = rng.uniform(math.sin(math.radians(field.low_deg)), math.sin(math.radians(field.high_deg)), count)
    level = np.sqrt(1 - up * up)
    return np.stack([level * np.sin(azimuth), -up, level * np.cos(azimuth)], -1)


def _cameras(angles_deg: np.ndarray) -> np.ndarray:
    return rotations.from_yaw_pitch_roll(*np.radians(angles_deg).T)


def _reachable(rig: Rig, support: Support, world: np.ndarray) -> np.ndarray:
    """What the head could show of directions, at any of its stops."""
    low, high, stop = support.tilt_low_deg, support.tilt_high_deg, support.tilt_step_deg
    pitches = (
        np.arange(math.ceil(low / stop), math.floor(high / stop) + 1) * stop if stop else np.linspace(low, high, 91)
    )
    if support.step_deg:
        around = np.arange(math.ceil(360 / support.step_deg)) * support.step_deg
        yaws = (around + support.first_stop_deg)[None, :] + 0 * pitches[:, None]
        grid = np.stack([yaws, pitches[:, None] + 0 * yaws, 0 * yaws], -1).reshape(-1, 3)
        return _sees(rig, _cameras(grid), world).any(1)
    # any yaw: turned so that the direction stands at each of many places beside the frame's middle
    altitude = np.arcsin(-world[:, 1])
    beside = np.linspace(0, math.pi / 2, 25)
    shown = np.zeros(len(world), bool)
    cameras = _cameras(np.stack([0 * pitches, pitches, 0 * pitches], -1))
    for turn in beside:
        turned = np.stack([np.cos(altitude) * np.sin(turn), -np.sin(altitude), np.cos(altitude) * np.cos(turn)], -1)
        shown |= _sees(rig, cameras, turned).any(1)
    return shown


def measured(plan: Plan) -> dict[str, float]:
    """What the plan of a brief shows and lacks."""
    field, rig, support = plan.target_field, plan.rig, plan.brief.support.as_used()
    world = _directions(field, 4000)
    seen = _sees(rig, _cameras(np.array([[f.yaw_deg, f.pitch_deg, f.roll_deg] for f in plan.frames])), world)
    wished = np.array([f.role not in ("spare", "zenith", "nadir") for f in plan.frames])
    idle = int((wished & ~seen.any(0)).sum())
    hole = ~seen.any(1)
    open_but_reachable = float((hole & _reachable(rig, support, world)).mean()) if hole.any() else 0.0
    directions = {(round(f.yaw_deg % 360 if abs(f.pitch_deg) < 89.9 else 0, 2), f.pitch_deg) for f in plan.frames if f.role not in ("zenith", "nadir")}  # fmt: skip
    keys = {j.key for j in judge(plan)}
    more = len(plan.frames) - rule_frames(rig, field)
    wishes = int((~wished).sum()) + rule_frames(rig, field.with_reserve()) - rule_frames(rig, field)
    return {
        "frames": len(plan.frames),
        "more": more,
        "more than wishes explain": more - wishes,
        "untold more": more > wishes and "beyond-rule" not in keys,
        "idle": idle,
        "repeated": int(wished.sum()) - len(directions),
        "hole": float(hole.mean()),
        "reachable hole": open_but_reachable,
        "untold hole": hole.mean() > 0.0005 and "hole" not in keys,
    }


def main() -> None:
    count, first = (int(v) for v in (sys.argv[1:] + ["500", "0"][len(sys.argv) - 1 :])[:2])
    found = []
    for seed in range(first, first + count):
        brief = brief_of(seed)
        row = measured(make_plan(brief))
        found.append(row)
        faults = [name for name in ("untold more", "idle", "repeated", "untold hole") if row[name]]
        if faults or row["reachable hole"] > 0.002 or row["more than wishes explain"] > 0.3 * row["frames"]:
            told = ", ".join(f"{name} {value:g}" for name, value in row.items() if value)
            print(f"{seed} {brief.kind} {brief.rig.focal_mm:g} mm: {told}", flush=True)
    for name in found[0]:
        values = np.array([float(row[name]) for row in found])
        print(
            f"{name}: {np.count_nonzero(values > 0)} of {len(found)}, in all {values.sum():.4g}, most {values.max():.4g}"
        )


if __name__ == "__main__":
    main()
