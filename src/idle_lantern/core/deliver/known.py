"""What is known of a picture beside its pixels, for what is laid over it as it is delivered."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from idle_lantern.core.deliver.ball import SphereCanvas
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.directions import CanvasDirections


@dataclass(frozen=True)
class Known:
    """``canvas`` tells where its pixels look, None where nothing does; ``invented`` are areas in pixels of the picture that are not
    photographed, each with how many of its pixels are not."""

    canvas: SphereCanvas | None = None
    invented: tuple[tuple[Rectangle, float], ...] = ()


def shows_nadir(canvas: CanvasDirections, width: int, height: int) -> bool:
    """Whether a picture of that size reaches straight down, where the tripod stands."""
    at = canvas.pixels(np.array([[0.0, 1.0, 0.0]]))[0]
    return bool(np.isfinite(at).all()) and bool(-1 <= at[0] <= width and -1 <= at[1] <= height)


def share_within(area: Rectangle, pixels: float, kept: Rectangle) -> float:
    """Share of a crop that so many pixels of an area take up; of one that it cuts, as much as it leaves of its rectangle."""
    across = min(area.left + area.width, kept.left + kept.width) - max(area.left, kept.left)
    down = min(area.top + area.height, kept.top + kept.height) - max(area.top, kept.top)
    if across <= 0 or down <= 0:
        return 0.0
    return pixels * across * down / area.area / (kept.width * kept.height)
