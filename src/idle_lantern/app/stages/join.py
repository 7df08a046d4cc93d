"""Join: run it, watch the rough picture come within seconds and sharpen, look at it at 100 %."""

from __future__ import annotations

import html
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from PyQt6.QtCore import QPointF, Qt, pyqtSignal
from PyQt6.QtGui import QPolygonF

from idle_lantern.app import theme
from idle_lantern.app.cropping import crop_box
from idle_lantern.app.desk import Desk
from idle_lantern.app.joins import Shown
from idle_lantern.app.masking import MaskDialog
from idle_lantern.app.rail import keep_rail
from idle_lantern.app.stages import join_model as model
from idle_lantern.app.stages.base import Stage
from idle_lantern.app.stages.choices_panel import TITLES_PX, ChoicesPanel
from idle_lantern.app.stages.compose_panel import ComposePanel
from idle_lantern.app.stages.frame_placing import FramePlacing
from idle_lantern.app.stages.mover_bar import MoverBar
from idle_lantern.app.stages.seen_walk import SeenWalk
from idle_lantern.app.stages.walk_bar import WalkBar
from idle_lantern.app.tie_model import loose_frames
from idle_lantern.app.tying import TieDialog
from idle_lantern.app.widgets.basics import button, column, form, label, panel, row, scrolled, set_look_property
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.app.widgets.flowing import FlowLayout
from idle_lantern.app.widgets.map_shapes import JoinOnMap, outlines
from idle_lantern.app.widgets.picture_view import PictureView
from idle_lantern.core.base import units
from idle_lantern.core.geometry.projections import PROJECTIONS
from idle_lantern.core.outing import edits

if TYPE_CHECKING:
    from idle_lantern.core.join.solve.solve import Solution

_CHOICES = ("auto", *PROJECTIONS)


