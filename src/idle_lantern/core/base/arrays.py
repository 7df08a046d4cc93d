"""Names for the kinds of arrays that functions take and give; shapes stand in their docstrings."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

#: Any array.
Array = NDArray[Any]
#: Values of pixels from 0 to 1, or of linear light, (H, W, C).
Float32Image = NDArray[np.float32]
#: Which of some things hold, of any shape.
Flags = NDArray[np.bool_]
#: Directions (..., 3), of length 1 where they are given.
Directions = NDArray[np.floating[Any]]
#: Places (..., 2), across and down, in pixels or on the plane of a projection.
Places = NDArray[np.floating[Any]]
#: Rotations (..., 3, 3).
Rotations = NDArray[np.floating[Any]]
