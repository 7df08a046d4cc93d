"""Tie points set by hand: a frame that no features tie joins by two or three of them."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import pytest
from tests.helpers.sets import FrameFiles

from idle_lantern.cli.main import main
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.frameset import gather
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.frames.reading import read
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.match.by_hand import links_by_hand, misses_px
from idle_lantern.core.registration.match.line_snapping import snapped_line
from idle_lantern.core.registration.match.points_file import read_points
from idle_lantern.core.registration.match.snapping import drawn_as, snapped
from idle_lantern.core.registration.solve.solve import solve
from idle_lantern.core.request.choices import TiePoint
from idle_lantern.core.request.keys import solving_key
from idle_lantern.core.request.options import JoinOptions
from idle_lantern.simulator.truth import registration_error_px

LAST = 3


@pytest.fixture
def veiled_set(row_set: FrameFiles, tmp_path: Path) -> FrameFiles:
    """The end of the row, whose last frame is so soft and faint that no feature ties it."""
    meta = Metadata(focal_mm=24.0, sensor_width_mm=24.0 * 680 / row_set.lens.focal_px)
    paths = []
    for i, path in enumerate(row_set.paths[-LAST - 1 :]):
        picture = read(path)
        if i == LAST:
            rng = np.random.default_rng(1)
            soft = cv2.GaussianBlur(picture.pixels.astype(np.float32), (0, 0), 9) * 0.2 + 100
            noisy = np.clip(soft + rng.normal(0, 8, soft.shape), 0, 255).astype(np.uint8)
            picture = replace(picture, pixels=noisy)
        paths.append(tmp_path / path.name)
        write(picture, paths[-1], WriteOptions(jpeg_quality=95, metadata=meta))
    return replace(row_set, paths=tuple(paths), cameras=row_set.cameras[-LAST - 1 :])


def _ids(files: FrameFiles) -> list[str]:
    return [path.name for path in files.paths]


def _true_pairs(files: FrameFiles, a: int, b: int, places: list[tuple[float, float]]) -> list[TiePoint]:
    """What really is the same in two frames: the simulator's own geometry."""
    turn = files.cameras[b].T @ files.cameras[a]
    xy_b, valid = files.lens.project(files.lens.unproject(np.array(places)) @ turn.T)
    assert valid.all()
    one, other = _ids(files)[a], _ids(files)[b]
    return [TiePoint(one, p, other, (float(q[0]), float(q[1]))) for p, q in zip(places, xy_b)]


def _true_line(files: FrameFiles, a: int, b: int, ends: tuple, seen_in_b: tuple[float, float]) -> TiePoint:
    """A straight thing as two frames show it, by the simulator's own geometry: frame b shows another part of it, the other way round."""
    rays = files.lens.unproject(np.array(ends, float))
    turn = files.cameras[b].T @ files.cameras[a]
    part = rays[0] + np.array(seen_in_b)[::-1, None] * (rays[1] - rays[0])
    xy_b, valid = files.lens.project(part @ turn.T)
    assert valid.all()
    one, other = _ids(files)[a], _ids(files)[b]
    return TiePoint(one, ends[0], other, tuple(map(float, xy_b[0])), to_a=ends[1], to_b=tuple(map(float, xy_b[1])))


