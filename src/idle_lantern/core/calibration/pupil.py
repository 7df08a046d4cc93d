"""Where on the rail the no-parallax point stands over the turning axis: from pairs turned left and right at several settings.

Turned about the no-parallax point, near and far things move alike. Beside it whatever is near is displaced against the far
ground, in proportion to how far off the axis stands. The lens, the turn of each pair, how near each thing is and the right
setting are adjusted together (``pupil_fit``); no distance need be known.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import InputError, JoinError
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.calibration.pupil_fit import PairSeen, fitted
from idle_lantern.core.frames.reading import probe, read
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens

SCHEMA = "idle-lantern/pupil-calibration/1"
_FEATURES = 4000  # sought in a frame
_LEAST = 40  # matches that a pair needs
_RATIO = 0.8  # of the nearest descriptor to the second nearest
#: Frames are compared at no more than this, in million pixels.
_COMPARE_MP = 12.0
#: The far ground's turn misses by so many pixels at most while it is looked for.
_FAR_PX = 3.0
#: A thing stands at much the same place in the left frames of two pairs, within this share of their width.
_SAME_PLACE = 0.05
_LEAST_NEAR = 6
#: The setting is never better known than this.
_BEST_MM = 0.05
#: A setting less sure than this is none.
_WORST_MM = 12.0
_USUAL_FIELD_RAD = math.radians(54.0)


@dataclass(frozen=True)
class Pair:
    """A pair at a rail setting: by how many pixels the near thing moved more than the far ground did."""

    rail_mm: float
    shift_px: float
    sigma_px: float


@dataclass(frozen=True)
class PupilSetting:
    """The setting at which near and far move alike, with its standard error."""

    setting_mm: float
    sigma_mm: float
    pairs: tuple[Pair, ...]

    def sentence(self) -> str:
        """For people."""
        tried = [p.rail_mm for p in self.pairs]
        told = f"Set the rail to {self.setting_mm:.1f} ± {self.sigma_mm:.1f} mm: there near and far move alike"
        if not min(tried) <= self.setting_mm <= max(tried):
            return f"{told}. It lies beyond the settings that were tried; take another pair near it."
        if self.sigma_mm > 2.0:
            return f"{told}. Take further pairs, or put the near thing nearer, to know it better."
        return f"{told}."

    def as_json(self) -> dict[str, Any]:
        """As ``idle-lantern/pupil-calibration/1``."""
        return {
            "schema": SCHEMA,
            "setting_mm": self.setting_mm,
            "sigma_mm": self.sigma_mm,
            "pairs": [{"rail_mm": p.rail_mm, "shift_px": p.shift_px, "sigma_px": p.sigma_px} for p in self.pairs],
            "sentence": self.sentence(),
        }


def calibrate_pupil(
    pairs: Sequence[tuple[float, Path, Path]], progress: Progress = SILENT, *, kept: dict[Any, Any] | None = None
) -> PupilSetting:
    """The setting, from (rail setting in mm, left frame, right frame) of two settings or more.

    ``kept`` holds what was matched before: who asks again with one pair more gives the same one.

    Raises
    ------
    InputError
        Fewer than two settings were given.
    UnreadableFrame
        A frame cannot be read.
    JoinError
        A pair does not match, or shows nothing near before something far.
    """
    if len({rail for rail, *_files in pairs}) < 2:
        raise InputError("Pairs at one setting tell nothing", remedy="Take pairs at two rail settings or more")
    progress.begin("match", len(pairs))
    matched, known = [], {} if kept is None else kept
    for _rail, left, right in pairs:
        if (left, right) not in known:
            known[left, right] = _Matched.of(left, right)
        matched.append(known[left, right])
        progress.advance()
    found = fitted(_tracked([rail for rail, *_files in pairs], matched), matched[0].lens)
    if found.near < _LEAST_NEAR:
        raise JoinError(
            "Nothing near moves against something far in any of the pairs",
            remedy="Put an upright thing a metre or two before the camera, with ground far behind it",
        )
    if found.sigma_mm > _WORST_MM:
        raise JoinError(
            "The settings are too near to each other to tell the right one",
            remedy="Take pairs at settings some centimetres apart, with the near thing nearer",
        )
    told = [
        Pair(rail, shift * m.scale, sigma * m.scale)
        for (rail, *_files), m, shift, sigma in zip(pairs, matched, found.shifts_px, found.shift_sigmas_px)
    ]
    return PupilSetting(found.setting_mm, math.hypot(found.sigma_mm, _BEST_MM), tuple(told))


@dataclass(frozen=True)
class _Matched:
    """A pair: places that match, their descriptors in the left frame, the turn of the far ground, and a lens to begin with.

    ``turn`` (3, 3) carries directions of the left frame to the right one; ``scale`` is by how much the full frames are larger.
    """

    left: Array
    right: Array
    described: Array
    turn: Array
    lens: Lens
    scale: float

    @classmethod
    def of(cls, left: Path, right: Path) -> _Matched:
        """Match two frames and find the turn of the far ground."""
        greys, scale, focal_px = _looked_at(left, right)
        sift = cv2.SIFT.create(nfeatures=_FEATURES, contrastThreshold=0.02)
        (k1, d1), (k2, d2) = (sift.detectAndCompute(grey, None) for grey in greys)
        good = _best(d1, d2) if len(k1) > 1 and len(k2) > 1 else []
        if len(good) < _LEAST:
            raise JoinError(
                f"{left.name} and {right.name} hardly match",
                remedy="Turn less between them, so that both show the same",
            )
        p = np.array([k1[m.queryIdx].pt for m in good])
        q = np.array([k2[m.trainIdx].pt for m in good])
        height, width = greys[0].shape
        lens = Lens("rectilinear", focal_px, width, height)
        plane = np.array([[focal_px, 0, (width - 1) / 2], [0, focal_px, (height - 1) / 2], [0, 0, 1]])
        turn = rotations.nearest(np.linalg.inv(plane) @ _far_move(p, q) @ plane)
        return cls(p, q, d1[[m.queryIdx for m in good]], turn, lens, scale)


def _best(one: Array, other: Array) -> list[cv2.DMatch]:
    """Nearest descriptors that are told apart from the second nearest."""
    found = cv2.BFMatcher(cv2.NORM_L2).knnMatch(one, other, k=2)
    return [m[0] for m in found if len(m) == 2 and m[0].distance < _RATIO * m[1].distance]


def _tracked(rails_mm: Sequence[float], matched: Sequence[_Matched]) -> list[PairSeen]:
    """The pairs with a number for each thing, the same where another pair shows it too: left frames look nearly the same way."""
    first = max(range(len(matched)), key=lambda k: len(matched[k].left))
    known = matched[first]
    count = len(known.left)
    seen = []
    for k, (rail, pair) in enumerate(zip(rails_mm, matched)):
        things = count + np.arange(len(pair.left))
        if k == first:
            things = np.arange(len(pair.left))
        else:
            count += len(pair.left)
            found = _best(known.described, pair.described)
            if found:
                at, there = (np.array(v) for v in zip(*((m.queryIdx, m.trainIdx) for m in found)))
                moved = pair.left[there] - known.left[at]
                near = np.linalg.norm(moved - np.median(moved, 0), axis=1) < _SAME_PLACE * pair.lens.width
                things[there[near]] = at[near]
        seen.append(PairSeen(rail, pair.left, pair.right, things, pair.turn))
    return seen


def _looked_at(left: Path, right: Path) -> tuple[tuple[Array, Array], float, float]:
    """Both frames in grey, by how much the full ones are larger, and the focal length in their pixels."""
    info = probe(left)
    factor = min(1.0, math.sqrt(_COMPARE_MP / max(info.megapixels, 1e-6)))
    greys = []
    for path in (left, right):
        pixels = read(path).pixels
        grey = cv2.cvtColor(pixels if pixels.dtype == np.uint8 else (pixels >> 8).astype(np.uint8), cv2.COLOR_RGB2GRAY)
        if factor < 1:
            grey = cv2.resize(grey, None, fx=factor, fy=factor, interpolation=cv2.INTER_AREA)
        greys.append(grey)
    if greys[0].shape != greys[1].shape:
        raise JoinError(
            f"{left.name} and {right.name} are of different sizes", remedy="Take both with one camera, held one way"
        )
    usual = max(info.width, info.height) / 2 / math.tan(_USUAL_FIELD_RAD / 2)
    focal = (info.metadata.focal_px(info.width, info.height) or usual) * factor
    return (greys[0], greys[1]), 1 / factor, focal


def _far_move(p: Array, q: Array) -> Array:
    """The plane move of the far ground, (3, 3): a turn leaves nearly one.

    Of the moves that many follow, the one whose followers are spread widest is the ground's: the near thing is narrow.
    """
    left: Array = np.ones(len(p), bool)
    tried = []
    for _ in range(3):
        if left.sum() < _LEAST // 2:
            break
        at = np.flatnonzero(left)
        move, inside = cv2.findHomography(p[at], q[at], cv2.USAC_MAGSAC, _FAR_PX, maxIters=5000, confidence=0.9999)
        if move is None:
            break
        follows = at[inside.ravel() > 0]
        tried.append((float(p[follows].std(0).prod()) * math.sqrt(len(follows)), np.asarray(move)))
        left[follows] = False
    if not tried:
        raise JoinError(
            "The frames of a pair do not lie on each other", remedy="Turn the camera between them, and do nothing else"
        )
    return max(tried, key=lambda t: t[0])[1]
