"""A first lens for each frame: from metadata, checked against the matches, or found by trying."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from idle_lantern.core.frames.frameset import FrameSet
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.optics.known import KnownLens
from idle_lantern.core.registration.match.links import Link
from idle_lantern.core.registration.match.verify import rotation_between

#: Angles of view across the longer side that are tried without metadata, in degrees.
_TRIED_DEG = (6, 9, 13, 18, 24, 30, 36, 42, 48, 54, 60, 67, 74, 82, 90, 100)
_TRIED_FISHEYE_DEG = (90, 110, 130, 150, 170, 190, 215)
#: Mappings that are tried: the usual one, which lies near two others, and the one that is nearest to rectilinear.
_TRIED_FISHEYES = ("equidistant", "stereographic")
#: Share of the diagonal within which a match may lie while the lens is only guessed: distortion
#: of a few per cent at the corner stays inside.
LOOSE_SHARE = 0.008
_TIGHT_SHARE = 0.003
_JUDGES = 8
#: Agreement of the matches with the metadata's focal length above which nothing else is tried.
_TRUSTED = 0.6


def camera_groups(frames: FrameSet) -> list[int]:
    """Which frames share a lens: same size up to turning the camera, same focal length, and none zoomed or cropped without saying so."""
    keys: dict[tuple[object, ...], int] = {}
    labels = []
    apart = frames.lens_labels or (0,) * len(frames)
    for info, label in zip(frames.infos, apart, strict=True):
        meta = info.metadata
        key = (max(info.width, info.height), min(info.width, info.height), meta.focal_mm, meta.focal_35mm, label)
        labels.append(keys.setdefault(key, len(keys)))
    return labels


def known_lenses(frames: FrameSet, known: KnownLens | None, circle_px: float | None = None) -> list[Lens] | None:
    """A known lens for each frame; None where nothing is known, or a frame cannot be of it."""
    if known is None or not all(known.fits_focal(info.metadata.focal_mm) for info in frames.infos):
        return None
    lenses = [known.for_frame(info.width, info.height) for info in frames.infos]
    if any(lens is None for lens in lenses):
        return None
    circle = math.inf if circle_px is None else circle_px
    return [replace(lens, circle_px=circle) for lens in lenses if lens is not None]


def guess_lenses(
    frames: FrameSet,
    links: Sequence[Link],
    rng: np.random.Generator,
    circle_px: float | None = None,
    known: KnownLens | None = None,
) -> list[Lens]:
    """A lens for each frame, good enough to verify links by.

    Metadata is believed when the matches agree with it; otherwise rectilinear and
    fisheye fields of view are tried on the pairs with most matches. A dark surround
    (``circle_px`` is the radius of what is lit) tells a fisheye at once. A ``known`` lens is believed.
    """
    own = known_lenses(frames, known, circle_px)
    if own is not None:
        return own
    told = [info.metadata.focal_px(info.width, info.height) for info in frames.infos]
    judges = sorted(links, key=lambda link: -len(link.points_a))[:_JUDGES]
    focals = [f for f in told if f]
    if focals and len(focals) == len(told) and circle_px is None:
        lenses = [Lens("rectilinear", f or 1.0, i.width, i.height) for f, i in zip(told, frames.infos)]
        if not judges or _agreement(judges, lenses, rng) >= _TRUSTED:
            return lenses
    best_score, best = -1.0, _lenses(frames, "rectilinear", _focal("rectilinear", 54.0), circle_px)
    candidates = [("rectilinear", _focal("rectilinear", d)) for d in _TRIED_DEG]
    candidates += [(m, _focal(m, d)) for m in _TRIED_FISHEYES for d in _TRIED_FISHEYE_DEG]
    if focals:
        middle = float(np.median([f / max(i.width, i.height) for f, i in zip(told, frames.infos) if f]))
        candidates += [("rectilinear", middle), ("equidistant", middle)]
    if circle_px is not None:
        candidates = [c for c in candidates if c[0] != "rectilinear"]
    for model, focal in candidates:
        lenses = _lenses(frames, model, focal, circle_px)
        score = _agreement(judges, lenses, rng) if judges else 0.0
        # a fisheye must explain clearly more before it is believed
        score *= 1.0 if model == "rectilinear" else 0.9
        if score > best_score:
            best_score, best = score, lenses
    return best


def _focal(model: str, field_deg: float) -> float:
    """Focal length as a share of the longer side for an angle of view across it."""
    return 0.5 / float(Lens(model, 1.0, 1, 1).radius_px(math.radians(field_deg) / 2))


def _lenses(frames: FrameSet, model: str, focal_share: float, circle_px: float | None) -> list[Lens]:
    circle = math.inf if circle_px is None else circle_px
    return [
        Lens(model, focal_share * max(i.width, i.height), i.width, i.height, circle_px=circle) for i in frames.infos
    ]


def _agreement(links: Sequence[Link], lenses: Sequence[Lens], rng: np.random.Generator) -> float:
    """Mean share of a pair's matches that one rotation explains under these lenses."""
    shares = []
    for link in links:
        lens_a, lens_b = lenses[link.a], lenses[link.b]
        pick = slice(None) if len(link.points_a) <= 300 else rng.choice(len(link.points_a), 300, replace=False)
        rays_a, rays_b = lens_a.unproject(link.points_a[pick]), lens_b.unproject(link.points_b[pick])
        good = np.isfinite(rays_a[:, 0]) & np.isfinite(rays_b[:, 0])
        tolerance = _TIGHT_SHARE * math.hypot(lens_a.width, lens_a.height) / lens_a.focal_px
        _, inlier = rotation_between(rays_a[good], rays_b[good], tolerance, rng, trials=150)
        shares.append(inlier.sum() / max(1, len(good)))
    # pairs that do not overlap at all say nothing about the lens: the better half judges
    shares.sort(reverse=True)
    return float(np.mean(shares[: max(1, (len(shares) + 1) // 2)]))
