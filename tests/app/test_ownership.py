"""What is begun for an outing ends in that outing, whatever is opened meanwhile."""

from __future__ import annotations

import threading
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from PyQt6.QtCore import QPointF
from pytestqt.qtbot import QtBot
from tests.helpers.sets import FrameFiles

from idle_lantern.app.stages import frames_model
from idle_lantern.app.window import Window
from idle_lantern.core.base import units
from idle_lantern.core.frames.content import sha256_of
from idle_lantern.core.join.request import RoughReady
from idle_lantern.core.outing import document, edits
from idle_lantern.core.plan import planner


def _folder(window: Window) -> Path:
    assert window.state.folder is not None
    return window.state.folder


def test_frames_shot_after_another_outing_was_opened_belong_to_the_first(
    qtbot: QtBot, window: Window, settled: Callable
):
    first = _folder(window)
    window.go("field")
    qtbot.waitUntil(window.field_stage.can_shoot, timeout=5000)
    window.field_stage.shoot_all()
    qtbot.waitUntil(lambda: len(window.state.outing.frames) == 1, timeout=20_000)
    window.outings.begin("Another")
    settled(window)
    assert window.state.outing.frames == ()
    assert window.state.guide.shot == 0
    kept = document.load(first)
    assert [r.number for r in kept.frames] == [1, 2, 3, 4, 5, 6, 7]
    assert all(document.resolve(first, r).is_file() for r in kept.frames)
    assert not (_folder(window) / document.FRAMES).exists()
    # opened again they are all there
    assert window.open_outing(first)
    assert window.state.guide.missing == ()


def test_a_join_ends_in_its_outing_and_shows_nothing_in_another(
    qtbot: QtBot, window: Window, settled: Callable, row_set: FrameFiles
):
    first = _folder(window)
    window.frames_stage.bringing.bring(list(row_set.paths[:4]))
    settled(window)
    window.go("join")
    roughs: list[RoughReady] = []
    window.context.joins.rough.connect(roughs.append)
    window.join_stage.run_join()
    qtbot.waitUntil(lambda: window.context.joins.busy_here, timeout=5000)
    window.outings.begin("Another")
    assert not window.context.joins.busy_here
    assert "Another outing is being joined" in window.join_stage.status.text()
    assert not window.join_stage.can_join()
    shown_before = len(roughs)
    settled(window)
    assert len(roughs) == shown_before, "no rough picture of the first comes up in the second"
    assert window.state.joined is None
    assert window.join_stage.view.source is None
    assert window.deliver_stage.view.source is None
    assert "waits in that outing" in window.message_text()
    assert not (_folder(window) / document.PICTURES).exists()
    assert window.open_outing(first)
    settled(window)
    assert window.state.joined is not None
    assert len(window.state.joined.frame_ids) == 4
    assert not window.state.join_is_stale


def test_a_join_of_the_same_outing_is_shown_when_it_is_opened_again_meanwhile(
    qtbot: QtBot, window: Window, settled: Callable, row_set: FrameFiles
):
    first = _folder(window)
    window.frames_stage.bringing.bring(list(row_set.paths[:3]))
    settled(window)
    window.go("join")
    window.join_stage.run_join()
    qtbot.waitUntil(lambda: window.context.joins.busy_here, timeout=5000)
    window.outings.begin("Another")
    assert window.open_outing(first, "join")
    assert window.context.joins.busy_here
    settled(window)
    assert window.state.joined is not None
    assert window.join_stage.view.source is window.state.picture