def test_a_frame_that_nothing_ties_joins_by_a_point_and_a_line(veiled_set: FrameFiles, tmp_path: Path):
    """As set at 100 %: half a pixel off at most. Common practice, no source: three such points place a frame."""
    (point,) = _true_pairs(veiled_set, LAST - 1, LAST, [(430.0, 120.0)])
    line = _true_line(veiled_set, LAST - 1, LAST, ((380.0, 360.0), (445.0, 600.0)), (0.3, 1.0))
    rng = np.random.default_rng(3)
    rows = []
    for p in (point, line):
        row = {"a": p.a, "xy_a": p.xy_a, "b": p.b}
        ends = {"xy_b": p.xy_b} if p.to_b is None else {"xy_b": p.xy_b, "to_b": p.to_b}
        rows.append(row | {k: list(np.array(xy) + rng.uniform(-0.4, 0.4, 2)) for k, xy in ends.items()})
    rows[1]["to_a"] = line.to_a
    points, report = tmp_path / "points.json", tmp_path / "r.json"
    points.write_text(json.dumps(rows))
    command = ["join", *map(str, veiled_set.paths), "--out", str(tmp_path / "o.jpg"), "--report", str(report)]
    assert main(command) == 0
    assert not json.loads(report.read_text())["frames"][LAST]["used"]
    assert main([*command, "--points", str(points)]) == 0
    told = json.loads(report.read_text())
    row = told["frames"][LAST]
    assert (row["used"], row["placed_by"]) == (True, "manual")
    used = [f for f in told["frames"] if f["used"]]
    lenses = [Lens(**f["lens"], width=f["width"], height=f["height"]) for f in used]
    solved = [np.array(f["pose"]["rotation"]) for f in used]
    errors = registration_error_px(veiled_set.lens, list(veiled_set.cameras), lenses, solved)
    assert np.sqrt((np.asarray(errors) ** 2).mean()) < 0.5


def test_two_points_fix_the_turn_and_one_keeps_the_roll(row_set: FrameFiles):
    lenses, ids = [row_set.lens] * 8, _ids(row_set)
    pairs = _true_pairs(row_set, 2, 3, [(420.0, 200.0), (440.0, 500.0)])
    (link,) = links_by_hand(pairs, ids, lenses)
    true = row_set.cameras[3].T @ row_set.cameras[2]
    assert np.degrees(np.arccos(np.clip((np.trace(link.b_from_a @ true.T) - 1) / 2, -1, 1))) < 0.02
    (single,) = links_by_hand([TiePoint(ids[3], pairs[0].xy_b, ids[2], pairs[0].xy_a)], ids, lenses)
    assert (single.a, single.b) == (2, 3)
    seen = single.b_from_a @ row_set.lens.unproject(single.points_a)[0]
    assert np.degrees(np.arccos(seen @ row_set.lens.unproject(single.points_b)[0])) < 1.0


def test_lines_alone_fix_the_turn_and_say_nothing_along_themselves(row_set: FrameFiles):
    """Two rays span the plane in which a camera sees a line, whichever part of it: re-derived here from the simulator's geometry."""
    lenses, ids = [row_set.lens] * 8, _ids(row_set)
    true = row_set.cameras[3].T @ row_set.cameras[2]
    level = _true_line(row_set, 2, 3, ((300.0, 200.0), (470.0, 220.0)), (0.6, 0.9))
    upright = _true_line(row_set, 2, 3, ((400.0, 100.0), (410.0, 620.0)), (0.0, 0.5))
    (link,) = links_by_hand([level, upright], ids, lenses)
    assert np.abs(link.b_from_a - true).max() < 1e-9
    # moved along itself a line is the same; moved across, by so many pixels is it told
    along = np.subtract(upright.to_b, upright.xy_b) * 0.2
    slid = replace(upright, xy_b=tuple(upright.xy_b + along), to_b=tuple(upright.to_b + along))
    (same,) = links_by_hand([level, slid], ids, lenses)
    assert np.abs(same.b_from_a - true).max() < 1e-9
    across = replace(upright, xy_b=(upright.xy_b[0] + 5, upright.xy_b[1]), to_b=(upright.to_b[0] + 5, upright.to_b[1]))
    points = _true_pairs(row_set, 2, 3, [(420.0, 120.0), (440.0, 600.0), (400.0, 300.0)])
    misses = misses_px([*points, level, across], ids, lenses)
    assert misses[-1] > 2.5
    assert max(misses[:-1]) < misses[-1]
    assert max(misses_px([*points, level, upright], ids, lenses)) < 1e-6
    # a short line that was drawn a little askew is told itself, and moves what points tell hardly
    short = _true_line(row_set, 2, 3, ((400.0, 300.0), (440.0, 320.0)), (0.0, 1.0))
    askew = replace(short, xy_b=(short.xy_b[0], short.xy_b[1] + 0.5))
    misses = misses_px([*points, askew], ids, lenses)
    assert max(misses[:-1]) < 0.1 < 0.3 < misses[-1]


