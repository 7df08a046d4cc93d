"""Places covered by clean ground: against OpenCV's Poisson blending, over tiles and levels, and where the ground is found."""

from __future__ import annotations

import math
from typing import Any

import cv2
import msgspec
import numpy as np
import pytest
from skimage import data
from tests.core.finish.test_steps import recipe, whole

from idle_lantern.core.advice.advice import JoinedFacts, Medium
from idle_lantern.core.advice.looking_over import looked_over
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.deliver.delivery import Delivery
from idle_lantern.core.deliver.job import DeliverJob, TellInvented
from idle_lantern.core.deliver.known import Known
from idle_lantern.core.finish.finishing import Finish, KeptLooks, finished
from idle_lantern.core.finish.healing import HealedPicture, Spot, covered, ground_for, otherwise, place_of, rims_of
from idle_lantern.core.finish.recipe import Recipe
from idle_lantern.core.finish.steps.heal import Heal
from idle_lantern.core.finish.tile_look import Ground
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.operations import OperatedPicture
from idle_lantern.core.pictures.source import HeldPicture

#: Pixels of a degree in the middle of the flat canvas.
PX = 2000 * math.radians(1)


def canvas_of(width: int, height: int) -> Canvas:
    return Canvas(Projection("rectilinear"), width, height, 2000.0, ((width - 1) / 2, (height - 1) / 2))


def place_at(canvas: Canvas, u: float, v: float) -> tuple[float, float]:
    d = canvas.directions(np.array([u, v]))
    return math.degrees(math.atan2(d[0], d[2])), math.degrees(math.atan2(-d[1], math.hypot(d[0], d[2])))


def ground_of(source: Any) -> Ground:
    return Ground(SRGB, source.sizes[0], canvas_of(*source.sizes[0]))


def test_the_membrane_is_that_of_poisson_blending():
    """``cv2.seamlessClone`` (Perez and others 2003) of the same ground over the same round place; soft light over even ground."""
    x, y = np.meshgrid(np.linspace(0, 1, 600), np.linspace(0, 1, 400))
    rng = np.random.default_rng(2)
    even = np.stack([90 + 90 * x + 30 * y, 110 + 60 * y, 160 - 50 * x * y], -1)
    pixels = np.clip(even + cv2.GaussianBlur(rng.normal(0, 12, even.shape), (0, 0), 1.2), 0, 255).astype(np.uint8)
    cv2.circle(pixels, (300, 200), 22, (20, 20, 25), -1)
    canvas = canvas_of(600, 400)
    radius, u, v = 32.0, 300.0, 200.0
    spot = Spot(place_at(canvas, u, v), radius / PX, place_at(canvas, u + 120, v + 10))
    found = whole(HealedPicture(HeldPicture(Picture(pixels)), [spot], ground_of(HeldPicture(Picture(pixels))))).astype(
        int
    )
    mask = np.zeros((400, 600), np.uint8)
    cv2.circle(mask, (420, 210), 32, 255, -1)
    expected = cv2.seamlessClone(pixels, pixels, mask, (300, 200), cv2.NORMAL_CLONE).astype(int)
    inner = np.hypot(*np.meshgrid(np.arange(600) - u, np.arange(400) - v)) < 24
    assert np.abs(found - expected)[inner].mean() < 3.5
    assert np.abs(found - even)[inner].mean() < 7
    outside = np.hypot(*np.meshgrid(np.arange(600) - u, np.arange(400) - v)) > radius + 3
    assert (found[outside] == pixels[outside]).all()


def test_no_tile_and_no_level_shows():
    pixels = cv2.resize(data.coffee(), None, fx=4, fy=4, interpolation=cv2.INTER_CUBIC)
    canvas = canvas_of(2400, 1600)
    spots = [
        Spot(place_at(canvas, u, v), r / PX, place_at(canvas, u + a, v + b))
        for u, v, r, a, b in ((511, 513, 60, 200, 30), (1800, 700, 150, -420, 100), (5, 5, 40, 120, 90))
    ]
    made = []
    for side in (64, 200, 1024):
        source = HeldPicture(Picture(pixels))
        source.tile_px = side
        made.append(HealedPicture(source, spots, Ground(SRGB, (2400, 1600), canvas)))
    first = whole(made[0]).astype(int)
    assert all(np.abs(whole(other).astype(int) - first).max() <= 1 for other in made[1:])
    assert np.abs(first - pixels).max() > 20
    small = cv2.resize(first.astype(np.float32), made[0].sizes[1], interpolation=cv2.INTER_AREA)
    assert np.quantile(np.abs(whole(made[0], 1) - small), 0.99) < 2.55


