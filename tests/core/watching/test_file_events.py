"""Word from the system that a folder changed, and tones that tell good from bad."""

from __future__ import annotations

import threading
from pathlib import Path

import numpy as np
import pytest

from idle_lantern.app.sounds import can_sound, play
from idle_lantern.core.watching.file_events import FolderEvents
from idle_lantern.core.watching.tones import NOTES, RATE, samples


@pytest.fixture
def folder_events(tmp_path: Path):
    made = FolderEvents(tmp_path)
    yield made
    made.close()


def test_it_rings_for_what_is_written_renamed_or_removed_and_not_for_what_is_read(
    folder_events: FolderEvents, tmp_path: Path
):
    assert folder_events.works
    assert not folder_events.wait(0.05)
    file = tmp_path / "a.jpg"
    file.write_bytes(b"1")
    assert folder_events.wait(5)
    while folder_events.wait(0.3):  # one file, several words
        pass
    file.read_bytes()
    assert not folder_events.wait(0.4)
    (tmp_path / "DCIM").mkdir()
    assert folder_events.wait(5)
    while folder_events.wait(0.3):
        pass
    (tmp_path / "DCIM" / "b.jpg").write_bytes(b"2")
    assert folder_events.wait(5), "folders that come later are listened to as well"


def test_a_folder_that_is_not_there_gives_no_word_until_it_is_listened_to_anew(tmp_path: Path):
    folder_events = FolderEvents(tmp_path / "gone")
    assert not folder_events.works
    (tmp_path / "gone").mkdir()
    folder_events.listen()
    assert folder_events.works
    folder_events.close()
    assert not folder_events.works
    assert not any("inotify" in t.name.lower() and t.is_alive() for t in threading.enumerate())


@pytest.mark.parametrize("kind", ["good", "care", "again"])
def test_notes_are_those_of_the_equal_tempered_scale(kind: str):
    """ISO 16:1975 sets a' to 440 Hz; a semitone is the twelfth root of two. The strongest line of each note is sought by FFT."""
    tone, at = samples(kind), 0
    for frequency, seconds in NOTES[kind]:
        semitones = 12 * np.log2(frequency / 440)
        assert abs(semitones - round(semitones)) < 0.01
        piece = tone[at : at + round(seconds * RATE)].astype(float)
        lines = np.abs(np.fft.rfft(piece * np.hanning(len(piece)), 1 << 16))
        assert lines.argmax() * RATE / (1 << 16) == pytest.approx(frequency, abs=6)
        at += round((seconds + 0.05) * RATE)
    assert np.abs(tone).max() < 0.5 * 32767, "not loud"
    assert abs(int(tone[0])) < 50
    assert abs(int(tone[-1])) < 200, "no click where it ends"


def test_tones_are_told_apart_and_a_machine_without_sound_is_silent(monkeypatch, tmp_path: Path):
    assert len({(len(notes), notes[-1][0]) for notes in NOTES.values()}) == 3
    heard: list[int] = []
    thread = play("care", lambda tone: heard.append(len(tone)))
    assert thread is not None
    thread.join(5)
    assert heard == [len(samples("care"))]

    def broken(_tone: object) -> None:
        raise OSError("no device")

    thread = play("again", broken)
    assert thread is not None
    thread.join(5)
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(tmp_path))
    if not can_sound():
        assert play("good") is None
