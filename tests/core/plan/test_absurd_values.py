"""Every value of a brief through every absurd input: one sentence that names the field, nothing accepted that cannot be."""

from __future__ import annotations

import dataclasses
import json
from typing import Any

import pytest

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.outing import schema
from idle_lantern.core.plan.exchange import PARTS, SPEC_SCHEMA, read_brief, read_spec

_DEFINITIONS = schema.json_schema()["$defs"]
FIELDS = [(part, field.name) for part, kind in PARTS.items() for field in dataclasses.fields(kind)]
_ABSURD: list[Any] = [
    "x", "35 %", "1:3", "", "0", "\n", "2026-13-45", "25:99", "a" * 5000, True, None, [], [1], {}, {"a": 1},
    float("nan"), float("inf"), 1e308, -1e308, 10**400, -(10**400), 1.5, -1, 0,
]  # fmt: skip


def _schema_of(part: str, field: str) -> dict[str, Any]:
    found: dict[str, Any] = _DEFINITIONS[PARTS[part].__name__]["properties"][field]
    return found


def _allowed(described: dict[str, Any], value: object) -> bool:
    """Whether the published schema lets a value be; what it does not tell (words, dates) counts as let."""
    if "anyOf" in described:
        return any(_allowed(one, value) for one in described["anyOf"])
    kind = described.get("type")
    number = isinstance(value, (int, float)) and not isinstance(value, bool)
    if kind in ("number", "integer"):
        if not number or value != value or (kind == "integer" and value != int(value if abs(value) < 1e300 else 1)):
            return False
        return described.get("minimum", -1e400) <= value <= described.get("maximum", 1e400)
    wanted = {"string": str, "boolean": bool, "array": list, "object": dict, "null": type(None)}
    return kind not in wanted or isinstance(value, wanted[kind])


def _refusal(part: str, field: str, value: object) -> str:
    try:
        read_brief({part: {field: value}})
    except InputError as error:
        return error.sentence
    return ""


@pytest.mark.parametrize(("part", "field"), FIELDS, ids=lambda v: str(v))
def test_absurd_values_are_refused_by_the_fields_name(part: str, field: str):
    described = _schema_of(part, field)
    limits = [described[k] + d for k, d in (("minimum", -0.01), ("maximum", 0.01)) if k in described]
    refused = 0
    for value in _ABSURD + limits:
        sentence = _refusal(part, field, value)
        if sentence:
            refused += 1
            assert field in sentence or "Sensor height" in sentence
            assert part in sentence
            assert len(sentence) < 300
            assert "\n" not in sentence
        else:
            endless = field in ("far_m", "background_m")
            assert _allowed(described, value) or (endless and value == float("inf")), value
    assert refused >= 5


def test_nested_values_are_named_too():
    for document, place in (
        ({"scene": {"marks": [{"name": "mast", "yaw_deg": "x"}]}}, "scene, marks[0].yaw_deg"),
        ({"scene": {"marks": [{"name": "mast", "yaw_deg": 999}]}}, "Yaw of mast"),
        ({"scene": {"marks": ["mast"]}}, "scene, marks[0]"),
        ({"exposure": {"readings": [[1]]}}, "exposure, readings[0]"),
        ({"site": {"stops": [{"name": "pier", "minutes": -1}]}}, "Minutes of pier"),
    ):
        with pytest.raises(InputError) as caught:
            read_brief(document)
        assert place in caught.value.sentence


def test_values_that_do_not_go_together_are_refused_together():
    with pytest.raises(InputError, match=r"36 x 24 mm with 6000 x 3000 px"):
        read_brief({"rig": {"sensor_width_mm": 36, "sensor_height_mm": 24, "width_px": 6000, "height_px": 3000}})
    with pytest.raises(InputError, match=r"subject_m: must stand at least as far away as the nearest thing \(5 m\)"):
        read_brief({"scene": {"near_m": 5, "subject_m": 2}})


def test_an_unknown_part_is_named():
    with pytest.raises(InputError, match="unknown part 'camera'"):
        read_spec(json.dumps({"schema": SPEC_SCHEMA, "camera": {}}), "spec.json")


@pytest.mark.parametrize("word", ["infinity", "Infinity", "\u221e", None])
def test_infinity_may_be_written_as_the_remedy_proposes(word: str | None):
    assert read_brief({"scene": {"far_m": word}}).scene.far_m == float("inf")
