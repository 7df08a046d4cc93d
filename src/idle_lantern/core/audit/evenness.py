"""Light of each frame against its neighbours, measured on the ground both show: exposure, white balance, fall-off of the lens.

Everything is solved over the whole run at once. What the lens itself draws, its fall-off, is one for all frames; a pair whose
light does not differ by one factor (a veil lies over a part of one of them) counts for little and is read by its contrast,
which a veil leaves as it is; and of all explanations the one with the fewest odd frames is taken.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.cache import SizedCache
from idle_lantern.core.compositing.light.vignetting import fitted
from idle_lantern.core.inspection.overlaps import Overlap, balanced
from idle_lantern.core.merging.temperature import kelvin_shift
from idle_lantern.core.registration.match.features import WorkingFrame
from idle_lantern.core.registration.solve.poses import Poses

#: Display values between which a place tells how bright it is.
_DARK, _BRIGHT = 0.06, 0.92
_LEAST_PLACES, _LEAST_IN_PART = 20, 4
#: Told from this on: cameras step by thirds of an EV, and blends hide less than a sixth.
LEAST_EV, LEAST_KELVIN = 0.17, 200.0
#: And where it stands out from its doubt by so much.
_STANDS_OUT = 3.0
#: Doubt of one pair in EV at least; its samples, which lie close to each other, count as so many times fewer.
_LEAST_SIGMA_EV, _ALIKE_SAMPLES = 0.015, 12.0
#: Spread in EV, from part to part of what a pair shares, from which one factor does not explain it; parts across and down.
_UNEVEN_EV, _PARTS = 0.08, 4
#: What an odd frame costs, per EV, against the square of a pair's miss in its doubts.
_ODD_PER_EV = 6.0
#: Pixels of the reduced frame: samples are means over so many, contrast is what is finer than so many.
_SMOOTH_PX, _CONTRAST_PX = 2.0, 8.0
#: Contrast of two frames that is less alike than this tells nothing, and is never better known than so many EV: blur takes of it.
_LEAST_ALIKE, _CONTRAST_EV = 0.5, 0.05
_KEPT_BYTES = 250_000_000


@dataclass(frozen=True)
class Unevenness:
    """How one frame differs from the middle of its run.

    ``brighter_ev`` by brightness; ``warmer_k``: as if developed for a light so many kelvin higher (redder) than the others;
    ``tells_ev``, ``tells_colour``: whether either is more than a blend hides and stands out from its doubt.
    """

    brighter_ev: float
    warmer_k: float
    tells_ev: bool
    tells_colour: bool


@dataclass(frozen=True)
class PairLight:
    """Light of two frames over the ground both show, the lens's fall-off taken out.

    Attributes
    ----------
    i, j : int
        Places of the frames in the poses.
    points_i, points_j : (N, 2)
        Pixels where both are neither dark nor full.
    ev : (N, 3)
        Logarithm to base 2 of the light of i over that of j, red, green and blue.
    contrast : (N, 2)
        Differences of green light from what lies about, in i and in j, as shares of its mean.
    """

    i: int
    j: int
    points_i: Array
    points_j: Array
    ev: Array
    contrast: Array


@dataclass(frozen=True)
class RunLight:
    """The pairs of a run, and each frame's light against the middle of the run, EV of red, green and blue, (F, 3).

    ``sigma_ev`` and ``sigma_colour`` are (F,), infinite where no pair tells; the latter of red over blue.
    """

    pairs: tuple[PairLight, ...]
    gain_ev: Array
    sigma_ev: Array
    sigma_colour: Array

    def unevenness(self) -> dict[int, Unevenness]:
        """By place in the poses, for every frame whose brightness can be compared."""
        return {int(i): self._uneven(int(i)) for i in np.flatnonzero(np.isfinite(self.sigma_ev))}

    def _uneven(self, i: int) -> Unevenness:
        brighter, redder = float(self.gain_ev[i, 1]), float(self.gain_ev[i, 0] - self.gain_ev[i, 2])
        warmer = kelvin_shift(redder)
        return Unevenness(
            brighter,
            warmer,
            abs(brighter) > max(LEAST_EV, _STANDS_OUT * float(self.sigma_ev[i])),
            abs(warmer) > LEAST_KELVIN and abs(redder) > _STANDS_OUT * float(self.sigma_colour[i]),
        )


def light_of_run(
    poses: Poses, overlaps: Sequence[Overlap], working: Sequence[WorkingFrame], *, veils: bool = True
) -> RunLight:
    """Measure all pairs and solve them.

    Without ``veils`` the middle of a pair counts however its light differs: so a cloud that came over a part is told at once.
    """
    count = len(poses.frames)
    frames: SizedCache[int, _Light] = SizedCache(lambda i: _Light(working[i]), lambda f: f.nbytes, _KEPT_BYTES)
    pairs = [p for o in overlaps if (p := _pair(frames.load(o.i), frames.load(o.j), o)) is not None]
    if not pairs:
        nothing = np.full(count, np.inf)
        return RunLight((), np.zeros((count, 3)), nothing, nothing)
    pairs = _without_fall_off(poses, pairs)
    at = np.array([(p.i, p.j) for p in pairs])
    brighter, sigma = (np.array(v) for v in zip(*(_factor_ev(p, veils) for p in pairs)))
    colour, sigma_colour = (np.array(v) for v in zip(*(_colour_ev(p) for p in pairs)))
    green = balanced(count, at, brighter[:, None], sigma, _ODD_PER_EV)[:, 0]
    red, blue = balanced(count, at, colour, sigma_colour, _ODD_PER_EV).T
    gains = np.column_stack([green + red, green, green + blue])
    return RunLight(tuple(pairs), gains, _doubts(count, at, sigma), _doubts(count, at, sigma_colour))


class _Light:
    """A reduced frame: its display values, its light, and the contrast of its green."""

    def __init__(self, frame: WorkingFrame) -> None:
        self.scale = np.asarray(frame.scale)
        picture = frame.picture
        shown = picture.pixels.astype(np.float32) / picture.full_scale
        self.shown = cv2.GaussianBlur(shown, (0, 0), _SMOOTH_PX)
        self.light = cv2.GaussianBlur(np.asarray(picture.light(), np.float32), (0, 0), _SMOOTH_PX)
        green = self.light[..., 1]
        self.contrast = np.asarray(green - cv2.GaussianBlur(green, (0, 0), _CONTRAST_PX))

    @property
    def nbytes(self) -> int:
        """Memory it takes."""
        return int(self.shown.nbytes + self.light.nbytes + self.contrast.nbytes)

    def at(self, values: Array, points: Array) -> Array:
        """Values at pixels of the full frame, (N, ...)."""
        there = ((points + 0.5) / self.scale - 0.5).astype(np.float32)[None]
        return np.asarray(cv2.remap(values, there, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)[0])


def _pair(one: _Light, other: _Light, overlap: Overlap) -> PairLight | None:
    sides = ((one, overlap.points_i), (other, overlap.points_j))
    shown = np.stack([f.at(f.shown, p) for f, p in sides])
    tells = ((shown > _DARK) & (shown < _BRIGHT)).all((0, 2))
    if tells.sum() < _LEAST_PLACES:
        return None
    points_i, points_j = overlap.points_i[tells], overlap.points_j[tells]
    sides = ((one, points_i), (other, points_j))
    here, there = (np.maximum(f.at(f.light, p), 1e-4) for f, p in sides)
    contrast = np.column_stack([f.at(f.contrast, p) for f, p in sides])
    return PairLight(overlap.i, overlap.j, points_i, points_j, np.log2(here / there), contrast)


def _without_fall_off(poses: Poses, pairs: Sequence[PairLight]) -> list[PairLight]:
    """Pairs with what the lens takes from the corners of every frame put back."""
    radii = [(_radius2(poses, p.i, p.points_i), _radius2(poses, p.j, p.points_j)) for p in pairs]
    one, other = (np.concatenate(r) for r in zip(*radii))
    numbers = [len(p.ev) for p in pairs]
    c1, c2 = fitted(
        len(poses.frames),
        np.repeat([p.i for p in pairs], numbers),
        np.repeat([p.j for p in pairs], numbers),
        np.column_stack([one - other, one**2 - other**2]),
        -np.concatenate([p.ev[:, 1] for p in pairs]) * np.log(2),
    )
    even = []
    for pair, (a, b) in zip(pairs, radii):
        drawn = ((c1 * a + c2 * a**2) - (c1 * b + c2 * b**2)) / np.log(2)
        shares = pair.contrast / np.column_stack([np.exp(c1 * r + c2 * r**2) for r in (a, b)])
        even.append(PairLight(pair.i, pair.j, pair.points_i, pair.points_j, pair.ev - drawn[:, None], shares))
    return even


def _radius2(poses: Poses, i: int, points: Array) -> Array:
    """Squared radii as shares of the half diagonal, (N,)."""
    lens = poses.lenses[i]
    away = points - np.asarray(lens.principal_px)
    return np.asarray((away**2).sum(1) / ((lens.width**2 + lens.height**2) / 4))


def _factor_ev(pair: PairLight, veils: bool) -> tuple[float, float]:
    """How much brighter i is by one factor, and the doubt of it."""
    green = pair.ev[:, 1]
    middle = float(np.median(green))
    by_chance = max(_LEAST_SIGMA_EV, _spread(green) * float(np.sqrt(_ALIKE_SAMPLES / len(green))))
    uneven = _from_part_to_part(pair)
    if not veils or uneven < _UNEVEN_EV:
        return middle, by_chance
    by_contrast, doubt = _by_contrast(pair)
    return (by_contrast, max(doubt, by_chance)) if doubt < uneven else (middle, 2 * uneven)


def _from_part_to_part(pair: PairLight) -> float:
    """Spread of the middles of parts of what both show."""
    low, high = pair.points_i.min(0), pair.points_i.max(0)
    at = np.minimum((_PARTS * (pair.points_i - low) / np.maximum(high - low, 1e-9)).astype(int), _PARTS - 1) @ (
        1,
        _PARTS,
    )
    middles = [np.median(pair.ev[at == k, 1]) for k in range(_PARTS**2) if (at == k).sum() >= _LEAST_IN_PART]
    return float(np.std(middles)) if len(middles) > 1 else 0.0


def _by_contrast(pair: PairLight) -> tuple[float, float]:
    """The same by what is fine in both, which no veil changes; infinite doubt where little is."""
    a, b = pair.contrast.T
    powers = np.array([(a**2).mean(), (b**2).mean()])
    if powers.min() <= 0:
        return 0.0, np.inf
    alike = float((a * b).mean()) / float(np.sqrt(powers.prod()))
    if alike < _LEAST_ALIKE:
        return 0.0, np.inf
    value = float(np.log2(powers[0] / powers[1]) / 2)
    by_chance = float(np.sqrt(2 * (1 - alike**2) / len(a))) / float(np.log(2))
    return value, by_chance + _CONTRAST_EV


def _colour_ev(pair: PairLight) -> tuple[tuple[float, float], float]:
    """Red and blue of i against green, and the doubt of red over blue."""
    against = pair.ev[:, [0, 2]] - pair.ev[:, 1:2]
    red, blue = np.median(against, 0)
    spread = _spread(against[:, 0] - against[:, 1])
    uneven = max(0.0, _from_part_to_part(pair) - _UNEVEN_EV)  # a veil pales what is coloured
    sigma = max(_LEAST_SIGMA_EV, spread * np.sqrt(_ALIKE_SAMPLES / len(against)), uneven)
    return (float(red), float(blue)), float(sigma)


def _spread(values: Array) -> float:
    return 1.4826 * float(np.median(np.abs(values - np.median(values))))


def _doubts(count: int, pairs: Array, sigma: Array) -> Array:
    """Of each frame by its own pairs, (count,)."""
    weight = np.bincount(pairs.ravel(), np.repeat(1 / sigma**2, 2), count)
    with np.errstate(divide="ignore"):
        return np.asarray(np.where(weight > 0, 1 / np.sqrt(weight), np.inf))
