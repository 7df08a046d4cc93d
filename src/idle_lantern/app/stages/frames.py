"""Frames: the pictures that were shot or brought in, with their sizes and EXIF."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QDragEnterEvent, QDropEvent, QIcon, QPainter, QPixmap
from PyQt6.QtWidgets import QFileDialog, QListView, QListWidget, QListWidgetItem

from idle_lantern.app import theme
from idle_lantern.app.stages.base import Stage
from idle_lantern.app.tasks import Task
from idle_lantern.app.widgets.basics import button, column, form, label, panel, row, to_qimage
from idle_lantern.app.widgets.picture_view import PictureView, pyramid
from idle_lantern.core.base import units
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.frames.frameset import pictures_in
from idle_lantern.core.frames.reading import SUFFIXES, FrameInfo, probe, read
from idle_lantern.core.outing import document, edits
from idle_lantern.core.outing.model import FrameRef

if TYPE_CHECKING:
    from idle_lantern.app.window import Window

_THUMB = 132
LOADING = "Reading frames"


class FramesStage(Stage):
    """The shot set: thumbnails on the left, the chosen frame on the right."""

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self.setAcceptDrops(True)
        self._thumbs: dict[str, QPixmap] = {}
        self._infos: dict[str, FrameInfo] = {}
        self._faults: dict[str, str] = {}
        self._loading: set[str] = set()
        self._folder: Path | None = None

        self.list = QListWidget()
        self.list.setAccessibleName("Frames")
        self.list.setObjectName("thumbs")
        self.list.setTextElideMode(Qt.TextElideMode.ElideNone)
        self.list.setViewMode(QListView.ViewMode.IconMode)
        self.list.setResizeMode(QListView.ResizeMode.Adjust)
        self.list.setMovement(QListView.Movement.Static)
        self.list.setIconSize(QSize(_THUMB, _THUMB))
        self.list.setGridSize(QSize(_THUMB + 24, _THUMB + 60))
        self.list.setUniformItemSizes(True)
        self.list.currentItemChanged.connect(self._chosen)
        self.summary = label("", "head", name="frames-summary")
        self.empty = label(
            "No frames yet. Shoot them in Field, or bring in pictures of your own: drop files or a folder here.",
            wrap=True,
        )
        left = column(
            self.summary,
            self.empty,
            self.list,
            row(
                button("Bring in pictures …", self.ask_files, name="bring-files"),
                button("Bring in a folder …", self.ask_folder, name="bring-folder"),
                None,
                button("Join these frames", self._join, main=True, name="go-join"),
            ),
        )
        self.view = PictureView()
        self.view.placeholder = "Choose a frame to look at it at 100 %."
        self.title = label("", "head")
        self.facts = {k: label("", "figure") for k in ("size", "focal", "exposure", "taken", "direction", "state")}
        details = form(
            [
                ("Size", self.facts["size"]),
                ("Focal length", self.facts["focal"]),
                ("Exposure", self.facts["exposure"]),
                ("Taken", self.facts["taken"]),
                ("Direction told by the head", self.facts["direction"]),
                ("In the join", self.facts["state"]),
            ]
        )
        self.out_button = button("Leave out   [X]", self.toggle_left_out, name="leave-out")
        self.zoom_text = label("", "dim")
        self.view.zoomed.connect(lambda z: self.zoom_text.setText(f"{100 * z * self.view.devicePixelRatioF():.0f} %"))
        right = column(
            row(
                self.title,
                None,
                self.zoom_text,
                button("Fit   [0]", self.view.fit, quiet=True),
                button("100 %   [1]", self.view.show_full, quiet=True),
            ),
            self.view,
            details,
            row(self.out_button, button("Remove   [Delete]", self.remove, name="remove"), None),
        )
        layout = row(margin=16, space=theme.SPACE * 3)
        layout.addWidget(panel(left, "ground"), 5)
        layout.addWidget(panel(right, "ground"), 4)
        self.setLayout(layout)
        self.state.changed.connect(self._refresh)

    # --- bringing in ------------------------------------------------------------

    def ask_files(self) -> None:
        """Choose picture files."""
        pattern = " ".join(f"*{s} *{s.upper()}" for s in SUFFIXES)
        names, _ = QFileDialog.getOpenFileNames(self, "Bring in pictures", "", f"Pictures ({pattern})")
        if names:
            self.bring([Path(n) for n in names])

    def ask_folder(self) -> None:
        """Choose a folder."""
        name = QFileDialog.getExistingDirectory(self, "Bring in a folder of pictures")
        if name:
            self.bring([Path(name)])

    def bring(self, paths: list[Path]) -> None:
        """Add files, and the pictures of folders; unreadable ones are named and left."""
        folder = self.state.folder
        if folder is None:
            return
        self.window_.go("frames")

        def work(task: Task) -> tuple[list[str], list[str]]:
            files = [f for p in paths for f in (pictures_in(p) if p.is_dir() else [p])]
            good, faults = [], []
            task.begin("work", len(files))
            for path in files:
                try:
                    probe(path)
                    good.append(document.relative(folder, path))
                except LanternError as error:
                    faults.append(error.sentence)
                task.advance()
            return good, faults

        def done(result: tuple[list[str], list[str]]) -> None:
            good, faults = result
            if good:
                self.state.apply(edits.bring_frames(good))
            if faults:
                more = f" ({len(faults) - 1} more could not be read)" if len(faults) > 1 else ""
                self.state.message.emit(faults[0] + more, True)
            elif not good:
                self.state.message.emit("There is no JPEG, PNG or TIFF picture there.", True)

        self.window_.tasks.start(
            "Bringing in pictures", work, done, lambda e: self.state.message.emit(e.sentence, True)
        )

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        mime = event.mimeData() if event else None
        if event is not None and mime is not None and mime.hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        mime = event.mimeData() if event else None
        if mime is not None:
            self.bring([Path(u.toLocalFile()) for u in mime.urls() if u.isLocalFile()])

    # --- actions ----------------------------------------------------------------

    def _ref(self) -> FrameRef | None:
        return next((r for r in self.state.outing.frames if r.file == self.state.selected_file), None)

    def toggle_left_out(self) -> None:
        """Leave the chosen frame out of the join, or put it back."""
        ref = self._ref()
        if ref is not None:
            self.state.apply(edits.leave_out(ref.file, ref.file not in self.state.outing.choices.left_out))

    def remove(self) -> None:
        """Take the chosen frame out of the outing; its file stays."""
        ref = self._ref()
        if ref is not None:
            self.state.apply(edits.remove_frames([ref.file]))
            self.state.message.emit(
                f"{ref.file} is out of the outing; the file itself stays. Undo brings it back.", False
            )

    def _join(self) -> None:
        self.window_.go("join")
        self.window_.join_stage.run_join()

    # --- showing ----------------------------------------------------------------

    def showEvent(self, event: Any) -> None:
        self._refresh({"frames", "selection"})
        super().showEvent(event)

    def _chosen(self, item: QListWidgetItem | None, _before: QListWidgetItem | None) -> None:
        if item is not None:
            self.state.select(None, item.data(Qt.ItemDataRole.UserRole))

    def _refresh(self, topics: set[str]) -> None:
        if self._folder != self.state.folder:  # file names mean other files now
            self._folder = self.state.folder
            for kept in (self._thumbs, self._infos, self._faults):
                kept.clear()
            self._loading.clear()
            self._viewed = None
        if not self.isVisible():
            return
        if topics & {"frames", "choices", "outing"}:
            self._fill()
        if topics & {"selection", "frames", "choices"}:
            self._show_selection()

    def _fill(self) -> None:
        frames = self.state.outing.frames
        self.empty.setVisible(not frames)
        joined = len(self.state.outing.frames_to_join())
        self.summary.setText(
            f"{len(frames)} frame{'s' if len(frames) != 1 else ''}, {joined} of them for the join" if frames else ""
        )
        self.list.blockSignals(True)
        listed = [self._file_at(i) for i in range(self.list.count())]
        if listed != [r.file for r in frames]:
            self.list.clear()
            for ref in frames:
                new = QListWidgetItem()
                new.setData(Qt.ItemDataRole.UserRole, ref.file)
                self.list.addItem(new)
        used = {r.file for r in self.state.outing.frames_to_join()}
        for i, ref in enumerate(frames):
            item = self.list.item(i)
            if item is None:
                continue
            sign = "" if ref.file in used else "⊘ "
            item.setText(f"{sign}{Path(ref.file).name}" + (f"\nframe {ref.number}" if ref.number else ""))
            item.setIcon(_plain_icon(self._thumb(ref.file)))
        self.list.blockSignals(False)
        self._load([r for r in frames if r.file not in self._thumbs and r.file not in self._loading])

    def _file_at(self, index: int) -> str | None:
        item = self.list.item(index)
        return item.data(Qt.ItemDataRole.UserRole) if item is not None else None

    def _thumb(self, file: str) -> QPixmap:
        if file in self._thumbs:
            return self._thumbs[file]
        blank = QPixmap(_THUMB, _THUMB)
        blank.fill(theme.colour("raised"))
        painter = QPainter(blank)
        painter.setPen(theme.colour("dim"))
        painter.drawText(
            blank.rect(),
            int(Qt.AlignmentFlag.AlignCenter) | int(Qt.TextFlag.TextWordWrap),
            "cannot be read" if file in self._faults else "…",
        )
        painter.end()
        return blank

    def _load(self, refs: list[FrameRef]) -> None:
        """Thumbnails and facts off the thread."""
        if not refs:
            return
        self._loading |= {r.file for r in refs}
        jobs = [(r.file, self.state.path_of(r)) for r in refs]
        folder = self.state.folder

        def work(task: Task) -> None:
            task.begin("work", len(jobs))
            for file, path in jobs:
                try:
                    info = probe(path)
                    reduce = 8 if max(info.width, info.height) > 2400 else 4
                    task.show((file, info, read(path, reduce).pixels, ""))
                except LanternError as error:
                    task.show((file, None, None, error.sentence))
                task.advance()

        self.window_.tasks.start(
            LOADING,
            work,
            lambda _r: None,
            lambda e: self.state.message.emit(e.sentence, True),
            on_partial=lambda r: self._loaded(r) if folder == self.state.folder else None,
        )

    def _loaded(self, result: tuple[str, FrameInfo | None, Any, str]) -> None:
        file, info, pixels, fault = result
        self._loading.discard(file)
        if info is None:
            self._faults[file] = fault
        else:
            self._infos[file] = info
            image = to_qimage(pixels).scaled(
                _THUMB, _THUMB, Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation
            )
            self._thumbs[file] = QPixmap.fromImage(image)
        for i, ref in enumerate(self.state.outing.frames):
            item = self.list.item(i)
            if ref.file == file and item is not None:
                item.setIcon(_plain_icon(self._thumb(file)))
        if file == self.state.selected_file:
            self._show_facts()

    _viewed: str | None = None

    def _show_selection(self) -> None:
        ref = self._ref()
        for i, other in enumerate(self.state.outing.frames):
            if other is ref:
                self.list.blockSignals(True)
                self.list.setCurrentRow(i)
                self.list.blockSignals(False)
        self._show_facts()
        if ref is None:
            self._viewed = None
            self.view.set_levels([])
            return
        if ref.file == self._viewed:
            return
        self._viewed = ref.file
        path = self.state.path_of(ref)

        def done(levels: list[Any]) -> None:
            if self._viewed == ref.file:
                self.view.set_levels(levels)

        self.window_.tasks.start(
            "Opening a frame",
            lambda _t: pyramid(read(path).pixels),
            done,
            lambda e: self.state.message.emit(e.sentence, True),
        )

    def _show_facts(self) -> None:
        ref = self._ref()
        self.out_button.setEnabled(ref is not None)
        for value in self.facts.values():
            value.setText("")
        self.title.setText(Path(ref.file).name if ref else "")
        if ref is None:
            return
        if ref.file in self._faults:
            self.facts["size"].setText(self._faults[ref.file])
        info = self._infos.get(ref.file)
        if info is not None:
            m = info.metadata
            self.facts["size"].setText(
                f"{info.width} × {info.height} px, {units.megapixels(info.width * info.height)}, {info.bits} bit"
            )
            self.facts["focal"].setText(
                f"{m.focal_mm:g} mm" if m.focal_mm else "not told: it is found from the matches"
            )
            parts = [
                units.exposure_time(m.exposure_s) if m.exposure_s else "",
                f"f/{m.aperture:g}" if m.aperture else "",
                f"ISO {m.iso:.0f}" if m.iso else "",
            ]
            self.facts["exposure"].setText("  ".join(p for p in parts if p) or "not told")
            self.facts["taken"].setText(m.taken or "not told")
        if ref.yaw_deg is not None and ref.pitch_deg is not None:
            self.facts["direction"].setText(f"yaw {units.angle(ref.yaw_deg)}, pitch {units.angle(ref.pitch_deg)}")
        else:
            self.facts["direction"].setText("unknown: it is found from the matches")
        out = ref.file in self.state.outing.choices.left_out
        used = ref in self.state.outing.frames_to_join()
        self.facts["state"].setText("left out by you" if out else "yes" if used else "no: shot again later")
        self.out_button.setText("Put back   [X]" if out else "Leave out   [X]")


def _plain_icon(pixmap: QPixmap) -> QIcon:
    """An icon that keeps its colours when chosen: nothing is tinted where colour is judged."""
    icon = QIcon(pixmap)
    icon.addPixmap(pixmap, QIcon.Mode.Selected)
    return icon