@pytest.mark.parametrize("angle_deg", [-64.0, 3.0, 38.0])
def test_a_line_snaps_to_the_edge_it_was_drawn_along(angle_deg: float):
    """An edge drawn by shares of area (sixteen points a pixel), with blur and noise: to less than a tenth of a pixel."""
    rng = np.random.default_rng(4)
    along = np.array([np.cos(np.radians(angle_deg)), np.sin(np.radians(angle_deg))])
    across, middle = np.array([-along[1], along[0]]), np.array([150.3, 119.6])
    y, x = (np.mgrid[0:960, 0:1200] + 0.5) / 4 - 0.5
    fine = np.where((x - middle[0]) * across[0] + (y - middle[1]) * across[1] > 0, 180.0, 90.0)
    grey = cv2.GaussianBlur(cv2.resize(fine, (300, 240), interpolation=cv2.INTER_AREA), (0, 0), 0.8)
    picture = np.repeat(np.clip(grey + rng.normal(0, 3, grey.shape), 0, 255).astype(np.uint8)[..., None], 3, -1)
    drawn = tuple(tuple(middle + s * 90 * along + rng.uniform(-4, 4) * across) for s in (-1, 1))
    found = snapped_line(picture, drawn)
    assert found.brighter == 1
    assert max(abs(float((np.array(end) - middle) @ across)) for end in found.ends) < min(0.1, 3 * found.sigma_px)
    assert snapped_line(picture, drawn[::-1]).brighter == -1
    # where only an edge of the other kind lies it stays as drawn, as it does on noise alone
    assert snapped_line(picture, drawn, brighter=-1).ends == drawn
    noise = rng.integers(0, 255, picture.shape, dtype=np.uint8)
    assert (snapped_line(noise, drawn).ends, snapped_line(noise, drawn).sigma_px) == (drawn, TiePoint.sigma_px)


@pytest.mark.parametrize(
    ("text", "word"),
    [
        ("{}", "list"),
        ('[{"a": "f00.jpg"}]', "point 1"),
        ('[{"a": "f00.jpg", "xy_a": [1, 2], "b": "none.jpg", "xy_b": [1, 2]}]', "none.jpg"),
        ('[{"a": "f00.jpg", "xy_a": [1, 2], "b": "f01.jpg", "xy_b": [1, 9000]}]', "outside"),
        ('[{"a": "f00.jpg", "xy_a": [1, 2], "b": "f00.jpg", "xy_b": [1, 2]}]', "itself"),
        ('[{"a": "f00.jpg", "xy_a": [1, 2], "to_a": [9, 90], "b": "f01.jpg", "xy_b": [1, 2]}]', "point 1"),
        (
            '[{"a": "f00.jpg", "xy_a": [1, 2], "to_a": [3, 4], "b": "f01.jpg", "xy_b": [1, 2], "to_b": [9, 90]}]',
            "shorter",
        ),
        ('[{"a": "f00.jpg", "xy_a": [1, 1e999], "b": "f01.jpg", "xy_b": [1, 2]}]', "p.json"),
    ],
)
def test_points_that_are_none_are_refused_in_a_sentence(row_set: FrameFiles, tmp_path: Path, text: str, word: str):
    (tmp_path / "p.json").write_text(text)
    with pytest.raises(InputError) as caught:
        read_points(tmp_path / "p.json", gather(row_set.paths))
    assert word in caught.value.sentence


