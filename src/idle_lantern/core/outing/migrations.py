"""Older documents raised to the present version: one step per version, plain data in and out."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from typing import Any

Document = dict[str, Any]


def raised(document: Document, version: int, present: int) -> Document:
    """A document of ``version`` as one of ``present``; the values it holds are not checked here."""
    for at in range(version, present):
        document = _STEPS[at](document)
    return document


def _to_2(document: Document) -> Document:
    """Version 1 knew camera and field only, at the top level."""
    rest = {k: v for k, v in document.items() if k not in ("rig", "wish")}
    return {**rest, "brief": {"rig": document.get("rig", {}), "wish": document.get("wish", {})}}


def _to_3(document: Document) -> Document:
    """Version 3 only added a choice that is empty by default."""
    return document


def _to_4(document: Document) -> Document:
    """Version 4 names frames by an id of their own, and the wanted field by its usual name.

    Ids follow from the file names, so that a document opened twice without being saved has the same.
    """
    result = dict(document)
    brief = result.get("brief")
    if isinstance(brief, dict) and "wish" in brief:
        result["brief"] = {("target_field" if k == "wish" else k): v for k, v in brief.items()}
    frames = result.get("frames")
    ids: dict[object, str] = {}
    if isinstance(frames, list):
        named = []
        for row in frames:
            if isinstance(row, dict) and isinstance(row.get("file"), str):
                ids[row["file"]] = _id_of(row["file"])
                row = {**row, "id": ids[row["file"]]}
            named.append(row)
        result["frames"] = named
    choices = result.get("choices")
    if isinstance(choices, dict):
        result["choices"] = {
            k: [ids[f] for f in v if f in ids] if k in ("left_out", "put_back") and isinstance(v, list) else v
            for k, v in choices.items()
        }
    result["id"] = _id_of(f"{result.get('name')}\n{result.get('created')}")
    return result


def _to_5(document: Document) -> Document:
    """Version 5 refuses what cannot be together, and plans a pole's frames as told.

    One frame at a pole was "one where that saves frames", which is now told as -1. A nearest thing behind the
    subject, and a sensor whose sides do not fit its pixels, are brought together.
    """
    brief = document.get("brief")
    if not isinstance(brief, dict):
        return document
    parts = {name: dict(value) if isinstance(value, dict) else value for name, value in brief.items()}
    field, scene, rig = (parts.get(name) for name in ("target_field", "scene", "rig"))
    if isinstance(field, dict):
        for pole in ("zenith_frames", "nadir_frames"):
            if field.get(pole) == 1 and brief.get("kind") != "sphere":
                field[pole] = -1
    if isinstance(scene, dict):
        near, subject = scene.get("near_m", 5.0), scene.get("subject_m", 0.0)
        if _is_number(near) and _is_number(subject) and 0 < subject < near:
            scene["near_m"] = subject
    if isinstance(rig, dict):
        sides = [
            rig.get(key, plain)
            for key, plain in (
                ("sensor_width_mm", 24.0), ("sensor_height_mm", 16.0), ("width_px", 1800), ("height_px", 1200),
            )
        ]  # fmt: skip
        if all(_is_number(v) and v > 0 for v in sides):
            width_mm, height_mm, width_px, height_px = sides
            fitting = width_mm * height_px / width_px
            if not 0.8 <= height_mm / fitting <= 1.25 and 1 <= fitting <= 200:
                rig["sensor_height_mm"] = fitting
    return {**document, "brief": parts}


def _to_6(document: Document) -> Document:
    """Version 6 only added what is empty or usual by default: exposures of a bracket, and what becomes of them.

    What was joined of a bracket stays what it was: its middle exposure, since nothing tells the others' exposures.
    """
    return document


def _to_7(document: Document) -> Document:
    """Version 7 holds lens and development themselves, where earlier ones had names of assets that nothing wrote."""
    return {k: v for k, v in document.items() if k not in ("lens", "development")}


def _to_8(document: Document) -> Document:
    """Version 8 only added verdicts on places of the picture, none by default."""
    return document


def _to_9(document: Document) -> Document:
    """Version 9 only added how the picture is composed: turn, panini's distance, rim, ratio, all as they were by default."""
    return document


def _to_10(document: Document) -> Document:
    """Version 10 only added scouting pictures, none by default, and what a mark stands for."""
    return document


def _to_11(document: Document) -> Document:
    """Version 11 only added, empty by default: skylines, what is checked and checks of one's own, where the tripod's feet
    stand, links that are cut."""
    return document


def _to_12(document: Document) -> Document:
    """Version 12 only added frames that are switched off in the picture and, at delivery, the margin that tells what is invented and
    a cover of the nadir, none by default."""
    return document


def _to_13(document: Document) -> Document:
    """Version 13 only added lines among the points set by hand, none by default, and how far panini makes lines across straight, not at all."""
    return document


def _is_number(value: object) -> bool:
    return isinstance(value, (int, float)) and not isinstance(value, bool)


def _id_of(text: str) -> str:
    return hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()[:32]


_STEPS: dict[int, Callable[[Document], Document]] = {
    1: _to_2, 2: _to_3, 3: _to_4, 4: _to_5, 5: _to_6, 6: _to_7, 7: _to_8, 8: _to_9, 9: _to_10, 10: _to_11,
    11: _to_12, 12: _to_13,
}  # fmt: skip
