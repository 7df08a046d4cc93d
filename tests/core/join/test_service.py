"""The one join service: a frozen request in, events out; no output may be an input."""

from __future__ import annotations

import os
import time
from dataclasses import FrozenInstanceError, replace
from pathlib import Path

import numpy as np
import pytest
from tests.helpers.sets import FrameFiles

from idle_lantern.cli.main import main
from idle_lantern.core.base.errors import Cancelled, InputError
from idle_lantern.core.base.paths import check_outputs, identity
from idle_lantern.core.base.progress import Silent
from idle_lantern.core.frames.masks import Mask, write_mask
from idle_lantern.core.inspection import find
from idle_lantern.core.join.reopening import load_result
from idle_lantern.core.join.report import read_report
from idle_lantern.core.join.request import (
    Event,
    Failed,
    Finished,
    JoinFrame,
    JoinRequest,
    RoughReady,
    Solved,
    TileDone,
)
from idle_lantern.core.join.service import run
from idle_lantern.core.pictures.tiled import open_picture
from idle_lantern.core.request.choices import MaskRef
from idle_lantern.core.request.options import JoinOptions


def _request(row_set: FrameFiles, folder: Path, count: int = 3, **more: object) -> JoinRequest:
    frames = tuple(JoinFrame(p, f"id{i}") for i, p in enumerate(row_set.paths[:count]))
    return JoinRequest(frames, folder / "o.tif", report=folder / "o.json", document_id="outing", **more)  # type: ignore[arg-type]


def _events(request: JoinRequest) -> list[Event]:
    events: list[Event] = []
    run(request, events.append)
    return events


def test_a_request_gives_its_events_in_order_and_one_end(row_set: FrameFiles, tmp_path: Path):
    request = _request(row_set, tmp_path, rough=True)
    began = time.monotonic()
    events = _events(request)
    elapsed = time.monotonic() - began
    assert {(e.document_id, e.request_id) for e in events} == {("outing", request.request_id)}
    kinds = [type(e) for e in events]
    assert kinds[0] is RoughReady
    assert kinds.count(Solved) == 1
    assert kinds[-1] is Finished
    assert not {Finished, Failed} & set(kinds[:-1])
    solved = next(e for e in events if isinstance(e, Solved))
    rough = next(e for e in events if isinstance(e, RoughReady))
    assert rough.picture.picture.pixels.shape[0] <= rough.canvas.height
    end = events[-1]
    assert isinstance(end, Finished)
    result = end.result
    tiles = [e.tile for e in events if isinstance(e, TileDone)]
    assert sum(t.width * t.height for t in tiles) == result.canvas.width * result.canvas.height
    assert result.canvas == replace(solved.canvas) or result.canvas.width == solved.canvas.width
    assert result.frame_ids == ("id0", "id1", "id2")
    assert 0 < result.took_s <= elapsed
    assert read_report(tmp_path / "o.json") == result.report
    assert open_picture(request.target).sizes[0] == (result.canvas.width, result.canvas.height)
    with pytest.raises(FrozenInstanceError):
        request.target = tmp_path / "other.tif"  # type: ignore[misc]


def test_another_picture_of_a_solution_solves_nothing_anew(row_set: FrameFiles, tmp_path: Path):
    first = _events(_request(row_set, tmp_path))[-1]
    assert isinstance(first, Finished)
    again = _request(row_set, tmp_path, rough=True, solution=first.result.solution)
    again = replace(again, options=JoinOptions(projection="mercator"))
    events = _events(again)
    end = events[-1]
    assert isinstance(end, Finished)
    assert not end.result.solved_anew
    assert end.result.canvas.projection.name == "mercator"
    assert end.result.report.asked.projection == "mercator"
    assert end.result.solution is first.result.solution
    assert isinstance(events[1], RoughReady), "a first look of the new projection"
    # what it took is of this request alone
    assert end.result.took_s < sum(first.result.report.timings_s.values()) + end.result.took_s


