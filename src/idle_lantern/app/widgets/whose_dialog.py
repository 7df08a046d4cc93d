"""Whose pictures they are: the name and the rights that stand in delivered files."""

from __future__ import annotations

from PyQt6.QtWidgets import QDialog, QLineEdit, QWidget

from idle_lantern.app.widgets.basics import button, column, form, label, row


class WhoseDialog(QDialog):
    """Two lines of words; empty ones stand nowhere."""

    def __init__(self, author: str, rights: str, parent: QWidget | None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Whose pictures they are")
        self.setObjectName("whose-dialog")
        self.author, self.rights = QLineEdit(author), QLineEdit(rights)
        for field, name in ((self.author, "Name"), (self.rights, "Rights")):
            field.setAccessibleName(name)
            field.setObjectName(f"whose-{name.lower()}")
            field.setMinimumWidth(360)
            field.setMaxLength(200)
        self.setLayout(
            column(
                label("These words are written into every file that is delivered. Empty ones are not.", wrap=True),
                form([("Name", self.author), ("Rights", self.rights)]),
                row(None, button("Leave it", self.reject), button("Keep", self.accept, main=True, name="whose-keep")),
                margin=14,
            )
        )

    def words(self) -> tuple[str, str]:
        """The name and the rights."""
        return self.author.text().strip(), self.rights.text().strip()
