"""Field: one frame at a time, big; the head and camera are simulated stand-ins."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

from PyQt6.QtWidgets import QCheckBox, QFileDialog, QInputDialog, QLabel

from idle_lantern.app import theme
from idle_lantern.app.desk import Desk
from idle_lantern.app.settings import shown
from idle_lantern.app.stages import field_model as model
from idle_lantern.app.stages.base import Stage
from idle_lantern.app.stages.by_hand import ByHand
from idle_lantern.app.stages.checklist_dialog import CheckListDialog
from idle_lantern.app.stages.foretold import Foretold
from idle_lantern.app.stages.shooter import Countdown, Shooter
from idle_lantern.app.state import OutingPlace
from idle_lantern.app.tones import can_sound, play
from idle_lantern.app.watcher import Told
from idle_lantern.app.widgets.basics import answered, button, column, form, label, panel, row, set_look_property
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.app.widgets.finder_view import FinderView
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.base.picture import Picture
from idle_lantern.core.outing import edits
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.shoot.shooting import Shot
from idle_lantern.core.sim.limits import MOST_MEGAPIXELS
from idle_lantern.core.sim.weather import WEATHERS


class FieldStage(Stage):
    """Outside: the next frame, how to turn, and a key to shoot it."""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._look_for: tuple[int, Any] | None = None

        self.shooter = Shooter(desk, self)
        self.shooter.shot.connect(self._shot)
        self.shooter.counted.connect(self._count)
        self.shooter.failed.connect(self._failed)
        self.number = label("", "huge", name="field-number")
        self.turn = label("", "big", wrap=True, name="field-turn")
        self.where = {k: label("", "figure") for k in ("yaw", "pitch", "row")}
        angles = form(
            [
                ("Yaw on the scale", self.where["yaw"]),
                ("Pitch on the scale", self.where["pitch"]),
                ("Row", self.where["row"]),
            ]
        )
        self.shoot_button = button("Shoot   [Space]", self.shoot, main=True, name="shoot")
        self.shoot_button.setMinimumHeight(56)
        again = button("Again   [A]", self.again, name="again")
        skip = button("Skip   [S]", self.skip, name="skip")
        back = button("Back   [D]", lambda: self.step(-1), name="back")
        following = button("On   [F]", lambda: self.step(1), name="on")
        self.again_button = again
        self.countdown = label("", "big", wrap=True, name="field-countdown")
        self.countdown.hide()
        self.finder = FinderView()
        self.hand = ByHand(desk, self.finder, self)
        left = column(
            label("Frame", "dim"),
            self.number,
            self.turn,
            self.countdown,
            self.hand.words,
            8,
            angles,
            None,
            self.shoot_button,
            row(again, skip),
            row(back, following),
        )
        self.foretold = Foretold(desk)
        self.progress = label("", "big", name="field-progress")
        self.missing = label("", wrap=True)
        self.note = label("", "dim", wrap=True)
        self.all_button = button("Shoot all that is missing   [Shift + Space]", self.shoot_all, name="shoot-all")
        self.caution = label("", "dim", wrap=True, name="field-caution")
        self.stand_in = label("", "dim", wrap=True, name="stand-in")
        self.to_frames = button("Look at the frames", lambda: desk.ask("go.frames"), name="go-frames")
        self.quick = QCheckBox("Quick: nothing takes its time")
        self.quick.setObjectName("field-quick")
        self.full = QCheckBox("Full sensor size")
        self.full.setObjectName("field-full")
        self.full.clicked.connect(self._set_full)
        self.weather = Chooser()
        self.weather.setObjectName("field-weather")
        self.weather.setAccessibleName("Weather of the invented place")
        self.weather.addItems([w.name for w in WEATHERS])
        self.weather.activated.connect(self._set_weather)
        self.verdict = label("", "head", wrap=True, name="field-verdict")
        self.told = label("", "dim", wrap=True, name="field-told")
        self.watch_button = button("Watch a folder …   [W]", self.toggle_watch, name="field-watch")
        right = column(
            self.progress,
            self.missing,
            self.verdict,
            self.told,
            self.all_button,
            row(self.to_frames, self.watch_button, None),
            row(
                button("Check list   [H]", self.open_checks, quiet=True, name="field-checks"),
                button("Write a note   [N]", self.write_note, quiet=True),
                None,
            ),
            self.quick,
            self.full,
            self.weather,
            8,
            self.note,
            None,
            self.stand_in,
            self.caution,
        )
        self.quick.setChecked(desk.settings.quick)
        self.quick.clicked.connect(lambda on: desk.keep(replace(desk.settings, quick=bool(on))))
        for line in (self.verdict, self.told):
            line.hide()
        layout = row(margin=16, space=theme.SPACE * 3)
        layout.addWidget(panel(left, "ground"), 3)
        layout.addWidget(self.finder, 5)
        layout.addWidget(self.foretold, 4)
        layout.addWidget(panel(right, "ground"), 3)
        self.setLayout(layout)
        self.hand.turned.connect(lambda: self._refresh({"frames"}))
        self.state.changed.connect(self._refresh)
        desk.tasks.changed.connect(self._arm_buttons)
        desk.grounds.changed.connect(lambda: self.foretold.show_for(self._next_frame()))
        desk.watcher.told.connect(self._arrived)
        desk.watcher.trouble.connect(lambda sentence: desk.tell(sentence) if sentence else None)
        desk.watcher.changed.connect(self._show_watching)

    def devices(self) -> Any:
        """Head and camera for the rig of the plan."""
        return self.shooter.devices()

    # --- actions ----------------------------------------------------------------

    def can_shoot(self) -> bool:
        """Whether there is a frame to shoot and the camera is free."""
        return self.state.guide.next_number is not None and not self.shooter.busy

    def can_again(self) -> bool:
        """Whether something was shot that can be repeated."""
        return any(r.number for r in self.state.outing.frames) and not self.shooter.busy

    def shoot(self) -> None:
        """Shoot the frame that is next."""
        number = self.state.guide.next_number
        if number is not None and self.can_shoot():
            self._shoot([number])

    def shoot_all(self) -> None:
        """Shoot whatever is missing, one after another."""
        if self.can_shoot() and self.state.guide.missing:
            self._shoot(list(self.state.guide.missing))

    def again(self) -> None:
        """Repeat the last frame; both files are kept, the newer one is joined."""
        last = model.last_shot(self.state.outing)
        if last is not None and self.state.plan.frame(last) and self.can_again():
            self._shoot([last])

    def skip(self) -> None:
        """Leave the next frame out, or take the selected one back."""
        number = self.state.at or self.state.guide.next_number
        if number is None:
            return
        skipping = number not in self.state.outing.skipped
        if self.state.apply(edits.skip_frame(number, skipping)) and skipping:
            self.state.go_to(None)

    def step(self, by: int) -> None:
        """Go to the frame before or after the present one."""
        present = self.state.guide.next_number or len(self.state.plan.frames)
        number = min(max(1, present + by), len(self.state.plan.frames))
        self.state.go_to(number)
        self.state.select(number)

    def toggle_watch(self) -> None:
        """Ask for the folder that the camera writes into and watch it, or watch no longer."""
        if self.desk.watcher.active:
            self.desk.watcher.stop()
            return
        if self.state.place is None or not self.state.may_change():
            return
        name = QFileDialog.getExistingDirectory(self, "Folder that the camera writes its frames into")
        if name:
            self.watch(Path(name))

    def watch(self, folder: Path) -> None:
        """Judge each frame that arrives in a folder, and take it into the outing."""
        if self.state.place is not None:
            _say(self.verdict, "")
            self.desk.watcher.start(folder, self.state.place)

    def toggle_tones(self) -> None:
        """Sound a tone for each frame that arrives, or none."""
        on = not self.desk.settings.tones
        self.desk.keep(replace(self.desk.settings, tones=on))
        if on:
            play("good")
        heard = "" if not on or can_sound() else " This computer has no sound device."
        self.desk.tell(
            f"Tones are {'on: one is good, two take care, three falling shoot again' if on else 'off'}.{heard}",
            problem=False,
        )

    def _set_full(self, on: bool) -> None:
        """Let the simulated camera write frames as large as its sensor, or small ones."""
        self.desk.devices.full_size = bool(on)
        self._look_for = None
        self._refresh({"frames"})

    def _set_weather(self, index: int) -> None:
        """Let clouds, waves and light change while the simulated camera shoots, or rest."""
        self.desk.devices.weather = WEATHERS[index]
        self._look_for = None
        self._refresh({"frames"})

    def open_checks(self) -> None:
        """The check list of this kind of picture, and what can hurt."""
        answered(CheckListDialog(self.desk, self))

    def write_note(self) -> None:
        """A line for the log book."""
        text, yes = QInputDialog.getMultiLineText(
            self, "Note", "What is worth remembering of this shoot?", self.state.outing.note
        )
        if yes:
            self.state.apply(edits.Edit("Write a note", lambda o: replace(o, note=text)))
            self._refresh({"frames"})

    def _shoot(self, numbers: list[int]) -> None:
        place = self.state.place
        if place is None or not self.state.may_change():
            return
        planned = [f for f in (self.state.plan.frame(n) for n in numbers) if f is not None]
        # one frame is taken where the hand points, a whole run where it was planned
        frames = [self.hand.aimed(f) for f in planned] if len(planned) == 1 else planned
        watched = self.desk.watcher.folder
        if watched is not None:  # the camera writes there, and the frame is taken up as any other that arrives
            self.shooter.take_into(watched, frames, self.state.plan, place)
        else:
            self.shooter.take(frames, place)
        self._refresh({"frames"})

    def _count(self, told: Countdown | None) -> None:
        """Show what takes its time, and how long still."""
        _say(self.countdown, "" if told is None else model.countdown(told.doing, told.left_s))
        if told is None:
            self._refresh({"frames"})

    def _shot(self, shot: Shot, place: OutingPlace) -> None:
        here = self.state.is_open(place)
        if here:
            self.state.at = None
        self.state.apply_to(place, edits.add_shot(shot.frames, shot.group))
        if here:
            self.state.select(shot.number)
            self._refresh({"frames"})
            self.foretold.compare(shot)

    def _failed(self, error: LanternError) -> None:
        self.desk.tell(error.sentence)
        self._refresh({"frames"})

    # --- showing ----------------------------------------------------------------

    def showEvent(self, event: Any) -> None:
        self._refresh({"plan", "frames"})
        super().showEvent(event)

    def _refresh(self, topics: set[str]) -> None:
        if not topics & {"plan", "frames", "outing", "scouts"} or not self.isVisible():
            return
        self.hand.follow(self.state.guide.next_number)
        view = model.field_view(self.state.plan, self.state.outing, self.state.guide)
        self._arm_buttons()
        set_look_property(self.shoot_button, "main", not view.finished)
        set_look_property(self.to_frames, "main", view.finished)
        self.progress.setText(view.progress)
        self.missing.setText(view.missing)
        _say(self.note, self.state.outing.note)
        large = self.state.plan.rig.width_px * self.state.plan.rig.height_px > 1e6 * MOST_MEGAPIXELS
        self.full.setVisible(large)
        self.stand_in.setText(model.stand_in(self.state.plan, self.desk.devices.most_megapixels))
        self.caution.setText(model.caution(self.state.plan))
        self.number.setText(view.number)
        turn = view.turn
        if view.frame is not None and self.hand.active:
            turn = model.turn_words(self.hand.aimed(view.frame), view.frame, "Here it is   [J L I K]", "   [J L I K]")
        self.turn.setText(turn)
        for key, text in (("yaw", view.yaw), ("pitch", view.pitch), ("row", view.row)):
            self.where[key].setText(text)
        if view.frame is None:
            self._look_for = None
            self.finder.clear("Go back or on with D and F to shoot a frame once more.")
        else:
            self._show_finder(view.frame)
        self.foretold.show_for(self._next_frame())

    def _next_frame(self) -> GridFrame | None:
        number = self.state.guide.next_number
        return self.state.plan.frame(number) if number and self.isVisible() else None

    def _arm_buttons(self) -> None:
        """What can be pressed now; asked again whenever work begins or ends."""
        self.shoot_button.setEnabled(self.can_shoot())
        self.all_button.setEnabled(self.can_shoot() and bool(self.state.guide.missing))
        self.again_button.setEnabled(self.can_again())

    def _prepare(self, frame: GridFrame) -> None:
        """Let the stand-in render the next frame while the photographer looks through the finder."""
        if self.shooter.busy or frame.shift_right_mm or frame.shift_up_mm:
            return
        self.devices().prepare(frame.yaw_deg, frame.pitch_deg, frame.roll_deg)

    def _show_finder(self, planned: GridFrame) -> None:
        frame = self.hand.aimed(planned)
        height, text = model.height_deg(self.state.plan), f"{frame.number}"
        wanted = (frame.number, (self.state.outing.id, self.state.outing.rig, frame))
        if self._look_for == wanted:
            return
        self._look_for = wanted
        devices = self.devices()
        self.finder.show_look(None, frame.pitch_deg, frame.roll_deg, height, text)

        def done(picture: Picture) -> None:
            if self._look_for == wanted:  # a later look was asked for meanwhile
                self.finder.show_look(picture.pixels, frame.pitch_deg, frame.roll_deg, height, text)
                self.hand.show_ghost(frame)
                self._prepare(frame)

        self.desk.start(
            "Finder",
            lambda _t: devices.finder(frame.yaw_deg, frame.pitch_deg, frame.roll_deg),
            done,
            self._failed,
            quiet=True,
        )

    # --- a watched folder ---------------------------------------------------------

    def _arrived(self, told: Told) -> None:
        """Take a judged frame into its outing and say what was found."""
        ref = model.as_frame(told, self.state.outing.rig)
        here = self.state.is_open(told.place)
        if not self.state.apply_to(told.place, edits.add_shot([ref])) or not here:
            return
        judged = told.judged
        # a frame that must be shot again stays the next one
        self.state.go_to(judged.number if judged.kind == "again" and judged.number else None)
        self.state.select(judged.number, ref.id)
        if self.desk.settings.tones:
            play(judged.kind)
        _say(self.verdict, model.verdict(told))
        _say(self.told, model.also_told(told, self.state.plan, self.state.guide))

    def _show_watching(self) -> None:
        """What the button does now, and where frames come from."""
        folder = self.desk.watcher.folder
        self.watch_button.setText("Watch no longer   [W]" if folder else "Watch a folder …   [W]")
        _say(self.told, f"Watching {shown(folder)}: frames that arrive there are judged at once." if folder else "")
        self._refresh({"frames"})


def _say(line: QLabel, text: str) -> None:
    """Show a sentence; a line without one takes no room."""
    line.setText(text)
    line.setVisible(bool(text))
