"""Pictures of every main view, made by driving the real window with the demo outing."""

from __future__ import annotations

import os
import shutil
import tempfile
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from pathlib import Path

from PIL import Image, ImageFilter
from PyQt6.QtCore import QPointF
from PyQt6.QtWidgets import QApplication, QWidget

from idle_lantern.app import theme
from idle_lantern.app.main import make_application
from idle_lantern.app.practice.dialog import PracticeDialog
from idle_lantern.app.settings import Settings, outings_folder
from idle_lantern.app.stages import finish_edits, frames_model
from idle_lantern.app.stages.importing import run_lines
from idle_lantern.app.widgets.runs_dialog import RunsDialog
from idle_lantern.app.window import Window
from idle_lantern.core.base.errors import InputError, LanternError
from idle_lantern.core.base.progress import SILENT
from idle_lantern.core.finish import recipe
from idle_lantern.core.merging.temperature import gains_for
from idle_lantern.core.outing import edits
from idle_lantern.core.outing.model import Outing
from idle_lantern.core.plan.kinds import kind_of
from idle_lantern.simulator.demo import DEMO_STANDS, make_demo_card, make_demo_spheres

SIZE = (1280, 800)
_PATIENCE_S = 180.0


@contextmanager
def _living_in(home: str) -> Iterator[None]:
    """A home of its own, so that the logbook lists the copy that is worked on."""
    names = ("HOME", "XDG_DATA_HOME")
    before = {name: os.environ.pop(name, None) for name in names}
    os.environ["HOME"] = home
    try:
        yield
    finally:
        for name, value in before.items():
            os.environ.pop(name, None)
            if value is not None:
                os.environ[name] = value


#: Places of the demo's second and third frame that show the same things, about as a hand clicks them.
_SAME_THINGS = (
    ((1045.0, 639.0), (345.5, 645.5)),
    ((1185.0, 1316.0), (471.0, 1290.0)),
    ((966.0, 887.0), (270.0, 888.0)),
)


#: An eaves in the same frames, of which each shows another part.
_SAME_LINE = (((950.0, 935.0), (1190.0, 939.0)), ((250.0, 936.0), (552.0, 938.0)))


@dataclass
class _Tour:
    """The real window with a copy of the demo outing, and the pictures that were taken of it."""

    window: Window
    scratch: Path
    target: Path
    written: list[Path] = field(default_factory=list)

    def wait(self, until: Callable[[], bool]) -> None:
        """Let the window work until something holds."""
        end = time.monotonic() + _PATIENCE_S
        while not until():
            if time.monotonic() > end:
                raise LanternError("A view did not become ready for its picture")
            QApplication.processEvents()
            time.sleep(0.01)

    def settle(self) -> None:
        """Wait until nothing runs and all is drawn."""
        window = self.window
        self.wait(
            lambda: (
                window.tasks.idle
                and window.plan_stage.judged
                and window.picture_view().ready
                and window.context.scout_grounds.complete
            )
        )
        for _ in range(5):
            QApplication.processEvents()

    def shot(self, name: str, dialog: QWidget | None = None) -> None:
        """A picture of the window, or of a dialog, which is closed then."""
        if dialog is None:
            self.window.tell("", False)
        self.settle()
        self.written.append(self.target / f"{name}.png")
        (dialog or self.window).grab().save(str(self.written[-1]))
        if dialog is not None:
            dialog.close()

    def change(self, change: Callable[[Outing], Outing]) -> None:
        """Change the copy for a picture; taken back by undo."""
        self.window.state.apply(edits.Edit("For the picture", change))


def _planning(tour: _Tour) -> None:
    window, stage = tour.window, tour.window.plan_stage
    window.state.select(3)
    tour.shot("plan")
    for text in ("mole, 20, golden, 300 E 220 N", "lamps, 10, blue, 150 W 80 N"):
        stage.commands.take_stop(text)
    # as on the evening before: nothing is shot yet
    tour.change(lambda o: replace(o, frames=()))
    for role, name, yaw, pitch in (("subject", "light tower", -2.0, 10.0), ("whole", "beacon", 45.0, 13.0)):
        stage.commands.scouting.mark(role, yaw, pitch, name)
    stage.show_page(stage.scouting)
    tour.shot("plan-scouting")
    stage.show_page(stage.foreseen)
    tour.wait(lambda: "loses" in stage.foreseen.costs[0].text())
    tour.shot("plan-foreseen")
    while window.state.history.undo_title:
        window.state.undo()