def scene(seed: int) -> tuple[np.ndarray, np.ndarray, tuple[float, float]]:
    """Grass below and sky above with a horizon, a thing on one of them: with it, without it, and where it is."""
    rng = np.random.default_rng(seed)
    h, w = 500, 800
    horizon = 230
    ground = np.zeros((h, w, 3))
    ground[:horizon] = np.linspace(190, 225, horizon)[:, None, None] * (0.8, 0.9, 1.0)
    grass = cv2.GaussianBlur(rng.normal(0, 60, (h, w)), (0, 0), 1.5)
    ground[horizon:] = ((95, 120, 60) + grass[..., None])[horizon:]
    clean = np.clip(ground + rng.normal(0, 2, ground.shape), 0, 255).astype(np.uint8)
    u, v = rng.uniform(200, 600), rng.choice([120.0, 380.0])
    with_thing = clean.copy()
    cv2.circle(with_thing, (round(u), round(v)), 11, (230, 40, 40), -1)
    return with_thing, clean, (u, v)


@pytest.mark.parametrize("seed", range(6))
def test_clean_ground_is_found_that_makes_the_place_like_its_neighbours(seed: int):
    pixels, clean, (u, v) = scene(seed)
    source, canvas = HeldPicture(Picture(pixels)), canvas_of(800, 500)
    centre, radius = place_at(canvas, u, v), 16 / PX
    there = ground_for(source, ground_of(source), centre, radius)
    assert there is not None
    made = whole(HealedPicture(source, [Spot(centre, radius, there)], ground_of(source))).astype(float)
    y, x = np.mgrid[:500, :800]
    inner = np.hypot(x - u, y - v) < 13
    # sky is covered by sky and grass by grass: mean and roughness are those of the clean place
    assert np.abs(made[inner].mean(0) - clean[inner].mean(0)).max() < 8
    assert made[inner].std() == pytest.approx(clean[inner].std(), rel=0.4, abs=2)


def test_a_place_at_the_rim_or_outside_is_told_and_gaps_are_no_ground():
    pixels = np.full((300, 400, 3), 120, np.uint8)
    alpha = np.full((300, 400), 255, np.uint8)
    alpha[:, 200:] = 0
    source, canvas = HeldPicture(Picture(pixels, alpha)), canvas_of(400, 300)
    centre = place_at(canvas, 170, 150)
    there = ground_for(source, ground_of(source), centre, 10 / PX)
    assert there is not None
    assert canvas.pixels(np.array([math.sin(math.radians(there[0])), 0, math.cos(math.radians(there[0]))]))[0] < 190
    assert ground_for(source, ground_of(source), (120.0, 0.0), 1.0) is None
    assert ground_for(source, ground_of(source), centre, 20.0) is None
    spot = Spot((120.0, 0.0), 1.0, (0.0, 0.0))
    assert place_of(spot, canvas, (400, 300), (400, 300)) is None
    assert (whole(HealedPicture(source, [spot], ground_of(source))) == whole(source)).all()


def test_healed_ground_is_told_below():
    pixels, _clean, (u, v) = scene(3)
    source, canvas = HeldPicture(Picture(pixels)), canvas_of(800, 500)
    spot = {"centre_deg": place_at(canvas, u, v), "radius_deg": 40 / PX, "source_deg": place_at(canvas, u + 120, v)}
    job = DeliverJob(operations=(TellInvented(),))
    box = Rectangle(0, 0, 800, 500)
    told = Delivery(job, source, Known(canvas), recipe=recipe({"do": "heal", "spots": [spot]})).made(box)
    assert told.sizes[0][1] > 500
    assert Delivery(job, source, Known(canvas)).made(box).sizes[0] == (800, 500)
    ((_box, count),) = covered([Spot(**spot)], canvas, (800, 500))
    assert count == pytest.approx(math.pi * 40 * 40, rel=0.03)


