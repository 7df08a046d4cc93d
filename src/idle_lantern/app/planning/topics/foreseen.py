"""Foreseen: the picture that the plan would give, drawn from the scouting pictures while the plan changes."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING, Any

import numpy as np
from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QCheckBox, QSizePolicy, QSlider, QWidget

from idle_lantern.app.context import AppContext
from idle_lantern.app.planning import foreseen_model as model
from idle_lantern.app.planning.brief_binding import narrow
from idle_lantern.app.planning.commands import PlanCommands
from idle_lantern.app.planning.topics.base import Topic
from idle_lantern.app.tasks import Task
from idle_lantern.app.widgets.basics import button, column, form, label, row
from idle_lantern.app.widgets.blocks import Blocks
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.app.widgets.foreseen_view import ForeseenShown, ForeseenView, MarkShown
from idle_lantern.app.widgets.quantity_edit import QuantityEdit
from idle_lantern.core.base import units
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.pictures.source import PictureSource, reduced
from idle_lantern.core.plan.planner import Plan

if TYPE_CHECKING:
    from idle_lantern.core.scouting.foreseen import Foreseen

FORESEEING = "Foreseeing the picture"
_COSTS_AFTER_MS = 150
_NOTHING = (
    "Bring in a picture of the place under Scouting: the planned picture is then drawn here in any projection and shape, "
    "before a single frame is shot."
)


class ForeseenTopic(Topic):
    """One foreseen picture, or two side by side."""

    title = "Foreseen"

    def __init__(self, context: AppContext, commands: PlanCommands) -> None:
        self._drawing = self._again = False
        self._start = ""
        self._settled = QTimer()
        self._settled.setSingleShot(True)
        self._settled.setInterval(_COSTS_AFTER_MS)
        super().__init__(context, commands)
        self._settled.setParent(self)
        self._settled.timeout.connect(lambda: self._draw(costs=True))
        context.scout_grounds.changed.connect(self.redraw)
        context.state.changed.connect(lambda topics: self.redraw() if "join" in topics else None)

    def build(self, box: Blocks) -> None:
        self.views = (ForeseenView(), ForeseenView())
        self.titles = tuple(label("", "dim", wrap=True, name=f"foreseen-title-{i}") for i in range(2))
        self.costs = tuple(label("", "", wrap=True, name=f"foreseen-costs-{i}") for i in range(2))
        others = {
            **dict(list(model.PROJECTIONS.items())[1:]),
            "turned": "camera turned",
            "joined": "the joined picture",
        }
        self.projection = self._chooser(
            "foreseen-projection", [(v, k) for k, v in model.PROJECTIONS.items()], self.redraw
        )
        self.beside = self._chooser(
            "foreseen-beside", [("nothing", ""), *((words, key) for key, words in others.items())], self.redraw
        )
        self.shape = self._chooser("foreseen-shape", model.SHAPES, self.redraw)
        self.place = self._chooser("subject-place", model.PLACES)
        self.level = self._chooser("horizon-place", model.HEIGHTS)
        self.hour = QuantityEdit("Light at", lambda text: _minutes(units.parse_clock(text)), _clock, step=15)
        self.hour.setObjectName("field-foreseen-hour")
        self.hour.submitted.connect(lambda value: self._set_hour(round(value)))
        self.aids = {
            name: QCheckBox(title)
            for name, title in (("frames", "Frames"), ("seams", "Seams"), ("thirds", "Thirds"), ("names", "Marks"))
        }
        for name, aid in self.aids.items():
            aid.setObjectName(f"foreseen-{name}")
            aid.setChecked(name in ("thirds", "names"))
            aid.toggled.connect(self._show_aids)
        self.light = label("", "dim", wrap=True, name="foreseen-light")
        self.hold = QCheckBox("Tight round the marks")
        self.hold.setToolTip("As narrow as what is marked as the subject, or as not to be cut, allows")
        self.hold.setObjectName("compose-hold")
        self.compose = button("Plan this framing", self._compose, name="compose-field")
        drawn = form(
            [("Projection", self.projection), ("Below it", self.beside), ("Shape", self.shape), ("Light at", self.hour)]
        )
        self.clock = QSlider(Qt.Orientation.Horizontal)
        self.clock.setAccessibleName("Light at another hour")
        self.clock.setObjectName("foreseen-clock")
        self.clock.setSingleStep(5)
        self.clock.setPageStep(30)
        self.clock.valueChanged.connect(self._set_hour)
        solved = form([("Subject at", self.place), ("Horizon at", self.level)])
        box.add(
            column(
                drawn,
                self.clock,
                self.light,
                row(self.aids["frames"], self.aids["seams"], None),
                row(self.aids["thirds"], self.aids["names"], None),
                solved,
                self.hold,
                row(self.compose, None),
                None,
            )
        )
        pictures = QWidget()
        parts = (part for i in range(2) for part in (self.views[i], self.titles[i], self.costs[i]))
        pictures.setLayout(column(*parts))
        # the pictures take the height that is left
        pictures.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Expanding)
        box.add(pictures, 2)
        self._views_shown()

    def _chooser(self, name: str, rows: Iterable[tuple[str, object]], use: Callable[[], None] | None = None) -> Chooser:
        chooser = Chooser()
        narrow(chooser)
        chooser.setObjectName(f"choice-{name}")
        for words, data in rows:
            chooser.addItem(words, data)
        if use is not None:
            chooser.activated.connect(lambda _index: use())
        return chooser

    def summary(self, plan: Plan) -> str:
        return "drawn from scouting" if self.state.outing.scouts else "needs a scouting picture"

    def show_plan(self, plan: Plan) -> None:
        super().show_plan(plan)
        low, high = model.hours(plan)
        start = plan.brief.site.start
        if start != self._start or not low <= self.hour.value <= high:  # another start, or another day
            self._start = start
            self.hour.show_value(min(max(_minutes(start), float(low)), float(high)))
        self.clock.blockSignals(True)
        self.clock.setRange(low, high)
        self.clock.setValue(round(self.hour.value))
        self.clock.blockSignals(False)
        self.redraw()

    def wanted(self, which: int) -> model.Wanted:
        """What one of the views is set to."""
        shape = self.shape.currentData()
        own = self.projection.currentData()
        beside = self.beside.currentData()
        if which == 0 or beside == "joined":
            return model.Wanted(own, shape)
        return model.Wanted(own, shape, turned=True) if beside == "turned" else model.Wanted(beside, shape)

    # --- drawing ----------------------------------------------------------------

    def redraw(self) -> None:
        """Draw anew: at once without costs, which follow when the plan rests."""
        if not self.isVisible():
            return
        self._views_shown()
        self._draw(costs=False)
        self._settled.start()

    def _views_shown(self) -> None:
        both = bool(self.beside.currentData())
        for part in (self.views[1], self.titles[1], self.costs[1]):
            part.setVisible(both)

    def _draw(self, *, costs: bool) -> None:
        if self._drawing:  # one at a time: what changes meanwhile is drawn after it
            self._again = True
            return
        scout_grounds = self.context.scout_grounds.shown()
        if not scout_grounds:
            for view, title, cost in zip(self.views, self.titles, self.costs):
                view.clear(_NOTHING if not self.state.outing.scouts else "The scouting picture is being read …")
                title.setText("")
                cost.setText("")
            return
        with_seams = self.aids["seams"].isChecked()
        plan, scouts, minutes = self.state.plan, self.state.outing.scouts, round(self.hour.value)
        beside, joined = self.beside.currentData(), self.state.picture
        wanted = [self.wanted(i) for i in range(2 if beside not in ("", "joined") else 1)]
        if beside == "joined" and joined is None:
            self.views[1].clear("Nothing is joined yet: shoot the frames and join them.")
            self.titles[1].setText("")
            self.costs[1].setText("")
        room = max(60_000, min(400_000, self.views[0].width() * self.views[0].height()))
        self._drawing, self._again = True, False

        def work(_task: Task) -> tuple[list[tuple[ForeseenShown, model.ForeseenFacts]], str]:
            made, words = [], ""
            for one in wanted:
                drawn_for, seen = model.foreseen(plan, scout_grounds, one, room, costs=costs)
                light = model.light_at(drawn_for, seen, minutes)
                words = words or light.words
                made.append((_shown(drawn_for, seen, light, with_seams), model.told(drawn_for, seen, scouts)))
            if beside == "joined" and joined is not None:
                made.append(_joined(joined, room))
            return made, words

        def done(result: tuple[list[tuple[ForeseenShown, model.ForeseenFacts]], str]) -> None:
            self._drawing = False
            made, words = result
            self.light.setText(words)
            for i, (shown, told) in enumerate(made):
                self.views[i].show_picture(shown)
                self.titles[i].setText(told.title)
                if costs:
                    self.costs[i].setText(" ".join(filter(None, (told.costs, told.warning))))
                    self.views[i].setAccessibleDescription(f"{told.title}. {told.costs} {told.warning}")
            if self._again:  # the costs that were asked for meanwhile follow too
                self.redraw()

        def failed(error: LanternError) -> None:
            self._drawing = False
            self.views[len(wanted) - 1].clear(error.sentence)
            if self._again:
                self.redraw()

        self.context.start(FORESEEING, work, done, failed, quiet=True)

    def _show_aids(self) -> None:
        for view in self.views:
            view.frames, view.thirds, view.names, view.seams = (
                self.aids[k].isChecked() for k in ("frames", "thirds", "names", "seams")
            )
            view.update()
        if self.aids["seams"].isChecked():
            self.redraw()

    def _set_hour(self, minutes: int) -> None:
        low, high = model.hours(self.state.plan)
        minutes = min(max(minutes, low), high)
        self.hour.show_value(float(minutes))
        self.clock.setValue(minutes)
        self.redraw()

    def _compose(self) -> None:
        self.commands.scouting.compose(
            self.wanted(0), self.place.currentData(), self.level.currentData(), hold=self.hold.isChecked()
        )

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self.redraw()

    def showEvent(self, event: Any) -> None:
        super().showEvent(event)
        self.redraw()


def _shown(plan: Plan, seen: Foreseen, light: model.HourLight, with_seams: bool) -> ForeseenShown:
    """What a view draws."""
    from idle_lantern.core.scouting.foreseen import seams_of

    found = ((model.mark_box(seen, mark), mark) for mark in plan.brief.scene.marks)
    marks = tuple(MarkShown(box, *model.mark_words(plan, seen, mark)) for box, mark in found if box is not None)
    crop = (seen.crop.left, seen.crop.top, seen.crop.width, seen.crop.height)
    return ForeseenShown(
        seen.pixels, seen.covered, seen.outlines, crop, marks, light.at, seams_of(plan, seen) if with_seams else None
    )


def _joined(picture: PictureSource, most_px: int) -> tuple[ForeseenShown, model.ForeseenFacts]:
    """The joined picture, to be compared with what was foreseen."""
    width, height = picture.sizes[0]
    longest = max(width, height) * min(1.0, math.sqrt(2 * most_px / (width * height)))
    pixels = reduced(picture, max(2, round(longest)))
    if pixels.dtype == np.uint16:
        pixels = (pixels >> 8).astype(np.uint8)
    if pixels.shape[2] == 3:
        pixels = np.dstack([pixels, np.full(pixels.shape[:2], 255, np.uint8)])
    shown = pixels[..., 3] > 127
    size = f"{units.grouped(width)} × {units.grouped(height)} px"
    return (
        ForeseenShown(pixels, shown, (), (0, 0, pixels.shape[1], pixels.shape[0])),
        model.ForeseenFacts(f"The joined picture: {size}", "As it was joined."),
    )


def _minutes(clock: str) -> float:
    hours, minutes = clock.split(":")[:2]
    return float(int(hours) * 60 + int(minutes))


def _clock(value: float) -> str:
    minutes = round(value) % 1440
    return f"{minutes // 60:02d}:{minutes % 60:02d}"
