"""What is said of a finished picture: found where it is there, with the right figure, and silent on pictures that are well."""

from __future__ import annotations

import math
from functools import lru_cache

import cv2
import numpy as np
import pytest
from skimage import data

from idle_lantern.core.advice.advice import Advice, FrameOutline, JoinedFacts, Medium
from idle_lantern.core.advice.detail import edge_blur_px, noise_of, overshoot_of, places_to_look
from idle_lantern.core.advice.looking_over import facts_of, looked_over
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import DISPLAY_P3, SRGB
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.finish.recipe import SCHEMA, Recipe, parsed
from idle_lantern.core.finish.step import Step
from idle_lantern.core.finish.steps.sharpen import sharpen_for_blur
from idle_lantern.core.finish.tile_look import Ground
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.core.pictures.source import HeldPicture
from idle_lantern.simulator.diorama import ambrel_holm
from idle_lantern.simulator.truth import ideal_canvas

_SUN_DEG = -60.0
_WIDTH, _HEIGHT, _ACROSS_DEG = 1000, 420, 200.0


def canvas(lean_deg: float = 0.0, fine: int = 1) -> Canvas:
    turn = rotations.from_yaw_pitch_roll(0, 0, math.radians(lean_deg))
    width, height = _WIDTH * fine, _HEIGHT * fine
    middle = ((width - 1) / 2, (height - 1) * 0.62)
    return Canvas(Projection("cylindrical"), width, height, width / math.radians(_ACROSS_DEG), middle, turn)


@lru_cache(maxsize=4)
def place(lean_deg: float = 0.0, fine: int = 1) -> np.ndarray:
    """Linear light of the invented place, well exposed, without a lens."""
    at = canvas(lean_deg, fine)
    scene = ambrel_holm(clouds=0.3, walkers=0)
    light = ideal_canvas(
        scene, at.projection, (at.height, at.width), at.px_per_rad, at.centre_px, np.asarray(at.canvas_from_world)
    )
    return np.asarray(np.clip(0.55 * light, 0, None), np.float32)


def held(light: np.ndarray) -> HeldPicture:
    return HeldPicture(Picture(np.rint(SRGB.from_linear(np.clip(light, 0, 1)) * 65535).astype(np.uint16)))


@lru_cache(maxsize=1)
def facts() -> JoinedFacts:
    """Of the place itself: neither its light nor any recipe changes where its sky ends."""
    return facts_of(held(place()), canvas(), outlines())


def said(light: np.ndarray, *steps: dict[str, object], medium: Medium | None = None) -> dict[str, Advice]:
    source = held(light)
    ground = Ground(SRGB, source.sizes[0], canvas())
    recipe = parsed({"schema": SCHEMA, "steps": list(steps)}, "test")
    return {a.what: a for a in looked_over(source, recipe, ground, canvas(), medium or Medium(SRGB), facts())}


def after(light: np.ndarray, step: Step) -> dict[str, Advice]:
    """What is said once a proposed step was taken."""
    source = held(light)
    ground = Ground(SRGB, source.sizes[0], canvas())
    return {a.what: a for a in looked_over(source, Recipe((step,)), ground, canvas(), Medium(SRGB), facts())}


def yaw_deg() -> np.ndarray:
    return np.degrees((np.arange(_WIDTH) - (_WIDTH - 1) / 2) / canvas().px_per_rad)


def test_a_picture_that_is_well_is_left_in_peace():
    assert set(said(place())) <= {"soft", "drift"}  # the sun stands on one side; the place has no lens


def test_what_the_steps_burn_out_is_held_back_and_what_the_frames_did_is_told():
    by_steps = said(place(), {"do": "exposure", "ev": 1.2})["sky"]
    assert by_steps.figure > 0.03
    assert by_steps.step is not None
    in_frames = said(place() * 2.4)["sky"]
    assert in_frames.step is None
    assert "in the frames already" in in_frames.sentence


@pytest.mark.parametrize("lean", [0.6])
def test_a_lean_is_told_and_level_is_not(lean: float):
    tilted, level = (facts_of(held(place(turn, 2)), canvas(fine=2)).lean for turn in (lean, 0.0))
    assert tilted is not None
    # turned as told, the canvas stands upright again
    turned = rotations.from_yaw_pitch_roll(*np.radians(tilted.turn_after((0.0, 0.0, lean), canvas(lean))))
    assert math.degrees(math.acos(turned[1, 1])) < max(0.2, 2 * tilted.sigma_deg)
    assert abs(tilted.degrees - abs(lean)) < max(0.2, 2 * tilted.sigma_deg)
    assert level is None or level.degrees < 0.3


