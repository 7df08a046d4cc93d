"""The field card: what one needs in the hand while shooting, as plain text and as a PDF of one or two pages.

Black on white with large figures: readable in print, and by a dim red light on paper.
"""

from __future__ import annotations

from collections.abc import Sequence
from importlib import resources
from pathlib import Path

import numpy as np
from fpdf import FPDF
from fpdf.fonts import TTFFont

from idle_lantern.core.base import units
from idle_lantern.core.base.atomic import write_bytes, write_text
from idle_lantern.core.geometry.sphere import azimuth_altitude
from idle_lantern.core.plan.checklist import before_first_frame, cautions
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.judge import judge
from idle_lantern.core.plan.order import REASONS
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.plan.sun import day

_PAGE_MM = (210.0, 297.0)  # ISO 216, A4
_MARGIN_MM = 12.0
#: So many checks have room on the first page.
_MOST_CHECKS = 14
#: More frames than this are told by row, not one by one.
_MOST_LINES = 96


def settings_lines(plan: Plan) -> list[tuple[str, str]]:
    """What is set before the first frame, as pairs of name and value."""
    s, sharp, b, rig = plan.setting, plan.sharpness, plan.brief, plan.rig
    held = "" if rig.motion != "turn" else ", upright" if rig.upright else ", sideways"
    lines = [
        ("Camera", f"{rig.camera or 'camera'}, {rig.sensor_width_mm:g} x {rig.sensor_height_mm:g} mm{held}"),
        ("Lens", f"{rig.lens_name or rig.lens_model}, {rig.focal_mm:g} mm"),
        ("Exposure", f"f/{s.aperture:g}, {units.exposure_time(s.time_s)}, ISO {s.iso:g}"),
        (
            "Focus",
            f"{units.distance(sharp.focus_m)}, sharp {units.distance(sharp.near_limit_m)} to {units.distance(sharp.far_limit_m)}",
        ),
        ("White balance", f"{b.exposure.white_balance_k:g} K"),
    ]
    if len(s.bracket_ev) > 1:
        lines.append(("Bracket", ", ".join(units.exposure_time(t) for t in s.times_s)))
    if b.exposure.filter_stops:
        lines.append(("Filter", f"{b.exposure.filter_stops:g} stops" + (", polariser" if b.exposure.polariser else "")))
    if rig.rail_mm:
        lines.append(("Rail", f"{rig.rail_mm:.0f} mm ± {rig.rail_doubt_mm:.0f} mm"))
    if rig.motion == "turn" and plan.pupil.matters:
        lines.append(("Pupil", f"within {plan.pupil.tolerance_mm:.0f} mm for things {plan.pupil.near_m:g} m away"))
    return lines


def times_lines(plan: Plan) -> list[tuple[str, str]]:
    """When, how long, and what the light does."""
    site = plan.brief.site
    events = day(site)
    lines = [
        ("Start", f"{site.date} {site.start}, {units.duration(plan.shoot_s)}, until {plan.end:%H:%M}"),
        (
            "Sun at start",
            f"bearing {units.angle(plan.sun.bearing_deg, 0)}, yaw {units.angle(site.yaw_of(plan.sun.bearing_deg), 0)}, "
            f"{units.angle(plan.sun.altitude_deg, 0)} up",
        ),
    ]
    for name in ("golden light begins", "sunset", "blue light begins"):
        at = events.first(name)
        if at is not None:
            lines.append((name.capitalize(), f"{at:%H:%M}"))
    if events.always:
        lines.append(("Sun", events.always))
    lines += [(slot.name, f"{slot.begin:%H:%M} to {slot.end:%H:%M}") for slot in plan.evening.visits[1:]]
    return lines


def card_text(plan: Plan, title: str = "") -> str:
    """The card as plain text, 78 columns at most."""
    head = title or plan.brief.site.name or "Field card"
    c = plan.coverage
    lines = [head, "=" * len(head), ""]
    rows = ", ".join(f"{len(r)} at {units.angle(r[0].pitch_deg)}" for r in plan.rows)
    lines += [f"{len(plan.frames)} frames: {rows}", ""]
    for name, value in [*settings_lines(plan), *times_lines(plan)]:
        lines.append(f"{name + ':':<22}{value}")
    if c.smallest_overlap is not None:
        lines.append(f"{'Smallest overlap:':<22}{units.share(c.smallest_overlap)}")
    lines += ["", f"Order: {REASONS[plan.brief.run.order]}", "", _table(plan), "Check:"]
    lines += [f"  [ ] {check}" for check in _checks(plan)]
    for mark in plan.brief.scene.marks:
        lines.append(f"  Mark: {mark.name} at yaw {units.angle(mark.yaw_deg)}, pitch {units.angle(mark.pitch_deg)}")
    for judgement in judge(plan):
        lines.append(f"  {judgement.sentence}")
    return "\n".join([*lines, "", *cautions(plan)]) + "\n"


def _checks(plan: Plan) -> tuple[str, ...]:
    """What is to be looked at before the first frame, with items of one's own."""
    return (*before_first_frame(plan.brief), *plan.brief.run.own_checks)


