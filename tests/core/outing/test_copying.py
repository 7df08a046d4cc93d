"""Frames copied into an outing: faithful, never over another file, and nothing half-written when the card goes."""

from __future__ import annotations

import errno
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from tests.helpers.outings import bring_frames

from idle_lantern.core.base.errors import Cancelled, InputError, UnreadableFrame
from idle_lantern.core.outing import copying, document
from idle_lantern.core.outing.model import Outing
from idle_lantern.core.outing.position_edits import move_files


@pytest.fixture
def card(tmp_path: Path) -> Outing:
    """An outing of three files on a card; one has the name of a file that is in the outing already."""
    (tmp_path / "card").mkdir()
    for n in "abc":
        (tmp_path / "card" / f"{n}.jpg").write_bytes(n.encode() * 3_000_000)
    (tmp_path / "o" / "frames").mkdir(parents=True)
    (tmp_path / "o" / "frames" / "a.jpg").write_bytes(b"another")
    return bring_frames([str(tmp_path / "card" / f"{n}.jpg") for n in "abc"]).apply(Outing("A", "2026"))


def test_copies_are_faithful_and_overwrite_nothing(card: Outing, tmp_path: Path):
    folder = tmp_path / "o"
    names = copying.copied(card, folder)
    moved = move_files(names).apply(card)
    assert [r.file for r in moved.frames] == ["frames/a-2.jpg", "frames/b.jpg", "frames/c.jpg"]
    assert [r.id for r in moved.frames] == [r.id for r in card.frames]
    for before, after in zip(card.frames, moved.frames):
        assert document.resolve(folder, after).read_bytes() == Path(before.file).read_bytes()
    assert (folder / "frames" / "a.jpg").read_bytes() == b"another"
    assert copying.elsewhere(moved, folder) == {}
    # once more: nothing is copied twice
    assert copying.copied(card, folder) == names
    assert len(list((folder / "frames").iterdir())) == 4


@pytest.mark.parametrize(
    ("fault", "told", "word"),
    [
        (OSError(errno.ENOSPC, "No space left on device"), InputError, "Make room"),
        (OSError(errno.EIO, "Input/output error"), InputError, "failed"),
        (FileNotFoundError(errno.ENOENT, "gone"), UnreadableFrame, "Put the card back"),
    ],
)
def test_what_breaks_leaves_nothing_half(
    card: Outing, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, fault: OSError, told: type[Exception], word: str
):
    real = open
    calls = [0]

    def breaking(path: Any, mode: str = "r", *rest: Any, **more: Any) -> Any:
        if mode == "wb":
            calls[0] += 1
            if calls[0] == 2:
                raise fault
        return real(path, mode, *rest, **more)

    monkeypatch.setattr(copying, "open", breaking, raising=False)
    with pytest.raises(told, match=word):
        copying.copied(card, tmp_path / "o")
    assert sorted(p.name for p in (tmp_path / "o" / "frames").iterdir()) == ["a-2.jpg", "a.jpg"]


def test_a_stop_comes_within_a_megabyte(card: Outing, tmp_path: Path):
    class Stops:
        steps = 0

        def begin(self, stage: str, total: int) -> None:
            """Nothing to stop yet."""

        def advance(self, n: int = 1) -> None:
            """Stop in the middle of the first file."""
            self.steps += 1
            if self.steps == 5:
                raise Cancelled

    with pytest.raises(Cancelled):
        copying.copied(card, tmp_path / "o", Stops())
    assert [p.name for p in (tmp_path / "o" / "frames").iterdir()] == ["a.jpg"]


def test_a_failing_card_is_noticed(card: Outing, tmp_path: Path, monkeypatch: pytest.MonkeyPatch):
    real: Callable[..., str] = copying._hash
    monkeypatch.setattr(copying, "_hash", lambda path, p: real(path, p) + ("x" if ".lantern-part" in path.name else ""))
    with pytest.raises(UnreadableFrame, match="faithfully"):
        copying.copied(card, tmp_path / "o")
    assert [p.name for p in (tmp_path / "o" / "frames").iterdir()] == ["a.jpg"]
