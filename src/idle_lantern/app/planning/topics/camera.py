"""Camera and lens."""

from __future__ import annotations

from idle_lantern.app import words
from idle_lantern.app.planning.brief_binding import narrow, number_with, plain
from idle_lantern.app.planning.topics.base import Topic
from idle_lantern.app.planning.topics.quantities import (
    COUNT,
    MM,
    STOPS,
    f_number,
    or_unknown,
    pixels,
)
from idle_lantern.app.widgets.basics import button, column, form, row
from idle_lantern.app.widgets.blocks import Blocks
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.core.base import units
from idle_lantern.core.plan.planner import Plan


class CameraTopic(Topic):
    """Camera and lens, from the gear library or by hand."""

    title = "Camera"

    def build(self, box: Blocks) -> None:
        n, b = self.bound.number, self.bound
        self.camera, self.lens = Chooser(), Chooser()
        for kind, choice in (("camera", self.camera), ("lens", self.lens)):
            choice.setAccessibleName(f"{kind} of the gear library")
            choice.setObjectName(f"gear-{kind}")
            narrow(choice, 13)
            choice.activated.connect(lambda i, k=kind, c=choice: self.commands.take_gear(k, c.itemData(i)))
        kinds = [(model, title, "") for model, title in words.LENSES.items()]
        motions = [
            ("turn", "camera turns", ""),
            ("lens-shift", "lens shifts", ""),
            ("two-lens", "two lenses", "back to back, at once"),
        ]
        box.add(
            column(
                form(
                    [
                        ("Camera", self.camera),
                        ("Lens", self.lens),
                        (
                            "Orientation",
                            b.choice("rig", "upright", "Held", [(True, "upright", ""), (False, "sideways", "")]),
                        ),
                        ("Focal length", n("rig", "focal_mm", "Focal length", *MM)),
                        ("Lens kind", b.choice("rig", "lens_model", "Lens kind", kinds)),
                        ("Moves", b.choice("rig", "motion", "Motion", motions)),
                    ]
                ),
                row(button("Gear library …   [Ctrl + G]", self.commands.open_gear, name="open-gear"), None),
                row(button("Fill from a frame …", self.commands.fill_from_frame, name="fill-gear"), None),
                None,
            ),
        )
        box.add(
            column(
                form(
                    [
                        ("Sensor width", n("rig", "sensor_width_mm", "Sensor width", *MM)),
                        ("Sensor height", n("rig", "sensor_height_mm", "Sensor height", *MM)),
                        (
                            "Pixels across",
                            n("rig", "width_px", "Pixels across", pixels, units.grouped, step=100, whole=True),
                        ),
                        ("Pixels up", n("rig", "height_px", "Pixels up", pixels, units.grouped, step=100, whole=True)),
                        ("Exposures each", n("rig", "exposures_each", "Exposures for one frame", *COUNT, whole=True)),
                        (
                            "File size",
                            n("rig", "raw_mb", "File of one exposure", number_with("MB", "28"), plain(4, "MB")),
                        ),
                    ]
                ),
                None,
            ),
        )
        box.add(
            column(
                form(
                    [
                        (
                            "Widest aperture",
                            n("rig", "widest_aperture", "Widest aperture", units.parse_aperture, f_number),
                        ),
                        (
                            "Narrowest",
                            n("rig", "narrowest_aperture", "Narrowest aperture", units.parse_aperture, f_number),
                        ),
                        (
                            "Image circle",
                            n("rig", "image_circle_mm", "Image circle", units.parse_length_mm, or_unknown),
                        ),
                        ("Lens shift", n("rig", "shift_mm", "Lens shift", *MM)),
                        ("Corner loss", n("rig", "corner_loss_stops", "Light lost in the corners", *STOPS, step=0.1)),
                        ("Sensor's range", n("rig", "range_stops", "Sensor's range", *STOPS, step=0.5)),
                    ]
                ),
                self.facts(
                    (
                        "Field of view",
                        "field",
                        lambda p: " × ".join(units.angle(v * 57.29578) for v in p.rig.lens().field_rad()),
                    ),
                    ("Crop factor", "factor", lambda p: f"{p.rig.crop_factor:.2f}"),
                ),
                None,
            ),
        )
        self.show_gear()

    def show_gear(self) -> None:
        """Fill the lists from the library."""
        for kind, choice in (("camera", self.camera), ("lens", self.lens)):
            choice.clear()
            choice.addItem("as typed", None)
            for entry in self.commands.gear_entries(kind):
                choice.addItem(entry.name, entry.name)

    def summary(self, plan: Plan) -> str:
        return f"{plan.rig.focal_mm:g} mm, {'upright' if plan.rig.upright else 'sideways'}"

    def show_plan(self, plan: Plan) -> None:
        super().show_plan(plan)
        for choice, name in ((self.camera, plan.rig.camera), (self.lens, plan.rig.lens_name)):
            choice.setCurrentIndex(max(0, choice.findData(name)))
