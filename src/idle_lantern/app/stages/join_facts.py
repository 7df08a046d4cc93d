"""What is told of a joined picture: its facts, what was found on the way, and frames left out with what can be done for them."""

from __future__ import annotations

import contextlib

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QWidget

from idle_lantern.app.context import AppContext
from idle_lantern.app.rail_setting import keep_rail
from idle_lantern.app.stages import join_model as model
from idle_lantern.app.tasks import Task
from idle_lantern.app.widgets.basics import button, column, label, panel_form
from idle_lantern.app.widgets.frame_rows import FrameRow, FrameRows
from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.frames.reading import thumbnail
from idle_lantern.core.outing.model import FrameRef

_THUMBNAIL_PX = 120


class JoinFacts(QWidget):
    """``asked`` tells a word and the id of a left-out frame: ``tie``, ``place``, ``on``, ``use`` or ``leave``."""

    asked = pyqtSignal(str, str)

    def __init__(self, context: AppContext) -> None:
        super().__init__()
        self._context, self._state = context, context.state
        self._asked_for: set[str] = set()
        self.reason = label("", "dim", wrap=True)
        self.facts = {key: label("", "figure", wrap=True, name=f"join-{key}") for key, _ in model.FACTS}
        self.findings = label("", "dim", wrap=True, name="join-findings")
        self.left_out = FrameRows()
        self.left_out.setObjectName("join-left-out")
        self.left_out.asked.connect(self.asked)
        self.rail_button = button("", self.correct_rail, quiet=True, name="join-rail")
        layout = column(
            self.reason,
            8,
            panel_form([(title, self.facts[key]) for key, title in model.FACTS]),
            self.findings,
            self.left_out,
            self.rail_button,
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
        missing = self.left_out.show_rows([_as_row(r) for r in model.left_out(outing, joined)])
        self._read([ref for f in missing if (ref := outing.frame(f)) is not None])

    def _read(self, refs: list[FrameRef]) -> None:
        """Read thumbnails off the thread; one that cannot be read leaves its place empty."""
        place = self._state.place
        jobs = [(ref.id, self._state.path_of(ref)) for ref in refs if ref.id not in self._asked_for]
        if place is None or not jobs:
            return
        self._asked_for |= {frame for frame, _path in jobs}

        def work(task: Task) -> None:
            for frame, path in jobs:
                with contextlib.suppress(LanternError):
                    task.show((frame, thumbnail(path, _THUMBNAIL_PX).in_space(SRGB).pixels))

        def came(product: tuple[str, Array]) -> None:
            if self._state.is_open(place):
                self.left_out.set_picture(*product)

        self._context.start(
            "Reading frames left out", work, lambda _r: None, lambda _e: None, on_partial=came, quiet=True
        )

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


def _as_row(left: model.LeftOut) -> FrameRow:
    acts = [(left.action, left.link)] if left.action else []
    if left.action == "use":
        acts += [("place", "Lay it on the picture"), ("tie", "Tie it by hand")]
    return FrameRow(left.frame_id, left.sentence, tuple(acts))
