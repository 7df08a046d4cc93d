"""A watched folder: half-written files waited for, pairs as one shot, nothing twice, nothing lost, whatever the folder does."""

from __future__ import annotations

import os
import shutil
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pytest

from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.watching.folder import Arrival, WatchedFolder
from idle_lantern.simulator.raw_files import write_dng


@dataclass
class Clock:
    """A steady clock that a test turns."""

    s: float = 100.0

    def __call__(self) -> float:
        return self.s


def _jpeg(path: Path, seed: int) -> bytes:
    write(Picture(np.random.default_rng(seed).integers(0, 255, (80, 120, 3), dtype=np.uint8)), path, WriteOptions())
    return path.read_bytes()


def _after(watch: WatchedFolder, clock: Clock, seconds: float = 1.0, steps: int = 4) -> list[Arrival]:
    found = []
    for _ in range(steps):
        found += watch.step()
        clock.s += seconds / steps
    return found


@pytest.fixture
def clock() -> Clock:
    return Clock()


def test_a_file_is_taken_once_when_it_is_whole(tmp_path: Path, clock: Clock):
    watch = WatchedFolder(tmp_path, now=clock)
    data = _jpeg(tmp_path.parent / "whole.jpg", 1)
    target = tmp_path / "a.jpg"
    for part in range(1, 5):  # the camera writes slowly
        target.write_bytes(data[: len(data) * part // 5])
        os.utime(target, ns=(part, part))
        assert _after(watch, clock, 0.2, 2) == []
    assert _after(watch, clock) == [], "quiet, but its end is missing"
    target.write_bytes(data)
    (found,) = _after(watch, clock)
    assert (found.path, found.trouble, found.twin) == (target, "", None)
    assert len(found.sha256) == 64
    assert _after(watch, clock, 10) == []


def test_raw_and_jpeg_of_a_shot_are_one_whichever_comes_first(tmp_path: Path, clock: Clock):
    watch = WatchedFolder(tmp_path, now=clock)
    light = np.random.default_rng(2).uniform(0, 1, (80, 120, 3)).astype(np.float32)
    write_dng(tmp_path / "one.dng", light, Metadata())
    _jpeg(tmp_path / "one.jpg", 2)
    (found,) = _after(watch, clock)
    assert (found.path.name, found.twin) == ("one.dng", tmp_path / "one.jpg")
    # from now on a single file waits for its other half
    _jpeg(tmp_path / "two.jpg", 3)
    assert _after(watch, clock, 1.0) == []
    write_dng(tmp_path / "two.dng", light * 0.5, Metadata())
    (found,) = _after(watch, clock)
    assert (found.path.name, found.twin) == ("two.dng", tmp_path / "two.jpg")
    # and is taken alone where none comes
    _jpeg(tmp_path / "three.jpg", 4)
    (found,) = _after(watch, clock, 3.0, 8)
    assert (found.path.name, found.twin) == ("three.jpg", None)


def test_known_renamed_copied_and_foreign_files_are_not_taken_again(tmp_path: Path, clock: Clock):
    old = tmp_path / "old.jpg"
    _jpeg(old, 5)
    watch = WatchedFolder(tmp_path, [old], now=clock)
    assert _after(watch, clock) == []
    _jpeg(tmp_path / "new.jpg", 6)
    (tmp_path / "DCIM" / "100CARD").mkdir(parents=True)
    _jpeg(tmp_path / "DCIM" / "100CARD" / "deep.jpg", 7)
    assert sorted(a.path.name for a in _after(watch, clock)) == ["deep.jpg", "new.jpg"]
    (tmp_path / "new.jpg").rename(tmp_path / "renamed.jpg")
    shutil.copy(old, tmp_path / "copy of old.jpg")
    shutil.copy(tmp_path / "renamed.jpg", tmp_path / "copy of new.jpg")
    (tmp_path / "notes.txt").write_text("no picture")
    (tmp_path / ".half.jpg").write_bytes(b"\xff\xd8")
    assert _after(watch, clock, 8, 10) == []


def test_what_is_no_picture_is_told_once_in_a_sentence(tmp_path: Path, clock: Clock):
    watch = WatchedFolder(tmp_path, now=clock)
    (tmp_path / "bad.jpg").write_bytes(b"this is no picture at all" * 20)
    assert _after(watch, clock, 2) == [], "it may still be written"
    (found,) = _after(watch, clock, 8, 10)
    assert (found.path.name, found.sha256) == ("bad.jpg", "")
    assert 0 < len(found.trouble) < 200
    assert _after(watch, clock, 8, 10) == []


def test_a_folder_that_goes_away_is_told_and_nothing_is_lost(tmp_path: Path, clock: Clock):
    folder = tmp_path / "card"
    folder.mkdir()
    watch = WatchedFolder(folder, now=clock)
    _jpeg(folder / "a.jpg", 1)
    assert len(_after(watch, clock)) == 1
    folder.rename(tmp_path / "pulled out")
    assert _after(watch, clock) == []
    assert str(folder) in watch.trouble
    _jpeg(tmp_path / "pulled out" / "b.jpg", 2)
    (tmp_path / "pulled out").rename(folder)
    assert [a.path.name for a in _after(watch, clock)] == ["b.jpg"]
    assert watch.trouble == ""


def test_a_clock_that_is_set_and_two_thousand_files_lose_nothing(tmp_path: Path, clock: Clock):
    watch = WatchedFolder(tmp_path, now=clock)
    data = _jpeg(tmp_path.parent / "one.jpg", 1)
    taken: list[str] = []
    for batch in range(4):
        for k in range(50):
            path = tmp_path / f"f{batch:02d}{k:03d}.jpg"
            path.write_bytes(data + bytes([batch, k]) + b"\xff\xd9")
            os.utime(path, (10**9 * (3 - batch), 10**9 * (3 - batch)))  # the camera's clock runs backwards
        taken += [a.path.name for a in _after(watch, clock)]
    assert len(taken) == len(set(taken)) == 200
    assert watch._waiting == {}, "nothing is kept of what was handed on"