def test_a_polarisers_band_is_found_and_evened():
    """Single scattering polarises the sky by sin^2 / (1 + cos^2) of the angle from the sun (Rayleigh); a crossed filter takes that light."""
    off = np.radians(yaw_deg() - _SUN_DEG)
    passed = 1 - 0.75 * np.sin(off) ** 2 / (1 + np.cos(off) ** 2)
    light = place() * passed[None, :, None].astype(np.float32)
    advice = said(light)["band"]
    assert advice.step is not None
    assert abs(advice.step.yaw_deg - (_SUN_DEG + 90)) < 12
    assert advice.figure > 0.8
    assert "band" not in after(light, advice.step)
    # and where the step is on it is never proposed twice, whatever is left
    weaker = parsed({"schema": SCHEMA, "steps": [{"do": "band", "yaw_deg": 30, "ev": 0.1}]}, "").steps[0]
    assert "band" not in after(light, weaker)
    assert "band" not in said(place())


def test_haze_towards_one_side_is_found_and_taken_off():
    veil = 0.12 * (1 + np.cos(np.radians(np.clip(1.8 * np.abs(yaw_deg() + 40), 0, 180)))) / 2
    veiled = np.asarray(place() * (1 - veil[None, :, None]) + veil[None, :, None], np.float32)
    advice = said(veiled)["haze"]
    assert advice.step is not None
    assert abs(advice.step.yaw_deg + 40) < 15
    assert advice.figure == pytest.approx(0.12, rel=0.35)
    assert "haze" not in said(place())


def test_a_halo_along_the_land_is_told_and_a_curve_makes_none():
    light = place()
    grey = light.mean(-1, keepdims=True)
    wide = cv2.GaussianBlur(grey, (0, 0), 14)[..., None]
    assert "halo" in said_of_change(light, light * (grey / np.maximum(wide, 1e-3)) ** 0.7)
    assert "halo" not in said_of_change(light, 0.9 * light**0.8)


def said_of_change(light: np.ndarray, changed: np.ndarray) -> set[str]:
    """As if a recipe had made ``changed``: what is said of its halo."""
    from idle_lantern.core.advice.sky import halo_ev, sky_of

    ones = np.ones(light.shape[:2], np.float32)
    seen = sky_of(ones, facts().skyline, Ground(SRGB, (_WIDTH, _HEIGHT), canvas()))
    assert seen is not None
    weights = SRGB.luminance.astype(np.float32)
    return {"halo"} if halo_ev(light @ weights, changed @ weights, seen.mask) >= 0.12 else set()


def test_colours_that_the_file_cannot_hold_are_told():
    strong = {"do": "saturation", "factor": 4.0}
    assert "colours" in said(place(), strong)
    wider = said(place(), strong, medium=Medium(DISPLAY_P3)).get("colours")
    assert wider is None or wider.figure < said(place(), strong)["colours"].figure


# --- detail ---------------------------------------------------------------------


def edges(sigma: float, seed: int = 0) -> list[np.ndarray]:
    """Straight edges of many turns and heights as pixels see them (area sampling), blurred by a Gaussian."""
    rng = np.random.default_rng(seed)
    fine, made = 8, []
    for _ in range(3):
        big = np.full((1600, 1600), 0.2, np.float32)
        for _ in range(14):
            at, size, turn = rng.uniform(0, 1600, 2), rng.uniform(150, 500, 2), rng.uniform(0, 180)
            box = cv2.boxPoints(((float(at[0]), float(at[1])), (float(size[0]), float(size[1])), float(turn)))
            cv2.fillPoly(big, [np.rint(box).astype(np.int32)], float(rng.uniform(0.4, 0.9)))
        big = cv2.GaussianBlur(big, (0, 0), max(sigma * fine, 0.01))
        made.append(cv2.resize(big, None, fx=1 / fine, fy=1 / fine, interpolation=cv2.INTER_AREA))
    return made


@pytest.mark.parametrize("sigma", [0.6, 1.0, 1.6, 2.5])
def test_the_blur_of_edges_is_measured(sigma: float):
    told = edge_blur_px(edges(sigma))
    assert told == pytest.approx(math.hypot(sigma, 1 / math.sqrt(12)), rel=0.15)  # a pixel's own width adds to it


@pytest.mark.parametrize("name", ["camera", "astronaut", "coffee"])
def test_more_blur_of_a_photograph_adds_in_squares(name: str):
    photo = np.asarray(getattr(data, name)(), np.float32)
    photo = photo if photo.ndim == 2 else photo.mean(-1)
    plain = edge_blur_px([photo / 255])
    softer = edge_blur_px([cv2.GaussianBlur(photo / 255, (0, 0), 1.5)])
    assert plain is not None
    assert softer is not None
    assert softer == pytest.approx(math.hypot(plain, 1.5), rel=0.2)


