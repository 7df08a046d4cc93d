"""Measuring the no-parallax point: pairs at several rail settings in, the right setting out, kept in the gear library."""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

from PyQt6.QtWidgets import QDialog, QFileDialog, QInputDialog, QSpinBox, QTableWidget, QTableWidgetItem, QWidget

from idle_lantern.app.context import AppContext
from idle_lantern.app.planning import pupil_model as model
from idle_lantern.app.rail_setting import keep_rail
from idle_lantern.app.tasks import Task
from idle_lantern.app.widgets.basics import button, by_return, column, label, row
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.calibration.pupil import PupilSetting
from idle_lantern.core.calibration.pupil_height import PupilHeight

MEASURING = "Measuring the no-parallax point"
_COLUMNS = ("Rail", "Pitch", "Pair", "Near against far")
#: A pair is first tried here where nothing is known of the lens.
_FIRST_MM, _STEP_MM = 50.0, 30.0


class PupilDialog(QDialog):
    """Guides through the pairs; measures anew with each."""

    def __init__(self, context: AppContext, parent: QWidget | None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Measure the no-parallax point")
        self.setObjectName("pupil-dialog")
        self._context, self._plan = context, context.state.plan
        self.pairs: list[model.PairFiles] = []
        self.found: PupilSetting | None = None
        self.height_found: PupilHeight | None = None
        self.pitch = QSpinBox()
        self.pitch.setObjectName("pupil-pitch")
        self.pitch.setAccessibleName("Pitch of the row that pairs are taken in, in degrees")
        self.pitch.setRange(-75, 75)
        self.pitch.setSuffix("°")
        self._closed = False
        self._matched: dict[Any, Any] = {}  # of earlier pairs: one more takes no longer than the first
        self._scratch = tempfile.TemporaryDirectory(prefix="idle-lantern-")
        self.table = QTableWidget(0, len(_COLUMNS))
        self.table.setHorizontalHeaderLabels(list(_COLUMNS))
        self.table.setAccessibleName("Pairs")
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        header = self.table.horizontalHeader()
        if header is not None:
            header.setStretchLastSection(True)
        self.sentence = label("", wrap=True, name="pupil-result")
        self.use = by_return(button("Use it and keep it", self._use, main=True, name="pupil-use"))
        self.setLayout(
            column(
                label(model.advice(self._plan), wrap=True),
                row(
                    button("Add a pair of photographs …", self.ask_pair, name="pupil-add"),
                    button("Practise with the simulated camera …", self.ask_practice, name="pupil-practise"),
                    button("Drop the last", self.drop_last, quiet=True, name="pupil-drop"),
                    None,
                    label("Row at pitch"),
                    self.pitch,
                ),
                self.table,
                self.sentence,
                row(None, button("Close", self.reject), self.use),
                margin=16,
            )
        )
        self.resize(720, 460)
        self._show()

    def ask_pair(self) -> None:
        """Ask for two photographs and the setting they were taken at."""
        names, _ = QFileDialog.getOpenFileNames(
            self, "The pair: turned left, turned right", "", "Pictures (*.jpg *.jpeg *.png *.tif *.tiff *.dng)"
        )
        if not names:
            return
        if len(names) != 2:
            self.sentence.setText(f"A pair is two photographs, not {len(names)}.")
            return
        rail = self._ask_rail()
        if rail is not None:
            left, right = sorted(Path(n) for n in names)
            self.add(model.PairFiles(rail, left, right, float(self.pitch.value())))

    def ask_practice(self) -> None:
        """Ask for a setting and let the simulated camera take a pair there."""
        rail = self._ask_rail()
        if rail is not None:
            self.practise(rail)

    def practise(self, rail_mm: float) -> None:
        """A pair of the simulated camera before an upright, at a rail setting."""
        plan, folder, pitch = self._plan, Path(self._scratch.name), float(self.pitch.value())

        def work(task: Task) -> model.PairFiles:
            # the island is built when somebody practises
            from idle_lantern.simulator.practice import practice_for

            practice = practice_for(plan.rig, model.near_m(plan))
            return model.PairFiles(rail_mm, *practice.take_pair(rail_mm, folder, task, pitch_deg=pitch), pitch)

        self._start(work, self.add)

    def _ask_rail(self) -> float | None:
        here = self.found
        if self.pitch.value():
            here = self.height_found.tilted if self.height_found is not None else None
        if here is not None:
            usual = round(here.setting_mm)
        else:
            usual = (
                round(self.pairs[-1].rail_mm + _STEP_MM) if self.pairs else round(self._plan.rig.rail_mm or _FIRST_MM)
            )
        value, yes = QInputDialog.getDouble(
            self, "Rail setting", "What does the rail read, in millimetres?", usual, -300, 300, 1
        )
        return value if yes else None

    def add(self, pair: model.PairFiles) -> None:
        """One more pair; with two settings or more the point is measured."""
        self.pairs.append(pair)
        self._measure()

    def drop_last(self) -> None:
        """Take the last pair away."""
        if self.pairs:
            self.pairs.pop()
            self._measure()

    def _measure(self) -> None:
        self.found = self.height_found = None
        self._show()
        pairs = tuple(self.pairs)
        level, tilted = [p for p in pairs if not p.pitch_deg], model.tilted(pairs)
        if not model.measurable(level):
            return

        def work(task: Task) -> tuple[PupilSetting, PupilHeight | None, str]:
            from idle_lantern.core.calibration.pupil import calibrate_pupil
            from idle_lantern.core.calibration.pupil_height import calibrate_height

            found = calibrate_pupil([p.at for p in level], task, kept=self._matched)
            if not model.measurable(tilted):
                return found, None, ""
            try:
                height = calibrate_height(found, tilted[0].pitch_deg, [p.at for p in tilted], task, kept=self._matched)
            except LanternError as error:  # what the level row told holds
                return found, None, f" {error.sentence}"
            return found, height, ""

        def done(measured: tuple[PupilSetting, PupilHeight | None, str]) -> None:
            if pairs == tuple(self.pairs):  # others came meanwhile
                self.found, self.height_found, trouble = measured
                self._show()
                self.sentence.setText(self.sentence.text() + trouble)

        self._start(work, done)

    def _start(self, work: Callable[[Task], Any], use: Callable[[Any], None]) -> None:
        """Work off the thread; what it brings is dropped when the dialog was closed meanwhile."""
        self.sentence.setText("Measuring …")

        def done(found: Any) -> None:
            if not self._closed:
                use(found)

        def failed(error: LanternError) -> None:
            if not self._closed:
                self._show()
                self.sentence.setText(error.sentence)

        self._context.start(MEASURING, work, done, failed)

    def _show(self) -> None:
        rows = model.rows(self.pairs, self.found, self.height_found)
        self.table.setRowCount(len(rows))
        for i, texts in enumerate(rows):
            for j, text in enumerate(texts):
                self.table.setItem(i, j, QTableWidgetItem(text))
        self.table.resizeColumnsToContents()
        self.sentence.setText(model.told(self._plan, self.found, self.height_found))
        self.use.setEnabled(self.found is not None)

    def _use(self) -> None:
        """Plan with the setting, and keep it for the lens."""
        found = self.found
        if found is not None and keep_rail(
            self._context, found.setting_mm, found.sigma_mm, "Take the measured rail setting"
        ):
            self.accept()

    def done(self, result: int) -> None:
        """Close, and let the pictures of the practice go."""
        self._closed = True
        self._scratch.cleanup()
        super().done(result)
