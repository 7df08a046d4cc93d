"""A camera that was held in the hand and wandered, with a fence some metres off."""

from __future__ import annotations

import math
from dataclasses import replace

import cv2
import numpy as np
import pytest

from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.compositing.canvas.canvas import make_canvas
from idle_lantern.core.compositing.canvas.warp import Tile, coarse_directions, frame_map, grid_step
from idle_lantern.core.compositing.light.vignetting import NONE
from idle_lantern.core.compositing.render.frame_views import Levels
from idle_lantern.core.compositing.render.plan import FramesInMemory, RenderPlan
from idle_lantern.core.frames.masks import Mask
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.sphere import azimuth_altitude
from idle_lantern.core.registration.match.links import Link
from idle_lantern.core.registration.solve.adjustment import FOCAL, Adjustment
from idle_lantern.core.registration.solve.covered_field import field_of
from idle_lantern.core.registration.solve.hand_held import HandHeld, solve_hand_held
from idle_lantern.core.registration.solve.inverse_depth_map import near_map
from idle_lantern.core.registration.solve.inverse_depth_warp import seen_from_the_middle
from idle_lantern.core.registration.solve.level import Level
from idle_lantern.core.registration.solve.poses import Poses
from idle_lantern.core.registration.solve.resection import Resected, resected

COUNT = 6


def _carried(lens: Lens, wander_m: float, noise_px: float, seed: int) -> tuple[Poses, list[Link], np.ndarray]:
    """A row taken from places (COUNT, 3) that wander, and its matches: a fence 3 m off below the horizon, 30 to 200 m above it."""
    rng = np.random.default_rng(seed)
    turned = np.stack(
        [rotations.from_yaw_pitch_roll(math.radians(25 * i), *rng.normal(0, 0.02, 2)) for i in range(COUNT)]
    )
    place = rng.normal(0, wander_m / math.sqrt(3), (COUNT, 3))
    links = []
    for a, b in [(i, i + 1) for i in range(COUNT - 1)] + [(i, i + 2) for i in range(COUNT - 2)]:
        points = rng.uniform(0, [lens.width - 1, lens.height - 1], (3000, 2))
        ray = lens.unproject(points) @ turned[a].T
        distance = np.where(ray[:, 1] > 0.12, 3.0 / np.hypot(ray[:, 0], ray[:, 2]), rng.uniform(30, 200, len(ray)))
        local = (place[a] + distance[:, None] * ray - place[b]) @ turned[b]
        seen = lens.sees(local)
        there = lens.project(local[seen])[0]
        there += rng.normal(0, noise_px, there.shape)
        some = slice(0, 120)
        links.append(
            Link(a, b, points[seen][some], there[some], turned[b].T @ turned[a], np.ones(len(there[some]), bool))
        )
    return Poses(tuple(range(COUNT)), (lens,) * COUNT, turned), links, place


@pytest.mark.parametrize("k1", [-0.06])
def test_a_camera_that_only_turned_was_not_carried(k1: float):
    true, links, _place = _carried(Lens("rectilinear", 900, 1000, 700, k1=k1), 0.0, 0.2, 4)
    assert solve_hand_held(true, links, [0] * COUNT, focal_from_exif=True) is None


def test_words_say_how_far_and_what_to_do():
    sentence = HandHeld(0.007, 12.0).sentence(2.0)
    assert "0.7 %" in sentence
    assert "14 mm as they stand 2 m off" in sentence
    assert "panoramic head" in sentence
    leaned = Level(200, math.radians(0.02), math.radians(2), 0.0, math.radians(0.02))
    assert "axis leaned" in leaned.sentence()
    assert "axis" not in leaned.sentence(held_in_hand=True)


def test_a_frame_on_the_wrong_side_of_its_neighbours_is_found_and_brought_over():
    """What is near taken for far, and a turn that hides it: no descent leads out of that."""
    true, links, place = _carried(Lens("rectilinear", 900, 1000, 700), 0.02, 0.05, 1)
    usual = float(np.median(np.linalg.norm(np.diff(place, axis=0), axis=1)))

    def better(frame: int, stood: np.ndarray) -> Resected | None:
        problem = Adjustment(true, links, [0] * COUNT, 0.25, True, FOCAL, 60)
        return resected(problem, stood, np.arange(COUNT) == frame)

    for frame in range(COUNT):
        assert better(frame, place) is None, "all stand best where they are"
        beside = [i for i in (frame - 1, frame + 1) if 0 <= i < COUNT]
        mirrored = place.copy()
        mirrored[frame] = 2 * place[beside].mean(0) - place[frame]
        found = better(frame, mirrored)
        assert found is not None
        # two frames alone do not tell how far, only where to: both ways must be alike
        for i in beside:
            move, wanted = mirrored[frame] + found.move - place[i], place[frame] - place[i]
            assert move @ wanted > 0.9 * np.linalg.norm(move) * np.linalg.norm(wanted), (frame, i)
        assert np.linalg.norm(found.move) > 0.3 * usual


