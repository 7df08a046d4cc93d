"""The check list: what to pack, what to set before the first frame, items of one's own, and what can hurt."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QCheckBox, QDialog, QInputDialog, QVBoxLayout, QWidget

from idle_lantern.app.context import AppContext
from idle_lantern.app.widgets.basics import button, by_return, column, emptied, label, row, scrolled
from idle_lantern.core.outing import edits
from idle_lantern.core.plan.checklist import before_first_frame, before_leaving, cautions


class CheckListDialog(QDialog):
    """Ticks are kept in the outing; items of one's own go with the plan and stand on the field card."""

    def __init__(self, context: AppContext, parent: QWidget | None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Check list")
        self.setObjectName("checklist-dialog")
        self._state = context.state
        self.boxes: list[QCheckBox] = []
        self._list = QVBoxLayout()
        holder = QWidget()
        holder.setLayout(column(self._list, None))
        self.left = label("", "dim", name="checks-left")
        self.setLayout(
            column(
                scrolled(holder),
                row(
                    button("Item of your own …", self.ask_own, name="own-check"),
                    button("Drop the last of your own", self.drop_own, quiet=True, name="drop-check"),
                    None,
                    self.left,
                    by_return(button("Close", self.accept)),
                ),
                margin=16,
            )
        )
        self.resize(680, 640)
        self._fill()

    def _fill(self) -> None:
        emptied(self._list)
        self.boxes = []
        outing, plan = self._state.outing, self._state.plan
        for title, items in (
            ("Before leaving", before_leaving(outing.brief)),
            ("Before the first frame", before_first_frame(outing.brief)),
            ("Your own", outing.brief.run.own_checks),
        ):
            if not items:
                continue
            self._list.addWidget(label(title, "head"))
            for words in items:
                box = QCheckBox(words)
                box.setChecked(words in outing.checked)
                box.clicked.connect(lambda on, w=words: self.tick(w, bool(on)))
                self.boxes.append(box)
                self._list.addWidget(box)
        self._list.addWidget(label("Take care", "head"))
        for sentence in cautions(plan):
            line = label(f"◆ {sentence}", wrap=True)
            line.setAlignment(Qt.AlignmentFlag.AlignTop)
            self._list.addWidget(line)
        self._tell_left()

    def _tell_left(self) -> None:
        done = sum(box.isChecked() for box in self.boxes)
        self.left.setText(f"{done} of {len(self.boxes)} done")

    def tick(self, words: str, on: bool) -> None:
        """Tick an item, or take the tick back."""
        others = tuple(w for w in self._state.outing.checked if w != words)
        checked = (*others, words) if on else others
        self._state.apply(edits.Edit("Tick the check list", lambda o: replace(o, checked=checked), merge="checks"))
        self._tell_left()

    def ask_own(self) -> None:
        """Ask for an item of one's own."""
        words, yes = QInputDialog.getText(self, "Check list", "What else is to be looked at?")
        if yes and words.strip():
            self.add_own(words.strip()[:200])

    def add_own(self, words: str) -> None:
        """Add an item of one's own."""
        own = self._state.outing.brief.run.own_checks
        if words not in own:
            self._state.apply(edits.set_part("run", f"Check: {words}", own_checks=(*own, words)))
        self._fill()

    def drop_own(self) -> None:
        """Take the last item of one's own away."""
        own = self._state.outing.brief.run.own_checks
        if own:
            self._state.apply(edits.set_part("run", f"No check: {own[-1]}", own_checks=own[:-1]))
        self._fill()
