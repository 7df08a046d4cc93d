"""What can become of the exposures of a bracket, side by side at one place, before one is chosen for all."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog, QWidget

from idle_lantern.app import theme
from idle_lantern.app.context import AppContext
from idle_lantern.app.stages.choices_model import BRACKET_WORDS
from idle_lantern.app.tasks import Task
from idle_lantern.app.widgets.basics import button, column, form, label, panel, row
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.app.widgets.picture_view import PictureView
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.frames.reading import probe
from idle_lantern.core.merging.recipe import BRACKETS, BracketExposure, Brackets, Recipe
from idle_lantern.core.outing import document, edits
from idle_lantern.core.outing.model import Outing
from idle_lantern.core.pictures.source import PictureSource
from idle_lantern.core.pictures.tiled import open_picture

_NAMES_PX = 260
MAKING = "Making a bracket ready in each way"


def bracketed(outing: Outing) -> list[str]:
    """Frames that stand for a bracket, by id, in order of taking."""
    return [ref.id for ref in outing.frames if outing.exposures_beside(ref.id)]


class TreatmentsDialog(QDialog):
    """One view for each way; they move together, and each has the button that takes it for all brackets."""

    def __init__(self, context: AppContext, parent: QWidget | None) -> None:
        super().__init__(parent)
        self.setWindowTitle("What becomes of the brackets")
        self.setObjectName("treatments-dialog")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setWindowModality(Qt.WindowModality.WindowModal)
        self.resize(1180, 640)
        self._context, self._state = context, context.state
        self._frames = bracketed(self._state.outing)
        self._asked = 0
        self.frame = Chooser()
        self.frame.setObjectName("treatments-frame")
        self.frame.setMinimumWidth(theme.scaled(_NAMES_PX))
        names = [ref.file.rsplit("/", 1)[-1] for f in self._frames if (ref := self._state.outing.frame(f)) is not None]
        self.frame.addItems(names)
        self.frame.activated.connect(lambda _i: self._make())
        self.views = {way: PictureView() for way in BRACKETS}
        self.buttons = {way: button("", partial(self._take, way), name=f"treatment-{way}") for way in BRACKETS}
        columns = []
        for way, view in self.views.items():
            view.setAccessibleName(f"Brackets {BRACKET_WORDS[way]}")
            view.placeholder = "Being made ready …"
            view.moved.connect(partial(self._move_together, view))
            words = label(BRACKET_WORDS[way].capitalize(), "head")
            columns.append(panel(column(words, view, row(self.buttons[way], None)), "ground"))
        self.told = label("", "dim", wrap=True, name="treatments-told")
        self.setLayout(
            column(
                form([("Bracket of", self.frame)]),
                row(*columns, space=theme.SPACE),
                self.told,
                row(None, button("Close", self.reject, quiet=True)),
                margin=16,
            )
        )
        if self._state.selected_id in self._frames:
            self.frame.setCurrentIndex(self._frames.index(self._state.selected_id))
        self._show()
        self._make()

    def _make(self) -> None:
        """Make the chosen bracket ready in each way, off the thread; each is shown as it comes."""
        place, outing = self._state.place, self._state.outing
        ref = outing.frame(self._frames[self.frame.currentIndex()])
        if place is None or ref is None:
            return
        self._asked += 1
        asked = self._asked
        for view in self.views.values():
            view.set_source(None)
        self.told.setText("Wheel and drag move all three; 1 shows 100 %.")
        path = document.resolve(place.folder, ref)
        others = [(document.resolve(place.folder, other), ev) for other, ev in outing.exposures_beside(ref.id)]

        def work(task: Task) -> None:
            from idle_lantern.core.merging.prepared import ExposureSet, prepare, prepared_folder  # what no start pays

            exposures = ExposureSet(probe(path), tuple(BracketExposure(other, ev) for other, ev in others))
            for way in BRACKETS:
                recipe = Recipe(brackets=way, development=outing.choices.development)
                ready = prepare([exposures], recipe, prepared_folder(), task)
                task.show((way, open_picture(ready.infos[0].path)))

        def came(product: tuple[Brackets, PictureSource]) -> None:
            if asked == self._asked:
                self.views[product[0]].set_source(product[1])

        def failed(error: LanternError) -> None:
            if asked == self._asked:
                self.told.setText(error.sentence)

        self._context.start(MAKING, work, lambda _r: None, failed, on_partial=came)

    def _move_together(self, moved: PictureView) -> None:
        for view in self.views.values():
            if view is not moved:
                view.show_like(moved)

    def _take(self, way: Brackets) -> None:
        if way != self._state.outing.choices.brackets:
            self._state.apply(edits.choose(f"Brackets: {BRACKET_WORDS[way]}", brackets=way))
        self.accept()

    def _show(self) -> None:
        for way, each in self.buttons.items():
            chosen = way == self._state.outing.choices.brackets
            each.setText("Used now" if chosen else "Use this for all")
            each.setAccessibleName(f"{each.text()}: {BRACKET_WORDS[way]}")

    def done(self, result: int) -> None:
        """What is still being made comes to nobody."""
        self._asked += 1
        for view in self.views.values():
            view.stop()
        super().done(result)
