"""Field: one frame at a time, big.

In an outing that was begun as simulated, head and camera are stand-ins; in any other a log for a camera of one's own.
"""

from __future__ import annotations

import datetime
from dataclasses import replace
from typing import Any

from PyQt6.QtWidgets import QInputDialog

from idle_lantern.app import theme
from idle_lantern.app.context import AppContext
from idle_lantern.app.stages import field_model as model
from idle_lantern.app.stages.base import Stage
from idle_lantern.app.stages.checklist_dialog import CheckListDialog
from idle_lantern.app.stages.finder_rendering import FinderLooks
from idle_lantern.app.stages.hand_held_finder import ByHand
from idle_lantern.app.stages.scouted_frame import Foretold
from idle_lantern.app.stages.shooter import Countdown, Shooter
from idle_lantern.app.stages.simulated_devices import StandIns
from idle_lantern.app.stages.watching import Watching, say
from idle_lantern.app.state import OutingPlace
from idle_lantern.app.widgets.basics import (
    answered,
    button,
    column,
    form,
    label,
    panel,
    row,
    scrolled,
    set_look_property,
)
from idle_lantern.app.widgets.finder_view import FinderView
from idle_lantern.app.widgets.flowing import FlowLayout
from idle_lantern.app.widgets.no_plan import NoPlan
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.outing import edits
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.shoot.shooting import Shot

_WHERE = (("Yaw on the scale", "yaw"), ("Pitch on the scale", "pitch"), ("Row", "row"))


