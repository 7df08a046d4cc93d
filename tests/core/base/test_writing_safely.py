"""Nothing is ever left half-written, and progress tells a true remaining time."""

from __future__ import annotations

import numpy as np
import pytest

from idle_lantern.core.base import progress as progress_module
from idle_lantern.core.base import units
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


def test_time_left_is_told_when_it_is_known_within_a_half(monkeypatch):
    """Of a run whose first stage was long for its share nothing is told until the pace shows again; before, half an hour of a minute."""
    now = [100.0]
    monkeypatch.setattr(progress_module.time, "monotonic", lambda: now[0])
    took = {"prepare": 20.0, "read": 2.0, "solve": 8.0, "blend": 9.0, "look": 3.0}
    clock = StageClock({"prepare": 0.05, "read": 0.1, "solve": 0.35, "blend": 0.4, "look": 0.1})
    told = []
    for k, (stage, seconds) in enumerate(took.items()):
        clock.begin(stage, 10)
        for step in range(10):
            now[0] += seconds / 10
            clock.advance()
            left = seconds * (9 - step) / 10 + sum(list(took.values())[k + 1 :])
            if clock.remaining_s is not None:
                told.append((stage, clock.remaining_s, left))
    assert {stage for stage, _s, _left in told} >= {"blend", "look"}
    assert all(stage in ("solve", "blend", "look") for stage, _s, _left in told)
    assert all(abs(s - left) <= 0.5 * left + 1.0 for _stage, s, left in told)
    # a stage that was skipped and one that nobody foresaw tell nothing wrong either
    clock = StageClock({"prepare": 0.2, "read": 0.3, "blend": 0.5})
    clock.begin("read", 10)
    clock.begin("unforeseen", 4)
    assert clock.remaining_s is None
    assert [units.time_left(s) for s in (0.4, 7.2, 43, 100, 1917, 4000)] == [
        "about 1 s left", "about 7 s left", "about 45 s left", "about 2 min left", "about 32 min left", "about 1 h 05 min left",
    ]  # fmt: skip


def test_srgb_transfer_of_the_standard():
    """IEC 61966-2-1: the two branches meet at 0.0031308 / 0.04045; mid grey 0.5 encodes to 188 of 255 (from memory)."""
    assert float(SRGB.from_linear(np.array(0.0031308))) == pytest.approx(0.04045, abs=1e-5)
    assert round(255 * float(SRGB.from_linear(np.array(0.5)))) == 188
    values = np.linspace(0, 1, 256)
    np.testing.assert_allclose(SRGB.from_linear(SRGB.to_linear(values)), values, atol=1e-6)
