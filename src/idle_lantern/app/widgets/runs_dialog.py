"""A card with several runs: which of them come in, each into an outing of its own."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QCheckBox, QDialog, QSizePolicy, QWidget

from idle_lantern.app import theme
from idle_lantern.app.display import to_qimage
from idle_lantern.app.widgets.basics import button, column, label, panel, row, scrolled, set_look_property
from idle_lantern.core.base.arrays import Array

HERE, APART = 1, 2
_STRIP_PX = 54
_WHY_APART = (
    "One picture is joined from one run. Bring several into one outing only where they are parts of one picture."
)


@dataclass(frozen=True)
class RunLine:
    """A run as the dialog shows it: its words, whether it can be a picture of several frames, small looks at its positions."""

    words: str
    sweep: bool
    looks: tuple[Array, ...] = ()


class _Strip(QWidget):
    """Thumbnails beside each other, as many as there is room for."""

    def __init__(self, looks: Sequence[Array]) -> None:
        super().__init__()
        self._images = [to_qimage(look) for look in looks]
        self.setFixedHeight(theme.scaled(_STRIP_PX))
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        return QSize(400, self.height())

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter, left, height = QPainter(self), 0.0, float(self.height())
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        for at, image in enumerate(self._images):
            width = height * image.width() / max(1, image.height())
            rest = len(self._images) - at
            if left + width > self.width() - (0 if rest == 1 else 44):
                painter.setPen(theme.colour("dim"))
                painter.drawText(QRectF(left + 6, 0, 60, height), int(Qt.AlignmentFlag.AlignVCenter), f"+ {rest}")
                return
            painter.drawImage(QRectF(left, 0, width, height), image)
            left += width + 3


class RunsDialog(QDialog):
    """One line for each run, ticked at first where it can be a picture; ended with ``HERE`` or ``APART``, or rejected."""

    def __init__(self, runs: Sequence[RunLine], left: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Runs on this card")
        self.setObjectName("runs")
        self.resize(820, min(680, 240 + (50 + _STRIP_PX) * len(runs)))
        self.boxes = []
        lines: list[QWidget | int] = []
        for k, run in enumerate(runs):
            box = QCheckBox(run.words)
            box.setObjectName(f"run-{k}")
            box.setChecked(run.sweep)
            box.toggled.connect(self._arm)
            self.boxes.append(box)
            lines += [box, _Strip(run.looks), 6] if run.looks else [box]
        self.apart = button("An outing for each", lambda: self.done(APART), name="runs-apart")
        self.here = button("Into this outing", lambda: self.done(HERE), name="runs-here")
        cancel = button("Cancel", self.reject, quiet=True)
        self.why = label(_WHY_APART, "dim", wrap=True, name="runs-why")
        self.setLayout(
            column(
                label(f"{len(runs)} runs, told apart by pauses, hands before the lens, and lenses", "head"),
                scrolled(panel(column(*lines, None), "ground")),
                label(left, "dim", wrap=True),
                self.why,
                row(None, cancel, self.here, self.apart),
                margin=16,
            )
        )
        self._arm()

    @property
    def chosen(self) -> list[int]:
        """Numbers of the runs that are ticked, from 0."""
        return [k for k, box in enumerate(self.boxes) if box.isChecked()]

    def _arm(self) -> None:
        """Return takes what is usual: an outing for each of several runs, this one for a single one."""
        count = len(self.chosen)
        self.here.setEnabled(count > 0)
        self.apart.setEnabled(count > 1)
        self.here.setText("All into this outing" if count > 1 else "Into this outing")
        self.why.setVisible(count > 1)
        for each, usual in ((self.here, count == 1), (self.apart, count > 1)):
            set_look_property(each, "main", usual)
            each.setDefault(usual)
