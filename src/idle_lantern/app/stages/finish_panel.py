"""The panel of a recipe: its steps in their order, the figures of the one in hand, and where that works."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from PyQt6.QtCore import QSize, Qt, pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QLayout, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from idle_lantern.app import theme
from idle_lantern.app.context import AppContext
from idle_lantern.app.stages import finish_edits, finish_figures
from idle_lantern.app.stages import finish_heal_model as heal_model
from idle_lantern.app.stages import finish_mask_model as mask_model
from idle_lantern.app.stages import finish_model as model
from idle_lantern.app.widgets.basics import column, label, panel_form, row
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.app.widgets.curve_edit import CurveEdit, Points
from idle_lantern.app.widgets.figure_row import FigureRow
from idle_lantern.app.widgets.tool_palette import ToolButton
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.finish.curves import TabledCurve
from idle_lantern.core.finish.masks import Mask
from idle_lantern.core.finish.step import Step
from idle_lantern.core.finish.steps.curve import Curve
from idle_lantern.core.finish.steps.heal import Heal
from idle_lantern.core.join.request import JoinResult

FINDING_SKY = "Finding the sky"
_ROW_PX, _LEAST_ROWS, _MOST_ROWS = 25, 3, 8
_TOOLS = ("switch", "earlier", "later", "remove")


class FinishPanel(QWidget):
    """``chosen`` tells that another step is in hand; ``trying`` gets the step in hand with a figure that a hand is still at."""

    chosen = pyqtSignal()
    trying = pyqtSignal(object)

    def __init__(self, context: AppContext) -> None:
        super().__init__()
        self._context, self._state = context, context.state
        #: The step in hand, by its place in the recipe.
        self.at: int | None = None
        #: The healed place that is chosen.
        self.place: int | None = None
        self.add = Chooser()
        self.add.setObjectName("finish-add-step")
        self.add.setAccessibleName("Add a step")
        self.add.addItem("Add a step …", "")
        for k, (title, name, meaning) in enumerate(model.kinds(), 1):
            self.add.addItem(title, name)
            self.add.setItemData(k, meaning, Qt.ItemDataRole.ToolTipRole)
        self.add.activated.connect(lambda i: self.add_step(str(self.add.itemData(i))))
        self.list = QListWidget()
        self.list.setObjectName("finish-steps")
        self.list.setAccessibleName("Steps of the recipe")
        self.list.currentRowChanged.connect(self._choose)
        self.list.itemChanged.connect(self._switched)
        self.none_told = label(
            "Add a step, or pick a grey with G. The joined picture stays as it is.", "dim", wrap=True
        )
        self.title = label("", "head", name="finish-step")
        self.meaning = label("", "dim", wrap=True)
        self._rows: list[FigureRow] = []
        self._shown: object = None
        self.curve = CurveEdit(self._try_curve, self._take_curve)
        self.points = QLineEdit()
        self.points.setObjectName("finish-points")
        self.points.setAccessibleName("Points of the curve")
        self.points.setToolTip("Pairs of input and output from 0 to 100, as 0 → 0   50 → 60   100 → 100")
        self.points.editingFinished.connect(self._take_points)
        self.where = Chooser()
        self.where.setObjectName("finish-where")
        for text, kind in mask_model.MASKS:
            self.where.addItem(text, kind)
        self.where.activated.connect(lambda i: self._choose_mask(str(self.where.itemData(i))))
        self.elsewhere = QCheckBox("Everywhere else")
        self.elsewhere.setObjectName("finish-elsewhere")
        self.elsewhere.clicked.connect(self._turn_round)
        self.mask_told = label("", "dim", wrap=True)
        self._figures, self._mask_figures = _empty(), _empty()
        self._masks = _held(column(panel_form([("Works on", self.where)]), self.elsewhere))
        self._of_step = QWidget()
        inner = column(
            self.title, self.meaning, self.curve, self.points, _held(self._figures), 4,
            self._masks, self.mask_told, _held(self._mask_figures),
        )  # fmt: skip
        inner.setContentsMargins(0, 0, 0, 0)
        self._of_step.setLayout(inner)
        #: What is done with the step in hand, below the list.
        self.tools = _held(
            row(*(ToolButton(f"finish.{name}", context.ask, question="Which step?") for name in _TOOLS), None, space=2)
        )
        layout = column(self.add, self.list, self.tools, self.none_told, self._of_step)
        layout.setContentsMargins(0, 0, 0, 0)
        self.setLayout(layout)

    @property
    def rows(self) -> dict[str, FigureRow]:
        """The figures that are shown, by their names."""
        return {row.figure.name: row for row in self._rows}

    # --- what is in hand --------------------------------------------------------

    @property
    def step(self) -> Step | None:
        """The step in hand."""
        steps = self._state.outing.finish.steps
        return steps[self.at] if self.at is not None and self.at < len(steps) else None

    def choose(self, at: int | None) -> None:
        """Take a step in hand."""
        self.at = at
        self.refresh()
        self.chosen.emit()

    def _choose(self, row: int) -> None:
        if row >= 0 and row != self.at:
            self.choose(row)

    def add_step(self, name: str) -> None:
        """Add a step of that name, and take it in hand."""
        self.add.setCurrentIndex(0)
        if not name:
            return
        edit, at = finish_edits.added(self._state.outing, name, self.at)
        if self._state.apply(edit):
            self.choose(at)
            first = self._rows[0].slider if self._rows else self.list
            (self.curve if isinstance(self.step, Curve) else first).setFocus()

    def remove(self) -> None:
        """Take the step in hand away; the one before it is in hand then."""
        if self.at is not None and self._state.apply(finish_edits.removed(self._state.outing, self.at)):
            self.choose(max(0, self.at - 1) if self._state.outing.finish.steps else None)

    def switch(self) -> None:
        """Switch the step in hand off or on."""
        if self.at is not None:
            self._state.apply(finish_edits.switched(self._state.outing, self.at))

    def shift(self, by: int) -> None:
        """Let the step in hand change places with its neighbour."""
        if self.at is not None and self._state.apply(finish_edits.moved(self._state.outing, self.at, by)):
            self.choose(self.at + by)

    def reset(self) -> None:
        """Bring the figures of the step in hand back to where they begin."""
        if self.at is not None:
            self._state.apply(finish_edits.plain(self._state.outing, self.at))

    def _switched(self, item: QListWidgetItem) -> None:
        at = self.list.row(item)
        on = item.checkState() == Qt.CheckState.Checked
        steps = self._state.outing.finish.steps
        if at < len(steps) and steps[at].on != on:
            self._state.apply(finish_edits.switched(self._state.outing, at))

    # --- figures --------------------------------------------------------------

    def _take(self, row: finish_figures.Row, value: float) -> None:
        step = self._made(row, value)
        if step is not None and self.at is not None:
            self._state.apply(finish_edits.set_step(self._state.outing, self.at, step, row.key))
        self.refresh()

    def _try(self, row: finish_figures.Row, value: float) -> None:
        step = self._made(row, value)
        if step is not None:
            self.trying.emit(step)

    def _made(self, row: finish_figures.Row, value: float) -> Step | None:
        try:
            return row.changed(value)
        except LanternError as error:
            self._context.tell(error.sentence)
            return None

    def _try_curve(self, points: Points) -> None:
        if isinstance(self.step, Curve):
            made = finish_figures.curve_of(self.step, points)
            self.curve.show_curve(TabledCurve(made.function()))
            self.trying.emit(made)

    def _take_curve(self, points: Points) -> None:
        if isinstance(self.step, Curve) and self.at is not None:
            made = finish_figures.curve_of(self.step, points)
            self._state.apply(finish_edits.set_step(self._state.outing, self.at, made, "points"))
        self.refresh()

    def _take_points(self) -> None:
        if not self.points.isModified():
            return
        try:
            self._take_curve(finish_figures.parse_points(self.points.text()))
        except LanternError as error:
            self._context.tell(error.sentence)

    # --- where it works --------------------------------------------------------

    def _choose_mask(self, kind: str) -> None:
        joined = self._state.joined
        if (
            self.at is None
            or joined is None
            or kind in ("other", mask_model.mask_kind(self.step.mask if self.step else None))
        ):
            return
        if kind == "sky":
            self._find_sky(joined)
            return
        view_middle = (joined.canvas.width / 2, joined.canvas.height / 2)
        mask = mask_model.mask_of_kind(kind, mask_model.middle_deg(joined, view_middle))
        self._state.apply(mask_model.masked(self._state.outing, self.at, mask))

    def _find_sky(self, joined: JoinResult) -> None:
        """Let the step work on the sky, which is found off the thread."""
        picture, place, at = self._state.picture, self._state.place, self.at
        if picture is None or place is None or at is None:
            return

        def done(mask: Mask) -> None:
            steps = self._state.outing.finish.steps
            if self._state.is_open(place) and self._state.joined is joined and at < len(steps):
                self._state.apply(mask_model.masked(self._state.outing, at, mask))

        def failed(error: LanternError) -> None:
            self._context.tell(error.sentence)
            self.refresh()

        self._context.start(FINDING_SKY, lambda _t: mask_model.sky_mask(joined, picture), done, failed, quiet=True)

    def _turn_round(self, on: bool) -> None:
        if self.at is not None and self.step is not None:
            mask, _elsewhere = mask_model.inner_mask(self.step.mask)
            self._state.apply(mask_model.masked(self._state.outing, self.at, mask, elsewhere=on))

    # --- showing -----------------------------------------------------------------

    def refresh(self) -> None:
        """Show the recipe as it is."""
        steps = self._state.outing.finish.steps
        if self.at is not None and self.at >= len(steps):
            self.at = len(steps) - 1 if steps else None
        if self.at is None and steps:
            self.at = 0
        self.add.setEnabled(self._state.joined is not None)
        self.none_told.setVisible(not steps)
        self.list.setVisible(bool(steps))
        self.tools.setVisible(bool(steps))
        self._show_list(steps)
        step = self.step
        self._of_step.setVisible(step is not None)
        if step is not None:
            self._show_step(step)

    def _show_list(self, steps: Sequence[Step]) -> None:
        self.list.blockSignals(True)
        while self.list.count() > len(steps):
            self.list.takeItem(self.list.count() - 1)
        for k, step in enumerate(steps):
            item = self.list.item(k)
            if item is None:
                item = QListWidgetItem()
                item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
                item.setSizeHint(QSize(0, theme.scaled(_ROW_PX)))
                self.list.addItem(item)
            said = model.told(step)
            item.setText(model.line(step))
            item.setToolTip(f"{step.title}: {said}" if said else step.meaning)
            item.setCheckState(Qt.CheckState.Checked if step.on else Qt.CheckState.Unchecked)
        self.list.setCurrentRow(-1 if self.at is None else self.at)
        self.list.blockSignals(False)
        shown = min(max(len(steps), _LEAST_ROWS), _MOST_ROWS)
        self.list.setFixedHeight(theme.scaled(_ROW_PX) * shown + 2 * self.list.frameWidth())

    def _show_step(self, step: Step) -> None:
        self.title.setText(step.title)
        self.meaning.setText(step.meaning)
        kind, (mask, elsewhere) = mask_model.mask_kind(step.mask), mask_model.inner_mask(step.mask)
        rows, mask_rows = finish_figures.rows(step), mask_model.mask_rows(step)
        shape = (self.at, type(step), kind, [r.key for r in (*rows, *mask_rows)])
        if shape != self._shown:
            self._shown = shape
            self._build(rows, mask_rows)
        for shown, made in zip((*rows, *mask_rows), self._rows):
            made.row = shown  # type: ignore[attr-defined]
            made.show_value(shown.value)
        is_curve = isinstance(step, Curve)
        self.curve.setVisible(is_curve)
        self.points.setVisible(is_curve)
        if isinstance(step, Curve):
            self.curve.show_points(step.points, TabledCurve(step.function()))
            if not (self.points.hasFocus() and self.points.isModified()):
                self.points.setText(finish_figures.write_points(step.points))
                self.points.setCursorPosition(0)
        kinds = [k for _text, k in mask_model.MASKS]
        if kind == "other" and self.where.count() == len(kinds):
            self.where.addItem(mask_model.OTHER_MASK, "other")
        self.where.setCurrentIndex(kinds.index(kind) if kind in kinds else len(kinds))
        self.elsewhere.setVisible(mask is not None)
        self.elsewhere.setChecked(elsewhere)
        self._masks.setVisible(step.takes_mask)
        told = (
            heal_model.healing_told(len(step.spots), self.place)
            if isinstance(step, Heal)
            else mask_model.mask_hint(step.mask)
        )
        self.mask_told.setText(told)
        self.mask_told.setVisible(bool(told))

    def _build(self, rows: Sequence[finish_figures.Row], mask_rows: Sequence[finish_figures.Row]) -> None:
        for layout in (self._figures, self._mask_figures):
            while (item := layout.takeAt(0)) is not None:
                old = item.widget()
                if old is not None:
                    old.hide()
                    old.deleteLater()
        self._rows = []
        for layout, group in ((self._figures, rows), (self._mask_figures, mask_rows)):
            for shown in group:
                made = self._figure_row(shown)
                self._rows.append(made)
                layout.addWidget(made)

    def _figure_row(self, row: finish_figures.Row) -> FigureRow:
        figure = row.figure
        made: Any = FigureRow(
            figure,
            lambda text: finish_figures.parse(figure, text),
            lambda value: finish_figures.write(figure, value),
            lambda value: self._try(made.row, value),
            lambda value: self._take(made.row, value),
            self._context.tell,
        )
        made.row = row
        return made


def _empty() -> QVBoxLayout:
    layout = QVBoxLayout()
    layout.setContentsMargins(0, 0, 0, 0)
    layout.setSpacing(theme.SPACE - 2)
    return layout


def _held(layout: QLayout) -> QWidget:
    widget = QWidget()
    widget.setLayout(layout)
    return widget
