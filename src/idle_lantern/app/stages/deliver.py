"""Deliver: the picture cropped and written as TIFF, PNG or JPEG."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PyQt6.QtWidgets import QCheckBox, QFileDialog, QWidget

from idle_lantern.app import theme
from idle_lantern.app.context import AppContext
from idle_lantern.app.stages import deliver_model as model
from idle_lantern.app.stages.base import Stage
from idle_lantern.app.tasks import Task
from idle_lantern.app.widgets.basics import button, column, form, label, panel, row
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.app.widgets.picture_view import PictureView
from idle_lantern.app.widgets.quantity_edit import QuantityEdit
from idle_lantern.core.base import units
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.base.paths import check_outputs
from idle_lantern.core.deliver.margin import told_below
from idle_lantern.core.deliver.targets import WriteOptions, check_target
from idle_lantern.core.deliver.writing import deliver
from idle_lantern.core.outing import edits

JOIN_FIRST = "Join the frames first."
WRITING = "Writing the picture"
_FORMATS = (
    ("TIFF: nothing lost, for going on elsewhere", ".tif"),
    ("PNG: nothing lost, 8 or 16 bit", ".png"),
    ("JPEG: small, for showing", ".jpg"),
)
#: What stands under the tripod, in words.
_COVERS = (("as joined", "none"), ("blurred", "blur"), ("covered by a mark …", "mark"))


class DeliverStage(Stage):
    """Back home, the end of it."""

    def __init__(self, context: AppContext) -> None:
        super().__init__(context)
        self.view = PictureView()
        self.view.placeholder = (
            "There is no joined picture yet. Join the frames first; it then appears here with its crop."
        )
        self.view.failed.connect(context.tell)
        self.format = Chooser()
        self.format.setObjectName("format")
        self.format.setAccessibleName("Format")
        for text, suffix in _FORMATS:
            self.format.addItem(text, suffix)
        self.format.currentIndexChanged.connect(lambda _i: self._show_facts())
        self.crop = QCheckBox("Crop as composed under Join")
        self.crop.setObjectName("crop")
        self.crop.clicked.connect(
            lambda on: self.state.apply(edits.choose("Crop" if on else "Do not crop", crop=bool(on)))
        )
        self.tell_invented = QCheckBox("Tell below it what was invented")
        self.tell_invented.setObjectName("tell-invented")
        self.tell_invented.clicked.connect(
            lambda on: self.state.apply(
                edits.choose(
                    "Tell what was invented" if on else "Do not tell what was invented", tell_invented=bool(on)
                )
            )
        )
        self.nadir = Chooser()
        self.nadir.setObjectName("nadir")
        self.nadir.setAccessibleName("Under the tripod")
        for text, word in _COVERS:
            self.nadir.addItem(text, word)
        self.nadir.activated.connect(self._choose_nadir)
        self.nadir_deg = QuantityEdit("Up to", model.degrees, lambda v: f"{v:g}°", 1)
        self.nadir_deg.submitted.connect(
            lambda v: self.state.apply(edits.choose("Cover the nadir wider or narrower", nadir_deg=v))
        )
        self.nadir_deg.refused.connect(lambda s: context.tell(s))
        self.nadir_form = QWidget()
        covers = form([("Under the tripod", self.nadir), ("Up to", self.nadir_deg)])
        covers.setContentsMargins(0, 0, 0, 0)
        self.nadir_form.setLayout(covers)
        self.quality = QuantityEdit("JPEG quality", model.quality, lambda v: f"{v:.0f}", 1)
        self.quality.show_value(92)
        self.dpi = QuantityEdit("Print resolution", model.dpi, lambda v: f"{v:g} dpi", 10)
        self.dpi.show_value(300)
        for field in (self.quality, self.dpi):
            field.submitted.connect(field.show_value)
            field.submitted.connect(lambda _v: self._show_facts())
            field.refused.connect(lambda s: context.tell(s))
        self.facts = {key: label("", "figure", name=f"deliver-{key}") for key, _ in model.FACTS}
        self.limit = label("", "warn", wrap=True)
        self.write_button = button("Write the picture …   [Ctrl + E]", self.ask_write, main=True, name="write")
        self.status = label("", wrap=True, name="deliver-status")
        side = column(
            label("What to write", "head"),
            self.format,
            self.crop,
            self.tell_invented,
            self.nadir_form,
            form([("JPEG quality", self.quality), ("Print resolution", self.dpi)]),
            8,
            form([(title, self.facts[key]) for key, title in model.FACTS]),
            self.limit,
            self.write_button,
            self.status,
            None,
        )
        side_panel = panel(side, "ground")
        side_panel.setFixedWidth(380)
        layout = row(margin=16, space=theme.SPACE * 2)
        layout.addWidget(self.view, 1)
        layout.addWidget(side_panel)
        self.setLayout(layout)
        self._shown: tuple[object, object] = (None, None)
        self.state.changed.connect(self._refresh)

    def ask_write(self) -> None:
        """Choose the file and write it."""
        if self.state.joined is None:
            self.context.tell("There is no joined picture to write yet.")
            return
        suffix = self.format.currentData()
        start = str(Path.home() / f"{self.state.outing.name.replace('/', '-')}{suffix}")
        name, _ = QFileDialog.getSaveFileName(self, "Write the picture", start, f"*{suffix}")
        if name:
            path = Path(name)
            self.write_to(path if path.suffix else path.with_suffix(suffix))

    def write_to(self, target: Path) -> None:
        """Write the joined picture to ``target`` in the format of its ending."""
        joined, picture = self.state.joined, self.view.source
        if joined is None or picture is None:
            return
        options = WriteOptions(jpeg_quality=int(self.quality.value), dpi=self.dpi.value)
        box = model.box(self.state.outing, joined)
        try:
            check_target(target, box.width, box.height)
            check_outputs([target], [joined.picture, *(self.state.path_of(r) for r in self.state.outing.frames)])
        except LanternError as error:
            self.context.tell(error.sentence)
            return

        alpha = not model.crops(self.state.outing) or model.has_gap(self.state.outing, joined)

        told, share = model.invented(self.state.outing, joined)
        tells = self.state.outing.choices.tell_invented

        def work(task: Task) -> Path:
            whole, part = told_below(picture, box, told, share) if tells else (picture, box)
            deliver(whole, target, options, box=part, keep_alpha=alpha, progress=task)
            return target

        def done(path: Path) -> None:
            text = f"Written: {path} ({units.file_size(path.stat().st_size)})"
            self.status.setText(text)
            self.context.tell(text, problem=False)

        self.context.start(WRITING, work, done, lambda e: self.context.tell(e.sentence), weights={"write": 1.0})

    def _choose_nadir(self, index: int) -> None:
        """As joined, blurred, or covered by a mark, which is asked for."""
        word, place = _COVERS[index][1], self.state.place
        if word == "mark" and place is not None and self.state.may_change():
            name, _ = QFileDialog.getOpenFileName(
                self, "The mark", str(Path.home()), "Pictures (*.png *.jpg *.jpeg *.tif)"
            )
            try:
                if name:
                    self.state.apply(model.take_mark(Path(name), place.folder))
            except LanternError as error:
                self.context.tell(error.sentence)
        elif word != "mark" and word != self.state.outing.choices.nadir:
            self.state.apply(
                edits.choose("Cover the nadir" if word == "blur" else "Leave the nadir as joined", nadir=word)
            )
        self._refresh({"choices"})

    # --- showing ----------------------------------------------------------------

    def showEvent(self, event: Any) -> None:
        self._refresh({"join", "choices"})
        super().showEvent(event)

    def _refresh(self, topics: set[str]) -> None:
        if topics & {"join", "choices"}:
            self._show_picture()
        if topics & {"join", "choices"}:
            self.crop.setChecked(self.state.outing.choices.crop)
            self.tell_invented.setChecked(self.state.outing.choices.tell_invented)
            covers = self.state.outing.choices.nadir != "none" and model.shows_nadir(self.state.joined)
            self.tell_invented.setVisible(covers or bool(model.invented(self.state.outing, self.state.joined)[0]))
            self._show_facts()

    def _show_picture(self) -> None:
        """The picture as it will be written; covered anew only where that changed."""
        joined, picture, choices = self.state.joined, self.state.picture, self.state.outing.choices
        covers = (choices.nadir, choices.nadir_deg, choices.nadir_mark)
        self.nadir_form.setVisible(model.shows_nadir(joined))
        self.nadir.setCurrentIndex([word for _text, word in _COVERS].index(choices.nadir))
        self.nadir_deg.show_value(choices.nadir_deg)
        self.nadir_deg.setEnabled(choices.nadir != "none")
        if self._shown == (picture, covers):
            return
        self._shown = (picture, covers)
        size = (joined.canvas.width, joined.canvas.height) if joined else None
        shown, place = picture, self.state.place
        if joined is not None and picture is not None and place is not None:
            try:
                shown = model.covered(self.state.outing, joined, picture, place.folder)
            except LanternError as error:
                self.context.tell(error.sentence)
        self.view.set_source(shown, size)

    def _show_facts(self) -> None:
        joined, suffix = self.state.joined, self.format.currentData()
        self.write_button.setEnabled(joined is not None)
        self.quality.setEnabled(suffix == ".jpg")
        shown = model.facts(self.state.outing, joined, suffix, self.dpi.value, imperial=self.context.settings.imperial)
        for key, text in shown.items():
            self.facts[key].setText(text)
        self.limit.setText(model.limit(self.state.outing, joined, suffix))
        self.view.crop = model.box(self.state.outing, joined) if joined and model.crops(self.state.outing) else None
        self.view.update()
        if joined is None:
            self.status.setText(JOIN_FIRST)
        elif self.status.text() == JOIN_FIRST:
            self.status.setText("")
