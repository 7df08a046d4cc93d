"""From the model to checks, limits and JSON schema, all by msgspec; the one strict reader of documents."""

from __future__ import annotations

import json
import math
from dataclasses import replace
from typing import Any

import msgspec

from idle_lantern.core.base.errors import DocumentError, LanternError, shortened
from idle_lantern.core.base.strict_json import parse_json, whole_numbers
from idle_lantern.core.outing.model import Outing
from idle_lantern.core.plan.brief import Brief
from idle_lantern.core.plan.exchange import brief_document

PREFIX = "idle-lantern/outing/"
VERSION = 1
#: Fields of the scene in which null stands for infinity, which JSON has not.
_ENDLESS = ("far_m", "background_m")


def parsed(data: bytes, where: str) -> dict[str, Any]:
    """JSON bytes as an object.

    Raises
    ------
    DocumentError
        Too large, no JSON, nested absurdly, or no object.
    """
    document = parse_json(data, where, error=DocumentError, remedy=f"{_LEFT}; take it from a backup")
    if not isinstance(document, dict):
        raise DocumentError("Is no outing document", where=where, remedy=_LEFT)
    return document


def checked(document: dict[str, Any], where: str) -> Outing:
    """A document of the present version as an outing.

    Raises
    ------
    DocumentError
        A value is missing, of the wrong kind or out of its limits; the place is named.
    """
    try:
        return msgspec.convert(whole_numbers(_with_infinity(document)), Outing)
    except msgspec.ValidationError as error:
        what, _, place = str(error).partition(" - at `$.")
        place = place.rstrip("`").replace(".", "/").replace("[", "/").replace("]", "")
        raise DocumentError(
            f"Is damaged at {place or 'the top level'} ({shortened(what, _MOST_TOLD)})", where=where, remedy=_LEFT
        ) from error
    except LanternError as error:
        raise DocumentError(
            f"Holds an impossible value: {shortened(error.sentence, _MOST_TOLD)}", where=where, remedy=_LEFT
        ) from error
    except (ValueError, TypeError, OverflowError, RecursionError) as error:
        raise DocumentError(
            f"Holds an impossible value ({shortened(str(error), _MOST_TOLD)})", where=where, remedy=_LEFT
        ) from error


def plain(outing: Outing) -> dict[str, Any]:
    """An outing as plain data that JSON can hold."""
    told: dict[str, Any] = msgspec.to_builtins(replace(outing, brief=Brief()))
    return {"schema": f"{PREFIX}{VERSION}", **told, "brief": brief_document(outing.brief)}


def json_schema() -> dict[str, Any]:
    """The published JSON schema of the present version, made from the model."""
    made = msgspec.json.schema(Outing)
    outing = made["$defs"]["Outing"]
    outing["properties"]["schema"] = {"const": f"{PREFIX}{VERSION}"}
    outing["required"] = ["schema", *outing["required"]]
    for name in _ENDLESS:
        of = made["$defs"]["Scene"]["properties"][name]
        of.pop("default", None)
        made["$defs"]["Scene"]["properties"][name] = {"anyOf": [of, {"type": "null"}], "default": None}
    head = {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "An outing of Idle Lantern"}
    result: dict[str, Any] = json.loads(json.dumps({**head, **made}))
    return result


_LEFT = "It was left as it is"
#: Characters of a value's fault that are told.
_MOST_TOLD = 160


def _with_infinity(document: dict[str, Any]) -> dict[str, Any]:
    brief = document.get("brief")
    scene = brief.get("scene") if isinstance(brief, dict) else None
    if not isinstance(brief, dict) or not isinstance(scene, dict):
        return document
    full = {key: math.inf if key in _ENDLESS and value is None else value for key, value in scene.items()}
    return {**document, "brief": {**brief, "scene": full}}
