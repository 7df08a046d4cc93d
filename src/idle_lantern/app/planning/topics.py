"""The pages of the Plan stage, one class each: fields on the left, what follows on the right."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from idle_lantern.app import theme
from idle_lantern.app.planning.bound import FIELD_PX, Bound, narrow, number_with, plain
from idle_lantern.app.planning.drawings import DepthDrawing, Drawing, PupilDrawing, SunDrawing
from idle_lantern.app.widgets.basics import button, column, form, label, row
from idle_lantern.app.widgets.quantity_edit import QuantityEdit
from idle_lantern.core.base import units
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.gear.entries import LensEntry
from idle_lantern.core.geometry.lenses import MODELS
from idle_lantern.core.outing import edits
from idle_lantern.core.plan.brief import OVERLAP_SCHOOLS
from idle_lantern.core.plan.cost import cards_needed
from idle_lantern.core.plan.kinds import KINDS, kind_of
from idle_lantern.core.plan.light import filter_factor
from idle_lantern.core.plan.order import REASONS
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.plan.size import (
    USUAL_DPI,
    focal_for_pixels,
    focal_for_px_per_degree,
    largest_sheet,
    unfit_formats,
)
from idle_lantern.core.plan.sun import day, lit_from

if TYPE_CHECKING:
    from idle_lantern.app.stages.plan import PlanStage

_mm = (units.parse_length_mm, plain(6, "mm"))
_deg = (units.parse_angle_deg, units.angle)
_share = (units.parse_share, units.share)
_count = (number_with("", "2"), plain(6))
_stops = (number_with("stops", "3"), plain(3, "stops"))
_seconds = (units.parse_time_s, plain(4, "s"))
_metres = (units.parse_distance_m, units.distance)


def _pixels(text: str) -> float:
    return float(round(units.parse_number(text.replace("px", "").replace("\u202f", ""), "a number of pixels", "6000")))


class Topic(QWidget):
    """One page. ``summary`` is its state in a few words, shown in the list of pages."""

    title = ""

    def __init__(self, stage: PlanStage) -> None:
        super().__init__()
        self.stage, self.state = stage, stage.state
        self.bound = Bound(stage.state, stage.window_.message_text)
        self._facts: list[tuple[QLabel, Callable[[Plan], str]]] = []
        self._drawings: list[Drawing] = []
        box = QHBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(theme.SPACE * 2)
        self.build(box)

    def build(self, box: QHBoxLayout) -> None:
        """Make the page."""
        raise NotImplementedError

    def summary(self, plan: Plan) -> str:
        """A few words for the list of pages."""
        raise NotImplementedError

    def show_plan(self, plan: Plan) -> None:
        """Show another plan."""
        self.bound.show(plan.brief)
        for target, tell in self._facts:
            text = tell(plan)
            if target.text() != text:
                target.setText(text)
        for drawing in self._drawings:
            drawing.show_plan(plan)

    # --- parts of a page --------------------------------------------------------

    def facts(self, *rows: tuple[str, str, Callable[[Plan], str]]) -> QVBoxLayout:
        """Names and figures that follow from the plan; each figure's label is ``fact-<id>``."""
        made: list[tuple[str, QWidget]] = []
        for name, fact_id, tell in rows:
            figure = label("", "figure", name=f"fact-{fact_id}")
            self._facts.append((figure, tell))
            made.append((name, figure))
        result: QVBoxLayout = column(form(made))
        return result

    def told(self, tell: Callable[[Plan], str], name: str = "", role: str = "dim") -> QLabel:
        """A sentence that follows from the plan."""
        sentence = label("", role, wrap=True, name=name)
        self._facts.append((sentence, tell))
        return sentence

    def drawing(self, drawing: Drawing) -> Drawing:
        """A drawing that follows from the plan."""
        self._drawings.append(drawing)
        return drawing


