"""One wide frame of the same place beside the joined picture: laid on it, measured, and let go again."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QFileDialog, QGridLayout, QLabel, QWidget

from idle_lantern.app.context import AppContext
from idle_lantern.app.stages import finish_single_model as model
from idle_lantern.app.widgets.basics import button, column, emptied, label, row
from idle_lantern.core.pictures.source import PictureSource

if TYPE_CHECKING:
    from idle_lantern.core.advice.single_figures import Against
    from idle_lantern.core.advice.single_frame import SingleFrame

PLACING = "Laying the frame on the picture"


class SingleFrameTold(QWidget):
    """``changed`` tells that another frame lies beside the picture, or none."""

    changed = pyqtSignal()

    def __init__(self, context: AppContext) -> None:
        super().__init__()
        self._context, self._state = context, context.state
        #: The frame on the picture's canvas, and its figures.
        self.frame: SingleFrame | None = None
        self.source: PictureSource | None = None
        self.against: Against | None = None
        self._of: PictureSource | None = None
        self._grid = QGridLayout()
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._told = label("", "dim", wrap=True, name="finish-single-told")
        away = button("Take it away", self.take_away, name="finish-single-away")
        layout = column(label("One wide frame", "head"), self._grid, self._told, row(away, None))
        layout.setContentsMargins(0, 0, 0, 0)
        self.setLayout(layout)
        self.setVisible(False)

    def ask(self, picture: PictureSource) -> None:
        """Choose a frame and lay it on the joined picture; one that lies there is taken away."""
        if self.frame is not None:
            self.take_away()
            return
        begin = model.likely_frame(self._state.outing, self._state.joined, self._state.path_of)
        name, _ = QFileDialog.getOpenFileName(
            self, "Choose one wide frame of the same place", str(begin or Path.home()), model.PICTURES
        )
        if name:
            self.lay(Path(name), picture)

    def lay(self, path: Path, picture: PictureSource) -> None:
        """Lay a frame on the joined picture, off the thread."""
        joined, place = self._state.joined, self._state.place
        if joined is None or place is None:
            return

        def work(task: Any) -> tuple[SingleFrame, Against, PictureSource]:
            from idle_lantern.core.advice import single_figures, single_frame  # loaded when needed

            frame = single_frame.placed_frame(path, picture, joined.canvas, task)
            against = single_figures.compared(frame, picture, joined.canvas, task)
            return frame, against, single_frame.FrameOnCanvas(frame, joined.canvas, picture)

        def done(found: tuple[SingleFrame, Against, PictureSource]) -> None:
            if self._state.is_open(place) and self._state.joined is joined:
                self._of, (self.frame, self.against, self.source) = picture, found
                self._show()

        self._context.start(PLACING, work, done, lambda error: self._context.tell(error.sentence))

    def of_picture(self, picture: PictureSource | None) -> None:
        """Another joined picture: the frame lay on the one before."""
        if picture is not self._of:
            self.take_away()

    def take_away(self) -> None:
        """Leave the picture alone again."""
        if self.frame is not None:
            self.frame = self.source = self.against = self._of = None
            self._show()

    def _show(self) -> None:
        emptied(self._grid)
        if self.frame is not None and self.against is not None:
            rows = [("", "the frame", "the picture"), *self.against.rows()]
            for k, cells in enumerate(rows):
                for c, text in enumerate(cells):
                    cell = QLabel(text)
                    cell.setProperty("role", "dim" if not k or not c else "")
                    if c:
                        cell.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                    self._grid.addWidget(cell, k, c)
            self._told.setText(
                f"{self.against.sentence()} {self.frame.matches} places agree with {self.frame.path.name}."
            )
        self.setVisible(self.frame is not None)
        self.changed.emit()
