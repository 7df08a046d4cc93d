"""A watched folder: half-written files waited for, pairs as one shot, nothing twice, nothing lost, whatever the folder does."""

from __future__ import annotations

import os
import shutil
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pillow_heif
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


def test_the_files_of_a_shot_are_one_whichever_comes_first(tmp_path: Path, clock: Clock):
    watch = WatchedFolder(tmp_path, now=clock)
    light = np.random.default_rng(2).uniform(0, 1, (80, 120, 3)).astype(np.float32)
    write_dng(tmp_path / "one.dng", light, Metadata())
    _jpeg(tmp_path / "one.jpg", 2)
    (found,) = _after(watch, clock)
    assert (found.path.name, found.twin) == ("one.dng", tmp_path / "one.jpg")
    # a third file of it is no frame of its own, also where it comes late
    small = np.random.default_rng(3).integers(0, 255, (80, 120, 3), dtype=np.uint8)
    pillow_heif.from_bytes("RGB", (120, 80), small.tobytes()).save(tmp_path / "one.heic")
    assert _after(watch, clock, 8, 10) == []
    _jpeg(tmp_path / "one.jpg", 9)  # another picture under a name that was taken
    assert [a.path.name for a in _after(watch, clock, 8, 10)] == ["one.jpg"]
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


def test_slow_stalled_made_room_for_and_rewritten_files_come_once_when_they_are_whole(tmp_path: Path, clock: Clock):
    """As full disks and slow networks write: with pauses, into room made before, under another name first, or once more."""
    watch = WatchedFolder(tmp_path, now=clock)
    made = [
        _picture_bytes(tmp_path.parent, ending, k)
        for k, ending in enumerate((".jpg", ".png", ".tif", ".dng", ".heic") * 2)
    ]
    came: list[Arrival] = []

    def wait(seconds: float) -> None:
        nonlocal came
        came += [a for a in _after(watch, clock, seconds, 8) if not a.trouble]

    for k, (ending, data) in enumerate(made):
        slow, room = tmp_path / f"slow{k}{ending}", tmp_path / f"room{k}{ending}"
        slow.write_bytes(data[: len(data) * 9 // 10])
        room.write_bytes(data[: len(data) // 2] + bytes(len(data) - len(data) // 2))
        wait(8)  # longer than what is told as unusable
        assert not {slow, room} & {a.path for a in came}, ending
        slow.write_bytes(data)
        room.write_bytes(data)
        wait(3)
        renamed = tmp_path / f"renamed{k}{ending}"
        (tmp_path / f"renamed{k}.part").write_bytes(_picture_bytes(tmp_path.parent, ending, 1000 + k)[1])
        (tmp_path / f"renamed{k}.part").rename(renamed)
        wait(3)
    assert [a.path.name[:4] for a in came].count("rena") == len(made)
    # both hold the same picture: it comes once, whichever was whole first
    assert sum(a.path.name.startswith(("slow", "room")) for a in came) == len(made)
    first = tmp_path / "renamed0.jpg"
    _jpeg(first, 99)
    wait(3)
    assert [a.path for a in came].count(first) == 2, "the same name with another picture"
    assert _after(watch, clock, 100) == []


def _picture_bytes(folder: Path, ending: str, seed: int) -> tuple[str, bytes]:
    path = folder / f"made{seed}{ending}"
    pixels = np.random.default_rng(seed).integers(0, 255, (160, 240, 3), dtype=np.uint8)
    if ending == ".dng":
        write_dng(path, (pixels / 255.0).astype(np.float32), Metadata())
    elif ending == ".heic":
        pillow_heif.from_bytes("RGB", (240, 160), pixels.tobytes()).save(path, quality=90)
    else:
        write(Picture(pixels), path, WriteOptions())
    return ending, path.read_bytes()


def test_a_folder_that_may_not_be_read_stops_no_other(tmp_path: Path, clock: Clock, monkeypatch: pytest.MonkeyPatch):
    locked = tmp_path / "locked"
    locked.mkdir()
    scandir = os.scandir

    def guarded(path: Path) -> Any:
        if Path(path) == locked:
            raise PermissionError(13, "Permission denied")
        return scandir(path)

    monkeypatch.setattr(os, "scandir", guarded)
    watch = WatchedFolder(tmp_path, now=clock)
    _jpeg(tmp_path / "a.jpg", 1)
    assert [a.path.name for a in _after(watch, clock)] == ["a.jpg"]
    assert (watch.away, watch.trouble) == (False, f"{locked} cannot be looked at (Permission denied); the others are.")