class PictureTopic(Topic):
    """What the picture shows, from a kind of picture or by hand, or backwards from a print."""

    title = "Picture"

    def build(self, box: QHBoxLayout) -> None:
        self.kind = QComboBox()
        self.kind.setAccessibleName("Kind of picture")
        self.kind.setObjectName("choice-kind")
        narrow(self.kind)
        for i, k in enumerate(KINDS):
            self.kind.addItem(k.title, k.id)
            self.kind.setItemData(i, k.reason, 3)
        self.kind.activated.connect(self._start_kind)
        n, b = self.bound.number, self.bound
        field = form(
            [
                ("Kind of picture", self.kind),
                ("Left end", n("wish", "left_deg", "Left end", *_deg)),
                ("Right end", n("wish", "right_deg", "Right end", *_deg)),
                ("Lower edge", n("wish", "low_deg", "Lower edge", *_deg)),
                ("Upper edge", n("wish", "high_deg", "Upper edge", *_deg)),
            ]
        )
        whole = row(
            button("Full circle", self.stage.full_circle, name="full-circle"),
            button("Full sphere", self.stage.full_sphere, name="full-sphere"),
            None,
        )
        box.addLayout(column(field, whole, self.told(lambda p: kind_of(p.brief.kind).reason, "kind-reason"), None), 3)
        self.school = QComboBox()
        self.school.setAccessibleName("Overlap by school")
        narrow(self.school, 18)
        self.school.addItem("overlap by school …")
        for key, text in (
            ("quick", "15 %: quick, long lens"),
            ("long", "20 %: long lens, firm tripod"),
            ("third", "one third: the usual default"),
            ("thrice", "40 %: each thing in three frames"),
            ("half", "50 %: only the sharp middle is used"),
        ):
            self.school.addItem(text, OVERLAP_SCHOOLS[key])
        self.school.activated.connect(self._take_school)
        grid = form(
            [
                ("Overlap", n("wish", "overlap", "Overlap", *_share, step=0.05)),
                (
                    "between rows",
                    n("wish", "overlap_rows", "Overlap between rows", units.parse_share, _same_or_share, step=0.05),
                ),
                ("Crop reserve", n("wish", "reserve", "Reserve for the crop", *_share, step=0.05)),
                ("Beyond each end", n("wish", "spare_ends", "Frames beyond each end", *_count, whole=True)),
                ("At the zenith", n("wish", "zenith_frames", "Zenith frames", *_count, whole=True)),
                ("At the nadir", n("wish", "nadir_frames", "Nadir frames", *_count, whole=True)),
            ]
        )
        loss = self.facts(("Crop will cost", "crop", lambda p: f"about {units.share(p.crop.expected)}"))
        box.addLayout(column(grid, self.school, loss, None), 3)
        b.number("target", "print_mm", "Print", units.parse_length_mm, _none_or_mm, step=100)
        b.number("target", "dpi", "Resolution", number_with("dpi", "240"), plain(4, "dpi"), step=10)
        b.number("target", "viewing_m", "Seen from", *_metres, step=0.5)
        back = form(
            [(t, b.numbers[k]) for t, k in (("Print, longer", "print_mm"), ("at", "dpi"), ("seen from", "viewing_m"))]
        )
        self.wanted = [
            button("", self._use_print, name="use-print"),
            button("", self._use_megapixels, name="use-megapixels"),
            button("", self._use_density, name="use-density"),
        ]
        self.megapixels = plain_number("Megapixels", 100, self._show_wanted, "field-megapixels")
        self.density = plain_number("Pixels per degree", 60, self._show_wanted, "field-density")
        more = form([("Megapixels", self.megapixels), ("Pixels per °", self.density)])
        box.addLayout(
            column(label("Backwards from what is wanted"), back, self.wanted[0], more, row(*self.wanted[1:]), None), 3
        )

    def summary(self, plan: Plan) -> str:
        w = plan.wish
        return f"{units.angle(w.sweep_deg, 0)} × {units.angle(w.high_deg - w.low_deg, 0)}, {units.share(w.overlap)}"

    def show_plan(self, plan: Plan) -> None:
        super().show_plan(plan)
        self.kind.setCurrentIndex(self.kind.findData(kind_of(plan.brief.kind).id))
        self._show_wanted()

    def _start_kind(self, index: int) -> None:
        kind = kind_of(self.kind.itemData(index))
        self.state.apply(edits.set_brief(f"Start from: {kind.title}", kind.start(self.state.outing.brief)))

    def _take_school(self, index: int) -> None:
        value = self.school.itemData(index)
        if value is not None:
            self.state.apply(edits.set_wish("Change the overlap", overlap=float(value)))
        self.school.setCurrentIndex(0)

    def _focal_lengths(self) -> tuple[float, float, float]:
        plan = self.state.plan
        t, s = plan.brief.target, plan.size
        by_print = plan.rig.focal_mm * (t.print_mm / 25.4 * t.dpi) / max(s.width_px, s.height_px, 1)
        return (
            by_print,
            focal_for_pixels(plan.rig, plan.wish, max(0.1, self.megapixels.value) * 1e6),
            focal_for_px_per_degree(plan.rig, max(0.1, self.density.value)),
        )

    def _show_wanted(self, *_: object) -> None:
        needs = self._focal_lengths()
        names = ("this print", "so many megapixels", "that density")
        for made, focal, name in zip(self.wanted, needs, names):
            fits = 1 <= focal <= 3000
            made.setEnabled(fits)
            made.setText(
                f"Use {focal:.0f} mm" if fits else "no print wanted" if made is self.wanted[0] else "out of reach"
            )
            made.setAccessibleName(f"Use {focal:.0f} mm for {name}")

    def _use(self, which: int) -> None:
        self.state.apply(edits.set_rig("Take that focal length", focal_mm=round(self._focal_lengths()[which], 1)))

    def _use_print(self) -> None:
        self._use(0)

    def _use_megapixels(self) -> None:
        self._use(1)

    def _use_density(self) -> None:
        self._use(2)


