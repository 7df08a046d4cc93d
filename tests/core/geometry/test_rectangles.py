"""The largest rectangle against brute force, and the crop that never holds a gap."""

from __future__ import annotations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from idle_lantern.core.geometry.rectangles import Rectangle, inner_rectangle, largest_of_ratio, largest_rectangle


def _brute_area(mask: np.ndarray) -> int:
    best = 0
    h, w = mask.shape
    for top in range(h):
        for left in range(w):
            for bottom in range(top + 1, h + 1):
                for right in range(left + 1, w + 1):
                    if mask[top:bottom, left:right].all():
                        best = max(best, (bottom - top) * (right - left))
    return best


@given(arrays(bool, st.tuples(st.integers(1, 7), st.integers(1, 7))))
def test_agrees_with_brute_force(mask: np.ndarray):
    found = largest_rectangle(mask)
    assert found.area == _brute_area(mask)
    assert found.area or found == Rectangle(0, 0, 0, 0)
    assert mask[found.top : found.top + found.height, found.left : found.left + found.width].all()


def test_crop_of_a_large_picture_holds_no_gap_and_wastes_little():
    """A bowed rim as cylinders have: the crop lies inside and takes nearly all that could be had."""
    y, x = np.mgrid[:900, :2600]
    bow = 60 * (1 - np.cos((x - 1300) / 1300))
    alpha = ((y > 40 + bow) & (y < 860 - bow)).astype(np.uint8) * 255
    alpha[500, 2599] = 0
    found = inner_rectangle(alpha)
    part = alpha[found.top : found.top + found.height, found.left : found.left + found.width]
    assert (part == 255).all()
    best = largest_rectangle(alpha > 0)
    assert found.area > 0.97 * best.area


def test_nothing_opaque_gives_nothing():
    assert inner_rectangle(np.zeros((50, 80), np.uint8)) == Rectangle(0, 0, 0, 0)
    nearly = np.full((2, 900), 254, np.uint8)  # thinner than what is looked at as one
    assert inner_rectangle(nearly).area == 0
    nearly[:, 100:400] = 255
    assert inner_rectangle(nearly) == Rectangle(100, 0, 300, 2)


def test_scaling_shrinks_to_whole_pixels_inside():
    assert Rectangle(1, 1, 3, 3).scaled(2.5) == Rectangle(3, 3, 7, 7)


@given(arrays(bool, st.tuples(st.integers(4, 14), st.integers(4, 16))), st.sampled_from((0.5, 1.0, 1.5, 3.0)))
def test_the_largest_of_a_ratio_is_that_of_trying_all(mask, ratio: float):
    found = largest_of_ratio(mask, ratio)
    best = 0
    for height in range(1, mask.shape[0] + 1):
        width = max(1, round(height * ratio))
        for top in range(mask.shape[0] - height + 1):
            for left in range(mask.shape[1] - width + 1):
                if mask[top : top + height, left : left + width].all():
                    best = max(best, height)
    assert found.height == best
    if best:
        assert mask[found.top : found.top + found.height, found.left : found.left + found.width].all()
