"""Lens models of the join contract: directions in the camera frame to pixels and back.

With r the radius in pixels from the principal point, theta the angle from the
optical axis and f the focal length in pixels:

- rectilinear: q = tan(theta), q_d = q (1 + k1 q^2 + k2 q^4 + k3 q^6), r = f q_d
- fisheyes: theta_d = theta (1 + k1 theta^2 + k2 theta^4 + k3 theta^6);
  equidistant r = f theta_d, equisolid r = 2 f sin(theta_d / 2),
  stereographic r = 2 f tan(theta_d / 2), orthographic r = f sin(theta_d)
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
from numpy.typing import ArrayLike

from idle_lantern.core.base.arrays import Array, Directions, Flags, Places, Rotations
from idle_lantern.core.base.errors import InputError

FISHEYES = ("equidistant", "equisolid", "stereographic", "orthographic")
MODELS = ("rectilinear", *FISHEYES)

#: Beyond this angle a rectilinear picture would be 28 focal lengths wide: no real lens.
_RECTILINEAR_LIMIT_RAD = math.radians(88.0)
_NEWTON_STEPS = 12


@dataclass(frozen=True)
class Lens:
    """A lens and the frame behind it, all lengths in pixels.

    Attributes
    ----------
    model : str
        One of ``MODELS``.
    focal_px : float
        Focal length in pixels.
    width, height : int
        Size of the frame.
    k1, k2, k3 : float
        Radial distortion, see the module.
    cx, cy : float
        Offset of the principal point from the frame's centre, in pixels.
    circle_px : float
        Radius of the image circle about the principal point; what lies outside is dark.
    """

    model: str
    focal_px: float
    width: int
    height: int
    k1: float = 0.0
    k2: float = 0.0
    k3: float = 0.0
    cx: float = 0.0
    cy: float = 0.0
    circle_px: float = math.inf

    def __post_init__(self) -> None:
        if self.model not in MODELS:
            raise InputError(f"'{self.model}' is no lens model", remedy=f"Use one of {', '.join(MODELS)}")
        if not (math.isfinite(self.focal_px) and self.focal_px > 0):
            raise InputError("The focal length must be above zero")

    @property
    def principal_px(self) -> tuple[float, float]:
        """(u, v) of the optical axis."""
        return (self.width - 1) / 2 + self.cx, (self.height - 1) / 2 + self.cy

    @property
    def distortion(self) -> tuple[float, float, float]:
        """k1, k2, k3."""
        return self.k1, self.k2, self.k3

    def scaled(self, factor: float) -> Lens:
        """The same lens for a frame resized by ``factor``."""
        return replace(
            self,
            focal_px=self.focal_px * factor,
            width=max(1, round(self.width * factor)),
            height=max(1, round(self.height * factor)),
            cx=self.cx * factor,
            cy=self.cy * factor,
            circle_px=self.circle_px * factor,
        )

    def halved(self) -> Lens:
        """The same lens for a frame of means of two by two pixels (``base.reducing.halved``): they lie at 2x + 0.5."""
        width, height = -(-self.width // 2), -(-self.height // 2)
        u0, v0 = self.principal_px
        return replace(
            self,
            focal_px=self.focal_px / 2,
            width=width,
            height=height,
            cx=(u0 - 0.5) / 2 - (width - 1) / 2,
            cy=(v0 - 0.5) / 2 - (height - 1) / 2,
            circle_px=self.circle_px / 2,
        )

    @property
    def limit_rad(self) -> float:
        """Largest angle from the axis that the model maps without folding back."""
        return _limit_rad(self.model, self.distortion)

    def radius_px(self, theta_rad: ArrayLike) -> Array:
        """Radius in pixels, of any shape (...,), of the angle ``theta_rad`` from the axis."""
        return self.focal_px * _image_radius(np.asarray(theta_rad), self.model, self.distortion)

    def angle_rad(self, radius_px: ArrayLike) -> Array:
        """Angle from the axis, of any shape (...,), of the radius ``radius_px``; NaN where the lens has no such radius."""
        return _image_angle(np.asarray(radius_px) / self.focal_px, self.model, self.distortion)

    def project(self, directions: Directions) -> tuple[Places, Flags]:
        """Directions (..., 3), any length, to pixels.

        Returns
        -------
        pixels : (..., 2) array of the dtype given
        valid : (...) bool array
            False behind or beyond what the model can show (not: outside the frame).
        """
        d = np.asarray(directions)
        if self.model == "rectilinear":
            return self._project_flat(d)
        x, y, z = d[..., 0], d[..., 1], d[..., 2]
        side = np.hypot(x, y)
        theta = np.arctan2(side, z)
        valid = theta < self.limit_rad
        radius = self.radius_px(np.minimum(theta, self.limit_rad)).astype(d.dtype, copy=False)
        # at the axis r / side tends to f / z
        scale = np.where(side > 1e-12, radius / np.maximum(side, 1e-12), self.focal_px / np.maximum(np.abs(z), 1e-12))
        u0, v0 = self.principal_px
        return np.stack([x * scale + d.dtype.type(u0), y * scale + d.dtype.type(v0)], -1), valid

    def _project_flat(self, d: Array) -> tuple[Array, Array]:
        """``project`` of a rectilinear lens: by division alone, since joins ask it for millions of places."""
        x, y, z = d[..., 0], d[..., 1], d[..., 2]
        squared = x * x + y * y
        top = math.tan(self.limit_rad)
        valid = (z > 0) & (squared < (top * z) ** 2)
        inverse = 1 / np.where(valid, z, 1)
        scale = inverse * d.dtype.type(self.focal_px)
        if any(self.distortion):
            scale *= _bulge(squared * inverse * inverse, self.distortion).astype(d.dtype, copy=False)
        if not valid.all():
            rim = self.focal_px * float(_radial(np.asarray(top), self.distortion))
            scale = np.where(valid, scale, rim / np.sqrt(np.maximum(squared, 1e-24))).astype(d.dtype, copy=False)
        u0, v0 = self.principal_px
        pixels = np.empty((*x.shape, 2), d.dtype)
        np.add(x * scale, d.dtype.type(u0), out=pixels[..., 0])
        np.add(y * scale, d.dtype.type(v0), out=pixels[..., 1])
        return pixels, valid

    def project_slope(self, directions: Directions) -> Array:
        """Change of the pixel with the direction, (..., 3) -> (..., 2, 3), analytic.

        With s = |(x, y)|, e = (x, y) / s and theta = atan2(s, z):
        d(pixel) = r'(theta) e dtheta + (r / s) (I - e e^T) d(x, y).
        """
        d = np.asarray(directions, np.float64)
        x, y, z = d[..., 0], d[..., 1], d[..., 2]
        side = np.maximum(np.hypot(x, y), 1e-9)
        theta = np.minimum(np.arctan2(side, z), self.limit_rad)
        e = np.stack([x / side, y / side], -1)
        squared = (side * side + z * z)[..., None]
        gradient = np.concatenate([z[..., None] * e, -side[..., None]], -1) / squared
        slope = (self.focal_px * _image_radius_slope(theta, self.model, self.distortion))[..., None, None]
        result: Array = slope * e[..., :, None] * gradient[..., None, :]
        across = np.eye(2) - e[..., :, None] * e[..., None, :]
        result[..., :, :2] += (self.radius_px(theta) / side)[..., None, None] * across
        return result

    def project_by_lens(self, directions: Directions) -> Array:
        """Change of the pixel with the lens's own numbers, (..., 3) -> (..., 2, 6), analytic.

        The numbers are the logarithm of the focal length, k1, k2, k3, and the principal point's offset across and
        down as share of the focal length.
        """
        d = np.asarray(directions, np.float64)
        side = np.maximum(np.hypot(d[..., 0], d[..., 1]), 1e-12)
        theta = np.minimum(np.arctan2(side, d[..., 2]), self.limit_rad)
        e = d[..., :2] / side[..., None]
        result = np.zeros((*side.shape, 2, 6))
        result[..., 0] = self.radius_px(theta)[..., None] * e + [self.cx, self.cy]
        bent = self.focal_px * _image_radius_by_k(theta, self.model, self.distortion)
        result[..., 1:4] = e[..., None] * bent[..., None, :]
        result[..., 0, 4] = result[..., 1, 5] = self.focal_px
        return result

    def unproject_by_lens(self, pixels: Places, rays: Directions) -> Array:
        """Change of the direction with the lens's own numbers, (..., 2) -> (..., 3, 6), as ``project_by_lens``.

        ``rays`` (..., 3) are the directions of the pixels. From r = f g(theta): a longer lens or a stronger bulge makes
        the angle of the same radius smaller. NaN where the lens sees nothing.
        """
        p = np.asarray(pixels, np.float64)
        x, y = p[..., 0] - self.principal_px[0], p[..., 1] - self.principal_px[1]
        radius = np.maximum(np.hypot(x, y), 1e-9)
        theta = np.arctan2(np.hypot(rays[..., 0], rays[..., 1]), rays[..., 2])
        e = np.stack([x, y], -1) / radius[..., None]
        slope = self.focal_px * _image_radius_slope(theta, self.model, self.distortion)
        by_theta = np.concatenate([e * np.cos(theta)[..., None], -np.sin(theta)[..., None]], -1)
        bent = self.focal_px * _image_radius_by_k(theta, self.model, self.distortion)
        across = (np.sin(theta) / radius)[..., None, None] * (np.eye(2) - e[..., :, None] * e[..., None, :])
        # a shift of the principal point moves the place the other way, across the radius and along it
        by_shift = np.zeros((*radius.shape, 3, 2))
        by_shift[..., :2, :] = across
        by_shift += by_theta[..., :, None] * (e / slope[..., None])[..., None, :]
        by_shift *= -self.focal_px
        result = np.empty((*radius.shape, 3, 6))
        shift = by_shift @ np.array([self.cx, self.cy]) / self.focal_px
        result[..., 0] = shift - by_theta * (radius / slope)[..., None]
        result[..., 1:4] = -by_theta[..., :, None] * (bent / slope[..., None])[..., None, :]
        result[..., 4:] = by_shift
        return result

    def unproject(self, pixels: Places) -> Directions:
        """Pixels (..., 2) to unit directions (..., 3); NaN where the lens sees nothing."""
        p = np.asarray(pixels)
        u0, v0 = self.principal_px
        x, y = p[..., 0] - p.dtype.type(u0), p[..., 1] - p.dtype.type(v0)
        if self.model == "rectilinear":
            return self._unproject_flat(x, y)
        radius = np.hypot(x, y)
        theta = self.angle_rad(radius)
        scale = np.where(radius > 1e-9, np.sin(theta) / np.maximum(radius, 1e-9), 1 / self.focal_px)
        return np.stack([x * scale, y * scale, np.cos(theta)], -1).astype(p.dtype, copy=False)

    def _unproject_flat(self, x: Array, y: Array) -> Array:
        """``unproject`` of a rectilinear lens for places counted from the principal point."""
        x, y = x / x.dtype.type(self.focal_px), y / y.dtype.type(self.focal_px)
        squared, top = x * x + y * y, math.tan(self.limit_rad)
        if any(self.distortion):
            bent = np.sqrt(squared)
            straight = _straightened(bent, top, self.distortion)
            ratio = np.where(bent > 1e-12, straight / np.maximum(bent, 1e-12), 1.0).astype(x.dtype, copy=False)
            x, y, squared = x * ratio, y * ratio, squared * ratio * ratio
        else:
            squared = np.where(squared <= (top * (1 + 1e-9)) ** 2, squared, np.nan)
        z = 1 / np.sqrt(1 + squared)
        return np.stack([x * z, y * z, z], -1).astype(x.dtype, copy=False)

    def sees(self, directions: Directions, margin_px: float = 0.0) -> Flags:
        """Whether directions (..., 3) fall on the frame, at least ``margin_px`` inside."""
        m = margin_px - 0.5
        if self.model == "rectilinear" and not any(self.distortion) and math.isinf(self.circle_px):
            # the common case by multiplication alone: planning asks it a million times
            d = np.asarray(directions)
            u0, v0 = self.principal_px
            x, y, z = d[..., 0] * self.focal_px, d[..., 1] * self.focal_px, d[..., 2]
            flat: Array = (
                (z > 0)
                & (x >= (m - u0) * z)
                & (x <= (self.width - 1 - m - u0) * z)
                & (y >= (m - v0) * z)
                & (y <= (self.height - 1 - m - v0) * z)
            )
            return flat
        pixels, valid = self.project(directions)
        inside = (pixels[..., 0] >= m) & (pixels[..., 0] <= self.width - 1 - m)
        result: Array = valid & inside & (pixels[..., 1] >= m) & (pixels[..., 1] <= self.height - 1 - m)
        if math.isfinite(self.circle_px):
            u0, v0 = self.principal_px
            result &= np.hypot(pixels[..., 0] - u0, pixels[..., 1] - v0) <= self.circle_px - margin_px
        return result

    def field_rad(self) -> tuple[float, float]:
        """Angle of view across and up, along the middle row and column."""
        u0, v0 = self.principal_px
        ends = np.array([[-0.5, v0], [self.width - 0.5, v0], [u0, -0.5], [u0, self.height - 0.5]])
        angles = self.angle_rad(np.minimum(np.hypot(ends[:, 0] - u0, ends[:, 1] - v0), self.circle_px))
        angles = np.where(np.isfinite(angles), angles, self.limit_rad)
        return float(angles[0] + angles[1]), float(angles[2] + angles[3])

    def places_px(self, across: int, down: int | None = None, *, with_rim: bool = False) -> Places:
        """Pixels spread evenly over the frame, (down, across, 2): middles of equal cells, or from edge to edge ``with_rim``."""
        columns, rows = across, down or across
        if with_rim:
            u, v = np.linspace(-0.5, self.width - 0.5, columns), np.linspace(-0.5, self.height - 0.5, rows)
        else:
            u = (np.arange(columns) + 0.5) / columns * self.width - 0.5
            v = (np.arange(rows) + 0.5) / rows * self.height - 0.5
        return np.stack(np.meshgrid(u, v), -1)

    def rim_px(self, per_side: int = 24) -> Places:
        """Points round the outer edge of the frame, (4 * per_side, 2), clockwise from the top left."""
        t = np.arange(per_side) / per_side
        left, top, right, bottom = -0.5, -0.5, self.width - 0.5, self.height - 0.5
        o = np.ones_like(t)
        return np.concatenate(
            [
                np.stack([left + t * (right - left), top * o], -1),
                np.stack([right * o, top + t * (bottom - top)], -1),
                np.stack([right - t * (right - left), bottom * o], -1),
                np.stack([left * o, bottom - t * (bottom - top)], -1),
            ]
        )

    def rim_rays(self, per_side: int = 24) -> Directions:
        """Directions (4 * per_side, 3) round what the lens shows: the edge of the frame, or the image circle where it ends within."""
        at, middle = self.rim_px(per_side), np.asarray(self.principal_px)
        with np.errstate(over="ignore"):
            reach = min(self.circle_px, float(self.radius_px(self.limit_rad)))
        off = at - middle
        inside = np.minimum(1.0, (1 - 1e-6) * reach / np.maximum(np.hypot(off[:, 0], off[:, 1]), 1e-9))
        return self.unproject(middle + off * inside[:, None] if math.isfinite(reach) else at)


def transfer(lens_a: Lens, lens_b: Lens, b_from_a: Rotations, pixels: Places) -> tuple[Places, Flags]:
    """Pixels of frame b that show what pixels (..., 2) of frame a do, where the cameras are turned by ``b_from_a`` (3, 3).

    Returns
    -------
    pixels : (..., 2) array
    valid : (...) bool array
        False where lens a sees nothing, or b cannot show it (not: outside frame b).
    """
    rays = lens_a.unproject(pixels)
    known = np.isfinite(rays[..., 0])
    found, valid = lens_b.project((rays if known.all() else np.nan_to_num(rays)) @ b_from_a.T)
    return found, valid & known


def focal_px_from_mm(focal_mm: float, sensor_width_mm: float, width_px: int) -> float:
    """Focal length in pixels of a lens on a sensor of that width."""
    return focal_mm * width_px / sensor_width_mm


def _radial(s: Array, k: tuple[float, float, float]) -> Array:
    return s * _bulge(s * s, k)


def _bulge(s2: Array, k: tuple[float, float, float]) -> Array:
    """What distortion multiplies a radius by whose square is ``s2``."""
    return 1 + s2 * (k[0] + s2 * (k[1] + s2 * k[2]))


def _radial_slope(s: Array, k: tuple[float, float, float]) -> Array:
    s2 = s * s
    return 1 + s2 * (3 * k[0] + s2 * (5 * k[1] + s2 * 7 * k[2]))


def _image_radius(theta: Array, model: str, k: tuple[float, float, float]) -> Array:
    if model == "rectilinear":
        return _radial(np.tan(theta), k)
    theta_d = _radial(theta, k)
    if model == "equidistant":
        return theta_d
    if model == "equisolid":
        return 2 * np.sin(theta_d / 2)
    if model == "stereographic":
        return 2 * np.tan(theta_d / 2)
    return np.sin(theta_d)


def _image_radius_slope(theta: Array, model: str, k: tuple[float, float, float]) -> Array:
    """Derivative of ``_image_radius`` by theta."""
    if model == "rectilinear":
        q = np.tan(theta)
        return np.asarray(_radial_slope(q, k) * (1 + q * q))
    theta_d, slope = _radial(theta, k), _radial_slope(theta, k)
    if model == "equidistant":
        return slope
    if model == "equisolid":
        return np.cos(theta_d / 2) * slope
    if model == "stereographic":
        return np.asarray(slope / np.cos(theta_d / 2) ** 2)
    return np.cos(theta_d) * slope


def _image_radius_by_k(theta: Array, model: str, k: tuple[float, float, float]) -> Array:
    """Derivative of ``_image_radius`` by k1, k2 and k3, (..., 3)."""
    s = np.tan(theta) if model == "rectilinear" else theta
    powers = s[..., None] ** np.array([3, 5, 7])
    if model in ("rectilinear", "equidistant"):
        return np.asarray(powers)
    theta_d = _radial(theta, k)
    if model == "equisolid":
        slope = np.cos(theta_d / 2)
    elif model == "stereographic":
        slope = 1 / np.cos(theta_d / 2) ** 2
    else:
        slope = np.cos(theta_d)
    return np.asarray(slope[..., None] * powers)


def _image_angle(radius: Array, model: str, k: tuple[float, float, float]) -> Array:
    """Inverse of ``_image_radius``; NaN beyond the model's limit."""
    limit = _limit_rad(model, k)
    with np.errstate(invalid="ignore"):
        if model == "rectilinear":
            target, top = radius, math.tan(limit)
        elif model == "equidistant":
            target, top = radius, limit
        elif model == "equisolid":
            target, top = 2 * np.arcsin(np.where(radius <= 2, radius / 2, np.nan)), limit
        elif model == "stereographic":
            target, top = 2 * np.arctan(radius / 2), limit
        else:
            target, top = np.arcsin(np.where(radius <= 1, radius, np.nan)), limit
        if any(k):
            s = _straightened(target, top, k)
        else:
            s = np.where(target <= top * (1 + 1e-9), target, np.nan)
        return np.arctan(s) if model == "rectilinear" else s