def _none_or_mm(value: float) -> str:
    return "none" if value == 0 else f"{value:g} mm"


def _same_or_share(value: float) -> str:
    return "the same" if value == 0 else units.share(value)


def plain_number(name: str, value: float, use: Callable[[], object], object_name: str) -> QuantityEdit:
    """A number that belongs to the page and not to the brief."""
    field = QuantityEdit(name, units.parse_number, plain(5))
    field.setFixedWidth(FIELD_PX)
    field.setObjectName(object_name)
    field.show_value(value)

    def take(new: float) -> None:
        field.show_value(max(0.1, new))
        use()

    field.submitted.connect(take)
    return field


class CameraTopic(Topic):
    """Camera and lens, from the gear library or by hand."""

    title = "Camera"

    def build(self, box: QHBoxLayout) -> None:
        n, b = self.bound.number, self.bound
        self.camera, self.lens = QComboBox(), QComboBox()
        for kind, choice in (("camera", self.camera), ("lens", self.lens)):
            choice.setAccessibleName(f"{kind} of the gear library")
            choice.setObjectName(f"gear-{kind}")
            narrow(choice, 13)
            choice.activated.connect(lambda i, k=kind, c=choice: self.stage.take_gear(k, c.itemData(i)))
        kinds = [(m, m if m == "rectilinear" else f"{m} fisheye", "") for m in MODELS]
        motions = [
            ("turn", "the camera turns", ""),
            ("lens-shift", "the lens shifts", ""),
            ("two-lens", "two lenses back to back", ""),
        ]
        box.addLayout(
            column(
                form(
                    [
                        ("Camera", self.camera),
                        ("Lens", self.lens),
                        ("Held", b.choice("rig", "upright", "Held", [(True, "upright", ""), (False, "sideways", "")])),
                        ("Focal length", n("rig", "focal_mm", "Focal length", *_mm)),
                        ("Lens kind", b.choice("rig", "lens_model", "Lens kind", kinds)),
                        ("Reach by", b.choice("rig", "motion", "Motion", motions)),
                    ]
                ),
                row(button("Gear library …   [Ctrl + G]", self.stage.open_gear, name="open-gear"), None),
                row(button("Fill from a frame …", self.stage.fill_from_frame, name="fill-gear"), None),
                None,
            ),
            3,
        )
        box.addLayout(
            column(
                form(
                    [
                        ("Sensor width", n("rig", "sensor_width_mm", "Sensor width", *_mm)),
                        ("Sensor height", n("rig", "sensor_height_mm", "Sensor height", *_mm)),
                        (
                            "Pixels across",
                            n("rig", "width_px", "Pixels across", _pixels, units.grouped, step=100, whole=True),
                        ),
                        ("Pixels up", n("rig", "height_px", "Pixels up", _pixels, units.grouped, step=100, whole=True)),
                        ("Exposures each", n("rig", "exposures_each", "Exposures for one frame", *_count, whole=True)),
                        (
                            "File of one",
                            n("rig", "raw_mb", "File of one exposure", number_with("MB", "28"), plain(4, "MB")),
                        ),
                    ]
                ),
                None,
            ),
            2,
        )
        box.addLayout(
            column(
                form(
                    [
                        ("Widest aperture", n("rig", "widest_aperture", "Widest aperture", units.parse_aperture, _f)),
                        ("Narrowest", n("rig", "narrowest_aperture", "Narrowest aperture", units.parse_aperture, _f)),
                        (
                            "Image circle",
                            n("rig", "image_circle_mm", "Image circle", units.parse_length_mm, _or_unknown),
                        ),
                        ("Lens shift", n("rig", "shift_mm", "Lens shift", *_mm)),
                        ("Corner loss", n("rig", "corner_loss_stops", "Light lost in the corners", *_stops, step=0.1)),
                        ("Sensor's range", n("rig", "range_stops", "Sensor's range", *_stops, step=0.5)),
                    ]
                ),
                self.facts(
                    (
                        "One frame sees",
                        "field",
                        lambda p: " × ".join(units.angle(v * 57.29578) for v in p.rig.lens().field_rad()),
                    ),
                    ("Crop factor", "factor", lambda p: f"{p.rig.crop_factor:.2f}"),
                ),
                None,
            ),
            2,
        )
        self.show_gear()

    def show_gear(self) -> None:
        """Fill the lists from the library."""
        for kind, choice in (("camera", self.camera), ("lens", self.lens)):
            choice.clear()
            choice.addItem("as typed", None)
            for entry in self.stage.gear_entries(kind):
                choice.addItem(entry.name, entry.name)

    def summary(self, plan: Plan) -> str:
        return f"{plan.rig.focal_mm:g} mm, {'upright' if plan.rig.upright else 'sideways'}"

    def show_plan(self, plan: Plan) -> None:
        super().show_plan(plan)
        for choice, name in ((self.camera, plan.rig.camera), (self.lens, plan.rig.lens_name)):
            choice.setCurrentIndex(max(0, choice.findData(name)))


