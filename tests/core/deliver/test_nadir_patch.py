"""The nadir covered: by angles worked out here from the equirectangular mapping, at every level, and nowhere else."""

from __future__ import annotations

import math

import numpy as np
import pytest

from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.deliver.nadir_patch import NadirPatch
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.operations import OperatedPicture
from idle_lantern.core.pictures.source import HeldPicture, region

WIDE, TALL = 1440, 720
CANVAS = Canvas(
    Projection("equirectangular"),
    WIDE,
    TALL,
    WIDE / (2 * math.pi),
    (WIDE / 2 - 0.5, TALL / 2 - 0.5),
    np.eye(3),
    full_circle=True,
)


def _sphere(dtype: type = np.uint8) -> HeldPicture:
    """Ground that is red to the front and blue behind, with a black tripod under 10 degrees."""
    full = np.iinfo(dtype).max
    v, u = np.mgrid[:TALL, :WIDE]
    yaw, down = (u + 0.5) / WIDE * 2 * math.pi - math.pi, 180.0 - (v + 0.5) / TALL * 180.0
    pixels = np.stack([(0.5 + 0.3 * np.cos(yaw)), np.full(u.shape, 0.4), 0.5 - 0.3 * np.cos(yaw)], -1)
    pixels[down < 10] = 0
    return HeldPicture(Picture((pixels * full).astype(dtype)))


def _whole(source: HeldPicture | OperatedPicture, level: int = 0) -> np.ndarray:
    return region(source, Rectangle(0, 0, *source.sizes[level]), level)


@pytest.mark.parametrize("dtype", [np.uint8, np.uint16])
def test_a_blur_takes_the_tripod_out_and_touches_nothing_else(dtype: type):
    source = _sphere(dtype)
    patch = NadirPatch(source, CANVAS, "blur", 12.0)
    covered = OperatedPicture(source, [patch])
    before, after = _whole(source), _whole(covered)
    # 12 of 180 degrees from the lower rim up: 48 of 720 rows
    assert np.array_equal(before[: TALL - 48], after[: TALL - 48])
    full = np.iinfo(dtype).max
    tripod = after[TALL - 38 :] / full
    assert tripod.min() > 0.15, "nothing black is left"
    # at the rim the ground goes on as it is, in the middle all ways are the same
    assert np.abs(after[TALL - 47].astype(float) - before[TALL - 49]).max() < 0.03 * full
    assert np.ptp(after[TALL - 1].astype(float) / full, axis=0).max() < 0.06
    area, pixels = patch.covers()
    assert (area.left, area.width) == (0, WIDE)
    assert area.height == pytest.approx(48, abs=2)
    assert pixels == pytest.approx(48 * WIDE, rel=0.03)


def test_a_picture_of_light_is_covered_by_its_own_light():
    light = OperatedPicture(_sphere(), light=True)
    covered = _whole(OperatedPicture(light, [NadirPatch(light, CANVAS, "blur", 12.0)]))
    assert covered.dtype == np.float32
    below = covered[TALL - 1, :, :3].mean(0)
    assert below == pytest.approx(_whole(light)[TALL - 52, :, :3].mean(0), rel=0.1)


def test_coarser_levels_show_the_same():
    source = _sphere()
    covered = OperatedPicture(source, [NadirPatch(source, CANVAS, "blur", 12.0)])
    assert len(covered.sizes) > 1
    small, halved = _whole(covered, 1).astype(float), _whole(covered)[::2, ::2].astype(float)
    assert np.abs(small - halved)[-24:].mean() < 6


def test_a_mark_lies_as_seen_from_above():
    """Yaw 0 up, yaw 90 to the right; what is see-through leaves the picture."""
    mark = np.zeros((200, 200, 4), np.uint8)
    mark[:100, :, 0] = mark[:, 100:, 1] = 255
    mark[..., 3] = 255
    mark[150:, :, 3] = 0
    source = _sphere()
    covered = OperatedPicture(source, [NadirPatch(source, CANVAS, "mark", 20.0, mark)])
    row = _whole(covered)[TALL - 40]  # ten degrees from the nadir: half way out

    def at(yaw_deg: float) -> list[bool]:
        return [bool(c > 128) for c in row[round((yaw_deg + 180) / 360 * WIDE) % WIDE][:2]]

    assert at(45) == [True, True]
    assert at(-45) == [True, False]
    assert at(120) == [False, True]
    assert at(-120) == [False, False]
    assert np.array_equal(
        _whole(covered)[TALL - 70, round(0.98 * WIDE)], _whole(_sphere())[TALL - 70, round(0.98 * WIDE)]
    )


def test_a_picture_that_does_not_reach_the_nadir_is_left():
    band = Canvas(Projection("cylindrical"), 800, 300, 200.0, (399.5, 149.5), np.eye(3))
    source = HeldPicture(Picture(np.full((300, 800, 3), 90, np.uint8)))
    patch = NadirPatch(source, band, "blur", 15.0)
    covered = OperatedPicture(source, [patch])
    assert np.array_equal(_whole(covered), _whole(source))
    assert patch.covers()[1] == 0


def test_the_rim_of_the_cover_is_soft():
    """Over its last eighth it fades: half way through half of what was there still shows, and no edge stands anywhere."""
    v = np.mgrid[:TALL, :WIDE][0]
    share = (180.0 - (v + 0.5) / TALL * 180.0) / 12.0
    pixels = np.where(share < 1, 40, 200)[..., None].repeat(3, 2).astype(np.uint8)
    source = HeldPicture(Picture(pixels))
    covered = _whole(OperatedPicture(source, [NadirPatch(source, CANVAS, "blur", 12.0)]))
    column, out = covered[:, WIDE // 2, 0].astype(float), share[:, 0]
    cover = (column - 40) / 160
    assert np.interp(-0.94, -out, cover) == pytest.approx(0.5, abs=0.05)
    assert np.interp(-0.99, -out, cover) < 0.06
    assert cover[out < 0.87].min() > 0.97
    within = (out < 0.995) & (out > 0.8)
    assert np.abs(np.diff(cover[within])).max() < 0.35, "of 5.8 rows of fading"
