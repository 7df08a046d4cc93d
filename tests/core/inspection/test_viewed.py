"""Which parts of a picture were looked at: the walk leaves nothing out, and what was made anew was not seen."""

from __future__ import annotations

import json
import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.helpers.sets import FrameFiles

from idle_lantern.core.frames.masks import Mask, mask_bytes
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.inspection.viewed import CELL, Seen
from idle_lantern.core.join.request import Finished, JoinFrame, JoinRequest
from idle_lantern.core.join.service import run
from idle_lantern.core.request.options import JoinOptions


def _empty(width: int, height: int, wanted: Rectangle | None = None) -> Seen:
    tiles = -(-width // 512) * -(-height // 512)
    return Seen((width, height), tuple(f"t{i}" for i in range(tiles)), wanted or Rectangle(0, 0, width, height))


@settings(max_examples=25, deadline=None)
@given(
    width=st.integers(1, 4000),
    height=st.integers(1, 2500),
    view=st.tuples(st.floats(CELL + 1, 1900), st.floats(CELL + 1, 1100)),
)
def test_the_walk_ends_and_every_pixel_was_in_a_view(width: int, height: int, view: tuple[float, float]):
    seen, shown = _empty(width, height), np.zeros((height, width), bool)
    steps = 0
    while (place := seen.next_part(*view)) is not None:
        # the viewer keeps the picture in sight: at the rim the view is moved inwards
        (u, v), (w, h) = place, view
        u = width / 2 if w >= width else min(max(u, w / 2), width - w / 2)
        v = height / 2 if h >= height else min(max(v, h / 2), height - h / 2)
        left, top, right, bottom = u - w / 2, v - h / 2, u + w / 2, v + h / 2
        assert seen.look(left, top, right, bottom), "each step shows something new"
        shown[max(0, round(top)) : max(0, round(bottom)), max(0, round(left)) : max(0, round(right))] = True
        steps += 1
        assert steps <= math.ceil(width / CELL) * math.ceil(height / CELL), "no cell is gone to twice"
    assert seen.share == 1.0
    assert shown.all()


def test_only_what_is_wanted_is_walked_and_counted():
    seen = _empty(2000, 1000, Rectangle(512, 256, 256, 256))
    assert seen.share == 0.0
    place = seen.next_part(900, 400)
    assert place == (512 + 450, 256 + 200)
    seen.look(512, 256, 768, 512)
    assert seen.share == 1.0
    assert seen.next_part(900, 400) is None
    assert not seen.look(520, 260, 700, 400), "seen before"


def test_what_was_seen_is_kept_tile_by_tile(tmp_path: Path):
    seen, kept = _empty(1300, 900), tmp_path / "seen.json"
    seen.look(0, 0, 700, 300)
    seen.save(kept)
    again = _empty(1300, 900)
    again._take(json.loads(kept.read_text())["tiles"])
    assert np.array_equal(again.cells, seen.cells)
    # a tile that was made from something else was not seen
    other = Seen((1300, 900), ("new", "t1", "t2", "t3", "t4", "t5"), Rectangle(0, 0, 1300, 900))
    other._take(json.loads(kept.read_text())["tiles"])
    each = 512 // CELL
    assert not other.cells[:each, :each].any()
    assert seen.cells[:4, :each].all()
    assert np.array_equal(other.cells[:, each:], seen.cells[:, each:])


def test_after_a_stroke_of_paint_only_what_was_made_anew_is_unseen(row_set: FrameFiles, tmp_path: Path):
    """The joined picture itself, made twice: the second time with a corner of a frame hidden."""
    frames = tuple(JoinFrame(p, str(i)) for i, p in enumerate(row_set.paths[:4]))
    request = JoinRequest(frames, tmp_path / "o.tif", JoinOptions(), report=tmp_path / "r.json")
    first = _finished(request)
    canvas = first.result.canvas
    size, whole = (canvas.width, canvas.height), Rectangle(0, 0, canvas.width, canvas.height)
    seen = Seen.of(tmp_path / "o.tif", size, whole)
    seen.look(0, 0, *size)
    assert seen.share == 1.0
    assert seen.unseen_on_map(canvas) == []
    seen.save(tmp_path / "seen.json")
    hide = np.zeros((68, 48), np.uint8)
    hide[:, :8] = 255
    (tmp_path / "m.png").write_bytes(mask_bytes(Mask(hide, np.zeros_like(hide))))
    painted = (frames[0], replace(frames[1], mask=tmp_path / "m.png"), *frames[2:])
    again = _finished(replace(request, frames=painted, solution=first.result.solution, earlier=tmp_path / "o.tif"))
    now = Seen.of(tmp_path / "o.tif", size, whole, tmp_path / "seen.json")
    made = again.result.report.tiles
    assert 0 < made.made < made.of
    assert now.share == pytest.approx(1 - made.made / made.of, abs=0.15)
    shapes = now.unseen_on_map(canvas)
    assert shapes
    # what was hidden of the second frame is unseen, the middle of the last is not
    poses = first.result.solution.poses
    for k, place, unseen in ((1, (40.0, 340.0), True), (3, (320.0, 340.0), False)):
        x, _, z = poses.world_from_camera[k] @ poses.lenses[k].unproject(np.array([place]))[0]
        yaw = np.degrees(np.arctan2(x, z))
        assert any(min(y for y, _ in s) < yaw < max(y for y, _ in s) for s in shapes) == unseen


def _finished(request: JoinRequest) -> Finished:
    events = []
    run(request, events.append)
    assert isinstance(events[-1], Finished)
    return events[-1]