def test_healing_comes_before_all_other_steps_and_takes_no_mask():
    pixels, _clean, (u, v) = scene(3)
    source, canvas = HeldPicture(Picture(pixels)), canvas_of(800, 500)
    centre = place_at(canvas, u, v)
    there = ground_for(source, ground_of(source), centre, 16 / PX)
    heal = {"do": "heal", "spots": [{"centre_deg": centre, "radius_deg": 16 / PX, "source_deg": there}]}
    exposure = {"do": "exposure", "ev": -1.0}
    one, other = (
        whole(finished(source, recipe(*steps), ground_of(source))) for steps in ((heal, exposure), (exposure, heal))
    )
    assert (one == other).all()
    y, x = np.mgrid[:500, :800]
    assert (one[np.hypot(x - u, y - v) < 11, 0] < 200).all()
    with pytest.raises(InputError, match="takes no mask"):
        recipe({"do": "heal", "mask": {"kind": "directions"}})
    with pytest.raises(InputError, match="report of the join"):
        finished(source, recipe(heal), Ground(SRGB, source.sizes[0]))


def test_what_is_kept_while_a_figure_changes_is_that_of_the_present_recipe():
    """Healing acts first wherever it stands: kept tiles of before would show the thing that is healed."""
    pixels, _clean, (u, v) = scene(3)
    source, canvas = HeldPicture(Picture(pixels)), canvas_of(800, 500)
    ground, kept = ground_of(source), KeptLooks(64_000_000)
    centre = place_at(canvas, u, v)
    heal = {
        "do": "heal",
        "spots": [{"centre_deg": centre, "radius_deg": 16 / PX, "source_deg": place_at(canvas, u + 60, v)}],
    }
    tones, late = {"do": "tones", "shadows": 0.5}, {"do": "local_contrast", "amount": 0.5}
    for steps in ((tones, late), (tones, late, heal), ({**tones, "shadows": 0.2}, late, heal), (tones, late)):
        made = recipe(*steps)
        begun = kept.begun_on(source, made, ground)
        found = OperatedPicture(begun, [Finish(made.working, begun, ground, kept=kept, held=1)])
        assert (whole(found) == whole(finished(source, made, ground))).all()


def test_places_on_other_ground_after_another_join_are_told():
    """Another exposure, packing or size of the same ground is no other ground; a thing that stands there now is."""
    photo = np.ascontiguousarray(data.coffee()[:400, :600])
    source = HeldPicture(Picture(photo))
    canvas = canvas_of(600, 400)
    spots = [
        Spot(place_at(canvas, u, v), 20 / PX, place_at(canvas, u + 60, v))
        for u, v in ((120, 90), (300, 200), (420, 300))
    ]
    kept = [msgspec.structs.replace(s, seen=rims_of(source, ground_of(source), s)) for s in spots]
    assert all(len(s.seen) == 48 for s in kept)

    def told(pixels: np.ndarray) -> list[int]:
        other = HeldPicture(Picture(np.ascontiguousarray(pixels)))
        return otherwise(other, ground_of(other), kept)

    assert told(photo) == []
    assert told((photo * 0.85).astype(np.uint8)) == []
    _ok, packed = cv2.imencode(".jpg", photo, [cv2.IMWRITE_JPEG_QUALITY, 80])
    assert told(cv2.imdecode(packed, cv2.IMREAD_COLOR)) == []
    stands = photo.copy()
    cv2.rectangle(stands, (310, 180), (360, 240), (240, 30, 30), -1)
    assert told(stands) == [1]
    assert told(np.roll(photo, 60, 0)) == [0, 1, 2]
    # and what is told goes once somebody looked at it
    recipe_then = Recipe((Heal(spots=tuple(kept)),))
    now = HeldPicture(Picture(stands))
    advice = next(
        a
        for a in looked_over(now, recipe_then, ground_of(now), canvas, Medium(SRGB), JoinedFacts())
        if a.what == "healed"
    )
    assert advice.figure == 1
    assert isinstance(advice.step, Heal)
    assert otherwise(now, ground_of(now), advice.step.spots) == []
