"""Practice: choose an exercise, set what is free, shoot and join it, and see the picture beside the right one."""

from __future__ import annotations

import datetime
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QImage, QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import (
    QDialog,
    QGridLayout,
    QListWidget,
    QListWidgetItem,
    QProgressBar,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from idle_lantern.app import theme
from idle_lantern.app.context import AppContext
from idle_lantern.app.display import to_qimage
from idle_lantern.app.practice import model
from idle_lantern.app.tasks import Task
from idle_lantern.app.widgets.basics import button, column, emptied, form, label, panel, row, scrolled
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.app.widgets.quantity_edit import QuantityEdit
from idle_lantern.core.base import units
from idle_lantern.core.base.errors import InputError, LanternError
from idle_lantern.course.consequences import Outcome
from idle_lantern.course.course import Attempt, attempt
from idle_lantern.course.exercise import Amount, Exercise
from idle_lantern.course.faults import Fault
from idle_lantern.course.record import RecordRow, add_row, best, practice_file, read_rows

PRACTISING = "Shooting and joining the exercise"
_LIST_WIDTH, _TASK_WIDTH = 310, 372


class PracticeDialog(QDialog):
    """All exercises, one of them open."""

    def __init__(self, context: AppContext, parent: QWidget | None = None, seed: int | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Practice")
        self.setObjectName("practice-dialog")
        self._context, self._closed, self._runs = context, False, 0
        self._task: Task | None = None
        self._scratch = tempfile.TemporaryDirectory(prefix="idle-lantern-")
        self._rows = read_rows(practice_file())
        self.seed = seed if seed is not None else 1 + len(self._rows)
        self.exercise: Exercise | None = None
        self.fault: Fault | None = None
        self.values: dict[str, float | str] = {}
        self.last: Attempt | None = None
        self._right: tuple[tuple[str, int], Outcome] | None = None
        self.list = QListWidget()
        self.list.setAccessibleName("Exercises and faults")
        self.list.setFixedWidth(_LIST_WIDTH)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.currentRowChanged.connect(self._choose)
        self.title, self.task = label("", "head", wrap=True), label("", wrap=True, name="practice-task")
        self.knobs: dict[str, QWidget] = {}
        self._knob_box, self._instrument_box = QVBoxLayout(), QVBoxLayout()
        self.shoot_button = button("Shoot and join", self.shoot, main=True, name="practice-shoot")
        self.other_button = button("Another place and light", self.another, name="practice-another")
        self.bar = QProgressBar()
        self.bar.setRange(0, 1000)
        self.bar.setTextVisible(False)
        self.bar.hide()
        self.left = label("", "dim", name="practice-left")
        self.stop_button = button("Stop", self.stop, quiet=True, name="practice-stop")
        self.stop_button.hide()
        self.lesson = label("", "dim", wrap=True, name="practice-lesson")
        middle = column(
            self.title,
            self.task,
            8,
            self._instrument_box,
            self._knob_box,
            8,
            row(self.shoot_button, self.other_button, None),
            self.bar,
            row(self.left, None, self.stop_button),
            self.lesson,
            None,
        )
        holder = QWidget()
        holder.setLayout(middle)
        task = scrolled(holder)
        task.setFixedWidth(_TASK_WIDTH)
        self.mine, self.good = PictureStrip("Your picture"), PictureStrip("The same done right")
        self.mine.other, self.good.other = self.good, self.mine
        self.grade = label("", "big", wrap=True, name="practice-grade")
        self.told = label("", wrap=True, name="practice-told")
        right = column(
            label("Yours  (press on a picture to see the other in its place)", "dim"),
            self.mine,
            label("Done right", "dim"),
            self.good,
            self.grade,
            self.told,
        )
        self.setLayout(
            row(
                self.list,
                task,
                panel(right, "ground"),
                margin=16,
                space=theme.SPACE * 2,
            )
        )
        self.layout().setStretch(2, 1)  # type: ignore[union-attr]
        self.resize(1260, 740)
        context.tasks.changed.connect(self._show_work)
        self._fill_list()
        self.list.setCurrentRow(1)

    # --- choosing ---------------------------------------------------------------

    def _fill_list(self) -> None:
        self._listed = model.listed(best(self._rows))
        at = self.list.currentRow()
        self.list.blockSignals(True)
        self.list.clear()
        for one in self._listed:
            item = QListWidgetItem(one.words)
            if one.exercise is None:
                item.setFlags(Qt.ItemFlag.NoItemFlags)
            self.list.addItem(item)
        self.list.setCurrentRow(at)
        self.list.blockSignals(False)

    def _choose(self, at: int) -> None:
        one = self._listed[at] if 0 <= at < len(self._listed) else None
        if one is None or one.exercise is None:
            return
        self.exercise, self.fault = one.exercise, one.fault
        self._begin()

    def choose(self, key: str, *, fault: bool = False) -> None:
        """Open an exercise, or a fault, by its key."""
        for at, one in enumerate(self._listed):
            name = one.fault.key if one.fault is not None else one.exercise.key if one.exercise is not None else ""
            if name == key and (one.fault is not None) == fault:
                self.list.setCurrentRow(at)

    def another(self) -> None:
        """The same exercise at another place, in other light."""
        self.seed += 1
        self._begin()

    def _begin(self) -> None:
        """Show the exercise as it starts."""
        exercise = self.exercise
        if exercise is None:
            return
        self.last = None
        self.values = exercise.start() if self.fault is None else self.fault.values(self.seed)
        self.title.setText(exercise.title if self.fault is None else self.fault.title)
        self.task.setText(model.task_of(exercise, self.fault))
        self._make_knobs(exercise)
        self._show_instruments()
        for picture in (self.mine, self.good):
            picture.show_pixels(None)
        for line in (self.grade, self.told, self.lesson):
            line.setText("")

    def _make_knobs(self, exercise: Exercise) -> None:
        emptied(self._knob_box)
        self.knobs = {}
        made: list[tuple[str, QWidget]] = []
        for knob in exercise.knobs:
            if isinstance(knob, Amount):
                field = QuantityEdit(knob.name, _reader(knob), _writer(knob), knob.step)
                field.show_value(float(self.values[knob.key]))
                field.submitted.connect(lambda value, k=knob.key: self.set_value(k, value))
                field.refused.connect(self.told.setText)
                made.append((knob.name, field))
            else:
                chooser = Chooser()
                chooser.setAccessibleName(knob.name)
                for value, words in knob.options.items():
                    chooser.addItem(words, value)
                chooser.setCurrentIndex(chooser.findData(self.values[knob.key]))
                chooser.activated.connect(lambda i, k=knob.key, f=chooser: self.set_value(k, f.itemData(i)))
                made.append((knob.name, chooser))
            made[-1][1].setObjectName(f"practice-{knob.key}")
            made[-1][1].setEnabled(self.fault is None)
            self.knobs[knob.key] = made[-1][1]
        self._knob_box.addLayout(form(made))

    def set_value(self, key: str, value: float | str) -> None:
        """Choose otherwise; what the instruments say follows at once."""
        if self.values.get(key) != value:
            self.values[key] = value
            self._show_instruments()
        field = self.knobs[key]
        if isinstance(field, QuantityEdit):
            field.show_value(float(value))

    def _show_instruments(self) -> None:
        emptied(self._instrument_box)
        if self.exercise is not None:
            rows = self.exercise.instruments(self.seed, self.values)
            self._instrument_box.addLayout(_figures(rows))

    # --- doing ------------------------------------------------------------------

    def shoot(self) -> None:
        """Do it as chosen, off the thread."""
        exercise, seed, values, fault = self.exercise, self.seed, dict(self.values), self.fault
        if exercise is None or self._task is not None:
            return
        self._runs += 1  # one that was stopped may still write into its own folder
        folder = Path(self._scratch.name) / f"run-{self._runs}"
        known = self._right[1] if self._right is not None and self._right[0] == (exercise.key, seed) else None

        def done(found: Attempt) -> None:
            if self._closed or (self.exercise, self.seed, self.fault) != (exercise, seed, fault):
                return
            self._right = ((exercise.key, seed), found.right)
            self._take(found)

        def failed(error: LanternError) -> None:
            if not self._closed:
                self.told.setText(error.sentence)

        self._task = self._context.start(
            PRACTISING, lambda task: attempt(exercise, seed, values, folder, task, known), done, failed
        )
        self._show_work()

    def stop(self) -> None:
        """Stop what runs; nothing of it is kept."""
        if self._task is not None:
            self._task.cancel()

    def _show_work(self) -> None:
        if self._closed:
            return
        if self._task is not None and not self._context.tasks.busy(PRACTISING):
            self._task = None
        task = self._task
        self.shoot_button.setEnabled(task is None)
        self.bar.setVisible(task is not None)
        self.stop_button.setVisible(task is not None)
        self.left.setText("")
        if task is not None:
            self.bar.setValue(round(1000 * task.clock.fraction))
            remaining = task.clock.remaining_s
            self.left.setText("" if remaining is None else units.time_left(remaining))

    def _take(self, found: Attempt) -> None:
        """Show what came of it, and keep the grade."""
        assert self.exercise is not None
        self.last = found
        self.mine.show_pixels(None if found.done.failed else found.done.sheet)
        self.good.show_pixels(found.right.sheet)
        self.grade.setText(model.grade_words(found, self.fault))
        self.told.setText("\n".join((*model.figures_table(found, self.exercise), model.took(found))))
        self.lesson.setText(self.exercise.lesson)
        if self.fault is None:
            now = datetime.datetime.now().isoformat(timespec="seconds")
            try:
                self._rows = add_row(practice_file(), RecordRow(self.exercise.key, self.seed, found.grade.points, now))
            except LanternError as error:
                self.told.setText(f"{self.told.text()}\nThe grade is not kept: {error.sentence}")
            self._fill_list()

    def done(self, result: int) -> None:
        """Close; what runs is stopped and its files go."""
        self._closed = True
        self.stop()
        self._scratch.cleanup()
        super().done(result)


class PictureStrip(QWidget):
    """A picture as large as fits, in the middle of its room; while it is pressed the ``other`` shows in its place."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.image: QImage | None = None
        self.other: PictureStrip | None = None
        self._pressed = False

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        self._pressed = True
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        self._pressed = False
        self.update()

    @property
    def seen(self) -> QImage | None:
        """What it shows at this moment."""
        return self.other.image if self._pressed and self.other is not None else self.image

    def sizeHint(self) -> QSize:
        return QSize(520, 190)

    def show_pixels(self, pixels: Any) -> None:
        """Show (H, W, 4) pixels, or nothing."""
        self.image = None if pixels is None else to_qimage(pixels)
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        image = self.seen
        if image is None:
            painter.setPen(theme.colour("dim"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "no picture yet")
            return
        scale = min(self.width() / image.width(), self.height() / image.height())
        wide, tall = image.width() * scale, image.height() * scale
        box = QRectF((self.width() - wide) / 2, (self.height() - tall) / 2, wide, tall)
        # what is missing shows as hatching, not as black
        painter.fillRect(box, theme.colour("raised"))
        painter.setPen(theme.colour("dim"))
        painter.setBrush(Qt.BrushStyle.BDiagPattern)
        painter.drawRect(box)
        painter.drawImage(box, image)


def _reader(knob: Amount) -> Callable[[str], float]:
    def read(text: str) -> float:
        cleaned = text.strip()
        if knob.unit and cleaned.endswith(knob.unit):
            cleaned = cleaned[: -len(knob.unit)]
        value = units.parse_number(cleaned, "a number", f"{knob.start:g}")
        if not knob.low <= value <= knob.high:
            raise InputError(f"goes from {knob.low:g} to {knob.high:g} {knob.unit}".rstrip())
        return value

    return read


def _writer(knob: Amount) -> Callable[[float], str]:
    return lambda value: model.shown_value(knob, value)


def _figures(rows: tuple[tuple[str, str], ...]) -> QGridLayout:
    """What instruments say, name and figure."""
    return form([(name, label(text, "figure", wrap=True)) for name, text in rows])
