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


def _id_of(text: str) -> str:
    return hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()[:32]


_STEPS: dict[int, Callable[[Document], Document]] = {1: _to_2, 2: _to_3, 3: _to_4}
