"""Whether exercises are graded by what happens: done right each passes, done as it starts, or with a fault, it does not.

python benchmarks/practice.py [seeds]
"""

from __future__ import annotations

import sys
import tempfile
import time
from pathlib import Path

from idle_lantern.course.course import EXERCISES, attempt
from idle_lantern.course.exercise import graded
from idle_lantern.course.faults import FAULTS
from idle_lantern.course.record import PASSED


def main(seeds: int) -> None:
    right_passed = wrong_failed = total = faults_seen = faults = 0
    print(f"{'exercise':14s} {'seed':>4s} {'start':>6s} {'right':>6s} {'faults':>30s} {'s':>6s}")
    for one in EXERCISES:
        for seed in range(1, seeds + 1):
            with tempfile.TemporaryDirectory() as scratch:
                begun = time.monotonic()
                first = attempt(one, seed, one.start(), Path(scratch))
                took = time.monotonic() - begun
                right = graded(one, first.right.figures, first.right.failed).points
                told = []
                for fault in FAULTS:
                    if fault.exercise is one:
                        done = attempt(one, seed, fault.values(seed), Path(scratch), right=first.right)
                        told.append(f"{fault.key} {done.grade.points}")
                        faults += 1
                        faults_seen += done.grade.points < right
            at_right = all(one.right(seed).get(k) == v for k, v in one.start().items())
            total += 1
            right_passed += right >= PASSED
            wrong_failed += at_right or first.grade.points < PASSED
            print(
                f"{one.key:14s} {seed:4d} {first.grade.points:6d} {right:6d} {', '.join(told):>30s} {took:6.1f}",
                flush=True,
            )
    print(
        f"done right passes {right_passed} of {total}; as it starts it does not {wrong_failed} of {total} (where that is wrong)"
    )
    print(f"faults that cost points: {faults_seen} of {faults}")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 3)
