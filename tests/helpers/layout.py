"""What is wrong with how a window is laid out: words that are cut, things over each other, controls nobody can reach."""

from __future__ import annotations

from collections.abc import Iterator

from PyQt6.QtCore import QPoint, QRect
from PyQt6.QtWidgets import (
    QAbstractScrollArea,
    QCheckBox,
    QComboBox,
    QLabel,
    QLineEdit,
    QPushButton,
    QRadioButton,
    QScrollArea,
    QSlider,
    QWidget,
)

from idle_lantern.app.widgets.quantity_edit import QuantityEdit

_CONTROLS = (QLabel, QPushButton, QCheckBox, QRadioButton, QComboBox, QLineEdit, QSlider)
#: Cut by design, with dots and the whole in the tip.
_MAY_BE_CUT = {"message", "outing-name"}


def shown_controls(top: QWidget) -> Iterator[QWidget]:
    """All words and controls that are shown, but for the inner parts of others."""
    for widget in top.findChildren(QWidget):
        inner = isinstance(widget.parentWidget(), (QComboBox, QLineEdit))
        if isinstance(widget, _CONTROLS) and widget.isVisibleTo(top) and not inner:
            yield widget


def _named(widget: QWidget) -> str:
    text = widget.text() if hasattr(widget, "text") else widget.accessibleName()
    return f"{type(widget).__name__} '{(text or widget.accessibleName() or widget.objectName())[:48]}'"


def _scroll_above(widget: QWidget) -> QScrollArea | None:
    above = widget.parentWidget()
    while above is not None and not isinstance(above, QScrollArea):
        above = above.parentWidget()
    return above


def cut_words(top: QWidget) -> list[str]:
    """Words that have less room than they need."""
    found = []
    for widget in shown_controls(top):
        need, have = widget.sizeHint(), widget.size()
        if widget.objectName() in _MAY_BE_CUT or (hasattr(widget, "text") and not widget.text()):
            continue
        if isinstance(widget, QLabel) and widget.wordWrap():
            longest = max((widget.fontMetrics().horizontalAdvance(w) for w in widget.text().split()), default=0)
            if widget.heightForWidth(have.width()) > have.height() + 1 or longest > have.width() + 1:
                found.append(
                    f"{_named(widget)}: {have.width()} x {have.height()}, needs {widget.heightForWidth(have.width())}"
                )
        elif isinstance(widget, QComboBox):
            if have.width() < 60 or have.height() < need.height() - 4:
                found.append(f"{_named(widget)}: {have.width()} x {have.height()}")
        elif isinstance(widget, QuantityEdit):  # free text may be longer than its field
            wide = widget.fontMetrics().horizontalAdvance(widget.text()) + 8
            if have.width() < wide or have.height() < widget.fontMetrics().height():
                found.append(f"{_named(widget)}: {have.width()}, needs {wide}")
        elif not isinstance(widget, (QLineEdit, QSlider)) and (
            have.width() < need.width() - 1 or have.height() < need.height() - 1
        ):
            found.append(f"{_named(widget)}: {have.width()} x {have.height()}, needs {need.width()} x {need.height()}")
    return found


def out_of_reach(top: QWidget) -> list[str]:
    """Controls that no scrolling brings into the window, or that are cut at the side of what scrolls down only."""
    found = []
    whole = QRect(QPoint(0, 0), top.size())
    for widget in shown_controls(top):
        area = _scroll_above(widget)
        if area is None:
            place = QRect(widget.mapTo(top, QPoint(0, 0)), widget.size())
            outside = not whole.contains(place) or widget.visibleRegion().boundingRect().size() != widget.size()
            if outside and (not isinstance(widget, QLabel) or widget.text()):
                found.append(
                    f"{_named(widget)} at {place.getRect()}, seen {widget.visibleRegion().boundingRect().getRect()}"
                )
            continue
        inner = area.viewport()
        left = widget.mapTo(area.widget(), QPoint(0, 0)).x()
        if left < 0 or left + widget.width() > inner.width() + 1:
            found.append(f"{_named(widget)} from {left} to {left + widget.width()} in {inner.width()}")
        elif inner.height() < 40:
            found.append(f"{_named(widget)} in a slit of {inner.height()}")
    return found


def overlaps(top: QWidget) -> list[str]:
    """Shown widgets of one parent that lie over each other."""
    found = []
    for parent in [top, *top.findChildren(QWidget)]:
        if not parent.isVisibleTo(top) or isinstance(parent, (QAbstractScrollArea, QComboBox)):
            continue
        children = [
            c for c in parent.children()
            if isinstance(c, QWidget) and c.isVisibleTo(top) and not c.isWindow() and c.width() > 0 and c.height() > 0
        ]  # fmt: skip
        for i, one in enumerate(children):
            for other in children[i + 1 :]:
                shared = one.geometry().intersected(other.geometry())
                if shared.width() > 1 and shared.height() > 1:
                    found.append(f"{_named(one)} and {_named(other)} share {shared.width()} x {shared.height()}")
    return found


def faults(top: QWidget) -> list[str]:
    """All of it."""
    return [*cut_words(top), *out_of_reach(top), *overlaps(top)]
