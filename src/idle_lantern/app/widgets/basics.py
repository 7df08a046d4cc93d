"""Small pieces that every stage uses: labels by role, buttons, rows of a form."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from PyQt6.QtCore import QEvent, QObject, QSize, Qt, QTimer
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import (
    QComboBox,
    QDialog,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLayout,
    QMessageBox,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from idle_lantern.app import theme
from idle_lantern.app.words import meaning


def label(text: str = "", role: str = "", *, wrap: bool = False, name: str = "") -> QLabel:
    """A label in one of the theme's roles: head, dim, figure, big, huge, warn."""
    result = QLabel(text)
    if role:
        result.setProperty("role", role)
    result.setWordWrap(wrap)
    if name:
        result.setObjectName(name)
    if role in ("figure", "huge"):
        result.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
    return result


def set_look_property(widget: QWidget, name: str, value: object) -> None:
    """Change a property that the style sheet asks for, and have the widget drawn by it."""
    if widget.property(name) == value:
        return
    widget.setProperty(name, value)
    style = widget.style()
    if style is not None:
        style.unpolish(widget)
        style.polish(widget)


def button(
    text: str, run: Callable[[], Any], *, main: bool = False, quiet: bool = False, name: str = ""
) -> QPushButton:
    """A button; ``main`` marks the one main action of a stage."""
    result = QPushButton(text)
    result.setProperty("main", main)
    result.setProperty("quiet", quiet)
    result.setAccessibleName(text)
    result.setAutoDefault(
        False
    )  # Return in a field takes its value over; what it does in a dialog is said by ``by_return``
    if name:
        result.setObjectName(name)
    result.clicked.connect(lambda _checked=False: run())
    return result


def by_return(made: QPushButton) -> QPushButton:
    """Let Return in the dialog press a button."""
    made.setDefault(True)
    return made


def column(*items: Any, margin: int = 0, space: int = theme.SPACE) -> QVBoxLayout:
    """Widgets, layouts and stretches (None) below each other."""
    return _filled(QVBoxLayout(), items, margin, space)


def row(*items: Any, margin: int = 0, space: int = theme.SPACE) -> QHBoxLayout:
    """Widgets, layouts and stretches (None) beside each other."""
    return _filled(QHBoxLayout(), items, margin, space)


def _filled(box: Any, items: tuple[Any, ...], margin: int, space: int) -> Any:
    box.setContentsMargins(margin, margin, margin, margin)
    box.setSpacing(space)
    for item in items:
        if item is None:
            box.addStretch(1)
        elif isinstance(item, QWidget):
            box.addWidget(item)
        elif isinstance(item, QLayout):
            box.addLayout(item)
        else:
            box.addSpacing(int(item))
    return box


def emptied(box: QLayout) -> None:
    """Take everything out of a layout; what lies in layouts within it goes too."""
    while (item := box.takeAt(0)) is not None:
        widget, inner = item.widget(), item.layout()
        if widget is not None:
            widget.hide()  # without a parent it would stand alone for a moment
            widget.deleteLater()
        elif inner is not None:
            emptied(inner)
            inner.deleteLater()


def panel(layout: Any, name: str = "panel") -> QWidget:
    """A widget around a layout."""
    result = QWidget()
    result.setObjectName(name)
    result.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
    result.setLayout(layout)
    return result


class _ScrollsDown(QScrollArea):
    """A frame in which what it holds is as high as its words need at the frame's width: left alone Qt squeezes them."""

    def __init__(self) -> None:
        super().__init__()
        # a layout that is asked anew while what it lies in grows keeps the height before
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(0)
        self._later.timeout.connect(self._lay_out)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if watched is self.widget() and event is not None:
            if event.type() == QEvent.Type.LayoutRequest:
                self.updateGeometry()  # what it holds may be wider now
                self._fit_height()
            if event.type() in (QEvent.Type.LayoutRequest, QEvent.Type.Resize):
                self._later.start()
        return super().eventFilter(watched, event)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._fit_height()

    def _fit_height(self) -> None:
        inner, sight = self.widget(), self.viewport()
        layout = None if inner is None else inner.layout()
        if inner is None or sight is None or layout is None or not layout.hasHeightForWidth():
            return
        needed = layout.totalHeightForWidth(max(sight.width(), inner.minimumSizeHint().width()))
        if needed != inner.minimumHeight():
            inner.setMinimumHeight(needed)

    def _lay_out(self) -> None:
        inner = self.widget()
        layout = None if inner is None else inner.layout()
        if inner is not None and layout is not None and layout.geometry().size() != inner.size():
            layout.activate()


