"""A new outing: its name, and what it begins with."""

from __future__ import annotations

from PyQt6.QtWidgets import QButtonGroup, QCheckBox, QDialog, QLineEdit, QRadioButton, QWidget

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
    """Asks for ``name`` and ``origin``; where another outing has a plan, ``plan_of`` names it and ``same_plan`` says whether it is
    taken over."""

    def __init__(self, title: str, name: str, parent: QWidget | None = None, plan_of: str = "") -> None:
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
        self._same_plan = QCheckBox(f"Begin with the plan of {plan_of}")
        self._same_plan.setObjectName("begin-same-plan")
        self._same_plan.setVisible(bool(plan_of))
        self.choices["photographs"].toggled.connect(self._same_plan.setDisabled)
        self.begin_button = by_return(button("Begin", self.accept, main=True, name="begin"))
        cancel = button("Cancel", self.reject, quiet=True)
        self.setLayout(
            column(
                label("What do you call it?", "head"), self.field, 8, *lines, self._same_plan, 8, row(None, cancel, self.begin_button),
                margin=20,
            )
        )  # fmt: skip
        self.resize(520, 0)

    @property
    def name(self) -> str:
        """As it was typed."""
        return self.field.text().strip()

    @property
    def same_plan(self) -> bool:
        """Whether the plan of the other outing is taken over."""
        return self._same_plan.isChecked() and self._same_plan.isEnabled()

    @property
    def origin(self) -> Origin:
        """What was chosen."""
        return next(origin for origin, choice in self.choices.items() if choice.isChecked())
