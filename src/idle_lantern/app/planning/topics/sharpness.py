"""Depth, diffraction, blur."""

from __future__ import annotations

from idle_lantern.app.planning.drawings import DepthDrawing
from idle_lantern.app.planning.topics.base import Topic
from idle_lantern.app.planning.topics.quantities import (
    METRES,
    f_number,
)
from idle_lantern.app.widgets.basics import button, column, form, row
from idle_lantern.app.widgets.blocks import Blocks
from idle_lantern.core.base import units
from idle_lantern.core.plan.planner import Plan


class SharpnessTopic(Topic):
    """Depth, diffraction, blur, and the single shot the grid is like."""

    title = "Sharpness"

    def build(self, box: Blocks) -> None:
        n, b = self.bound.number, self.bound
        schools = [
            ("own", "as typed", ""),
            ("sharpest", "sharpest", "f/8 to f/11: past the weak corners, before diffraction"),
            ("depth", "for the depth", "no further than the nearest and farthest thing ask"),
            ("open", "wide open", "a long fast lens round a subject"),
            ("star", "sun star", "f/18, softens a little by diffraction"),
        ]
        box.add(
            column(
                form(
                    [
                        ("Nearest thing", n("scene", "near_m", "Nearest thing", *METRES)),
                        ("Farthest thing", n("scene", "far_m", "Farthest thing", *METRES)),
                        ("Subject", n("scene", "subject_m", "Subject", units.parse_distance_m, _or_none)),
                        ("Background", n("scene", "background_m", "Background", *METRES)),
                        ("Aperture", b.choice("exposure", "aperture_school", "Aperture school", schools)),
                        ("Own aperture", n("exposure", "aperture", "Aperture", units.parse_aperture, f_number)),
                        ("Focus at", n("exposure", "focus_m", "Focus", units.parse_distance_m, _by_itself)),
                    ]
                ),
                None,
            ),
        )
        left = self.facts(
            ("Aperture", "aperture", lambda p: f_number(p.sharpness.aperture)),
            ("Focus", "focus", lambda p: units.distance(p.sharpness.focus_m)),
            ("Hyperfocal", "hyperfocal", lambda p: units.distance(p.sharpness.hyperfocal_m)),
            ("Confusion circle", "coc", lambda p: f"{p.sharpness.coc_mm * 1000:.1f} µm"),
            ("For the depth", "needed", lambda p: f_number(round(p.sharpness.needed_aperture, 1))),
            ("Diffraction disc", "airy", lambda p: f"{p.sharpness.airy_px:.1f} px"),
        )
        right = self.facts(
            ("Blur, nearest", "near-blur", lambda p: f"{p.sharpness.near_blur_px:.1f} px"),
            ("Blur, farthest", "far-blur", lambda p: f"{p.sharpness.far_blur_px:.1f} px"),
            ("Background", "background-blur", self._background),
            ("Blur, corner", "corner-blur", lambda p: f"{p.sharpness.corner_blur_px:.1f} px"),
            ("Equivalent lens", "single", self._single),
            (
                "Wide lens for all",
                "wide",
                lambda p: f"{p.single.same_camera_mm:.0f} mm" if p.single else "no flat lens",
            ),
        )
        self.preview = button("Preview of the blur …", self.commands.preview_blur, name="preview-blur")
        box.add(
            column(
                self.drawing(DepthDrawing("What is sharp", 118)),
                row(self.told(self._reason, "aperture-reason"), self.preview),
                None,
            ),
            2,
        )
        box.add(left)
        box.add(right)

    def _reason(self, plan: Plan) -> str:
        return f"{plan.sharpness.reason} Confusion circle by {plan.sharpness.coc_from}; one frame as on 36 × 24 mm."

    def _background(self, plan: Plan) -> str:
        blur = plan.sharpness.background_blur_px
        return f"{blur:.0f} px, {units.share(blur / max(1, plan.size.height_px), 1)} high"

    def _single(self, plan: Plan) -> str:
        single = plan.single
        return f"{single.focal_mm:.0f} mm f/{single.aperture:.2g}" if single else "no flat lens"

    def summary(self, plan: Plan) -> str:
        return f"f/{plan.sharpness.aperture:g}, focus {units.distance(plan.sharpness.focus_m)}"


def _or_none(value: float) -> str:
    return "none" if value == 0 else units.distance(value)


def _by_itself(value: float) -> str:
    return "by itself" if value == 0 else units.distance(value)
