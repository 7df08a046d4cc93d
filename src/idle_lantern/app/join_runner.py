"""Runs join requests off the thread and gives their results to the outing they were asked for."""

from __future__ import annotations

import logging
from dataclasses import dataclass
from threading import Lock
from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, pyqtSignal

from idle_lantern.app.state import AppState, OutingPlace
from idle_lantern.app.tasks import Task, TaskRunner
from idle_lantern.core.base import units
from idle_lantern.core.base.atomic import make_folder
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.gear.library import Library
from idle_lantern.core.join.request import (
    STAGE_WEIGHTS,
    Event,
    Failed,
    Finished,
    JoinRequest,
    JoinResult,
    RoughReady,
    TileDone,
)
from idle_lantern.core.join.worker import JoinWorker
from idle_lantern.core.outing import document
from idle_lantern.core.pictures.source import HeldPicture, PictureSource
from idle_lantern.core.pictures.tiled import open_picture
from idle_lantern.core.plan.cost import PastJoin

if TYPE_CHECKING:
    from idle_lantern.core.compositing.canvas.canvas import Canvas

log = logging.getLogger(__name__)

JOINING = "Joining"
#: Joins run apart from the window: what ends them does not end it, and their memory is not the window's.
_WORKER = JoinWorker()
#: How often a join that waits for another one looks whether it is wanted still.
_WAIT_S = 0.05


@dataclass(frozen=True)
class ShownPicture:
    """A picture ready to be shown: its source, and the canvas it stands for; ``result`` once it is finished."""

    source: PictureSource
    canvas: Canvas
    result: JoinResult | None = None

    @property
    def size(self) -> tuple[int, int]:
        """Width and height of the finished picture."""
        return self.canvas.width, self.canvas.height


