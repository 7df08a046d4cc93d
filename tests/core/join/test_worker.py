"""Joins in a process of their own: the same picture, and whatever ends that process ends no other."""

from __future__ import annotations

import os
import signal
from collections.abc import Iterator
from pathlib import Path

import pytest
from tests.helpers.sets import FrameFiles

from idle_lantern.core.base.errors import Cancelled
from idle_lantern.core.base.progress import Silent
from idle_lantern.core.join import service
from idle_lantern.core.join.request import Event, Failed, Finished, JoinFrame, JoinRequest, Solved, TileDone
from idle_lantern.core.join.worker import JoinWorker
from idle_lantern.core.request.options import JoinOptions


@pytest.fixture
def worker() -> Iterator[JoinWorker]:
    made = JoinWorker()
    yield made
    made.close()


def _request(files: FrameFiles, folder: Path, **how: object) -> JoinRequest:
    frames = tuple(JoinFrame(path, id=path.stem) for path in files.paths[:3])
    return JoinRequest(frames, folder / "o.tif", JoinOptions(width_px=900), document_id="d", **how)


def test_the_picture_is_the_same_to_the_byte_and_the_process_serves_again(
    worker: JoinWorker, row_set: FrameFiles, tmp_path: Path
):
    here, apart = tmp_path / "here", tmp_path / "apart"
    here.mkdir()
    apart.mkdir()
    told: dict[Path, list[Event]] = {here: [], apart: []}
    service.run(_request(row_set, here), told[here].append)
    worker.run(_request(row_set, apart), told[apart].append)
    assert (here / "o.tif").read_bytes() == (apart / "o.tif").read_bytes()
    assert [type(e) for e in told[here]] == [type(e) for e in told[apart]]
    finished = told[apart][-1]
    assert isinstance(finished, Finished)
    process = worker._process.pid
    # another projection of the same solution, which goes back through the pipe
    again: list[Event] = []
    worker.run(_request(row_set, apart, solution=finished.result.solution), again.append)
    assert isinstance(again[-1], Finished)
    assert not again[-1].result.solved_anew
    assert worker._process.pid == process


@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGSEGV])
def test_a_process_that_dies_is_a_failure_in_a_sentence_and_the_next_join_goes_on(
    worker: JoinWorker, row_set: FrameFiles, tmp_path: Path, how: signal.Signals
):
    told: list[Event] = []

    def die_at_a_tile(event: Event) -> None:
        told.append(event)
        if isinstance(event, TileDone) and sum(isinstance(e, TileDone) for e in told) == 2:
            os.kill(worker._process.pid, how)

    request = _request(row_set, tmp_path, checkpoints=tmp_path / "kept", report=tmp_path / "r.json")
    worker.run(request, die_at_a_tile)
    failed = told[-1]
    assert isinstance(failed, Failed)
    assert ("want of memory" in failed.error.sentence) == (how == signal.SIGKILL)
    assert "goes on where it was" in failed.error.sentence
    assert not (tmp_path / "o.tif").exists()
    again: list[Event] = []
    worker.run(request, again.append)
    assert isinstance(again[-1], Finished)
    assert sorted(p.name for p in tmp_path.iterdir() if p.name != "user") == ["kept", "o.tif", "r.json"]


def test_it_is_stopped_and_serves_again(worker: JoinWorker, row_set: FrameFiles, tmp_path: Path):
    class Stops(Silent):
        asked = False

        def advance(self, n: int = 1) -> None:
            if self.asked:
                raise Cancelled

    progress, told = Stops(), []

    def stop_when_solved(event: Event) -> None:
        told.append(event)
        progress.asked = progress.asked or isinstance(event, Solved)

    with pytest.raises(Cancelled):
        worker.run(_request(row_set, tmp_path), stop_when_solved, progress)
    assert [p.name for p in tmp_path.iterdir() if p.name != "user"] == []
    worker.run(_request(row_set, tmp_path), told.append)
    assert isinstance(told[-1], Finished)


def test_two_at_once_do_not_wait_for_each_other(worker: JoinWorker, row_set: FrameFiles, tmp_path: Path):
    inner: list[Event] = []

    def another(event: Event) -> None:
        if isinstance(event, Solved):
            (tmp_path / "b").mkdir()
            worker.run(_request(row_set, tmp_path / "b"), inner.append)

    worker.run(_request(row_set, tmp_path), another)
    assert isinstance(inner[-1], Finished)
    assert (tmp_path / "b" / "o.tif").read_bytes() == (tmp_path / "o.tif").read_bytes()


def test_a_fault_in_a_frame_is_told_as_ever(worker: JoinWorker, tmp_path: Path):
    told: list[Event] = []
    frames = (JoinFrame(tmp_path / "none.jpg", id="a"),)
    worker.run(JoinRequest(frames, tmp_path / "o.tif"), told.append)
    (failed,) = told
    assert isinstance(failed, Failed)
    assert failed.error.what == "Is missing"
    assert failed.error.where.endswith("none.jpg")
