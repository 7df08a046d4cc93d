"""Any field of the plan by its name, on whichever page it stands."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtCore import QStringListModel, Qt, QTimer
from PyQt6.QtWidgets import QCheckBox, QCompleter, QLineEdit, QWidget

from idle_lantern.app.context import AppContext
from idle_lantern.app.planning.topics.base import Topic


class FieldSearch(QLineEdit):
    """Offers names while they are typed; ``open_page`` gets the place of the page among the topics."""

    def __init__(self, context: AppContext, topics: Sequence[Topic], open_page: Callable[[int], None]) -> None:
        super().__init__()
        self._context, self._topics, self._open_page = context, topics, open_page
        self.setObjectName("find-field")
        self.setAccessibleName("Find a field of the plan")
        self.setPlaceholderText("Find a field")
        self._offered = QStringListModel([], self)
        names = QCompleter(self._offered, self)
        names.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        names.setFilterMode(Qt.MatchFlag.MatchContains)
        # the completer writes the name into the line after it has told of it
        names.activated.connect(lambda text: QTimer.singleShot(0, lambda: self._go_to(text)))
        self.setCompleter(names)
        self.textEdited.connect(lambda _text: self._offered.setStringList(sorted(self._named())))
        self.returnPressed.connect(lambda: self._go_to(self.text()))

    def ask(self) -> None:
        """Let a name be typed."""
        self.setFocus()
        self.selectAll()

    def _named(self) -> dict[str, tuple[int, QWidget]]:
        """Every field that is shown on some page, with the place of the page, by its name and page."""
        found: dict[str, tuple[int, QWidget]] = {}
        for at, page in enumerate(self._topics):
            b = page.bound
            for field in (*b.numbers.values(), *b.choices.values(), *b.switches.values(), *b.texts.values()):
                name = field.text() if isinstance(field, QCheckBox) else field.accessibleName()
                if name and not field.isHidden():
                    found.setdefault(f"{name}  ({page.title})", (at, field))
        return found

    def _go_to(self, words: str) -> None:
        """Open the page of the field whose name was chosen, or of the first whose name holds the words."""
        wanted = words.strip().lower()
        if not wanted:
            return
        fields = self._named()
        found = fields.get(words) or next((at for name, at in fields.items() if wanted in name.lower()), None)
        if found is None:
            told = f"No field of the plan is called '{words.strip()}'. F1 finds everything else by your own words."
            self._context.tell(told)
            return
        page, field = found
        self._open_page(page)
        field.setFocus()
        self.clear()
