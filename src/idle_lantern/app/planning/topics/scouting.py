"""Scouting: pictures of the place as the ground of the map, what they tell, and marks on them."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QListWidget, QListWidgetItem

from idle_lantern.app.planning.brief_binding import narrow
from idle_lantern.app.planning.scouting_commands import ROLES
from idle_lantern.app.planning.topics.base import Topic
from idle_lantern.app.planning.topics.quantities import DEG
from idle_lantern.app.widgets.basics import button, column, form, label, row
from idle_lantern.app.widgets.blocks import Blocks
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.app.widgets.quantity_edit import QuantityEdit
from idle_lantern.core.base import units
from idle_lantern.core.plan.brief import Mark
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.scouting.plan_transfer import Change, in_field
from idle_lantern.core.scouting.remarks import readings_for
from idle_lantern.core.scouting.scout_picture import ScoutPicture, is_upright

_ROWS = 4
_NO_PICTURE = "No picture yet: a photograph, a few that overlap, or a telephone's panorama of the place."


class ScoutingTopic(Topic):
    """Pictures of the place, facts read from them, and marks."""

    title = "Scouting"

    def build(self, box: Blocks) -> None:
        commands = self.commands.scouting
        self._filling = False
        self.pictures = _list("Scouting pictures", "scout-list")
        self.pictures.itemChanged.connect(self._show_or_hide)
        self.pictures.currentRowChanged.connect(lambda _row: self._show_chosen())
        self.turns = tuple(
            _angle_field(name, key, partial(self._turn, k))
            for k, (name, key) in enumerate(
                (("Turned by", "scout-yaw"), ("Tilted by", "scout-pitch"), ("Rolled by", "scout-roll"))
            )
        )
        self.drag = button("Drag it on the map   [G]", lambda: self.context.ask("plan.drag_ground"), name="scout-drag")
        self.drag.setCheckable(True)
        self.own = (
            button("To the front", lambda: self._with_chosen(commands.to_front), name="scout-front"),
            button("Take away", lambda: self._with_chosen(commands.drop), quiet=True, name="scout-drop"),
        )
        self.of_chosen = self.told(lambda _p: self._of_chosen(), "fact-scout-horizon", "")
        box.add(
            column(
                row(
                    button("Bring in …", commands.ask_pictures, name="scout-bring"),
                    button("Earlier outing …", commands.ask_outing, name="scout-outing"),
                    None,
                ),
                self.pictures,
                row(*self.own, None),
                form([(f.accessibleName(), f) for f in self.turns]),
                self.drag,
                None,
            )
        )
        self.take_readings = button("Use these readings", commands.take_readings, name="scout-readings")
        self.moved = label("", wrap=True, name="fact-scout-moved")
        self.compare = button("What moved?", lambda: commands.compare(self._tell_moved), name="scout-compare")
        self.for_moved = button("Plan for it", self._plan_for_moved, name="scout-for-moved")
        self._changes: tuple[Change, ...] = ()
        self.lower_edge = button("Bring the upper edge down", commands.lower, name="scout-lower")
        box.add(
            column(
                label("What they tell", "head"),
                self.of_chosen,
                self.facts(
                    ("Light here", "scout-light", self._light),
                    ("Straight things", "scout-lines", self._straight),
                    ("Skyline", "scout-skyline", self._skyline),
                    later=True,
                ),
                self.take_readings,
                self.told(self._bare, "fact-scout-bare", "", later=True),
                self.lower_edge,
                self.told(lambda _p: self._facing(), "fact-scout-facing"),
                self.compare,
                self.moved,
                self.for_moved,
                button("Distance by a step …", commands.ask_step, name="scout-step"),
                None,
            )
        )
        self.marks = _list("Marks on the map", "mark-list")
        self.marks.currentRowChanged.connect(self._choose_mark)
        self.role = narrow(Chooser())
        self.role.setObjectName("choice-mark-role")
        self.role.setAccessibleName("What the mark stands for")
        for key, words in ROLES.items():
            self.role.addItem(words, key)
        self.role.activated.connect(lambda i: self._change_mark("Change the mark", role=self.role.itemData(i)))
        self.sizes = tuple(
            _angle_field(name, key, partial(self._size_mark, f"{name} of the mark", part))
            for name, key, part in (("Width", "mark-width", "width_deg"), ("Height", "mark-height", "height_deg"))
        )
        self.distance = QuantityEdit(
            "Distance", units.parse_distance_m, lambda v: units.distance(v) if v else "not known"
        )
        self.distance.setObjectName("field-mark-distance")
        self.distance.submitted.connect(lambda value: self._change_mark("Distance of the mark", distance_m=value))
        box.add(
            column(
                row(
                    button("Mark …   [M]", self.commands.add_mark, name="add-mark"),
                    button("Take away", self._drop_mark, quiet=True, name="drop-mark"),
                    None,
                ),
                self.marks,
                form(
                    [
                        ("Stands for", self.role),
                        ("Width", self.sizes[0]),
                        ("Height", self.sizes[1]),
                        ("Distance", self.distance),
                    ]
                ),
                button("Field from marks", commands.field_from_marks, name="field-from-marks"),
                label(
                    "Right-click on the map, or press M, to mark a place there. Drag a mark to move it.",
                    "dim",
                    wrap=True,
                ),
                None,
            )
        )

    # --- showing ----------------------------------------------------------------

    def summary(self, plan: Plan) -> str:
        scouts, marks = self.state.outing.scouts, plan.brief.scene.marks
        pictures = units.counted(len(scouts), "picture") if scouts else "no picture"
        return f"{pictures}, {units.counted(len(marks), 'mark')}" if marks else pictures

    def show_plan(self, plan: Plan) -> None:
        super().show_plan(plan)
        scouts = self.state.outing.scouts
        self._filling = True
        _fill(self.pictures, [p.name for p in scouts], [p.shown for p in scouts])
        _fill(self.marks, [_words(m) for m in plan.brief.scene.marks], None)
        self._filling = False
        self._show_chosen()
        self._show_mark()
        shown = self._shown()
        self.compare.setVisible(len(shown) > 1)
        if len(shown) < 2:
            self._tell_moved((), "")
        self.for_moved.setVisible(bool(in_field(plan, self._changes)))
        self.take_readings.setEnabled(bool(readings_for(plan, shown)))
        self.lower_edge.setVisible(self.state.judgements is not None and self.state.scouted.lowered_deg is not None)

    def show_dragging(self, on: bool) -> None:
        """Show whether the hand moves the picture."""
        self.drag.setChecked(on)

    def chosen(self) -> ScoutPicture | None:
        """The picture that is chosen in the list, the one in front where none is."""
        scouts = self.state.outing.scouts
        at = self.pictures.currentRow()
        return scouts[at] if 0 <= at < len(scouts) else scouts[0] if scouts else None

    def _shown(self) -> list[ScoutPicture]:
        return [p for p in self.state.outing.scouts if p.shown]

    def _show_chosen(self) -> None:
        picture = self.chosen()
        for field, value in zip(self.turns, picture.turn_deg if picture else (0.0, 0.0, 0.0)):
            field.setEnabled(picture is not None)
            field.show_value(value)
        for made in (self.drag, *self.own):
            made.setEnabled(picture is not None)
        self.of_chosen.setText(self._of_chosen())

    def _of_chosen(self) -> str:
        picture = self.chosen()
        if picture is None:
            return _NO_PICTURE
        level = f"Its horizon is known to {units.angle(max(0.1, picture.sigma_deg))}."
        return " ".join((*picture.told[:2], level))

    def _tell_moved(self, found: tuple[Change, ...], sentence: str) -> None:
        self._changes = found
        self.moved.setText(sentence)
        self.for_moved.setVisible(bool(in_field(self.state.plan, found)))

    def _plan_for_moved(self) -> None:
        self.commands.scouting.plan_for(self._changes)

    def _light(self, plan: Plan) -> str:
        found = readings_for(plan, self._shown())
        if not found:
            return "not told by the files" if self.state.outing.scouts else "—"
        more = " and more" if any(b == "at least" for _, _, b in found) else ""
        return units.ev_range(min(ev for _, ev, _ in found), max(ev for _, ev, _ in found)) + more

    def _straight(self, _plan: Plan) -> str:
        lines = [line for p in self._shown() for line in p.lines]
        if not lines:
            return "none of length" if self._shown() else "—"
        upright = sum(is_upright(line) for line in lines)
        return f"{len(lines)}, {upright} upright"

    def _skyline(self, plan: Plan) -> str:
        top = self.state.scouted.highest(plan)
        if top is None:
            return "not read" if self._shown() else "—"
        return f"up to {units.angle(top[1], 0)} ± {units.angle(top[2])}, at yaw {units.angle(top[0], 0)}"

    def _bare(self, _plan: Plan) -> str:
        if not self._shown():
            return ""
        facts = self.state.scouted
        told = [
            f"{'Frame' if len(found) == 1 else 'Frames'} {', '.join(str(d.frame.number) for d in found[:6])}"
            f"{' …' if len(found) > 6 else ''}: {what}."
            for found, what in ((facts.bare, "nothing to match"), (facts.weak, "weak, less than a third to match"))
            if found
        ]
        if not told:
            return "Each frame that it shows is sure to be matched."
        if facts.bare and facts.lowered_deg is not None:
            told.insert(1, f"{units.angle(facts.lowered_deg, 0)} lower they show enough.")
        return " ".join(told)

    def _facing(self) -> str:
        bearing = units.angle(self.state.outing.brief.site.facing_deg % 360, 0)
        picture = self.chosen()
        if picture is None:
            return f"Yaw 0 faces {bearing} (under Light)."
        if picture.facing_deg is not None:
            return (
                f"Yaw 0 faces {bearing}; its file tells {units.angle(picture.facing_deg + 0.0, 0)} for its own middle."
            )
        return f"Yaw 0 faces {bearing}. If the sun or moon is seen: right-click on it on the map."

    # --- doing ------------------------------------------------------------------

    def _with_chosen(self, do: Callable[[ScoutPicture], None]) -> None:
        picture = self.chosen()
        if picture is not None:
            do(picture)

    def _turn(self, which: int, value: float) -> None:
        picture = self.chosen()
        if picture is not None:
            self.commands.scouting.turn(picture, which, value)

    def _show_or_hide(self, item: QListWidgetItem) -> None:
        at = self.pictures.row(item)
        if not self._filling and at < len(self.state.outing.scouts):
            self.commands.scouting.show(self.state.outing.scouts[at], item.checkState() == Qt.CheckState.Checked)

    def _choose_mark(self, _at: int) -> None:
        if not self._filling:
            self._show_mark()

    def _mark(self) -> Mark | None:
        marks = self.state.plan.brief.scene.marks
        at = self.marks.currentRow()
        return marks[at] if 0 <= at < len(marks) else None

    def _show_mark(self) -> None:
        mark = self._mark()
        self.role.setEnabled(mark is not None)
        for field in (*self.sizes, self.distance):
            field.setEnabled(mark is not None)
        if mark is not None:
            self.role.setCurrentIndex(self.role.findData(mark.role))
            self.sizes[0].show_value(mark.width_deg)
            self.sizes[1].show_value(mark.tall_deg)
            self.distance.show_value(mark.distance_m)

    def _change_mark(self, title: str, **changes: object) -> None:
        self.commands.scouting.change_mark(self.marks.currentRow(), title, **changes)

    def _size_mark(self, title: str, part: str, value: float) -> None:
        self._change_mark(title, **{part: value})

    def _drop_mark(self) -> None:
        at = self.marks.currentRow()
        self.commands.scouting.drop_mark(at if at >= 0 else self.marks.count() - 1)


def _words(mark: Mark) -> str:
    where = f"{units.angle(mark.yaw_deg, 0)}, {units.angle(mark.pitch_deg, 0)}"
    return f"{mark.name}: {ROLES[mark.role]} ({where})"


def _list(name: str, object_name: str) -> QListWidget:
    made = QListWidget()
    made.setAccessibleName(name)
    made.setObjectName(object_name)
    made.setFixedHeight(26 * _ROWS)
    return made


def _fill(target: QListWidget, rows: list[str], checked: list[bool] | None) -> None:
    """Show other rows; the choice stays on the same place."""
    at = target.currentRow()
    while target.count() > len(rows):
        target.takeItem(target.count() - 1)
    while target.count() < len(rows):
        target.addItem(QListWidgetItem())
    for i, text in enumerate(rows):
        item = target.item(i)
        if item is None:
            continue
        if item.text() != text:
            item.setText(text)
            item.setToolTip(text)
        if checked is not None:
            item.setCheckState(Qt.CheckState.Checked if checked[i] else Qt.CheckState.Unchecked)
    target.setCurrentRow(min(max(at, 0), len(rows) - 1))


def _angle_field(name: str, key: str, use: Callable[[float], None]) -> QuantityEdit:
    """An angle that belongs to what is chosen in a list."""
    field = QuantityEdit(name, *DEG)
    field.setObjectName(f"field-{key}")
    field.submitted.connect(use)
    return field
