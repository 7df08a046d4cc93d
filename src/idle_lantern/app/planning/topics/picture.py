"""The handful that matters for a kind of picture, with a drawing of what it means; all other pages go deeper."""

from __future__ import annotations

from idle_lantern.app import words
from idle_lantern.app.planning.brief_binding import narrow
from idle_lantern.app.planning.drawings import FieldDrawing
from idle_lantern.app.planning.topics.base import Topic
from idle_lantern.app.planning.topics.quantities import COUNT, DEG, METRES, MM, SHARE, mm_or_none, or_needed
from idle_lantern.app.widgets.basics import button, column, form, row
from idle_lantern.app.widgets.blocks import Blocks
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.core.base import units
from idle_lantern.core.outing import edits
from idle_lantern.core.plan.kinds import KINDS, kind_of
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.plan.target_field import AS_NEEDED


class PictureTopic(Topic):
    """The kind of picture, and the six figures that it asks for first."""

    title = "Picture"

    def build(self, box: Blocks) -> None:
        self.kind = Chooser()
        self.kind.setAccessibleName("Kind of picture")
        self.kind.setObjectName("choice-kind")
        narrow(self.kind)
        for i, k in enumerate(KINDS):
            self.kind.addItem(k.title, k.id)
            self.kind.setItemData(i, k.reason, 3)
        self.kind.activated.connect(self._start_kind)
        n, b = self.bound.number, self.bound
        lenses = [(model, title, "") for model, title in words.LENSES.items()]
        fields = form(
            [
                ("Kind of picture", self.kind),
                ("Lens kind", b.choice("rig", "lens_model", "Lens kind", lenses)),
                ("Focal length", n("rig", "focal_mm", "Focal length", *MM)),
                ("Lens shift", n("rig", "shift_mm", "Lens shift", *MM)),
                ("Left end", n("target_field", "left_deg", "Left end", *DEG)),
                ("Right end", n("target_field", "right_deg", "Right end", *DEG)),
                ("Lower edge", n("target_field", "low_deg", "Lower edge", *DEG)),
                ("Upper edge", n("target_field", "high_deg", "Upper edge", *DEG)),
                ("Overlap", n("target_field", "overlap", "Overlap", *SHARE, step=0.05)),
                ("Nearest thing", n("scene", "near_m", "Nearest thing", *METRES)),
                ("Subject", n("scene", "subject_m", "Subject", *METRES)),
                ("Print, longer", n("target", "print_mm", "Print", units.parse_length_mm, mm_or_none, step=100)),
                (
                    "At the zenith",
                    n("target_field", "zenith_frames", "Zenith frames", *or_needed(AS_NEEDED), whole=True),
                ),
                ("At the nadir", n("target_field", "nadir_frames", "Nadir frames", *or_needed(AS_NEEDED), whole=True)),
                ("Exposures each", n("rig", "exposures_each", "Exposures for one frame", *COUNT, whole=True)),
                ("Bracket of", n("exposure", "bracket_count", "Exposures of a bracket", *COUNT, whole=True)),
            ]
        )
        whole = row(
            button("Full circle", self.commands.full_circle, name="full-circle"),
            button("Full sphere", self.commands.full_sphere, name="full-sphere"),
            None,
        )
        box.add(column(fields, whole, None))
        box.add(
            column(
                self.drawing(FieldDrawing("What the field and the frames are", 250)),
                self.told(lambda p: kind_of(p.brief.kind).reason, "kind-reason"),
                None,
            ),
            columns=2,
        )

    def summary(self, plan: Plan) -> str:
        w = plan.target_field
        return f"{units.angle(w.sweep_deg, 0)} × {units.angle(w.high_deg - w.low_deg, 0)}, {plan.rig.focal_mm:g} mm"

    def show_plan(self, plan: Plan) -> None:
        kind = kind_of(plan.brief.kind)
        for key in (*self.bound.numbers, *self.bound.choices):
            self.show_rows([key], key in kind.asks)
        super().show_plan(plan)
        self.kind.setCurrentIndex(self.kind.findData(kind.id))

    def _start_kind(self, index: int) -> None:
        kind = kind_of(self.kind.itemData(index))
        self.state.apply(edits.change_brief(f"Start from: {kind.title}", kind.start))
