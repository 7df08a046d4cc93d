"""The blur of the joined grid beside the single wide frame, rendered on the invented island."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QPixmap
from PyQt6.QtWidgets import QDialog, QLabel, QWidget

from idle_lantern.app.display import to_qimage
from idle_lantern.app.tasks import Task, TaskRunner
from idle_lantern.app.widgets.basics import button, column, label, row
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.base.progress import Progress
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.plan.planner import Plan
from idle_lantern.simulator.previews import WIDE_APERTURE, blur_pair

PREVIEW = "Preview of the blur"


class BlurPreview(QDialog):
    """Two pictures of the same view; they appear when rendered."""

    def __init__(self, tasks: TaskRunner, plan: Plan, parent: QWidget | None) -> None:
        super().__init__(parent)
        self.setWindowTitle(PREVIEW)
        self.setObjectName("blur-preview")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.pictures = (QLabel("is being drawn …"), QLabel("is being drawn …"))
        single = plan.single
        assert single is not None
        s = plan.sharpness
        titles = (
            f"The joined grid: {plan.rig.focal_mm:g} mm at f/{s.aperture:g}",
            f"One frame: {single.same_camera_mm:.0f} mm at f/{max(WIDE_APERTURE, s.aperture):g}",
        )
        for shown in self.pictures:
            shown.setMinimumSize(440, 300)
            shown.setAlignment(Qt.AlignmentFlag.AlignCenter)
        told = (
            f"Focus {s.focus_m:.1f} m. The background blurs over {s.background_blur_px:.0f} px of the joined picture; "
            "the wide frame of the same view keeps it nearly sharp. Drawn on the invented island, not your place."
        )
        layout = column(
            row(*(column(label(t, "head"), p) for t, p in zip(titles, self.pictures))),
            label(told, "dim", wrap=True),
            row(None, button("Close", self.accept)),
            margin=16,
        )
        self.setLayout(layout)

        def work(progress: Progress) -> tuple[Picture, Picture]:
            return blur_pair(plan, progress)

        self._task: Task = tasks.start(PREVIEW, work, self._show, self._failed, quiet=True)
        self.finished.connect(self._task.cancel)

    def _failed(self, error: LanternError) -> None:
        if not self._task.cancelled:  # else closed meanwhile
            self.pictures[0].setText(error.sentence)

    def _show(self, pair: tuple[Picture, Picture]) -> None:
        if self._task.cancelled:
            return
        for shown, picture in zip(self.pictures, pair):
            shown.setPixmap(QPixmap.fromImage(to_qimage(picture.pixels)))