def test_a_point_snaps_to_what_the_first_frame_shows(row_set: FrameFiles):
    """Against the simulator's geometry: clicked up to four pixels beside it, a tenth of a pixel off at most as a rule."""
    one, other = (read(p).pixels for p in row_set.paths[:2])
    turn = row_set.cameras[1].T @ row_set.cameras[0]
    lens = row_set.lens
    rng = np.random.default_rng(5)
    grey = cv2.cvtColor(one, cv2.COLOR_RGB2GRAY)
    misses, kept = [], 0
    for xy in cv2.goodFeaturesToTrack(grey[:, 250:], 60, 0.02, 25).reshape(-1, 2) + np.array([250, 0]):
        truth, valid = lens.project(turn @ lens.unproject(xy.astype(float)))
        if not valid or not (35 < truth[0] < lens.width - 35 and 35 < truth[1] < lens.height - 35):
            continue
        clicked = truth + rng.uniform(-4, 4, 2)
        warp = drawn_as(lens, lens, tuple(xy), tuple(clicked), turn)
        found = snapped(one, tuple(xy), other, tuple(clicked), warp)
        if found.sigma_px < 0.1:
            misses.append(float(np.hypot(*(np.array(found.xy) - truth))))
        else:
            kept += 1
            assert found.xy == tuple(clicked)
    assert len(misses) > 12
    assert len(misses) > kept
    assert np.median(misses) < 0.1
    assert np.percentile(misses, 90) < 0.5


def test_where_there_is_nothing_alike_a_point_stays_where_it_was_set():
    rng = np.random.default_rng(1)
    one, other = (rng.integers(0, 255, (120, 160, 3)).astype(np.uint8) for _ in range(2))
    even = np.full((120, 160, 3), 90, np.uint8)
    fence = np.tile(np.repeat(np.array([40, 200], np.uint8), 5), 16)[None, :, None] * np.ones((120, 1, 3), np.uint8)
    for a, b in ((one, other), (even, even), (fence, fence), (one, one[:30])):
        found = snapped(a, (80.0, 60.0), b, (81.5, 14.0 if len(b) == 30 else 59.0))
        assert found.moved_px == 0.0
        assert found.sigma_px == 0.4
        assert "Kept where you clicked" in found.sentence


def test_points_that_are_not_the_same_thing_are_told_by_their_miss(row_set: FrameFiles):
    points = _true_pairs(row_set, 0, 1, [(380.0, 120.0), (400.0, 560.0), (430.0, 330.0)])
    lenses, ids = [row_set.lens] * 2, _ids(row_set)[:2]
    assert max(misses_px(points, ids, lenses)) < 0.01
    wrong = [*points[:2], replace(points[2], xy_b=(points[2].xy_b[0] + 30, points[2].xy_b[1]))]
    assert max(misses_px(wrong, ids, lenses)) > 8


def test_a_join_that_was_stopped_is_another_one_with_points(row_set: FrameFiles):
    """What a stopped join left behind was taken up again although points had been set since."""
    frames = gather(row_set.paths[:2])
    with_points = JoinOptions(points=(TiePoint(frames.names[0], (1.0, 2.0), frames.names[1], (3.0, 4.0)),))
    assert solving_key(frames, JoinOptions(), None) != solving_key(frames, with_points, None)


def test_a_link_that_is_cut_is_not_matched_and_the_others_hold_the_frames(grid_set: FrameFiles):
    """Two rows of four: without one of its links each frame is still tied by others, and lies where it is."""
    frames = gather(grid_set.paths)
    cut = ((0, 1), (2, 6))
    solution = solve(frames, JoinOptions(cut_links=tuple((frames.names[a], frames.names[b]) for a, b in cut)))
    linked = {(min(k.a, k.b), max(k.a, k.b)) for k in solution.links}
    assert not linked & set(cut)
    assert len(solution.poses.frames) == 8
    solved = dict(zip(solution.poses.frames, solution.poses.world_from_camera))
    errors = registration_error_px(
        grid_set.lens, grid_set.cameras, solution.poses.lenses, [solved[f] for f in range(8)]
    )
    assert np.sqrt((errors**2).mean()) < 0.1
