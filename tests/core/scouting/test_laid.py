"""Scouting pictures kept, laid on the map and drawn from it: places against the canvas, turns, pictures of one place."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from tests.helpers.sets import FrameFiles, render
from tests.helpers.telephone import LENS

from idle_lantern.core.base.errors import UnreadableFrame
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.compositing.canvas.unroll import map_directions
from idle_lantern.core.frames.reading import read
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.core.geometry.sphere import direction
from idle_lantern.core.scouting.compared import deviation
from idle_lantern.core.scouting.reprojection import (
    ReprojectedScouts,
    as_bytes,
    drawn,
    moved,
    on_canvas,
    on_sphere,
    read_reprojected,
    through_lens,
)
from idle_lantern.core.scouting.scout import laid_beside, scouted, turn_between
from idle_lantern.core.scouting.scout_picture import ScoutPicture, front, on_map, share_about
from idle_lantern.simulator.diorama import ambrel_holm

Kept = tuple[ScoutPicture, ReprojectedScouts, bytes]


def test_a_direction_shows_what_its_canvas_holds_there(kept: Kept):
    """The sheet of the map, drawn from directions at every eighth pixel, is the one asked pixel by pixel."""
    _, ground, _ = kept
    quick, exact = on_sphere([ground], (1440, 720)), drawn(map_directions((1440, 720)), [ground])
    both = (quick[..., 3] > 0) & (exact[..., 3] > 0)
    assert both.mean() > 0.05
    assert (quick[..., 3] != exact[..., 3]).mean() < 0.003
    assert np.abs(quick[both].astype(int) - exact[both])[:, :3].mean() < 2


def test_nothing_lies_where_no_picture_does(kept: Kept):
    """A strip of the picture stood at the map's far side, where the azimuth jumps from 180 to -180 degrees."""
    _, ground, _ = kept
    shown = on_sphere([ground], (720, 360))[..., 3].any(0)
    inside = np.flatnonzero(shown)
    assert np.ptp(inside) + 1 == len(inside), "one stretch of the circle"
    assert len(inside) / 2 == pytest.approx(26 * 4 + math.degrees(2 * math.atan(240 / 560)), abs=3)


