"""Deliver: the picture cropped and written as TIFF, PNG or JPEG."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from PyQt6.QtWidgets import QCheckBox, QComboBox, QFileDialog

from idle_lantern.app import theme
from idle_lantern.app.stages.base import Stage
from idle_lantern.app.tasks import Task
from idle_lantern.app.widgets.basics import button, column, form, label, panel, row
from idle_lantern.app.widgets.picture_view import PictureView
from idle_lantern.app.widgets.quantity_edit import QuantityEdit
from idle_lantern.core.base import units
from idle_lantern.core.base.errors import InputError, LanternError
from idle_lantern.core.deliver.writing import JPEG_MAX_SIDE, WriteOptions, check_target, write
from idle_lantern.core.join.pipeline import cropped
from idle_lantern.core.outing import edits

if TYPE_CHECKING:
    from idle_lantern.app.window import Window

WRITING = "Writing the picture"
_FORMATS = (
    ("TIFF: nothing lost, for going on elsewhere", ".tif"),
    ("PNG: nothing lost, 8 or 16 bit", ".png"),
    ("JPEG: small, for showing", ".jpg"),
)


def _quality(text: str) -> float:
    value = units.parse_number(text, "a quality", "92")
    if not 40 <= value <= 100:
        raise InputError(f"'{text}' lies outside 40 to 100", remedy="92 is hard to tell from the original")
    return float(round(value))


def _dpi(text: str) -> float:
    value = units.parse_number(text.lower().replace("dpi", ""), "a print resolution", "300")
    if not 20 <= value <= 2400:
        raise InputError(f"'{text}' lies outside 20 to 2400 dpi", remedy="300 is usual for prints held in the hand")
    return value


class DeliverStage(Stage):
    """Back home, the end of it."""

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self.view = PictureView()
        self.view.placeholder = (
            "There is no joined picture yet. Join the frames first; it then appears here with its crop."
        )
        self.format = QComboBox()
        self.format.setObjectName("format")
        self.format.setAccessibleName("Format")
        for text, suffix in _FORMATS:
            self.format.addItem(text, suffix)
        self.format.currentIndexChanged.connect(lambda _i: self._show_facts())
        self.crop = QCheckBox("Crop to the largest rectangle without gaps")
        self.crop.setObjectName("crop")
        self.crop.clicked.connect(
            lambda on: self.state.apply(edits.choose("Crop" if on else "Do not crop", crop=bool(on)))
        )
        self.quality = QuantityEdit("JPEG quality", _quality, lambda v: f"{v:.0f}", 1)
        self.quality.show_value(92)
        self.dpi = QuantityEdit("Print resolution", _dpi, lambda v: f"{v:g} dpi", 10)
        self.dpi.show_value(300)
        for field in (self.quality, self.dpi):
            field.submitted.connect(field.show_value)
            field.submitted.connect(lambda _v: self._show_facts())
            field.refused.connect(lambda s: self.state.message.emit(s, True))
        self.facts = {k: label("", "figure", name=f"deliver-{k}") for k in ("size", "pixels", "print", "raw")}
        self.limit = label("", "warn", wrap=True)
        self.write_button = button("Write the picture …   [Ctrl + E]", self.ask_write, main=True, name="write")
        self.status = label("", wrap=True, name="deliver-status")
        side = column(
            label("What to write", "head"),
            self.format,
            self.crop,
            form([("JPEG quality", self.quality), ("Print resolution", self.dpi)]),
            8,
            form(
                [
                    ("Picture", self.facts["size"]),
                    ("Pixels", self.facts["pixels"]),
                    ("Print", self.facts["print"]),
                    ("In memory", self.facts["raw"]),
                ]
            ),
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
        self.state.changed.connect(self._refresh)

    def ask_write(self) -> None:
        """Choose the file and write it."""
        if self.state.joined is None:
            self.state.message.emit("There is no joined picture to write yet.", True)
            return
        suffix = self.format.currentData()
        start = str(Path.home() / f"{self.state.outing.name.replace('/', '-')}{suffix}")
        name, _ = QFileDialog.getSaveFileName(self, "Write the picture", start, f"*{suffix}")
        if name:
            path = Path(name)
            self.write_to(path if path.suffix else path.with_suffix(suffix))

    def write_to(self, target: Path) -> None:
        """Write the joined picture to ``target`` in the format of its ending."""
        joined = self.state.joined
        if joined is None:
            return
        options = WriteOptions(jpeg_quality=int(self.quality.value), dpi=self.dpi.value)
        crop = self.state.outing.choices.crop
        sources = {self.state.path_of(r).resolve() for r in self.state.outing.frames}
        try:
            box = joined.crop
            check_target(
                target, box.width if crop else joined.canvas.width, box.height if crop else joined.canvas.height
            )
            if target.exists() and target.resolve() in sources:
                raise InputError(
                    "Is one of the frames", where=target.name, remedy="Give another name, or the frame would be lost"
                )
        except LanternError as error:
            self.state.message.emit(error.sentence, True)
            return

        def work(task: Task) -> Path:
            task.begin("work", 1)
            write(cropped(joined.picture, joined.crop) if crop else joined.picture, target, options)
            task.advance()
            return target

        def done(path: Path) -> None:
            text = f"Written: {path} ({units.file_size(path.stat().st_size)})"
            self.status.setText(text)
            self.state.message.emit(text, False)

        self.window_.tasks.start(WRITING, work, done, lambda e: self.state.message.emit(e.sentence, True))

    # --- showing ----------------------------------------------------------------

    def showEvent(self, event: Any) -> None:
        self._refresh({"join", "choices"})
        super().showEvent(event)

    def _refresh(self, topics: set[str]) -> None:
        if "outing" in topics and "join" in topics and self.state.joined is None:
            self.view.set_levels([])
        if topics & {"join", "choices"}:
            self.crop.setChecked(self.state.outing.choices.crop)
            self._show_facts()

    def _show_facts(self) -> None:
        joined = self.state.joined
        self.write_button.setEnabled(joined is not None)
        suffix = self.format.currentData()
        self.quality.setEnabled(suffix == ".jpg")
        self.limit.setText("")
        for value in self.facts.values():
            value.setText("–")
        if joined is None:
            self.view.crop = None
            self.status.setText("Join the frames first.")
            return
        crop = self.state.outing.choices.crop
        w, h = (joined.crop.width, joined.crop.height) if crop else (joined.canvas.width, joined.canvas.height)
        self.view.crop = joined.crop if crop else None
        self.view.update()
        self.facts["size"].setText(f"{units.grouped(w)} × {units.grouped(h)} px")
        self.facts["pixels"].setText(units.megapixels(w * h))
        per_inch = self.dpi.value
        imperial = self.window_.settings.imperial
        self.facts["print"].setText(
            f"{units.length(w / per_inch * 25.4, imperial)} × {units.length(h / per_inch * 25.4, imperial)}"
        )
        channels = 3 if crop or suffix == ".jpg" else 4
        depth = 1 if suffix == ".jpg" or joined.picture.full_scale == 255 else 2
        self.facts["raw"].setText(units.file_size(w * h * channels * depth))
        if suffix == ".jpg" and max(w, h) > JPEG_MAX_SIDE:
            self.limit.setText(f"A JPEG holds {units.grouped(JPEG_MAX_SIDE)} pixels a side. Write TIFF instead.")
        if joined is not None and self.status.text() == "Join the frames first.":
            self.status.setText("")