def _table(plan: Plan) -> str:
    shifted = plan.rig.motion == "lens-shift"
    rows = [f"{'frame':>5} {'scale':>8} {'yaw':>8} {'pitch':>8}" + ("   shift right, up" if shifted else "")]
    for f in plan.frames:
        row = f"{f.number:>5} {units.angle(plan.scale_reading(f)):>8} {units.angle(f.yaw_deg):>8} {units.angle(f.pitch_deg):>8}"
        rows.append(row + (f"   {f.shift_right_mm:+.1f}, {f.shift_up_mm:+.1f} mm" if shifted else ""))
    return "\n".join(rows) + "\n"


def write_card(plan: Plan, path: Path, title: str = "") -> None:
    """Write the card: PDF or text by its ending; it appears only when complete."""
    if path.suffix.lower() == ".pdf":
        write_bytes(path, card_pdf(plan, title))
    else:
        write_text(path, card_text(plan, title))


def card_pdf(plan: Plan, title: str = "") -> bytes:
    """The card as PDF: settings, sketch and check list on the first page, angles below and on a second if need be."""
    pdf = FPDF(format="A4", unit="mm")
    pdf.set_title(title or "Field card")
    pdf.set_margin(_MARGIN_MM)
    pdf.set_auto_page_break(False)
    fonts = resources.files("idle_lantern") / "fonts"
    for name, file in (
        ("B612", "B612-Regular.otf"),
        ("B612B", "B612-Bold.otf"),
        ("Mono", "B612Mono-Regular.otf"),
        ("Rest", "DejaVuSans.ttf"),
    ):
        with resources.as_file(fonts / file) as font:
            pdf.add_font(name, fname=font)
    pdf.set_fallback_fonts(["Rest"], exact_match=False)
    pdf.add_page()
    _heading(pdf, plan, title)
    y = pdf.get_y()
    _pairs(pdf, settings_lines(plan), _MARGIN_MM, y)
    left_end = pdf.get_y()
    _pairs(pdf, times_lines(plan), _MARGIN_MM + 98, y)
    pdf.set_y(max(left_end, pdf.get_y()) + 3)
    _sketch(pdf, plan, 46.0)
    pdf.set_font("B612", size=9)
    for check in _checks(plan)[:_MOST_CHECKS]:
        pdf.rect(pdf.get_x(), pdf.get_y() + 0.8, 3, 3)
        pdf.set_x(_MARGIN_MM + 5)
        pdf.cell(0, 4.8, _drawable(pdf, check), new_x="LMARGIN", new_y="NEXT")
    for mark in plan.brief.scene.marks[:6]:
        text = f"Mark: {mark.name} at yaw {units.angle(mark.yaw_deg)}, pitch {units.angle(mark.pitch_deg)}"
        pdf.cell(0, 4.8, _drawable(pdf, text), new_x="LMARGIN", new_y="NEXT")
    pdf.ln(2)
    _angles(pdf, plan)
    pdf.set_y(_PAGE_MM[1] - 14)
    pdf.set_font("B612", size=8)
    pdf.multi_cell(0, 3.4, _drawable(pdf, " ".join(cautions(plan))))
    return bytes(pdf.output())


def _heading(pdf: FPDF, plan: Plan, title: str) -> None:
    pdf.set_font("B612B", size=17)
    pdf.cell(0, 9, _drawable(pdf, title or plan.brief.site.name or "Field card"), new_x="LMARGIN", new_y="NEXT")
    pdf.set_font("B612", size=10)
    rows = ", ".join(f"{len(r)} at {units.angle(r[0].pitch_deg)}" for r in plan.rows[:8])
    pdf.cell(0, 6, f"{len(plan.frames)} frames: {rows}", new_x="LMARGIN", new_y="NEXT")
    pdf.multi_cell(0, 5, REASONS[plan.brief.run.order], new_x="LMARGIN", new_y="NEXT")
    pdf.ln(2)


def _pairs(pdf: FPDF, pairs: Sequence[tuple[str, str]], left: float, top: float) -> None:
    pdf.set_y(top)
    for name, value in pairs:
        pdf.set_x(left)
        pdf.set_font("B612", size=9)
        pdf.cell(33, 5.4, _drawable(pdf, name[:22]))
        pdf.set_font("B612B", size=9.5)
        pdf.multi_cell(61, 5.4, _drawable(pdf, value), align="L", new_x="LMARGIN", new_y="NEXT")


