"""Which files and which lens make the picture: shown as far as the set has a choice."""

from __future__ import annotations

from dataclasses import replace
from datetime import date

from PyQt6.QtWidgets import QInputDialog, QWidget

from idle_lantern.app import theme
from idle_lantern.app.context import AppContext
from idle_lantern.app.stages import choices_model as model
from idle_lantern.app.widgets.basics import button, panel_form, title_at
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.gear.entries import Entry
from idle_lantern.core.merging.recipe import BRACKETS, REPEATS
from idle_lantern.core.optics.known import KnownLens
from idle_lantern.core.outing import edits, joining

LOOKING_UP = "Looking the lens up"
#: Width of the titles of choices, the same for all of the stage.
TITLES_PX = 84


class ChoicesPanel(QWidget):
    """Lens, brackets, repeats, raw or JPEG; ``keep_button`` is placed by the stage."""

    def __init__(self, context: AppContext) -> None:
        super().__init__()
        self._context, self._state = context, context.state
        self.lens = self._chooser("join-lens", "Lens")
        self.lens.activated.connect(self._choose_lens)
        self.keep_button = button("Keep the lens …", self.ask_keep, name="keep-lens")
        self.parts: dict[str, tuple[Chooser, dict[str, str]]] = {}
        self._rows: dict[str, QWidget] = {}
        ways: tuple[tuple[str, str, dict[str, str]], ...] = (
            ("brackets", "Brackets", {str(k): model.BRACKET_WORDS[k] for k in BRACKETS}),
            ("repeats", "Taken again", {str(k): model.REPEAT_WORDS[k] for k in REPEATS}),
            ("twins", "Raw or JPEG", model.TWIN_WORDS),
        )
        for part, title, words in ways:
            chooser = self._chooser(f"join-{part}", title)
            chooser.addItems(list(words.values()))
            chooser.activated.connect(lambda index, p=part: self._choose(p, index))
            self.parts[part] = chooser, words
        grid = panel_form([("Lens", self.lens), *((c.accessibleName(), c) for c, _words in self.parts.values())])
        grid.setColumnMinimumWidth(0, theme.scaled(TITLES_PX))
        for row_, part in enumerate(self.parts, 1):
            self._rows[part] = title_at(grid, row_)
        self.setLayout(grid)
        self._state.changed.connect(self._refresh)
        context.tasks.changed.connect(self._arm)
        self._show()

    def _chooser(self, name: str, title: str) -> Chooser:
        chooser = Chooser()
        chooser.setObjectName(name)
        chooser.setAccessibleName(title)
        return chooser

    def _refresh(self, topics: set[str]) -> None:
        if topics & {"choices", "frames", "outing", "join"}:
            self._show()

    def _measured(self) -> dict[str, KnownLens]:
        """Lenses of the gear library; one that cannot be read now hides only itself."""
        if self._context.gear is None:
            return {}
        try:
            return self._context.gear.measured_lenses()
        except LanternError:
            return {}

    def _show(self) -> None:
        outing = self._state.outing
        names, at = model.lens_names(outing.choices.lens, list(self._measured()))
        if [self.lens.itemText(i) for i in range(self.lens.count())] != names:
            self.lens.clear()
            self.lens.addItems(names)
        self.lens.setCurrentIndex(at)
        shown = {
            "brackets": joining.has_brackets(outing),
            "repeats": joining.has_repeats(outing),
            "twins": joining.has_twins(outing),
        }
        for part, (chooser, words) in self.parts.items():
            chooser.setCurrentIndex(list(words).index(getattr(outing.choices, part)))
            chooser.setVisible(shown[part])
            self._rows[part].setVisible(shown[part])
        self._arm()

    def _arm(self) -> None:
        self.keep_button.setVisible(self._state.solution is not None and self._state.outing.choices.lens is None)

    def _choose(self, part: str, index: int) -> None:
        chooser, words = self.parts[part]
        value = list(words)[index]
        if value != getattr(self._state.outing.choices, part):
            self._state.apply(edits.choose(f"{chooser.accessibleName()}: {words[value]}", **{part: value}))

    def _choose_lens(self, index: int) -> None:
        name = self.lens.itemText(index)
        before = self._state.outing.choices.lens
        if name == model.FOUND:
            self._take(None)
        elif name == model.DATABASE:
            self._look_up()
        elif before is None or before.lens != name or before.source == "database":
            found = self._measured().get(name)
            if found is not None:  # known by the name that the library has for it
                self._take(replace(found, lens=name))

    def _take(self, lens: KnownLens | None) -> None:
        if lens != self._state.outing.choices.lens:
            self._state.apply(edits.know_lens(lens))
        self._show()

    def _look_up(self) -> None:
        place, outing = self._state.place, self._state.outing
        if place is None or not outing.frames_to_join():
            self._context.tell("The lens database is asked by the frames' own words; there are no frames yet.")
            self._show()
            return

        def failed(error: LanternError) -> None:
            self._context.tell(error.sentence)
            self._show()

        self._context.start(
            LOOKING_UP,
            lambda _task: model.lens_of_set(outing, place.folder),
            lambda lens: self._state.apply_to(place, edits.know_lens(lens)),
            failed,
            quiet=True,
        )

    def ask_keep(self) -> None:
        """Ask for a name, and keep the lens that the join found in the gear library."""
        suggested = self._state.outing.rig.lens_name or f"{self._state.outing.rig.focal_mm:g} mm"
        name, given = QInputDialog.getText(
            self, "Keep the lens", "Name of the lens in the gear library", text=suggested
        )
        if given:
            self.keep(name)

    def keep(self, name: str) -> None:
        """Keep the lens that the join found under a name."""
        joined, gear = self._state.joined, self._context.gear
        if joined is None or gear is None:
            return
        try:
            known = model.measured_lens(joined, name.strip(), date.today().isoformat())
            gear.put(Entry("measured-lens", name.strip(), known))
        except LanternError as error:
            self._context.tell(error.sentence)
            return
        self._context.tell(f"Kept as {name.strip()}: the next set taken with it may be joined by it.", problem=False)
        self._show()
