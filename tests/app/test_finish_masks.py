"""Where a step of Finish works: painted, drawn, found, and kept, through the real window."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from pytestqt.qtbot import QtBot
from tests.helpers.finishing import drag, field, pixels, steps

from idle_lantern.app.stages import finish_edits
from idle_lantern.app.window import Window
from idle_lantern.core.finish.masks import Brush, Directions, Gradient, Not, Picture, Round, Sky
from idle_lantern.core.outing import document

_PAINTING = """
import sys, time
from pathlib import Path
from PyQt6.QtWidgets import QApplication
from idle_lantern.app.main import make_application
from idle_lantern.app.settings import Settings
from idle_lantern.app.window import Window
app = make_application()
w = Window(Settings(quick=True))
w.show()
w.open_outing(Path(sys.argv[1]))
def until(true):
    while not true():
        app.processEvents()
        time.sleep(0.01)
until(lambda: w.state.joined is not None and w.tasks.idle)
w.go("finish")
w.finish_stage.panel.add_step("exposure")
width, height = w.state.picture.sizes[0]
for k in range(1000):
    x = width * (0.1 + 0.0008 * k)
    w.finish_stage.hands._paint([(x, height / 2), (x + 9, height / 2 + 5)], 12.0, rubs=False)
    app.processEvents()
    print(k + 1, flush=True)
    time.sleep(0.02)
"""


def test_painted_parts_alone_change_and_are_rubbed_out_again(finishing: Window, qtbot: QtBot):
    w = finishing
    before = pixels(w)
    w.finish_stage.panel.add_step("exposure")
    w.finish_stage.panel._take(w.finish_stage.panel._rows[0].row, 2.0)
    qtbot.keyClick(w, Qt.Key.Key_P)
    assert w.finish_stage.hands.held == "paint"
    drag(qtbot, w, (0.45, 0.5), (0.5, 0.5), (0.55, 0.52))
    mask = steps(w)[0].mask
    assert isinstance(mask, Brush)
    assert len(mask.strokes) == 1
    changed = np.abs(pixels(w) - before).max(-1) > 2
    share, painted = changed.mean(), np.abs(pixels(w) - before).mean()
    assert 0.0005 < share < 0.1
    columns = np.flatnonzero(changed.any(0))
    assert columns.min() > 0.3 * before.shape[1]
    assert columns.max() < 0.7 * before.shape[1]
    qtbot.keyClick(w.finish_stage.view, Qt.Key.Key_Escape)
    assert w.finish_stage.hands.held == ""
    qtbot.keyClick(w, Qt.Key.Key_E)
    # the same line, and a little beyond its ends
    drag(qtbot, w, (0.42, 0.5), (0.45, 0.5), (0.5, 0.5), (0.55, 0.52), (0.58, 0.53))
    assert np.abs(pixels(w) - before).mean() < painted / 4
    w.trigger("edit.undo")
    assert (np.abs(pixels(w) - before).max(-1) > 2).mean() == pytest.approx(share)


def test_a_gradient_and_a_round_part_are_drawn_and_set_by_number(finishing: Window, qtbot: QtBot):
    w, panel = finishing, finishing.finish_stage.panel
    panel.add_step("exposure")
    panel._take(panel._rows[0].row, -2.0)
    qtbot.keyClick(w, Qt.Key.Key_L)
    drag(qtbot, w, (0.5, 0.6), (0.5, 0.4))
    mask = steps(w)[0].mask
    assert isinstance(mask, Gradient)
    assert mask.end_deg[1] > mask.begin_deg[1]
    assert panel.where.currentText() == "a gradient"
    field(w, "mask begin_deg 1").setFocus()
    field(w, "mask begin_deg 1").selectAll()
    qtbot.keyClicks(field(w, "mask begin_deg 1"), "-3")
    qtbot.keyClick(field(w, "mask begin_deg 1"), Qt.Key.Key_Return)
    assert steps(w)[0].mask.begin_deg[1] == -3
    qtbot.keyClick(w, Qt.Key.Key_R)
    drag(qtbot, w, (0.5, 0.5), (0.55, 0.5))
    assert isinstance(steps(w)[0].mask, Round)
    panel.elsewhere.click()
    assert isinstance(steps(w)[0].mask, Not)
    assert panel.elsewhere.isChecked()
    before = pixels(w)
    qtbot.keyClick(w, Qt.Key.Key_M)
    assert (pixels(w) != before).any()
    qtbot.keyClick(w, Qt.Key.Key_M)
    assert (pixels(w) == before).all()
    panel._choose_mask("directions")
    assert isinstance(steps(w)[0].mask, Directions)
    assert not panel.elsewhere.isChecked()
    panel._choose_mask("")
    assert steps(w)[0].mask is None


def test_the_sky_is_found_by_itself(finishing: Window, qtbot: QtBot, settled: Callable[[Window], None]):
    w, panel = finishing, finishing.finish_stage.panel
    before = pixels(w)
    panel.add_step("exposure")
    panel._take(panel._rows[0].row, -1.0)
    panel._choose_mask("sky")
    settled(w)
    assert isinstance(steps(w)[0].mask, Sky)
    assert panel.where.currentText() == "the sky"
    darker = (before - pixels(w)).max(-1)
    high, low = darker[: len(darker) // 6], darker[-len(darker) // 3 :]
    assert (high > 20).mean() > 0.5
    assert (low > 2).mean() < 0.05


def test_what_was_painted_outlives_a_kill_in_the_middle_of_it(joined: Window, tmp_path: Path):
    """Killed while strokes come: the document is whole, and what was painted a moment before is in it."""
    own = tmp_path / "Painted"
    shutil.copytree(joined.state.folder, own, ignore=shutil.ignore_patterns(".*"))
    script = tmp_path / "painting.py"
    script.write_text(_PAINTING)
    painter = subprocess.Popen(
        [sys.executable, str(script), str(own)],
        env={**os.environ, "QT_QPA_PLATFORM": "offscreen"},
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        text=True,
    )
    assert painter.stdout is not None
    painted, begun = 0, time.monotonic()
    for line in painter.stdout:
        painted = int(line)
        if painted >= 120:
            break
        assert time.monotonic() - begun < 120
    painter.kill()
    painter.wait()
    painter.stdout.close()
    (step,) = document.load(own).finish.steps
    assert isinstance(step.mask, Brush)
    assert 0 < len(step.mask.strokes) <= painted + 5
    assert len(step.mask.strokes) > 0.3 * painted
    assert joined.open_outing(own)
    assert joined.state.outing.finish.steps == (step,)


def test_a_mask_whose_picture_is_gone_is_told_and_the_rest_goes_on(
    finishing: Window, qtbot: QtBot, settled: Callable[[Window], None]
):
    w, stage = finishing, finishing.finish_stage
    stage.panel.add_step("exposure")
    gone = Picture(asset="a" * 64)
    said: list[str] = []
    w.state.message.connect(lambda text, _problem: said.append(text))
    w.state.apply(finish_edits.step_replaced("Mask", 0, type(steps(w)[0])(ev=1.0, mask=gone)))
    settled(w)
    assert any("a" * 20 in text for text in said)
    assert w.state.outing.finish.steps[0].mask == gone
    # taken away, the step works again
    before = pixels(w)
    w.state.apply(finish_edits.step_replaced("Mask", 0, type(steps(w)[0])(ev=1.0)))
    settled(w)
    qtbot.waitUntil(lambda: stage.view.ready, timeout=10_000)
    assert pixels(w).mean() > before.mean()
