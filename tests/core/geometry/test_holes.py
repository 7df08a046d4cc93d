"""Holes of shapes, against SciPy."""

from __future__ import annotations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra import numpy as npst
from scipy.ndimage import binary_fill_holes

from idle_lantern.core.geometry.holes import filled_holes


@given(npst.arrays(bool, npst.array_shapes(min_dims=2, max_dims=2, max_side=24), elements=st.booleans()))
def test_holes_are_filled_as_scipy_fills_them(shape: np.ndarray):
    assert np.array_equal(filled_holes(shape), binary_fill_holes(shape))
