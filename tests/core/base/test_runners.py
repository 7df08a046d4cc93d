"""Threads and processes do the same work: the same results in the same order, the same bytes of a join."""

from __future__ import annotations

import os
from dataclasses import dataclass, replace
from pathlib import Path

import pytest
from tests.helpers.sets import FrameFiles

from idle_lantern.core.base.runners import ProcessRunner, Runner, ThreadRunner
from idle_lantern.core.join.request import Finished, JoinFrame, JoinRequest
from idle_lantern.core.join.service import run
from idle_lantern.core.request.options import JoinOptions


@dataclass(frozen=True)
class _Squares:
    wrong_at: int = -1

    def work(self, index: int) -> tuple[int, int]:
        if index == self.wrong_at:
            raise ValueError(f"no square of {index}")
        return index * index, os.getpid()


@pytest.mark.parametrize("make", [ThreadRunner, ProcessRunner])
def test_results_come_in_order_and_a_fault_comes_out(make: type):
    runner: Runner = make(2)
    found = list(runner.run(_Squares(), [3, 1, 2, 9, 0]))
    assert [square for square, _pid in found] == [9, 1, 4, 81, 0]
    elsewhere = {pid for _square, pid in found} - {os.getpid()}
    assert bool(elsewhere) == (make is ProcessRunner)
    with pytest.raises(ValueError, match="no square of 2"):
        list(runner.run(_Squares(2), range(5)))
    few = runner.run(_Squares(), range(1000))
    assert next(few)[0] == 0
    few.close()  # what is left is given up
    if isinstance(runner, ProcessRunner):
        runner.close()


def test_a_join_by_processes_is_the_same_to_the_byte(row_set: FrameFiles, tmp_path: Path):
    frames = tuple(JoinFrame(path, path.name) for path in row_set.paths[:3])
    with ProcessRunner(2) as processes:
        for ending in ("tif", "jpg"):
            made = []
            for name, runner in (("threads", None), ("processes", processes)):
                events: list[object] = []
                request = JoinRequest(frames, tmp_path / f"{name}.{ending}", JoinOptions(projection="cylindrical"))
                run(replace(request, prepared=tmp_path), events.append, runner=runner)
                assert isinstance(events[-1], Finished), events[-1]
                made.append(request.target.read_bytes())
            assert made[0] == made[1]
