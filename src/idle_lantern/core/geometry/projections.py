"""Canvas projections of the join contract, forward and inverse.

All take and give coordinates in the canvas frame in radians (divide pixels by
``px_per_rad``), v downwards. Formulas: equirectangular, mercator and
stereographic from Snyder, *Map Projections: A Working Manual* (USGS PP 1395);
panini from Sharpless, Postle, German, *Pannini: A New Projection for Rendering
Wide Angle Perspective Images* (2010), with distance d; its vertical compression is the share of ``straighten``
of the factor that makes lines across the view, square to its middle, straight (derived here, see ``_drawn_tall``).
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from idle_lantern.core.base.arrays import Array, Directions, Places
from idle_lantern.core.base.errors import InputError

PROJECTIONS = ("rectilinear", "cylindrical", "equirectangular", "panini", "mercator", "stereographic")

#: Cosine of the azimuth up to which panini can make lines across straight: they run away at a quarter turn.
_STRAIGHT_TO = math.cos(math.radians(75))

#: Longitude in a full turn repeats: these projections wrap.
WRAPPING = ("cylindrical", "equirectangular", "mercator")


@dataclass(frozen=True)
class Limits:
    """How far a projection may reach from the canvas centre."""

    longitude_rad: float
    latitude_rad: float


_LIMITS = {
    "rectilinear": Limits(math.radians(75), math.radians(75)),
    "cylindrical": Limits(math.pi, math.radians(80)),
    "equirectangular": Limits(math.pi, math.pi / 2),
    "mercator": Limits(math.pi, math.radians(85)),
    "panini": Limits(math.radians(140), math.radians(75)),
    "stereographic": Limits(math.radians(130), math.radians(130)),
}


#: Flat pictures stay natural up to this width and this far up or down.
_FLAT_RAD = (math.radians(75), math.radians(46))
#: A cylinder stretches what lies farther up or down than this.
_ONE_ROW_RAD = math.radians(40)


def suited(width_rad: float, low_rad: float, high_rad: float) -> str:
    """Name of the projection that suits a field: flat if small, a cylinder for one band, else the sphere.

    The planner and the joiner both ask here, so that a plan foretells the picture.
    """
    tallest = max(abs(low_rad), abs(high_rad))
    if width_rad <= _FLAT_RAD[0] and tallest <= _FLAT_RAD[1]:
        return "rectilinear"
    return "cylindrical" if tallest <= _ONE_ROW_RAD else "equirectangular"


@dataclass(frozen=True)
class Projection:
    """One projection with its parameters.

    ``forward`` gives NaN where a direction has no place on the plane.
    """

    name: str
    parameters: dict[str, float] = field(default_factory=dict)

    def __post_init__(self) -> None:
        if self.name not in PROJECTIONS:
            raise InputError(f"'{self.name}' is no projection", remedy=f"Use one of {', '.join(PROJECTIONS)}")

    @property
    def limits(self) -> Limits:
        """Reach beyond which the picture would be stretched past use."""
        return _LIMITS[self.name]

    @property
    def wraps(self) -> bool:
        """Whether a full turn closes on itself."""
        return self.name in WRAPPING

    def forward(self, directions: Directions) -> Places:
        """Directions (..., 3), any length, to plane coordinates (..., 2)."""
        d = np.asarray(directions)
        with np.errstate(divide="ignore", invalid="ignore"):
            u, v = _FORWARD[self.name](d[..., 0], d[..., 1], d[..., 2], self)
        return np.stack([u, v], -1).astype(d.dtype, copy=False)

    def inverse(self, plane: Places, *, over_the_pole: bool = False) -> Directions:
        """Plane coordinates (..., 2) to unit directions (..., 3); NaN off the plane's sphere.

        ``over_the_pole`` lets the equirectangular plane run on beyond its edge, down
        the other side of the sphere: what grids need that are interpolated up to it.
        """
        p = np.asarray(plane)
        if over_the_pole and self.name == "equirectangular":
            return np.stack(_from_lon_lat(p[..., 0], p[..., 1]), -1).astype(p.dtype, copy=False)
        with np.errstate(divide="ignore", invalid="ignore"):
            x, y, z = _INVERSE[self.name](p[..., 0], p[..., 1], self)
        return np.stack([x, y, z], -1).astype(p.dtype, copy=False)

    @property
    def panini_distance(self) -> float:
        """Panini's d: 0 = flat, 1 = the usual view, infinite = orthographic cylinder."""
        return float(self.parameters.get("distance", 1.0))

    @property
    def panini_straighten(self) -> float:
        """Panini's vertical compression: 0 = none, 1 = lines across the view are straight."""
        return float(self.parameters.get("straighten", 0.0))


