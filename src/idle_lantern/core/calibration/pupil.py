"""Where on the rail the no-parallax point stands over the turning axis: from pairs turned left and right at several settings.

Turned about the no-parallax point, near and far things move alike. Beside it a near thing is displaced against the far ground
in proportion to how far off the axis stands, so that a straight line through the displacements crosses nothing at the
right setting; no distance need be known.
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
from idle_lantern.core.frames.reading import probe, read

SCHEMA = "idle-lantern/pupil-calibration/1"
_FEATURES = 3000  # sought in a frame
_LEAST = 40  # matches that a pair needs
_RATIO = 0.8  # of the nearest descriptor to the second nearest
#: Frames are compared at no more than this, in million pixels.
_COMPARE_MP = 12.0
#: The far ground's turn may miss by so many pixels; what misses by more, all one way, is near.
_FAR_PX, _NEAR_PX = 1.2, 2.5
_LEAST_NEAR = 8
#: A near thing moves by no more than this share of the frame's width beside the ground.
_MOST_MOVE = 0.1
#: A move of so many pixels stands out as well as any larger one.
_STANDS_OUT_PX = 10.0
#: Half the side of the window in which a near feature is found to a fraction of a pixel, and how sure that must be.
_WINDOW, _SURE = 15, 0.4
#: How far up and down it is looked for, and how alike it must be.
_DOWN_PX, _ALIKE = 4, 0.75
#: A pair is never better known than this, and the setting neither: a rail's scale is not read finer.
_BEST_PX, _BEST_MM = 0.03, 0.25
#: The ground that a pair is measured against is not at one distance: its shift differs by such a share of itself, so that a pair
#: near the right setting tells it best. So measured with two pairs of the simulated camera each, at four focal lengths.
_GROUND = 0.2
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
    # where the near thing shows best it is told from the ground, and known again in the other pairs
    best = max(matched, key=lambda m: m.shows_px)
    if best.near is None:
        raise JoinError(
            "Nothing near moves against something far in any of the pairs",
            remedy="Put an upright thing a metre or two before the camera, with ground far behind it",
        )
    told = []
    for (rail, *_files), pair in zip(pairs, matched):
        shift, sigma = pair.shift_of(best)
        told.append(Pair(rail, shift, sigma))
    return _fitted(told)


def _fitted(pairs: Sequence[Pair]) -> PupilSetting:
    """The straight line through the shifts, and where it crosses nothing."""
    rail = np.array([p.rail_mm for p in pairs])
    shift = np.array([p.shift_px for p in pairs])
    sigma = np.hypot(np.array([p.sigma_px for p in pairs]), _GROUND * shift)
    middle = float(rail.mean())
    terms = np.column_stack([rail - middle, np.ones(len(rail))]) / sigma[:, None]
    normal = np.linalg.inv(terms.T @ terms)
    slope, level = normal @ terms.T @ (shift / sigma)
    spare = len(pairs) - 2
    if spare > 0:  # what the line leaves says how well the shifts are really known
        misses = ((shift - slope * (rail - middle) - level) / sigma) ** 2
        normal = normal * max(1.0, float(misses.sum()) / spare)
    if abs(slope) < 2 * math.sqrt(normal[0, 0]):
        raise JoinError(
            "The settings are too near to each other to tell the right one",
            remedy="Take pairs at settings some centimetres apart, with the near thing nearer",
        )
    by = np.array([level / slope**2, -1 / slope])
    sigma_mm = math.hypot(math.sqrt(float(by @ normal @ by)), _BEST_MM)
    return PupilSetting(middle - float(level / slope), sigma_mm, tuple(pairs))


@dataclass(frozen=True)
class _Matched:
    """A pair: places that match, their descriptors in the left frame, and what the far ground's turn leaves of each."""

    left: Array
    right: Array
    described: Array
    greys: tuple[Array, Array]
    turn: Array
    left_over: Array
    far: Array
    near: Array | None
    apart_px: float
    scale: float

    @property
    def shows_px(self) -> float:
        """How well the near thing stands out: few that move far together are chance."""
        return 0.0 if self.near is None else len(self.near) * min(self.apart_px, _STANDS_OUT_PX)

    @classmethod
    def of(cls, left: Path, right: Path) -> _Matched:
        """Match two frames and find the turn of the far ground."""
        greys, scale, focal_px = _looked_at(left, right)
        sift = cv2.SIFT.create(nfeatures=_FEATURES, contrastThreshold=0.02)
        (k1, d1), (k2, d2) = (sift.detectAndCompute(grey, None) for grey in greys)
        found = cv2.BFMatcher(cv2.NORM_L2).knnMatch(d1, d2, k=2) if len(k1) > 1 and len(k2) > 1 else []
        good = [m[0] for m in found if len(m) == 2 and m[0].distance < _RATIO * m[1].distance]
        if len(good) < _LEAST:
            raise JoinError(
                f"{left.name} and {right.name} hardly match",
                remedy="Turn less between them, so that both show the same",
            )
        p = np.array([k1[m.queryIdx].pt for m in good])
        q = np.array([k2[m.trainIdx].pt for m in good])
        turn, far = _far_turn(p, q, focal_px, greys[0].shape)
        left_over = q - _carried(turn, p)
        near = _near(left_over, far, _MOST_MOVE * greys[0].shape[1])
        apart = float(np.abs(np.median(left_over[near, 0]))) if near is not None else 0.0
        return cls(p, q, d1[[m.queryIdx for m in good]], greys, turn, left_over, far, near, apart, scale)

    def shift_of(self, best: _Matched) -> tuple[float, float]:
        """Shift of what is near in ``best``, in pixels of the full frame, with its standard error."""
        assert best.near is not None
        places = self.left[best.near] if self is best else self._known_again(best)
        moves = [m for place in places if (m := self._measured(place)) is not None]
        if len(moves) < _LEAST_NEAR // 2:
            raise JoinError(
                "The near thing is not found again in every pair",
                remedy="Keep it in the middle of both frames of each pair",
            )
        shifts = np.array(moves)
        middle = float(np.median(shifts))
        kept = shifts[np.abs(shifts - middle) < max(0.3, 3 * 1.4826 * float(np.median(np.abs(shifts - middle))))]
        ground = self.left_over[self.far][:, 0]
        doubt = float(kept.std()) / math.sqrt(len(kept)), float(ground.std()) / math.sqrt(len(ground))
        sigma = math.hypot(*doubt, _BEST_PX)
        return float(kept.mean()) * self.scale, sigma * self.scale

    def _known_again(self, best: _Matched) -> Array:
        """Where in the left frame the near features of another pair stand: both left frames look nearly the same way."""
        assert best.near is not None
        found = cv2.BFMatcher(cv2.NORM_L2).knnMatch(best.described, self.described, k=2)
        good = [m[0] for m in found if len(m) == 2 and m[0].distance < _RATIO * m[1].distance]
        if len(good) < _LEAST:
            return np.zeros((0, 2))
        p, q = best.left[[m.queryIdx for m in good]], self.left[[m.trainIdx for m in good]]
        move, _inside = cv2.findHomography(p, q, cv2.USAC_MAGSAC, 2.0)
        return np.zeros((0, 2)) if move is None else _carried(move, best.left[best.near])

    def _measured(self, place: Array) -> float | None:
        """By how much what stands at a place of the left frame moved across against the far ground, to a fraction of a pixel."""
        there = _carried(self.turn, place[None])[0]
        a = _window(self.greys[0], place)
        around = _window(self.greys[1], there, across=round(_MOST_MOVE / 2 * self.greys[0].shape[1]), down=_DOWN_PX)
        if a is None or around is None:
            return None
        alike = cv2.matchTemplate(around, a, cv2.TM_CCOEFF_NORMED)
        _least, most, _where, (x, y) = cv2.minMaxLoc(alike)
        if most < _ALIKE:
            return None
        start = np.rint(there) + np.array([x - (alike.shape[1] - 1) / 2, y - (alike.shape[0] - 1) / 2])
        b = _window(self.greys[1], start)
        if b is None:
            return None
        (dx, dy), response = cv2.phaseCorrelate(a, b, cv2.createHanningWindow(a.shape[::-1], cv2.CV_32F))
        if response < _SURE or math.hypot(dx, dy) > 2:
            return None
        # windows were cut at whole pixels
        exact = (np.rint(start) - np.rint(place)) + (dx, dy) + place
        return float((exact - there)[0])


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


