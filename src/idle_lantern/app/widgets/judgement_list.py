"""Judgements in sentences, each with a button that acts and one that puts it aside."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from idle_lantern.app import theme
from idle_lantern.app.widgets.basics import button, column, label, panel, row
from idle_lantern.app.widgets.flowing import FlowLayout
from idle_lantern.core.base.judgement import Judgement, Severity

#: Shapes tell the weight without colour.
_SIGNS = {Severity.STOP: "◆", Severity.CARE: "▲", Severity.NOTE: "○"}


class JudgementList(QWidget):
    """Shows judgements, the heaviest first.

    ``remedies`` maps a remedy id to its button's text and what it does.
    """

    def __init__(
        self,
        remedies: dict[str, tuple[str, Callable[[], object]]],
        put_aside: Callable[[str], object],
        bring_back: Callable[[], object],
        parent: QWidget | None = None,
    ) -> None:
        super().__init__(parent)
        self._remedies, self._put_aside, self._bring_back = remedies, put_aside, bring_back
        self._box = QVBoxLayout(self)
        self._box.setContentsMargins(0, 0, 0, 0)
        self._box.setSpacing(theme.SPACE)
        self.sentences: list[str] = []

    def show_judgements(self, judgements: Sequence[Judgement], aside: Sequence[str], all_well: str) -> None:
        """Replace what is shown; put-aside ones are counted and can be brought back."""
        while self._box.count():
            item = self._box.takeAt(0)
            widget = item.widget() if item else None
            if widget is not None:
                # not setParent(None): a widget about to be shown would come up as a window of its own
                widget.hide()
                widget.deleteLater()
        open_ones = [j for j in judgements if j.key not in aside]
        hidden = [j for j in judgements if j.key in aside]
        self.sentences = [j.sentence for j in open_ones]
        for judgement in open_ones:
            self._box.addWidget(self._card(judgement))
        if not open_ones:
            self._box.addWidget(label(all_well, wrap=True))
        if hidden:
            self._box.addWidget(button(f"Show {len(hidden)} put aside", self._bring_back, quiet=True))
        self._box.addStretch(1)

    def _card(self, judgement: Judgement) -> QWidget:
        sign = label(_SIGNS[judgement.severity], "warn" if judgement.severity is not Severity.NOTE else "")
        text = label(judgement.sentence, wrap=True)
        remedy = label(judgement.remedy, "dim", wrap=True)
        actions = []
        if judgement.remedy_id in self._remedies:
            title, run = self._remedies[judgement.remedy_id]
            actions.append(button(title, run))
        actions.append(button("Put aside", lambda: self._put_aside(judgement.key), quiet=True))
        return panel(row(column(sign, None), column(text, remedy, FlowLayout(*actions)), space=theme.SPACE), "card")
