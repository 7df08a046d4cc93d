"""Outlines found from a click: drawn figures whose true shape is known."""

from __future__ import annotations

import cv2
import numpy as np
import pytest

from idle_lantern.core.compositing.render.outline import outlined


def _scene(seed: int) -> tuple[np.ndarray, np.ndarray]:
    """A figure with head, coat and legs before a patterned ground, and where it is."""
    rng = np.random.default_rng(seed)
    ground = cv2.GaussianBlur(rng.integers(60, 200, (300, 320, 3), dtype=np.uint8), (0, 0), 4)
    ground = cv2.normalize(ground, None, 90, 170, cv2.NORM_MINMAX)
    ground[180:] = ground[180:] // 2 + np.array([30, 60, 20], np.uint8)
    true = np.zeros((300, 320), np.uint8)
    x, y = 160, 150
    cv2.circle(true, (x, y - 62), 13, 1, -1)
    cv2.fillPoly(true, [np.array([(x - 15, y - 48), (x + 15, y - 48), (x + 22, y + 20), (x - 22, y + 20)])], 1)
    cv2.fillPoly(true, [np.array([(x - 16, y + 20), (x + 14, y + 20), (x + 24, y + 80), (x + 12, y + 80), (x - 2, y + 40), (x - 14, y + 80), (x - 26, y + 80)])], 1)  # fmt: skip
    coat = np.array([(150, 40, 40), (40, 60, 160), (25, 25, 30)][seed % 3], np.uint8)
    picture = ground.copy()
    picture[true > 0] = coat
    picture = np.clip(picture.astype(int) + rng.normal(0, 5, picture.shape), 0, 255).astype(np.uint8)
    return picture, true > 0


@pytest.mark.parametrize("seed", [0, 1, 2, 3, 4, 5])
def test_a_figure_is_outlined_from_a_click_on_its_coat(seed: int):
    picture, true = _scene(seed)
    found = outlined(picture, 162, 148)
    assert found is not None
    assert (found & true).sum() / true.sum() > 0.95, "none of it is left to another frame"
    assert (found & true).sum() / (found | true).sum() > 0.7, "drawn a little wider, and no more"
    assert np.array_equal(found, outlined(picture, 162, 148)), "the same click gives the same outline"


def test_an_even_wall_has_nothing_that_stands_out():
    wall = np.random.default_rng(1).integers(118, 124, (240, 240, 3), dtype=np.uint8)
    assert outlined(wall, 120, 120) is None


def test_a_window_of_any_size_is_outlined_at_its_own_size():
    picture, true = _scene(1)
    large = cv2.resize(picture, (1280, 1200), interpolation=cv2.INTER_CUBIC)
    found = outlined(large, 162 * 4, 148 * 4)
    assert found is not None
    assert found.shape == (1200, 1280)
    small = cv2.resize(found.astype(np.uint8), (320, 300), interpolation=cv2.INTER_AREA) > 0
    assert (small & true).sum() / true.sum() > 0.95