def test_proposed_sharpening_brings_contrast_back_and_no_rims():
    tiles = edges(1.2)
    blur = edge_blur_px(tiles)
    assert blur is not None
    step = sharpen_for_blur(blur)
    radius, amount = step.radius_px, step.amount
    sharper = [t + amount * (t - cv2.GaussianBlur(t, (0, 0), radius)) for t in tiles]
    told = edge_blur_px(sharper)
    assert told is not None
    assert told < 0.75 * blur
    assert overshoot_of(tiles, sharper) < 0.2
    too_far = [t + 4 * (t - cv2.GaussianBlur(t, (0, 0), radius)) for t in tiles]
    assert overshoot_of(tiles, too_far) > 0.3


@pytest.mark.parametrize("noise", [0.01, 0.03])
def test_noise_is_told_on_a_photograph(noise: float):
    """Against what was added to it."""
    photo = cv2.GaussianBlur(data.coffee().astype(np.float32).mean(-1) / 255, (0, 0), 2.0)
    noisy = photo + np.random.default_rng(3).normal(0, noise, photo.shape).astype(np.float32)
    told = noise_of([noisy])
    assert told == pytest.approx(noise, rel=0.2)


def test_edges_are_looked_for_where_they_are_and_noise_where_nothing_is():
    picture = np.full((1024, 2048, 3), 120, np.uint8)
    picture[512:, 1536:] = np.random.default_rng(0).integers(0, 255, (512, 512, 3))
    sharp, even = places_to_look(HeldPicture(Picture(picture)), 2)
    assert sharp[0] == (1, 3)
    assert (1, 3) not in even


def test_noise_counts_as_the_print_shows_it():
    noisy = place() * (1 + np.random.default_rng(5).normal(0, 0.12, place().shape).astype(np.float32))
    coarse, fine = (said(noisy, medium=Medium(SRGB, dpi=dpi)).get("noise") for dpi in (100.0, 1200.0))
    assert coarse is not None
    assert coarse.step is not None
    assert fine is None or fine.figure < coarse.figure / 3


def test_too_much_sharpening_is_told_and_less_is_proposed():
    soft = cv2.GaussianBlur(place(), (0, 0), 0.8)
    advice = said(soft, {"do": "sharpen", "radius_px": 1.2, "amount": 4.0})["oversharp"]
    assert advice.step is not None
    assert "oversharp" not in after(soft, advice.step)
    softer = cv2.GaussianBlur(place(), (0, 0), 1.3)
    proposed = said(softer)["soft"]
    assert proposed.step is not None
    assert "soft" not in after(softer, proposed.step)


def outlines() -> tuple[FrameOutline, ...]:
    """Five upright frames beside each other."""
    edges = np.linspace(4, _WIDTH - 5, 6)
    return tuple(
        FrameOutline(f"f{k}.jpg", (np.array([[a, 6.0], [b, 8.0], [b - 3, _HEIGHT - 8.0], [a + 2, _HEIGHT - 5.0]]),))
        for k, (a, b) in enumerate(zip(edges, edges[1:]))
    )


def told_of_frames(light: np.ndarray, *steps: Step) -> list[Advice]:
    source = held(light)
    ground = Ground(SRGB, source.sizes[0], canvas())
    found = looked_over(source, Recipe(steps), ground, canvas(), Medium(SRGB), facts())
    return [a for a in found if a.what == "frame"]


@pytest.mark.parametrize(("number", "ev"), [(1, 0.3), (3, -0.25)])
def test_a_frame_that_stays_off_is_found_and_evened(number: int, ev: float):
    """A frame brighter than its neighbours all along its rims, blended as a join blends; the sun's side alone tells no frame."""
    light = place()
    assert told_of_frames(light) == []
    mask = np.zeros(light.shape[:2], np.float32)
    cv2.fillPoly(mask, [np.rint(outlines()[number].lines[0]).astype(np.int32)], 1.0)
    off = np.asarray(light * 2 ** (ev * cv2.GaussianBlur(mask, (0, 0), 3)[..., None]), np.float32)
    (advice,) = told_of_frames(off)
    assert advice.sentence.startswith(f"f{number}.jpg is")
    assert advice.figure == pytest.approx(ev, abs=0.08)
    assert advice.step is not None
    assert told_of_frames(off, advice.step) == []
