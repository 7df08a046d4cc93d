"""Field: one frame at a time, big; the head and camera are simulated stand-ins."""

from __future__ import annotations

import datetime
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from PyQt6.QtWidgets import QInputDialog

from idle_lantern.app import theme
from idle_lantern.app.stages.base import Stage
from idle_lantern.app.tasks import Task
from idle_lantern.app.widgets.basics import button, column, form, label, panel, row, set_look_property
from idle_lantern.app.widgets.finder_view import FinderView
from idle_lantern.core.base import units
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.base.picture import Picture
from idle_lantern.core.outing import document, edits
from idle_lantern.core.outing.model import FrameRef
from idle_lantern.core.plan.grid import GridFrame
from idle_lantern.core.shoot.devices import CameraDevice, HeadDevice
from idle_lantern.core.shoot.guide import turn_to_next
from idle_lantern.core.sim.devices import SimulatedRig

if TYPE_CHECKING:
    from idle_lantern.app.window import Window

SHOOTING = "Shooting"


class FieldStage(Stage):
    """Outside: the next frame, how to turn, and a key to shoot it."""

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self._devices: tuple[Any, SimulatedRig] | None = None
        self._look_for: tuple[int, Any] | None = None

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
        left = column(
            label("Frame", "dim"),
            self.number,
            self.turn,
            8,
            angles,
            None,
            self.shoot_button,
            row(again, skip),
            row(back, following),
        )
        self.finder = FinderView()
        self.progress = label("", "big", name="field-progress")
        self.missing = label("", wrap=True)
        self.note = label("", "dim", wrap=True)
        self.all_button = button("Shoot all that is missing   [Shift + Space]", self.shoot_all, name="shoot-all")
        caution = label(
            "Look up from the finder before you step: edges, water and traffic come first. Never look at the sun through "
            "an optical finder or a long lens. Local rules and trained people decide.",
            "dim",
            wrap=True,
        )
        stand_in = label(
            "Head and camera are simulated: they stand on the terrace of Ambrel Holm, an invented island, and write real "
            "JPEG files with EXIF.",
            "dim",
            wrap=True,
        )
        self.to_frames = button("Look at the frames", lambda: window.go("frames"), name="go-frames")
        right = column(
            self.progress,
            self.missing,
            8,
            self.all_button,
            row(self.to_frames, None),
            8,
            self.note,
            row(button("Write a note   [N]", self.write_note, quiet=True), None),
            None,
            stand_in,
            caution,
        )
        layout = row(margin=16, space=theme.SPACE * 3)
        layout.addWidget(panel(left, "ground"), 3)
        layout.addWidget(self.finder, 5)
        layout.addWidget(panel(right, "ground"), 3)
        self.setLayout(layout)
        self.state.changed.connect(self._refresh)
        window.tasks.changed.connect(self._arm_buttons)

    # --- devices ----------------------------------------------------------------

    def devices(self) -> SimulatedRig:
        """The stand-ins for the rig of the plan, made once for each rig."""
        rig = self.state.outing.rig
        if self._devices is None or self._devices[0] != rig:
            made = SimulatedRig(rig)
            made.shots = len(self.state.outing.frames)
            self._devices = (rig, made)
        return self._devices[1]

    # --- actions ----------------------------------------------------------------

    def can_shoot(self) -> bool:
        """Whether there is a frame to shoot and the camera is free."""
        return self.state.guide.next_number is not None and not self.window_.tasks.busy(SHOOTING)

    def can_again(self) -> bool:
        """Whether something was shot that can be repeated."""
        return any(r.number for r in self.state.outing.frames) and not self.window_.tasks.busy(SHOOTING)

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
        last = next((r.number for r in reversed(self.state.outing.frames) if r.number), None)
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

    def write_note(self) -> None:
        """A line for the log book."""
        text, yes = QInputDialog.getMultiLineText(
            self, "Note", "What is worth remembering of this shoot?", self.state.outing.note
        )
        if yes:
            self.state.apply(edits.Edit("Write a note", lambda o: replace(o, note=text)))
            self._refresh({"frames"})

    def _shoot(self, numbers: list[int]) -> None:
        folder = self.state.folder
        if folder is None:
            return
        frames = [f for f in (self.state.plan.frame(n) for n in numbers) if f is not None]
        devices = self.devices()
        taken_names = {r.file for r in self.state.outing.frames}

        def work(task: Task) -> None:
            (folder / document.FRAMES).mkdir(parents=True, exist_ok=True)
            task.begin("work", len(frames))
            for frame in frames:
                ref = _shoot_one(devices, devices, frame, folder, taken_names)
                taken_names.add(ref.file)
                task.show(ref)
                task.advance()

        self.window_.tasks.start(
            SHOOTING, work, lambda _r: self._refresh({"frames"}), self._failed, on_partial=self._shot
        )
        self._refresh({"frames"})

    def _shot(self, ref: FrameRef) -> None:
        self.state.at = None
        self.state.apply(edits.add_frame(ref))
        self.state.select(ref.number)
        self._refresh({"frames"})

    def _failed(self, error: LanternError) -> None:
        self.state.message.emit(error.sentence, True)
        self._refresh({"frames"})

    # --- showing ----------------------------------------------------------------

    def showEvent(self, event: Any) -> None:
        self._refresh({"plan", "frames"})
        super().showEvent(event)

    def _refresh(self, topics: set[str]) -> None:
        if not topics & {"plan", "frames", "outing"} or not self.isVisible():
            return
        guide, plan = self.state.guide, self.state.plan
        frame = plan.frame(guide.next_number) if guide.next_number else None
        self._arm_buttons()
        finished = bool(guide.shot) and not guide.missing
        set_look_property(self.shoot_button, "main", not finished)
        set_look_property(self.to_frames, "main", finished)
        self.progress.setText(f"{guide.shot} of {len(plan.frames)} shot")
        if guide.missing:
            shown = ", ".join(map(str, guide.missing[:12])) + (" …" if len(guide.missing) > 12 else "")
            self.missing.setText(f"Missing: {shown}. About {units.duration(guide.remaining_s)} to go.")
        elif guide.shot:
            skipped = f", {len(self.state.outing.skipped)} skipped" if self.state.outing.skipped else ""
            self.missing.setText(f"Nothing is missing{skipped}. The frames can be looked at and joined.")
        self.note.setText(self.state.outing.note)
        if frame is None:
            self.number.setText("✓")
            self.turn.setText("All frames are shot." if guide.shot else "The plan holds no frames.")
            for value in self.where.values():
                value.setText("")
            self._look_for = None
            self.finder.clear("Go back or on with D and F to shoot a frame once more.")
            return
        self.number.setText(f"{frame.number}/{len(plan.frames)}")
        previous = plan.frame(frame.number - 1) if frame.number > 1 else None
        self.turn.setText(_turn_words(previous, frame))
        self.where["yaw"].setText(units.angle(frame.yaw_deg))
        self.where["pitch"].setText(units.angle(frame.pitch_deg))
        self.where["row"].setText(f"{frame.row} of {len(plan.rows)}")
        self._show_finder(frame)

    def _arm_buttons(self) -> None:
        """What can be pressed now; asked again whenever work begins or ends."""
        self.shoot_button.setEnabled(self.can_shoot())
        self.all_button.setEnabled(self.can_shoot() and bool(self.state.guide.missing))
        self.again_button.setEnabled(self.can_again())

    def _show_finder(self, frame: GridFrame) -> None:
        height = self.state.plan.rig.lens().field_rad()[1] * 57.29578
        text = f"{frame.number}"
        wanted = (frame.number, (self.state.outing.rig, frame))
        if self._look_for == wanted:
            return
        self._look_for = wanted
        devices = self.devices()
        self.finder.show_look(None, frame.pitch_deg, frame.roll_deg, height, text)

        def work(_task: Task) -> Picture:
            return devices.finder(frame.yaw_deg, frame.pitch_deg, frame.roll_deg)

        def done(picture: Picture) -> None:
            if self._look_for == wanted:  # a later look was asked for meanwhile
                self.finder.show_look(picture.pixels, frame.pitch_deg, frame.roll_deg, height, text)

        self.window_.tasks.start("Finder", work, done, self._failed, quiet=True)


