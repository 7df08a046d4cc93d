"""The viewer of pictures of any size: what is on the screen is the picture, wherever and however large."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QImage, QWheelEvent
from pytestqt.qtbot import QtBot

from idle_lantern.app.widgets import tile_loader
from idle_lantern.app.widgets.picture_view import PictureView
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.pictures.source import HeldPicture


@pytest.fixture
def view(qtbot: QtBot) -> Iterator[PictureView]:
    """A viewer of its own."""
    v = PictureView()
    qtbot.addWidget(v)
    v.resize(601, 403)
    v.show()
    qtbot.waitExposed(v)
    yield v
    v.stop()


def _seen(view: PictureView) -> np.ndarray:
    image = view.grab().toImage().convertToFormat(QImage.Format.Format_RGB888)
    raw = image.constBits()
    assert raw is not None
    rows = np.frombuffer(raw.asarray(image.sizeInBytes()), np.uint8).reshape(image.height(), -1)
    return rows[:, : 3 * image.width()].reshape(image.height(), image.width(), 3).copy()


def test_no_line_shows_where_tiles_meet(qtbot: QtBot, view: PictureView):
    """The ground showed through between tiles wherever their border lay at half a pixel."""
    white = np.full((1500, 1900, 3), 255, np.uint8)
    view.set_source(HeldPicture(Picture(white)))
    qtbot.waitUntil(lambda: view.ready, timeout=10_000)
    view.show_full()
    rng = np.random.default_rng(1)
    for zoom in (1.0, 1.31, 0.77, 2.6):
        view.show_full()
        view.zoom_by(zoom)
        for place in ((760.0, 700.0), (800.5, 650.5), *rng.uniform(520, 980, (3, 2))):
            view.look_at(*place)
            qtbot.waitUntil(lambda: view.ready, timeout=10_000)
            assert _seen(view).min() == 255, (zoom, place)


def test_a_pixel_of_the_picture_is_one_of_the_screen_at_100_percent(qtbot: QtBot, view: PictureView):
    noise = np.random.default_rng(2).integers(0, 255, (1500, 1900, 3), dtype=np.uint8)
    view.set_source(HeldPicture(Picture(noise)))
    qtbot.waitUntil(lambda: view.ready, timeout=10_000)
    view.show_full()
    view.look_at(771.37, 803.61)
    qtbot.waitUntil(lambda: view.ready, timeout=10_000)
    seen = _seen(view)
    top_left = view.to_picture(QPointF(0, 0))
    near = [
        noise[round(top_left.y()) + dy :, round(top_left.x()) + dx :][: seen.shape[0], : seen.shape[1]]
        for dy in (-1, 0, 1)
        for dx in (-1, 0, 1)
    ]
    assert min(int(np.abs(seen.astype(int) - part).max()) for part in near) == 0


def test_a_picture_that_moves_is_drawn_quickly_and_smoothly_once_it_rests(
    qtbot: QtBot, view: PictureView, monkeypatch: pytest.MonkeyPatch
):
    """With a smooth scaling at each step of the wheel paints of a large picture took 40 to 380 ms."""
    rng = np.random.default_rng(3)
    view.set_source(HeldPicture(Picture(rng.integers(0, 255, (2400, 3600, 3), dtype=np.uint8))))
    qtbot.waitUntil(lambda: view.ready, timeout=10_000)
    drawn: list[bool] = []
    paint = view.tiles.paint
    monkeypatch.setattr(
        view.tiles, "paint", lambda *a, moving, **k: (drawn.append(moving), paint(*a, moving=moving, **k))[1]
    )
    qtbot.wait(200)
    drawn.clear()
    before = view.zoom
    middle = view.rect().center().toPointF()
    none, plain = Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier
    view.wheelEvent(
        QWheelEvent(middle, middle, QPoint(), QPoint(0, 120), none, plain, Qt.ScrollPhase.NoScrollPhase, False)
    )
    assert view.zoom > before
    view.repaint()
    assert drawn[-1] is True
    qtbot.waitUntil(lambda: drawn[-1] is False, timeout=5000)


def test_tiles_of_a_picture_that_is_gone_are_not_kept(qtbot: QtBot, view: PictureView):
    """They filled the cache of all views until others pushed them out: a window that is open all day held them for nothing."""
    noise = np.random.default_rng(3).integers(0, 255, (1500, 1900, 3), dtype=np.uint8)
    view.set_source(HeldPicture(Picture(noise)))
    qtbot.waitUntil(lambda: view.ready, timeout=10_000)
    view.show_full()
    qtbot.waitUntil(lambda: view.ready, timeout=10_000)
    serial = view.tiles.serial
    assert any(key[0] == serial for key in tile_loader._cache)
    view.set_source(HeldPicture(Picture(noise[::2])))
    qtbot.waitUntil(lambda: view.ready, timeout=10_000)
    assert not any(key[0] == serial for key in tile_loader._cache)
    view.stop()
    assert not any(key[0] in (serial, view.tiles.serial) for key in tile_loader._cache)
