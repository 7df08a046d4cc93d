"""Frames decoded once for all stages."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from idle_lantern.core.base.errors import UnreadableFrame
from idle_lantern.core.frames.decoded import DecodedFrames
from idle_lantern.core.frames.frameset import gather


@pytest.fixture
def frames(tmp_path: Path):
    rng = np.random.default_rng(1)
    ground = np.asarray(Image.fromarray(rng.integers(0, 255, (30, 40, 3), dtype=np.uint8)).resize((160, 120)))
    paths = [tmp_path / f"f{i}.jpg" for i in range(2)]
    for path in paths:
        Image.fromarray(ground).save(path, quality=95)
    return gather(paths)


def test_kept_and_read_again_show_the_same(frames):
    kept, again = DecodedFrames(frames.infos), DecodedFrames(frames.infos, 0)
    assert kept.keeps
    assert not again.keeps
    for store in (kept, again):
        first = store.first(0).pixels
        assert np.abs(store.grey(0).astype(int) - first @ [0.299, 0.587, 0.114]).mean() < 2
        np.testing.assert_array_equal(store.take(0).pixels, first)
    assert kept.first(1) is kept.first(1)
    assert kept.take(1, 2).pixels.shape == (60, 80, 3)


def test_a_file_cut_short_is_told_at_the_first_reading(frames):
    path = frames.infos[0].path
    path.write_bytes(path.read_bytes()[:-500])
    with pytest.raises(UnreadableFrame):
        DecodedFrames(frames.infos).first(0)
