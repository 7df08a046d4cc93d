"""Editors bound to values of the brief: each shows its value and submits one titled edit."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from PyQt6.QtWidgets import QCheckBox, QComboBox, QLineEdit, QWidget

from idle_lantern.app.state import AppState
from idle_lantern.app.widgets.basics import set_look_property
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.app.widgets.quantity_edit import QuantityEdit
from idle_lantern.core.base import units
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.outing import edits
from idle_lantern.core.plan.brief import Brief


def plain(digits: int = 6, unit: str = "") -> Callable[[float], str]:
    """A writer of numbers with a unit behind."""
    return lambda value: f"{value:.{digits}g}{' ' + unit if unit else ''}".replace("-", "−")


def number_with(unit: str, example: str) -> Callable[[str], float]:
    """A reader of numbers that may carry that unit."""

    def parse(text: str) -> float:
        cleaned = text.strip()
        if unit and cleaned.lower().endswith(unit.lower()):
            cleaned = cleaned[: -len(unit)]
        return units.parse_number(cleaned, "a number", example)

    return parse


def narrow(box: QComboBox, letters: int = 13) -> QComboBox:
    """A list no wider than so many letters; its lines may be longer than itself."""
    box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    box.setMinimumContentsLength(letters)
    view = box.view()
    if view is not None:
        view.setMinimumWidth(260)
    return box


class BriefBinding:
    """Makes the editors of a page and keeps them in step with the brief."""

    def __init__(self, state: AppState) -> None:
        self.state = state
        self._of_outing = ""
        self.numbers: dict[str, QuantityEdit] = {}
        self.choices: dict[str, QComboBox] = {}
        self.switches: dict[str, QCheckBox] = {}
        self.texts: dict[str, QLineEdit] = {}
        self._parts: dict[str, str] = {}
        self._whole: set[str] = set()
        self._text_tools: dict[str, tuple[Callable[[Any], str], Callable[[str], Any]]] = {}

    def number(
        self,
        part: str,
        key: str,
        name: str,
        parse: Callable[[str], float] = units.parse_number,
        write: Callable[[float], str] = units.angle,
        *,
        step: float = 1.0,
        whole: bool = False,
    ) -> QuantityEdit:
        """A field for a quantity; Up and Down change it by ``step``."""
        field = QuantityEdit(name, parse, write, step)
        field.setObjectName(f"field-{key}")

        def use(value: float) -> None:
            if whole and value == value and abs(value) < 1e9:
                value = round(value)
            change: dict[str, Any] = {key: value}
            self._submit(field, edits.set_part(part, f"Change the {name.lower()}", **change))

        field.submitted.connect(use)
        field.refused.connect(lambda s: self.state.message.emit(s, True))
        field.mended.connect(lambda: self.state.message.emit("", False))
        self.numbers[key], self._parts[key] = field, part
        return field

    def choice(self, part: str, key: str, name: str, options: Sequence[tuple[Any, str, str]]) -> QComboBox:
        """A list of values with their titles and reasons; the reason is the tool tip."""
        box = Chooser()
        box.setAccessibleName(name)
        box.setObjectName(f"choice-{key}")
        narrow(box)
        for i, (value, title, reason) in enumerate(options):
            box.addItem(title, value)
            box.setItemData(i, reason, 3)  # Qt.ItemDataRole.ToolTipRole

        def use(index: int) -> None:
            self.state.apply(edits.set_part(part, f"Choose the {name.lower()}", **{key: box.itemData(index)}))
            self.show(self.state.outing.brief)

        box.activated.connect(use)
        self.choices[key], self._parts[key] = box, part
        return box

    def switch(self, part: str, key: str, title: str) -> QCheckBox:
        """A yes or no."""
        box = QCheckBox(title)
        box.setObjectName(f"switch-{key}")

        def use(on: bool) -> None:
            change: dict[str, Any] = {key: bool(on)}
            self.state.apply(edits.set_part(part, f"{title}: {'yes' if on else 'no'}", **change))

        box.clicked.connect(use)
        self.switches[key], self._parts[key] = box, part
        return box

    def text(
        self,
        part: str,
        key: str,
        name: str,
        write: Callable[[Any], str] = str,
        parse: Callable[[str], Any] = str.strip,
    ) -> QLineEdit:
        """A line of text; ``parse`` may refuse it with an ``InputError``."""
        field = QLineEdit()
        field.setAcceptDrops(False)
        field.setAccessibleName(name)
        field.setObjectName(f"field-{key}")

        def use() -> None:
            if not field.isModified():
                return
            try:
                value = parse(field.text())
            except LanternError as error:
                self._mark(field, f"{name}: {error.sentence}")
                self.state.message.emit(f"{name}: {error.sentence}", True)
                return
            self._submit(field, edits.set_part(part, f"Change the {name.lower()}", **{key: value}))

        field.editingFinished.connect(use)
        self.texts[key], self._parts[key] = field, part
        self._text_tools[key] = (write, parse)
        return field

    def _submit(self, field: QWidget, edit: edits.Edit) -> None:
        was_wrong = bool(field.property("wrong"))
        applied = self.state.apply(edit)
        self._mark(field, applied.sentence)
        if applied and was_wrong:
            self.state.message.emit("", False)
        if applied:
            if isinstance(field, QLineEdit):
                field.setModified(False)
            self.show(self.state.outing.brief)

    def _mark(self, field: QWidget, sentence: str) -> None:
        if isinstance(field, QuantityEdit):
            field.mark_refused(sentence)
            return
        set_look_property(field, "wrong", bool(sentence))
        field.setToolTip(sentence)
        field.setAccessibleDescription(sentence)

    def show(self, brief: Brief) -> None:
        """Show the brief's values; what is being mended is left alone, unless it belongs to another outing."""
        if self._of_outing != self.state.outing.id:
            self._of_outing = self.state.outing.id
            for field in self.numbers.values():
                field.forget()
            for line in self.texts.values():
                line.setModified(False)
                self._mark(line, "")

        def value_of(key: str) -> Any:
            return getattr(getattr(brief, self._parts[key]), key)

        for key, number in self.numbers.items():
            number.show_value(float(value_of(key)))
        for key, choice in self.choices.items():
            choice.setCurrentIndex(choice.findData(value_of(key)))
        for key, switch in self.switches.items():
            switch.setChecked(bool(value_of(key)))
        for key, text in self.texts.items():
            if not (text.isModified() and (text.hasFocus() or text.property("wrong"))):
                shown = self._text_tools[key][0](value_of(key))
                if text.text() != shown:
                    text.setText(shown)
                    text.setCursorPosition(0)  # long words are read from their beginning
                self._mark(text, "")
