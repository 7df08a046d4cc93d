"""What comes from outside is checked once, strictly, and refused in a sentence that names the file."""

from __future__ import annotations

import json
import math
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from idle_lantern.core.base.errors import MOST_CHARACTERS, InputError, LanternError
from idle_lantern.core.base.strict_json import MOST_BYTES, parse_json, read_json, whole_numbers


@pytest.mark.parametrize(
    ("data", "sentence"),
    [
        (b"[" * 100_000, "nested too deep"),
        (b"[" * 200 + b"]" * 200, "nested too deep"),
        (b'{"a":' * 5000, "nested too deep"),
        (b"1e999", "too large to be used"),
        (b"9" * 400, "too large to be used"),
        (b"9" * 5000, "too large to be used"),
        (b"[1,\n-9223372036854775809]", "too large to be used"),
        (b'"\\ud800"', "damaged at line 1"),
        (b'{\n"a": NaN}', "damaged at line 2"),
        (b"", "damaged at line 1"),
        (b'{"a": 1,\n\n}', "damaged at line 3"),
        (b'"\xff"', "no UTF-8 text at line 1"),
        ('{"a": 1}'.encode("utf-16"), "UTF-16"),
    ],
)
def test_what_no_document_holds_is_refused_with_its_place(data: bytes, sentence: str):
    with pytest.raises(InputError, match=sentence) as told:
        parse_json(data, "a/file.json")
    assert told.value.sentence.startswith("a/file.json: ")


JSON = st.recursive(
    st.none()
    | st.booleans()
    | st.integers(-(2**63), 2**63 - 1)
    | st.floats(allow_nan=False, allow_infinity=False)
    | st.text(st.characters(exclude_categories=["Cs"])),
    lambda inner: (
        st.lists(inner, max_size=4) | st.dictionaries(st.text(st.characters(exclude_categories=["Cs"])), inner)
    ),
    max_leaves=30,
)


@given(JSON)
def test_everything_else_is_read_as_the_standard_library_reads_it(value: object):
    data = json.dumps(value).encode()
    assert parse_json(data) == json.loads(data)
    assert parse_json(b"\xef\xbb\xbf" + data) == json.loads(data)


@given(st.binary(max_size=300))
def test_any_bytes_end_in_a_value_or_a_sentence(data: bytes):
    told = ""
    try:
        parse_json(data, "x" * 5000)
    except InputError as error:
        told = error.sentence
    assert len(told) <= MOST_CHARACTERS
    assert "\n" not in told


def test_files_that_cannot_be_read_are_told(tmp_path: Path):
    with pytest.raises(InputError, match="Cannot be read"):
        read_json(tmp_path / "none.json")
    with pytest.raises(InputError, match="Cannot be read"):
        read_json(tmp_path)
    large = tmp_path / "large.json"
    with open(large, "wb") as stream:
        stream.truncate(MOST_BYTES + 1)
    with pytest.raises(InputError, match="larger than 64 MB"):
        read_json(large)


def test_whole_numbers_are_whole():
    read = whole_numbers({"a": [3.0, 0.5, 1e300, True, math.inf]})
    assert read == {"a": [3, 0.5, 1e300, True, math.inf]}
    assert [type(v) for v in read["a"]] == [int, float, float, bool, float]


@pytest.mark.parametrize("where", ["", "a" * 100_000, "line\nbreak\x1b[31m", "caf\udce9.jpg", "ü" * 500])
@pytest.mark.parametrize("what", ["Is damaged", "b" * 100_000])
def test_a_sentence_is_one_short_line_whatever_it_names(where: str, what: str):
    sentence = LanternError(what, where=where, remedy="Copy it again").sentence
    assert len(sentence) <= MOST_CHARACTERS
    assert sentence.endswith("Copy it again.")
    assert sentence.isprintable()
    sentence.encode()