def _field(tour: _Tour) -> None:
    """Half way through: the last frames are taken off the log."""
    tour.change(lambda o: replace(o, frames=o.frames[:4]))
    tour.window.go("field")
    tour.shot("field")
    tour.window.state.undo()


def _frames(tour: _Tour) -> None:
    window, stage = tour.window, tour.window.frames_stage
    window.go("frames")
    stage.findings.look()
    tour.settle()
    stage.findings.list.step()
    tour.shot("frames")
    stage.toggle_develop()
    window.state.apply(edits.develop("For the picture", exposure_ev=0.4, white_balance=gains_for(6500.0), shadows=0.25))
    tour.shot("develop")
    window.state.undo()
    stage.toggle_develop()
    make_demo_card(tour.scratch / "card", scale=0.14)
    brought = frames_model.bring([tour.scratch / "card"], window.state.folder or tour.scratch, SILENT)
    runs = RunsDialog(run_lines(brought), brought.left, window)
    runs.show()
    tour.shot("runs", runs)


def _joining(tour: _Tour) -> None:
    window, stage = tour.window, tour.window.join_stage
    window.go("join")
    if window.state.joined is None or window.state.join_is_stale:
        stage.run_join()
    tour.shot("join")
    stage.toggle_compose()
    tour.settle()
    stage.compose.hand.use_tool("crop")
    tour.shot("compose")
    stage.toggle_compose()
    ties = stage.open_ties(window.state.outing.frames[2].id)
    if ties is not None:
        tour.settle()
        for one, other in _SAME_THINGS:
            for side, (x, y) in ((ties.left, one), (ties.right, other)):
                side.view.show_place(x, y)
                side.clicked(QPointF(x + 0.5, y + 0.5))
        ties.lines_button.click()
        for side, ends in zip((ties.left, ties.right), _SAME_LINE):
            side.drawn(*(QPointF(x + 0.5, y + 0.5) for x, y in ends))
        tour.shot("ties", ties)
        window.state.apply(edits.untie(window.state.outing.choices.points))
        tour.settle()
    _finishing(tour)
    window.go("deliver")
    tour.wait(lambda: window.deliver_stage.facts["file"].text().startswith("about"))
    tour.shot("deliver")
    window.go("logbook")
    tour.shot("logbook")


def _finishing(tour: _Tour) -> None:
    """Dusk brought out: shadows lifted, the sky alone darker, compared across the line."""
    window = tour.window
    before = window.state.outing.finish
    told = {
        "schema": recipe.SCHEMA,
        "steps": [
            {"do": "tones", "shadows": 0.5, "highlights": -0.35},
            {"do": "curve", "points": [[0, 0], [0.25, 0.2], [0.7, 0.76], [1, 1]]},
            {
                "do": "hue_band",
                "lightness": -0.5,
                "factor": 1.2,
                "mask": {"kind": "gradient", "begin_deg": [0, -2], "end_deg": [0, 22]},
            },
            {"do": "sharpen", "amount": 0.6},
        ],
    }
    window.state.apply(finish_edits.all_taken("For the picture", recipe.parsed(told, "")))
    window.go("finish")
    window.finish_stage.panel.choose(2)
    window.finish_stage.compare("split")
    tour.wait(lambda: bool(window.finish_stage.cut_told.text()))
    tour.shot("finish")
    window.finish_stage.compare("split")
    window.state.apply(finish_edits.all_taken("For the picture", before))
    tour.settle()


def _walking(tour: _Tour) -> None:
    """A frame whose focus was touched: in the demo's own join only a walker stands twice."""
    window = tour.window
    path = window.state.path_of(window.state.outing.frames[4])
    with Image.open(path) as image:
        image.filter(ImageFilter.GaussianBlur(1.8)).save(path, quality=95, exif=image.getexif())
    window.go("join")
    window.join_stage.run_join()
    tour.settle()
    window.join_stage.walk.step()
    tour.wait(lambda: bool(window.join_stage.seen.told.text()))  # what is shown for a moment counts as seen
    tour.shot("join-walk")
    window.join_stage.view.fit()


