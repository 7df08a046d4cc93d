"""A real window for each test, closed and quiet afterwards."""

from __future__ import annotations

import gc
import shutil
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

import pytest
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot
from tests.helpers.sets import FrameFiles

from idle_lantern.app import settings as settings_module
from idle_lantern.app import theme
from idle_lantern.app.main import make_application
from idle_lantern.app.settings import Settings
from idle_lantern.app.widgets.picture_view import PictureView
from idle_lantern.app.window import Window
from idle_lantern.core.outing import edits

JoinOnce = Callable[[str, Callable[[Path], Sequence[Path]]], Window]

#: A camera with few pixels: shots take a third of a second.
SMALL = {"width_px": 600, "height_px": 400}


@pytest.fixture(scope="session", autouse=True)
def application():
    """The one application with typeface and look."""
    app = make_application()
    theme.apply(app, "dark")
    # what is loaded by now stays: each test collects what its window leaves
    gc.freeze()
    return app


@pytest.fixture(autouse=True)
def no_window_is_left_open() -> Iterator[None]:
    """Every window is closed when a test ends; pytest-qt has closed those it was given before this is asked."""
    yield
    left = [w for w in QApplication.topLevelWidgets() if w.isVisible()]
    assert not left, f"still open: {left}"


@pytest.fixture
def window(qtbot: QtBot) -> Iterator[Window]:
    """A window with a new, empty outing taken with a small camera."""
    if (theme.look().name, theme.scaled(100)) != ("dark", 100):  # what a test before left
        theme.apply(make_application(), "dark")
    w = Window(Settings(quick=True))
    qtbot.addWidget(w, before_close_func=lambda x: x.tasks.cancel_all())
    w.resize(1280, 800)
    w.show()
    w.activateWindow()
    qtbot.waitExposed(w)
    qtbot.waitUntil(w.isActiveWindow, timeout=5000)
    w.outings.begin("Test outing", "simulated")
    w.state.apply(edits.set_rig("Small camera", **SMALL))
    w.state.history = type(w.state.history)()
    yield w
    w.tasks.cancel_all()
    for view in w.findChildren(PictureView):
        view.stop()
    gc.collect()


@pytest.fixture
def settled(qtbot: QtBot) -> Callable[[Window], None]:
    """Wait until no work runs."""

    def wait(w: Window) -> None:
        while True:  # what ends may begin something else
            qtbot.waitUntil(lambda: w.tasks.idle and w.plan_stage.judged, timeout=120_000)
            qtbot.wait(20)
            if w.tasks.idle and w.plan_stage.judged:
                break

    return wait


@pytest.fixture(scope="session")
def kept_outings(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Where outings lie that were joined once for several tests."""
    return tmp_path_factory.mktemp("joined")


@pytest.fixture
def join_once(window: Window, settled: Callable, kept_outings: Path) -> JoinOnce:
    """The window with an outing of some name, whose files were brought in and joined for the first test that asks for it."""

    def opened(name: str, files: Callable[[Path], Sequence[Path]]) -> Window:
        kept, source = kept_outings / name, kept_outings / f"{name} files"
        if not kept.exists():
            source.mkdir()
            window.frames_stage.bringing.bring(list(files(source)))
            settled(window)
            window.go("join")
            window.join_stage.run_join()
            settled(window)
            window.state.save_now()
            shutil.copytree(window.state.folder, kept, ignore=shutil.ignore_patterns(".*"))
        own = shutil.copytree(kept, settings_module.outings_folder() / name)
        assert window.open_outing(own)
        window.go("join")
        settled(window)
        assert window.state.joined is not None
        return window

    return opened


@pytest.fixture
def joined(join_once: JoinOnce, row_set: FrameFiles) -> Window:
    """Three frames brought in and joined."""
    return join_once("Joined row", lambda _folder: row_set.paths[:3])


@pytest.fixture
def outing_root() -> Path:
    """Where the window keeps outings."""
    return settings_module.outings_folder()


@pytest.fixture
def finishing(joined: Window, settled: Callable[[Window], None], qtbot: QtBot) -> Window:
    """Three frames joined, and the picture being finished."""
    joined.go("finish")
    settled(joined)
    qtbot.waitUntil(lambda: joined.finish_stage.view.ready, timeout=20_000)
    return joined