def test_a_full_circle_closes_and_a_turn_moves_it(tmp_path: Path):
    rng = np.random.default_rng(1)
    pixels = np.kron(rng.integers(0, 255, (12, 24, 3), dtype=np.uint8), np.ones((20, 20, 1), np.uint8))
    scale = 480 / (2 * math.pi)
    canvas = Canvas(Projection("equirectangular"), 480, 240, scale, (239.5, 119.5), full_circle=True)
    data, own = as_bytes(Picture(pixels), canvas)
    (tmp_path / "a.png").write_bytes(data)
    kept = ScoutPicture(
        "a", "a", "0" * 64, "equirectangular", own.width, own.height, own.px_per_rad, own.centre_px,
        ((1, 0, 0), (0, 1, 0), (0, 0, 1)), full_circle=True,
    )  # fmt: skip
    ground = read_reprojected(kept, tmp_path / "a.png")
    sheet = on_sphere([ground], (480, 240))
    assert (sheet[..., 3] > 0).all()
    assert np.abs(sheet[..., :3].astype(int) - pixels).max() <= 1
    turned = on_sphere([moved(ground, replace(kept, turn_deg=(90.0, 0.0, 0.0)))], (480, 240))
    assert np.abs(turned[..., :3].astype(int) - np.roll(pixels, 120, 1)).mean() < 1
    # the first of several lies in front
    assert np.array_equal(on_sphere([ground, moved(ground, replace(kept, turn_deg=(9.0, 0, 0)))], (480, 240)), sheet)
    with pytest.raises(UnreadableFrame, match="scouting picture 'a'"):
        read_reprojected(kept, tmp_path / "gone.png")
    (tmp_path / "bad.png").write_bytes(data[: len(data) // 2])
    with pytest.raises(UnreadableFrame, match="cannot be read"):
        read_reprojected(kept, tmp_path / "bad.png")


def test_a_canvas_of_any_projection_shows_the_same_directions(kept: Kept):
    _, ground, _ = kept
    for name in ("rectilinear", "panini", "stereographic"):
        kind = Projection(name, {"distance": 1.0} if name == "panini" else {})
        canvas = Canvas(kind, 300, 200, 200.0, (149.5, 99.5), rotations.about_y(-0.2))
        sheet = on_canvas(canvas, [ground])
        u, v = np.meshgrid(np.arange(300.0), np.arange(200.0))
        exact = drawn(canvas.directions(np.stack([u, v], -1)), [ground])
        both = (sheet[..., 3] > 0) & (exact[..., 3] > 0)
        assert both.mean() > 0.5, name
        assert np.abs(sheet[both].astype(int) - exact[both]).mean() < 1.5, name


@pytest.mark.parametrize("turn", [40.0, -75.5])
def test_two_pictures_of_a_place_are_turned_onto_each_other(kept: Kept, tmp_path: Path, turn: float):
    picture, ground, _ = kept
    away = moved(ground, replace(picture, turn_deg=(turn, 0.0, 0.0)))
    assert turn_between(away, ground) == pytest.approx(turn, abs=0.6)


def test_another_place_is_not_turned_onto_it_and_a_later_sweep_is(kept: Kept, sweep: FrameFiles):
    _, ground, _ = kept
    elsewhere = ground.pixels[:, ::-1].copy()  # the same mirrored: as much detail, and nowhere the same
    assert turn_between(ground, replace(ground, pixels=elsewhere)) is None
    middle = [math.degrees(math.atan2(c[0, 2], c[2, 2])) for c in sweep.cameras]
    again = scouted(sweep.paths[1:])
    laid = laid_beside(*again, ground, 0.0, others=True)
    true = sum(middle[1:]) / 4 - sum(middle) / 5
    assert laid.turn_deg[0] == pytest.approx(true, abs=0.7)
    assert "shows the same" in laid.told[-1]
    # a compass is believed before that, against the bearing of yaw 0
    compass = laid_beside(replace(again[0], facing_deg=100.0), again[1], ground, 80.0, others=True)
    assert compass.turn_deg[0] == pytest.approx(20.0)
    assert laid_beside(*again, None, 0.0, others=False).turn_deg == (0.0, 0.0, 0.0)


def test_readings_and_detail_follow_the_turn(kept: Kept):
    picture, _, _ = kept
    assert len(picture.readings) >= 10
    at = {round(a): ev for a, ev, _ in on_map([picture])}
    moved_by = {round(a): ev for a, ev, _ in on_map([replace(picture, turn_deg=(30.0, 0, 0))])}
    assert moved_by[35] == at[5]
    hidden = replace(picture, shown=False)
    assert front([hidden, picture]) is picture
    assert front([hidden]) is None
    assert math.isnan(share_about([picture], 180, 0, 40, 40))
    land = share_about([picture], 0, -12, 30, 20)
    assert land > 0.4
    assert share_about([replace(picture, turn_deg=(50.0, 0, 0))], 50, -12, 30, 20) == pytest.approx(land)
    # of two cells, one with detail, a box that holds a quarter of the one tells a quarter: 1.25 of 5 degrees by hand
    cells = ((2.5, -2.5, 1.0), (2.5, 2.5, 0.0), (-2.5, -2.5, 1.0), (-2.5, 2.5, 0.0))
    assert share_about([replace(picture, details=cells)], 0, 1.25, 5, 5) == pytest.approx(0.25)


def test_a_frame_is_compared_with_what_was_foretold_of_it(kept: Kept, sweep: FrameFiles, tmp_path: Path):
    """The truth is the simulator's: how far its camera really was turned from the foretold look."""
    _, ground, _ = kept
    middle = sweep.cameras[2]
    yaw_deg = math.degrees(math.atan2(middle[0, 2], middle[2, 2]))
    lens = LENS.scaled(1.25)
    frame = render(tmp_path, lens, [(yaw_deg + 6.0, -2.0, 0.0)], play_deg=0.0, scene=ambrel_holm(walkers=0))
    looks = ground.canvas.canvas_from_world.T  # the ground's own middle is yaw 0
    piece = through_lens(lens, looks, [ground])
    found = deviation(piece, read(frame.paths[0]).pixels, lens)
    assert found is not None
    # of the true world and the ground's: what turns one into the other is the middle frame's place on both
    true = frame.cameras[0]
    off = math.degrees(math.atan2(true[0, 2], true[2, 2])) - _middle(sweep)
    assert found.yaw_deg == pytest.approx(off, abs=0.6)
    assert found.pitch_deg == pytest.approx(math.degrees(math.asin(-true[1, 2])), abs=0.6)
    other = render(tmp_path, lens, [(yaw_deg + 170.0, 0.0, 0.0)], scene=ambrel_holm(walkers=0))
    assert deviation(piece, read(other.paths[0]).pixels, lens) is None
    assert deviation(np.zeros_like(piece), read(frame.paths[0]).pixels, lens) is None


def _middle(sweep: FrameFiles) -> float:
    return float(np.mean([math.degrees(math.atan2(c[0, 2], c[2, 2])) for c in (sweep.cameras[0], sweep.cameras[-1])]))


def test_directions_of_nothing_are_nothing(kept: Kept):
    _, ground, _ = kept
    assert not drawn(np.full((4, 4, 3), np.nan), [ground]).any()
    assert not drawn(direction(np.zeros((2, 2)), np.zeros((2, 2))), []).any()
