"""Plan: pages of what is told on the left, what it takes and what speaks against it on the right."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QPoint, Qt, QTimer
from PyQt6.QtWidgets import QStackedWidget, QVBoxLayout

from idle_lantern.app import theme
from idle_lantern.app.context import AppContext
from idle_lantern.app.planning.commands import PlanCommands
from idle_lantern.app.planning.field_search import FieldSearch
from idle_lantern.app.planning.map_menu import map_menu
from idle_lantern.app.planning.topics.angles import AnglesTopic
from idle_lantern.app.planning.topics.base import Topic
from idle_lantern.app.planning.topics.camera import CameraTopic
from idle_lantern.app.planning.topics.cost import CostTopic
from idle_lantern.app.planning.topics.exposure import ExposureTopic
from idle_lantern.app.planning.topics.foreseen import ForeseenTopic
from idle_lantern.app.planning.topics.light import LightTopic
from idle_lantern.app.planning.topics.overlap import OverlapTopic
from idle_lantern.app.planning.topics.picture import PictureTopic
from idle_lantern.app.planning.topics.run import RunTopic
from idle_lantern.app.planning.topics.scouting import ScoutingTopic
from idle_lantern.app.planning.topics.sharpness import SharpnessTopic
from idle_lantern.app.planning.topics.support import SupportTopic
from idle_lantern.app.stages import plan_model as model
from idle_lantern.app.stages.base import Stage
from idle_lantern.app.tasks import Task
from idle_lantern.app.widgets.basics import button, column, form, label, panel, row, scrolled
from idle_lantern.app.widgets.judgement_list import JudgementList
from idle_lantern.app.widgets.no_plan import NoPlan
from idle_lantern.app.widgets.page_button import PageButton
from idle_lantern.app.widgets.quantity_edit import QuantityEdit
from idle_lantern.core.base.judgement import Judgement
from idle_lantern.core.outing import edits
from idle_lantern.core.plan.judge import judge
from idle_lantern.core.plan.remedies import REMEDIES
from idle_lantern.core.scouting.remarks import ScoutedFacts, facts_of, judge_scouted

JUDGING = "Judging the plan"
_JUDGE_AFTER_MS = 120
_MARGIN_PX, _SCROLL_BAR_PX = 10, 10


class PlanStage(Stage):
    """The evening before."""

    def __init__(self, context: AppContext) -> None:
        super().__init__(context)
        self.commands = PlanCommands(context, self)
        self.commands.gear_changed.connect(self._show_gear)
        self._to_judge, self._of_outing = True, ""
        # while an edge is dragged plans follow each other: only the one that stays is judged
        self._judge_soon = QTimer(self)
        self._judge_soon.setSingleShot(True)
        self._judge_soon.setInterval(_JUDGE_AFTER_MS)
        self._judge_soon.timeout.connect(self._judge)
        self.picture, self.overlap = PictureTopic(context, self.commands), OverlapTopic(context, self.commands)
        self.camera = CameraTopic(context, self.commands)
        self.scouting, self.foreseen = ScoutingTopic(context, self.commands), ForeseenTopic(context, self.commands)
        self.support, self.sharpness = SupportTopic(context, self.commands), SharpnessTopic(context, self.commands)
        self.exposure, self.light = ExposureTopic(context, self.commands), LightTopic(context, self.commands)
        self.run, self.cost, self.listing = (
            RunTopic(context, self.commands),
            CostTopic(context, self.commands),
            AnglesTopic(context, self.commands),
        )
        page: Topic
        self.topics: tuple[Topic, ...] = (
            self.picture,
            self.overlap,
            self.scouting,
            self.foreseen,
            self.camera,
            self.support,
            self.sharpness,
            self.exposure,
            self.light,
            self.run,
            self.cost,
            self.listing,
        )
        self.fields: dict[str, QuantityEdit] = {}
        for page in self.topics:
            for key, field in page.bound.numbers.items():
                self.fields.setdefault(key, field)
        self.pages = QStackedWidget()
        self.page_buttons: list[PageButton] = []
        pages_list = QVBoxLayout()
        pages_list.setSpacing(1)
        pages_list.setContentsMargins(0, 0, 0, 0)
        self.search = FieldSearch(context, self.topics, self.open_topic)
        pages_list.addWidget(self.search)
        for at, page in enumerate(self.topics):
            self.pages.addWidget(page)
            chooser = PageButton(page.title)
            chooser.clicked.connect(lambda _c=False, index=at: self.open_topic(index))
            self.page_buttons.append(chooser)
            pages_list.addWidget(chooser)
        pages_list.addStretch(1)

        self.count = label("", "big", name="plan-count")
        self.rows_text = label("", wrap=True)
        self.key_facts = {key: label("", "figure", name=f"fact-{key}") for key, _ in model.FACTS}
        results = form([(title, self.key_facts[key]) for key, title in model.FACTS])
        self.remarks = JudgementList(
            {key: (remedy.title, lambda k=key: self.commands.apply_remedy(k)) for key, remedy in REMEDIES.items()},  # type: ignore[misc]
            lambda key: self.state.apply(edits.put_aside(key, True)),
            lambda: self.state.apply(edits.bring_back_all()),
        )
        scroll = self._remarks_scroll = scrolled(self.remarks, "Remarks on the plan")
        go = button("Go shooting", lambda: context.ask("go.field"), main=True, name="go-field")
        takes = panel(column(self.count, self.rows_text, row(None, go), results, scroll), "results")

        layout = row(margin=_MARGIN_PX, space=theme.SPACE * 2)
        chooser_panel = scrolled(panel(pages_list, "pages-list"))
        chooser_panel.setObjectName("pages-scroll")
        layout.addWidget(chooser_panel)
        layout.addWidget(self.pages, 1)
        layout.addWidget(takes)
        self.desk = panel(layout, "ground")
        self.no_plan = NoPlan(
            "These are photographs, and no plan was made for them.",
            lambda: context.ask("go.frames"),
            lambda: context.ask("plan.make"),
        )
        self.setLayout(column(self.desk, self.no_plan, space=0))
        self.open_topic(0)
        self.state.changed.connect(self._refresh)
        self._refresh({"plan", "choices", "selection"})

    # --- pages ------------------------------------------------------------------

    def needed_height(self) -> int:
        """The height with which no page need be scrolled at the present width."""
        width = self.pages.width() - _SCROLL_BAR_PX
        pages = max(topic.blocks.height_for(width) for topic in self.topics)
        return max(pages, self._list_height()) + 2 * _MARGIN_PX

    def _list_height(self) -> int:
        """Height of the search and of the whole list of pages."""
        return self.search.sizeHint().height() + sum(chooser.sizeHint().height() + 1 for chooser in self.page_buttons)

    def make_plan(self) -> None:
        """Let an outing from photographs have a plan from now on."""
        self.state.apply(edits.make_plan_for_photographs())

    def open_topic(self, index: int) -> None:
        """Show one of the pages."""
        index %= len(self.topics)
        self.pages.setCurrentIndex(index)
        for i, chooser in enumerate(self.page_buttons):
            chooser.show_chosen(i == index)
        self.topics[index].show_plan(self.state.plan)
        if index == len(self.topics) - 1:
            self.listing.show_selection(self.state.selected)

    def show_page(self, page: Topic) -> None:
        """Show a page, wherever it stands in the list."""
        self.open_topic(self.topics.index(page))

    def reveal(self, key: str) -> QuantityEdit:
        """Open the page that shows a field."""
        for i, page in enumerate(self.topics):
            if key in page.bound.numbers and not page.bound.numbers[key].isHidden():
                self.open_topic(i)
                return page.bound.numbers[key]
        raise KeyError(key)

    def next_topic(self, step: int) -> None:
        """The page after, or before."""
        self.open_topic(self.pages.currentIndex() + step)

    def show_map_menu(self, at: QPoint, azimuth_deg: float, altitude_deg: float) -> None:
        """The map's menu about a direction."""
        menu = map_menu(self.commands.scouting, self, azimuth_deg, altitude_deg)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(at)

    def _show_gear(self) -> None:
        self.camera.show_gear()
        self.support.show_gear()
        self._refresh({"plan"})

    # --- showing ----------------------------------------------------------------

    def _refresh(self, topics: set[str]) -> None:
        plan = self.state.plan
        self.desk.setVisible(self.state.outing.shows_plan)
        self.no_plan.setVisible(not self.state.outing.shows_plan)
        if topics & {"plan", "scouts"}:
            self.topics[self.pages.currentIndex()].show_plan(plan)
            for chooser, page in zip(self.page_buttons, self.topics):
                chooser.show_state(page.summary(plan))
            self._show_results()
        if topics & {"plan", "scouts"}:
            self._to_judge = True
            self._judge_soon.start()
        elif "judgements" in topics:
            self.topics[self.pages.currentIndex()].show_plan(plan)
        if topics & {"plan", "judgements", "choices"}:
            self._show_remarks()
        if topics & {"selection", "plan"} and self.pages.currentWidget() is self.listing:
            self.listing.show_selection(self.state.selected)

    @property
    def judged(self) -> bool:
        """Whether what is told of the plan is true of the present one, or nobody looks at it."""
        return not self.isVisible() or (self.state.judgements is not None and not self._to_judge)

    def showEvent(self, event: Any) -> None:
        """What changed while another stage was looked at is judged now."""
        if self._to_judge:
            self._judge_soon.start()
        super().showEvent(event)

    def _judge(self) -> None:
        """Have the plan judged off the thread, once somebody looks at it."""
        if not self.isVisible():
            return
        self._to_judge = False
        plan, scouts = self.state.plan, self.state.outing.scouts

        def done(found: tuple[tuple[Judgement, ...], ScoutedFacts]) -> None:
            self.state.take_judgements(plan, *found)

        def work(_task: Task) -> tuple[tuple[Judgement, ...], ScoutedFacts]:
            _ = plan.crop, plan.hole_chance  # shown beside the judgements, and as slow
            facts = facts_of(plan, scouts)
            all_ = (*judge(plan), *judge_scouted(plan, scouts, facts))
            return tuple(sorted(all_, key=lambda j: -j.severity)), facts

        self.context.start(JUDGING, work, done, lambda e: self.context.tell(e.sentence), quiet=True)

    def _show_remarks(self) -> None:
        # remarks on the plan before stand there grey until the present one is judged; another outing's do not
        self.remarks.setEnabled(self.state.judgements is not None)
        if self.state.judgements is None:
            if self._of_outing != self.state.outing.id:
                self.remarks.show_judgements((), (), "Looking at the plan …")
            self._of_outing = self.state.outing.id
            return
        self.remarks.show_judgements(self.state.judgements, self.state.outing.put_aside, model.ALL_WELL)
        bar = self._remarks_scroll.verticalScrollBar()
        if bar is not None:  # the heaviest comes first and is to be seen first
            bar.setValue(0)

    def _show_results(self) -> None:
        plan = self.state.plan
        self.count.setText(model.count(plan))
        self.rows_text.setText(model.rows(plan))
        for key, text in model.facts(plan).items():
            self.key_facts[key].setText(text)