class JoinStage(Stage):
    """From frames to one picture."""

    picture_on_map = pyqtSignal(object)
    join_on_map = pyqtSignal(object)

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.view = PictureView()
        self.view.placeholder = "The joined picture appears here: a rough one within seconds, then the full one."
        self.view.failed.connect(desk.tell)
        self.run_button = button("Join the frames   [Ctrl + J]", self.run_join, main=True, name="join")
        self.deliver_button = button("Deliver it", lambda: desk.ask("go.deliver"), name="go-deliver")
        self.projection = Chooser()
        self.projection.setAccessibleName("Projection")
        self.projection.setObjectName("projection")
        self.projection.addItems(["by itself (auto)", *PROJECTIONS])
        self.projection.activated.connect(self._choose_projection)
        self.status = label("", wrap=True, name="join-status")
        self.reason = label("", "dim", wrap=True)
        self.choices = ChoicesPanel(desk)
        self.facts = {key: label("", "figure", name=f"join-{key}") for key, _ in model.FACTS}
        self.findings = label("", "dim", wrap=True, name="join-findings")
        self.left_out = label("", wrap=True, name="join-left-out")
        self.left_out.setTextFormat(Qt.TextFormat.RichText)
        self.left_out.setTextInteractionFlags(
            Qt.TextInteractionFlag.LinksAccessibleByMouse | Qt.TextInteractionFlag.LinksAccessibleByKeyboard
        )
        self.left_out.linkActivated.connect(self._put_back)
        self.mask_button = button("Paint frames ...", self.open_masks, quiet=True, name="join-masks")
        self.tie_button = button("Tie frames ...", lambda: self.open_ties(), quiet=True, name="join-ties")
        self.rail_button = button("", self.correct_rail, quiet=True, name="join-rail")
        self.walk = WalkBar(desk, self.view)
        self.seen = SeenWalk(desk, self.view)
        self.placing = FramePlacing(desk, self.view)
        self.placing.laid.connect(self.run_join)
        self.movers = MoverBar(desk, self.walk)
        self.compose = ComposePanel(desk, self.view)
        self.compose_button = button("Compose it   [C]", self.toggle_compose, name="compose")
        self._lay_out()
        self.state.changed.connect(self._refresh)
        desk.tasks.changed.connect(self._show_status)
        desk.joins.rough.connect(self._show_rough)
        desk.joins.shown.connect(self._show_finished)
        desk.joins.ended.connect(self._follow_choices)
        self._on_map = JoinOnMap()
        self.seen.changed.connect(self._tell_map)
        self._failure = ""
        desk.joins.failed.connect(self._show_failure)

    def _lay_out(self) -> None:
        zoom_text = label("", "dim")
        self.view.zoomed.connect(lambda z: zoom_text.setText(f"{100 * z * self.view.devicePixelRatioF():.0f} %"))
        tools = FlowLayout(self.movers.open_button, *self.walk.hands.buttons.values())
        zooms = row(
            zoom_text,
            self.seen.told,
            None,
            self.walk.seams_button,
            self.seen.next_button,
            button("Fit   [0]", self.view.fit, quiet=True),
            button("100 %   [1]", self.view.show_full, quiet=True),
            button("+", lambda: self.view.zoom_by(1.5), quiet=True),
            button("−", lambda: self.view.zoom_by(1 / 1.5), quiet=True),
        )
        projection = form([("Projection", self.projection)])
        projection.setColumnMinimumWidth(0, theme.scaled(TITLES_PX))
        side = column(
            self.run_button,
            self.status,
            8,
            projection,
            self.choices,
            self.reason,
            8,
            form([(title, self.facts[key]) for key, title in model.FACTS]),
            scrolled(panel(column(self.findings, self.left_out, None), "ground")),
            row(self.rail_button, None),
            row(self.choices.keep_button, None, self.tie_button, self.mask_button),
        )
        self._joining = panel(side, "ground")
        self._composing = scrolled(self.compose)
        self._composing.hide()
        self.compose.cards.hide()
        side_panel = panel(
            column(self._joining, self._composing, row(self.compose_button, None, self.deliver_button)), "ground"
        )
        side_panel.setFixedWidth(380)
        layout = row(margin=16, space=theme.SPACE * 2)
        layout.addWidget(
            panel(column(self.view, self.walk, self.movers, self.compose.cards, tools, zooms), "ground"), 1
        )
        layout.addWidget(side_panel)
        self.setLayout(layout)

    def toggle_compose(self) -> None:
        """Compose the picture, or go back to the join."""
        if not self.compose.active and not self.compose.can_compose():
            self.desk.tell("There is no picture to compose yet. Join the frames first.")
            return
        if self.compose.active:
            self.compose.close_down()
        else:
            self.compose.open()
        self._show_side()

    def _show_side(self) -> None:
        active = self.compose.active
        self._joining.setVisible(not active)
        self._composing.setVisible(active)
        self.compose.cards.setVisible(active)
        self.walk.set_aside(active)
        self.movers.refresh()
        self.compose_button.setText("Back to the join   [C]" if active else "Compose it   [C]")
        self.compose_button.setEnabled(active or self.compose.can_compose())

    def correct_rail(self) -> None:
        """Take the rail setting over that the parallax of this join tells, for next time."""
        found = model.rail_correction(self.state.outing, self.state.joined)
        if found is not None:
            keep_rail(self.desk, *found, "Correct the rail by the join")
            self._show_rail()

    def _show_rail(self) -> None:
        found = model.rail_correction(self.state.outing, self.state.joined)
        self.rail_button.setVisible(found is not None)
        if found is not None:
            self.rail_button.setText(f"Correct the rail: {self.state.outing.rig.rail_mm:g} to {found[0]:.1f} mm")

    # --- running ----------------------------------------------------------------

    def can_join(self) -> bool:
        """Whether there is something to join and nothing is being joined."""
        return len(self.state.outing.frames_to_join()) >= 2 and not self.desk.joins.busy

    def run_join(self) -> None:
        """Join the frames of the outing."""
        if len(self.state.outing.frames_to_join()) < 2:
            self.desk.tell("A join needs at least two frames. Shoot them in Field or bring pictures in under Frames.")
            return
        self._start(None)
        if not self.isVisible() and self.desk.joins.busy:
            self.desk.tell("The frames are being joined; the picture comes under Join.", problem=False)

    def _start(self, solution: Solution | None) -> None:
        place, joins = self.state.place, self.desk.joins
        if place is None or (joins.busy and not joins.busy_here) or not self.state.may_change():
            return
        request = model.request_for(
            self.state.outing, place.folder, solution, self.state.joined if solution is not None else None
        )
        if joins.busy and (solution is None or joins.request is None or not model.outdated(joins.request, request)):
            return
        self._failure = ""
        joins.start_instead(request, place)
        self._show_status()

    def _choose_projection(self, index: int) -> None:
        name = _CHOICES[index]
        if name != self.state.outing.choices.projection:
            self.state.apply(edits.choose(f"Choose the projection {name}", projection=name))

    def _put_back(self, link: str) -> None:
        """A link beside a left-out frame: tie it, use it all the same, or leave it to the join again."""
        word, _, frame = link.partition(":")
        if word == "tie":
            self.open_ties(frame)
            return
        if word == "place":
            self.placing.take(frame)
            return
        ref = self.state.outing.frame(frame)
        if ref is not None and word == "on":
            self.state.apply(edits.switch_off(ref, off=False))
        elif ref is not None:
            self.state.apply(edits.put_back(ref, word == "use"))
            self.run_join()

    def can_mask(self) -> bool:
        """Whether there are frames to paint on."""
        return bool(self.state.outing.frames_to_join())

    def open_masks(self) -> MaskDialog | None:
        """Paint what must not show, or must."""
        if not self.can_mask() or self.state.place is None:
            self.desk.tell("There are no frames to paint on. Shoot some or bring pictures in under Frames.")
            return None
        if not self.state.may_change():
            return None
        dialog = MaskDialog(self.desk, self.state.selected_id, self.window())
        dialog.finished.connect(lambda _r: self._follow_choices())
        dialog.show()
        dialog.activateWindow()
        return dialog

    def open_ties(self, frame: str | None = None) -> TieDialog | None:
        """Tie frames by points set by hand; ``frame`` is one that nothing ties."""
        if len(self.state.outing.frames_to_join()) < 2 or self.state.place is None:
            self.desk.tell("Two frames at least are needed to tie them. Bring pictures in under Frames.")
            return None
        if not self.state.may_change():
            return None
        before = self.state.outing.points, self.state.outing.cut_links
        loose = loose_frames(self.state.outing, self.state.joined)
        dialog = TieDialog(self.desk, frame or (None if loose else self.state.selected_id), self.window())

        def closed(code: int) -> None:
            if (
                code == TieDialog.DialogCode.Accepted
                and (self.state.outing.points, self.state.outing.cut_links) != before
            ):
                self.run_join()

        dialog.finished.connect(closed)
        dialog.show()
        dialog.activateWindow()
        return dialog

    def _follow_choices(self) -> None:
        """Make the picture anew where it no longer is what was chosen; nothing is matched anew for that."""
        if (
            self.state.solution is not None
            and model.differs(self.state.outing, self.state.joined) == "choices"
            and not self._painting()
        ):
            self._start(self.state.solution)

    def _painting(self) -> bool:
        window = self.window()
        return window is not None and any(d.isVisible() for d in window.findChildren(MaskDialog))

    # --- showing ----------------------------------------------------------------

    def _show_rough(self, shown: Shown) -> None:
        self.view.crop = None
        self.view.set_source(shown.source, shown.size)
        self.picture_on_map.emit(shown.on_map)

    def _show_finished(self, shown: Shown) -> None:
        self.view.set_source(shown.source, shown.size)
        self.picture_on_map.emit(shown.on_map)
        planned = [shot.id for shot in self.state.outing.shots(self.state.plan.frames).values()]
        found = model.on_map(shown.result, planned)
        self._on_map = JoinOnMap(
            tuple(shape for lens, frame in found.tied for shape in outlines(lens, [frame])),
            tuple(shape for lens, frame in found.loose for shape in outlines(lens, [frame])),
            tuple((QPointF(*a), QPointF(*b), quality) for a, b, quality in found.links),
        )
        self._tell_map()

    def _tell_map(self) -> None:
        """The join on the map, with what nobody looked at yet."""
        if self.state.joined is not None:
            unseen = tuple(QPolygonF([QPointF(*p) for p in shape]) for shape in self.seen.unseen())
            self.join_on_map.emit(replace(self._on_map, unseen=unseen))

    def _show_failure(self, sentence: str) -> None:
        self._failure = sentence
        self._show_status()

    def showEvent(self, event: Any) -> None:
        self._refresh({"join", "frames", "choices"})
        super().showEvent(event)

    def _refresh(self, topics: set[str]) -> None:
        if "outing" in topics and "join" in topics and self.state.joined is None:
            self._failure = ""
            self.view.set_source(None)
        if "choices" in topics:
            self.projection.setCurrentIndex(_CHOICES.index(self.state.outing.choices.projection))
        # a development is tried out under Frames step by step: the picture follows when it is looked at
        if topics & {"choices", "masks"} and (self.isVisible() or "development" not in topics):
            self._follow_choices()
        if topics & {"join", "frames", "choices", "masks"}:
            self._show_facts()
            self._show_status()

    def _show_status(self) -> None:
        joins, task = self.desk.joins, self.desk.tasks.shown
        self.run_button.setEnabled(self.can_join())
        self.mask_button.setEnabled(self.can_mask())
        running = ""
        if joins.busy_here and task is not None and joins.is_task(task):
            left = task.clock.remaining_s
            rest = f", about {units.duration(left)} left" if left is not None else ""
            stage = model.STAGES_IN_WORDS.get(task.clock.stage, task.clock.stage)
            running = f"{task.clock.fraction:.0%}: {stage}{rest}"
        outing, joined = self.state.outing, self.state.joined
        sentence = model.status(outing, joined, running=running, elsewhere=joins.busy and not joins.busy_here)
        finished = joined is not None and not model.differs(outing, joined) and not joins.busy
        failed = bool(self._failure) and not running
        told = f"{self._failure} Or tie two frames by hand, below." if failed and self.can_mask() else self._failure
        self.status.setText(told if failed else sentence)
        self.tie_button.setEnabled(len(outing.frames_to_join()) >= 2)
        set_look_property(self.run_button, "main", not finished)
        set_look_property(self.deliver_button, "main", finished)
        self.run_button.setText("Join again   [Ctrl + J]" if finished else "Join the frames   [Ctrl + J]")

    def _show_facts(self) -> None:
        joined = self.state.joined
        for key, text in model.facts(joined).items():
            self.facts[key].setText(text)
        self.reason.setText(joined.canvas.reason if joined else "")
        told = (
            model.lens_refused(joined),
            model.head_left_out(joined),
            model.findings(self.state.solution, self.state.outing.brief.scene.near_m),
        )
        self.findings.setText("\n".join(filter(None, told)))
        self._show_rail()
        self.left_out.setText("<br>".join(_as_row(r) for r in model.left_out(self.state.outing, joined)))
        self.view.crop = crop_box(self.state.outing, joined) if joined else None
        self._show_side()
        self.view.update()


def _as_row(row_: model.LeftOut) -> str:
    text = html.escape(row_.sentence)
    if not row_.action:
        return text
    frame = html.escape(row_.frame_id)
    tie = (
        f', <a href="place:{frame}">lay it on the picture</a> or <a href="tie:{frame}">Tie it by hand</a>'
        if row_.action == "use"
        else ""
    )
    return f'{text} <a href="{row_.action}:{frame}">{row_.link}</a>{tie}'
