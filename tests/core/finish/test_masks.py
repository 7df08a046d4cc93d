"""Masks: where a step works, told in directions, by what is seen, or by a picture; by tile and level as on the whole."""

from __future__ import annotations

import json
import math
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import pytest
from tests.core.finish.test_steps import near, photograph, recipe, whole
from tests.helpers.commands import run_command

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.finish.finishing import finished
from idle_lantern.core.finish.masks import Mask
from idle_lantern.core.finish.recipe import SCHEMA
from idle_lantern.core.finish.tile_look import Ground, TileLook
from idle_lantern.core.frames.reading import read
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.operations import TilePlace
from idle_lantern.core.pictures.source import HeldPicture
from idle_lantern.core.scouting.skyline import sky_over
from idle_lantern.simulator.camera import SimulatedCamera, SimulatedHead
from idle_lantern.simulator.diorama import ambrel_holm

WIDTH = 1440  # a sphere of four pixels a degree


def sphere(turned: Any = None) -> Canvas:
    centre = ((WIDTH - 1) / 2, (WIDTH // 2 - 1) / 2)
    turn = np.eye(3) if turned is None else turned
    return Canvas(
        Projection("equirectangular"), WIDTH, WIDTH // 2, WIDTH / (2 * math.pi), centre, turn, full_circle=True
    )


def mask_of(told: dict[str, Any]) -> Mask:
    step = recipe({"do": "exposure", "ev": 1, "mask": told}).steps[0]
    assert step.mask is not None
    return step.mask


def strength(
    told: dict[str, Any], canvas: Canvas | None = None, box: Rectangle | None = None, level: int = 0
) -> np.ndarray:
    canvas = canvas or sphere()
    size, full = (canvas.width >> level, canvas.height >> level), (canvas.width, canvas.height)
    box = box or Rectangle(0, 0, *size)
    flat = np.zeros((box.height, box.width, 3), np.float32)
    look = TileLook(Ground(SRGB, full, canvas), TilePlace(box, size, full), np.ones(flat.shape[:2], np.float32), flat)
    return mask_of(told).strength(look)


def angles(canvas: Canvas) -> tuple[np.ndarray, np.ndarray]:
    """Azimuth and altitude of each pixel by the contract's own formulas, for a sphere that is not turned."""
    u, v = np.meshgrid(np.arange(canvas.width), np.arange(canvas.height))
    return np.degrees((u - canvas.centre_px[0]) / canvas.px_per_rad), -np.degrees(
        (v - canvas.centre_px[1]) / canvas.px_per_rad
    )


def test_directions_are_those_of_the_contract_and_a_feather_lies_outside():
    yaw, pitch = angles(sphere())
    told = {"kind": "directions", "yaw_deg": [20, 60], "pitch_deg": [-10, 30], "feather_deg": 10}
    off_yaw = np.maximum(np.maximum(20 - yaw, yaw - 60), 0)
    off_pitch = np.maximum(np.maximum(-10 - pitch, pitch - 30), 0)
    expected = np.clip(1 - off_yaw / 10, 0, 1) * np.clip(1 - off_pitch / 10, 0, 1)
    assert near(strength(told), expected, 0.003)


def test_directions_go_on_over_the_back():
    yaw, _pitch = angles(sphere())
    told = {"kind": "directions", "yaw_deg": [160, -150], "feather_deg": 0}
    assert (strength(told) == ((yaw > 160) | (yaw < -150))).mean() > 0.999
    assert (strength({"kind": "directions"}) == 1).all()


def test_a_round_one_is_a_circle_of_the_sphere_and_a_gradient_an_angle_along_it():
    yaw, pitch = (np.radians(a) for a in angles(sphere()))
    apart = np.degrees(
        np.arccos(np.clip(np.sin(pitch) * math.sin(1.0) + np.cos(pitch) * math.cos(1.0) * np.cos(yaw - 0.5), -1, 1))
    )
    told = {"kind": "round", "centre_deg": [math.degrees(0.5), math.degrees(1.0)], "radius_deg": 20, "feather_deg": 15}
    assert near(strength(told), np.clip(1 - (apart - 20) / 15, 0, 1), 0.004)
    up = strength({"kind": "gradient", "begin_deg": [0, 0], "end_deg": [0, 40]})
    middle = np.abs(yaw) < 0.01
    assert near(up[middle], np.clip(np.degrees(pitch[middle]) / 40, 0, 1), 0.004)


STROKE = {"places_deg": [[150, 10], [175, 5], [-160, -12]], "radius_deg": 6.0}
DRAWN: list[dict[str, Any]] = [
    {"kind": "brush", "strokes": [STROKE], "soft": 0.5},
    {"kind": "brush", "strokes": [STROKE, {"places_deg": [[175, 5]], "radius_deg": 3.0, "rubs": True}], "soft": 0.2},
    {"kind": "polygon", "places_deg": [[170, -10], [-165, -5], [-170, 20], [172, 15]], "feather_deg": 4},
    {"kind": "polygon", "places_deg": [[a, 5 + 3 * math.sin(a / 20)] for a in range(-180, 180, 10)], "feather_deg": 0},
]


def test_a_stroke_is_as_wide_as_its_angle_also_near_the_zenith():
    """By the distance of each pixel from the nearest of many places along it, over the back and high up."""
    yaw, pitch = (np.radians(a) for a in angles(sphere()))
    here = np.stack([np.sin(yaw) * np.cos(pitch), -np.sin(pitch), np.cos(yaw) * np.cos(pitch)], -1)
    # high up a picture is drawn wide, and the nearest place in its pixels is not quite the nearest one
    for places, off_by in (([(150, 10), (175, 5), (-160, -12)], 0.12), ([(20, 70), (50, 76)], 0.25)):
        ends = np.radians(np.array(places))
        corners = np.stack(
            [np.sin(ends[:, 0]) * np.cos(ends[:, 1]), -np.sin(ends[:, 1]), np.cos(ends[:, 0]) * np.cos(ends[:, 1])], -1
        )
        along = np.concatenate([a + (b - a) * np.linspace(0, 1, 40)[:, None] for a, b in zip(corners, corners[1:])])
        along /= np.linalg.norm(along, axis=1, keepdims=True)
        off = np.degrees(np.arccos(np.clip((here @ along.T).max(-1), -1, 1)))
        told = {"kind": "brush", "strokes": [{"places_deg": places, "radius_deg": 6.0}], "soft": 0.5}
        expected = np.clip(1 - (off - 3) / 3, 0, 1)
        assert np.quantile(np.abs(strength(told) - expected), 0.999) < off_by
        assert np.abs(strength(told) - expected).mean() < 0.003


def test_a_line_round_the_horizon_encloses_the_sky():
    yaw, pitch = angles(sphere())
    found = strength(DRAWN[3])
    assert (found == (pitch > 5 + 3 * np.sin(np.radians(yaw * 180 / math.pi / 20)))).mean() > 0.985
    assert (found[pitch > 9] == 1).all()
    assert (found[pitch < 1] == 0).all()


@pytest.mark.parametrize("told", DRAWN)
def test_what_is_drawn_shows_no_tile_and_is_the_same_reduced(told: dict[str, Any]):
    full = strength(told)
    for left, top, side in ((0, 0, 256), (1200, 256, 240), (700, 100, 64)):
        part = strength(told, box=Rectangle(left, top, side, side))
        assert near(part, full[top : top + side, left : left + side], 1 / 255)
    small = cv2.resize(full, (WIDTH // 4, WIDTH // 8), interpolation=cv2.INTER_AREA)
    assert np.quantile(np.abs(strength(told, level=2) - small), 0.97) < 0.15
    assert np.abs(strength(told, level=2) - small).mean() < 0.01


def test_what_is_drawn_stays_at_its_place_in_another_projection():
    told = {"kind": "brush", "strokes": [{"places_deg": [[30, 20], [45, 10]], "radius_deg": 5}], "soft": 0.5}
    turn = rotations.about_y(math.radians(-40))
    flat = Canvas(Projection("rectilinear"), 900, 700, 500.0, (449.5, 349.5), turn)
    u, v = np.meshgrid(np.arange(0, 900, 7.0), np.arange(0, 700, 7.0))
    directions = flat.directions(np.stack([u, v], -1))
    on_sphere = np.rint(sphere().pixels(directions)).astype(int)
    expected = strength(told)[on_sphere[..., 1].clip(0, 719), on_sphere[..., 0] % WIDTH]
    found = strength(told, flat)[v.astype(int), u.astype(int)]
    assert np.abs(found - expected).mean() < 0.01
    assert found.max() == 1


def test_the_sky_is_what_lies_above_its_skyline_and_only_where_that_is_known():
    yaw, pitch = angles(sphere())
    line = [[float(a), 5 + 4 * math.sin(a / 15)] for a in range(-170, -40, 1)]
    found = strength({"kind": "sky", "skyline": line, "feather_deg": 2})
    over = pitch - (5 + 4 * np.sin(yaw / 15))
    known = (yaw > -169) & (yaw < -42)
    assert near(found[known], np.clip(1 + over[known] / 2, 0, 1), 0.02)
    assert (found[(yaw > -34) & (yaw < 176)] == 0).all()


def test_the_sky_of_a_picture_is_found(tmp_path: Path):
    """The simulator's island, whose truth is where nothing lies: nine of ten pixels of sky are told, and three of a hundred others."""
    camera = SimulatedCamera(Lens("rectilinear", 420, 900, 600), 24.0, 24.0 * 900 / 420, noise=False)
    view = camera.view(ambrel_holm(walkers=0, clouds=0.0), SimulatedHead().pointed(0, 12, 0))
    truth = np.isinf(view.distance_m)
    canvas = Canvas(Projection("rectilinear"), 900, 600, 420.0, (449.5, 299.5), rotations.about_x(math.radians(-12)))
    skyline = sky_over(camera.develop(view).pixels, canvas)
    found = strength({"kind": "sky", "skyline": [list(place) for place in skyline], "feather_deg": 0.5}, canvas) > 0.5
    assert found[truth].mean() > 0.9
    assert found[~truth].mean() < 0.03


def test_brightness_is_a_greys_own_value_and_colour_its_hue():
    ramp = np.linspace(0, 1, 400, dtype=np.float32)[None, :, None].repeat(8, 0).repeat(3, -1)
    ground = Ground(SRGB, (400, 8))
    place = TilePlace(Rectangle(0, 0, 400, 8), (400, 8), (400, 8))
    look = TileLook(ground, place, np.ones((8, 400), np.float32), ramp)
    found = mask_of({"kind": "brightness", "range": [0.3, 0.6], "feather": 0.1}).strength(look)
    off = np.maximum(np.maximum(0.3 - ramp[..., 0], ramp[..., 0] - 0.6), 0)
    assert near(found, np.clip(1 - off / 0.1, 0, 1), 2e-3)
    assert mask_of({"kind": "colour", "hue_deg": 30}).strength(look).max() == 0
    red = TileLook(ground, place, look.alpha, np.full((8, 400, 3), (0.9, 0.1, 0.1), np.float32))
    assert mask_of({"kind": "colour", "hue_deg": 29}).strength(red).min() == 1
    assert mask_of({"kind": "colour", "hue_deg": 200}).strength(red).max() == 0


def test_masks_are_joined_and_turned_round():
    left = {"kind": "directions", "yaw_deg": [-90, 0]}
    low = {"kind": "directions", "pitch_deg": [-90, 0]}
    a, b = strength(left), strength(low)
    assert (strength({"kind": "all", "of": [left, low]}) == np.minimum(a, b)).all()
    assert (strength({"kind": "any", "of": [left, low]}) == np.maximum(a, b)).all()
    assert (strength({"kind": "not", "of": [left]}) == 1 - a).all()


def test_the_result_is_the_input_and_the_steps_each_by_its_share():
    """The contract: 1 - strength times the input plus strength times the step's."""
    pixels = cv2.resize(photograph(), (WIDTH, WIDTH // 2)).astype(np.uint16) * 257
    source, canvas = HeldPicture(Picture(pixels)), sphere()
    told = {"kind": "directions", "yaw_deg": [-40, 40], "pitch_deg": [-20, 20], "feather_deg": 30}
    ground = Ground(SRGB, source.sizes[0], canvas)
    plain = whole(finished(source, recipe({"do": "exposure", "ev": 0.8}), ground)) / 65535
    found = whole(finished(source, recipe({"do": "exposure", "ev": 0.8, "mask": told}), ground)) / 65535
    share = strength(told)[..., None]
    # what would be brighter than white is cut after the mask, not before
    inside = plain < 1
    assert np.abs(found - ((1 - share) * pixels / 65535 + share * plain))[inside].max() < 1e-4
    assert (
        whole(finished(source, recipe({"do": "exposure", "ev": 0.8, "mask": told}), ground))[:100] == pixels[:100]
    ).all()


def test_a_picture_of_a_mask_lies_beside_the_recipe(tmp_path: Path):
    picture, file, out = tmp_path / "in.png", tmp_path / "r.json", tmp_path / "out.png"
    write(Picture(photograph()), picture)
    mask = np.zeros((100, 150), np.uint8)
    mask[:, 75:] = 255
    cv2.imwrite(str(tmp_path / "mask.png"), mask)

    def told(asset: str) -> Any:
        step = {"do": "exposure", "ev": -2.0, "mask": {"kind": "picture", "asset": asset}}
        file.write_text(json.dumps({"schema": SCHEMA, "steps": [step]}))
        return run_command("finish", picture, "--recipe", file, "--out", out)

    assert told("mask.png").returncode == 0
    found, before = read(out).pixels, photograph()
    assert (found[:, :295] == before[:, :295]).all()
    assert found[:, 305:].mean() < 0.7 * before[:, 305:].mean()
    # the mask itself may not be written over, nor lie elsewhere, nor be missing or of another picture
    assert (
        "files that are read" in run_command("finish", picture, "--recipe", file, "--out", tmp_path / "mask.png").stderr
    )
    assert "outside the folder" in told("../mask.png").stderr
    assert "Cannot be read as a mask" in told("none.png").stderr
    cv2.imwrite(str(tmp_path / "other.png"), mask[:, :80])
    assert "another shape" in told("other.png").stderr


def test_directions_need_the_report(tmp_path: Path):
    source = HeldPicture(Picture(photograph()))
    ground = Ground(SRGB, source.sizes[0])
    for told in ({"kind": "directions"}, DRAWN[0], DRAWN[2], {"kind": "not", "of": [{"kind": "directions"}]}):
        with pytest.raises(InputError, match="report of the join"):
            finished(source, recipe({"do": "exposure", "ev": 1.0, "mask": told}), ground)
