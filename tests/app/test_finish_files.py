"""Recipes and finished pictures that go out and come in, through the real window."""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import tifffile
from PyQt6.QtWidgets import QFileDialog
from pytestqt.qtbot import QtBot
from tests.helpers.finishing import steps

from idle_lantern.app.cropping import crop_box
from idle_lantern.app.stages import finish_edits
from idle_lantern.app.window import Window
from idle_lantern.core.finish.recipe import SCHEMA
from idle_lantern.core.finish.steps.exposure import ExposureStep
from idle_lantern.core.frames.reading import read
from idle_lantern.core.outing import document, edits
from idle_lantern.core.pictures.source import region


def test_a_recipe_goes_to_a_file_and_to_another_outing(
    finishing: Window, qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, settled: Callable[[Window], None]
):
    w, stage = finishing, finishing.finish_stage
    stage.panel.add_step("saturation")
    stage.panel._take(stage.panel._rows[0].row, 1.5)
    kept = steps(w)
    file = tmp_path / "mine.json"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a: (str(file), ""))
    w.trigger("finish.save_recipe")
    assert json.loads(file.read_text())["schema"] == SCHEMA
    w.trigger("finish.remove")
    assert not steps(w)
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_a: (str(file), ""))
    w.trigger("finish.use_recipe")
    assert steps(w) == kept
    w.state.save_now()
    folder = w.state.folder
    assert folder is not None
    assert document.load(folder).finish.steps == kept
    w.outings.begin("Another", "simulated")
    assert not steps(w)
    w.go("finish")
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_a: str(folder))
    w.trigger("finish.take_recipe")
    assert steps(w) == kept
    file.write_text('{"schema": "idle-lantern/recipe/1", "steps": [{"do": "exposure", "ev": 400}]}')
    w.trigger("finish.use_recipe")
    assert "step 1 (exposure), ev" in w.message_text()
    assert steps(w) == kept


def test_the_recipe_outlives_another_join_and_undo_goes_where_it_is_seen(
    finishing: Window, qtbot: QtBot, settled: Callable[[Window], None]
):
    w = finishing
    w.finish_stage.panel.add_step("exposure")
    w.finish_stage.panel._take(w.finish_stage.panel._rows[0].row, 1.0)
    w.finish_stage.panel._choose_mask("directions")
    kept = steps(w)
    w.go("join")
    w.state.apply(edits.choose("Projection", projection="rectilinear"))
    w.join_stage.run_join()
    settled(w)
    assert steps(w) == kept
    w.go("finish")
    qtbot.waitUntil(lambda: w.finish_stage.view.ready, timeout=20_000)
    assert w.finish_stage.view.source is not None
    assert w.finish_stage.view.source.sizes[0] == (w.state.joined.canvas.width, w.state.joined.canvas.height)
    w.state.apply(finish_edits.removed(w.state.outing, 0))
    w.go("join")
    w.trigger("edit.undo")
    assert w.stage == "finish"
    assert not steps(w)
    w.trigger("edit.undo")
    assert steps(w) == kept


def test_the_file_is_sharpened_for_what_it_is_looked_at_on(
    finishing: Window, settled: Callable[[Window], None], tmp_path: Path
):
    w = finishing
    w.go("deliver")
    settled(w)
    stage = w.deliver_stage
    files = []
    for row in (0, 3):
        stage.sharpen.setCurrentIndex(row)
        stage.sharpen.activated.emit(row)
        assert w.state.outing.delivery.sharpen_for == ("none", "matte")[row > 0]
        files.append(tmp_path / f"{row}.png")
        stage.write_to(files[-1])
        settled(w)
    assert "px of the file" in stage.sharpen.toolTip()
    plain, sharper = (read(path).pixels.astype(int) for path in files)
    assert plain.shape == sharper.shape
    steps_of = [np.abs(np.diff(p.mean(-1), axis=1)) for p in (plain, sharper)]
    assert steps_of[1].mean() > 1.1 * steps_of[0].mean()


def test_a_recipe_of_a_newer_program_is_told_and_its_outing_left_alone(joined: Window, tmp_path: Path):
    own = tmp_path / "Newer"
    shutil.copytree(joined.state.folder, own, ignore=shutil.ignore_patterns(".*"))
    path = next(own.glob("*.json"))
    told = json.loads(path.read_text())
    told["finish"] = {"steps": [{"do": "dream", "on": True, "depth": 3}]}
    path.write_text(json.dumps(told))
    before, said = path.read_bytes(), []
    joined.state.message.connect(lambda text, _problem: said.append(text))
    assert not joined.open_outing(own)
    assert path.read_bytes() == before
    assert len(said) == 1
    assert "dream" in said[0] or "finish" in said[0]


def test_a_picture_that_was_gone_on_with_elsewhere_comes_back(
    finishing: Window,
    qtbot: QtBot,
    settled: Callable[[Window], None],
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
):
    """Crop, recipe and geometry stay; what is written holds what was painted, and undo takes it off again."""
    w, stage = finishing, finishing.finish_stage
    stage.panel.add_step("exposure")
    w.state.apply(finish_edits.step_replaced("Exposure", 0, ExposureStep(ev=0.5)))
    crop = crop_box(w.state.outing, w.state.joined)
    flat = region(w.state.picture, crop)[..., :3].copy()
    flat[60:140, 100:200] = (200, 30, 160)
    tifffile.imwrite(tmp_path / "flat.tif", flat, photometric="rgb")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_a, **_k: (str(tmp_path / "flat.tif"), ""))
    w.trigger("finish.retouched")
    settled(w)
    assert "made of the joined picture: the steps go on from it" in w.message_text()
    assert [type(step).title for step in steps(w)] == ["Retouched elsewhere", "Exposure"]
    assert crop_box(w.state.outing, w.state.joined) == crop
    assert "Retouched elsewhere" in stage.panel.list.item(0).text()
    w.go("deliver")
    settled(w)
    for name, painted in (("with.tif", True), ("without.tif", False)):
        w.deliver_stage.write_to(tmp_path / name)
        settled(w)
        place = read(tmp_path / name).pixels[80:120, 120:180].astype(int)
        assert ((place[..., 0] > 220) & (place[..., 1] < 60)).all() == painted
        w.state.undo()
    # a picture of something else is one sentence
    monkeypatch.setattr(
        QFileDialog, "getOpenFileName", lambda *_a, **_k: (str(w.state.path_of(w.state.outing.frames[0])), "")
    )
    w.go("finish")
    w.trigger("finish.retouched")
    settled(w)
    assert "the joined picture has" in w.message_text()
    assert len(steps(w)) == 1
