"""What the Scouting page, the map's menu and keys do: scouting pictures in and out, marks, facts taken over."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from PyQt6.QtCore import QObject
from PyQt6.QtWidgets import QFileDialog, QInputDialog, QWidget

from idle_lantern.app.context import AppContext
from idle_lantern.app.planning.foreseen_model import Wanted
from idle_lantern.app.tasks import Task
from idle_lantern.core.base import units
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.gear.entries import Entry, LensEntry
from idle_lantern.core.outing import assets, document, edits, scout_edits
from idle_lantern.core.plan.brief import Mark
from idle_lantern.core.plan.composed import Composition, composed, ways_to_shoot
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.scouting.plan_transfer import Change, frames_with, in_field, planned_for
from idle_lantern.core.scouting.remarks import readings_for
from idle_lantern.core.scouting.scout_picture import ScoutPicture, front

if TYPE_CHECKING:
    from collections.abc import Callable

SCOUTING = "Laying the scouting picture"
_KINDS = "Pictures (*.jpg *.jpeg *.png *.tif *.tiff *.heic *.avif *.webp *.dng)"
#: What a mark stands for, in words, and how wide a thing of that kind is taken for until it is told.
ROLES: dict[str, str] = {
    "thing": "no seam across it",
    "subject": "the subject",
    "nearest": "the nearest thing",
    "whole": "must not be cut",
    "bare": "frames may be bare",
}
_WIDE = {"thing": 4.0, "subject": 8.0, "nearest": 4.0, "whole": 6.0, "bare": 20.0}
#: The share of the width kept beyond the outermost marks when the field follows them.
_BEYOND = 0.05


class ScoutingCommands(QObject):
    """Commands about scouting pictures and marks; dialogs stand before ``parent``."""

    def __init__(self, context: AppContext, parent: QWidget) -> None:
        super().__init__(parent)
        self._context, self._state, self._parent = context, context.state, parent

    def _tell(self, sentence: str, problem: bool = True) -> None:
        self._state.message.emit(sentence, problem)

    # --- pictures ---------------------------------------------------------------

    def ask_pictures(self) -> None:
        """Ask for one picture, or several overlapping ones."""
        names, _ = QFileDialog.getOpenFileNames(
            self._parent, "One picture of the place, or several that overlap", "", _KINDS
        )
        if names:
            self.bring([Path(n) for n in names])

    def ask_outing(self) -> None:
        """Ask for an earlier outing whose joined picture is to be the ground."""
        name = QFileDialog.getExistingDirectory(self._parent, "Folder of an earlier outing at this place")
        if name:
            self.bring_outing(Path(name))

    def bring(self, paths: Sequence[Path], field_deg: float | None = None) -> None:
        """Make a ground of pictures and lay it on the map."""

        def work(task: Task) -> tuple[ScoutPicture, bytes]:
            from idle_lantern.core.scouting.scout import scouted  # loads the engine, which no start needs

            return scouted(paths, field_deg, task)

        self._lay(work, lambda error: self._failed(error, paths))

    def bring_outing(self, folder: Path) -> None:
        """Lay the joined picture of an earlier outing on the map."""
        picture, report = (folder / document.PICTURES / name for name in (document.PICTURE, document.REPORT))

        def work(_task: Task) -> tuple[ScoutPicture, bytes]:
            from idle_lantern.core.scouting.scout import from_joined

            earlier = document.load(folder)
            return from_joined(picture, report, earlier.name, earlier.brief.site.facing_deg)

        self._lay(work, lambda error: self._tell(error.sentence))

    def _lay(self, make: Callable[[Task], tuple[ScoutPicture, bytes]], failed: Callable[[LanternError], None]) -> None:
        place = self._state.place
        if place is None or not self._state.may_change():
            return
        in_front = self._context.scout_grounds.shown()[:1]
        others, facing = bool(self._state.outing.scouts), self._state.outing.brief.site.facing_deg

        def work(task: Task) -> ScoutPicture:
            from idle_lantern.core.scouting.scout import laid_beside

            kept, data = make(task)
            kept = laid_beside(kept, data, in_front[0] if in_front else None, facing, others)
            return replace(kept, asset=assets.put(place.folder, data, document.SCOUT_ASSET))

        def done(kept: ScoutPicture) -> None:
            first = None if others else kept.facing_deg
            if self._state.apply_to(place, scout_edits.add_scout(kept, first)):
                why = f" {kept.told[-1]}" if kept.told else ""
                self._tell(f"The scouting picture lies on the map ({kept.name}).{why}", False)

        self._context.start(
            SCOUTING, work, done, failed, weights={"read": 0.3, "features": 0.3, "match": 0.2, "adjust": 0.1}
        )

    def _failed(self, error: LanternError, paths: Sequence[Path]) -> None:
        from idle_lantern.core.scouting.ground import UnknownAngle

        if not isinstance(error, UnknownAngle):
            self._tell(error.sentence)
            return
        angle, yes = QInputDialog.getDouble(
            self._parent,
            "Angle of view",
            f"{paths[0].name} does not tell its angle of view. How many degrees does it show from left to right?\n"
            "A telephone held sideways shows about 65°, held upright about 50°.",
            65.0, 1.0, 169.0, 1,
        )  # fmt: skip
        if yes:
            self.bring(paths, angle)

    def drop(self, picture: ScoutPicture) -> None:
        """Take a picture off the map."""
        self._state.apply(scout_edits.drop_scout(picture))

    def to_front(self, picture: ScoutPicture) -> None:
        """Let a picture lie in front."""
        self._state.apply(scout_edits.bring_to_front(picture))

    def turn(self, picture: ScoutPicture, which: int, value_deg: float) -> None:
        """Set the yaw, pitch or roll of a picture on the map."""
        turn = list(picture.turn_deg)
        turn[which] = (value_deg + 180) % 360 - 180
        name = ("Turn", "Tilt", "Level")[which]
        self._state.apply(
            scout_edits.change_scout(f"{name} the scouting picture {picture.name}", picture.id, turn_deg=tuple(turn))
        )

    def show(self, picture: ScoutPicture, shown: bool) -> None:
        """Show or hide a picture."""
        self._state.apply(
            scout_edits.change_scout(f"{'Show' if shown else 'Hide'} {picture.name}", picture.id, shown=shown)
        )

    # --- facts ------------------------------------------------------------------

    def take_readings(self) -> None:
        """Let the readings of the scouting pictures be the plan's."""
        found = readings_for(self._state.plan, [p for p in self._state.outing.scouts if p.shown])
        if not found:
            self._tell("No scouting picture that is shown tells its exposure: enter meter readings by hand.")
            return
        readings = tuple((round(a, 1), round(min(24.0, max(-10.0, ev)), 1)) for a, ev, _ in found)
        self._state.apply(edits.set_part("exposure", "Take the scouting picture's readings over", readings=readings))

    def lower(self) -> None:
        """Bring the upper edge down until each frame has something to match."""
        plan, down = self._state.plan, self._state.scouted.lowered_deg
        if down is None:
            self._tell("No way down shows enough to match: place these frames by the head's angles.")
            return
        high = max(plan.target_field.low_deg + 1, plan.target_field.high_deg - down)
        self._state.apply(edits.set_target_field("Bring the upper edge down", high_deg=high))

    def face_by(self, body: Literal["sun", "moon"], azimuth_deg: float, altitude_deg: float) -> None:
        """Set the bearing of yaw 0 by the sun or the moon that stands at a direction of the map."""
        from idle_lantern.core.scouting.facing import bearing_of_yaw_0

        site, picture = self._state.outing.brief.site, front(self._state.outing.scouts)
        when = _taken(picture) or site.begin
        try:
            bearing, miss = bearing_of_yaw_0(site, when, azimuth_deg, altitude_deg, body=body)
        except LanternError as error:
            self._tell(f"At {when:%H:%M} on {when:%Y-%m-%d}: {error.sentence}")
            return
        self._state.apply(edits.set_part("site", f"Yaw 0 by the {body}", facing_deg=round(bearing, 2)))
        self._tell(
            f"Yaw 0 faces {units.angle(bearing)} by the {body} at {when:%H:%M}; its height misses by {units.angle(abs(miss))}.",
            False,
        )

    def ask_step(self) -> None:
        """Ask for two photographs a step apart and the length of the step."""
        names, _ = QFileDialog.getOpenFileNames(self._parent, "Two photographs taken one step apart", "", _KINDS)
        if not names:
            return
        if len(names) != 2:
            self._tell(f"Two photographs are needed, not {len(names)}: take one, step aside, take the other.")
            return
        step, yes = QInputDialog.getDouble(
            self._parent, "Length of the step", "How many metres lie between the two standpoints?", 0.7, 0.02, 200.0, 2
        )
        if yes:
            self.measure(Path(names[0]), Path(names[1]), step)

    def measure(self, first: Path, second: Path, step_m: float) -> None:
        """Let the nearest thing be as far as two photographs a step apart tell."""
        place = self._state.place
        if place is None or not self._state.may_change():
            return

        def work(task: Task) -> tuple[float, float, float, float] | None:
            from idle_lantern.core.scouting.distance import of_photographs  # loads the engine, which no start needs

            return of_photographs(first, second, step_m, None, task).nearest()

        def done(nearest: tuple[float, float, float, float] | None) -> None:
            if nearest is None:
                self._tell("Nothing near enough shifts between the two photographs: step further aside.")
                return
            metres, sigma, azimuth, altitude = nearest
            near = round(metres, 2)
            if self._state.apply_to(place, edits.set_part("scene", "Nearest thing by two photographs", near_m=near)):
                self._tell(
                    f"The nearest thing stands {units.measured(metres, sigma)} m away, {units.angle(azimuth, 0)} from the "
                    f"middle of the first photograph and {units.angle(altitude, 0)} up.",
                    False,
                )

        self._context.start("Measuring distances", work, done, lambda e: self._tell(e.sentence))

    def compare(self, show: Callable[[tuple[Change, ...], str], None]) -> None:
        """Tell by ``show`` where the two pictures in front differ, and in words."""
        scout_grounds, place = self._context.scout_grounds.shown(), self._state.place
        if len(scout_grounds) < 2 or place is None:
            self._tell("Two scouting pictures of the place are needed, taken one after the other.")
            return

        def work(_task: Task) -> tuple[Change, ...]:
            from idle_lantern.core.scouting.changed import changes

            return changes(scout_grounds[0], scout_grounds[1])

        def done(found: tuple[Change, ...]) -> None:
            if self._state.is_open(place):
                show(found, _changes_in_words(self._state.plan, found))

        self._context.start("Comparing the scouting pictures", work, done, lambda e: self._tell(e.sentence))

    def plan_for(self, found: Sequence[Change]) -> None:
        """Let order, repeats and what moves be as the things that moved ask."""
        plan = self._state.plan
        brief, why = planned_for(plan, found)
        if self._state.apply(edits.Edit("Plan for what moved", lambda o: replace(o, brief=brief))):
            self._tell(why, False)

    # --- marks ------------------------------------------------------------------

    def ask_mark(self, role: str, yaw_deg: float, pitch_deg: float) -> None:
        """Ask for the name of what stands at a direction and mark it; of the nearest thing the distance too."""
        name, yes = QInputDialog.getText(self._parent, "Mark", "What stands there?", text=_USUAL[role])
        if not yes or not name.strip():
            return
        if role not in ("nearest", "subject"):
            self.mark(role, yaw_deg, pitch_deg, name.strip())
            return
        scene = self._state.outing.brief.scene
        now = scene.near_m if role == "nearest" else scene.subject_m or max(scene.near_m, 5.0)
        distance, yes = QInputDialog.getDouble(
            self._parent, "Distance", f"How many metres away is it ({name.strip()})?", now, 0.05, 1e5, 2
        )
        self.mark(role, yaw_deg, pitch_deg, name.strip(), distance if yes else 0.0)

    def mark(self, role: str, yaw_deg: float, pitch_deg: float, name: str, distance_m: float = 0.0) -> None:
        """Mark a direction; the distance of the nearest thing and of the subject is the scene's too."""
        yaw = (round(yaw_deg, 1) + 180) % 360 - 180
        pitch = max(-90.0, min(90.0, round(pitch_deg, 1)))
        mark = Mark(name, yaw, pitch, _WIDE[role], role not in ("nearest", "bare"), role, distance_m=distance_m)
        scene = self._state.outing.brief.scene
        changes: dict[str, Any] = {"marks": (*scene.marks, mark)}
        if distance_m > 0 and role in ("nearest", "subject"):
            changes["near_m" if role == "nearest" else "subject_m"] = distance_m
        self._state.apply(edits.set_part("scene", f"Mark {name}", **changes))

    def change_mark(self, at: int, title: str, **changes: object) -> None:
        """Change one of the marks."""
        marks = self._state.outing.brief.scene.marks
        if at < len(marks):
            try:
                changed = replace(marks[at], **changes)  # type: ignore[arg-type]
            except LanternError as error:
                self._tell(error.sentence)
                return
            self._state.apply(scout_edits.set_marks(title, (*marks[:at], changed, *marks[at + 1 :])))

    def drop_mark(self, at: int) -> None:
        """Take one of the marks away."""
        marks = self._state.outing.brief.scene.marks
        if 0 <= at < len(marks):
            self._state.apply(scout_edits.set_marks(f"Drop the mark {marks[at].name}", (*marks[:at], *marks[at + 1 :])))

    def set_end(self, edge: str, azimuth_deg: float, altitude_deg: float) -> None:
        """Let the picture end at a direction."""
        w = self._state.outing.target_field
        middle = (w.left_deg + w.right_deg) / 2
        yaw = middle + (azimuth_deg - middle + 180) % 360 - 180
        value = round({"left": yaw, "right": yaw, "low": altitude_deg, "high": altitude_deg}[edge], 1)
        changes: dict[str, Any] = {f"{edge}_deg": value}
        names = {"left": "left end", "right": "right end", "low": "lower edge", "high": "upper edge"}
        self._state.apply(edits.set_target_field(f"Put the {names[edge]} there", **changes))

    def compose(self, wanted: Wanted, across: float | None, horizon: float | None, *, hold: bool) -> None:
        """Solve the ends of the picture from its shape and where subject and horizon are to stand."""
        plan = self._state.plan
        scene, box = plan.brief.scene, plan.target_field
        if across is not None and scene.subject_mark is None:
            self._tell("Nothing is marked as the subject: right-click on it on the map first.")
            return
        projection = wanted.projection if wanted.projection != "auto" else plan.size.projection
        ratio = wanted.shape or box.sweep_deg / (box.high_deg - box.low_deg)
        asked = Composition(ratio, across, horizon, hold, projection)
        try:
            field = composed(box, asked, scene.marks, scene.subject_mark)
        except LanternError as error:
            self._tell(error.sentence)
            return
        ends = {key: getattr(field, key) for key in ("left_deg", "right_deg", "low_deg", "high_deg")}
        if self._state.apply(edits.set_target_field("Frame the picture", **ends)):
            plan = self._state.plan
            self._tell(
                f"Framed: {units.angle(field.sweep_deg, 0)} × {units.angle(field.high_deg - field.low_deg, 0)}, "
                f"{units.counted(len(plan.frames), 'frame')}.{self._better_way(plan)}",
                False,
            )

    def _better_way(self, plan: Plan) -> str:
        """A word on the lens or orientation of the gear library that takes fewer frames for as many pixels, if any does."""
        lenses = [("", plan.rig.focal_mm)]
        if self._context.gear is not None:
            try:
                lenses += [
                    (e.name, f) for e in self._context.gear.entries("lens") if (f := _flat_focal_mm(e)) is not None
                ]
            except LanternError:
                lenses = lenses[:1]
        least = 0.9 * max(plan.size.width_px, plan.size.height_px)
        best = next(iter(ways_to_shoot(plan.brief, lenses, least)), None)
        if best is None or len(best.plan.frames) >= len(plan.frames):
            return ""
        rig = best.plan.rig
        lens = f"{best.lens_name}, " if best.lens_name else ""
        return f" Fewer frames for as many pixels: {lens}{rig.focal_mm:g} mm, {best.reason}."

    def field_from_marks(self) -> None:
        """Let the field run from the leftmost to the rightmost mark, a little beyond."""
        marks = self._state.outing.brief.scene.marks
        if len(marks) < 2:
            self._tell("Two marks at least are needed: one at the left and one at the right end.")
            return
        left = min(m.yaw_deg - m.width_deg / 2 for m in marks)
        right = max(m.yaw_deg + m.width_deg / 2 for m in marks)
        more = (right - left) * _BEYOND
        self._state.apply(
            edits.set_target_field(
                "Field from marks", left_deg=left - more, right_deg=min(right + more, left - more + 360)
            )
        )