def _f(value: float) -> str:
    return f"f/{value:g}"


def _or_unknown(value: float) -> str:
    return "unknown" if value == 0 else f"{value:g} mm"


class SupportTopic(Topic):
    """What holds the camera, its stops and scale, and the no-parallax point."""

    title = "Support and pupil"

    def build(self, box: QHBoxLayout) -> None:
        n, b = self.bound.number, self.bound
        self.head = QComboBox()
        self.head.setAccessibleName("head of the gear library")
        self.head.setObjectName("gear-head")
        narrow(self.head)
        self.head.activated.connect(lambda i: self.stage.take_gear("head", self.head.itemData(i)))
        kinds = [
            ("head", "panoramic head", "turns about the lens's no-parallax point"),
            ("tripod", "tripod, ball head", "turns about the tripod screw"),
            ("hand", "held by hand", "enough today for wide lenses and far scenes, say some"),
            ("air", "hovering", "pointed by remote"),
        ]
        ways = [(True, "grow to the right", ""), (False, "grow to the left", "")]
        stops = (units.parse_angle_deg, lambda v: "none" if v == 0 else units.angle(v))
        box.addLayout(
            column(
                form(
                    [
                        ("From the library", self.head),
                        ("Support", b.choice("support", "kind", "Support", kinds)),
                        ("Stops of the head", n("support", "step_deg", "Stops of the head", *stops)),
                        ("Stops of the tilt", n("support", "tilt_step_deg", "Stops of the tilt", *stops)),
                        ("Scale at yaw 0", n("support", "scale_start_deg", "Scale at yaw 0", *_deg)),
                        ("Scale numbers", b.choice("support", "scale_clockwise", "Scale numbers", ways)),
                        ("Tilts from", n("support", "tilt_low_deg", "Lowest tilt", *_deg)),
                        ("to", n("support", "tilt_high_deg", "Highest tilt", *_deg)),
                        (
                            "Legs weigh",
                            n("support", "legs_kg", "Weight of the legs", number_with("kg", "2"), _kg_or_unknown),
                        ),
                    ]
                ),
                None,
            ),
            2,
        )
        fields = form(
            [
                ("Axis off the pupil", n("support", "pupil_off_mm", "Axis off the pupil", *_mm, step=5)),
                ("Rail setting", n("rig", "rail_mm", "Rail setting", units.parse_length_mm, _or_unknown)),
                ("known within", n("rig", "rail_doubt_mm", "Doubt of the rail setting", *_mm)),
            ]
        )
        errors = form(
            [
                ("Base leans", n("support", "base_tilt_deg", "Lean of the base", *_deg, step=0.1)),
                (
                    "Pointing errs by",
                    n("support", "pointing_deg", "Pointing error", units.parse_angle_deg, _usual_or_angle, step=0.1),
                ),
                ("Nearest thing", n("scene", "near_m", "Nearest thing", *_metres)),
            ]
        )
        right = column(
            row(fields, errors),
            self.drawing(PupilDrawing("What a wrong pupil setting shows", 136)),
            self.told(self._tell_pupil, "fact-pupil", ""),
            row(self.told(self._tell_rail, "fact-rail"), button("Take it", self._take_rail, name="take-rail")),
            None,
        )
        box.addLayout(right, 4)
        self.show_gear()

    def show_gear(self) -> None:
        """Fill the list from the library."""
        self.head.clear()
        self.head.addItem("choose …", None)
        for entry in self.stage.gear_entries("head"):
            self.head.addItem(entry.name, entry.name)

    def _rail(self, plan: Plan) -> tuple[float, float] | None:
        """What the library knows of the rail for the lens and focal length in use."""
        entry = next((e for e in self.stage.gear_entries("lens") if e.name == plan.rig.lens_name), None)
        return entry.facts.rail_at(plan.rig.focal_mm) if entry and isinstance(entry.facts, LensEntry) else None

    def _tell_rail(self, plan: Plan) -> str:
        known = self._rail(plan)
        take = self.findChild(QPushButton, "take-rail")
        if take is not None:
            take.setVisible(known is not None)
        if known is None:
            return "" if not plan.rig.lens_name else f"The gear library has no rail setting for {plan.rig.lens_name}."
        return f"By the gear library for {plan.rig.focal_mm:g} mm: {known[0]:.0f} mm, known within {known[1]:.1f} mm."

    def _take_rail(self) -> None:
        known = self._rail(self.state.plan)
        if known is not None:
            self.state.apply(
                edits.set_rig("Take the rail setting", rail_mm=round(known[0], 1), rail_doubt_mm=round(known[1], 1))
            )

    def _tell_pupil(self, plan: Plan) -> str:
        p = plan.pupil
        if plan.rig.motion != "turn":
            return "Nothing turns: the pupil stays where it is."
        chance = plan.hole_chance
        hole = "" if chance is None else f" Pointed like this, {units.share(chance)} of tried runs leave a hole."
        if p.tolerance_mm > 1000:
            return f"Far scene: the axis may stand anywhere near the camera.{hole}"
        return (
            f"Turning by {units.angle(p.step_deg)} with things {units.distance(p.near_m)} away, the axis must stand within "
            f"{p.tolerance_mm:.0f} mm of the no-parallax point for at most {p.allowed_px:g} px.{hole}"
        )

    def summary(self, plan: Plan) -> str:
        t = plan.pupil.tolerance_mm
        return f"{plan.brief.support.kind}, " + (f"± {t:.0f} mm" if t < 1000 else "pupil free")


