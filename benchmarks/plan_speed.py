"""How long a plan takes from brief to judgements, by the number of frames: cold (a lens not met before) and warm.

    python benchmarks/plan_speed.py

Asked: under 50 ms up to 200 frames, under 300 ms for 1 000.
"""

from __future__ import annotations

import statistics
import time

from idle_lantern.core.plan.brief import Brief
from idle_lantern.core.plan.judge import judge
from idle_lantern.core.plan.planner import make_plan
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField

CASES = {
    "row": (20.0, TargetField(-100, 100, -24, 24)),
    "sphere, 20 mm": (20.0, TargetField(-180, 180, -90, 90, 0.3)),
    "sphere, 35 mm": (35.0, TargetField(-180, 180, -90, 90, 0.3)),
    "field, 100 mm": (100.0, TargetField(-100, 100, -24, 24)),
    "field, 200 mm": (200.0, TargetField(-120, 120, -24, 24)),
}


def run(focal_mm: float, target_field: TargetField) -> tuple[int, float]:
    begin = time.perf_counter()
    plan = make_plan(Brief(rig=Rig(focal_mm=focal_mm), target_field=target_field))
    assert judge(plan) is not None
    assert plan.cost
    return len(plan.frames), 1000 * (time.perf_counter() - begin)


def main() -> None:
    run(24.0, TargetField())  # imports and first-use caches of the libraries are not the plan's
    print(f"{'case':<16}{'frames':>8}{'cold ms':>10}{'warm ms':>10}")
    for name, (focal, target_field) in CASES.items():
        cold = [run(focal * (1 + 0.001 * i), target_field) for i in range(1, 8)]
        warm = [run(focal * 1.001, target_field) for _ in range(7)]
        print(
            f"{name:<16}{cold[0][0]:>8}{statistics.median(t for _, t in cold):>10.0f}"
            f"{statistics.median(t for _, t in warm):>10.0f}"
        )


if __name__ == "__main__":
    main()