def _far_turn(p: Array, q: Array, focal_px: float, shape: tuple[int, ...]) -> tuple[Array, Array]:
    """The plane move of the far ground (a turn leaves one, whatever the focal length), and who follows it.

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
        follows = np.zeros(len(p), bool)
        follows[at[inside.ravel() > 0]] = True
        tried.append((float(p[follows].std(0).prod()) * math.sqrt(follows.sum()), np.asarray(move), follows))
        left &= ~follows
    if not tried:
        raise JoinError(
            "The frames of a pair do not lie on each other", remedy="Turn the camera between them, and do nothing else"
        )
    _spread, move, follows = max(tried, key=lambda t: t[0])
    return move, follows


def _near(left_over: Array, far: Array, most_px: float) -> Array | None:
    """Places that all moved across by much the same beside the ground; None where there are too few."""
    across, down = left_over[:, 0], left_over[:, 1]
    off = (
        ~far
        & (np.abs(across) > _NEAR_PX)
        & (np.abs(across) < most_px)
        & (np.abs(down) < np.maximum(2.0, 0.35 * np.abs(across)))
    )
    if off.sum() < _LEAST_NEAR:
        return None
    alike = np.abs(across[off][:, None] - across[off][None]) < np.maximum(1.5, 0.25 * np.abs(across[off])[:, None])
    centre = int(alike.sum(1).argmax())
    chosen = np.flatnonzero(off)[alike[centre]]
    return chosen if len(chosen) >= _LEAST_NEAR else None


def _carried(move: Array, points: Array) -> Array:
    return np.asarray(cv2.perspectiveTransform(points[None].astype(np.float64), move)[0])


def _window(grey: Array, at: Array, across: int = 0, down: int = 0) -> Array | None:
    """The window about a place, so many pixels wider on either side; None where it leaves the frame."""
    x, y = (round(float(v)) for v in at)
    half_x, half_y = _WINDOW + across, _WINDOW + down
    if x < half_x or y < half_y or x + half_x >= grey.shape[1] or y + half_y >= grey.shape[0]:
        return None
    return grey[y - half_y : y + half_y + 1, x - half_x : x + half_x + 1].astype(np.float32)
