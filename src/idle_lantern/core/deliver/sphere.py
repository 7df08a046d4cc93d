"""What tells a viewer that a picture is a sphere, or a part of one: the published photo-sphere metadata."""

from __future__ import annotations

import math
from dataclasses import dataclass

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.deliver.ball import SphereCanvas, canvas_of_sphere
from idle_lantern.core.deliver.known import Known
from idle_lantern.core.geometry.rectangles import Rectangle


@dataclass(frozen=True)
class SpherePlace:
    """Where an equirectangular picture of ``width`` by ``height`` lies on the full one, in its pixels."""

    full_width: int
    full_height: int
    left: int
    top: int
    width: int
    height: int

    @staticmethod
    def of(px_per_rad: float, centre_px: tuple[float, float], size: tuple[int, int]) -> SpherePlace:
        """The place of a picture whose pixel ``centre_px`` looks straight ahead (azimuth and altitude 0)."""
        full = max(size[0], 2 * round(math.pi * px_per_rad))
        left = full / 2 - centre_px[0] - 0.5
        top = full / 4 - centre_px[1] - 0.5
        return SpherePlace(
            full,
            full // 2,
            min(max(0, round(left)), full - size[0]),
            min(max(0, round(top)), max(0, full // 2 - size[1])),
            *size,
        )

    @staticmethod
    def whole(size: tuple[int, int]) -> SpherePlace:
        """A picture that is all of the sphere."""
        return SpherePlace(size[0], size[1], 0, 0, *size)

    def scaled(self, size: tuple[int, int]) -> SpherePlace:
        """The same place of the picture made that size."""
        x, y = size[0] / self.width, size[1] / self.height
        full = round(self.full_width * x), round(self.full_height * y)
        left, top = round(self.left * x), round(self.top * y)
        return SpherePlace(*full, max(0, min(left, full[0] - size[0])), max(0, min(top, full[1] - size[1])), *size)


def sphere_in(known: Known, size: tuple[int, int], box: Rectangle, *, any_projection: bool = False) -> SphereCanvas:
    """The canvas of the part inside ``box`` of a picture of which so much is known.

    Raises
    ------
    InputError
        Nothing tells where it looks, or viewers of spheres cannot take its projection (unless it may be ``any_projection``).
    """
    canvas = canvas_of_sphere(known.canvas, size)
    if not any_projection and (canvas.projection.name != "equirectangular" or canvas.stretch is not None):
        raise InputError(
            f"The picture is {canvas.projection.name}, and viewers of spheres take equirectangular ones",
            remedy="Join it with --projection equirectangular",
        )
    return canvas if known.canvas is None else canvas.cut(box)


def sphere_facts(place: SpherePlace, heading_deg: float | None = None) -> dict[str, str]:
    """The fields of the published schema; ``heading_deg`` is the compass bearing of the full picture's middle, where that is known."""
    middle = (place.left + place.width / 2) / place.full_width * 360 - 180
    facts = {
        "UsePanoramaViewer": "True",
        "ProjectionType": "equirectangular",
        "CroppedAreaImageWidthPixels": str(place.width),
        "CroppedAreaImageHeightPixels": str(place.height),
        "FullPanoWidthPixels": str(place.full_width),
        "FullPanoHeightPixels": str(place.full_height),
        "CroppedAreaLeftPixels": str(place.left),
        "CroppedAreaTopPixels": str(place.top),
    }
    if heading_deg is not None:
        facts["PoseHeadingDegrees"] = f"{heading_deg % 360:.2f}"
        facts["InitialViewHeadingDegrees"] = str(round((heading_deg + middle) % 360) % 360)
    return facts
