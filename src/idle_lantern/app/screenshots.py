"""Pictures of every main view, made by driving the real window with the demo outing."""

from __future__ import annotations

import os
import shutil
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path

from PIL import Image, ImageFilter
from PyQt6.QtCore import QPointF
from PyQt6.QtWidgets import QWidget

from idle_lantern.app import theme
from idle_lantern.app.main import make_application
from idle_lantern.app.masking import CLEAR
from idle_lantern.app.planning.gear_dialog import GearDialog
from idle_lantern.app.practice.dialog import PracticeDialog
from idle_lantern.app.settings import Settings, outings_folder
from idle_lantern.app.stages import frames_model
from idle_lantern.app.widgets.runs_dialog import RunsDialog
from idle_lantern.app.window import Window
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.base.progress import SILENT
from idle_lantern.core.gear.library import Library
from idle_lantern.core.merging.temperature import gains_for
from idle_lantern.core.outing import edits
from idle_lantern.core.plan.kinds import kind_of
from idle_lantern.core.sim.demo import make_demo_card

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


def _soften(path: Path) -> None:
    """A frame whose focus was touched: the demo's own join has nothing to walk along."""
    with Image.open(path) as image:
        image.filter(ImageFilter.GaussianBlur(1.8)).save(path, quality=95, exif=image.getexif())


def render_views(outing: Path, target: Path) -> list[Path]:
    """Render each main view into ``target``; returns the files in order.

    Works on a copy of the outing, so that no picture taking changes the person's own.
    """
    target.mkdir(parents=True, exist_ok=True)
    app = make_application()
    theme.apply(app, "dark")
    written = []
    with tempfile.TemporaryDirectory() as scratch, _living_in(scratch):
        folder = outings_folder() / outing.name
        shutil.copytree(outing, folder)
        window = Window(Settings())
        window.resize(*SIZE)
        window.show()

        def wait(until: Callable[[], bool]) -> None:
            end = time.monotonic() + _PATIENCE_S
            while not until():
                if time.monotonic() > end:
                    raise LanternError("A view did not become ready for its picture")
                app.processEvents()
                time.sleep(0.01)

        def settle() -> None:
            wait(
                lambda: (
                    window.tasks.idle
                    and window.state.judgements is not None
                    and window.picture_view().ready
                    and window.desk.grounds.complete
                )
            )
            for _ in range(5):
                app.processEvents()

        def shot(name: str) -> None:
            window.tell("", False)
            shot_of(window, name)

        def shot_of(widget: QWidget, name: str) -> None:
            settle()
            path = target / f"{name}.png"
            widget.grab().save(str(path))
            written.append(path)
            if widget is not window:
                widget.close()

        window.open_outing(folder, "plan")
        settle()
        window.state.select(3)
        shot("plan")
        stage = window.plan_stage
        for text in ("mole, 20, golden, 300 E 220 N", "lamps, 10, blue, 150 W 80 N"):
            stage.commands.take_stop(text)
        stage.show_page(stage.light)
        shot("plan-light")
        # as on the evening before: nothing is shot yet
        window.state.apply(edits.Edit("For the picture", lambda o: replace(o, frames=())))
        for role, name, yaw, pitch in (("subject", "light tower", -2.0, 10.0), ("whole", "beacon", 45.0, 13.0)):
            stage.commands.scouting.mark(role, yaw, pitch, name)
        stage.show_page(stage.scouting)
        shot("plan-scouting")
        stage.show_page(stage.foreseen)
        wait(lambda: "loses" in stage.foreseen.costs[0].text())
        shot("plan-foreseen")
        while window.state.history.undo_title:
            window.state.undo()
        # the field view is shown half way through: the last frames are taken off the log
        frames = window.state.outing.frames
        window.state.apply(edits.Edit("For the picture", lambda o: replace(o, frames=frames[:4])))
        window.go("field")
        shot("field")
        window.state.undo()
        window.go("frames")
        window.frames_stage.findings.look()
        settle()
        window.frames_stage.findings.list.step()
        shot("frames")
        window.frames_stage.toggle_develop()
        window.state.apply(
            edits.develop("For the picture", exposure_ev=0.4, white_balance=gains_for(6500.0), shadows=0.25)
        )
        shot("develop")
        window.state.undo()
        window.frames_stage.toggle_develop()
        make_demo_card(Path(scratch) / "card", scale=0.14)
        brought = frames_model.bring([Path(scratch) / "card"], folder, SILENT)
        runs = RunsDialog([(run.words, run.sweep) for run in brought.runs], brought.left, window)
        runs.show()
        shot_of(runs, "runs")
        window.go("join")
        if window.state.joined is None or window.state.join_is_stale:
            window.join_stage.run_join()
        settle()
        shot("join")
        window.join_stage.toggle_compose()
        settle()
        window.join_stage.compose.use_tool("crop")
        shot("compose")
        window.join_stage.toggle_compose()
        ties = window.join_stage.open_ties(frames[2].id)
        if ties is not None:
            settle()
            for one, other in _SAME_THINGS:
                for side, (x, y) in ((ties.left, one), (ties.right, other)):
                    side.view.show_place(x, y)
                    side.clicked(QPointF(x + 0.5, y + 0.5))
            shot_of(ties, "ties")
            window.state.apply(edits.untie(window.state.outing.points))
            settle()
        masks = window.join_stage.open_masks()
        if masks is not None:
            masks.canvas.stroke([(0.35, 0.3), (0.42, 0.62)])
            settle()
            written.append(target / "masks.png")
            masks.grab().save(str(written[-1]))
            masks.canvas.fill(CLEAR)
            masks.close()
            settle()
        window.go("deliver")
        shot("deliver")
        window.go("logbook")
        shot("logbook")
        _soften(window.state.path_of(window.state.outing.frames[4]))
        window.go("join")
        window.join_stage.run_join()
        settle()
        window.join_stage.walk.step()
        shot("join-walk")
        window.join_stage.view.fit()
        window.go("plan")
        window.map.set_picture(None)
        window.state.apply(edits.set_brief("Shallow", kind_of("shallow").start(window.state.outing.brief)))
        window.plan_stage.show_page(window.plan_stage.sharpness)
        shot("plan-shallow")
        practice = PracticeDialog(window.desk, window, seed=3)
        practice.show()
        practice.choose("polariser")
        practice.shoot()
        wait(lambda: practice.last is not None)
        shot_of(practice, "practice")
        gear = GearDialog(Library(Path(scratch) / "gear.sqlite"), lambda _e: None, window)
        gear.fill(("lens", "24-70 mm f/4"))
        gear.show()
        shot_of(gear, "gear")
        window.state.undo()
        window.set_look("field")
        window.state.apply(edits.Edit("For the picture", lambda o: replace(o, frames=frames[:4])))
        window.go("field")
        shot("field-bright")
        window.set_look("dark")
        window.close()
    return written
