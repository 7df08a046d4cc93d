"""Nothing is ever left half-written, and progress tells a true remaining time."""

from __future__ import annotations

import numpy as np
import pytest

from idle_lantern.core.base import progress as progress_module
from idle_lantern.core.base.atomic import replacing, write_text
from idle_lantern.core.base.errors import InputError, LanternError
from idle_lantern.core.base.progress import StageClock
from idle_lantern.core.colour.space import SRGB


def test_a_failure_keeps_the_old_file_and_leaves_no_other(tmp_path):
    target = tmp_path / "a.txt"
    target.write_text("old")

    def fail_half_way() -> None:
        with replacing(target) as temporary:
            temporary.write_text("half")
            raise RuntimeError("power cut")

    with pytest.raises(RuntimeError):
        fail_half_way()
    assert target.read_text() == "old"
    assert {p.name for p in tmp_path.iterdir()} == {"a.txt", "user"}


def test_a_full_disk_is_told_in_one_sentence(tmp_path):
    target = tmp_path / "a.txt"

    def write_to_full_disk() -> None:
        with replacing(target):
            raise OSError(28, "No space left on device")

    with pytest.raises(InputError, match=r"No space left on device.*Make room"):
        write_to_full_disk()
    assert not target.exists()


def test_a_missing_folder_is_told(tmp_path):
    with pytest.raises(InputError, match="Choose a folder"):
        write_text(tmp_path / "none" / "a.txt", "x")


def test_sentences_hold_where_what_and_remedy():
    error = LanternError("Is empty", where="f01.jpg", remedy="Copy it again")
    assert error.sentence == "f01.jpg: Is empty. Copy it again."


def test_stage_clock_never_runs_backwards_and_ends_at_one():
    clock = StageClock({"read": 1.0, "adjust": 2.0, "write": 1.0})
    seen = []
    for stage in ("read", "adjust", "adjust", "write"):
        clock.begin(stage, 4)
        seen.append(clock.fraction)
        for _ in range(4):
            clock.advance()
        seen.append(clock.fraction)
    assert seen == [0.0, 0.25, 0.25, 0.75, 0.75, 0.75, 0.75, 1.0]


def test_remaining_time_follows_the_pace(monkeypatch):
    now = [100.0]
    monkeypatch.setattr(progress_module.time, "monotonic", lambda: now[0])
    clock = StageClock({"work": 1.0})
    clock.begin("work", 10)
    assert clock.remaining_s is None
    clock.advance(2)
    now[0] += 8.0
    assert clock.remaining_s == pytest.approx(32.0)


def test_srgb_transfer_of_the_standard():
    """IEC 61966-2-1: the two branches meet at 0.0031308 / 0.04045; mid grey 0.5 encodes to 188 of 255 (from memory)."""
    assert float(SRGB.from_linear(np.array(0.0031308))) == pytest.approx(0.04045, abs=1e-5)
    assert round(255 * float(SRGB.from_linear(np.array(0.5)))) == 188
    values = np.linspace(0, 1, 256)
    np.testing.assert_allclose(SRGB.from_linear(SRGB.to_linear(values)), values, atol=1e-6)
