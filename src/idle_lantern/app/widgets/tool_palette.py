"""Tools beside a picture: an icon each with its key, grouped by the question behind them."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen, QResizeEvent
from PyQt6.QtWidgets import QPushButton, QSizePolicy, QWidget

from idle_lantern.app import theme
from idle_lantern.app.actions import by_id, shown_keys
from idle_lantern.app.widgets.icons import icon

#: Sizes at scale 1: a tool, its icon, and the gap between two groups.
_WIDE_PX, _HIGH_PX, _ICON_PX, _GAP_PX = 36, 34, 20, 9

#: A question and the actions that answer it.
Group = tuple[str, tuple[str, ...]]


class ToolButton(QPushButton):
    """One action by its icon and key; with ``words`` these stand beside the icon.

    What cannot be done now is dim and can be pressed all the same: pressing it says why not. Screen readers are told the
    ``question`` behind it and its state.
    """

    def __init__(self, action_id: str, ask: Callable[[str], object], words: str = "", question: str = "") -> None:
        super().__init__()
        self._action, self.words, self._question = by_id(action_id), words, question
        self._ready = True
        self.setAccessibleDescription(question)
        self.setProperty("held", False)
        self.setAutoDefault(False)
        self.setObjectName(action_id.replace(".", "-").replace("_", "-"))
        title = self._action.title.rstrip(" …")
        self.setAccessibleName(title)
        keys = shown_keys(self._action)
        self.setToolTip(f"{title}   [{keys}]" if keys else title)
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
        self.clicked.connect(lambda _checked=False: ask(action_id))

    @property
    def action_id(self) -> str:
        """What it does."""
        return self._action.id

    def sizeHint(self) -> QSize:
        """Room for the icon, and for words where there are any."""
        if not self.words:
            return QSize(theme.scaled(_WIDE_PX), theme.scaled(_HIGH_PX))
        words = self.fontMetrics().horizontalAdvance(f"{self.words}  {self._key}")
        return QSize(theme.scaled(_ICON_PX + 18) + words, theme.scaled(_HIGH_PX - 4))

    def minimumSizeHint(self) -> QSize:
        """Nothing of it is cut."""
        return self.sizeHint()

    @property
    def _key(self) -> str:
        """The key as it stands on the tool: those that are long stand in its tip only."""
        keys = self._action.keys.replace("Shift+", "⇧")
        return keys if len(keys) <= 2 else ""

    def show_state(self, *, ready: bool, held: bool) -> None:
        """Whether it can be done now, and whether it is the tool in hand."""
        if (ready, held) == (self._ready, bool(self.property("held"))):
            return
        self._ready = ready
        self.setProperty("held", held)
        state = "In hand." if held else "" if ready else "Not possible now."
        self.setAccessibleDescription(" ".join(filter(None, (self._question, state))))
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        whole, held = QRectF(self.rect()).adjusted(1, 1, -1, -1), bool(self.property("held"))
        tone = "text" if self._ready and self.isEnabled() else "dim"
        if held or self.underMouse() or self.isDown() or self.words:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.colour("line" if self.isDown() else "raised"))
            painter.drawRoundedRect(whole, 3, 3)
        if held:  # told by a bar, not only by a tone
            painter.fillRect(QRectF(whole.left(), whole.top(), 4, whole.height()), theme.colour("accent"))
        if self.hasFocus():
            painter.setPen(QPen(theme.colour("accent"), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(whole, 3, 3)
        side = theme.scaled(_ICON_PX)
        drawn = icon(self._action.id, tone, side, self.devicePixelRatioF())
        if not self._ready or not self.isEnabled():
            painter.setOpacity(0.6)
        painter.setPen(theme.colour(tone))
        if self.words:
            painter.drawPixmap(theme.scaled(6), round((self.height() - side) / 2), drawn)
            left = theme.scaled(_ICON_PX + 11)
            box = whole.adjusted(left, 0, -theme.scaled(6), 0)
            painter.drawText(box, int(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter), self.words)
            painter.setPen(theme.colour("dim"))
            painter.drawText(box, int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter), self._key)
            painter.end()
            return
        painter.drawPixmap(theme.scaled(3), round((self.height() - side) / 2), drawn)
        painter.setFont(theme.font(theme.TINY))
        box = whole.adjusted(0, 0, -2, -1)
        painter.drawText(box, int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignBottom), self._key)
        painter.end()


class ToolPalette(QWidget):
    """A column of tools, or as many columns as its height asks for; groups are parted by a line."""

    def __init__(self, groups: Sequence[Group], ask: Callable[[str], object]) -> None:
        super().__init__()
        self.setAccessibleName("Tools")
        self.setObjectName("tools")
        self.groups = tuple(groups)
        questions = {action_id: question for question, ids in self.groups for action_id in ids}
        self.tools = {action_id: ToolButton(action_id, ask, question=q) for action_id, q in questions.items()}
        #: Lines between groups: the column, and how far down.
        self._lines: list[tuple[int, int]] = []
        for tool in self.tools.values():
            tool.setParent(self)
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Expanding)
        self._arrange()

    def show_groups(self, groups: Sequence[Group]) -> None:
        """Show these groups alone."""
        if tuple(groups) != self.groups:
            self.groups = tuple(groups)
            self._arrange()

    def sizeHint(self) -> QSize:
        """One tool wide at least."""
        return QSize(self.width(), 5 * theme.scaled(_HIGH_PX))

    def minimumSizeHint(self) -> QSize:
        """It goes on beside itself where its height is short."""
        return self.sizeHint()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._arrange()

    def _arrange(self) -> None:
        wide, high, gap, edge = (theme.scaled(v) for v in (_WIDE_PX, _HIGH_PX, _GAP_PX, 2))
        shown = {action_id for _question, ids in self.groups for action_id in ids}
        for action_id, tool in self.tools.items():
            tool.setVisible(action_id in shown)
        column, y = 0, edge
        self._lines = []
        for at, (_question, ids) in enumerate(self.groups):
            if at and y > edge:
                if y + gap + high <= self.height():
                    self._lines.append((column, y + gap // 2))
                y += gap
            for action_id in ids:
                if y + high > self.height() and y > edge:
                    column, y = column + 1, edge
                self.tools[action_id].setGeometry(edge + column * (wide + edge), y, wide, high)
                y += high
        width = (column + 1) * (wide + edge) + edge
        if width != self.minimumWidth() or width != self.maximumWidth():
            self.setFixedWidth(width)
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.colour("panel"))
        painter.setPen(QPen(theme.colour("line"), 1))
        step = theme.scaled(_WIDE_PX) + theme.scaled(2)
        for column, y in self._lines:
            left = column * step
            painter.drawLine(left + 8, y, left + step - 6, y)
        painter.end()