def _kg_or_unknown(value: float) -> str:
    return "unknown" if value == 0 else f"{value:g} kg"


def _usual_or_angle(value: float) -> str:
    return "as usual" if value == 0 else units.angle(value)


class SharpnessTopic(Topic):
    """Depth, diffraction, blur, and the single shot the grid is like."""

    title = "Sharpness"

    def build(self, box: QHBoxLayout) -> None:
        n, b = self.bound.number, self.bound
        schools = [
            ("own", "as typed", ""),
            ("sharpest", "sharpest: f/8 to f/11", "past the weak corners, before diffraction"),
            ("depth", "as far as the depth needs", "no further than the nearest and farthest thing ask"),
            ("open", "wide open: shallow", "a long fast lens round a subject"),
            ("star", "f/18 for a sun star", "softens a little by diffraction"),
        ]
        box.addLayout(
            column(
                form(
                    [
                        ("Nearest thing", n("scene", "near_m", "Nearest thing", *_metres)),
                        ("Farthest thing", n("scene", "far_m", "Farthest thing", *_metres)),
                        ("Subject", n("scene", "subject_m", "Subject", units.parse_distance_m, _or_none)),
                        ("Background", n("scene", "background_m", "Background", *_metres)),
                        ("Aperture", narrow(b.choice("exposure", "aperture_school", "Aperture school", schools), 15)),
                        ("typed", n("exposure", "aperture", "Aperture", units.parse_aperture, _f)),
                        ("Focus at", n("exposure", "focus_m", "Focus", units.parse_distance_m, _by_itself)),
                    ]
                ),
                None,
            ),
            2,
        )
        left = self.facts(
            ("Aperture", "aperture", lambda p: _f(p.sharpness.aperture)),
            ("Focus", "focus", lambda p: units.distance(p.sharpness.focus_m)),
            ("Hyperfocal", "hyperfocal", lambda p: units.distance(p.sharpness.hyperfocal_m)),
            ("Confusion circle", "coc", lambda p: f"{p.sharpness.coc_mm * 1000:.1f} µm"),
            ("Depth needs", "needed", lambda p: _f(round(p.sharpness.needed_aperture, 1))),
            ("Diffraction disc", "airy", lambda p: f"{p.sharpness.airy_px:.1f} px"),
        )
        right = self.facts(
            ("Nearest blurs", "near-blur", lambda p: f"{p.sharpness.near_blur_px:.1f} px"),
            ("Farthest blurs", "far-blur", lambda p: f"{p.sharpness.far_blur_px:.1f} px"),
            ("Background", "background-blur", self._background),
            ("Like one frame", "single", self._single),
            ("All seen with", "wide", lambda p: f"{p.single.same_camera_mm:.0f} mm" if p.single else "no flat lens"),
        )
        self.preview = button("Preview of the blur …", self.stage.preview_blur, name="preview-blur")
        box.addLayout(
            column(
                self.drawing(DepthDrawing("What is sharp", 118)),
                row(left, right),
                row(self.told(self._reason, "aperture-reason"), self.preview),
                None,
            ),
            5,
        )

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


def parse_readings(text: str) -> tuple[tuple[float, float], ...]:
    """Meter readings as people write them: ``13.5, 14, 12.5`` or ``-90: 13.5, 0: 14``.

    Bare values are spread over the sweep by the caller's azimuths 0, 1, 2 ... of the field.
    """
    found = []
    for piece in filter(None, (p.strip() for p in text.replace(";", ",").split(","))):
        azimuth, colon, ev = piece.partition(":")
        if not colon:
            raise InputError(f"'{piece}' lacks its azimuth", remedy="Write azimuth: EV, like -90: 13.5, 0: 14")
        found.append(
            (
                units.parse_angle_deg(azimuth),
                units.parse_number(ev.lower().replace("ev", ""), "an exposure value", "0: 14"),
            )
        )
    if not found:
        raise InputError("needs at least one value", remedy="Write azimuth: EV, like 0: 14")
    return tuple(found)


