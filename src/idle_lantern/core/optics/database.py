"""A lens from the open lens database that lensfun keeps, told in this program's own numbers.

Its models (Wagner's polynomials of third and fifth degree and the one of four terms, Pablo d'Angelo's fall-off, radial
lateral colour) are asked for at many radii through lensfunpy, and ours are laid through them by least squares.
"""

from __future__ import annotations

import math
from functools import lru_cache
from typing import TYPE_CHECKING, Any

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.optics.known import Falloff, KnownLens, Lateral

if TYPE_CHECKING:
    import lensfunpy

_DIAGONAL_35MM = math.hypot(36, 24)
#: Longer side of the frame, less one pixel as lensfun counts sides, at which the database's models are asked.
_ASKED_PX = 1200
#: Focused from here on the fall-off changes no more.
_DISTANCE_M = 1000.0
#: Lateral colour below this many pixels of a 6000 pixel frame is none.
_LEAST_SHIFT = 0.1 / 3600
#: No lens is darker in its corners than a thirtieth.
_MOST_BRIGHTER = 30.0
#: Names of the lens kinds that we have, as lensfun calls them.
_MODELS = {
    "RECTILINEAR": "rectilinear",
    "FISHEYE": "equidistant",
    "FISHEYE_EQUISOLID": "equisolid",
    "FISHEYE_STEREOGRAPHIC": "stereographic",
    "FISHEYE_ORTHOGRAPHIC": "orthographic",
}


def lens_from_database(
    meta: Metadata, width: int, height: int, database: lensfunpy.Database | None = None
) -> KnownLens:
    """What the database knows of the lens that took a frame.

    Raises
    ------
    InputError
        The frame does not tell its lens, or the database does not hold it.
    """
    db = database or _bundled()
    if not meta.focal_mm:
        raise InputError("The frame tells no focal length", remedy="Let the join find the lens, or measure it once")
    camera = next(iter(db.find_cameras(meta.maker, meta.camera)), None) if meta.camera else None
    found = db.find_lenses(camera, None, meta.lens) if camera is not None and meta.lens else []
    if camera is not None and not found:  # a camera whose lens is built in
        fixed = db.find_lenses(camera)
        found = fixed if len(fixed) == 1 else []
    lens = next((one for one in found if _holds(one, meta.focal_mm)), None)
    if camera is None or lens is None:
        what = meta.lens or (f"the lens of {meta.camera}" if meta.camera else "this lens")
        raise InputError(
            f"The lens database knows nothing of {what} at {meta.focal_mm:g} mm",
            remedy="Let the join find the lens, or measure it once",
        )
    return _told(lens, camera.crop_factor, meta, width, height)


@lru_cache(maxsize=1)
def _bundled() -> lensfunpy.Database:
    import lensfunpy

    return lensfunpy.Database(load_common=False)


def _holds(lens: lensfunpy.Lens, focal_mm: float) -> bool:
    known = lens.type.name in _MODELS
    return known and lens.min_focal * 0.98 <= focal_mm <= (lens.max_focal or lens.min_focal) * 1.02