def test_pictures_are_brought_into_the_outing_they_were_dropped_on(
    qtbot: QtBot, window: Window, settled: Callable, row_set: FrameFiles, monkeypatch: pytest.MonkeyPatch
):
    first = _folder(window)
    go_on = threading.Event()
    real = frames_model.bring

    def waiting(*args: object) -> frames_model.Brought:
        assert go_on.wait(20)
        return real(*args)  # type: ignore[arg-type]

    monkeypatch.setattr(frames_model, "bring", waiting)
    window.frames_stage.bringing.bring(list(row_set.paths[:2]))
    window.outings.begin("Another")
    go_on.set()
    settled(window)
    assert window.state.outing.frames == ()
    assert [Path(r.file).name for r in document.load(first).frames] == ["f00.jpg", "f01.jpg"]


def test_undo_keeps_what_was_found_out_about_files(window: Window, settled: Callable, row_set: FrameFiles):
    window.frames_stage.bringing.bring(list(row_set.paths[:2]))
    settled(window)
    window.state.undo()
    window.state.redo()
    window.state.apply(edits.leave_out(window.state.outing.frames[0], True))
    window.state.undo()
    assert [r.sha256 for r in window.state.outing.frames] == [sha256_of(p) for p in row_set.paths[:2]]


def test_paint_stays_with_its_frame_when_another_of_its_name_comes(
    joined: Window, settled: Callable, row_set: FrameFiles, tmp_path: Path
):
    """Adding b/f00.jpg used to rename the mask's file, and the paint was lost."""
    dialog = joined.join_stage.open_masks()
    assert dialog is not None
    dialog.canvas.stroke([(0.1, 0.2), (0.1, 0.8)])
    dialog.accept()
    settled(joined)
    first = joined.state.outing.frames[0].id
    painted = joined.state.outing.choices.mask_of(first)
    assert painted
    other = tmp_path / "b" / "f00.jpg"
    other.parent.mkdir()
    Image.open(row_set.paths[3]).save(other, quality=95)
    joined.frames_stage.bringing.bring([other])
    settled(joined)
    joined.join_stage.run_join()
    settled(joined)
    assert joined.state.joined is not None
    assert joined.state.joined.report.asked.mask_of(first) == painted
    hidden = [i for i, f in enumerate(joined.state.joined.frame_ids) if f == first]
    assert hidden == [0]


def test_undo_while_it_joins_ends_in_the_picture_that_is_chosen(qtbot: QtBot, joined: Window, settled: Callable):
    """Choose a projection, take it back while the picture is made: field, picture and file agree at last."""
    joined.state.apply(edits.choose("Choose the sphere", projection="equirectangular"))
    qtbot.waitUntil(lambda: joined.context.joins.busy_here, timeout=5000)
    joined.trigger("edit.undo")
    assert joined.join_stage.projection.currentIndex() == 0
    settled(joined)
    state = joined.state
    assert state.joined is not None
    assert state.outing.choices.projection == "auto"
    assert state.joined.canvas.projection.name == "cylindrical"
    assert state.joined.report.asked.projection == "auto"
    assert joined.join_stage.about.facts["size"].text().startswith(units.grouped(state.joined.canvas.width))
    assert joined.join_stage.view.crop == state.joined.crop
    assert joined.deliver_stage.view.source is state.picture
    assert joined.join_stage.status.text().startswith("Joined,")


def test_the_logbook_plans_nothing_twice(window: Window, settled: Callable, monkeypatch: pytest.MonkeyPatch):
    window.outings.begin("Second")
    made: list[int] = []
    real = planner.make_plan
    monkeypatch.setattr(
        "idle_lantern.core.outing.index.make_plan", lambda *a, **k: made.append(threading.get_ident()) or real(*a, **k)
    )
    window.go("logbook")
    settled(window)
    assert window.logbook_stage.table.rowCount() == 2
    assert len(made) == 2
    assert threading.get_ident() not in made, "planned on the interface thread"
    window.go("plan")
    window.go("logbook")
    settled(window)
    assert len(made) == 2
    window.state.apply(edits.rename("Third"))
    window.go("plan")
    window.go("logbook")
    settled(window)
    assert len(made) == 3, "only what changed is looked at again"
    names = {window.logbook_stage.table.item(i, 0).text() for i in range(2)}
    assert "Third (open)" in names