class FieldStage(Stage):
    """Outside: the next frame, how to turn, and a key to shoot it."""

    def __init__(self, context: AppContext) -> None:
        super().__init__(context)
        self.shooter = Shooter(context, self)
        self.shooter.shot.connect(self._shot)
        self.shooter.counted.connect(self._count)
        self.shooter.failed.connect(self._failed)
        self.number = label("", "huge", name="field-number")
        self.turn = label("", "big", wrap=True, name="field-turn")
        self.where = {key: label("", "figure") for _title, key in _WHERE}
        angles = form([(title, self.where[key]) for title, key in _WHERE])
        self.shoot_button = button("Shoot   [Space]", self.shoot, main=True, name="shoot")
        self.shoot_button.setMinimumHeight(56)
        self.again_button = button("Again   [A]", self.again, name="again")
        self.missed_button = button("Missed   [X]", self.missed, name="missed")
        self.try_button = button(
            "Try it in the invented place", lambda: context.ask("outing.try"), quiet=True, name="try"
        )
        steps = [button("Back   [D]", lambda: self.step(-1), name="back")]
        steps.append(button("Next   [F]", lambda: self.step(1), name="on"))
        self.countdown = label("", "big", wrap=True, name="field-countdown")
        self.countdown.hide()
        self.finder = FinderView()
        self.hand = ByHand(context, self.finder, self)
        self.looks = FinderLooks(context, self.finder, self.shooter, self.hand, self._failed)
        where = column(label("Frame", "dim"), self.number, self.turn, self.countdown, self.hand.words, 8, angles, None)
        left = column(
            scrolled(panel(where, "ground"), "Which frame is next"),
            self.shoot_button,
            row(self.again_button, self.missed_button, button("Skip   [S]", self.skip, name="skip")),
            row(*steps),
        )
        self.foretold = Foretold(context)
        self.progress = label("", "big", name="field-progress")
        self.missing = label("", wrap=True)
        self.note = label("", "dim", wrap=True)
        self.all_button = button("Shoot rest   [⇧ Space]", self.shoot_all, name="shoot-all")
        self.caution = label("", "dim", wrap=True, name="field-caution")
        self.stand_in = label("", "dim", wrap=True, name="stand-in")
        self.to_frames = button("Look at the frames", lambda: context.ask("go.frames"), name="go-frames")
        self.stand_ins = StandIns(context)
        self.stand_ins.changed.connect(self._look_anew)
        self.watching = Watching(context, self)
        right = column(
            self.progress,
            self.missing,
            self.watching.verdict,
            self.watching.told,
            self.watching.list,
            self.all_button,
            FlowLayout(self.to_frames, self.watching.button),
            FlowLayout(
                button("Check list   [H]", self.open_checks, name="field-checks"),
                button("Note   [N]", self.write_note, name="field-note"),
            ),
            self.stand_ins,
            8,
            self.note,
            None,
            self.stand_in,
            row(self.try_button, None),
        )
        beside = column(scrolled(panel(right, "ground"), "How the shoot stands", as_wide=True), self.caution)
        layout = row(margin=16, space=theme.SPACE * 3)
        for part, share in (
            (panel(left, "ground"), 3),
            (self.finder, 5),
            (self.foretold, 4),
            (panel(beside, "ground"), 4),
        ):
            layout.addWidget(part, share)
        self.desk = panel(layout, "ground")
        self.no_plan = NoPlan(
            "These are photographs, and no plan was made for them: nothing is left to shoot here.",
            lambda: context.ask("go.frames"),
            lambda: context.ask("plan.make"),
        )
        whole = column(self.desk, self.no_plan, space=0)
        self.setLayout(whole)
        self.hand.turned.connect(lambda: self._refresh({"frames"}))
        self.state.changed.connect(self._refresh)
        context.tasks.changed.connect(self._arm_buttons)
        context.scout_grounds.changed.connect(lambda: self.foretold.show_for(self._next_frame()))
        self.watching.changed.connect(lambda: self._refresh({"frames"}))

    # --- actions ----------------------------------------------------------------

    @property
    def simulated(self) -> bool:
        """Whether head and camera are stand-ins; else frames are logged by hand."""
        return self.state.outing.origin == "simulated"

    def can_shoot(self) -> bool:
        """Whether there is a frame to shoot and the camera is free; what arrives in a watched folder is logged by itself."""
        free = not self.shooter.busy if self.simulated else not self.context.watcher.active
        return self.state.guide.next_number is not None and free

    def can_shoot_all(self) -> bool:
        """Whether the stand-ins can shoot what is missing."""
        return self.simulated and self.can_shoot() and bool(self.state.guide.missing)

    def can_again(self) -> bool:
        """Whether something was shot that can be repeated."""
        if not self.simulated:
            logged = model.last_logged(self.state.plan, self.state.outing) is not None
            return logged and self.state.outing.shows_plan and not self.context.watcher.active
        return any(r.number for r in self.state.outing.frames) and not self.shooter.busy

    def can_miss(self) -> bool:
        """Whether a frame was logged that may have been missed."""
        return not self.simulated and self.can_again()

    def shoot(self) -> None:
        """Shoot the frame that is next, or log that it was shot."""
        number = self.state.guide.next_number
        if number is None or not self.can_shoot():
            return
        if self.simulated:
            self._shoot([number])
        else:
            self._log(self.state.plan.frame(number))

    def _log(self, frame: GridFrame | None) -> None:
        if frame is None:
            return
        self.state.at = None
        if self.state.apply(edits.log_shot(frame, datetime.datetime.now().isoformat(timespec="seconds"))):
            self.state.select(frame.number)

    def shoot_all(self) -> None:
        """Shoot whatever is missing, one after another."""
        if self.can_shoot_all():
            self._shoot(list(self.state.guide.missing))

    def missed(self) -> None:
        """The frame that was logged last was not taken after all: it is the next one again."""
        last = model.last_logged(self.state.plan, self.state.outing)
        if last is not None and self.can_miss() and self.state.apply(edits.unlog_shot(last.number)):
            self.state.go_to(last.number)

    def again(self) -> None:
        """Repeat the last frame; both files are kept, the newer one is joined."""
        if not self.simulated:
            if self.can_again():
                self._log(model.last_logged(self.state.plan, self.state.outing))
            return
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

    def open_checks(self) -> None:
        """The check list of this kind of picture, and what can hurt."""
        answered(CheckListDialog(self.context, self))

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
        watched = self.context.watcher.folder
        if watched is not None:  # the camera writes there, and the frame is taken up as any other that arrives
            self.shooter.take_into(watched, frames, self.state.plan, place)
        else:
            self.shooter.take(frames, place)
        self._refresh({"frames"})

    def _count(self, told: Countdown | None) -> None:
        """Show what takes its time, and how long still."""
        say(self.countdown, "" if told is None else model.countdown(told.doing, told.left_s))
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
        self.context.tell(error.sentence)
        self._refresh({"frames"})

    def _look_anew(self) -> None:
        """The stand-ins see something else now."""
        self.looks.forget()
        self._refresh({"frames"})

    # --- showing ----------------------------------------------------------------

    def showEvent(self, event: Any) -> None:
        self._refresh({"plan", "frames"})
        super().showEvent(event)

    def _refresh(self, topics: set[str]) -> None:
        if not topics & {"plan", "frames", "outing", "scouts"} or not self.isVisible():
            return
        has_plan, simulated = self.state.outing.shows_plan, self.simulated
        self.desk.setVisible(has_plan)
        self.no_plan.setVisible(not has_plan)
        if not has_plan:
            return
        self.hand.follow(self.state.guide.next_number)
        view = model.field_view(self.state.plan, self.state.outing, self.state.guide)
        self._arm_buttons()
        set_look_property(self.shoot_button, "main", not view.finished)
        set_look_property(self.to_frames, "main", view.finished)
        self.progress.setText(view.progress)
        self.missing.setText(view.missing)
        say(self.note, self.state.outing.note)
        self.shoot_button.setText("Shoot   [Space]" if simulated else "I shot this one   [Space]")
        for each in (self.stand_ins, self.all_button):
            each.setVisible(simulated)
        for each in (self.missed_button, self.try_button):
            each.setVisible(not simulated)
        self.stand_ins.show_for(self.state.plan)
        told = model.stand_in(self.state.plan, self.context.devices.most_megapixels) if simulated else model.LOG
        self.stand_in.setText(told)
        self.caution.setText(model.caution(self.state.plan))
        self.number.setText(view.number)
        turn = view.turn
        if view.frame is not None and self.hand.active:
            turn = model.turn_words(self.hand.aimed(view.frame), view.frame, "Here it is   [J L I K]", "   [J L I K]")
        self.turn.setText(turn)
        for key, text in (("yaw", view.yaw), ("pitch", view.pitch), ("row", view.row)):
            self.where[key].setText(text)
        if not simulated:
            self.looks.show_none(view.frame)
        elif view.frame is None:
            self.looks.clear()
        else:
            self.looks.show(view.frame)
        self.finder.setVisible(simulated or self.foretold.isHidden())
        self.foretold.show_for(self._next_frame())

    def _next_frame(self) -> GridFrame | None:
        number = self.state.guide.next_number
        return self.state.plan.frame(number) if number and self.isVisible() else None

    def _arm_buttons(self) -> None:
        """What can be pressed now; asked again whenever work begins or ends."""
        self.shoot_button.setEnabled(self.can_shoot())
        self.all_button.setEnabled(self.can_shoot_all())
        self.again_button.setEnabled(self.can_again())
        self.missed_button.setEnabled(self.can_miss())