def write_readings(readings: tuple[tuple[float, float], ...]) -> str:
    """The readings as ``parse_readings`` takes them."""
    return ", ".join(f"{a:g}: {ev:g}" for a, ev in readings).replace("-", "−")


class ExposureTopic(Topic):
    """One setting for all frames, from readings round the sweep."""

    title = "Exposure"

    def build(self, box: QHBoxLayout) -> None:
        n, b = self.bound.number, self.bound
        schools = [
            ("brightest", "by the brightest part", "nothing clips; shadows are lifted later"),
            ("subject", "by the subject", "the first mark, or the middle"),
            ("average", "average of all", "a spread of about one EV either way is fine"),
            ("middle", "between brightest and darkest", "never start on the sun or farthest from it"),
        ]
        moving = [
            ("still", "nothing", ""),
            ("leaves", "leaves, grass", ""),
            ("walking", "people walking", ""),
            ("running", "people running", ""),
        ]
        skies = [
            ("clear", "clear sky", ""),
            ("clouds", "clouds", ""),
            ("overcast", "overcast", ""),
            ("indoors", "indoors", ""),
        ]
        readings = b.text("exposure", "readings", "Meter readings", write_readings, parse_readings, width=250)
        box.addLayout(
            column(
                label("Meter readings, azimuth: EV at ISO 100"),
                readings,
                row(button("Take them from the sun", self.stage.readings_by_sun, name="readings-sun"), None),
                form(
                    [
                        ("Meter by", b.choice("exposure", "metering", "Metering", schools)),
                        ("ISO", n("exposure", "iso", "ISO", number_with("", "100"), plain(6), step=100)),
                        (
                            "White balance",
                            n(
                                "exposure",
                                "white_balance_k",
                                "White balance",
                                number_with("K", "5500"),
                                plain(6, "K"),
                                step=100,
                            ),
                        ),
                        ("What moves", b.choice("scene", "subject", "What moves", moving)),
                        ("Wind", n("scene", "wind_ms", "Wind", number_with("m/s", "3"), plain(3, "m/s"))),
                        ("Sky", b.choice("scene", "sky", "Sky", skies)),
                    ]
                ),
                None,
            ),
            3,
        )
        box.addLayout(
            column(
                form(
                    [
                        ("Filter", n("exposure", "filter_stops", "Filter", *_stops)),
                        ("Bracket of", n("exposure", "bracket_count", "Exposures of a bracket", *_count, whole=True)),
                        (
                            "apart by",
                            n(
                                "exposure",
                                "bracket_step_ev",
                                "Step of a bracket",
                                number_with("EV", "2"),
                                plain(3, "EV"),
                                step=0.5,
                            ),
                        ),
                        (
                            "only above",
                            n(
                                "exposure",
                                "bracket_only_above_ev",
                                "Brackets only above",
                                number_with("EV", "15"),
                                _ev_or_all,
                            ),
                        ),
                    ]
                ),
                b.switch("exposure", "polariser", "Polariser on the lens"),
                None,
            ),
            2,
        )
        box.addLayout(
            column(
                self.facts(
                    ("Time", "exposure", lambda p: units.exposure_time(p.setting.time_s)),
                    ("Aperture, ISO", "exposure-rest", lambda p: f"f/{p.setting.aperture:g}, ISO {p.setting.iso:g}"),
                    ("Exposed for", "ev", lambda p: f"{p.setting.ev:.1f} EV"),
                    (
                        "Filter factor",
                        "factor-filter",
                        lambda p: f"{filter_factor(p.brief.exposure.filter_stops):.0f}×",
                    ),
                    (
                        "White over full",
                        "white",
                        lambda p: f"{p.setting.white_over_stops:+.1f} stops".replace("-", "−"),
                    ),
                    (
                        "Shadows spare",
                        "shadow",
                        lambda p: f"{p.setting.shadow_spare_stops:+.1f} stops".replace("-", "−"),
                    ),
                    ("Brackets needed", "brackets", lambda p: f"{p.setting.brackets_needed}"),
                ),
                self.told(self._limits, "fact-limits"),
                None,
            ),
            3,
        )

    def _exposure(self, plan: Plan) -> str:
        s = plan.setting
        return f"f/{s.aperture:g}, {units.exposure_time(s.time_s)}, ISO {s.iso:g}"

    def _limits(self, plan: Plan) -> str:
        limits = [f"{units.exposure_time(x.time_s)}: {x.reason}" for x in plan.setting.limits]
        told = f"Metered {plan.setting.reason}."
        if len(plan.setting.times_s) > 1:
            told += f" Bracket: {', '.join(units.exposure_time(t) for t in plan.setting.times_s)}."
        return told + (" No longer than " + "; ".join(limits) + "." if limits else " Nothing limits the time.")

    def summary(self, plan: Plan) -> str:
        return self._exposure(plan)


