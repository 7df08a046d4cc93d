"""A list of small pictures to choose from, each with a title and what it costs."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QFontMetricsF, QImage, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QPushButton, QSizePolicy, QVBoxLayout, QWidget

from idle_lantern.app import theme

_MARGIN, _PICTURE_PX, _HIGH_PX = 6.0, 70, 80


@dataclass(frozen=True)
class CardShown:
    """A card: its key, title, picture (None where there is none), lines under it, and the line that says why it suits best."""

    key: str
    title: str
    image: QImage | None
    told: str
    suits: str = ""
    usable: bool = True


class PictureCard(QPushButton):
    """One card; chosen ones carry a bar, the one that suits best a word."""

    def __init__(self, card: CardShown, choose: Callable[[str], None]) -> None:
        super().__init__()
        self.card = card
        self.setProperty("card", True)
        self.setCheckable(True)
        self.setEnabled(card.usable)
        self.setObjectName(f"card-{card.key}")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        told = ". ".join(filter(None, (card.title, card.told, card.suits)))
        self.setAccessibleName(told)
        self.setToolTip(told)
        self.clicked.connect(lambda _checked=False: choose(card.key))

    def sizeHint(self) -> QSize:
        """Room for a picture, and for three lines beside it."""
        return QSize(theme.scaled(200), theme.scaled(_HIGH_PX))

    def minimumSizeHint(self) -> QSize:
        """As wide as the panel they lie in lets them be."""
        return QSize(theme.scaled(140), theme.scaled(_HIGH_PX))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        whole = QRectF(self.rect())
        painter.fillRect(whole, theme.colour("raised" if self.isChecked() or self.underMouse() else "panel"))
        if self.isChecked():
            painter.fillRect(QRectF(0, 0, 4, whole.height()), theme.colour("accent"))
        if self.hasFocus():
            painter.setPen(QPen(theme.colour("accent"), 2))
            painter.drawRect(whole.adjusted(1, 1, -1, -1))
        inner = whole.adjusted(_MARGIN + 2, _MARGIN, -_MARGIN, -_MARGIN)
        room = QRectF(inner.left(), inner.top(), theme.scaled(_PICTURE_PX), inner.height())
        if self.card.image is not None:
            size = self.card.image.size().scaled(room.size().toSize(), Qt.AspectRatioMode.KeepAspectRatio)
            middle = room.center()
            painter.drawImage(
                QRectF(middle.x() - size.width() / 2, middle.y() - size.height() / 2, size.width(), size.height()),
                self.card.image,
            )
        words = inner.adjusted(room.width() + 6, 0, 0, 0)
        painter.setFont(theme.font(theme.SMALL, bold=True))
        line = QFontMetricsF(painter.font()).height()
        painter.setPen(theme.colour("text" if self.isEnabled() else "dim"))
        title = self.card.title + ("  ◂ suits" if self.card.suits else "")
        painter.drawText(QRectF(words.left(), words.top(), words.width(), line), Qt.AlignmentFlag.AlignLeft, title)
        painter.setFont(theme.font(theme.SMALL))
        painter.setPen(theme.colour("dim"))
        below = words.adjusted(0, line + 1, 0, 0)
        painter.drawText(below, int(Qt.AlignmentFlag.AlignLeft) | int(Qt.TextFlag.TextWordWrap), self.card.told)


class PictureCards(QWidget):
    """The list; arrow keys go from card to card."""

    def __init__(self, choose: Callable[[str], None]) -> None:
        super().__init__()
        self._choose = choose
        self._box = QVBoxLayout()
        self._box.setContentsMargins(0, 0, 0, 0)
        self._box.setSpacing(2)
        self.setLayout(self._box)
        self.cards: list[PictureCard] = []

    def show_cards(self, cards: list[CardShown], chosen: str) -> None:
        """Show other cards; focus stays on the card of the same key."""
        focused = next((c.card.key for c in self.cards if c.hasFocus()), "")
        for old in self.cards:
            self._box.removeWidget(old)
            old.deleteLater()
        self.cards = [PictureCard(card, self._choose) for card in cards]
        for new in self.cards:
            self._box.addWidget(new)
            if new.card.key == focused:
                new.setFocus()
        self.mark(chosen)

    def mark(self, chosen: str) -> None:
        """Mark the card that is chosen."""
        for card in self.cards:
            card.setChecked(card.card.key == chosen)