def _straightened(bent: Array, top: float, k: tuple[float, float, float]) -> Array:
    """Inverse of ``_radial`` by Newton's method; NaN beyond its value at ``top``."""
    with np.errstate(invalid="ignore"):
        s = np.minimum(bent, top)
        for _ in range(_NEWTON_STEPS):
            step = (_radial(s, k) - bent) / np.maximum(_radial_slope(s, k), 1e-3)
            s = np.clip(s - step, 0, top)
            if not np.any(np.abs(step) > 1e-13 * (1 + s)):
                break
        reachable = bent <= float(_radial(np.asarray(top), k)) * (1 + 1e-9)
        return np.where(reachable, s, np.nan)


@lru_cache(maxsize=256)
def _limit_rad(model: str, k: tuple[float, float, float]) -> float:
    """Where the mapping stops growing: there radial polynomials fold far rays back into the frame."""
    full = {"rectilinear": _RECTILINEAR_LIMIT_RAD, "orthographic": math.pi / 2}.get(model, math.pi * 0.999)
    theta = np.linspace(0, full, 4000)
    with np.errstate(over="ignore"):
        radius = _image_radius(theta, model, k)
    falling = np.flatnonzero(np.diff(radius) <= 0)
    if model != "rectilinear" and any(k):  # sin and tan of a bent angle must stay on their first branch
        bent = _radial(theta, k)
        branch = {"equidistant": np.inf, "orthographic": math.pi / 2}.get(model, math.pi * 0.999)
        over = np.flatnonzero(bent >= branch)
        falling = np.concatenate([falling, over])
    return float(theta[falling.min()]) if falling.size else full