def _fence_under_the_sky(lens: Lens, turned: np.ndarray, place: np.ndarray, light: np.ndarray) -> np.ndarray:
    """A frame (H, W) uint8 of ``light`` painted on the sphere about the middle: 2 m off below the horizon, far above it."""
    v, u = np.mgrid[: lens.height, : lens.width].astype(float)
    ray = lens.unproject(np.stack([u, v], -1)) @ turned.T
    near = ray + place / 2.0
    seen = np.where((near[..., 1] > 0)[..., None], near, ray)
    azimuth, altitude = azimuth_altitude(seen)
    at = np.stack([azimuth * 600 + 900, 700 - altitude * 600], -1).astype(np.float32)
    return cv2.remap(light, at, None, cv2.INTER_LINEAR)


def test_frames_are_laid_as_seen_from_the_middle_and_tear_between_near_and_far():
    """Their pupils stood 2 cm to the sides: what is 2 m off is brought back by so much, what is far stays."""
    lens, rng = Lens("rectilinear", 800, 800, 600), np.random.default_rng(3)
    light = cv2.GaussianBlur(rng.integers(0, 255, (1400, 1800)).astype(np.float32), (0, 0), 2.5)
    light = ((light - light.mean()) * 12 + 120).clip(0, 255).astype(np.uint8)
    poses = Poses((0, 1), (lens, lens), np.stack([rotations.from_yaw_pitch_roll(a, 0, 0) for a in (-0.2, 0.2)]))
    place = np.array([[-0.02, 0.004, 0.0], [0.02, -0.004, 0.0]])
    greys = [_fence_under_the_sky(lens, r, p, light) for r, p in zip(poses.world_from_camera, place)]
    greys[1] = (greys[1] * 0.7).astype(np.uint8)  # exposures differ
    near = near_map(poses, place, np.full(20, 0.5), [(0, 1)], greys.__getitem__)
    bends = seen_from_the_middle(poses, place, near).bends
    for k, bend in enumerate(bends):
        assert bend is not None
        nodes = np.stack(
            np.meshgrid(*(np.linspace(0, n - 1, c) for n, c in ((800, bend.shape[1]), (600, bend.shape[0])))), -1
        )
        d = lens.unproject(nodes) @ poses.world_from_camera[k].T
        wanted = np.where(
            (d[..., 1] > 0)[..., None], lens.project((d - place[k] / 2.0) @ poses.world_from_camera[k])[0] - nodes, 0
        )
        both = lens.sees(d @ poses.world_from_camera[1 - k])
        off = np.linalg.norm(bend - wanted, axis=-1)
        assert np.abs(wanted).max() > 7
        assert np.quantile(off[both], 0.9) < 0.4
        # what this frame alone shows goes on like what stands beside it
        assert np.median(off[~both]) < 0.5
        assert (off > 4).mean() < 0.02, "the edge runs along the horizon"


def test_what_a_warp_brings_from_far_beside_a_frame_is_shown_and_follows_its_mask():
    """A long lens shifts near things by more than the few pixels that tiles used to spare."""
    lens, moved = Lens("rectilinear", 800, 400, 300), 90.0
    bend = np.zeros((3, 3, 2), np.float32)
    bend[..., 0] = -moved
    poses = Poses((0,), (lens,), np.eye(3)[None], bends=(bend,))
    canvas = make_canvas(poses, field_of(poses), "cylindrical")
    # a tile that begins 60 px to the right of the frame: what stands there is 30 px inside it
    right = canvas.pixels(lens.unproject(np.array([[399.5 + 60, 150.0]])))[0]
    tile = Tile(round(float(right[0])), round(float(right[1])) - 8, 16, 16)
    step = grid_step(canvas)
    found = frame_map(coarse_directions(canvas, tile, step), lens, np.eye(3), (16, 16), step, bend=bend)
    assert found is not None
    assert found[1].all()
    plan = RenderPlan(
        poses, canvas, FramesInMemory((Picture(np.zeros((300, 400, 3), np.uint8)),)), np.zeros((8, 8), np.int16),
        np.ones((1, 3)), NONE, 255,
    )  # fmt: skip
    hide = np.zeros((300, 400), np.uint8)
    hide[:, 372:380] = 255
    painted = replace(plan, masks={0: Mask(hide, np.zeros_like(hide))})

    def never(k: int) -> Levels:
        raise AssertionError(f"frame {k} need not be read")

    one, other = (p.compositor(never).made_from(tile) for p in (plan, painted))
    assert one != other
