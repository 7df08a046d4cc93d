"""For everyone: Tab reaches every act, every stop has a name, lines are seen."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import QAbstractButton, QApplication, QComboBox, QLineEdit, QWidget
from pytestqt.qtbot import QtBot

from idle_lantern.app import theme
from idle_lantern.app.actions import STAGES
from idle_lantern.app.masking import MaskDialog
from idle_lantern.app.tying import TieDialog
from idle_lantern.app.window import Window


def _called(widget: QWidget) -> str:
    text = getattr(widget, "text", None)
    buddy = [w for w in widget.window().findChildren(QWidget) if getattr(w, "buddy", lambda: None)() is widget]
    return (
        widget.accessibleName()
        or (text() if isinstance(widget, QAbstractButton) and text else "")
        or "".join(b.text() for b in buddy)
    )


def _stops(over: QWidget) -> list[QWidget]:
    """What Tab comes to, from the first stop round to it again."""
    found: list[QWidget] = []
    for _ in range(400):
        focus = QApplication.focusWidget()
        if focus is None or focus in found:
            break
        found.append(focus)
        over.focusNextChild()
    return found


def _acts(over: QWidget) -> list[QWidget]:
    """What can be pressed, chosen or typed into there, as far as it is seen and can be used."""
    kinds = (QAbstractButton, QComboBox, QLineEdit)
    return [
        w
        for w in over.findChildren(kinds)
        if w.isVisible() and w.isEnabled() and w.focusPolicy() != Qt.FocusPolicy.NoFocus and w.focusProxy() is None
        and not isinstance(w.parent(), QComboBox) and not w.objectName().startswith("qt_")
    ]  # fmt: skip


def _check(over: QWidget, page: QWidget) -> None:
    first = next(w for w in _acts(page))
    first.setFocus()
    stops = _stops(over)
    missed = [f"{w.objectName()} {_called(w)}" for w in _acts(page) if w not in stops and not _in_a_group(w, stops)]
    assert missed == []
    assert [type(w).__name__ for w in stops if not _called(w)] == []


def _in_a_group(widget: QWidget, stops: list[QWidget]) -> bool:
    """Radio buttons of one group are one stop; arrows go on from there."""
    return (
        isinstance(widget, QAbstractButton)
        and widget.autoExclusive()
        and any(isinstance(s, QAbstractButton) and s.autoExclusive() and s.parent() is widget.parent() for s in stops)
    )


def test_tab_reaches_every_act_of_every_stage(qtbot: QtBot, joined: Window, settled: Callable):
    for stage in STAGES:
        joined.go(stage)
        settled(joined)
        _check(joined, joined.pages[stage])


def test_tab_reaches_every_act_of_a_composed_picture_and_of_a_place(qtbot: QtBot, joined: Window, settled: Callable):
    stage = joined.join_stage
    joined.trigger("compose.open")
    settled(joined)
    _check(joined, stage)
    joined.trigger("compose.open")
    canvas = joined.state.joined.canvas
    stage.walk._look_at(QPointF(canvas.width / 2, canvas.height / 2))
    settled(joined)
    _check(joined, stage)


def test_tab_reaches_every_act_of_a_dialog(qtbot: QtBot, joined: Window, settled: Callable):
    for action, kind in [("join.masks", MaskDialog), ("join.ties", TieDialog)]:
        joined.trigger(action)
        settled(joined)
        dialog = joined.findChild(kind)
        qtbot.waitUntil(dialog.isActiveWindow, timeout=5000)
        _check(dialog, dialog)
        dialog.close()


def _contrast(one: QColor, other: QColor) -> float:
    """Contrast ratio as WCAG 2.2 defines it, from relative luminance."""

    def luminance(colour: QColor) -> float:
        parts = (colour.redF(), colour.greenF(), colour.blueF())
        red, green, blue = (p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts)
        return 0.2126 * red + 0.7152 * green + 0.0722 * blue

    high, low = sorted((luminance(one), luminance(other)), reverse=True)
    return (high + 0.05) / (low + 0.05)


@pytest.mark.parametrize("look", ["light", "field"])
def test_lines_are_seen_against_what_they_lie_on(look: str):
    """WCAG 2.2, 1.4.11 (non-text contrast): lines that mean something stand out by 3:1."""
    before = theme.look().name
    theme.apply(QApplication.instance(), look)
    try:
        for ground in ("ground", "panel", "raised"):
            assert _contrast(theme.colour("line"), theme.colour(ground)) >= 3.0, (look, ground)
    finally:
        theme.apply(QApplication.instance(), before)
