"""Colours on the screen: wide-gamut frames in the window against LittleCMS, whatever the screen, the development or the pick."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtWidgets import QFileDialog
from pytestqt.qtbot import QtBot
from tests.helpers.colours import WIDE_ICC, WIDE_POWER, by_littlecms

from idle_lantern.app import display, settings
from idle_lantern.app.widgets.tables import pixels_of
from idle_lantern.app.window import Window
from idle_lantern.core.colour.profiles import profile_of
from idle_lantern.core.colour.space import DISPLAY_P3, SRGB
from idle_lantern.core.outing import edits

Settled = Callable[[Window], None]
#: Flat fields of the frame: within every gamut, so that no two ways of clipping meet; the first is a grey under warm light.
FIELDS = np.array([[150, 128, 96], [128, 128, 128], [90, 120, 70], [200, 190, 180]], np.uint8)
_SIDE = 150


@pytest.fixture
def wide(qtbot: QtBot, window: Window, settled: Settled, tmp_path: Path):
    """The window at 100 % on a frame of a wide gamut, and back to a screen of sRGB in the end."""
    pixels = np.repeat(FIELDS, _SIDE, 0)[None].repeat(2 * _SIDE, 0)
    Image.fromarray(pixels).save(tmp_path / "wide.tif", icc_profile=WIDE_ICC)
    window.frames_stage.bringing.bring([tmp_path / "wide.tif"])
    settled(window)
    window.go("frames")
    window.state.select(None, window.state.outing.frames[0].id)
    qtbot.waitUntil(lambda: window.frames_stage.view.source is not None, timeout=5000)
    window.frames_stage.view.show_full()
    yield window
    display.use_profile("")


def _shown(qtbot: QtBot, window: Window) -> np.ndarray:
    """What the window has on the screen in the middle of every field that is in sight; -1 where it is not."""
    view = window.frames_stage.view
    view.grab()
    qtbot.waitUntil(lambda: view.ready, timeout=5000)
    seen = pixels_of(window.grab().toImage()).astype(int)
    found = np.full((len(FIELDS), 3), -1)
    for i in range(len(FIELDS)):
        place = view.to_widget(QPointF((i + 0.5) * _SIDE, _SIDE / 2)).toPoint()
        if view.rect().contains(place):
            at = view.mapTo(window, place)
            found[i] = seen[at.y(), at.x()]
    assert (found >= 0).all(), "every field is in sight"
    return found


def _expected(pixels: np.ndarray, target: bytes) -> np.ndarray:
    return by_littlecms(pixels[None], WIDE_ICC, target)[0].astype(int)


def test_a_wide_gamut_frame_is_on_the_screen_as_littlecms_has_it(
    qtbot: QtBot, wide: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
):
    """Within a level, for a screen of sRGB and for one whose profile is told; that is kept for the next start."""
    expected = _expected(FIELDS, profile_of(SRGB))
    assert np.abs(expected - FIELDS).max() > 8, "another space"
    assert np.abs(_shown(qtbot, wide) - expected).max() <= 1
    told = tmp_path / "screen.icc"
    told.write_bytes(profile_of(DISPLAY_P3))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_a, **_k: (str(told), ""))
    wide.trigger("look.profile")
    assert "P3" in wide.message_text()
    assert np.abs(_shown(qtbot, wide) - _expected(FIELDS, told.read_bytes())).max() <= 1
    assert wide.context.settings.screen_profile == str(told)
    settings.save(wide.context.settings)
    assert settings.load().screen_profile == str(told)
    # a file that is no profile is told, and nothing changes
    told.with_name("none.icc").write_text("no profile")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_a, **_k: (str(told.with_name("none.icc")), ""))
    wide.trigger("look.profile")
    assert "profile" in wide.message_text()
    assert wide.context.settings.screen_profile == str(told)
    wide.trigger("look.srgb")
    assert np.abs(_shown(qtbot, wide) - expected).max() <= 1
    assert wide.context.settings.screen_profile == ""


def test_a_development_is_shown_in_the_colours_of_the_frame(qtbot: QtBot, wide: Window):
    """Its light is reckoned there, as the join does it: twice the light is so in linear light of the frame's own space."""
    wide.state.apply(edits.develop("Darker", exposure_ev=-1.0, white_balance=(1.2, 1.0, 0.8)))
    light = (FIELDS / 255.0) ** WIDE_POWER * 0.5 * [1.2, 1.0, 0.8]
    expected = _expected(np.rint(255 * light ** (1 / WIDE_POWER)).astype(np.uint8), profile_of(SRGB))
    assert np.abs(_shown(qtbot, wide) - expected).max() <= 2


def test_a_grey_picked_in_a_wide_gamut_is_grey(qtbot: QtBot, wide: Window):
    """The gains make the frame's own values equal, not those of the screen."""
    _shown(qtbot, wide)
    view = wide.frames_stage.view
    wide.trigger("frames.grey")
    qtbot.mouseClick(view, Qt.MouseButton.LeftButton, pos=view.to_widget(QPointF(_SIDE / 2, _SIDE / 2)).toPoint())
    light = (FIELDS[0] / 255.0) ** WIDE_POWER * np.array(wide.state.outing.choices.development.white_balance)
    assert np.ptp(light) < 0.005 * light.mean()
    assert np.ptp(_shown(qtbot, wide)[0]) <= 1
