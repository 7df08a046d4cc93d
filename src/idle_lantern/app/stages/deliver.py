"""Deliver: the picture as a file to hand on."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from PyQt6.QtWidgets import QCheckBox, QFileDialog, QWidget

from idle_lantern.app.context import AppContext
from idle_lantern.app.stages import deliver_model as model
from idle_lantern.app.stages.base import Stage
from idle_lantern.app.tasks import Task
from idle_lantern.app.widgets.basics import button, column, label, panel_form
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.app.widgets.picture_desk import PictureDesk
from idle_lantern.app.widgets.picture_view import PictureView
from idle_lantern.app.widgets.quantity_edit import QuantityEdit
from idle_lantern.app.widgets.tool_palette import ToolPalette
from idle_lantern.app.widgets.zooming import SIZES, zoom_told
from idle_lantern.core.base import units
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.deliver.formats import format_named
from idle_lantern.core.outing import edits
from idle_lantern.core.outing.edits import Edit

JOIN_FIRST = "Join the frames first."
WRITING = "Writing the picture"


class DeliverStage(Stage):
    """Back home, the end of it: every choice is one of the outing's delivery."""

    def __init__(self, context: AppContext) -> None:
        super().__init__(context)
        self.view = PictureView()
        self.view.placeholder = (
            "There is no joined picture yet. Join the frames first; it then appears here with its crop."
        )
        self.view.failed.connect(context.tell)
        self.format = self._chooser(
            "format", "Format", [(f.title, f.name) for f in model.formats()], self._choose_format
        )
        self.profile = self._chooser("profile", "Colours", model.PROFILES, self._choose_profile)
        self.sharpen = self._chooser(
            "sharpen",
            "Sharpen for",
            model.SHARPEN_FOR,
            self._choose_sharpening,
        )
        self.nadir = self._chooser("nadir", "Under the tripod", model.COVERS, self._choose_nadir)
        self.crop = self._check(
            "crop", "Crop as composed", lambda on: edits.compose("Crop" if on else "Do not crop", crop=on)
        )
        self.tell_invented = self._check("tell-invented", "Note below what was invented", edits.tell_invented)
        self.nadir_deg = self._figure(
            "Up to",
            model.degrees_about_nadir,
            lambda v: f"{v:g}°",
            1,
            lambda v: model.radius_edit(self.state.outing, v),
        )
        self.quality = self._figure(
            "Quality",
            model.quality,
            lambda v: f"{v:.0f}",
            1,
            lambda v: edits.deliver_as("Quality", quality=round(v)),
        )
        self.dpi = self._figure(
            "Print resolution",
            model.dpi,
            lambda v: f"{v:g} dpi",
            10,
            lambda v: edits.deliver_as("Print resolution", dpi=v),
        )
        self.long_side = self._figure(
            "Longer side",
            model.long_side,
            model.write_long_side,
            100,
            lambda v: edits.deliver_as("Longer side", long_side_px=round(v) or None),
        )
        self.nadir_form = QWidget()
        covers = panel_form([("Tripod", self.nadir), ("Up to", self.nadir_deg)])
        self.nadir_form.setLayout(covers)
        self.facts = {key: label("", "figure", wrap=True, name=f"deliver-{key}") for key, _ in model.FACTS}
        self.profile_told = label("", "dim", wrap=True, name="deliver-profile")
        self.limit = label("", "warn", wrap=True)
        self.write_button = button("Write …   [Ctrl + E]", self.ask_write, main=True, name="write")
        self.status = label("", wrap=True, name="deliver-status")
        figures = [
            ("Colours", self.profile),
            ("Longer side", self.long_side),
            ("Quality", self.quality),
            ("For print", self.dpi),
            ("Sharpen for", self.sharpen),
        ]
        choices = (
            label("What to write", "head"),
            panel_form([("Format", self.format)]),
            self.crop,
            self.tell_invented,
            self.nadir_form,
            panel_form(figures),
            self.profile_told,
            8,
            label("What it will be", "head"),
            panel_form([(title, self.facts[key]) for key, title in model.FACTS]),
            zoom_told(self.view),
            None,
        )
        below = (self.limit, self.status, self.write_button)
        self.picture_desk = PictureDesk(self.view, ToolPalette((SIZES,), context.ask), choices, below, "Deliver")
        self.setLayout(column(self.picture_desk, space=0))
        self._shown: tuple[object, object] = (None, None)
        self.state.changed.connect(self._refresh)

    # --- fields -------------------------------------------------------------------

    def _chooser(self, name: str, title: str, words: Any, chosen: Callable[[str], None]) -> Chooser:
        chooser = Chooser()
        chooser.setObjectName(name)
        chooser.setAccessibleName(title)
        for text, word in words:
            chooser.addItem(text, word)
        chooser.activated.connect(lambda index: chosen(str(chooser.itemData(index))))
        return chooser

    def _check(self, name: str, text: str, edit: Callable[[bool], Edit]) -> QCheckBox:
        check = QCheckBox(text)
        check.setObjectName(name)
        check.clicked.connect(lambda on: self.state.apply(edit(bool(on))))
        return check

    def _figure(
        self,
        name: str,
        parse: Callable[[str], float],
        write: Callable[[float], str],
        step: float,
        edit: Callable[[float], Edit],
    ) -> QuantityEdit:
        field = QuantityEdit(name, parse, write, step)

        def submitted(value: float) -> None:
            try:
                self.state.apply(edit(parse(write(value))))  # the arrow keys know no limits
            except LanternError as error:
                self.context.tell(error.sentence)

        field.submitted.connect(submitted)
        field.refused.connect(lambda sentence: self.context.tell(sentence))
        return field

    def _choose_format(self, name: str) -> None:
        if name != self.state.outing.delivery.format:
            self.state.apply(edits.deliver_as(f"Format: {name.upper()}", format=name))

    def _choose_profile(self, word: str) -> None:
        if word == "own":
            self._ask_for("The colour profile", "Colour profiles (*.icc *.icm)", model.take_profile)
        elif word != self.state.outing.delivery.profile:
            text = next(text for text, known in model.PROFILES if known == word)
            self.state.apply(edits.deliver_as(f"Colours: {text}", profile=word))
        self._refresh({"choices"})

    def _choose_sharpening(self, medium: str) -> None:
        self.state.apply(edits.deliver_as("Sharpen for what it is looked at on", sharpen_for=medium))

    def _choose_nadir(self, word: str) -> None:
        """As joined, blurred, or covered by a mark, which is asked for."""
        cover = self.state.outing.delivery.nadir
        if word == "mark":
            outing = self.state.outing
            self._ask_for(
                "The mark",
                "Pictures (*.png *.jpg *.jpeg *.tif)",
                lambda path, folder: model.take_mark(path, outing, folder),
            )
        elif word != ("" if cover is None else cover.how):
            self.state.apply(model.cover_edit(self.state.outing, word))
        self._refresh({"choices"})

    def _ask_for(self, title: str, kinds: str, edit: Callable[[Path, Path], Edit]) -> None:
        """Ask for a file that becomes an asset of the outing."""
        place = self.state.place
        if place is None or not self.state.may_change():
            return
        name, _ = QFileDialog.getOpenFileName(self, title, str(Path.home()), kinds)
        try:
            if name:
                self.state.apply(edit(Path(name), place.folder))
        except LanternError as error:
            self.context.tell(error.sentence)

    # --- writing ------------------------------------------------------------------

    def ask_write(self) -> None:
        """Choose the file and write it."""
        if self.state.joined is None:
            self.context.tell("There is no joined picture to write yet.")
            return
        ending = format_named(self.state.outing.delivery.format).ending
        start = str(Path.home() / f"{self.state.outing.name.replace('/', '-')}{ending}")
        name, _ = QFileDialog.getSaveFileName(self, "Write the picture", start, f"*{ending}")
        if name:
            path = Path(name)
            self.write_to(path if path.suffix else path.with_suffix(ending))

    def write_to(self, target: Path) -> None:
        """Write the joined picture to ``target`` in the format of its ending."""
        from idle_lantern.core.deliver.service import check_delivery, deliver  # what writes files, which no start needs

        joined, picture, place, outing = self.state.joined, self.state.picture, self.state.place, self.state.outing
        if joined is None or picture is None or place is None:
            return
        box, alpha = model.box(outing, joined), model.has_gap(outing, joined)
        made = model.delivery(outing, joined, picture, place.folder)
        inputs = [joined.picture, *(self.state.path_of(r) for r in outing.frames)]
        try:
            check_delivery(made, target, box, inputs)
        except LanternError as error:
            self.context.tell(error.sentence)
            return

        def work(task: Task) -> Path:
            deliver(made, target, box, alpha=alpha, inputs=inputs, progress=task)
            return target

        def done(path: Path) -> None:
            text = f"Written: {path} ({units.file_size(path.stat().st_size)})"
            self.status.setText(text)
            self.context.tell(text, problem=False)

        self.context.start(WRITING, work, done, lambda e: self.context.tell(e.sentence), weights={"write": 1.0})

    # --- showing ----------------------------------------------------------------

    def showEvent(self, event: Any) -> None:
        self._refresh({"join", "choices"})
        super().showEvent(event)

    def _refresh(self, topics: set[str]) -> None:
        if topics & {"join", "choices"}:
            self._show_picture()
            self._show_choices()
            self._show_facts()

    def _show_picture(self) -> None:
        """The picture with what is laid over it; anew only where that changed."""
        joined, picture, place = self.state.joined, self.state.picture, self.state.place
        now = (picture, (self.state.outing.delivery.operations, self.state.outing.finish))
        if self._shown == now:
            return
        self._shown = now
        size = (joined.canvas.width, joined.canvas.height) if joined else None
        shown = picture
        if joined is not None and picture is not None and place is not None:
            try:
                shown = model.delivery(self.state.outing, joined, picture, place.folder).shown()
            except LanternError as error:
                self.context.tell(error.sentence)
        self.view.set_source(shown, size)

    def _show_choices(self) -> None:
        outing, joined = self.state.outing, self.state.joined
        job, cover = outing.delivery, outing.delivery.nadir
        self.crop.setChecked(outing.composition.crop)
        self.tell_invented.setChecked(job.tells_invented)
        self.tell_invented.setVisible(model.tells_anything(outing, joined))
        self.nadir_form.setVisible(model.shows_nadir(joined))
        self.nadir.setCurrentIndex([word for _text, word in model.COVERS].index("" if cover is None else cover.how))
        self.nadir_deg.show_value(model.replace_cover(outing).radius_deg)
        self.nadir_deg.setEnabled(cover is not None)
        self.format.setCurrentIndex([f.name for f in model.formats()].index(job.format))
        self.profile.setCurrentIndex(model.profile_choice(job))
        self.profile_told.setText(model.profile_name(outing, self.state.folder))
        self.profile_told.setVisible(bool(self.profile_told.text()))
        self.quality.show_value(job.quality)
        self.quality.setEnabled(format_named(job.format).quality)
        self.dpi.show_value(job.dpi)
        self.sharpen.setCurrentIndex([word for _text, word in model.SHARPEN_FOR].index(job.sharpen_for))
        self.sharpen.setToolTip(model.sharpening_told(job))
        self.long_side.show_value(job.long_side_px or 0)

    def _show_facts(self) -> None:
        outing, joined = self.state.outing, self.state.joined
        self.write_button.setEnabled(joined is not None)
        for key, text in model.facts(outing, joined, imperial=self.context.settings.imperial).items():
            self.facts[key].setText(text)
        self.limit.setText(model.limit(outing, joined))
        self.view.crop = model.box(outing, joined) if joined and outing.composition.crop else None
        self.view.update()
        if joined is None:
            self.status.setText(JOIN_FIRST)
        elif self.status.text() == JOIN_FIRST:
            self.status.setText("")
