"""Every test starts with user folders of its own and leaves no work running."""

from __future__ import annotations

import contextlib
import os
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from cachetools import LRUCache

# a process of the tests has one core to itself: more threads of the engine would only wait for each other (a tenth of the CPU)
if os.cpu_count() != 1:
    os.cpu_count = lambda: 1

if not os.environ.get("DISPLAY"):
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from idle_lantern.simulator.camera import ALL_CORES, SimulatedCamera
from idle_lantern.simulator.surfaces import Diorama, SurfaceView
from tests.helpers.sets import FrameFiles, fisheye_sphere, grid_with_distortion, row_of_eight

#: Views of the simulated place that several tests ask for are looked at once; so many bytes of them are kept.
_VIEWS_BYTES = 150_000_000


@pytest.fixture(scope="session", autouse=True)
def views_are_kept() -> Iterator[None]:
    """The same arguments always give the same view: it is not reckoned again for the next test."""
    plain = SimulatedCamera.view
    kept: LRUCache[Any, tuple[Any, SurfaceView]] = LRUCache(
        _VIEWS_BYTES, getsizeof=lambda entry: entry[1].light.nbytes + entry[1].distance_m.nbytes
    )
    lock = threading.Lock()

    def view(
        camera: SimulatedCamera,
        scene: Diorama,
        world_from_camera: Any,
        *,
        time_s: float = 0.0,
        threads: int = ALL_CORES,
    ) -> SurfaceView:
        turn = np.asarray(world_from_camera, float).tobytes()
        key = (id(scene), camera.lens, camera.pupil_m, turn, time_s)
        with lock:
            known = kept.get(key)
        if known is None:
            # the scene is kept beside its view, so that no other one gets its id
            known = scene, plain(camera, scene, world_from_camera, time_s=time_s, threads=1)
            for part in (known[1].light, known[1].distance_m):
                part.setflags(write=False)
            with lock, contextlib.suppress(ValueError):  # one that is larger than all the room
                kept[key] = known
        return known[1]

    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(SimulatedCamera, "view", view)
        yield


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
    """Workers end with the work that began them; Qt's own pool shows as dummy threads and is asked of the window,
    and Dask leaves threads that wait for nothing."""
    before = set(threading.enumerate())
    yield
    end = time.monotonic() + 5
    while left := [
        t
        for t in threading.enumerate()
        if t not in before and t.is_alive() and not t.name.startswith(("Dummy", "execnet", "IO loop", "Dask-"))
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