def _changes_in_words(plan: Plan, found: Sequence[Change]) -> str:
    """Where things moved, and what that asks for."""
    if not found:
        return "Nothing moved between the two pictures in front."
    where = ", ".join(units.angle(c.azimuth_deg, 0) for c in found[:6]) + (" …" if len(found) > 6 else "")
    many = "thing moved" if len(found) == 1 else "things moved"
    frames = frames_with(plan, in_field(plan, found))
    shown = f"in frames {', '.join(str(n) for n in frames[:8])}" if frames else "outside the wanted field"
    return f"{len(found)} {many}, or {'is' if len(found) == 1 else 'are'} lit otherwise: at {where}, {shown}."


_USUAL = {"thing": "mast", "subject": "subject", "nearest": "railing", "whole": "mast", "bare": "sky"}


def _flat_focal_mm(entry: Entry) -> float | None:
    """The focal length of a lens that draws straight lines straight; of a zoom its shortest."""
    if not isinstance(entry, LensEntry) or entry.lens_model != "rectilinear":
        return None
    return entry.shortest_mm


def _taken(picture: ScoutPicture | None) -> datetime.datetime | None:
    """When a picture was taken, as its file tells."""
    if picture is None or picture.taken is None:
        return None
    try:
        return datetime.datetime.fromisoformat(picture.taken.replace(":", "-", 2).replace(" ", "T")).replace(
            tzinfo=None
        )
    except ValueError:
        return None
