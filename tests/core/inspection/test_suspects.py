"""Faults seeded into frames whose join is known are among the first suspects, and clean sets have none."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from functools import lru_cache
from pathlib import Path

import cv2
import numpy as np
import pytest
from tests.helpers.sets import FrameFiles

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.cache import SizedCache
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.compositing.canvas.canvas import Canvas, make_canvas
from idle_lantern.core.compositing.canvas.warp import Tile
from idle_lantern.core.compositing.light.vignetting import NONE
from idle_lantern.core.compositing.render.compose import compose_picture, frames_for, lay_out
from idle_lantern.core.compositing.render.frame_views import Levels
from idle_lantern.core.compositing.render.plan import FramesInMemory, RenderPlan
from idle_lantern.core.compositing.render.single_frame import FrameArea, frame_alone, frames_showing, let_show
from idle_lantern.core.frames.frameset import gather
from idle_lantern.core.frames.reading import read
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.inspection.find import find_suspects
from idle_lantern.core.inspection.frame_views import FrameViews
from idle_lantern.core.inspection.ghosting import Figure, differing, doubled
from idle_lantern.core.inspection.holes import holes
from idle_lantern.core.inspection.seam_suspects import merged
from idle_lantern.core.inspection.sharpness import sharpest
from idle_lantern.core.inspection.shift import shift
from idle_lantern.core.inspection.suspect import Suspect, likely, ranked
from idle_lantern.core.registration.solve.covered_field import field_of
from idle_lantern.core.registration.solve.poses import Poses
from idle_lantern.core.registration.solve.solve import Solution, solve
from idle_lantern.core.request.options import JoinOptions

Change = Callable[[list[Array], "_Joined"], None]


class _Joined:
    """A set with its solution, and where a seam of it runs."""

    def __init__(self, files: tuple[Path, ...]) -> None:
        self.files = files
        self.solution: Solution = solve(gather(files), JoinOptions(threads=2))
        self.canvas: Canvas = make_canvas(self.solution.poses, self.solution.seen)
        plan, _overview = lay_out(self.solution, self.canvas, JoinOptions())
        self.label = plan.label
        h, w = self.label.shape
        self.scale = self.canvas.width / w
        middle = [
            (int(y), int(x)) for y, x in np.argwhere(self.label[:, :-1] != self.label[:, 1:]) if abs(y - h / 2) < h / 8
        ]
        inside = [(y, x) for y, x in middle if min(self.label[y, x], self.label[y, x + 1]) >= 0]
        self.row, self.column = min(inside, key=lambda p: abs(p[1] - w / 2))
        self.a, self.b = (int(self.label[self.row, self.column + d]) for d in (0, 1))

    @property
    def seam(self) -> tuple[float, float]:
        """A place on the seam, in pixels of the canvas."""
        return (self.column + 1) * self.scale, (self.row + 0.5) * self.scale

    def in_frame(self, k: int, u: float, v: float) -> tuple[int, int]:
        poses = self.solution.poses
        ray = self.canvas.directions(np.array([[u, v]])) @ poses.world_from_camera[k]
        pixel, _valid = poses.lenses[k].project(ray)
        return round(float(pixel[0, 0])), round(float(pixel[0, 1]))


@lru_cache(maxsize=1)
def _joined(files: tuple[Path, ...]) -> _Joined:
    return _Joined(files)


def _suspects(solution: Solution, canvas: Canvas) -> list[Suspect]:
    plan, overview = lay_out(solution, canvas, JoinOptions(threads=2))
    return find_suspects(plan, overview, threads=2)


def _soft(frames: list[Array], at: _Joined) -> None:
    frames[at.b] = cv2.GaussianBlur(frames[at.b], (0, 0), 1.5)


def _brighter_band(frames: list[Array], at: _Joined) -> None:
    """3 % more light over a third of a frame."""
    height = len(frames[at.b])
    factor = np.ones((height, 1, 1), np.float32)
    factor[height // 3 : 2 * height // 3] = 1.03
    frames[at.b] = np.rint(np.clip((frames[at.b] / 255.0) ** 2.2 * factor, 0, 1) ** (1 / 2.2) * 255).astype(np.uint8)


def _small_figure_twice(frames: list[Array], at: _Joined) -> None:
    """So small that it is lost on the canvas on which seams are cut."""
    u, v = at.seam
    for k, side in ((at.a, -1), (at.b, 1)):
        x, y = at.in_frame(k, u + side * 42, v)
        cv2.rectangle(frames[k], (x - 3, y - 11), (x + 3, y + 11), (150, 30, 40), -1)
        cv2.circle(frames[k], (x, y - 15), 3, (150, 30, 40), -1)


def _thing_moved(frames: list[Array], at: _Joined) -> None:
    """A long thing right across the overlap, eleven pixels lower in one of both frames."""
    u, v = at.seam
    for k, down in ((at.a, 0), (at.b, 11)):
        for along in range(-170, 170, 2):
            cv2.circle(frames[k], at.in_frame(k, u + along, v + down), 4, (150, 40, 30), -1)


@pytest.mark.parametrize(
    ("kind", "change"),
    [("soft", _soft), ("colour", _brighter_band), ("double", _small_figure_twice), ("cut", _thing_moved)],
)
def test_a_fault_in_the_frames_is_the_first_suspect(row_set: FrameFiles, tmp_path: Path, kind: str, change: Change):
    at = _joined(row_set.paths)
    frames = [read(p).pixels.copy() for p in row_set.paths]
    change(frames, at)
    files = []
    for path, pixels in zip(row_set.paths, frames):
        cv2.imwrite(str(tmp_path / path.name), pixels[..., ::-1], [cv2.IMWRITE_JPEG_QUALITY, 95])
        files.append(tmp_path / path.name)
    found = _suspects(replace(at.solution, frames=gather(files)), at.canvas)
    first = found[0]
    assert first.kind == kind
    assert first.suspicion > 0.5
    assert {at.a, at.b} & set(first.frames)
    if kind in ("double", "cut"):  # the others are anywhere along the frame's seams
        u, v = at.seam
        assert abs(first.u - u) < first.width / 2 + 60
        assert abs(first.v - v) < first.height / 2 + 60


def test_a_step_of_a_pixel_and_a_half_is_the_first_suspect(row_set: FrameFiles):
    """One frame turned up by 1.5 px after the solving; of its two seams the second counts as the same fault again."""
    at = _joined(row_set.paths)
    poses = at.solution.poses
    turned = poses.world_from_camera.copy()
    turned[at.b] = turned[at.b] @ rotations.about_x(1.5 / poses.lenses[at.b].focal_px)
    found = _suspects(replace(at.solution, poses=replace(poses, world_from_camera=turned)), at.canvas)
    assert found[0].kind == "step"
    assert found[0].figure == pytest.approx(1.5, abs=0.3)
    plan, overview = lay_out(
        replace(at.solution, poses=replace(poses, world_from_camera=turned)), at.canvas, JoinOptions()
    )
    by_parallax = find_suspects(plan, overview, parallax=True)
    assert by_parallax[0].kind == "parallax"
    assert "no-parallax point" in by_parallax[0].sentence
    assert at.b in found[0].frames
    assert [s.suspicion for s in found] == sorted((s.suspicion for s in found), reverse=True)


def test_a_clean_set_has_no_suspect(row_set: FrameFiles):
    at = _joined(row_set.paths)
    assert [s for s in _suspects(at.solution, at.canvas) if s.suspicion > 0.5] == []


def test_frames_that_the_tiles_left_in_memory_make_room_and_tell_the_same(row_set: FrameFiles):
    """They took as much again beside those of the look: 1 216 instead of 880 MiB with 60 frames of 12 MP."""
    at = _joined(row_set.paths)
    plan, overview = lay_out(at.solution, at.canvas, JoinOptions(threads=2))
    left = frames_for(plan, None)
    for k in range(len(row_set.paths)):
        left.load(k)
    held = []

    class Watched:
        def begin(self, stage: str, total: int) -> None:
            held.append(left.keys())

        def advance(self, n: int = 1) -> None: ...

    found = find_suspects(plan, overview, frames=left, threads=2, progress=Watched())
    assert held[0] == []
    assert found == find_suspects(plan, overview, threads=2)


@pytest.mark.parametrize("size", [(1600, 1000), (1601, 1001)])
def test_large_frames_are_looked_at_by_halves_that_lie_where_they_lie(size: tuple[int, int]):
    """A wave through two frames: their windows agree to a twentieth of a pixel, at the rims too, and even and odd frames alike."""
    lens = Lens("rectilinear", 1300, *size)
    v, u = np.mgrid[: size[1], : size[0]].astype(float)
    turns = [rotations.from_yaw_pitch_roll(math.radians(a), 0, math.radians(r)) for a, r in ((-14, 1), (14, -2))]
    pictures = []
    for turned in turns:
        d = lens.unproject(np.stack([u, v], -1)) @ turned.T
        grey = 127 + 100 * np.sin(240 * d[..., 0]) * np.cos(200 * d[..., 1])
        pictures.append(Picture(np.rint(grey).astype(np.uint8)[..., None].repeat(3, -1)))
    poses = Poses((0, 1), (lens, lens), np.stack(turns))
    canvas = make_canvas(poses, field_of(poses), "cylindrical")
    plan = RenderPlan(
        poses, canvas, FramesInMemory(tuple(pictures)), np.zeros((8, 8), np.int16), np.ones((2, 3)), NONE, 255
    )
    kept = SizedCache(lambda k: Levels.of(pictures[k]), lambda levels: levels.nbytes, 10**9)
    for k in range(2):
        kept.load(k)
    for look in (FrameViews(plan), FrameViews(plan, kept)):
        assert look.shrink == 2
        for y in (0.1, 0.5, 0.9):
            tile = Tile(look.canvas.width // 2 - 96, round(look.canvas.height * y) - 96, 192, 192)
            windows = look.windows((0, 1), tile)
            assert windows is not None
            both = (windows[0].inside & windows[1].inside).astype(np.float32)
            grey = [w.pixels[..., 1].astype(np.float32) for w in windows]
            found = shift(grey[0], grey[1], cv2.erode(both, np.ones((9, 9))))
            assert found is not None
            assert float(np.hypot(*found.step)) < 0.05


def test_a_frame_alone_lies_as_the_picture_shows_it_and_is_let_show_elsewhere(row_set: FrameFiles):
    at = _joined(row_set.paths)
    poses = at.solution.poses
    joined = compose_picture(at.solution, at.canvas, JoinOptions(threads=2))
    u, v = at.seam
    k = poses.frames[at.b]
    tile = Tile(round(u) + 60, round(v) - 40, 80, 80)
    picture = read(row_set.paths[k])
    alone = frame_alone(poses, at.canvas, at.b, picture, joined.gains[at.b], joined.vignetting, tile)
    assert alone is not None
    shown = joined.picture.pixels[tile.top : tile.top + 80, tile.left : tile.left + 80].astype(int)
    assert alone[..., 3].all()
    assert np.abs(alone[..., :3] - shown).mean() < 1.0
    assert (
        frame_alone(poses, at.canvas, at.b, picture, joined.gains[at.b], joined.vignetting, Tile(0, 0, 20, 20)) is None
    )
    assert {at.a, at.b} <= set(frames_showing(poses, at.canvas, u, v))
    # where the one frame shows now, the other is let show
    place = u + 25, v
    before = at.label[round(place[1] / at.scale), round(place[0] / at.scale)]
    other = at.a if before == at.b else at.b
    masks = let_show(poses, at.canvas, other, FrameArea.ellipse(*place, 24.0, 30.0), {})
    assert set(masks) == {other}
    plan, _overview = lay_out(
        at.solution, at.canvas, JoinOptions(), masks={poses.frames[i]: m for i, m in masks.items()}
    )
    assert plan.label[round(place[1] / at.scale), round(place[0] / at.scale)] == other
    # given to the first again, the other keeps nothing there
    back = let_show(poses, at.canvas, int(before), FrameArea.ellipse(*place, 24.0, 30.0), masks)
    assert not back[other].keep.any()
    assert back[int(before)].keep.any()


def test_holes_are_gaps_with_picture_round_them_and_bites_but_no_rims():
    label = np.full((80, 160), -1, np.int16)
    label[5:75, 4:156] = 0
    frame_px = 40 * 60
    assert holes(label, frame_px, full_circle=False) == []
    label[30:42, 50:66] = -1
    (hole,) = holes(label, frame_px, full_circle=False)
    assert (hole.box, hole.area, hole.enclosed) == ((50, 30, 16, 12), 192, True)
    label[30:42, 50:66] = 0
    label[5:40, 100:112] = -1  # a frame of the upper row was forgotten
    (bite,) = holes(label, frame_px, full_circle=False)
    assert not bite.enclosed
    assert abs(bite.box[0] - 100) <= 2
    # a full circle closes: what looks like a rim on both sides is one gap
    ring = np.zeros((60, 200), np.int16)
    ring[20:30, :6] = ring[20:30, -6:] = -1
    (seam,) = holes(ring, frame_px, full_circle=True)
    assert (seam.box[2], seam.enclosed) == (12, True)


def test_the_same_ground_shown_twice_where_a_walker_is_hidden_is_no_double():
    """As two frames show somebody who walked on by 46 px, and the picture shows nobody: figures as found on the rendered island."""
    ground, walker = np.array([166.0, 168.0, 168.0]), np.array([47.0, 46.0, 45.0])
    one = Figure(2, 1, (1196, 713, 10, 42), 304, ground, walker, -92.0)
    two = Figure(1, 2, (1151, 702, 8, 36), 206, ground - 16, walker + 40, -33.0)
    assert doubled([one, two]) == []
    shown = [replace(f, colour=f.hidden, hidden=f.colour, stands=-f.stands) for f in (one, replace(two, hidden=walker))]
    (pair,) = doubled(shown)
    assert (pair.one.frame, pair.two.frame) == (2, 1)


def test_the_sharpest_frame_of_a_place_is_told_where_all_show_it():
    rng = np.random.default_rng(6)
    ground = cv2.GaussianBlur(rng.integers(0, 255, (90, 120, 3)).astype(np.float32), (0, 0), 1.0)
    full = np.full((90, 120, 1), 255, np.uint8)
    sharp, soft, softer = (
        np.concatenate([(cv2.GaussianBlur(ground, (0, 0), s) if s else ground).astype(np.uint8), full], -1)
        for s in (0, 1.2, 2.0)
    )
    assert [sharpest(v) for v in ([soft, sharp, softer], [softer, soft], [sharp, sharp])] == [1, 1, 0]
    # what one alone shows, a textured rim, does not count for it
    part = softer.copy()
    part[:, :60] = sharp[:, :60]
    rest = soft.copy()
    rest[:, :64, 3] = 0
    assert sharpest([part, rest]) == 1
    none = soft.copy()
    none[..., 3] = 0
    assert (sharpest([soft, none]), sharpest([])) == (None, None)


def test_ranking_names_each_fault_once_first():
    assert likely(1.0, 1.0, 0.1) == pytest.approx(0.5)
    one = Suspect(0, 0, 10, 10, "step", 0.9, (3, 2), "")
    again, other = replace(one, u=500, suspicion=0.89), replace(one, kind="soft", frames=(5,), suspicion=0.7)
    assert ranked([again, other, one], 0.1) == [one, other, replace(again, suspicion=0.89 * 0.7)]
    assert merged([(0, 0), (500, 0), (90, 10), (170, 0)], 100) == [[0, 2, 3], [1]]


def _laid(aside: int, *, walker: bool) -> tuple[np.ndarray, np.ndarray]:
    """What two frames show of one piece of ground: a rope that hangs across it, or somebody, in the second so many pixels aside."""
    ground = np.full((120, 200, 3), 130, np.float32) + np.random.default_rng(5).normal(0, 3, (120, 200, 3)).astype(
        np.float32
    )
    frames = ground.copy(), ground.copy()
    for k, frame in enumerate(frames):
        if walker:
            cv2.ellipse(frame, (60 + k * aside, 60), (6, 18), 0, 0, 360, (40, 42, 45), -1)
        else:
            for one, other in (((20, 40), (70, 50)), ((130, 50), (180, 40))):
                cv2.line(frame, (one[0], one[1] + k * aside), (other[0], other[1] + k * aside), (220, 200, 160), 4)
    return frames


def test_a_near_rope_is_no_figure_and_somebody_who_walked_is():
    """Near things lie a few pixels aside in the next frame, stretch by stretch alike: nothing moved there."""
    both, seam = np.ones((120, 200), bool), np.repeat((np.arange(200) >= 100)[None], 120, 0).astype(int)
    assert not doubled(differing(*_laid(6, walker=False), both, seam, (0, 1)))
    found = differing(*_laid(80, walker=True), both, seam, (0, 1))
    assert len(doubled(found)) == 1
    hidden = differing(*_laid(25, walker=True), both, seam, (0, 1))
    assert sorted(f.stands > 0 for f in hidden) == [False, True]  # where the other frame has them is told as well