class _AsWide(_ScrollsDown):
    """One that is never narrower than what it holds."""

    def minimumSizeHint(self) -> QSize:
        inner, bar, least = self.widget(), self.verticalScrollBar(), super().minimumSizeHint()
        room = 0 if bar is None else bar.sizeHint().width()
        return least if inner is None else QSize(inner.minimumSizeHint().width() + room, least.height())


def scrolled(content: QWidget, name: str = "", *, as_wide: bool = False) -> QScrollArea:
    """What may grow long, in a frame that scrolls down when there is no more room.

    With a ``name`` Tab stops there, so that keys can scroll what holds words only; without one its fields lead through it. One
    that is ``as_wide`` as its content cuts nothing off at its side.
    """
    area = _AsWide() if as_wide else _ScrollsDown()
    if name:
        area.setAccessibleName(name)
    else:
        area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    area.setWidgetResizable(True)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    area.setWidget(content)
    return area


def form(rows: list[tuple[str, QWidget]]) -> QGridLayout:
    """Labels and their fields in two columns; each label names its field for screen readers.

    On the pages of Plan labels and fields have one width everywhere (``theme``).
    """
    grid = QGridLayout()
    grid.setHorizontalSpacing(theme.LABEL_GAP)
    grid.setVerticalSpacing(theme.SPACE - 2)
    for i, (text, field) in enumerate(rows):
        title = label(text)
        title.setBuddy(field)
        title.setToolTip(meaning(text))
        if not field.accessibleName():
            field.setAccessibleName(text)
        title.setProperty("form", "name")
        field.setProperty("form", "field")
        grid.addWidget(title, i, 0)
        grid.addWidget(field, i, 1)
    grid.setColumnStretch(2, 1)
    return grid


def panel_form(rows: list[tuple[str, QWidget]]) -> QGridLayout:
    """Labels and fields for a panel beside a picture: fields take the width that the labels leave."""
    grid = form(rows)
    grid.setContentsMargins(0, 0, 0, 0)
    grid.setHorizontalSpacing(theme.SPACE)
    grid.setColumnStretch(1, 1)
    grid.setColumnStretch(2, 0)
    for _title, field in rows:
        if isinstance(field, QComboBox):
            field.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            field.setMinimumContentsLength(4)
        field.setSizePolicy(QSizePolicy.Policy.Expanding, field.sizePolicy().verticalPolicy())
    return grid


def title_at(grid: QGridLayout, row_: int) -> QWidget:
    """The label of a row of a form."""
    item = grid.itemAtPosition(row_, 0)
    title = None if item is None else item.widget()
    assert title is not None
    return title


def asked(
    parent: QWidget,
    icon: QMessageBox.Icon,
    title: str,
    sentence: str,
    answers: Mapping[str, tuple[str, QMessageBox.ButtonRole]],
) -> str:
    """Ask a question until it is answered; returns the word of the answer.

    ``answers`` are a word each with the button's text and role: the first is what Return presses, the last what Escape does.
    """
    box = QMessageBox(icon, title, sentence, parent=parent)
    buttons = {word: box.addButton(text, role) for word, (text, role) in answers.items()}
    words = list(buttons)
    box.setDefaultButton(buttons[words[0]])
    box.setEscapeButton(buttons[words[-1]])
    answered(box)
    return next((word for word, made in buttons.items() if made is box.clickedButton()), words[-1])


def answered(dialog: QDialog) -> int:
    """Show a dialog until it is closed, and let it go: it would stay as long as the window it belongs to."""
    try:
        return dialog.exec()
    finally:
        dialog.deleteLater()