def test_plans_are_judged_off_the_interface_thread(window: Window, settled: Callable, monkeypatch: pytest.MonkeyPatch):
    seen: list[int] = []
    from idle_lantern.app.stages import plan as plan_stage

    real = plan_stage.judge
    monkeypatch.setattr(plan_stage, "judge", lambda p: seen.append(threading.get_ident()) or real(p))
    window.state.apply(edits.set_target_field("x", overlap=0.08))
    assert window.state.judgements is None, "not reckoned at the edit"
    settled(window)
    assert window.state.judgements
    assert seen
    assert threading.get_ident() not in seen


def test_a_plan_is_judged_when_somebody_looks_at_it(window: Window, settled: Callable, monkeypatch: pytest.MonkeyPatch):
    from idle_lantern.app.stages import plan as plan_stage

    settled(window)
    judged: list[object] = []
    real = plan_stage.judge
    monkeypatch.setattr(plan_stage, "judge", lambda p: judged.append(p) or real(p))
    window.go("frames")
    window.state.apply(edits.set_target_field("x", overlap=0.08))
    settled(window)
    assert not judged
    window.go("plan")
    settled(window)
    assert judged == [window.state.plan]
    assert window.state.judgements
    window.go("frames")
    window.go("plan")
    settled(window)
    assert len(judged) == 1, "nothing changed since"


def test_a_window_told_that_it_cannot_save_says_so_and_saves_later(
    qtbot: QtBot, window: Window, monkeypatch: pytest.MonkeyPatch
):
    from idle_lantern.core.base.errors import InputError
    from idle_lantern.core.outing import folder_lock

    folder = _folder(window)

    def full(*_a: object) -> None:
        raise InputError("Writing failed (No space left on device)", where=str(folder))

    with monkeypatch.context() as broken:
        broken.setattr(folder_lock.document, "save", full)
        window.state.apply(edits.rename("Kept in mind"))
        window.state.save_now()
        assert window.state.unsaved
        assert "NOT SAVED since" in window._where.text()
        assert "No space left" in window.message_text()
    window.state.save_now()
    assert not window.state.unsaved
    assert window._where.text() == "saves itself"
    assert document.load(folder).name == "Kept in mind"


def test_the_viewer_shows_any_size_while_tiles_come(qtbot: QtBot, window: Window, tmp_path: Path):
    """A picture on disk: the coarse level first, then what is in sight, and no more of it in memory than asked for."""
    from idle_lantern.core.pictures.pyramid import PyramidInfo, packed, write_pyramid
    from idle_lantern.core.pictures.source import TILE
    from idle_lantern.core.pictures.tiled import TiledPicture

    info = PyramidInfo(20000, 9000, alpha=False)

    def tiles():
        for row in range(info.rows):
            for column in range(info.columns):
                yield packed(np.full((TILE, TILE, 3), (row * 9 % 256, column * 5 % 256, 80), np.uint8), None)

    path = tmp_path / "large.tif"
    write_pyramid(path, info, tiles())
    view = window.join_stage.view
    window.go("join")
    view.set_source(TiledPicture(path))
    qtbot.waitUntil(lambda: view.ready, timeout=10_000)
    fitted = view.grab().toImage()
    assert fitted.pixelColor(view.width() // 2, view.height() // 2).blue() == pytest.approx(80, abs=3)
    view.show_full()
    view.grab()
    qtbot.waitUntil(lambda: view.ready, timeout=10_000)
    at = view.to_picture(QPointF(view.width() / 2, view.height() / 2))
    shown = view.grab().toImage().pixelColor(view.width() // 2, view.height() // 2)
    expected = (int(at.y()) // TILE * 9 % 256, int(at.x()) // TILE * 5 % 256, 80)
    assert shown.getRgb()[:3] == expected
    view.set_source(None)
