"""``--scheduler``: the work is done by Dask's own workers, started by its command line, and comes out the same to the byte."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import cloudpickle
import pytest
from PIL import Image
from pypdf import PdfReader
from tests.helpers.commands import run_command
from tests.helpers.sets import FrameFiles
from tests.helpers.spheres import sphere_pixels

from idle_lantern.core.base import dask_runner
from idle_lantern.core.base.dask_runner import DaskRunner
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.runners import ThreadRunner

# what is defined here the workers cannot import
cloudpickle.register_pickle_by_value(sys.modules[__name__])

DASK = str(Path(sys.executable).with_name("dask"))


@dataclass
class Cluster:
    """A scheduler and its workers, each a process of its own."""

    address: str
    scheduler: subprocess.Popen[bytes]
    workers: list[subprocess.Popen[bytes]]


@pytest.fixture
def cluster(tmp_path: Path) -> Iterator[Cluster]:
    told = tmp_path / "scheduler.json"
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, "cwd": tmp_path}
    begun = [
        subprocess.Popen(
            [DASK, "scheduler", "--host", "127.0.0.1", "--port", "0", "--no-dashboard", "--scheduler-file", told],
            **quiet,
        )
    ]
    end = time.monotonic() + 60
    while not told.exists():
        assert time.monotonic() < end
        time.sleep(0.1)
    worker = [DASK, "worker", "--scheduler-file", told, "--nthreads", "1", "--no-dashboard", "--no-nanny"]
    begun += [subprocess.Popen(worker, **quiet) for _ in range(2)]
    yield Cluster(json.loads(told.read_text())["address"], begun[0], begun[1:])
    for process in begun:
        process.kill()
        process.wait()


@dataclass(frozen=True)
class Slow:
    """Work that takes a while, and tells who did it."""

    seconds: float
    fails_at: int = -1

    def work(self, index: int) -> tuple[int, int]:
        if index == self.fails_at:
            raise InputError("Is damaged", where=f"part {index}")
        time.sleep(self.seconds)
        return index * index, os.getpid()


def test_a_join_and_what_is_made_of_it_are_the_same_to_the_byte(cluster: Cluster, row_set: FrameFiles, tmp_path: Path):
    recipe = tmp_path / "r.json"
    recipe.write_text('{"schema": "idle-lantern/recipe/1", "steps": [{"do": "exposure", "ev": 0.4}, {"do": "tones"}]}')
    ways: tuple[tuple[str, list[str]], ...] = (("here", []), ("there", ["--scheduler", cluster.address]))
    for name, more in ways:
        joined = tmp_path / f"{name}.tif"
        done = run_command("join", *row_set.paths[:3], "--out", joined, "--fresh", *more)
        assert done.returncode == 0, done.stderr
        for made in (
            run_command("finish", joined, "--recipe", recipe, "--out", tmp_path / f"{name} f.png", *more),
            run_command("deliver", joined, "--long-side", "600", "--out", tmp_path / f"{name} d.jpg", *more),
        ):
            assert made.returncode == 0, made.stderr
    for ending in (".tif", " f.png", " d.jpg"):
        assert (tmp_path / f"here{ending}").read_bytes() == (tmp_path / f"there{ending}").read_bytes(), ending
    sphere = tmp_path / "ball.png"
    Image.fromarray(sphere_pixels(1100)).save(sphere)
    for kind, picture in (("tiles", joined), ("print", joined), ("sphere-page", sphere)):
        made = []
        for name, more in ways:
            (tmp_path / name / kind).mkdir(parents=True)
            out = tmp_path / name / kind / {"tiles": "t.xml", "print": "p.pdf", "sphere-page": "p.html"}[kind]
            done = run_command("deliver", picture, "--as", kind, "--out", out, *more)
            assert done.returncode == 0, done.stderr
            files = sorted(p for p in out.parent.rglob("*") if p.is_file())
            # the number that a PDF has of itself, and its times, are its own
            held = [_images_of(p) if kind == "print" else [p.read_bytes()] for p in files]
            made.append(([p.relative_to(out.parent) for p in files], held))
        assert made[0] == made[1], kind
    refused = run_command(
        "deliver", joined, "--as", "layers", "--out", tmp_path / "l.ora", "--scheduler", cluster.address
    )
    assert refused.returncode == 2
    assert "by this process alone" in refused.stderr


def _images_of(pdf: Path) -> list[bytes]:
    return [image.data for page in PdfReader(pdf).pages for image in page.images]


def test_work_of_a_lost_worker_is_done_again_and_without_a_scheduler_the_rest_is_done_here(cluster: Cluster):
    expected = [i * i for i in range(30)]
    with DaskRunner(cluster.address) as runner:
        runner._client.wait_for_workers(2, timeout=30)
        by: set[int] = set()
        made = []
        for value, who in runner.run(Slow(0.05), range(30)):
            made.append(value)
            by.add(who)
            if len(made) == 6:
                os.kill(cluster.workers[0].pid, signal.SIGKILL)
        assert made == expected
        assert os.getpid() not in by
        # a fault of the work itself comes out as it is
        with pytest.raises(InputError, match="part 3: Is damaged"):
            list(runner.run(Slow(0.0, fails_at=3), range(8)))
        made, by = [], set()
        for value, who in runner.run(Slow(0.05), range(30)):
            made.append(value)
            by.add(who)
            if len(made) == 6:
                cluster.scheduler.kill()
        assert made == expected
        assert os.getpid() in by
        assert [value for value, _who in runner.run(Slow(0.0), range(5))] == expected[:5]


def test_whoever_stops_reading_leaves_the_workers_free(cluster: Cluster, monkeypatch: pytest.MonkeyPatch):
    with DaskRunner(cluster.address) as runner:
        reading = runner.run(Slow(0.3), range(1000))
        next(reading)
        reading.close()
        start = time.monotonic()
        assert len(list(runner.run(Slow(0.0), range(4)))) == 4
        assert time.monotonic() - start < 20, "a thousand parts would take minutes"
        monkeypatch.setattr(dask_runner, "__version__", "9.9")
        with pytest.raises(InputError, match=r"runs other versions \(Idle Lantern .*here 9\.9"):
            DaskRunner(cluster.address)


def test_a_scheduler_that_cannot_be_had_is_told_in_a_sentence(
    row_set: FrameFiles, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
):
    monkeypatch.setattr(dask_runner, "_CONNECT_S", 1)
    out = tmp_path / "o.tif"
    words = ["join", *row_set.paths[:2], "--out", out, "--scheduler"]
    done = run_command(*words, "tcp://127.0.0.1:9")
    assert (done.returncode, "tcp://127.0.0.1:9: No scheduler answers" in done.stderr) == (2, True), done.stderr
    monkeypatch.setitem(sys.modules, "distributed", None)
    done = run_command(*words, "local")
    assert (done.returncode, "pip install 'idle-lantern[cluster]'" in done.stderr) == (2, True), done.stderr
    assert not out.exists()
    assert run_command(*words[:-1]).returncode == 0, "all else works without it"


def test_a_cluster_on_this_machine_gives_what_threads_give():
    with DaskRunner("local") as runner:
        squares = [value for value, _who in runner.run(Slow(0.0), range(9))]
    assert squares == [value for value, _who in ThreadRunner(1).run(Slow(0.0), range(9))]