def panini_parameters(distance: float = 1.0, straighten: float = 0.0) -> dict[str, float]:
    """What a panini projection is told by; what does nothing is left out."""
    return {"distance": distance} | ({"straighten": straighten} if straighten else {})


def _from_lon_lat(lon: Array, lat: Array) -> tuple[Array, Array, Array]:
    c = np.cos(lat)
    return c * np.sin(lon), np.sin(lat), c * np.cos(lon)


def _equirectangular(x: Array, y: Array, z: Array, _: Projection) -> tuple[Array, Array]:
    return np.arctan2(x, z), np.arctan2(y, np.hypot(x, z))


def _equirectangular_inverse(u: Array, v: Array, _: Projection) -> tuple[Array, Array, Array]:
    return _from_lon_lat(u, np.where(np.abs(v) <= np.pi / 2 + 1e-6, v, np.nan))


def _cylindrical(x: Array, y: Array, z: Array, _: Projection) -> tuple[Array, Array]:
    return np.arctan2(x, z), y / np.hypot(x, z)


def _cylindrical_inverse(u: Array, v: Array, _: Projection) -> tuple[Array, Array, Array]:
    return _from_lon_lat(u, np.arctan(v))


def _mercator(x: Array, y: Array, z: Array, _: Projection) -> tuple[Array, Array]:
    return np.arctan2(x, z), np.arcsinh(y / np.hypot(x, z))


def _mercator_inverse(u: Array, v: Array, _: Projection) -> tuple[Array, Array, Array]:
    return _from_lon_lat(u, np.arctan(np.sinh(v)))


def _rectilinear(x: Array, y: Array, z: Array, _: Projection) -> tuple[Array, Array]:
    front = np.where(z > 1e-9 * np.hypot(x, y), z, np.nan)
    return x / front, y / front


def _rectilinear_inverse(u: Array, v: Array, _: Projection) -> tuple[Array, Array, Array]:
    z = 1 / np.sqrt(1 + u * u + v * v)
    return u * z, v * z, z


def _panini(x: Array, y: Array, z: Array, projection: Projection) -> tuple[Array, Array]:
    d = projection.panini_distance
    across = np.hypot(x, z)
    cos_lon = z / across
    scale = (d + 1) / np.where(d + cos_lon > 1e-6, d + cos_lon, np.nan)
    return scale * x / across, _drawn_tall(scale, cos_lon, projection) * y / across


def _panini_inverse(u: Array, v: Array, projection: Projection) -> tuple[Array, Array, Array]:
    d = projection.panini_distance
    k = u * u / (d + 1) ** 2
    root = k * k * d * d - (k + 1) * (k * d * d - 1)
    cos_lon = (-k * d + np.sqrt(np.where(root >= 0, root, np.nan))) / (k + 1)
    scale = (d + 1) / (d + cos_lon)
    return _from_lon_lat(np.arctan2(u / scale, cos_lon), np.arctan(v / _drawn_tall(scale, cos_lon, projection)))


def _drawn_tall(scale: Array, cos_lon: Array, projection: Projection) -> Array:
    """How tall the tangent of the altitude is drawn, by azimuth.

    A line square to the view's middle at height h has tan(altitude) = h cos(azimuth): drawn 1 / cos(azimuth) tall it is straight,
    as in a flat picture. Beyond ``_STRAIGHT_TO`` nothing grows any further.
    """
    share = projection.panini_straighten
    return (1 - share) * scale + share / np.maximum(cos_lon, _STRAIGHT_TO) if share else scale


def _stereographic(x: Array, y: Array, z: Array, _: Projection) -> tuple[Array, Array]:
    length = np.sqrt(x * x + y * y + z * z)
    k = 2 / np.where(length + z > 1e-9 * length, length + z, np.nan)
    return k * x, k * y


def _stereographic_inverse(u: Array, v: Array, _: Projection) -> tuple[Array, Array, Array]:
    q = (u * u + v * v) / 4
    return u / (1 + q), v / (1 + q), (1 - q) / (1 + q)


_FORWARD: dict[str, Callable[[Array, Array, Array, Projection], tuple[Array, Array]]] = {
    "equirectangular": _equirectangular,
    "cylindrical": _cylindrical,
    "mercator": _mercator,
    "rectilinear": _rectilinear,
    "panini": _panini,
    "stereographic": _stereographic,
}
_INVERSE: dict[str, Callable[[Array, Array, Projection], tuple[Array, Array, Array]]] = {
    "equirectangular": _equirectangular_inverse,
    "cylindrical": _cylindrical_inverse,
    "mercator": _mercator_inverse,
    "rectilinear": _rectilinear_inverse,
    "panini": _panini_inverse,
    "stereographic": _stereographic_inverse,
}