def _told(lens: lensfunpy.Lens, crop: float, meta: Metadata, width: int, height: int) -> KnownLens:
    """One lens at one setting in our numbers, for a frame of that size."""
    import lensfunpy

    assert meta.focal_mm is not None
    scale = max(width, height) / _ASKED_PX
    w, h = _ASKED_PX + 1, round(min(width, height) / scale) + 1
    modifier = lensfunpy.Modifier(lens, crop, w, h)
    flags = lensfunpy.ModifyFlags

    def begin(flag: Any, kind: Any = np.uint8) -> None:
        modifier.initialize(
            meta.focal_mm, meta.aperture or lens.min_aperture or 8.0, distance=_DISTANCE_M, scale=1.0,
            pixel_format=kind, flags=flag,
        )  # fmt: skip

    middle = np.array([(w - 1) / 2, (h - 1) / 2])
    grid = np.stack(np.meshgrid(np.arange(w), np.arange(h)), -1) - middle
    radius = np.hypot(*np.moveaxis(grid, -1, 0)).ravel()
    half = math.hypot(w - 1, h - 1) / 2
    model = _MODELS[lens.type.name]
    plain = Lens(model, meta.focal_mm * 2 * half / (_DIAGONAL_35MM / crop), w, h)
    begin(flags.DISTORTION)
    bent = modifier.apply_geometry_distortion()
    made = plain if bent is None else _fitted(plain, radius, np.hypot(*np.moveaxis(bent - middle, -1, 0)).ravel())
    begin(flags.TCA)
    colours = modifier.apply_subpixel_distortion()
    red, blue = (_lateral(radius, colours, c, middle, half) for c in (0, 2))
    begin(flags.VIGNETTING, np.float32)
    light = np.ones((h, w, 3), np.float32)
    falloff = None
    if modifier.apply_color_modification(light):
        falloff = _falloff((radius / half) ** 2, light[..., 1].ravel())
    if bent is None and colours is None and falloff is None:
        raise InputError(
            f"The lens database has no figures of {lens.model} at {meta.focal_mm:g} mm",
            remedy="Let the join find the lens, or measure it once",
        )
    whole = made.scaled(scale)
    return KnownLens(
        max(width, height), min(width, height), whole.focal_px, model, made.k1, made.k2, made.k3,
        falloff=falloff, lateral_red=red, lateral_blue=blue, focal_mm=meta.focal_mm,
        camera=meta.camera or "", lens=lens.model, source="database",
    )  # fmt: skip


def _fitted(plain: Lens, straight_px: Array, bent_px: Array) -> Lens:
    """The lens that puts what an ideal one has at ``straight_px`` at ``bent_px``, by least squares along the radius."""
    seen = (straight_px > 0.5) & np.isfinite(bent_px) & (bent_px > 0)
    straight, bent = straight_px[seen], bent_px[seen]
    theta = plain.angle_rad(straight)
    if plain.model == "rectilinear":
        q = np.tan(theta)
        powers = np.stack([q, q**3, q**5, q**7], -1)
        focal, *rest = np.linalg.lstsq(powers, bent, rcond=None)[0].tolist()
        k1, k2, k3 = (v / focal for v in rest)
    else:
        near = straight < np.quantile(straight, 0.1)
        focal = plain.focal_px * float(np.median(bent[near] / straight[near]))
        told = Lens(plain.model, focal, plain.width, plain.height).angle_rad(bent)
        good = np.isfinite(theta) & np.isfinite(told)
        s = theta[good]
        k1, k2, k3 = np.linalg.lstsq(np.stack([s**3, s**5, s**7], -1), told[good] - s, rcond=None)[0].tolist()
    return Lens(plain.model, focal, plain.width, plain.height, k1=k1, k2=k2, k3=k3)


def _falloff(rho2: Array, brighter: Array) -> Falloff | None:
    """The terms of a fall-off that these factors undo; entries that brighten past all measure are slips."""
    if not ((brighter > 0.5) & (brighter < _MOST_BRIGHTER)).all():
        return None
    a, b = np.linalg.lstsq(np.stack([rho2, rho2**2], -1), -np.log(brighter), rcond=None)[0].tolist()
    return a, b


def _lateral(radius: Array, colours: Array | None, channel: int, middle: Array, half: float) -> Lateral:
    """By how much more than green a colour is enlarged: ``a + b rho^2``."""
    if colours is None:
        return (0.0, 0.0)
    seen = radius > 0.05 * half
    there, green = (np.hypot(*np.moveaxis(colours[:, :, c] - middle, -1, 0)).ravel()[seen] for c in (channel, 1))
    rho2 = (radius[seen] / half) ** 2
    a, b = np.linalg.lstsq(np.stack([np.ones_like(rho2), rho2], -1), there / green - 1, rcond=None)[0].tolist()
    return (0.0, 0.0) if max(abs(a), abs(a + b)) < _LEAST_SHIFT else (a, b)
