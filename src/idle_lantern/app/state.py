"""What the window shows: the present outing, its plan, the selection, the join's results.

Widgets read from here, change only through ``apply`` and listen to ``changed``,
which names what changed. Work that was begun for an outing hands its edits to
``apply_to``, which finds that outing whether or not it is still the open one.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, pyqtSignal

from idle_lantern.app.autosave import Autosave
from idle_lantern.app.history import History
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.base.judgement import Judgement
from idle_lantern.core.join.request import JoinResult
from idle_lantern.core.outing import document
from idle_lantern.core.outing.edits import Edit, know_contents
from idle_lantern.core.outing.model import FrameRef, Outing
from idle_lantern.core.pictures.source import PictureSource
from idle_lantern.core.plan.cost import PastJoin
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.planner import MOST_FRAMES, Plan, frames_expected, make_plan
from idle_lantern.core.scouting.remarks import ScoutedFacts
from idle_lantern.core.shoot.guide import Guide, guide

if TYPE_CHECKING:
    from idle_lantern.core.registration.solve.solve import Solution

#: Beyond so many frames a plan takes longer than an edit should.
_MANY_FRAMES = 3000
#: How a shoot stands that nobody planned.
NOTHING_TO_SHOOT = Guide((), None, 0, (), 0.0)


@dataclass(frozen=True)
class Applied:
    """What became of an edit: true when it was made, else false with the sentence that says why not."""

    sentence: str = ""

    def __bool__(self) -> bool:
        return not self.sentence


@dataclass(frozen=True)
class OutingPlace:
    """Which outing work was begun for: its identity, and where it lies."""

    id: str
    folder: Path
    name: str


class AppState(QObject):
    """The one place of state in the window.

    ``changed`` carries a set of topics: ``plan``, ``judgements``, ``frames``, ``choices``, ``masks``, ``verdicts``, ``development``,
    ``scouts``, ``outing``, ``selection``, ``join``, ``finish``, ``map``, ``saved``.
    """

    changed = pyqtSignal(object)
    message = pyqtSignal(str, bool)  # sentence, is a problem

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.autosave = Autosave(self)
        self.autosave.told.connect(self.message)
        self.autosave.changed.connect(lambda: self.changed.emit({"saved"}))
        self.outing = Outing("No outing", "")
        self.past: tuple[PastJoin, ...] = ()
        self.plan: Plan = self._planned(self.outing)
        #: Of ``plan``; None while they are being reckoned.
        self.judgements: tuple[Judgement, ...] | None = None
        #: What the scouting pictures tell of its frames, reckoned with the judgements.
        self.scouted: ScoutedFacts = ScoutedFacts()
        self.history = History()
        self.selected: int | None = None
        self.selected_id: str | None = None
        self._guide: tuple[tuple[Plan, Outing, int | None], Guide] | None = None
        self.at: int | None = None
        #: Asks whether so many frames are really to be planned; set by the window.
        self.ask_many: Callable[[int], bool] | None = None
        self._agreed_frames = 0
        self.joined: JoinResult | None = None
        self.picture: PictureSource | None = None
        #: Whether a joined picture lies in the folder and is being opened.
        self.awaits_picture = False

    def _planned(self, outing: Outing) -> Plan:
        return make_plan(outing.brief, frames=outing.given_frames, past=self.past)

    def set_past(self, past: tuple[PastJoin, ...]) -> None:
        """Take over this machine's past joins: what a join costs is told by them."""
        self.past = past
        self._set_plan(self._planned(self.outing))
        self.changed.emit({"plan"})

    def _set_plan(self, plan: Plan) -> None:
        self.plan, self.judgements = plan, None

    def take_judgements(self, plan: Plan, judgements: tuple[Judgement, ...], scouted: ScoutedFacts) -> None:
        """Judgements that were reckoned meanwhile, and what scouting tells; those of an older plan are dropped."""
        if plan is self.plan:
            self.judgements, self.scouted = judgements, scouted
            self.changed.emit({"judgements"})

    # --- document ---------------------------------------------------------------

    @property
    def folder(self) -> Path | None:
        """Where the open outing lies."""
        return self.autosave.folder

    @property
    def reading(self) -> str:
        """Why the outing may only be looked at; empty where it may be changed."""
        return self.autosave.reading

    @property
    def place(self) -> OutingPlace | None:
        """The open outing, for work that is begun for it."""
        return None if self.folder is None else OutingPlace(self.outing.id, self.folder, self.outing.name)

    def is_open(self, place: OutingPlace) -> bool:
        """Whether that outing is the one that is open."""
        return self.folder is not None and self.outing.id == place.id and self.folder == place.folder

    def open(self, folder: Path) -> None:
        """Open the outing of ``folder``.

        Raises
        ------
        DocumentError
            It cannot be read; all stays as it is.
        """
        self.save_now()  # what is opened may be this very outing
        held, outing = self.autosave.read(folder)
        try:
            plan = self._planned(outing)
        except BaseException:
            self.autosave.drop(held)
            raise
        self.autosave.change(held, outing)
        self._show(outing, plan)

    def begin(self, outing: Outing, folder: Path) -> None:
        """Begin a new outing in a folder of its own; the one before is saved first.

        Raises
        ------
        InputError
            It cannot be written; all stays as it is.
        """
        self.save_now()
        document.save(outing, folder)
        self.open(folder)

    def go_on_in(self, folder: Path) -> None:
        """Keep the open outing in another folder from now on.

        Raises
        ------
        InputError
            It cannot be written there; all stays as it is.
        """
        outing = self.autosave.copy_to(folder)
        self._show(outing, self._planned(outing))

    def _show(self, outing: Outing, plan: Plan) -> None:
        self.outing = outing
        self._set_plan(plan)
        self.history = History()
        self.selected = self.selected_id = self.at = None
        self.joined = self.picture = None
        pictures = None if self.folder is None else self.folder / document.PICTURES
        self.awaits_picture = pictures is not None and all(
            (pictures / name).exists() for name in (document.PICTURE, document.REPORT)
        )
        self.changed.emit(
            {
                "outing",
                "plan",
                "frames",
                "choices",
                "masks",
                "development",
                "scouts",
                "finish",
                "selection",
                "join",
                "map",
                "saved",
            }
        )

    def may_change(self) -> bool:
        """Whether the outing may be changed here; where another window holds it that is told.

        An outing that the other window has let go may be changed from then on, as it was left there.
        """
        if not self.reading:
            return True
        if not self.autosave.may_write():
            self.message.emit(f"{self.outing.name} {self.reading}.", True)
            return False
        if self.folder is not None and self.autosave.changed_outside():
            self.open(self.folder)
            self.message.emit("The other window has changed the outing; this is how it left it.", False)
            return False
        return True

    def apply(self, edit: Edit) -> Applied:
        """Make an edit; an impossible one is told and changes nothing."""
        if not self.may_change():
            return Applied(f"{self.outing.name}: it was not changed.")
        try:
            after = edit.apply(self.outing)
            if _plans_differ(after, self.outing) and not after.plan_made:
                after = replace(after, plan_made=True)
            if _plans_differ(after, self.outing) and not self._agreed_to(after):
                return Applied("The plan stays as it is.")
            plan = self._planned(after) if _plans_differ(after, self.outing) else self.plan
        except LanternError as error:
            self.message.emit(error.sentence, True)
            return Applied(error.sentence)
        if after != self.outing:
            self.history.push(edit.title, self.outing, edit.merge)
            self._take(after, plan)
        return Applied()

    def _agreed_to(self, outing: Outing) -> bool:
        """Whether a plan that takes seconds at every change is really wanted; asked again only when it grows much."""
        expected = 0 if outing.given_frames else frames_expected(outing.brief)
        if expected <= max(_MANY_FRAMES, self._agreed_frames) or expected > MOST_FRAMES or self.ask_many is None:
            return True
        if not self.ask_many(expected):
            return False
        self._agreed_frames = round(1.5 * expected)
        return True

    def apply_to(self, place: OutingPlace, edit: Edit) -> Applied:
        """Make an edit in the outing that work was begun for, open or not."""
        if self.is_open(place):
            return self.apply(edit)
        try:
            self.autosave.apply_elsewhere(place.folder, edit)
        except LanternError as error:
            sentence = f"{place.name}: {error.sentence}"
            self.message.emit(sentence, True)
            return Applied(sentence)
        return Applied()

    def note_contents(self, place: OutingPlace, hashes: dict[str, str]) -> None:
        """Note what frames' files hold; nothing that a person did, so nothing to undo."""
        if not hashes or (self.is_open(place) and self.reading):
            return
        edit = know_contents(hashes)
        if not self.is_open(place):
            self.apply_to(place, edit)
            return
        self._take(edit.apply(self.outing), self.plan)

    def undo(self) -> None:
        """Take the last edit back."""
        if not self.may_change():
            return
        step = self.history.undo(self.outing)
        if step is not None:
            self._take(self._still_known(step.outing), None)
            self.message.emit(f"Taken back: {step.title}", False)

    def redo(self) -> None:
        """Make the edit taken back again."""
        if not self.may_change():
            return
        step = self.history.redo(self.outing)
        if step is not None:
            self._take(self._still_known(step.outing), None)
            self.message.emit(f"Done again: {step.title}", False)

    def _still_known(self, other: Outing) -> Outing:
        """A state of before or after with what files hold, which is no edit and was found out meanwhile."""
        return know_contents({r.id: r.sha256 for r in self.outing.frames if r.sha256}).apply(other)

    def _take(self, after: Outing, plan: Plan | None) -> None:
        before = self.outing
        topics = {"outing"}
        if _plans_differ(after, before):
            self._set_plan(plan or self._planned(after))
            topics |= {"plan", "map"}
            if self.selected and self.plan.frame(self.selected) is None:
                self.selected = None
                topics.add("selection")
            if self.at and self.plan.frame(self.at) is None:
                self.at = None
        if (after.frames, after.skipped, after.logged) != (before.frames, before.skipped, before.logged):
            topics |= {"frames", "map"}
        if after.shows_plan != before.shows_plan:
            topics |= {"plan", "frames", "map"}
        composed = (after.choices, after.composition, after.delivery) != (
            before.choices,
            before.composition,
            before.delivery,
        )
        if composed or after.put_aside != before.put_aside:
            topics.add("choices")
        if after.finish != before.finish:
            topics |= {"finish", "choices"}
        if after.choices.masks != before.choices.masks:
            topics.add("masks")
        if after.verdicts != before.verdicts:
            topics.add("verdicts")
        if after.scouts != before.scouts:
            topics.add("scouts")
        if after.choices.development != before.choices.development:
            topics.add("development")
        self.outing = after
        self.autosave.take(after)
        self.changed.emit(topics)

    @property
    def unsaved(self) -> bool:
        """Whether something was changed that is not on disk yet."""
        return self.autosave.unsaved

    @property
    def unsaved_since(self) -> float | None:
        """When the document first could not be saved, None while it is safe."""
        return self.autosave.unsaved_since

    def save_now(self) -> None:
        """Write the document if it changed."""
        self.autosave.save_now()

    # --- selection and view -----------------------------------------------------

    def select(self, number: int | None, frame_id: str | None = None) -> None:
        """Select a planned frame and the file shot for it, or a frame on its own."""
        if frame_id is None and number is not None:
            planned = self.plan.frame(number)
            shot = self.outing.shot(planned) if planned else None
            frame_id = shot.id if shot else None
        if number is None and frame_id is not None:
            ref = self.outing.frame(frame_id)
            planned = self.plan.frame(ref.number) if ref and ref.number else None
            number = planned.number if planned and self.outing.shot(planned) is ref else None
        if (number, frame_id) == (self.selected, self.selected_id):
            return
        self.selected, self.selected_id = number, frame_id
        self.changed.emit({"selection"})

    def go_to(self, number: int | None) -> None:
        """Choose by hand which frame is shot next."""
        self.at = number
        self.changed.emit({"frames"})

    @property
    def shown_frames(self) -> tuple[GridFrame, ...]:
        """The planned frames, where the outing has a plan."""
        return self.plan.frames if self.outing.shows_plan else ()

    @property
    def guide(self) -> Guide:
        """State of the shoot, reckoned once for each document: choosing a frame asks for it as well."""
        if not self.outing.shows_plan:
            return NOTHING_TO_SHOOT
        of = (self.plan, self.outing, self.at)
        if self._guide is None or any(a is not b for a, b in zip(self._guide[0], of)):
            self._guide = of, guide(*of)
        return self._guide[1]

    def path_of(self, ref: FrameRef) -> Path:
        """Where a frame's file lies."""
        return document.resolve(self.folder or Path(), ref)

    # --- join -------------------------------------------------------------------

    def set_joined(self, joined: JoinResult | None, picture: PictureSource | None) -> None:
        """Take over a join's result and its picture."""
        self.joined, self.picture, self.awaits_picture = joined, picture, False
        self.changed.emit({"join", "map"})

    def await_no_picture(self) -> None:
        """The joined picture of the open outing cannot be shown: what waited for it goes on."""
        self.awaits_picture = False
        self.changed.emit({"frames", "map"})

    @property
    def solution(self) -> Solution | None:
        """Where the frames of the present picture belong."""
        return self.joined.solution if self.joined is not None else None

    @property
    def join_is_stale(self) -> bool:
        """Whether frames came or went since the join."""
        return self.joined is not None and self.joined.frame_ids != tuple(r.id for r in self.outing.frames_to_join())


def _plans_differ(a: Outing, b: Outing) -> bool:
    return a.brief != b.brief or a.given_frames != b.given_frames
