"""One development for all frames: changed here, seen at once on the picture, the thumbnails and the map."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from statistics import fmean
from typing import Any

import numpy as np
from PyQt6.QtWidgets import QPushButton, QWidget

from idle_lantern.app.context import AppContext
from idle_lantern.app.stages import development_model as model
from idle_lantern.app.widgets.basics import button, column, label, panel, panel_form, row, title_at
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.app.widgets.flowing import FlowLayout
from idle_lantern.app.widgets.picture_view import PictureView
from idle_lantern.app.widgets.quantity_edit import QuantityEdit
from idle_lantern.app.widgets.tables import table_of
from idle_lantern.app.widgets.thumbnails import ThumbnailList
from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.merging.development import Development
from idle_lantern.core.merging.film import Film
from idle_lantern.core.merging.temperature import PRESETS, gains_for, grey_at, light_of
from idle_lantern.core.outing import edits

MEASURING = "Measuring the film"
#: Raw places where a colour is full, in words.
_CLIPPED = (("clip", "stays white"), ("blend", "blended"), ("rebuild", "rebuilt from the other colours"))


class DevelopmentPanel(QWidget):
    """Exposure, white balance, shadows and highlights of all frames alike."""

    def __init__(self, context: AppContext, view: PictureView, thumbs: ThumbnailList) -> None:
        super().__init__()
        self._context, self._state, self._view, self._thumbs = context, context.state, view, thumbs
        self.exposure = self._field("Exposure", model.write_ev, 0.1, self._expose)
        self.kelvin = self._field("Temperature", lambda k: f"{k:.0f} K", 100.0, self._set_kelvin)
        self.tint = self._field("Tint", model.write_percent, 0.05, self._set_tint)
        self.shadows = self._field("Shadows", model.write_percent, 0.05, partial(self._tone, "shadows"))
        self.highlights = self._field("Highlights", model.write_percent, 0.05, partial(self._tone, "highlights"))
        self.light = Chooser()
        self.light.setObjectName("develop-light")
        self.light.addItems([*(name for name, _k in PRESETS), "Own"])
        self.light.activated.connect(self._choose_light)
        self.clipped = Chooser()
        self.clipped.setObjectName("develop-clipped")
        self.clipped.addItems([words for _key, words in _CLIPPED])
        self.clipped.activated.connect(lambda i: self._apply("Where a colour is full", clipped=_CLIPPED[i][0]))
        self.film = Chooser()
        self.film.setObjectName("develop-film")
        self.film.addItems([words for _kind, words in model.FILM_WORDS])
        self.film.activated.connect(self._choose_film)
        self.edges = [
            self._field(f"Cut at the {side}", partial(model.write_cut, arrow), 0.002, partial(self._cut, k))
            for k, (side, arrow) in enumerate(model.SIDES)
        ]
        self.gamma = self._field("Gamma", lambda g: f"{g:.2f}", 0.02, self._set_gamma)
        self._gammas = panel(row(label("gamma", "dim"), self.gamma), "bare")
        left, top, right, bottom = self.edges
        self._cuts = panel(column(row(label("cut", "dim"), left, right), row(label("", "dim"), top, bottom)), "bare")
        self.pick_button = button("Pick a grey   [G]", self.pick, name="develop-pick")
        self.pick_button.setCheckable(True)
        self.white_button = button("Pick the film's white", self.pick_white, name="develop-pick-white")
        self.white_button.setCheckable(True)
        self.plain_button = button("As taken", self.as_taken, name="develop-plain")
        self.clipped.setAccessibleName("Full colours of raw files")
        fields = panel_form(
            [
                ("Exposure", self.exposure),
                ("Shadows", self.shadows),
                ("Highlights", self.highlights),
                ("Light", self.light),
                ("Temperature", self.kelvin),
                ("Tint", self.tint),
            ]
        )
        choices = panel_form([("Full colours", self.clipped), ("Film", self.film)])
        self.clipped_title = title_at(choices, 0)
        told = label(
            "The files stay as they are. Up and Down in a field change it by a step.",
            "dim",
            wrap=True,
        )
        layout = column(
            label("Develop all frames alike", "head"),
            fields,
            choices,
            self._gammas,
            self._cuts,
            FlowLayout(self.pick_button, self.white_button, self.plain_button),
            told,
        )
        layout.setContentsMargins(0, 0, 0, 0)
        self.setLayout(layout)
        view.picked.connect(self._picked)
        self._state.changed.connect(self._refresh)
        self.show_development()

    def _field(self, name: str, write: Any, step: float, take: Any) -> QuantityEdit:
        edit = QuantityEdit(name, partial(model.parse_development, name), write, step)
        edit.setObjectName("develop-" + name.lower())
        edit.submitted.connect(take)
        edit.refused.connect(self._context.tell)
        edit.mended.connect(lambda: self._context.tell("", problem=False))
        return edit

    @property
    def _development(self) -> Development:
        return self._state.outing.choices.development

    def _apply(self, title: str, *, merge: str = "", **changes: Any) -> None:
        try:
            # a row of steps in one field counts as one change
            self._state.apply(edits.develop(title, merge=merge and f"develop {merge}", **changes))
        except LanternError as error:
            self._context.tell(error.sentence)
            self.show_development()

    def _expose(self, value: float) -> None:
        self._apply("Develop: exposure", merge="exposure", exposure_ev=round(value, 3))

    def _tone(self, name: str, value: float) -> None:
        self._apply(f"Develop: {name}", merge=name, **{name: round(min(max(value, -1.0), 1.0), 3)})

    def _set_kelvin(self, kelvin: float) -> None:
        self._balance(kelvin, light_of(self._development.white_balance)[1], "kelvin")

    def _set_tint(self, tint: float) -> None:
        self._balance(light_of(self._development.white_balance)[0], min(max(tint, -1.0), 1.0), "tint")

    def _balance(self, kelvin: float, tint: float, merge: str = "") -> None:
        try:
            kelvin = model.within_light(kelvin)
        except LanternError as error:
            self.kelvin.mark_refused(error.sentence)
            self._context.tell(error.sentence)
            return
        self._apply("Develop: white balance", merge=merge, white_balance=gains_for(kelvin, tint))

    def _choose_light(self, index: int) -> None:
        if index < len(PRESETS):
            self._balance(PRESETS[index][1], 0.0)
        else:
            self.show_development()  # nothing is chosen yet: the temperature is to be typed
            self.kelvin.setFocus()

    def _choose_film(self, index: int) -> None:
        kind = model.FILM_WORDS[index][0]
        place, outing = self._state.place, self._state.outing
        film = outing.choices.development.film
        if place is None or kind == ("" if film is None else film.kind):
            return
        if not kind:
            self._apply("Develop: no film", film=None)
            return
        if not outing.frames_to_join():
            self._context.tell("Film is measured on its scans; bring them in first.")
            self.show_development()
            return

        def failed(error: LanternError) -> None:
            self._context.tell(error.sentence)
            self.show_development()

        self._context.start(
            MEASURING,
            lambda task: model.film_of_set(outing, place.folder, kind, task),
            lambda found: self._state.apply_to(place, edits.develop("Develop: film", film=found)),
            failed,
        )

    def _cut(self, side: int, share: float) -> None:
        film = self._development.film
        if film is None:
            return
        crop = list(film.crop)
        crop[side] = share if side < 2 else 1 - share
        try:
            cut = replace(film, crop=(crop[0], crop[1], crop[2], crop[3]))
        except LanternError as error:
            self._context.tell(error.sentence)
            return
        self._apply("Develop: cut the film's border", merge=f"cut {side}", film=cut)

    def _set_gamma(self, value: float) -> None:
        """The mean of the colours; a picked grey sets how they differ."""
        film = self._development.film
        if film is None:
            return
        red, green, blue = (g * value / fmean(film.gamma) for g in film.gamma)
        try:
            turned = replace(film, gamma=(red, green, blue))
        except LanternError as error:
            self.gamma.mark_refused(error.sentence)
            self._context.tell(error.sentence)
            return
        self._apply("Develop: gamma of the film", merge="gamma", film=turned)

    def pick(self) -> None:
        """Let a click on something grey in the picture set the white balance, or end that."""
        self._pick_with(self.pick_button, self.white_button, "something grey in the picture: stone, cloud, a shirt")

    def pick_white(self) -> None:
        """Let a click set what of the film becomes white, or end that."""
        self._pick_with(self.white_button, self.pick_button, "what is to be white in the picture")

    def _pick_with(self, mine: QPushButton, other: QPushButton, what: str) -> None:
        other.setChecked(False)
        picking = mine.isChecked() and self._view.source is not None
        mine.setChecked(picking)
        self._view.set_picking(picking)
        self._context.tools_changed.emit()
        if picking:
            self._context.tell(f"Click on {what}.", problem=False)

    def toggle_pick(self) -> None:
        """The same by its key."""
        self.pick_button.toggle()
        self.pick()

    def _picked(self, colour: Any) -> None:
        white = self.white_button.isChecked()
        self.pick_button.setChecked(False)
        self.white_button.setChecked(False)
        self._view.set_picking(False)
        self._context.tools_changed.emit()
        red, green, blue = (float(v) for v in self._view.space.to_linear(np.asarray(colour) / 255))
        film = self._development.film
        if film is not None and film.kind != "slide":
            self._pick_on_film(film, np.array([red, green, blue]), white=white)
            return
        if min(red, green, blue) < model.TOO_DARK or max(colour) > model.TOO_BRIGHT:
            self._context.tell("That place is black or burnt out and tells no colour; click on a middle grey.")
            return
        self._apply("Develop: pick a grey", white_balance=grey_at((red, green, blue), (1.0, 1.0, 1.0)))
        self._context.tell("", problem=False)

    def _pick_on_film(self, film: Film, linear: Array, *, white: bool) -> None:
        try:
            turned = film.with_white(linear) if white else film.with_grey(linear)
        except LanternError as error:
            self._context.tell(error.sentence)
            return
        self._apply("Develop: pick the film's white" if white else "Develop: pick a grey", film=turned)
        self._context.tell("", problem=False)

    def as_taken(self) -> None:
        """No development."""
        plain = Development()
        self._apply(
            "Develop: as taken",
            exposure_ev=plain.exposure_ev,
            white_balance=plain.white_balance,
            shadows=plain.shadows,
            highlights=plain.highlights,
            clipped=plain.clipped,
            film=None,
        )

    def _refresh(self, topics: set[str]) -> None:
        if topics & {"development", "outing"} or ("selection" in topics and self._development.film is not None):
            self.show_development()

    def show_development(self) -> None:
        """Fields, picture and thumbnails as the outing has them."""
        d = self._development
        kelvin, tint = light_of(d.white_balance)
        for edit, value in (
            (self.exposure, d.exposure_ev), (self.shadows, d.shadows), (self.highlights, d.highlights),
            (self.kelvin, round(kelvin)), (self.tint, round(tint, 2)),
        ):  # fmt: skip
            edit.show_value(value)
        known = [k for k, (_name, k_) in enumerate(PRESETS) if abs(k_ - kelvin) < 1 and abs(tint) < 0.005]
        self.light.setCurrentIndex(known[0] if known else len(PRESETS))
        self.clipped.setCurrentIndex([key for key, _words in _CLIPPED].index(d.clipped))
        self.film.setCurrentIndex([kind for kind, _words in model.FILM_WORDS].index(d.film.kind if d.film else ""))
        self._cuts.setVisible(d.film is not None)
        negative = d.film is not None and d.film.kind != "slide"
        self.white_button.setVisible(negative)
        self._gammas.setVisible(negative)
        self.gamma.show_value(0.0 if d.film is None else round(fmean(d.film.gamma), 3))
        for k, edge in enumerate(self.edges):
            crop = (0.0, 0.0, 1.0, 1.0) if d.film is None else d.film.crop
            edge.show_value(round(crop[k] if k < 2 else 1 - crop[k], 4))
        width, height = self._view.size_px
        self._view.crop = None if d.film is None or not width else Rectangle(*d.film.box(width, height))
        self._view.update()
        raw = model.has_raw(self._state.outing)
        self.clipped.setVisible(raw)
        self.clipped_title.setVisible(raw)
        self.plain_button.setEnabled(not d.changes_nothing)
        self._view.set_development(d)
        self._thumbs.set_table(table_of(d))