def _shoot_one(
    head: HeadDevice, camera: CameraDevice, frame: GridFrame, folder: Any, taken_names: set[str]
) -> FrameRef:
    reading = head.turn_to(frame.yaw_deg, frame.pitch_deg, frame.roll_deg)
    camera.shift_lens(frame.shift_right_mm, frame.shift_up_mm)
    taken = datetime.datetime.now().strftime("%Y:%m:%d %H:%M:%S")
    again, name = 0, f"f{frame.number:03d}.jpg"
    while f"{document.FRAMES}/{name}" in taken_names or (folder / document.FRAMES / name).exists():
        again += 1
        name = f"f{frame.number:03d}-{again + 1}.jpg"
    target = folder / document.FRAMES / name
    camera.shoot(target, taken)
    return FrameRef(
        document.relative(folder, target), frame.number, reading.yaw_deg, reading.pitch_deg, reading.roll_deg, taken
    )


def _turn_words(previous: GridFrame | None, frame: GridFrame) -> str:
    if previous is None:
        return f"Start at {units.angle(frame.yaw_deg)}, pitch {units.angle(frame.pitch_deg)}"
    right, up = turn_to_next(previous, frame)
    parts = []
    if abs(right) >= 0.05:
        parts.append(f"Turn {'right' if right > 0 else 'left'} {units.angle(abs(right))}")
    if abs(up) >= 0.05:
        parts.append(f"tilt {'up' if up > 0 else 'down'} {units.angle(abs(up))}")
    return ", ".join(parts) or "Stay as you are"