def _ev_or_all(value: float) -> str:
    return "everywhere" if value == 0 else f"{value:g} EV"


class LightTopic(Topic):
    """Place and date: sun, moon, which light when, and the evening's other scenes."""

    title = "Light"

    def build(self, box: QHBoxLayout) -> None:
        n, b = self.bound.number, self.bound
        box.addLayout(
            column(
                form(
                    [
                        ("Place", b.text("site", "name", "Place", width=150)),
                        ("Latitude", n("site", "latitude_deg", "Latitude", units.parse_angle_deg, _four)),
                        ("Longitude", n("site", "longitude_deg", "Longitude", units.parse_angle_deg, _four)),
                        ("Date", b.text("site", "date", "Date")),
                        ("Start", b.text("site", "start", "Start")),
                        (
                            "Hours from UTC",
                            n("site", "utc_offset_h", "Hours from UTC", number_with("h", "1"), plain(4, "h")),
                        ),
                        ("Yaw 0 faces", n("site", "facing_deg", "Bearing of yaw 0", *_deg)),
                    ]
                ),
                None,
            ),
            2,
        )
        box.addLayout(
            column(
                self.drawing(SunDrawing("Sun and moon through the day", 150)),
                row(
                    self.facts(
                        ("Moon", "moon", lambda p: f"{units.share(day(p.brief.site).moon_lit)} lit"),
                        ("Sunrise, sunset", "rise", lambda p: _times(p, "sunrise", "sunset")),
                    ),
                    self.facts(
                        ("Golden light", "golden", lambda p: _times(p, "golden light begins", "blue light begins")),
                        ("Blue light", "blue", lambda p: _times(p, "blue light begins", "blue light ends, evening")),
                        ("Even light", "even", self._even),
                    ),
                ),
                self.told(self._sun, "fact-sun", ""),
                self.told(self._evening, "fact-evening", ""),
                row(
                    button(
                        "Start with golden light", lambda: self._start_at("golden light begins"), name="start-golden"
                    ),
                    button("Another scene …", self.stage.add_stop, name="add-stop"),
                    button("Drop the last", self.stage.drop_stop, quiet=True, name="drop-stop"),
                    None,
                ),
                None,
            ),
            5,
        )

    def _sun(self, plan: Plan) -> str:
        yaw = plan.brief.site.yaw_of(plan.sun.bearing_deg)
        height = plan.sun.altitude_deg
        stands = f"{units.angle(height)} up" if height >= 0 else f"{units.angle(-height)} below the horizon"
        lit = f", {lit_from(yaw, (plan.wish.left_deg + plan.wish.right_deg) / 2)}" if height > -1 else ""
        return f"Sun at the start: bearing {units.angle(plan.sun.bearing_deg, 0)}, yaw {units.angle(yaw, 0)}, {stands}{lit}"

    def _even(self, plan: Plan) -> str:
        minutes = plan.even_light_min
        return "4 h or more" if minutes >= 240 else f"{units.duration(minutes * 60)} (⅓ stop)"

    def _evening(self, plan: Plan) -> str:
        slots = [
            f"{s.begin:%H:%M}–{s.end:%H:%M} {s.name} (sun {units.angle(s.sun_begin_deg, 0)})" for s in plan.evening
        ]
        return "Evening: " + " · ".join(slots)

    def _start_at(self, event: str) -> None:
        at = day(self.state.outing.brief.site).first(event)
        if at is None:
            self.state.told.emit("There is no golden light at that place on that day.", True)
        else:
            self.state.apply(edits.set_part("site", "Start with golden light", start=f"{at:%H:%M}"))

    def summary(self, plan: Plan) -> str:
        return f"{plan.brief.site.start}, sun {units.angle(plan.sun.altitude_deg, 0)}"


def _four(value: float) -> str:
    return units.angle(value, 4)


def _times(plan: Plan, first: str, second: str) -> str:
    found = day(plan.brief.site)
    a, b = found.first(first), found.first(second)
    return f"{f'{a:%H:%M}' if a else 'none'} – {f'{b:%H:%M}' if b else 'none'}"


