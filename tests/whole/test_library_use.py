"""The examples of docs/library.md run as they stand."""

from __future__ import annotations

import re
import shutil
from pathlib import Path

import pytest
from tests.helpers.sets import FrameFiles

from idle_lantern.core.frames.reading import probe, read

PAGE = Path(__file__).parents[2] / "docs" / "library.md"


def test_examples_run(
    row_set: FrameFiles, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
):
    (tmp_path / "frames").mkdir()
    for path in row_set.paths[:3]:
        shutil.copy(path, tmp_path / "frames")
    monkeypatch.chdir(tmp_path)
    first, request, finish, second = re.findall(r"```python\n(.*?)```", PAGE.read_text(encoding="utf-8"), re.DOTALL)
    names: dict[str, object] = {}
    exec(first, names)
    assert len([line for line in first.splitlines() if line.strip()]) <= 10
    told = capsys.readouterr().out
    assert "focal_px=" in told
    assert "1200, 3)" in told
    exec(request, names)
    assert probe(tmp_path / "joined.tif").width > 1000
    assert "joined.tif Rectangle(" in capsys.readouterr().out
    exec(finish, names)
    joined, finished = (read(tmp_path / f"{name}.tif").pixels.mean() for name in ("joined", "finished"))
    assert joined < finished < 1.5 * joined
    exec(second, names)
    focal, sigma, turns = capsys.readouterr().out.split(maxsplit=2)
    assert float(focal) == pytest.approx(row_set.lens.focal_px, rel=0.02)
    assert 0 < float(sigma) < 0.02
    assert turns.startswith("[")
