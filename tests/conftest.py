"""Every test starts with user folders of its own and leaves no work running."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

if not os.environ.get("DISPLAY"):
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from tests.helpers.sets import FrameFiles, fisheye_sphere, grid_with_distortion, row_of_eight


@pytest.fixture(autouse=True)
def own_user_folders(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """Settings, outings and logs of a test never touch the person's own."""
    root = tmp_path / "user"
    for name, folder in (
        ("XDG_CONFIG_HOME", "config"),
        ("XDG_DATA_HOME", "data"),
        ("XDG_STATE_HOME", "state"),
        ("XDG_CACHE_HOME", "cache"),
    ):
        (root / folder).mkdir(parents=True)
        monkeypatch.setenv(name, str(root / folder))
    return root


@pytest.fixture(autouse=True)
def no_thread_is_left_running() -> Iterator[None]:
    """Workers end with the work that began them; Qt's own pool shows as dummy threads and is asked of the window."""
    before = set(threading.enumerate())
    yield
    end = time.monotonic() + 5
    while left := [
        t
        for t in threading.enumerate()
        if t not in before and t.is_alive() and not t.name.startswith(("Dummy", "execnet"))
    ]:
        assert time.monotonic() < end, f"still running: {[t.name for t in left]}"
        time.sleep(0.01)


@pytest.fixture(scope="session")
def row_set(tmp_path_factory: pytest.TempPathFactory) -> FrameFiles:
    """Eight upright frames in one row, with metadata."""
    return row_of_eight(tmp_path_factory.mktemp("row"))


@pytest.fixture(scope="session")
def grid_set(tmp_path_factory: pytest.TempPathFactory) -> FrameFiles:
    """Two rows of four with barrel distortion."""
    return grid_with_distortion(tmp_path_factory.mktemp("grid"))


@pytest.fixture(scope="session")
def sphere_set(tmp_path_factory: pytest.TempPathFactory) -> FrameFiles:
    """A full sphere of fisheye frames: six round, zenith, nadir."""
    return fisheye_sphere(tmp_path_factory.mktemp("sphere"))