def test_results_come_back_from_disk(row_set: FrameFiles, tmp_path: Path):
    end = _events(_request(row_set, tmp_path))[-1]
    assert isinstance(end, Finished)
    paths = {f"id{i}": p for i, p in enumerate(row_set.paths)}
    back = load_result(tmp_path / "o.tif", tmp_path / "o.json", paths.get)
    assert back.canvas.width == end.result.canvas.width
    assert (back.crop, back.frame_ids, back.took_s) == (
        end.result.crop,
        end.result.frame_ids,
        end.result.report.took_s,
    )
    assert back.solution is not None
    gone = load_result(tmp_path / "o.tif", tmp_path / "o.json", lambda _f: None)
    assert gone.solution is None, "frames are gone, the picture is not"
    for damage in ("{", "[]", "null", '{"canvas": 3}', "[" * 100_000):
        (tmp_path / "o.json").write_text(damage)
        with pytest.raises(InputError, match="report of the last join is damaged"):
            load_result(tmp_path / "o.tif", tmp_path / "o.json", paths.get)


def test_a_fault_in_looking_the_picture_over_does_not_cost_it(
    row_set: FrameFiles, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
):
    def fails(*_a: object, **_k: object) -> None:
        raise IndexError("nobody expected this")

    monkeypatch.setattr(find, "look_over", fails)
    end = _events(_request(row_set, tmp_path))[-1]
    assert isinstance(end, Finished)
    assert end.result.report.suspects is None, "nothing found is another thing than nobody looked"
    assert "nobody expected this" in caplog.text
    assert (tmp_path / "o.tif").is_file()


def test_masks_and_damaged_frames_end_in_one_failure(row_set: FrameFiles, tmp_path: Path):
    broken = [tmp_path / "broken.jpg", tmp_path / "half.jpg"]
    for path in broken:  # what their headers say is sound
        path.write_bytes(row_set.paths[0].read_bytes()[:-3000])
    request = replace(_request(row_set, tmp_path), frames=tuple(map(JoinFrame, [*broken, row_set.paths[0]])))
    events = _events(request)
    assert [type(e) for e in events] == [Failed]
    assert isinstance(events[0], Failed)
    assert all(path.name in events[0].error.sentence for path in broken), "all at once, not one at a time"
    assert [f.used for f in events[0].report.frames] == [False] * 3
    assert not request.target.exists()
    (tmp_path / "bad.mask.png").write_bytes(b"no picture")
    painted = replace(
        _request(row_set, tmp_path),
        frames=(JoinFrame(row_set.paths[0], mask=tmp_path / "bad.mask.png"), JoinFrame(row_set.paths[1])),
    )
    (failed,) = _events(painted)
    assert isinstance(failed, Failed)
    assert "no mask" in failed.error.sentence


def test_what_is_painted_is_told_in_the_report(row_set: FrameFiles, tmp_path: Path):
    mask = tmp_path / ("a" * 64 + ".png")
    hide = np.zeros((68, 48), np.uint8)
    hide[:, :5] = 255
    write_mask(Mask(hide, hide * 0), mask)
    request = _request(row_set, tmp_path)
    painted = JoinOptions(masks=(MaskRef("id0", "a" * 64),))
    request = replace(request, frames=(replace(request.frames[0], mask=mask), *request.frames[1:]), options=painted)
    end = _events(request)[-1]
    assert isinstance(end, Finished)
    assert end.result.report.asked.masks == painted.masks


def test_stopping_is_no_event(row_set: FrameFiles, tmp_path: Path):
    class Stops(Silent):
        def begin(self, stage: str, total: int) -> None:
            if stage == "blend":
                raise Cancelled

    events: list[Event] = []
    with pytest.raises(Cancelled):
        run(_request(row_set, tmp_path), events.append, Stops())
    assert not any(isinstance(e, (Finished, Failed)) for e in events)
    assert [p.name for p in tmp_path.iterdir() if p.is_file()] == []


