"""What the pages have in common: fields on the left, what follows on the right."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtWidgets import QLabel, QVBoxLayout, QWidget

from idle_lantern.app.context import AppContext
from idle_lantern.app.planning.brief_binding import BriefBinding
from idle_lantern.app.planning.commands import PlanCommands
from idle_lantern.app.planning.drawings import Drawing
from idle_lantern.app.widgets.basics import column, form, label, scrolled
from idle_lantern.app.widgets.blocks import Blocks
from idle_lantern.core.plan.planner import Plan


class Topic(QWidget):
    """One page. ``summary`` is its state in a few words, shown in the list of pages."""

    title = ""

    def __init__(self, context: AppContext, commands: PlanCommands) -> None:
        super().__init__()
        self.context, self.state, self.commands = context, context.state, commands
        self.bound = BriefBinding(context.state)
        self._facts: list[tuple[QLabel, Callable[[Plan], str], bool]] = []
        self._drawings: list[Drawing] = []
        self._names: dict[QWidget | None, QLabel] = {}
        box = Blocks()
        self.build(box)
        self.setObjectName("topic")
        self.blocks = box
        self.setLayout(column(scrolled(box)))

    def build(self, box: Blocks) -> None:
        """Make the page."""
        raise NotImplementedError

    def summary(self, plan: Plan) -> str:
        """A few words for the list of pages."""
        raise NotImplementedError

    def show_plan(self, plan: Plan) -> None:
        """Show another plan."""
        self.bound.show(plan.brief)
        reckoned = self.state.judgements is not None
        for target, tell, later in self._facts:
            # what takes long is reckoned off the thread, with the judgements
            text = tell(plan) if reckoned or not later else "…"
            if target.text() != text:
                target.setText(text)
        for drawing in self._drawings:
            drawing.show_plan(plan)

    # --- parts of a page --------------------------------------------------------

    def facts(self, *rows: tuple[str, str, Callable[[Plan], str]], later: bool = False) -> QVBoxLayout:
        """Names and figures that follow from the plan; each figure's label is ``fact-<id>``.

        ``later`` figures take long and wait until the plan is judged.
        """
        made: list[tuple[str, QWidget]] = []
        for name, fact_id, tell in rows:
            figure = label("", "figure", wrap=True, name=f"fact-{fact_id}")
            self._facts.append((figure, tell, later))
            made.append((name, figure))
        grid = form(made)
        grid.setColumnStretch(1, 1)  # figures take what their names leave
        grid.setColumnStretch(2, 0)
        result: QVBoxLayout = column(grid)
        return result

    def show_rows(self, keys: Sequence[str], shown: bool) -> None:
        """Show or hide fields with their names."""
        if not self._names:
            self._names = {name.buddy(): name for name in self.findChildren(QLabel) if name.buddy() is not None}
        for key in keys:
            field: QWidget = self.bound.numbers.get(key) or self.bound.choices[key]
            field.setVisible(shown)
            if field in self._names:
                self._names[field].setVisible(shown)

    def told(self, tell: Callable[[Plan], str], name: str = "", role: str = "dim", *, later: bool = False) -> QLabel:
        """A sentence that follows from the plan; ``later`` as of ``facts``."""
        sentence = label("", role, wrap=True, name=name)
        self._facts.append((sentence, tell, later))
        return sentence

    def drawing(self, drawing: Drawing) -> Drawing:
        """A drawing that follows from the plan."""
        self._drawings.append(drawing)
        return drawing
