"""Stages of the join on their own: matching, rotations, adjustment, canvas, light, seams, blend."""

from __future__ import annotations

import math
import pickle
import subprocess
import sys
from dataclasses import replace
from functools import partial
from pathlib import Path

import cv2
import numpy as np
import pytest
import skimage.data
from PIL import Image
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components
from scipy.spatial.transform import Rotation

from idle_lantern.core.base.errors import InputError, JoinError
from idle_lantern.core.base.runners import ProcessRunner, ThreadRunner
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.compositing.canvas.canvas import choose_projection, make_canvas
from idle_lantern.core.compositing.canvas.overview import Overview, Patch, meeting
from idle_lantern.core.compositing.canvas.warp import Tile, coarse_directions, frame_map, grid_step
from idle_lantern.core.compositing.light.gains import gain_table, solve_gains, told_gains, with_gain
from idle_lantern.core.compositing.light.vignetting import NONE
from idle_lantern.core.compositing.render.plan import (
    FilesOfFrames,
    FramesInMemory,
    RenderPlan,
    RenderTiles,
    as_made,
    render_tile,
)
from idle_lantern.core.compositing.render.tiles import row_by_row, there_and_back, tiles_of
from idle_lantern.core.compositing.seams.graph_cut import find_seams
from idle_lantern.core.frames.masks import Mask
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.frames.reading import probe
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.match.features import Features, WorkingFrame
from idle_lantern.core.registration.match.links import Link, best_tied, groups_of
from idle_lantern.core.registration.match.pairs import ALL_PAIRS_UP_TO, candidate_pairs
from idle_lantern.core.registration.match.verify import rotation_between, verify
from idle_lantern.core.registration.solve.adjust import adjust, initial_rotations
from idle_lantern.core.registration.solve.covered_field import field_of
from idle_lantern.core.registration.solve.duplicates import duplicates
from idle_lantern.core.registration.solve.grid_regularity import place_by_regularity
from idle_lantern.core.registration.solve.poses import Poses
from idle_lantern.core.registration.solve.straighten import to_prior, upright

LENS = Lens("rectilinear", 1000, 1200, 900)


def _row(count: int, step_deg: float, lens: Lens = LENS, tilt: np.ndarray | None = None) -> Poses:
    turned = np.stack([rotations.from_yaw_pitch_roll(math.radians(step_deg * i), 0, 0) for i in range(count)])
    if tilt is not None:
        turned = tilt @ turned
    return Poses(tuple(range(count)), (lens,) * count, turned)


def _link(poses: Poses, a: int, b: int, noise_px: float, rng: np.random.Generator, wrong: int = 0) -> Link:
    """Points of a that b sees too, with noise, and some wrong ones."""
    lens_a, lens_b = poses.lenses[a], poses.lenses[b]
    points = rng.uniform([0, 0], [lens_a.width - 1, lens_a.height - 1], (3000, 2))
    b_from_a = poses.world_from_camera[b].T @ poses.world_from_camera[a]
    local = lens_a.unproject(points) @ b_from_a.T
    seen = lens_b.sees(local)
    points, there = points[seen][:150], lens_b.project(local[seen][:150])[0]
    there = there + rng.normal(0, noise_px, there.shape)
    if wrong:
        there[:wrong] = rng.uniform(0, 800, (wrong, 2))
    return Link(a, b, points, there, b_from_a, np.ones(len(points), bool))


# --- links -----------------------------------------------------------------------------------


