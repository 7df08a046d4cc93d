"""Names for the kinds of arrays that functions take and give; shapes stand in their docstrings."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

#: Any array.
Array = NDArray[Any]
#: Pixels of 8 or 16 bit, (H, W, C).
Image = NDArray[np.uint8] | NDArray[np.uint16]
#: Values of pixels from 0 to 1, or of linear light, (H, W, C).
Float32Image = NDArray[np.float32]
#: Where something is, (H, W).
BoolImage = NDArray[np.bool_]
#: Unit vectors (..., 3), and places in pixels (..., 2).
Directions = NDArray[np.float64]
Points = NDArray[np.float64]