class RunTopic(Topic):
    """In what order, how often, how long."""

    title = "Order and time"

    def build(self, box: QHBoxLayout) -> None:
        n, b = self.bound.number, self.bound
        titles = {
            "rows": "rows, left to right",
            "rows-left": "rows, right to left",
            "snake": "snake",
            "columns": "columns, downwards",
            "columns-up": "columns, upwards",
            "subject": "subject first, outward",
            "mirrored": "subject, right, left, up, down",
            "rings": "round from the subject",
            "sun": "sunny side first",
        }
        box.addLayout(
            column(
                form(
                    [
                        (
                            "Order",
                            narrow(
                                b.choice("run", "order", "Order", [(k, t, REASONS[k]) for k, t in titles.items()]), 18
                            ),
                        ),
                        ("Each position", n("run", "repeats", "Repeats", *_count, whole=True)),
                        ("Settling", n("run", "settle_s", "Settling", *_seconds)),
                        ("Delay", n("run", "delay_s", "Delay of the shutter", *_seconds)),
                        ("Turning", n("run", "turn_deg_per_s", "Turning", number_with("°/s", "12"), plain(3, "°/s"))),
                    ]
                ),
                b.switch("run", "bookends", "Bookends: a hand before the lens"),
                None,
            ),
            3,
        )
        box.addLayout(
            column(
                self.told(lambda p: REASONS[p.brief.run.order], "order-reason", ""),
                self.facts(
                    ("The whole run", "run", lambda p: units.duration(p.shoot_s)),
                    ("Exposing", "exposing", lambda p: units.duration(p.time.exposing_s)),
                    ("Settling", "settling", lambda p: units.duration(p.time.settling_s)),
                    (
                        "Turning",
                        "turning",
                        lambda p: f"{units.duration(p.time.turning_s)}, {p.time.turning_deg:.0f}° in all",
                    ),
                    ("Exposures", "exposures", lambda p: f"{p.time.exposures}"),
                    ("Ends at", "end", lambda p: f"{p.end:%H:%M:%S}"),
                ),
                label("Marks on the map: what must not be cut; the first is the subject.", wrap=True),
                self.told(self._marks, "fact-marks", ""),
                row(
                    button("Mark …   [M]", self.stage.add_mark, name="add-mark"),
                    button("Field from marks", self.stage.field_from_marks, name="field-from-marks"),
                    button("Drop the last", self.stage.drop_mark, quiet=True, name="drop-mark"),
                    None,
                ),
                None,
            ),
            5,
        )

    def _marks(self, plan: Plan) -> str:
        marks = plan.brief.scene.marks
        return ", ".join(f"{m.name} at {units.angle(m.yaw_deg, 0)}" for m in marks) if marks else "No marks yet."

    def summary(self, plan: Plan) -> str:
        return f"{plan.brief.run.order}, {units.duration(plan.shoot_s)}"


class CostTopic(Topic):
    """Card, join, formats, paper."""

    title = "Cost and size"

    def build(self, box: QHBoxLayout) -> None:
        box.addLayout(
            column(
                self.facts(
                    ("Exposures", "cost-exposures", lambda p: f"{p.cost.exposures}"),
                    ("Card space", "card", self._card),
                    ("Joining takes", "join-time", lambda p: f"about {units.duration(p.cost.join_s)}"),
                    ("and memory", "join-memory", lambda p: f"about {units.grouped(p.cost.join_mib)} MiB"),
                    (
                        "Joined",
                        "joined",
                        lambda p: f"{units.grouped(p.size.width_px)} × {units.grouped(p.size.height_px)} px",
                    ),
                    ("TIFF, 16 bit", "tiff", lambda p: units.file_size(p.size.tiff16_bytes)),
                    ("Fits", "fits", self._fits),
                ),
                self.told(
                    lambda p: (
                        f"By this machine's last {p.cost.from_joins} joins."
                        if p.cost.from_joins
                        else "Nothing has been joined on this machine yet: usual figures."
                    ),
                    "cost-reason",
                ),
                None,
            ),
            3,
        )
        card = self.bound.number("run", "card_gb", "One card", number_with("GB", "64"), plain(6, "GB"), step=32)
        prints = self.facts(*((f"Print at {dpi:.0f} dpi", f"print-{dpi:.0f}", self._print(dpi)) for dpi in USUAL_DPI))
        box.addLayout(
            column(
                form([("One card holds", card)]),
                prints,
                self.told(lambda _p: "Sheets are the largest of ISO 216 filled along the longer side."),
                None,
            ),
            3,
        )

    def _card(self, plan: Plan) -> str:
        one = plan.brief.run.card_gb
        return f"{plan.cost.card_gb:.1f} GB, {cards_needed(plan.cost.card_gb, one)} × {one:g} GB"

    def _fits(self, plan: Plan) -> str:
        unfit = unfit_formats(plan.size)
        return "every format" if not unfit else "not " + ", ".join(name for name, _ in unfit)

    def _print(self, dpi: float) -> Callable[[Plan], str]:
        def tell(plan: Plan) -> str:
            w, h = plan.size.print_mm(dpi)
            imperial = self.stage.window_.settings.imperial
            sheet = largest_sheet(plan.size, dpi)
            return f"{units.length(w, imperial)} × {units.length(h, imperial)}" + (f", {sheet}" if sheet else "")

        return tell

    def summary(self, plan: Plan) -> str:
        return f"{units.megapixels(plan.size.pixels)}, {plan.cost.card_gb:.1f} GB"