def test_rows_stay_tied_to_rows_when_frames_of_a_row_overlap_much():
    """Strong links along a row must not crowd out the weak ones from row to row."""
    turned = [
        rotations.from_yaw_pitch_roll(math.radians(8 * c), math.radians(30 * r), 0) for r in range(2) for c in range(8)
    ]
    near = [(a, b, 300 - 50 * (b - a)) for a in range(16) for b in range(a + 1, min(a + 4, 8 * (a // 8) + 8))]
    across = [(c, c + 8, 20) for c in range(8)]
    rng = np.random.default_rng(1)
    links = [
        Link(a, b, rng.uniform(0, 900, (n, 2)), np.zeros((n, 2)), inlier=np.ones(n, bool)) for a, b, n in near + across
    ]
    kept = best_tied(links, dict(enumerate(turned)))
    assert len(groups_of(16, kept)[0]) == 16
    assert sum(k.b - k.a == 8 for k in kept) >= 6
    assert len(kept) < len(links)


@pytest.mark.parametrize("wrong_share", [0.0, 0.5, 0.75])
def test_rotation_is_found_among_wrong_matches(wrong_share: float):
    rng = np.random.default_rng(1)
    rays = rng.normal(size=(200, 3))
    rays /= np.linalg.norm(rays, axis=1, keepdims=True)
    true = Rotation.from_rotvec([0.1, 0.5, -0.2]).as_matrix()
    moved = rays @ true.T
    wrong = rng.random(200) < wrong_share
    moved[wrong] = rng.normal(size=(wrong.sum(), 3))
    moved /= np.linalg.norm(moved, axis=1, keepdims=True)
    found, inlier = rotation_between(rays, moved, 0.002, rng)
    assert float(rotations.angle_between(found, true)) < 1e-6
    assert inlier[~wrong].all()
    assert inlier[wrong].sum() <= 1


def test_chance_does_not_make_a_link():
    """Thirty random matches between frames that do not overlap are refused."""
    rng = np.random.default_rng(2)
    points = rng.uniform([0, 0], [1199, 899], (30, 2))
    other = rng.uniform([0, 0], [1199, 899], (30, 2))
    assert verify(Link(0, 1, points, other), LENS, LENS, 12.0, rng) is None


@pytest.mark.parametrize("seed", range(5))
def test_groups_are_those_of_scipy(seed: int):
    """``scipy.sparse.csgraph.connected_components`` on random graphs."""
    rng = np.random.default_rng(seed)
    pairs = rng.integers(0, 40, (28, 2))
    links = [Link(int(min(p)), int(max(p)), np.zeros((0, 2)), np.zeros((0, 2))) for p in pairs]
    _, label = connected_components(coo_array((np.ones(28), pairs.T), shape=(40, 40)), directed=False)
    expected = {frozenset(np.flatnonzero(label == k).tolist()) for k in np.unique(label)}
    found = groups_of(40, links)
    assert {frozenset(g) for g in found} == expected
    assert [len(g) for g in found] == sorted(map(len, found), reverse=True)


def test_known_directions_limit_the_pairs():
    """Sixty frames round: each is tried with its neighbours only."""
    blank = Features(np.zeros((0, 2)), np.zeros(0, np.float32), np.zeros((0, 128), np.float32))
    prior = [rotations.from_yaw_pitch_roll(math.radians(6 * i), 0, 0) for i in range(60)]
    pairs = candidate_pairs([blank] * 60, prior, math.radians(20))
    assert len(pairs) == 60 * 3
    assert (0, 59) in pairs


# --- poses -----------------------------------------------------------------------------------


def test_adjustment_recovers_focal_length_and_distortion():
    """Full circle of twelve frames with half a pixel of noise and five wrong matches each."""
    rng = np.random.default_rng(4)
    lens = Lens("rectilinear", 1000, 1200, 900, k1=-0.05)
    true = _row(12, 30, lens)
    links = [_link(true, i, (i + 1) % 12, 0.5, rng, wrong=5) for i in range(11)]
    links.append(replace(_link(true, 0, 11, 0.5, rng), a=0, b=11))
    start = Poses(true.frames, (replace(lens, focal_px=1060.0, k1=0.0),) * 12, initial_rotations(true.frames, links))
    found = adjust(start, links, [0] * 12, scale_px=2.0)
    assert found.lenses[0].focal_px == pytest.approx(1000, rel=5e-4)
    assert found.lenses[0].k1 == pytest.approx(-0.05, abs=0.002)
    relative = found.world_from_camera[0].T @ found.world_from_camera[5]
    wanted = true.world_from_camera[0].T @ true.world_from_camera[5]
    assert math.degrees(float(rotations.angle_between(relative, wanted))) < 0.03
    assert 0.5 < found.rms_px < 0.9  # sqrt(2) x 0.5 px, lowered by the robust weight


def test_a_long_lens_finds_its_focal_length_from_afar():
    """Two rows of six by a lens of eight degrees, begun at 1.8 times its focal length.

    On narrow fields distortion coefficients are large numbers; nothing may stop the search for that.
    """
    rng = np.random.default_rng(6)
    lens = Lens("rectilinear", 8000, 1200, 900)
    turned = [
        rotations.from_yaw_pitch_roll(math.radians(6 * c), math.radians(4.5 * r), 0) for r in range(2) for c in range(6)
    ]
    true = Poses(tuple(range(12)), (lens,) * 12, np.stack(turned))
    pairs = [(i, i + 1) for i in range(11) if i != 5] + [(i, i + 6) for i in range(6)]
    longer = replace(lens, focal_px=14_400.0)
    links = []
    for a, b in pairs:
        link = _link(true, a, b, 0.4, rng)
        turn = rotations.aligning(longer.unproject(link.points_a), longer.unproject(link.points_b))
        links.append(replace(link, b_from_a=turn))
    found = Poses(true.frames, (longer,) * 12, initial_rotations(true.frames, links))
    for scale in (20.0, 6.0, 2.0):
        found = adjust(found, links, [0] * 12, scale_px=scale)
    # a fit of so small a part of the sphere knows it to half a per cent, and says so
    assert found.focal_sigma < 0.006
    assert abs(math.log(found.lenses[0].focal_px / 8000)) < 3 * found.focal_sigma


def test_told_uncertainty_of_the_focal_length_is_honest():
    """Over thirty draws the error divided by its told sigma has a spread near 1."""
    errors = []
    for seed in range(30):
        rng = np.random.default_rng(100 + seed)
        true = _row(4, 25)
        links = [_link(true, i, i + 1, 0.4, rng) for i in range(3)]
        start = Poses(true.frames, true.lenses, true.world_from_camera)
        found = adjust(start, links, [0] * 4, scale_px=5.0)
        errors.append((math.log(found.lenses[0].focal_px / 1000)) / found.focal_sigma)
    assert 0.6 < float(np.std(errors)) < 1.6


def test_told_uncertainty_of_the_rotations_is_honest():
    """Normalised errors of the rotations, against all others, have a mean square near 1 a direction."""
    rng = np.random.default_rng(200)
    true = _row(5, 25)
    squares = []
    for _ in range(40):
        links = [_link(true, i, i + 1, 0.4, rng) for i in range(4)]
        found = adjust(replace(true), links, [0] * 5, scale_px=5.0)
        assert found.sigma_rad is not None
        assert found.sigma_rad[0] > found.sigma_rad[2], "the ends of a row are known least"
        off = rotations.to_vector(np.swapaxes(true.world_from_camera, 1, 2) @ found.world_from_camera)
        off -= np.einsum("fji,j->fi", true.world_from_camera, np.einsum("fij,fj->i", true.world_from_camera, off) / 5)
        squares.append((off**2).max(1) / found.sigma_rad**2)
    # the told sigma is that of the worst direction, so the largest component lies about or below it
    assert 0.3 < float(np.mean(squares)) < 1.6


def test_separate_frames_cannot_be_placed():
    with pytest.raises(JoinError, match="separate"):
        initial_rotations([0, 1, 2], [])


def test_a_single_column_stays_upright():
    """All x-axes alike: the cameras' own up decides."""
    turned = np.stack([rotations.from_yaw_pitch_roll(0, math.radians(p), 0) for p in (-20, 0, 20)])
    level = upright(Poses((0, 1, 2), (LENS,) * 3, turned))
    np.testing.assert_allclose(
        np.degrees(rotations.to_yaw_pitch_roll(level.world_from_camera)[1]), [-20, 0, 20], atol=0.5
    )


def test_known_directions_fix_the_whole():
    true = _row(4, 30)
    turned = replace(true, world_from_camera=rotations.from_vector([0.1, 0.4, -0.2]) @ true.world_from_camera)
    back = to_prior(turned, list(true.world_from_camera))
    np.testing.assert_allclose(back.world_from_camera, true.world_from_camera, atol=1e-9)


# --- canvas and warp -------------------------------------------------------------------------


def test_full_circle_closes_exactly():
    poses = _row(12, 30)
    canvas = make_canvas(poses, field_of(poses), "equirectangular")
    assert canvas.full_circle
    ends = canvas.directions(np.array([[-0.5, 200.0], [canvas.width - 0.5, 200.0]]))
    np.testing.assert_allclose(ends[0], ends[1], atol=1e-9)


def test_field_across_the_back_is_one_piece():
    """Frames at 170 and -170 degrees belong together."""
    turned = np.stack([rotations.from_yaw_pitch_roll(math.radians(y), 0, 0) for y in (170.0, -170.0)])
    seen = field_of(Poses((0, 1), (LENS, LENS), turned))
    assert abs(abs(math.degrees(seen.middle_rad)) - 180) < 0.2
    assert math.degrees(seen.width_rad) == pytest.approx(20 + 2 * math.degrees(math.atan(0.6)), abs=0.3)


@pytest.mark.parametrize(
    ("count", "step", "expected"), [(2, 12, "rectilinear"), (5, 35, "cylindrical"), (12, 30, "cylindrical")]
)
def test_projection_is_chosen_with_a_reason(count: int, step: float, expected: str):
    name, reason = choose_projection(field_of(_row(count, step)))
    assert name == expected
    assert "°" in reason


def test_too_wide_for_flat_is_told_or_cut():
    """A flat canvas shows at most 150 degrees; frames behind it make a canvas all the same."""
    poses = _row(12, 30)
    canvas = make_canvas(poses, field_of(poses), "rectilinear", width_px=800)
    assert canvas.width == 800
    with pytest.raises(InputError, match="would have"):
        make_canvas(
            replace(poses, lenses=(Lens("rectilinear", 4e6, 3000000, 2000000),) * 12), field_of(poses), "mercator"
        )


@pytest.mark.parametrize("name", ["cylindrical", "equirectangular", "rectilinear", "stereographic"])
def test_coarse_map_agrees_with_the_exact_one(name: str):
    """The promise of the module: below 0.02 px."""
    poses = _row(3, 20)
    canvas = make_canvas(poses, field_of(poses), name)
    tile = Tile(canvas.width // 3, canvas.height // 4, 300, 260)
    step = grid_step(canvas)
    found = frame_map(
        coarse_directions(canvas, tile, step), LENS, poses.world_from_camera[1], (tile.height, tile.width), step
    )
    assert found is not None
    v, u = np.mgrid[tile.top : tile.top + tile.height, tile.left : tile.left + tile.width].astype(float)
    exact, _ = LENS.project(canvas.directions(np.stack([u, v], -1)) @ poses.world_from_camera[1])
    inside = LENS.sees(canvas.directions(np.stack([u, v], -1)) @ poses.world_from_camera[1])
    places, shows = found
    assert np.abs(places - exact)[inside].max() < 0.02
    assert (shows != inside).mean() < 0.01


# --- light -----------------------------------------------------------------------------------


def _overview(values: list[np.ndarray], lefts: list[int], width: int) -> Overview:
    """Patches of given pixels side by side on a small canvas."""
    poses = _row(2, 10)
    canvas = replace(make_canvas(poses, field_of(poses), "cylindrical"), width=width, height=values[0].shape[0])
    patches = []
    for k, (pixels, left) in enumerate(zip(values, lefts)):
        h, w = pixels.shape[:2]
        weight = np.minimum(np.linspace(0, 1, w), np.linspace(1, 0, w)) * 2
        weights = np.broadcast_to(weight, (h, w)).astype(np.float32)
        patches.append(
            Patch(k, np.arange(left, left + w), 0, pixels, np.ones((h, w), bool), weights, np.zeros((h, w), np.float32))
        )
    return Overview(canvas, tuple(patches))


def test_settings_tell_the_gain_where_overlaps_do_not():
    """Three frames one stop apart; the third lies over the second where that is white. Twice the time is one EV (ISO 2720)."""
    rng = np.random.default_rng(5)
    told = told_gains([Metadata(exposure_s=s, aperture=8, iso=100).exposure_value for s in (1 / 100, 1 / 200, 1 / 50)])
    np.testing.assert_allclose(told, (1, 2, 0.5))
    light = rng.uniform(0.02, 0.2, (60, 240, 3))
    light[:, 150:200] = 9.0
    frames = [
        np.rint(255 * SRGB.from_linear(np.clip(light[:, x : x + 100] * 2 / g, 0, 1))).astype(np.uint8)
        for x, g in zip((0, 50, 140), told)
    ]
    gains = solve_gains(_overview(frames, [0, 50, 140], 240), 3, told)
    np.testing.assert_allclose(gains / gains[0], np.repeat([[1], [2], [0.5]], 3, 1), rtol=0.02)
    evened = [
        np.rint(255 * SRGB.from_linear(np.clip(light[:, x : x + 100], 0, 1))).astype(np.uint8) for x in (0, 50, 140)
    ]
    np.testing.assert_allclose(solve_gains(_overview(evened, [0, 50, 140], 240), 3, told), 1, rtol=0.02)


def test_a_grey_frame_bends_the_colour_of_no_other():
    """Natural colour (scikit-image, coffee): frames of one light, the middle one grey and darker. Before, the others differed by a tenth."""
    coffee = cv2.resize(skimage.data.coffee(), (240, 160), interpolation=cv2.INTER_AREA)[40:100]
    frames = [coffee[:, x : x + 100].copy() for x in (0, 70, 140)]
    grey = 0.5 * SRGB.to_linear(frames[1] / 255.0).mean(-1, keepdims=True).repeat(3, -1)
    frames[1] = np.rint(255 * SRGB.from_linear(grey)).astype(np.uint8)
    gains = solve_gains(_overview(frames, [0, 70, 140], 240), 3)
    np.testing.assert_allclose(gains[0] / gains[2], 1, atol=0.02)
    np.testing.assert_allclose(gains[1] / gains[0], 2, rtol=0.05)


def test_gain_table_works_in_linear_light():
    table = gain_table(np.array([2.0, 1.0, 0.5]), 255)
    assert table[:, 1].tolist() == list(range(256))
    expected = 255 * SRGB.from_linear(2 * SRGB.to_linear(np.array(100 / 255)))
    assert table[100, 0] == round(float(expected))
    pixels = np.full((2, 2, 3), 100, np.uint8)
    assert with_gain(pixels, table)[0, 0].tolist() == [table[100, 0], 100, table[100, 2]]


# --- seams and blend -------------------------------------------------------------------------


def test_seam_runs_round_a_thing_that_only_one_frame_shows():
    """A square in the overlap of one frame must be kept whole or left out whole."""
    rng = np.random.default_rng(6)
    ground = rng.integers(90, 110, (80, 160, 3)).astype(np.uint8)
    one, other = ground[:, :100].copy(), ground[:, 60:].copy()
    one[30:50, 70:88] = 250
    label = find_seams(_overview([one, other], [0, 60], 160), np.ones((2, 3)))
    inside = label[30:50, 70:88]
    assert (inside == inside[0, 0]).all()
    assert set(np.unique(label)) == {0, 1}
    assert (label[:, :60] == 0).all()
    assert (label[:, 100:] == 1).all()


def test_seam_is_the_cheapest_path():
    """One pixel high, the cut can be checked by hand: it takes the column where both agree."""
    one, other = np.full((1, 60, 3), 100, np.uint8), np.full((1, 60, 3), 160, np.uint8)
    other = np.repeat(other, 20, 0)
    one = np.repeat(one, 20, 0)
    other[:, 17:20] = 100  # canvas columns 47..49
    label = find_seams(_overview([one, other], [0, 30], 90), np.ones((2, 3)))
    change = np.flatnonzero(np.diff(label[10]))
    assert len(change) == 1
    assert 45 <= change[0] <= 50


def _composite(values: list[int], label_split: float = 0.5) -> tuple[np.ndarray, np.ndarray]:
    poses = _row(2, 25)
    canvas = make_canvas(poses, field_of(poses), "cylindrical")
    frames = [Picture(np.full((900, 1200, 3), v, np.uint8)) for v in values]
    label = np.zeros((40, 100), np.int16)
    label[:, round(100 * label_split) :] = 1
    plan = RenderPlan(poses, canvas, FramesInMemory(tuple(frames)), label, np.ones((2, 3)), NONE, 255)
    return _rendered(plan, 512)


def _rendered(plan: RenderPlan, size: int) -> tuple[np.ndarray, np.ndarray]:
    """The whole picture of a plan, made in tiles of a size."""
    pixels = np.zeros((plan.canvas.height, plan.canvas.width, 3), np.uint8)
    alpha = np.zeros((plan.canvas.height, plan.canvas.width), np.uint8)
    for tile in tiles_of(plan.canvas, size):
        at = (slice(tile.top, tile.top + tile.height), slice(tile.left, tile.left + tile.width))
        pixels[at], alpha[at] = render_tile(plan, tile)
    return pixels, alpha


def test_blending_alike_frames_changes_nothing():
    """Burt & Adelson (1983): the bands add up to the picture; exact to the rim, no halo."""
    pixels, alpha = _composite([140, 140])
    assert (pixels[alpha == 255] == 140).all()
    assert (pixels[alpha == 0] == 0).all()
    assert 0.9 < (alpha == 255).mean() < 1


def test_blending_steps_melt_and_far_from_the_seam_frames_are_untouched():
    pixels, alpha = _composite([100, 140])
    row = pixels.shape[0] // 2
    middle = pixels[row, alpha[row] > 0, 0].astype(int)
    assert middle[20] == 100
    assert middle[-20] == 140
    assert np.abs(np.diff(middle)).max() <= 3
    assert (np.diff(middle) >= -1).all()


def _smooth_plan() -> RenderPlan:
    """Two frames of soft shapes with a seam in the middle."""
    poses = _row(2, 25)
    canvas = make_canvas(poses, field_of(poses), "cylindrical", width_px=700)
    rng = np.random.default_rng(7)
    frames = [cv2.resize(rng.integers(40, 215, (9, 12, 3), dtype=np.uint8), (1200, 900)) for _ in range(2)]
    label = np.zeros((40, 100), np.int16)
    label[:, 50:] = 1
    pictures = FramesInMemory(tuple(Picture(f) for f in frames))
    return RenderPlan(poses, canvas, pictures, label, np.ones((2, 3)), NONE, 255)


def test_tiles_meet_without_a_mark():
    """The same picture whatever the tile size, at the borders of tiles as anywhere else."""
    plan = _smooth_plan()
    whole, shown = _rendered(plan, 4096)
    parts, shown_too = _rendered(plan, 256)
    np.testing.assert_array_equal(shown, shown_too)
    # coarse grids and pyramids start elsewhere: on soft shapes that is less than two grey levels
    assert np.abs(whole.astype(int) - parts).max() <= 2
    border = np.abs(np.diff(parts.astype(int), axis=1))[:, 255::256].max()
    beside = np.abs(np.diff(whole.astype(int), axis=1))[:, 255::256].max()
    assert border <= beside + 2, "no line along the border of a tile"


def _in_folder(folder: Path, _content: str, path: Path) -> Path:
    return folder / path.name


def test_a_plan_renders_alike_in_another_process(tmp_path: Path):
    """Pickled and rendered elsewhere, from files: the same to the last bit."""
    held = _smooth_plan()
    assert isinstance(held.frames, FramesInMemory)
    paths = [tmp_path / f"f{i}.png" for i in range(2)]
    for path, picture in zip(paths, held.frames.pictures):
        Image.fromarray(picture.pixels).save(path)
    files = FilesOfFrames.of([probe(p) for p in paths], SRGB)
    plan = replace(held, frames=files, masks={0: Mask(*np.zeros((2, 30, 40), np.uint8))})
    (tmp_path / "plan.pickle").write_bytes(pickle.dumps(plan))
    code = (
        "import pickle, sys\nimport numpy as np\n"
        "from idle_lantern.core.compositing.render.plan import render_tile\n"
        "from idle_lantern.core.compositing.render.tiles import tiles_of\n"
        "plan = pickle.load(open(sys.argv[1], 'rb'))\n"
        "tiles = tiles_of(plan.canvas, 256)\n"
        "np.savez(sys.argv[2], *[np.dstack(render_tile(plan, t)) for t in tiles], key=plan.key)"
    )
    out = tmp_path / "tiles.npz"
    subprocess.run([sys.executable, "-c", code, str(tmp_path / "plan.pickle"), str(out)], check=True)
    with np.load(out) as made:
        assert str(made["key"]) == plan.key
        for i, tile in enumerate(tiles_of(plan.canvas, 256)):
            np.testing.assert_array_equal(made[f"arr_{i}"], np.dstack(render_tile(plan, tile)))
    # who renders is another matter, and so is where the files lie
    tiles = tuple(tiles_of(plan.canvas, 256))
    for runner in (ThreadRunner(2), ProcessRunner(2)):
        made = list(runner.run(RenderTiles(plan, tiles, as_made), range(len(tiles))))
        for tile, found in zip(tiles, made):
            np.testing.assert_array_equal(np.dstack(found), np.dstack(render_tile(plan, tile)))
    runner.close()
    moved = tmp_path / "elsewhere"
    moved.mkdir()
    for path in paths:
        path.rename(moved / path.name)
    there = replace(plan, frames=replace(files, resolver=partial(_in_folder, moved)))
    assert there.key == plan.key, "frames are known by what they hold"
    np.testing.assert_array_equal(np.dstack(render_tile(there, tiles[0])), np.dstack(made[0]))
    other = replace(plan, gains=plan.gains * 1.1)
    assert other.key != plan.key


# --- duplicates and regularity ------------------------------------------------------------------


def test_of_doubles_the_sharpest_stays():
    rng = np.random.default_rng(8)
    sharp = rng.integers(0, 255, (90, 120, 3), dtype=np.uint8)
    soft = cv2.GaussianBlur(sharp, (0, 0), 2)
    turned = np.stack([rotations.from_yaw_pitch_roll(math.radians(y), 0, 0) for y in (0.0, 0.5, 20.0)])
    poses = Poses((0, 1, 2), (LENS,) * 3, turned)
    frames = [WorkingFrame(Picture(p), (10.0, 10.0)) for p in (soft, sharp, sharp)]
    assert duplicates(poses, frames) == {0: 1}
    assert duplicates(poses, [frames[1], frames[0], frames[2]]) == {1: 0}


def test_half_overlap_is_no_double():
    """The tightest school of overlap shares half of each frame."""
    frame = WorkingFrame(Picture(np.zeros((90, 120, 3), np.uint8)), (10.0, 10.0))
    assert duplicates(_row(4, 27), [frame] * 4) == {}


def test_missing_frames_stand_where_the_grid_puts_them():
    """Two rows of six; the upper one lacks its ends and one inside."""

    def camera(yaw: float, pitch: float) -> np.ndarray:
        return rotations.from_yaw_pitch_roll(math.radians(yaw), math.radians(pitch), 0)

    wanted = {r * 6 + c: camera(-60 + 25 * c, p) for r, p in enumerate((32, 0)) for c in range(6)}
    missing = [0, 3, 5]
    placed = {f: r for f, r in wanted.items() if f not in missing}
    found = place_by_regularity(list(range(12)), placed, missing)
    assert 3 in found
    placed[3] = wanted[3]
    found = place_by_regularity(list(range(12)), placed, [0, 5])
    assert set(found) == {0, 5}
    for f in (0, 5):
        np.testing.assert_allclose(found[f].rotation, wanted[f], atol=1e-9)


def test_nothing_regular_places_nothing():
    rng = np.random.default_rng(9)
    placed = {f: rotations.from_yaw_pitch_roll(*rng.uniform(-1, 1, 2), 0) for f in range(5)}
    assert place_by_regularity(list(range(6)), placed, [5]) == {}


# --- many frames -----------------------------------------------------------------------------


def test_partners_of_many_frames_are_found_without_comparing_each_with_each():
    """Sixty frames in a row, each sharing a third of its features with the next: every true pair is named."""
    rng = np.random.default_rng(12)
    features, shared = [], rng.random((80, 128)).astype(np.float32)
    for _ in range(60):
        onward = rng.random((80, 128)).astype(np.float32)
        own = rng.random((90, 128)).astype(np.float32)
        d = np.concatenate([shared + rng.normal(0, 0.05, shared.shape).astype(np.float32), onward, own])
        d = np.sqrt(np.abs(d) / np.abs(d).sum(1, keepdims=True)).astype(np.float32)
        features.append(Features(np.zeros((len(d), 2)), np.ones(len(d), np.float32), d))
        shared = onward
    assert len(features) > ALL_PAIRS_UP_TO
    pairs = candidate_pairs(features, [None] * 60, 1.0)
    assert {(i, i + 1) for i in range(59)} <= set(pairs)
    assert len(pairs) < 60 * 9


def test_patches_that_meet_are_listed_across_the_join_of_a_circle():
    overview = _overview([np.full((20, 30, 3), 90, np.uint8)] * 4, [0, 25, 60, 80], 100)
    wrapped = replace(overview.patches[3], columns=np.arange(80, 110) % 100)
    assert meeting(replace(overview, patches=(*overview.patches[:3], wrapped))) == [[1, 3], [], [3], []]


@pytest.mark.parametrize("first", [0, 3, 4, 9])
def test_tiles_walked_there_and_back_come_out_row_by_row(first: int):
    """Also where a killed run left off in the middle of a row; neighbours in time are neighbours in place."""
    tiles = [Tile(512 * c, 512 * r, 512, 512) for r in range(4) for c in range(4)][first:]
    walk = there_and_back(tiles)
    assert sorted(walk, key=lambda t: (t.top, t.left)) == tiles
    assert list(row_by_row((t, t) for t in walk)) == tiles
    steps = {abs(a.left - b.left) + abs(a.top - b.top) for a, b in zip(walk, walk[1:])}
    assert steps == {512}