def _shallow(tour: _Tour) -> None:
    window = tour.window
    window.go("plan")
    window.map.set_picture(None)
    window.state.apply(edits.set_brief("Shallow", kind_of("shallow").start(window.state.outing.brief)))
    window.plan_stage.show_page(window.plan_stage.sharpness)
    tour.shot("plan-shallow")
    window.state.undo()


def _practising(tour: _Tour) -> None:
    practice = PracticeDialog(tour.window.context, tour.window, seed=3)
    practice.show()
    practice.choose("polariser")
    practice.shoot()
    tour.wait(lambda: practice.last is not None)
    tour.shot("practice", practice)


def _queueing(tour: _Tour) -> None:
    """Three folders of the demo's frames, one of them with too few."""
    frames = [tour.window.state.path_of(ref) for ref in tour.window.state.outing.frames]
    tour.window.open_queue()
    queue = tour.window.queue
    assert queue is not None
    for name, part in (("terrace", frames[:4]), ("mole", frames[:1]), ("quay", frames[3:])):
        folder = tour.scratch / "card" / name
        folder.mkdir(parents=True)
        for path in part:
            shutil.copy(path, folder)
        queue.add([folder])
    queue.resize(*SIZE)
    queue.begin()
    tour.settle()
    tour.shot("queue", queue)


def _touring(tour: _Tour) -> None:
    """Three spheres of the invented place, each turned to where the others are seen."""
    folder = tour.scratch / "spheres"
    folder.mkdir()
    tour.window.open_tour()
    dialog = tour.window.tour
    assert dialog is not None
    paths = make_demo_spheres(folder)
    dialog.add(paths)
    for number, (east, north, facing) in enumerate(DEMO_STANDS.values()):
        dialog.list.setCurrentRow(number)
        dialog.east.submitted.emit(east)
        dialog.north_m.submitted.emit(north)
        dialog.facing.submitted.emit(facing)
    dialog.list.setCurrentRow(1)
    dialog.resize(*SIZE)
    tour.settle()
    tour.shot("tour", dialog)


def _glare(tour: _Tour) -> None:
    tour.window.set_look("field")
    tour.change(lambda o: replace(o, frames=o.frames[:4]))
    tour.window.go("field")
    tour.shot("field-bright")
    tour.window.set_look("dark")


#: Stops of the tour in its order, and the pictures that each takes.
STOPS: tuple[tuple[tuple[str, ...], Callable[[_Tour], None]], ...] = (
    (("plan", "plan-scouting", "plan-foreseen"), _planning),
    (("field",), _field),
    (("frames", "develop", "runs"), _frames),
    (("join", "compose", "ties", "finish", "deliver", "logbook"), _joining),
    (("queue",), _queueing),
    (("tour",), _touring),
    (("join-walk",), _walking),  # a frame is blurred for it: what takes frames comes before
    (("plan-shallow",), _shallow),
    (("practice",), _practising),
    (("field-bright",), _glare),
)
VIEWS = tuple(view for views, _stop in STOPS for view in views)


def render_views(outing: Path, target: Path, only: Sequence[str] = ()) -> list[Path]:
    """Render each main view into ``target``, or ``only`` those and what is taken beside them; returns the files in order.

    Works on a copy of the outing, so that no picture taking changes the person's own.

    Raises
    ------
    InputError
        There is no such view.
    """
    unknown = [view for view in only if view not in VIEWS]
    if unknown:
        raise InputError(f"There is no view “{unknown[0]}”", remedy=f"Views are {', '.join(VIEWS)}")
    target.mkdir(parents=True, exist_ok=True)
    app = make_application()  # held: it ends with its last name
    theme.apply(app, "dark")
    with tempfile.TemporaryDirectory() as scratch, _living_in(scratch):
        folder = outings_folder() / outing.name
        shutil.copytree(outing, folder)
        tour = _Tour(Window(Settings()), Path(scratch), target)
        tour.window.resize(*SIZE)
        tour.window.show()
        tour.window.open_outing(folder, "plan")
        tour.settle()
        for views, stop in STOPS:
            if not only or set(views) & set(only):
                stop(tour)
        tour.window.close()
    return tour.written