def _sketch(pdf: FPDF, plan: Plan, height: float) -> None:
    """The grid as seen from inside: outlines, numbers, horizon, path, marks."""
    target_field, width = plan.target_field, _PAGE_MM[0] - 2 * _MARGIN_MM
    middle = (target_field.left_deg + target_field.right_deg) / 2
    rims = [piece for f in plan.frames for piece in _rims(plan, f, middle)]
    points = np.concatenate(rims or [np.zeros((1, 2))])
    lows, highs = np.maximum(points.min(0), [-180, -90]), np.minimum(points.max(0), [180, 90])
    scale = min(width / max(1.0, highs[0] - lows[0]), height / max(1.0, highs[1] - lows[1]))
    used = scale * (highs - lows)
    left, top = _MARGIN_MM + (width - used[0]) / 2, pdf.get_y()

    def place(p: np.ndarray) -> list[tuple[float, float]]:
        clipped = np.clip(p, lows, highs)
        return [(left + scale * (x - lows[0]), top + scale * (highs[1] - y)) for x, y in clipped]

    pdf.set_line_width(0.15)
    pdf.set_draw_color(120)
    for rim in rims:
        pdf.polyline(place(rim), style="D")
    if lows[1] < 0 < highs[1]:
        pdf.set_draw_color(0)
        ((x0, y0),), ((x1, _),) = place(np.array([[lows[0], 0.0]])), place(np.array([[highs[0], 0.0]]))
        pdf.line(x0, y0, x1, y0)
    centres = [np.array([[_about(f.yaw_deg, middle) - middle, f.pitch_deg]]) for f in plan.frames]
    pdf.set_font("B612B", size=6 if len(plan.frames) > 40 else 8)
    if len(plan.frames) <= 120:
        for f, c in zip(plan.frames, centres):
            ((x, y),) = place(c)
            pdf.set_xy(x - 4, y - 2)
            pdf.cell(8, 4, str(f.number), align="C")
    pdf.set_font("B612", size=7)
    for mark in plan.brief.scene.marks:
        ((x, y),) = place(np.array([[_about(mark.yaw_deg, middle) - middle, mark.pitch_deg]]))
        pdf.ellipse(x - 0.8, y - 0.8, 1.6, 1.6, style="F")
        pdf.set_xy(x + 1, y - 2)
        pdf.cell(20, 4, _drawable(pdf, mark.name))
    pdf.set_draw_color(0)
    pdf.set_xy(_MARGIN_MM, top + used[1] + 3)


def _rims(plan: Plan, frame: GridFrame, middle_deg: float) -> list[np.ndarray]:
    """Rim of a frame in degrees about the picture's middle, cut where the sketch ends at its back."""
    az, alt = azimuth_altitude(plan.rig.lens_of(frame).rim_rays(12) @ frame.world_from_camera.T)
    x = (np.degrees(np.append(az, az[0])) - middle_deg + 180.0) % 360.0 - 180.0
    rim = np.stack([x, np.degrees(np.append(alt, alt[0]))], -1)
    return [piece for piece in np.split(rim, np.flatnonzero(np.abs(np.diff(x)) > 180) + 1) if len(piece) > 1]


def _about(yaw_deg: float, middle_deg: float) -> float:
    return (yaw_deg - middle_deg + 180.0) % 360.0 - 180.0 + middle_deg


def _angles(pdf: FPDF, plan: Plan) -> None:
    """Angles in columns, large enough to read at arm's length; very large plans by row."""
    if len(plan.frames) > 2 * _MOST_LINES:
        cells = [
            f"row {r[0].row:>2}  {units.angle(r[0].pitch_deg):>7}  {len(r):>3} frames, step "
            f"{units.angle(abs((r[1].yaw_deg - r[0].yaw_deg + 180) % 360 - 180)) if len(r) > 1 else '-'}"
            for r in plan.rows
        ]
        head, across = "row, pitch, frames, step", 2
    else:
        cells = [
            f"{f.number:>3} {units.angle(plan.scale_reading(f)):>7} {units.angle(f.pitch_deg):>7}"
            if plan.rig.motion != "lens-shift"
            else f"{f.number:>3} {f.shift_right_mm:+6.1f} {f.shift_up_mm:+6.1f}"
            for f in plan.frames
        ]
        head = "frame, scale, pitch" if plan.rig.motion != "lens-shift" else "frame, lens right and up in mm"
        across = 3
    pdf.set_font("B612B", size=9)
    pdf.cell(0, 5, head, new_x="LMARGIN", new_y="NEXT")
    pdf.set_font("Mono", size=10)
    top, line = pdf.get_y(), 5.0
    column, y, width = 0, top, (_PAGE_MM[0] - 2 * _MARGIN_MM) / across
    even = top + line * -(-len(cells) // across)
    for cell in cells:
        if y + line > min(_PAGE_MM[1] - 18, even + 0.1 if pdf.page == 1 else _PAGE_MM[1]):
            column, y = column + 1, top
            if column == across:
                pdf.add_page()
                column, top = 0, _MARGIN_MM
                y = top
        pdf.set_xy(_MARGIN_MM + column * width, y)
        pdf.cell(width, line, cell)
        y += line


def _drawable(pdf: FPDF, text: str) -> str:
    """Text in the shipped typefaces: what neither can draw is shown as a question mark."""
    known = [font.cmap for font in pdf.fonts.values() if isinstance(font, TTFFont)]
    return "".join(c if any(ord(c) in cmap for cmap in known) else "?" for c in text)