class JoinRunner(QObject):
    """One join at a time; what it gives belongs to the outing of its request.

    ``rough`` and ``shown`` are told only while that outing is open; results of another one wait in its folder.
    """

    rough = pyqtSignal(object)
    shown = pyqtSignal(object)
    failed = pyqtSignal(str)
    ended = pyqtSignal()
    #: A join was stopped or failed: what it showed so far is not the outing's picture.
    without_picture = pyqtSignal()

    def __init__(self, state: AppState, tasks: TaskRunner, gear: Library | None, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._state, self._tasks, self._gear = state, tasks, gear
        self.request: JoinRequest | None = None
        #: What failed last, so that it is not asked for by itself again and again.
        self.failed_request: JoinRequest | None = None
        self._task: Task | None = None
        #: Held by the join that runs: one that was stopped is still on its way out when the next one begins.
        self._one = Lock()
        self.place: OutingPlace | None = None

    @property
    def busy(self) -> bool:
        """Whether a join runs."""
        return self._tasks.busy(JOINING)

    @property
    def busy_here(self) -> bool:
        """Whether a join of the open outing runs."""
        return self.busy and self.place is not None and self._state.is_open(self.place)

    def is_task(self, task: Task) -> bool:
        """Whether that work is a join."""
        return task.title == JOINING

    def start(self, request: JoinRequest, place: OutingPlace) -> None:
        """Run a request for an outing; refused while another one runs."""
        if self.busy:
            return
        self.request, self.place, self.failed_request = request, place, None

        def work(task: Task) -> None:
            def sink(event: Event) -> None:
                if isinstance(event, RoughReady):
                    task.show(ShownPicture(HeldPicture(event.picture.picture), event.canvas))
                elif isinstance(event, Finished):
                    # the picture stands, whatever was pressed meanwhile
                    if event.report_error is not None:
                        task.hand_over(event.report_error)
                    task.hand_over(_opened(event.result))
                elif isinstance(event, Failed):
                    task.hand_over(event)
                elif not isinstance(event, TileDone):
                    log.debug("join %s: %s", event.request_id, type(event).__name__)

            make_folder(request.target.parent, inside=place.folder)
            while not self._one.acquire(timeout=_WAIT_S):
                task.advance(0)  # a stop is heard
            try:
                _WORKER.run(request, sink, task)
            finally:
                self._one.release()

        def taken(product: object) -> None:
            if isinstance(product, Failed):
                self.failed_request = request
                self._fail(product.error, place)
            elif isinstance(product, ShownPicture):
                self._take(product, place)
            elif isinstance(product, LanternError):
                self._state.message.emit(f"{product.sentence} The picture is there all the same.", True)

        came: list[bool] = []
        self._task = self._tasks.start(
            JOINING,
            work,
            lambda _r: came.append(True),
            lambda error: self._fail(error, place),
            weights=STAGE_WEIGHTS,
            on_partial=taken,
            # told when the work is off the list, so that who listens may begin the next
            on_ended=lambda: self._end(place, finished=bool(came)),
        )

    def _end(self, place: OutingPlace, *, finished: bool) -> None:
        if (not finished or self.failed_request is not None) and not self.busy and self._state.is_open(place):
            self.without_picture.emit()
        if finished:
            self.ended.emit()

    def stop(self) -> None:
        """Stop the join of the open outing, for another one in its place."""
        if self.busy_here and self._task is not None:
            self._task.cancel()

    def start_instead(self, request: JoinRequest, place: OutingPlace) -> None:
        """Run a request in place of the one that runs for the same outing."""
        self.stop()
        self.start(request, place)

    def _take(self, product: ShownPicture, place: OutingPlace) -> None:
        result = product.result
        if result is not None and result.solved_anew:
            self._remember(result)
        if not self._state.is_open(place):
            if result is not None:
                self._state.message.emit(f"{place.name} is joined; its picture waits in that outing.", False)
            return
        if result is None:
            self.rough.emit(product)
            return
        told = hole_in_crop(self._state.joined, result)
        self._state.set_joined(result, product.source)
        self.shown.emit(product)
        if told:
            self._state.message.emit(told, True)
        if self._gear is not None:
            self._state.set_past(self._gear.past_joins())

    def _fail(self, error: LanternError, place: OutingPlace) -> None:
        here = self._state.is_open(place)
        self._state.message.emit(error.sentence if here else f"{place.name}: {error.sentence}", True)
        if here:
            self.failed.emit(error.sentence)

    def load_finished(self) -> None:
        """Bring the picture of an earlier join back, when the open outing has one."""
        place, outing = self._state.place, self._state.outing
        if place is None or not self._state.awaits_picture:
            return
        pictures = place.folder / document.PICTURES
        picture, report = pictures / document.PICTURE, pictures / document.REPORT

        def work(_task: Task) -> ShownPicture:
            from idle_lantern.core.join.reopening import load_result  # what no other start pays

            by_id = {ref.id: document.resolve(place.folder, ref) for ref in outing.frames}
            return _opened(load_result(picture, report, by_id.get))

        def done(shown: ShownPicture) -> None:
            if self._state.is_open(place) and self._state.joined is None and not self.busy_here:
                self._state.set_joined(shown.result, shown.source)
                self.shown.emit(shown)

        def failed(error: LanternError) -> None:
            self._state.message.emit(error.sentence, True)
            if self._state.is_open(place):
                self._state.await_no_picture()

        self._tasks.start("Opening the joined picture", work, done, failed)

    def _remember(self, result: JoinResult) -> None:
        """Keep what the join took, for the plans to come; an unreadable library is no reason to fail a join."""
        if self._gear is None or result.solution is None:
            return
        infos = result.solution.frames.infos
        made = result.canvas.width * result.canvas.height / 1e6
        past = PastJoin(len(infos), sum(i.megapixels for i in infos), made, result.took_s, result.peak_mib)
        try:
            self._gear.add_join(past)
        except LanternError as error:
            log.warning("past join not kept: %s", error)


def _opened(result: JoinResult) -> ShownPicture:
    """A finished picture from disk; opened off the interface thread."""
    return ShownPicture(open_picture(result.picture), result.canvas, result)


def hole_in_crop(before: JoinResult | None, after: JoinResult) -> str:
    """What to say where the same frames, painted on since, leave a smaller rectangle without gaps; else nothing."""
    if before is None or before.frame_ids != after.frame_ids:
        return ""
    one, other = before.report.chosen, after.report.chosen
    if one is None or other is None or one.projection != other.projection or one.masks == other.masks:
        return ""
    old, new = before.crop, after.crop
    if new.area > 0.97 * old.area:
        return ""
    return (
        f"What is painted hidden leaves a hole that no other frame shows: without gaps the picture shrinks from "
        f"{units.grouped(old.width)} × {units.grouped(old.height)} to {units.grouped(new.width)} × {units.grouped(new.height)} px. "
        "Paint less there, or deliver it uncropped."
    )
