"""A layout that sets widgets beside each other and goes on below where there is no more room."""

from __future__ import annotations

from PyQt6.QtCore import QPoint, QRect, QSize, Qt
from PyQt6.QtWidgets import QLayout, QLayoutItem, QWidget

from idle_lantern.app import theme


class FlowLayout(QLayout):
    """Rows of widgets at their own size, as many in each as it holds; what is hidden takes no room."""

    def __init__(self, *widgets: QWidget, space: int = theme.SPACE) -> None:
        super().__init__()
        self._items: list[QLayoutItem] = []
        self._space = space
        self.setContentsMargins(0, 0, 0, 0)
        for widget in widgets:
            self.addWidget(widget)

    def addItem(self, item: QLayoutItem | None) -> None:
        """Take an item in at the end."""
        if item is not None:
            self._items.append(item)

    def count(self) -> int:
        """How many items there are."""
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        """The item of that number."""
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        """The item of that number, which is in the layout no longer."""
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        """None: it takes no more than it needs."""
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:
        """The narrower the higher."""
        return True

    def heightForWidth(self, width: int) -> int:
        """Height of all rows at that width."""
        return self._arranged(QRect(0, 0, width, 0), move=False)

    def setGeometry(self, rect: QRect) -> None:
        """Set all widgets into a rectangle."""
        super().setGeometry(rect)
        self._arranged(rect, move=True)

    def sizeHint(self) -> QSize:
        """As in one row."""
        shown = [item.sizeHint() for item in self._items if not item.isEmpty()]
        width = sum(s.width() for s in shown) + self._space * max(0, len(shown) - 1)
        return QSize(width, max((s.height() for s in shown), default=0))

    def minimumSize(self) -> QSize:
        """Of its widest widget."""
        shown = [item.sizeHint() for item in self._items if not item.isEmpty()]
        return QSize(max((s.width() for s in shown), default=0), max((s.height() for s in shown), default=0))

    def _arranged(self, rect: QRect, *, move: bool) -> int:
        """Height of the rows in a rectangle; ``move`` sets the widgets there."""
        x, y, high = rect.x(), rect.y(), 0
        row: list[tuple[QLayoutItem, int]] = []

        def set_row() -> None:
            for item, left in row if move else ():
                size = item.sizeHint()
                item.setGeometry(QRect(QPoint(left, y + (high - size.height()) // 2), size))
            row.clear()

        for item in self._items:
            if item.isEmpty():
                continue
            size = item.sizeHint()
            if row and x + size.width() > rect.x() + rect.width():
                set_row()
                x, y, high = rect.x(), y + high + self._space // 2, 0
            row.append((item, x))
            x, high = x + size.width() + self._space, max(high, size.height())
        set_row()
        return y + high - rect.y()
