"""What is told of a joined picture: its facts, what was found on the way, and frames left out with what can be done for them."""

from __future__ import annotations

import html

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QWidget

from idle_lantern.app.context import AppContext
from idle_lantern.app.rail_setting import keep_rail
from idle_lantern.app.stages import join_model as model
from idle_lantern.app.widgets.basics import button, column, form, label, panel, row, scrolled


class JoinFacts(QWidget):
    """``asked`` tells a word and the id of a left-out frame: ``tie``, ``place``, ``on``, ``use`` or ``leave``."""

    asked = pyqtSignal(str, str)

    def __init__(self, context: AppContext) -> None:
        super().__init__()
        self._context, self._state = context, context.state
        self.reason = label("", "dim", wrap=True)
        self.facts = {key: label("", "figure", name=f"join-{key}") for key, _ in model.FACTS}
        self.findings = label("", "dim", wrap=True, name="join-findings")
        self.left_out = label("", wrap=True, name="join-left-out")
        self.left_out.setTextFormat(Qt.TextFormat.RichText)
        self.left_out.setTextInteractionFlags(
            Qt.TextInteractionFlag.LinksAccessibleByMouse | Qt.TextInteractionFlag.LinksAccessibleByKeyboard
        )
        self.left_out.linkActivated.connect(lambda link: self.asked.emit(*link.split(":", 1)))
        self.rail_button = button("", self.correct_rail, quiet=True, name="join-rail")
        layout = column(
            self.reason,
            8,
            form([(title, self.facts[key]) for key, title in model.FACTS]),
            scrolled(panel(column(self.findings, self.left_out, None), "ground")),
            row(self.rail_button, None),
        )
        layout.setContentsMargins(0, 0, 0, 0)
        self.setLayout(layout)

    def show_facts(self) -> None:
        """Tell of the picture that is there."""
        outing, joined = self._state.outing, self._state.joined
        for key, text in model.facts(joined).items():
            self.facts[key].setText(text)
        self.reason.setText(joined.canvas.reason if joined else "")
        told = (
            model.lens_refused(joined),
            model.head_left_out(joined),
            model.findings(joined, outing.brief.scene.near_m if outing.shows_plan else None),
        )
        self.findings.setText("\n".join(filter(None, told)))
        self._show_rail()
        self.left_out.setText("<br>".join(_as_row(r) for r in model.left_out(outing, joined)))

    def correct_rail(self) -> None:
        """Take the rail setting over that the parallax of this join tells, for next time."""
        found = model.rail_correction(self._state.outing, self._state.joined)
        if found is not None:
            keep_rail(self._context, *found, "Correct the rail by the join")
            self._show_rail()

    def _show_rail(self) -> None:
        found = model.rail_correction(self._state.outing, self._state.joined)
        self.rail_button.setVisible(found is not None)
        if found is not None:
            self.rail_button.setText(f"Correct the rail: {self._state.outing.rig.rail_mm:g} to {found[0]:.1f} mm")


def _as_row(row_: model.LeftOut) -> str:
    text = html.escape(row_.sentence)
    if not row_.action:
        return text
    frame = html.escape(row_.frame_id)
    tie = (
        f', <a href="place:{frame}">lay it on the picture</a> or <a href="tie:{frame}">Tie it by hand</a>'
        if row_.action == "use"
        else ""
    )
    return f'{text} <a href="{row_.action}:{frame}">{row_.link}</a>{tie}'
