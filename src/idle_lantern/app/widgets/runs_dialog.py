"""A card with several runs: which of them come into the outing, or each into one of its own."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtWidgets import QCheckBox, QDialog, QWidget

from idle_lantern.app.widgets.basics import button, column, label, panel, row, scrolled

HERE, APART = 1, 2


class RunsDialog(QDialog):
    """One line for each run, its words and whether it is ticked at first; ended with ``HERE`` or ``APART``, or rejected."""

    def __init__(self, runs: Sequence[tuple[str, bool]], left: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Runs on this card")
        self.setObjectName("runs")
        self.resize(760, min(620, 200 + 30 * len(runs)))
        self.boxes = []
        for k, (words, sweep) in enumerate(runs):
            box = QCheckBox(words)
            box.setObjectName(f"run-{k}")
            box.setChecked(sweep)
            box.toggled.connect(self._arm)
            self.boxes.append(box)
        self.here = button("Bring into this outing", lambda: self.done(HERE), main=True, name="runs-here")
        self.apart = button("An outing for each", lambda: self.done(APART), name="runs-apart")
        self.setLayout(
            column(
                label(f"{len(runs)} runs, told apart by pauses, hands before the lens, and lenses", "head"),
                label("Choose what comes in. One picture is joined from one run.", "dim", wrap=True),
                scrolled(panel(column(*self.boxes, None), "ground")),
                label(left, "dim", wrap=True),
                row(None, button("Cancel", self.reject, quiet=True), self.apart, self.here),
                margin=16,
            )
        )
        self._arm()

    @property
    def chosen(self) -> list[int]:
        """Numbers of the runs that are ticked, from 0."""
        return [k for k, box in enumerate(self.boxes) if box.isChecked()]

    def _arm(self) -> None:
        self.here.setEnabled(bool(self.chosen))
        self.apart.setEnabled(bool(self.chosen))
