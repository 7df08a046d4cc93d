"""Local warps come back from a report as they went in, and damage is said."""

from __future__ import annotations

import base64
import zlib

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from idle_lantern.core.join.packed_warp import packed, unpacked
from idle_lantern.core.join.report import PackedWarp


@given(st.integers(2, 40), st.integers(2, 40), st.floats(0.01, 3000), st.integers(0, 99))
def test_shifts_come_back_to_a_hundredth_or_to_what_16_bit_can_tell(rows: int, columns: int, most: float, seed: int):
    bend = np.random.default_rng(seed).uniform(-most, most, (rows, columns, 2)).astype(np.float32)
    back = unpacked(msgspec.json.decode(msgspec.json.encode(packed(bend)), type=PackedWarp))
    assert back is not None
    assert back.shape == bend.shape
    assert np.abs(back - bend).max() <= max(0.0051, most / 60_000)


def test_most_frames_have_none():
    assert unpacked(None) is None


@pytest.mark.parametrize(
    "wrong",
    [
        {"rows": 3},
        {"columns": 1},
        {"int16_deflated_base64": "no base 64 at all!"},
        {"int16_deflated_base64": base64.b64encode(b"not deflated").decode()},
        {"int16_deflated_base64": base64.b64encode(zlib.compress(bytes(10))).decode()},
    ],
)
def test_damage_is_no_warp(wrong: dict):
    with pytest.raises(ValueError):
        unpacked(msgspec.structs.replace(packed(np.ones((2, 2, 2), np.float32)), **wrong))
