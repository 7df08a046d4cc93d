"""A picture made again after a stroke of paint: only what it touches is made, and the whole is as if all had been."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from tests.helpers.sets import FrameFiles

from idle_lantern.core.frames.masks import Mask, write_mask
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.inspection import find
from idle_lantern.core.inspection.suspect import Suspect
from idle_lantern.core.join.request import Event, Finished, JoinFrame, JoinRequest, JoinResult
from idle_lantern.core.join.service import run
from idle_lantern.core.pictures.source import region
from idle_lantern.core.pictures.tiled import TiledPicture
from idle_lantern.core.request.options import JoinOptions


@pytest.fixture(scope="module")
def joined(row_set: FrameFiles, tmp_path_factory: pytest.TempPathFactory) -> tuple[JoinRequest, JoinResult]:
    """A row joined to a tiled picture, with all that the next one may take over."""
    folder = tmp_path_factory.mktemp("rework")
    frames = tuple(JoinFrame(p, f"id{i}") for i, p in enumerate(row_set.paths[:6]))
    request = JoinRequest(
        frames,
        folder / "o.tif",
        JoinOptions(projection="cylindrical"),
        report=folder / "o.json",
        earlier=folder / "o.tif",
    )
    return request, _made(request)


def _made(request: JoinRequest) -> JoinResult:
    events: list[Event] = []
    run(request, events.append)
    end = events[-1]
    assert isinstance(end, Finished)
    return end.result


def _painted(request: JoinRequest, folder: Path, at: int = 3) -> JoinRequest:
    """A patch of one frame hidden where its neighbour shows the place."""
    hide = np.zeros((300, 212), np.uint8)
    hide[120:160, :60] = 255
    write_mask(Mask(hide, np.zeros_like(hide)), folder / "m.png")
    frames = list(request.frames)
    frames[at] = replace(frames[at], mask=folder / "m.png")
    return replace(request, frames=tuple(frames))


def _levels(path: Path) -> list[np.ndarray]:
    picture = TiledPicture(path)
    return [
        np.concatenate(
            [
                np.concatenate([picture.tile(level, r, c) for c in range(-(-w // picture.tile_px))], 1)
                for r in range(-(-h // picture.tile_px))
            ]
        )
        for level, (w, h) in enumerate(picture.sizes)
    ]


def test_the_light_of_far_frames_stays_when_one_is_painted(joined: tuple[JoinRequest, JoinResult], tmp_path: Path):
    """It was reckoned anew from what paint left, and the whole picture changed by a grey level."""
    request, first = joined
    again = replace(_painted(request, tmp_path), solution=first.solution, target=tmp_path / "o.tif", report=None)
    result = _made(again)
    assert [f.gain for f in result.report.frames] == [f.gain for f in first.report.frames]


def test_what_was_filled_is_not_taken_for_what_was_joined(joined: tuple[JoinRequest, JoinResult], tmp_path: Path):
    """A picture whose rim had been filled kept its fill when the rim was to be left as it is."""
    request, first = joined
    again = replace(
        request, solution=first.solution, target=tmp_path / "o.tif", earlier=tmp_path / "o.tif", report=None
    )
    (tmp_path / "o.tif").write_bytes(request.target.read_bytes())
    filled = _made(replace(again, options=replace(request.options, rim="fill-all")))
    assert filled.report.invented_px > 0
    plain = _made(again)
    assert plain.report.invented_px == 0
    assert np.array_equal(_levels(tmp_path / "o.tif")[0], _levels(request.target)[0])


def test_nothing_is_taken_over_from_another_picture(joined: tuple[JoinRequest, JoinResult], tmp_path: Path):
    request, first = joined
    for options, why in (
        (replace(request.options, projection="mercator"), "projection"),
        (replace(request.options, width_px=first.canvas.width - 7), "width"),
    ):
        made = _made(replace(request, options=options, solution=first.solution, target=tmp_path / "p.tif", report=None))
        assert made.report.tiles.made == made.report.tiles.of, why
    damaged = tmp_path / "damaged.tif"
    damaged.write_bytes(request.target.read_bytes()[:-2000])
    made = _made(replace(request, solution=first.solution, target=tmp_path / "q.tif", earlier=damaged, report=None))
    h, w = first.canvas.height, first.canvas.width
    whole = Rectangle(0, 0, w, h)
    assert np.array_equal(region(TiledPicture(tmp_path / "q.tif"), whole), region(TiledPicture(request.target), whole))
    assert made.report.tiles.made == made.report.tiles.of


def test_what_was_suspected_elsewhere_stays_and_what_changed_is_looked_at_anew(
    joined: tuple[JoinRequest, JoinResult], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
):
    request, first = joined
    told = json.loads(first.report.to_json())
    row = {"width": 60, "height": 60, "kind": "step", "suspicion": 0.8, "figure": 2.0, "unit": "px", "sentence": "s"}
    names = [f["file"] for f in told["frames"]]
    far, near = {"u": 40, "v": 200, "frames": names[:2]}, {"u": 0, "v": 0, "frames": names[3:4]}
    again = replace(_painted(request, tmp_path), solution=first.solution)
    seen: list[list[Suspect]] = []
    plain = find.look_over

    def watched(*args, **more):
        changed = more["changed"]
        assert changed
        near.update(u=changed[0].left + 100, v=changed[0].top + 100)
        known = [*more["known"], *(Suspect(**{**row, **s, "frames": (0,)}) for s in (far, near))]
        found = plain(*args, **{**more, "known": known})
        seen.append(list(found.suspects))
        return found

    monkeypatch.setattr(find, "look_over", watched)
    _made(replace(again, target=tmp_path / "o.tif", report=None))
    places = [(s.u, s.v) for s in seen[0] if s.sentence == "s"]
    assert places == [(40, 200)]
