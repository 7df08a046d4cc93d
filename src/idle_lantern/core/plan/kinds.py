"""Kinds of picture as starting points: each sets what usually goes with it and says why.

All kinds share the one planning model; a kind only fills the brief in. The numbers
are common practice with no source.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from idle_lantern.core.plan.brief import Brief
from idle_lantern.core.plan.target_field import AS_NEEDED


@dataclass(frozen=True)
class PictureKind:
    """A starting point; ``changes`` maps parts of the brief to the values it sets, ``asks`` names what matters first."""

    id: str
    title: str
    reason: str
    changes: Mapping[str, Mapping[str, Any]]
    asks: tuple[str, ...] = ("focal_mm", "left_deg", "right_deg", "low_deg", "high_deg", "overlap")

    def start(self, brief: Brief) -> Brief:
        """The brief with this kind's values.

        What the kind before had set and nobody changed since goes back to its default;
        what the person set stays, unless this kind says otherwise.
        """
        brief = _without(kind_of(brief.kind), brief)
        filled = {part: replace(getattr(brief, part), **values) for part, values in _fitting(self, brief).items()}
        return replace(brief, kind=self.id, **filled)


def _fitting(kind: PictureKind, brief: Brief) -> dict[str, dict[str, Any]]:
    """The kind's values as they go with what the person set: distances stay, a fisheye sphere is shot in six, and one with a long
    lens takes a wide one."""
    changes = {part: dict(values) for part, values in kind.changes.items()}
    scene = changes.get("scene", {})
    if "near_m" in scene:  # nothing stands nearer than the nearest thing
        others = [scene.get(name, getattr(brief.scene, name)) for name in ("subject_m", "far_m", "background_m")]
        scene["near_m"] = min([scene["near_m"], *(metres for metres in others if metres > 0)])
    if kind.id == "sphere" and brief.rig.lens_model != "rectilinear":
        changes["target_field"]["row_frames"] = USUAL_ROUND
    elif kind.id == "sphere" and brief.rig.focal_mm * brief.rig.crop_factor > _LONG_FOR_SPHERE_MM:
        changes["rig"]["focal_mm"] = round(_SPHERE_MM / brief.rig.crop_factor)
    return changes


def _without(kind: PictureKind, brief: Brief) -> Brief:
    plain, parts = Brief(), {}
    for part, values in kind.changes.items():
        present = getattr(brief, part)
        untouched = [key for key, value in values.items() if getattr(present, key) == value]
        if kind.id == "sphere" and part == "target_field" and present.row_frames == USUAL_ROUND:
            untouched.append("row_frames")
        parts[part] = replace(present, **{key: getattr(getattr(plain, part), key) for key in untouched})
    return replace(brief, **parts)


#: A kind that turns the camera takes back what another kind did to the rig.
_TURNING = {"motion": "turn", "exposures_each": 1}
_ON_HEAD = {"kind": "head", "pointing_deg": 0.0}

#: The ends and edges of a field, which nearly every kind asks for.
_FIELD = ("left_deg", "right_deg", "low_deg", "high_deg")

#: A lens longer than the first, in millimetres as on full frame, is not what spheres are shot with; the second is usual among
#: rectilinear ones (common practice, no source).
_LONG_FOR_SPHERE_MM, _SPHERE_MM = 35.0, 16.0

#: Frames round a full sphere with a fisheye: at least so many (common practice, no source).
USUAL_ROUND = 6

KINDS: tuple[PictureKind, ...] = (
    PictureKind(
        "row",
        "Single row",
        "A wide landscape or town: camera upright for height and pixels; usual are a third of overlap and one frame beyond each end.",
        {
            "rig": {**_TURNING, "upright": True},
            "support": _ON_HEAD,
            "target_field": {"left_deg": -80.0, "right_deg": 80.0, "low_deg": -20.0, "high_deg": 20.0, "overlap": 1 / 3,
                     "overlap_rows": 0.0, "reserve": 0.2, "spare_ends": 1, "zenith_frames": AS_NEEDED, "nadir_frames": AS_NEEDED},
            "exposure": {"aperture_school": "sharpest", "metering": "average"},
            "run": {"order": "rows", "repeats": 1},
        },
    ),
    PictureKind(
        "rows",
        "Several rows",
        "Land row and sky row or more: rows overlap by 40 %, so that the horizon stands near the edge of both and each can be matched.",
        {
            "rig": {**_TURNING, "upright": False},
            "support": _ON_HEAD,
            "target_field": {"left_deg": -70.0, "right_deg": 70.0, "low_deg": -32.0, "high_deg": 38.0, "overlap": 1 / 3,
                     "overlap_rows": 0.4, "reserve": 0.2, "spare_ends": 0, "zenith_frames": AS_NEEDED, "nadir_frames": AS_NEEDED},
            "exposure": {"aperture_school": "sharpest", "metering": "average"},
            "run": {"order": "snake", "repeats": 1},
        },
    ),
    PictureKind(
        "vertical",
        "Vertical",
        "One column of a tower or a fall: camera sideways for width, level across, top to bottom; a flat projection suits.",
        {
            "rig": {**_TURNING, "upright": False},
            "support": _ON_HEAD,
            "target_field": {"left_deg": -18.0, "right_deg": 18.0, "low_deg": -30.0, "high_deg": 50.0, "overlap": 1 / 3,
                     "overlap_rows": 1 / 3, "reserve": 0.2, "spare_ends": 0, "zenith_frames": AS_NEEDED, "nadir_frames": AS_NEEDED},
            "exposure": {"aperture_school": "sharpest", "metering": "average"},
            "run": {"order": "columns", "repeats": 1},
        },
    ),
    PictureKind(
        "gigapixel",
        "Gigapixel",
        "A long lens for a huge print: a quarter of overlap on a firm head, snake order for the least turning, long settling.",
        {
            "rig": {**_TURNING, "upright": True, "focal_mm": 200.0},
            "support": _ON_HEAD,
            "target_field": {"left_deg": -30.0, "right_deg": 30.0, "low_deg": -10.0, "high_deg": 10.0, "overlap": 0.25,
                     "overlap_rows": 0.25, "reserve": 0.1, "spare_ends": 0, "zenith_frames": AS_NEEDED, "nadir_frames": AS_NEEDED},
            "scene": {"near_m": 200.0, "far_m": math.inf, "background_m": math.inf},
            "exposure": {"aperture_school": "sharpest", "metering": "brightest"},
            "run": {"order": "snake", "repeats": 1, "settle_s": 4.0},
            "target": {"print_mm": 3000.0, "dpi": 240.0},
        },
        ("focal_mm", *_FIELD, "print_mm"),
    ),
    PictureKind(
        "shallow",
        "Shallow depth",
        "A long fast lens wide open round a subject: 9 to 21 frames with a third of overlap are a start, half uses only the bright "
        "sharp middle; subject first, focus on the subject and never touched.",
        {
            "rig": {**_TURNING, "upright": True, "focal_mm": 85.0, "widest_aperture": 1.8, "corner_loss_stops": 1.5},
            "support": {"kind": "tripod", "pointing_deg": 0.0},
            "target_field": {"left_deg": -22.0, "right_deg": 22.0, "low_deg": -15.0, "high_deg": 15.0, "overlap": 1 / 3,
                     "overlap_rows": 1 / 3, "reserve": 0.2, "spare_ends": 0, "zenith_frames": AS_NEEDED, "nadir_frames": AS_NEEDED},
            "scene": {"near_m": 1.5, "subject_m": 2.5, "background_m": 40.0, "far_m": math.inf, "subject": "walking"},
            "exposure": {"aperture_school": "open", "metering": "subject", "focus_m": 0.0},
            "run": {"order": "subject", "repeats": 1},
        },
        ("focal_mm", "subject_m", *_FIELD),
    ),
    PictureKind(
        "sphere",
        "Full sphere",
        "Everything round, for a look-around view: zenith once, nadir twice at 90 degrees so that head and tripod can be removed.",
        {
            "rig": {**_TURNING, "upright": True},
            "support": {**_ON_HEAD, "tilt_low_deg": -90.0, "tilt_high_deg": 90.0},
            "target_field": {"left_deg": -180.0, "right_deg": 180.0, "low_deg": -90.0, "high_deg": 90.0, "overlap": 0.3,
                     "overlap_rows": 0.25, "reserve": 0.0, "spare_ends": 0, "zenith_frames": 1, "nadir_frames": 2},
            "scene": {"near_m": 1.2},
            "exposure": {"aperture_school": "depth", "metering": "average"},
            "run": {"order": "rings", "repeats": 1},
        },
        ("lens_model", "focal_mm", "near_m", "overlap", "zenith_frames", "nadir_frames"),
    ),
    PictureKind(
        "air",
        "From the air",
        "A fixed lens that hovers: columns first, a third of overlap, several of each in dim light.",
        {
            "rig": {**_TURNING, "upright": False},
            "support": {"kind": "air", "pointing_deg": 0.0, "tilt_low_deg": -90.0, "tilt_high_deg": 30.0},
            "target_field": {"left_deg": -80.0, "right_deg": 80.0, "low_deg": -50.0, "high_deg": 15.0, "overlap": 1 / 3,
                     "overlap_rows": 1 / 3, "reserve": 0.25, "spare_ends": 0, "zenith_frames": AS_NEEDED, "nadir_frames": AS_NEEDED},
            "scene": {"near_m": 30.0},
            "run": {"order": "columns", "repeats": 1},
        },
        ("focal_mm", *_FIELD, "near_m"),
    ),
    PictureKind(
        "two-lens",
        "Two-lens camera",
        "Both halves at once from one position: aperture, ISO and white balance fixed, three times; 10 s of delay to leave the room.",
        {
            "rig": {"motion": "two-lens", "exposures_each": 1, "lens_model": "equidistant", "upright": False,
                    "sensor_width_mm": 5.6, "sensor_height_mm": 5.6, "width_px": 2900, "height_px": 2900,
                    "focal_mm": 1.65, "image_circle_mm": 5.6, "widest_aperture": 2.0, "narrowest_aperture": 5.6},
            "support": {"kind": "tripod", "pointing_deg": 0.0},
            "target_field": {"left_deg": -180.0, "right_deg": 180.0, "low_deg": -90.0, "high_deg": 90.0, "overlap": 0.05,
                     "overlap_rows": 0.0, "reserve": 0.0, "spare_ends": 0},
            "exposure": {"aperture_school": "own", "aperture": 5.6, "iso": 250.0, "bracket_count": 3, "bracket_step_ev": 1.5},
            "run": {"order": "rings", "repeats": 1, "delay_s": 10.0, "bookends": False},
        },
        ("near_m", "bracket_count"),
    ),
    PictureKind(
        "shift",
        "Shift lens",
        "The camera stands still and the lens moves: frames differ by a shift on the sensor, nothing turns, straight lines stay straight.",
        {
            "rig": {"motion": "lens-shift", "exposures_each": 1, "lens_model": "rectilinear", "upright": False,
                    "focal_mm": 24.0, "shift_mm": 12.0, "image_circle_mm": 58.0},
            "support": {"kind": "tripod", "pointing_deg": 0.0},
            "target_field": {"left_deg": -36.0, "right_deg": 36.0, "low_deg": -25.0, "high_deg": 25.0, "overlap": 1 / 3,
                     "overlap_rows": 1 / 3, "reserve": 0.0, "spare_ends": 0},
            "exposure": {"aperture_school": "sharpest", "metering": "average"},
            "run": {"order": "rows", "repeats": 1},
        },
        ("focal_mm", "shift_mm", *_FIELD),
    ),
    PictureKind(
        "sensor-shift",
        "Sensor shift",
        "The camera takes several exposures for each frame with its sensor moved: only for what stands quite still, on a firm head.",
        {
            "rig": {"motion": "turn", "exposures_each": 4, "upright": True},
            "support": _ON_HEAD,
            "target_field": {"left_deg": -40.0, "right_deg": 40.0, "low_deg": -15.0, "high_deg": 15.0, "overlap": 1 / 3,
                     "overlap_rows": 0.0, "reserve": 0.2, "spare_ends": 0},
            "scene": {"subject": "still"},
            "exposure": {"aperture_school": "sharpest", "metering": "brightest"},
            "run": {"order": "snake", "repeats": 1, "settle_s": 4.0},
        },
        ("focal_mm", *_FIELD, "exposures_each"),
    ),
)  # fmt: skip


def kind_of(kind_id: str) -> PictureKind:
    """The kind of that id; the single row for one that is not known."""
    return next((k for k in KINDS if k.id == kind_id), KINDS[0])
