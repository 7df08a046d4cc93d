"""Frames read whole for a first look and handed to the join: decoded once, and the same picture."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import tifffile
from tests.helpers.sets import FrameFiles

from idle_lantern.cli.main import main
from idle_lantern.core.frames import ahead, decoded
from idle_lantern.core.frames.ahead import ReadAhead
from idle_lantern.core.frames.reading import probe, read


def test_what_was_read_is_handed_out_once(row_set: FrameFiles):
    infos = [probe(path) for path in row_set.paths[:2]]
    read_ahead = ReadAhead(infos, 10**9)
    whole = read_ahead.whole(infos[0].path)
    assert whole is not None
    assert np.array_equal(whole.pixels, read(infos[0].path).pixels)
    assert read_ahead.take(infos[0].path) is whole
    assert read_ahead.take(infos[0].path) is None
    assert read_ahead.take(infos[1].path) is None


def test_large_sets_and_other_files_are_not_read_whole(row_set: FrameFiles, tmp_path: Path):
    infos = [probe(path) for path in row_set.paths[:2]]
    assert ReadAhead(infos, 1000).whole(infos[0].path) is None
    tifffile.imwrite(tmp_path / "t.tif", read(infos[0].path).pixels)
    assert ReadAhead([probe(tmp_path / "t.tif")], 10**9).whole(tmp_path / "t.tif") is None
    torn = tmp_path / "torn.jpg"
    torn.write_bytes(infos[0].path.read_bytes()[:-300])  # told by the careful decoder, when it is joined
    assert ReadAhead([probe(torn)], 10**9).whole(torn) is None


def test_a_join_decodes_each_frame_once_and_makes_the_same_picture(
    row_set: FrameFiles, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
):
    """Without exposures in the files a join looks at each frame for brackets first."""
    decodings: dict[str, list[Path]] = {"ahead": [], "later": []}
    for module, told in ((ahead, decodings["ahead"]), (decoded, decodings["later"])):
        plain = module.read_again
        monkeypatch.setattr(module, "read_again", lambda info, *a, r=plain, t=told: t.append(info.path) or r(info, *a))
    frames = [str(path) for path in row_set.paths[:3]]
    assert main(["join", *frames, "--out", str(tmp_path / "a.tif"), "--fresh"]) == 0
    assert sorted(decodings["ahead"]) == sorted(row_set.paths[:3])
    assert decodings["later"] == []
    monkeypatch.undo()
    assert main(["join", *frames, "--out", str(tmp_path / "b.tif"), "--fresh", "--no-groups"]) == 0
    assert np.array_equal(tifffile.imread(tmp_path / "a.tif"), tifffile.imread(tmp_path / "b.tif"))


def test_small_forms_of_an_earlier_join_cost_no_second_decoding(
    row_set: FrameFiles, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
):
    """The same files joined again in one process: their small forms are at hand, and each is still decoded once."""
    frames = [str(path) for path in row_set.paths[:3]]
    assert main(["join", *frames, "--out", str(tmp_path / "a.tif"), "--fresh"]) == 0
    read: list[Path] = []
    for module in (ahead, decoded):
        plain = module.read_again
        monkeypatch.setattr(module, "read_again", lambda info, *a, r=plain: read.append(info.path) or r(info, *a))
    assert main(["join", *frames, "--out", str(tmp_path / "b.tif"), "--fresh"]) == 0
    assert sorted(read) == sorted(row_set.paths[:3])
    assert np.array_equal(tifffile.imread(tmp_path / "a.tif"), tifffile.imread(tmp_path / "b.tif"))
