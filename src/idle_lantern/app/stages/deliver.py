"""Deliver: the picture as a file to hand on."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from PyQt6.QtWidgets import QCheckBox, QDialog, QFileDialog, QWidget

from idle_lantern.app.context import AppContext
from idle_lantern.app.stages import deliver_model as model
from idle_lantern.app.stages.base import Stage
from idle_lantern.app.stages.deliver_foretold import Foretold
from idle_lantern.app.stages.deliver_look import LookingAround
from idle_lantern.app.stages.deliver_paper import PaperForm
from idle_lantern.app.stages.deliver_presets import PresetChooser, SeveralDialog
from idle_lantern.app.tasks import Task
from idle_lantern.app.widgets.basics import answered, button, column, label, panel_form
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.app.widgets.picture_desk import PictureDesk
from idle_lantern.app.widgets.picture_view import PictureView
from idle_lantern.app.widgets.quantity_edit import QuantityEdit
from idle_lantern.app.widgets.tool_palette import ToolPalette
from idle_lantern.app.widgets.zooming import SIZES, zoom_told
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.base.progress import InParts
from idle_lantern.core.deliver.job import DeliverJob
from idle_lantern.core.deliver.kinds import kind_named
from idle_lantern.core.deliver.presets import applied
from idle_lantern.core.outing import edits
from idle_lantern.core.outing.edits import Edit

JOIN_FIRST = "Join the frames first."
LOOKS = ("How does it look?", ("deliver.look",))
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
        self.format = self._chooser("format", "Format", [(k.title, k.name) for k in model.kinds()], self._choose_format)
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
        self.captions = self._check(
            "captions",
            "Names of the marks on it",
            lambda on: edits.deliver_as("Names of the marks", captions=on),
        )
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
        self.heading = self._figure(
            "Azimuth 0 faces",
            model.bearing,
            model.write_bearing,
            5,
            lambda v: edits.deliver_as("Azimuth 0 faces", heading_deg=None if v < 0 else v),
        )
        self.heading_form = QWidget()
        self.heading_form.setLayout(panel_form([("Azimuth 0 faces", self.heading)]))
        self.paper = PaperForm(context)
        self.paper.proof_changed.connect(self._show_picture)
        self.presets = PresetChooser(context, self.write_several)
        self.looking = LookingAround(context, self.view)
        self.nadir_form = QWidget()
        covers = panel_form([("Tripod", self.nadir), ("Up to", self.nadir_deg)])
        self.nadir_form.setLayout(covers)
        self.facts = {key: label("", "figure", wrap=True, name=f"deliver-{key}") for key, _ in model.FACTS}
        self.foretold = Foretold(context, self.facts["file"])
        self.planned = label("", "dim", wrap=True, name="deliver-planned")
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
            panel_form([("Preset", self.presets), ("Format", self.format)]),
            self.crop,
            self.tell_invented,
            self.nadir_form,
            self.heading_form,
            self.captions,
            panel_form(figures),
            self.profile_told,
            self.paper,
            8,
            label("What it will be", "head"),
            panel_form([(title, self.facts[key]) for key, title in model.FACTS]),
            self.planned,
            zoom_told(self.view),
            None,
        )
        below = (self.limit, self.status, self.write_button)
        self.picture_desk = PictureDesk(self.view, ToolPalette((SIZES, LOOKS), context.ask), choices, below, "Deliver")
        self.setLayout(column(self.picture_desk, space=0))
        self._shown: tuple[object, object] = (None, None)
        self.state.changed.connect(self._refresh)

    def held_tools(self) -> set[str]:
        """Looking around, while one does."""
        return {"deliver.look"} if self.looking.is_looking else set()

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
        ending = kind_named(self.state.outing.delivery.format).ending
        start = str(Path.home() / f"{self.state.outing.name.replace('/', '-')}{ending}")
        name, _ = QFileDialog.getSaveFileName(self, "Write the picture", start, f"*{ending}" if ending else "")
        if name:
            path = Path(name)
            self.write_to(path if path.suffix else path.with_suffix(ending))

    def write_several(self) -> None:
        """Choose presets and a folder, and write a file by each."""
        if self.state.joined is None:
            self.context.tell("There is no joined picture to write yet.")
            return
        dialog = SeveralDialog(self.state.outing.name.replace("/", "-"), self)
        if answered(dialog) == QDialog.DialogCode.Accepted:
            job = self.state.outing.delivery
            self.write_all([(applied(preset, job), target) for preset, target in dialog.targets()])

    def write_to(self, target: Path) -> None:
        """Write the joined picture to ``target`` as it is chosen, a picture file in the format of its ending."""
        self.write_all([(self.state.outing.delivery, target)])

    def write_all(self, wanted: Sequence[tuple[DeliverJob, Path]]) -> None:
        """Write the joined picture once for each job, one after the other; none is begun where one of them cannot be written."""
        from idle_lantern.core.deliver.service import (  # what writes files, which no start needs
            Delivered,
            check_delivery,
            deliver,
        )

        joined, picture, place, outing = self.state.joined, self.state.picture, self.state.place, self.state.outing
        if joined is None or picture is None or place is None:
            return
        box, alpha = model.box(outing, joined), model.has_gap(outing, joined)
        settings = self.context.settings
        told = model.told_of(outing, joined, settings.author, settings.rights)
        plain = replace(model.delivery(outing, joined, picture, place.folder), told=told)
        made = [(replace(plain, job=job), target) for job, target in wanted]
        inputs = [joined.picture, *(self.state.path_of(r) for r in outing.frames)]
        try:
            for one, target in made:
                check_delivery(one, target, box, inputs)
        except LanternError as error:
            self.context.tell(error.sentence)
            return

        def work(task: Task) -> list[Delivered]:
            parts = InParts(task, len(made))
            return [deliver(one, target, box, alpha=alpha, inputs=inputs, progress=parts) for one, target in made]

        def done(written: list[Delivered]) -> None:
            told = [model.written_told(one.path) for one in written]
            lines = [model.proof_told(one.proof, short=len(written) > 1) for one in written]
            self.status.setText("\n".join(f"{text}\n{proof}" for text, proof in zip(told, lines)))
            self.context.tell(told[-1] if len(told) == 1 else f"Written: {len(told)} deliveries", problem=False)

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
        self.paper.keep_proof(printed=model.kind_of(self.state.outing).is_printed)
        proof = self.paper.proof
        now = (picture, (self.state.outing.delivery.operations, self.state.outing.finish, proof))
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
        if proof is not None and shown is not None:
            from idle_lantern.core.pictures.operations import OperatedPicture

            shown = OperatedPicture(shown, [proof])
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
        self.format.setCurrentIndex([k.name for k in model.kinds()].index(job.format))
        self.profile.setCurrentIndex(model.profile_choice(job))
        self.profile_told.setText(model.profile_name(outing, self.state.folder))
        self.profile_told.setVisible(bool(self.profile_told.text()))
        self.quality.show_value(job.quality)
        kind = model.kind_of(outing)
        self.quality.setEnabled(kind.quality)
        self.heading_form.setVisible(kind.is_sphere and kind.name != "cube")
        self.heading.show_value(-1.0 if job.heading_deg is None else job.heading_deg)
        self.captions.setVisible(kind.name == "tiles-page" and any(m.name for m in outing.brief.scene.marks))
        self.captions.setChecked(job.captions)
        self.paper.setVisible(kind.is_printed)
        self.paper.show_choices()
        self.presets.show_choices()
        # a print is as large as its paper and its dots an inch make it, and frames lie at the picture's own size
        self.long_side.setEnabled(kind.name not in ("print", "layers"))
        self.looking.keep_to()
        self.dpi.show_value(job.dpi)
        self.sharpen.setCurrentIndex([word for _text, word in model.SHARPEN_FOR].index(job.sharpen_for))
        self.sharpen.setToolTip(model.sharpening_told(job))
        self.long_side.show_value(job.long_side_px or 0)

    def _show_facts(self) -> None:
        outing, joined = self.state.outing, self.state.joined
        self.write_button.setEnabled(joined is not None)
        for key, text in model.facts(outing, joined, imperial=self.context.settings.imperial).items():
            self.facts[key].setText(text)
        self.foretold.show_choices()
        self.planned.setText(model.planned_told(outing))
        self.limit.setText(model.limit(outing, joined))
        self.view.crop = model.box(outing, joined) if joined and outing.composition.crop else None
        self.view.update()
        if joined is None:
            self.status.setText(JOIN_FIRST)
        elif self.status.text() == JOIN_FIRST:
            self.status.setText("")
