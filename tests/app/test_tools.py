"""Tools beside the picture: icons with name and key, what is in hand, what a click will do, and the strip that navigates."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest
from PyQt6.QtCore import QEvent, QPoint, QPointF, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from idle_lantern.app.actions import by_id, shown_keys
from idle_lantern.app.widgets.icons import has_icon, icon
from idle_lantern.app.widgets.map_forms import STRIP_PX
from idle_lantern.app.widgets.picture_tools import BrushTool
from idle_lantern.app.widgets.tables import pixels_of
from idle_lantern.app.widgets.tool_palette import ToolButton
from idle_lantern.app.window import Window

LEFT = Qt.MouseButton.LeftButton
Settled = Callable[[Window], None]


def test_every_tool_has_an_icon_of_its_own_a_name_and_its_key(qtbot: QtBot, window: Window):
    tools = [tool for page in window.pages.values() for tool in page.findChildren(ToolButton)]
    ids = {tool.action_id for tool in tools}
    assert len(ids) > 35
    drawn = {}
    for tool in tools:
        action = by_id(tool.action_id)
        assert has_icon(action.id), action.id
        assert tool.accessibleName() == action.title.rstrip(" …")
        assert tool.accessibleName() in tool.toolTip()
        assert shown_keys(action) in tool.toolTip()
        drawn[action.id] = pixels_of(icon(action.id, "text", 24, 1.0).toImage()).tobytes()
    # finding the next thing looks alike in Frames and Join: it is one act
    assert len(set(drawn.values())) >= len(ids) - 1


def test_icons_take_the_colour_of_text_in_every_look(qtbot: QtBot, window: Window):
    for look in ["dark", "light", "field"]:
        window.set_look(look)
        pixels = pixels_of(icon("walk.hide", "text", 24, 1.0).toImage())
        bright = pixels[..., :3].max() > 128
        assert bright == (look == "dark")


def test_a_tool_is_pressed_held_told_over_the_picture_and_put_down(qtbot: QtBot, joined: Window, settled: Settled):
    joined.go("join")
    settled(joined)
    stage, view = joined.join_stage, joined.join_stage.view
    place = view.geometry()
    hide, bar = stage.tools.tools["walk.hide"], stage.walk.hands.bar
    qtbot.mouseClick(hide, LEFT)
    qtbot.waitUntil(lambda: bool(hide.property("held")), timeout=2000)
    assert bar.isVisible()
    assert "Paint over what must not show" in bar.told.text()
    assert bar.brush.isVisible()
    assert view.geometry() == place
    # the brush shows its size under the pointer, and the slider is that size
    before = view.grab().toImage()
    bar.brush.setValue(40)
    assert BrushTool.radius_px == 40
    qtbot.mouseMove(view, QPoint(view.width() // 2, view.height() // 2))
    qtbot.waitUntil(lambda: view.tool is not None and view.tool.pointer is not None, timeout=2000)
    assert view.grab().toImage() != before
    view.setFocus()
    qtbot.keyClick(view, Qt.Key.Key_BracketLeft)
    assert bar.brush.value() == round(BrushTool.radius_px) == 32
    BrushTool.radius_px = 14.0
    # another tool takes its place; Escape puts it down
    qtbot.mouseClick(stage.tools.tools["walk.place"], LEFT)
    qtbot.waitUntil(lambda: not hide.property("held"), timeout=2000)
    assert not bar.brush.isVisible()
    qtbot.keyClick(view, Qt.Key.Key_Escape)
    assert not bar.isVisible()
    assert view.tool is None


def test_a_tool_that_cannot_be_used_says_why(qtbot: QtBot, window: Window):
    window.go("join")
    qtbot.wait(20)
    tool = window.join_stage.tools.tools["walk.hide"]
    qtbot.mouseClick(tool, LEFT)
    assert window.message_text() == "There is no picture to paint on: join the frames first."
    assert tool.accessibleDescription() == "What must not show? Not possible now."


def test_tools_of_composing_take_the_place_of_those_of_the_join(qtbot: QtBot, joined: Window, settled: Settled):
    joined.go("join")
    tools = joined.join_stage.tools
    assert tools.tools["walk.hide"].isVisible()
    qtbot.mouseClick(joined.join_stage.compose_button, LEFT)
    settled(joined)
    assert not tools.tools["walk.hide"].isVisible()
    qtbot.mouseClick(tools.tools["compose.crop"], LEFT)
    assert joined.join_stage.compose.hand.tool == "crop"
    assert joined.join_stage.compose.bar.isVisible()
    qtbot.mouseClick(joined.join_stage.compose.bar.done, LEFT)
    assert joined.join_stage.compose.hand.tool == ""
    qtbot.mouseClick(joined.join_stage.compose_button, LEFT)
    assert tools.tools["walk.hide"].isVisible()


def test_tools_that_do_not_fit_below_each_other_go_on_beside(qtbot: QtBot, window: Window):
    window.go("join")
    window.resize(1280, 800)
    qtbot.wait(30)
    tools = window.join_stage.tools
    narrow = tools.width()
    tools.resize(tools.width(), 240)
    shown = [tool for tool in tools.tools.values() if tool.isVisible()]
    assert tools.width() > 2 * narrow - 10
    assert all(tool.geometry().bottom() <= 240 for tool in shown)
    places = {(tool.x(), tool.y()) for tool in shown}
    assert len(places) == len(shown)


def test_the_strip_shows_where_the_picture_is_looked_at_and_moves_it(qtbot: QtBot, joined: Window, settled: Settled):
    joined.go("join")
    qtbot.wait(30)
    view = joined.join_stage.view
    assert joined.map.height() == STRIP_PX
    view.fit()
    assert joined.map.sight is None
    view.zoom_by(6.0)
    view.look_at(0, view.size_px[1] / 2)
    assert joined.map.sight is not None
    left = joined.map.sight.boundingRect().center().x()
    canvas = joined.state.joined.canvas
    ray = canvas.directions(np.array([canvas.width * 0.8, canvas.height * 0.5]))
    azimuth, altitude = np.degrees(np.arctan2(ray[0], ray[2])), np.degrees(np.arcsin(-ray[1]))
    at = joined.map.form.point(float(azimuth), float(altitude))
    qtbot.mouseClick(joined.map, LEFT, pos=QPointF(at).toPoint())
    middle = view.to_picture(QPointF(view.width() / 2, view.height() / 2))
    assert middle.x() == pytest.approx(canvas.width * 0.8, abs=0.02 * canvas.width)
    assert joined.map.sight.boundingRect().center().x() > left
    # F6 makes a map of the strip, and a strip of the map; that is kept for this stage alone
    qtbot.keyClick(joined, Qt.Key.Key_F6)
    assert joined.map.height() > 3 * STRIP_PX
    joined.go("deliver")
    assert joined.map.height() == STRIP_PX
    joined.go("join")
    assert joined.map.height() > 3 * STRIP_PX
    qtbot.keyClick(joined, Qt.Key.Key_F6)
    assert joined.map.height() == STRIP_PX


def test_menus_are_no_longer_than_a_small_screen_and_plus_needs_no_shift(qtbot: QtBot, window: Window):
    bar = window.menuBar()
    menus = [action.menu() for action in bar.actions()]
    assert len(menus) == 10
    for menu in menus:
        assert menu.sizeHint().height() < 700, menu.title()
    zoom = window.map.look.zoom
    qtbot.keyClick(window, Qt.Key.Key_Equal, Qt.KeyboardModifier.ControlModifier)
    assert window.map.look.zoom > zoom


def test_the_key_that_opened_a_field_types_nothing_into_it_while_it_is_held(qtbot: QtBot, window: Window):
    window.go("plan")
    qtbot.keyClick(window, Qt.Key.Key_F, Qt.KeyboardModifier.ControlModifier)
    field = window.plan_stage.search
    assert field.hasFocus()
    again = QKeyEvent(QEvent.Type.KeyPress, Qt.Key.Key_F, Qt.KeyboardModifier.NoModifier, "f", True)
    QApplication.sendEvent(field, again)
    assert field.text() == ""
    upright = window.state.outing.rig.upright
    qtbot.keyClicks(field, "u")
    assert field.text() == "u"
    assert window.state.outing.rig.upright == upright, "a letter that is typed is no key of the stage"
