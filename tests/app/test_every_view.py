"""Every view in small and large windows, with usual and large text, in every look: nothing is cut, covered or out of reach."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot
from tests.helpers.layout import cut_words, faults, out_of_reach, overlaps

from idle_lantern.app.widgets.basics import button, label
from idle_lantern.app.window import Window
from idle_lantern.core.outing import edits

Settled = Callable[[Window], None]


def _views(window: Window) -> Iterator[tuple[str, Callable[[], object]]]:
    """Each view with what leaves it again; it is open when its turn comes."""

    def nothing() -> None:
        pass

    window.go("plan")
    for at, page in enumerate(window.plan_stage.topics):
        window.plan_stage.open_topic(at)
        yield f"Plan, {page.title}", nothing
    for stage in ("field", "frames", "join", "finish", "deliver", "logbook"):
        window.go(stage)
        yield stage, nothing
    window.go("finish")
    panel = window.finish_stage.panel
    for name, mask in (("hue_band", "directions"), ("curve", "")):
        panel.add_step(name)
        panel._choose_mask(mask)
        yield f"finish, {name}", nothing
    window.trigger("finish.heal")
    yield "finish, heal", lambda: window.trigger("finish.heal")
    window.go("frames")
    window.trigger("frames.develop")
    yield "develop", lambda: window.trigger("frames.develop")
    window.go("join")
    for tool in ("hide", "place"):
        window.trigger(f"walk.{tool}")
        yield f"join, {tool}", lambda name=tool: window.trigger(f"walk.{name}")  # type: ignore[misc]
    window.trigger("compose.open")
    for tool in ("crop", "turn"):
        window.trigger(f"compose.{tool}")
        yield f"compose, {tool}", nothing
    window.trigger("compose.open")


@pytest.mark.parametrize(
    ("size", "text", "look"),
    [
        ((1100, 700), 1.0, "dark"),
        ((1100, 700), 1.5, "light"),
        ((1280, 800), 1.5, "dark"),
        ((1920, 1080), 1.5, "field"),
    ],
)
def test_nothing_is_cut_covered_or_out_of_reach(
    qtbot: QtBot, joined: Window, settled: Settled, size: tuple[int, int], text: float, look: str
):
    """Figures of Join were slivers at 150 %, lists and safety texts of Field were cut at the usual size."""
    joined.context.keep(replace(joined.context.settings, text_size=text, look=look))
    joined._apply_look()
    joined.resize(*size)
    joined.state.apply(edits.make_plan_for_photographs())
    joined.state.apply(edits.set_part("support", "On a tripod", kind="tripod", pointing_deg=0.0))
    joined.state.apply(edits.set_part("scene", "Near", near_m=0.8))
    joined.tell(
        "A sentence as long as such sentences are, so that the line of messages is seen with something in it.", True
    )
    found: dict[str, list[str]] = {}
    for view, leave in _views(joined):
        settled(joined)
        qtbot.wait(30)
        if view.startswith("Plan"):
            assert joined.plan_stage.remarks.sentences, "remarks are part of what is looked at"
        if wrong := faults(joined):
            found[view] = wrong
        leave()
    assert found == {}


def test_the_check_of_layouts_finds_what_it_looks_for(qtbot: QtBot, window: Window):
    """A test that cannot fail says nothing: a cut word, a control outside, two over each other are each found."""
    cut, outside, over = (
        label("Much too long for this"),
        button("Beside the window", lambda: None),
        label("Over another"),
    )
    for widget in (cut, outside, over):
        widget.setParent(window.foot)
        widget.show()
    cut.setGeometry(300, 2, 20, 20)
    outside.setGeometry(window.width() - 10, 2, 120, 30)
    over.setGeometry(300, 2, 120, 20)
    QApplication.processEvents()
    assert any("Much too long" in f for f in cut_words(window))
    assert any("Beside the window" in f for f in out_of_reach(window))
    assert any("Over another" in f for f in overlaps(window))


def test_a_picture_has_two_thirds_of_the_window_and_the_tools_fold_away(qtbot: QtBot, joined: Window, settled: Settled):
    """It had 27 % under Join and 4 % under Frames."""
    for size, least in (((1280, 800), 0.65), ((1920, 1080), 0.75)):
        joined.resize(*size)
        for stage in ("frames", "join", "finish", "deliver"):
            joined.go(stage)
            qtbot.wait(30)
            view = joined.picture_view()
            share = view.width() * view.height() / (size[0] * size[1])
            assert share >= least, f"{stage} at {size}: {share:.3f}"
    joined.resize(1280, 800)
    joined.go("join")
    qtbot.wait(30)
    view, before = joined.join_stage.view, joined.join_stage.view.width()
    qtbot.keyClick(joined, Qt.Key.Key_F7)
    qtbot.waitUntil(lambda: view.width() > before + 200, timeout=3000)
    qtbot.keyClick(joined, Qt.Key.Key_F11)
    qtbot.waitUntil(lambda: view.size() == joined.size(), timeout=5000)
    assert not joined.foot.isVisible()
    joined.tell("Something went wrong.", True)
    assert joined.foot.isVisible(), "what went wrong is seen there too"
    joined.go("plan")
    qtbot.waitUntil(lambda: joined.stages_line.isVisible() and not joined.isFullScreen(), timeout=5000)
    joined.go("join")
    qtbot.keyClick(joined, Qt.Key.Key_F11)
    qtbot.waitUntil(joined.isFullScreen, timeout=5000)
    qtbot.keyClick(joined, Qt.Key.Key_Escape)
    qtbot.waitUntil(lambda: joined.foot.isVisible() and not joined.isFullScreen(), timeout=5000)
    qtbot.keyClick(joined, Qt.Key.Key_F7)
    joined.resize(1280, 800)
    qtbot.waitUntil(lambda: view.width() == before, timeout=5000)


def test_nothing_of_the_frame_moves_while_work_runs_and_messages_come(qtbot: QtBot, joined: Window, settled: Settled):
    """The window shifted by 6 to 100 px: clicks landed elsewhere."""
    joined.go("join")
    qtbot.wait(30)
    parts = (joined.join_stage.view, joined.stages_line, joined.map, joined.foot, joined.join_stage.tools)

    def places() -> list[tuple[int, int, int, int]]:
        corners = [part.mapTo(joined, part.rect().topLeft()) for part in parts]
        return [(c.x(), c.y(), part.width(), part.height()) for c, part in zip(corners, parts)]

    before = places()
    joined.tell("Something that is wrong, and a remedy for it that is told at some length here.", True)
    joined.trigger("walk.hide")
    qtbot.wait(20)
    assert places() == before
    joined.trigger("walk.hide")
    joined.trigger("walk.next")
    joined.trigger("walk.take")
    qtbot.wait(20)
    assert places() == before
    joined.join_stage.run_join()
    seen_work = []
    while not joined.tasks.idle:
        qtbot.wait(15)
        seen_work.append(joined.work_line.isVisible())
        assert places() == before
    settled(joined)
    assert any(seen_work)
    joined.trigger("compose.open")
    qtbot.wait(30)
    assert places()[:4] == before[:4]
    joined.trigger("compose.open")
