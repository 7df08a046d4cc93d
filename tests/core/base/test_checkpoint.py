"""Joins that are killed go on where they ended, and end the same."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
import tifffile
from PIL import Image
from tests.helpers.commands import run_command
from tests.helpers.reports import report_of
from tests.helpers.sets import FrameFiles

from idle_lantern.core.base import checkpoint as checkpoint_module
from idle_lantern.core.base import fingerprint
from idle_lantern.core.base.checkpoint import TileJournal, checkpointed
from idle_lantern.core.base.errors import JoinError
from idle_lantern.core.base.progress import Silent
from idle_lantern.core.frames.frameset import gather
from idle_lantern.core.join.pipeline import join
from idle_lantern.core.registration.solve import solve as solve_module
from idle_lantern.core.request.keys import solving_key
from idle_lantern.core.request.options import JoinOptions


class _Killed(BaseException):
    """Nothing in the program expects it, as nothing expects a kill."""


class _KilledAfter(Silent):
    """Progress that ends the run after so many steps."""

    def __init__(self, steps: int) -> None:
        self.left, self.stages = steps, []

    def begin(self, stage: str, total: int) -> None:
        self.stages.append(stage)

    def advance(self, n: int = 1) -> None:
        self.left -= 1
        if self.left < 0:
            raise _Killed


@pytest.mark.parametrize("ending", [".tif"])
def test_random_kills_and_the_same_picture(row_set: FrameFiles, tmp_path: Path, ending: str):
    options = JoinOptions(width_px=2600)
    frames = gather(row_set.paths[:4])
    undisturbed, target, root = tmp_path / f"a{ending}", tmp_path / f"b{ending}", tmp_path / "left"
    solution, joined = join(frames, undisturbed, options)
    key = solving_key(frames, options, None)
    rng = np.random.default_rng(7)
    kills = finished = 0
    while kills < 4:
        try:
            with checkpointed(root, key) as checkpoint:
                progress = _KilledAfter(int(rng.integers(1, 12 if kills < 3 else 40)))
                again = join(frames, target, options, progress=progress, checkpoint=checkpoint)
            # came through before the last kill: the same, and once more from the start
            assert target.read_bytes() == undisturbed.read_bytes()
            target.unlink()
            finished += 1
        except _Killed:
            kills += 1
            assert not target.exists()
    with checkpointed(root, key) as checkpoint:  # the last run is left alone
        again = join(frames, target, options, checkpoint=checkpoint)
    assert finished <= 4, "nearly every run was killed"
    assert target.read_bytes() == undisturbed.read_bytes()
    one, other = report_of(solution, joined), report_of(*again)
    for report in (one, other):
        for changing in ("timings_s", "peak_rss_mib"):
            del report[changing]
    assert one == other
    assert list(root.iterdir()) == [], "nothing is left once the picture stands"
    assert sorted(p.name for p in tmp_path.iterdir() if p.name.startswith(".")) == []


def test_finished_stages_are_not_done_again(row_set: FrameFiles, tmp_path: Path):
    frames, options = gather(row_set.paths[:2]), JoinOptions(width_px=2000)
    key = solving_key(frames, options, None)
    whole = _KilledAfter(10**6)
    join(frames, tmp_path / "o.tif", options, progress=whole)
    steps = 10**6 - whole.left
    with pytest.raises(_Killed), checkpointed(tmp_path / "left", key) as checkpoint:
        join(frames, tmp_path / "o.tif", options, progress=_KilledAfter(steps - 2), checkpoint=checkpoint)
    second = _KilledAfter(10**6)
    with checkpointed(tmp_path / "left", key) as checkpoint:
        join(frames, tmp_path / "o.tif", options, progress=second, checkpoint=checkpoint)
    assert "features" in whole.stages
    assert "features" not in second.stages
    assert "match" not in second.stages
    with pytest.raises(_Killed), checkpointed(tmp_path / "left", key) as checkpoint:
        join(frames, tmp_path / "o.tif", options, progress=_KilledAfter(steps - 2), checkpoint=checkpoint)
    fresh = _KilledAfter(10**6)
    with checkpointed(tmp_path / "left", key, fresh=True) as checkpoint:
        join(frames, tmp_path / "o.tif", options, progress=fresh, checkpoint=checkpoint)
    assert "features" in fresh.stages


def test_the_command_killed_outright_goes_on(row_set: FrameFiles, tmp_path: Path):
    """SIGKILL at random moments, as when the power goes; the same command again ends with the same picture."""
    out, undisturbed = tmp_path / "o.jpg", tmp_path / "u.jpg"
    command = [sys.executable, "-m", "idle_lantern.cli.main", "join", *map(str, row_set.paths[:3]), "--width", "2400"]
    start = time.monotonic()
    subprocess.run([*command, "--out", str(undisturbed), "--fresh"], check=True, capture_output=True)
    usual = time.monotonic() - start
    rng = np.random.default_rng(3)
    for _ in range(2):
        running = subprocess.Popen([*command, "--out", str(out)], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        time.sleep(float(rng.uniform(0.3, 0.8)) * usual)
        os.kill(running.pid, signal.SIGKILL)
        running.wait()
        if out.exists():
            break
    subprocess.run([*command, "--out", str(out)], check=True, capture_output=True)
    assert out.read_bytes() == undisturbed.read_bytes()
    with Image.open(out) as image:
        assert image.width == 2400
    assert [p.name for p in tmp_path.iterdir() if p.name.startswith(".")] == [], "half-written files are removed"


def test_changed_frames_or_settings_are_another_join(row_set: FrameFiles, tmp_path: Path):
    paths = []
    for path in row_set.paths[:2]:
        paths.append(tmp_path / path.name)
        paths[-1].write_bytes(path.read_bytes())
    frames = gather(paths)
    first = solving_key(frames, JoinOptions(), None)
    assert solving_key(gather(paths), JoinOptions(), None) == first
    assert solving_key(frames, JoinOptions(seed=2), None) != first
    assert solving_key(frames, JoinOptions(), [np.eye(3), None]) != first
    os.utime(paths[0], (1, 1))
    assert solving_key(gather(paths), JoinOptions(), None) == first, "what a file holds counts, not its time"
    paths[0].write_bytes(paths[0].read_bytes() + b"\0")
    assert solving_key(gather(paths), JoinOptions(), None) != first


def test_changed_code_takes_up_nothing_of_the_old(row_set: FrameFiles, tmp_path: Path, monkeypatch: pytest.MonkeyPatch):
    """The key was the version number: whoever changed the code loaded what the old code had reckoned."""
    frames = gather(row_set.paths[:2])
    first = solving_key(frames, JoinOptions(), None)
    with monkeypatch.context() as other:
        other.setattr(checkpoint_module, "code_fingerprint", lambda: "other code")
        assert solving_key(frames, JoinOptions(), None) != first
    with monkeypatch.context() as other:
        other.setattr(checkpoint_module, "SCHEMA", checkpoint_module.SCHEMA + 1)
        assert solving_key(frames, JoinOptions(), None) != first
    core = tmp_path / "core"
    for name in ("join/checkpoint.py", "base/a.py"):
        (core / name).parent.mkdir(parents=True, exist_ok=True)
        (core / name).write_text("x = 1\n")
    with monkeypatch.context() as other:
        other.setattr(fingerprint, "__file__", str(core / "base" / "fingerprint.py"))
        one = fingerprint.code_fingerprint.__wrapped__()
        (core / "base" / "a.py").write_text("x = 2\n")
        assert fingerprint.code_fingerprint.__wrapped__() != one


def test_pieces_cut_short_or_damaged_are_dropped(tmp_path: Path):
    path = tmp_path / "p.pieces"
    pieces = TileJournal(path)
    for data in (b"one", b"", b"three" * 100):
        pieces.append(data)
    pieces.close()
    whole = path.read_bytes()
    path.write_bytes(whole[:-1])
    again = TileJournal(path)
    assert [again[i] for i in range(len(again))] == [b"one", b""]
    again.append(b"three" * 100)
    again.close()
    assert path.read_bytes() == whole
    path.write_bytes(whole[:14] + b"X" + whole[15:])
    damaged = TileJournal(path)
    assert len(damaged) == 0
    damaged.close()
    nowhere = TileJournal(tmp_path / "no" / "p.pieces")
    nowhere.append(b"lost")
    assert len(nowhere) == 0


def test_two_runs_of_one_join_do_not_share_leftovers(tmp_path: Path):
    with checkpointed(tmp_path, "k") as first:
        first.save("solution", 1)
        with checkpointed(tmp_path, "k") as second:
            second.save("solution", 2)
            assert second.load("solution") is None
        assert first.load("solution") == 1
    assert not (tmp_path / "k").exists()
    with checkpointed(None, "k") as nothing:
        nothing.save("solution", 1)
        assert nothing.load("solution") is None


def test_damaged_and_old_leftovers_do_no_harm(tmp_path: Path):
    root = tmp_path / "left"
    for i in range(8):
        folder = root / f"old{i}"
        folder.mkdir(parents=True)
        os.utime(folder, (i + 1, i + 1))
    with checkpointed(root, "k") as checkpoint:
        (root / "k" / "solution.pickle").write_bytes(b"not a pickle")
        assert checkpoint.load("solution") is None
        assert [p.name for p in root.iterdir()] == ["k"]


def _levels(path: Path) -> list[np.ndarray]:
    with tifffile.TiffFile(path) as tiff:
        return [level.asarray() for level in tiff.series[0].levels]


def test_a_picture_resumed_is_a_sound_pyramid(row_set: FrameFiles, tmp_path: Path):
    frames, options, target = gather(row_set.paths[:3]), JoinOptions(width_px=3000), tmp_path / "o.tif"
    key = solving_key(frames, options, None)
    counted = _KilledAfter(10**6)
    join(frames, target, options, progress=counted)
    whole = _levels(target)
    target.unlink()
    with pytest.raises(_Killed), checkpointed(tmp_path / "left", key) as checkpoint:
        join(frames, target, options, progress=_KilledAfter(10**6 - counted.left - 4), checkpoint=checkpoint)
    with checkpointed(tmp_path / "left", key) as checkpoint:
        join(frames, target, options, checkpoint=checkpoint)
    levels = _levels(target)
    assert len(levels) == len(whole) > 1
    for one, other in zip(levels, whole):
        np.testing.assert_array_equal(one, other)


def test_another_projection_is_not_solved_again(row_set: FrameFiles, tmp_path: Path, monkeypatch: pytest.MonkeyPatch):
    """It cost as much as the first join. What solves anew is another frame set, other choices of solving, or --fresh."""
    frames = row_set.paths[:3]

    def joined(name: str, *more: str) -> int:
        return run_command("join", *frames, "--width", "800", "--out", tmp_path / f"{name}.png", *more).returncode

    assert joined("a", "--projection", "cylindrical") == 0

    def nothing(*_args: object) -> None:
        raise JoinError("It was solved again")

    monkeypatch.setattr(solve_module, "detect_and_match", nothing)
    assert joined("b", "--projection", "rectilinear") == 0
    assert joined("c", "--projection", "cylindrical") == 0
    assert (tmp_path / "a.png").read_bytes() == (tmp_path / "c.png").read_bytes()
    assert (tmp_path / "a.png").read_bytes() != (tmp_path / "b.png").read_bytes()
    assert joined("d", "--level", "none") == 3
    assert joined("e", "--fresh") == 3