@pytest.fixture
def two(row_set: FrameFiles, tmp_path: Path) -> list[Path]:
    paths = []
    for path in row_set.paths[:2]:
        paths.append(tmp_path / path.name)
        paths[-1].write_bytes(path.read_bytes())
    return paths


def _spellings(path: Path) -> list[Path]:
    """Other names of one file: a symbolic link, a hard link, a way round."""
    soft, hard = path.with_name("soft.jpg"), path.with_name("hard.jpg")
    soft.symlink_to(path)
    os.link(path, hard)
    (path.parent / "sub").mkdir()
    return [path, soft, hard, path.parent / "sub" / ".." / path.name]


def test_no_output_of_the_command_may_be_an_input(two: list[Path], tmp_path: Path, capsys: pytest.CaptureFixture[str]):
    """`--report d/f00.jpg` used to turn a photograph into JSON and end with 0."""
    before = two[0].read_bytes()
    frames = [str(p) for p in two]
    for spelling in _spellings(two[0]):
        for arguments in (
            ["--out", str(tmp_path / "o.jpg"), "--report", str(spelling)],
            ["--out", str(spelling)],
        ):
            assert main(["join", *frames, *arguments]) == 2
            assert "that file would be lost" in capsys.readouterr().err
            assert two[0].read_bytes() == before
    out = str(tmp_path / "o.png")
    assert main(["join", *frames, "--out", out, "--report", out]) == 2
    assert "two outputs" in capsys.readouterr().err
    assert not Path(out).exists()


def test_the_prior_is_an_input_too(two: list[Path], tmp_path: Path, capsys: pytest.CaptureFixture[str]):
    prior = tmp_path / "p.json"
    prior.write_text("{}")
    assert (
        main(["join", *map(str, two), "--out", str(tmp_path / "o.jpg"), "--prior", str(prior), "--report", str(prior)])
        == 2
    )
    assert prior.read_text() == "{}"
    assert "would be lost" in capsys.readouterr().err


def test_a_report_that_cannot_be_written_is_told_before_the_work(
    two: list[Path], tmp_path: Path, capsys: pytest.CaptureFixture[str]
):
    folder = tmp_path / "a-folder"
    folder.mkdir()
    assert main(["join", *map(str, two), "--out", str(tmp_path / "o.jpg"), "--report", str(folder)]) == 2
    told = capsys.readouterr().err
    assert told.count("Is a folder") == 1
    assert not (tmp_path / "o.jpg").exists()


def test_files_are_known_by_what_they_are(tmp_path: Path):
    one = tmp_path / "one"
    one.write_text("x")
    (tmp_path / "link").symlink_to(one)
    assert identity(one) == identity(tmp_path / "link")
    assert identity(tmp_path / "new") == identity(tmp_path / "." / "new")
    assert identity(tmp_path / "new") != identity(tmp_path / "other")
    check_outputs([tmp_path / "new"], [one])
    with pytest.raises(InputError, match="Is one of the files"):
        check_outputs([tmp_path / "link"], [one])


def test_a_frame_that_is_off_ties_the_others_and_shows_nowhere(row_set: FrameFiles, tmp_path: Path):
    request = replace(_request(row_set, tmp_path), options=JoinOptions(off=("id1",)))
    end = _events(request)[-1]
    assert isinstance(end, Finished)
    row = end.result.report.frames[1]
    assert (row.used, row.shown_px) == (True, [])
    assert end.result.report.asked.off == ("id1",)
    # its neighbours reach over it but for a strip: there is a gap now
    assert end.result.report.frames[0].shown_px
    every = replace(request, options=JoinOptions(off=tuple(f.id for f in request.frames)), solution=end.result.solution)
    last = _events(every)[-1]
    assert isinstance(last, Failed)
    assert "Every frame is switched off" in last.error.sentence
