"""A new outing: its name, and what it begins with."""

from __future__ import annotations

from PyQt6.QtWidgets import QButtonGroup, QDialog, QLineEdit, QRadioButton, QWidget

from idle_lantern.app.widgets.basics import button, by_return, column, label, row
from idle_lantern.core.outing.model import Origin

WAYS: dict[Origin, tuple[str, str]] = {
    "planned": ("Plan a picture", "Frames, turning and light are reckoned; your own camera shoots them."),
    "photographs": ("Bring frames home", "Pictures that are taken already are checked and joined. No plan is needed."),
    "simulated": (
        "Try it in the invented place",
        "A simulated head and camera shoot what you plan, on an invented island.",
    ),
}


class NewOutingDialog(QDialog):
    """Asks for ``name`` and ``origin``."""

    def __init__(self, title: str, name: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle(title)
        self.setObjectName("new-outing-dialog")
        self.field = QLineEdit(name)
        self.field.setAccessibleName("Name of the outing")
        self.field.setObjectName("outing-name")
        self.field.selectAll()
        self.field.textChanged.connect(lambda text: self.begin_button.setEnabled(bool(text.strip())))
        self._ways = QButtonGroup(self)
        self.choices: dict[Origin, QRadioButton] = {}
        lines: list[QWidget | int] = []
        for origin, (words, meaning) in WAYS.items():
            choice = self.choices[origin] = QRadioButton(words)
            choice.setObjectName(f"begin-{origin}")
            choice.setAccessibleDescription(meaning)
            self._ways.addButton(choice)
            lines += [choice, label(meaning, "dim", wrap=True), 6]
        self.choices["planned"].setChecked(True)
        self.begin_button = by_return(button("Begin", self.accept, main=True, name="begin"))
        cancel = button("Cancel", self.reject, quiet=True)
        self.setLayout(
            column(
                label("What do you call it?", "head"), self.field, 8, *lines, 8, row(None, cancel, self.begin_button),
                margin=20,
            )
        )  # fmt: skip
        self.resize(520, 0)

    @property
    def name(self) -> str:
        """As it was typed."""
        return self.field.text().strip()

    @property
    def origin(self) -> Origin:
        """What was chosen."""
        return next(origin for origin, choice in self.choices.items() if choice.isChecked())
