"""A small look at each file, and what two looks have in common."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from functools import cached_property, lru_cache
from pathlib import Path

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.frames.ahead import ReadAhead
from idle_lantern.core.frames.reading import FrameInfo, probe, small_of, thumbnail

#: Longest side of a look; what tells places and roles apart is coarse.
LONGEST_PX = 192
#: Display values outside of which a place says nothing of brightness.
_DARK, _BRIGHT = 0.03, 0.95
#: Colours are compared by means of blocks.
_BLOCKS = 6
#: Detail changes over so many pixels of a look.
_CHANGE_PX = 3
#: What is darker than this is told by no camera from nothing.
_FLOOR = 1e-4


@dataclass(frozen=True)
class FilePreview:
    """What a small look at a file shows.

    Attributes
    ----------
    grey : (h, w) float32
        Display brightness, 0 to 1.
    small : (h, w, 3) uint8
        The look itself.
    light_ev : float
        Logarithm to base 2 of the mean linear light, what was exposed included: alike for all
        exposures of a place as long as they clip little.
    detail, coarse : float
        Contrast of what is fine, and of what is left when it is smoothed away.
    """

    info: FrameInfo
    grey: Array = field(repr=False)
    small: Array = field(repr=False)
    light_ev: float
    detail: float
    coarse: float

    @cached_property
    def blocks(self) -> Array:
        """Mean colours of blocks, CIE Lab, (n, 3) float32; only what may be a hand before the lens is asked for them."""
        lab = cv2.cvtColor(self.small.astype(np.float32) / 255, cv2.COLOR_RGB2LAB)
        return np.asarray(cv2.resize(lab, (_BLOCKS, _BLOCKS), interpolation=cv2.INTER_AREA).reshape(-1, 3))

    @cached_property
    def block_details(self) -> Array:
        """Fine contrast within each block, (n,) float32."""
        fine = _fine(self.grey)
        power = cv2.resize(fine * fine, (_BLOCKS, _BLOCKS), interpolation=cv2.INTER_AREA)
        return np.asarray(np.sqrt(power).ravel())

    @cached_property
    def shapes(self) -> Array:
        """What is neither fine nor as wide as the whole, so that it also shows out of focus, CIE Lab, (h, w, 3) float32."""
        lab = cv2.cvtColor(self.small.astype(np.float32) / 255, cv2.COLOR_RGB2LAB)
        return np.asarray(cv2.GaussianBlur(lab, (0, 0), 4) - cv2.GaussianBlur(lab, (0, 0), 25))

    @cached_property
    def flattened(self) -> Array:
        """Fine detail alike for all exposures: differences of logarithms, (h, w) float32."""
        logs = np.log(np.maximum(self.grey, 0.02))
        return np.asarray(np.clip(logs - cv2.GaussianBlur(logs, (0, 0), 8), -0.6, 0.6), np.float32)

    @property
    def path(self) -> Path:
        """The file."""
        return self.info.path

    @property
    def exposure_ev(self) -> float | None:
        """What the file says of its exposure, EV at ISO 100."""
        return self.info.metadata.exposure_value


def look_at(path: Path, ahead: ReadAhead | None = None) -> FilePreview:
    """Read a file's head and a small picture of it, from the whole where ``ahead`` reads it whole.

    Raises
    ------
    UnreadableFrame
        It cannot be read.
    """
    info = probe(path)
    whole = None if ahead is None else ahead.whole(path)
    small = (thumbnail(path, LONGEST_PX) if whole is None else small_of(whole, LONGEST_PX)).in_space(SRGB).pixels
    grey = cv2.cvtColor(small, cv2.COLOR_RGB2GRAY).astype(np.float32) / 255
    smooth = cv2.GaussianBlur(grey, (0, 0), 6)
    fine = _fine(grey)
    light = math.log2(max(_FLOOR, float(SRGB.to_linear(grey).mean())))
    return FilePreview(
        info, grey, small, light + (info.metadata.exposure_value or 0.0), float(fine.std()), float(smooth.std())
    )


def _fine(grey: Array) -> Array:
    return np.asarray(grey - cv2.GaussianBlur(grey, (0, 0), 1.2))


#: Share of a look's side at its rim, and of what is left out at the ends of that, which a neighbour may show too.
_STRIP, _ENDS = 0.22, 0.15


def goes_on(look: FilePreview, other: FilePreview) -> float:
    """How alike (correlation) the shapes at a rim of ``other`` are to some in the half of ``look`` that would show them too."""
    a, b = look.shapes, other.shapes
    if a.shape != b.shape:
        return 0.0
    best = 0.0
    for one, two in ((a, b), (np.swapaxes(a, 0, 1), np.swapaxes(b, 0, 1))):  # beside each other, and one over the other
        height, width = one.shape[:2]
        strip, ends = round(_STRIP * width), round(_ENDS * height)
        rows = np.s_[ends : height - ends]
        for shown, sought in (
            (one[:, width // 2 :], two[rows, :strip]),
            (one[:, : width // 2], two[rows, width - strip :]),
        ):
            found = cv2.matchTemplate(np.ascontiguousarray(shown), np.ascontiguousarray(sought), cv2.TM_CCOEFF_NORMED)
            best = max(best, float(found.max()))
    return best


@dataclass(frozen=True)
class Common:
    """How two looks lie on each other: the move from the first to the second in shares of their width, how alike they
    are there (correlation), and how much brighter the second is in EV, None where no place tells.

    ``ground`` is how alike they are across and down as well, the least of it: a horizon or the fall-off of a lens looks the
    same wherever the camera points, but tells nothing along it."""

    shift: float
    alike: float
    ground: float
    brighter_ev: float | None


def common(a: FilePreview, b: FilePreview) -> Common | None:
    """Where ``b`` shows the ground of ``a``, by phase correlation of their fine detail; None where sizes differ."""
    if a.grey.shape != b.grey.shape:
        return None
    height, width = a.grey.shape
    (dx, dy), _response = cv2.phaseCorrelate(a.flattened, b.flattened, _window(width, height))
    x, y = round(dx), round(dy)
    if abs(x) > width // 2 or abs(y) > height // 2:
        return Common(math.hypot(dx, dy) / width, 0.0, 0.0, None)
    first = np.s_[max(0, -y) : height + min(0, -y), max(0, -x) : width + min(0, -x)]
    second = np.s_[max(0, y) : height + min(0, y), max(0, x) : width + min(0, x)]
    told = _tells(a.grey[first]) & _tells(b.grey[second])
    p, q = a.flattened[first], b.flattened[second]
    ground = min(_correlation(*_changes(p, q, told, axis)) for axis in (0, 1))
    if told.sum() > 0.05 * told.size:
        p, q = p[told], q[told]
        ratio = SRGB.to_linear(b.grey[second][told]) / SRGB.to_linear(a.grey[first][told])
        brighter = float(np.log2(np.median(ratio)))
    else:
        brighter = None
    alike = _correlation(p, q)
    return Common(math.hypot(dx, dy) / width, alike, min(alike, ground), brighter)


def _changes(p: Array, q: Array, told: Array, axis: int) -> tuple[Array, Array]:
    """How detail (h, w) changes along an axis in both, where both tell, (n,) each; everywhere where hardly any place does."""
    p, q, told = (np.moveaxis(x, axis, 0) for x in (p, q, told))
    one, other = (x[_CHANGE_PX:] - x[:-_CHANGE_PX] for x in (p, q))
    both = told[_CHANGE_PX:] & told[:-_CHANGE_PX]
    return (one[both], other[both]) if both.sum() > 0.05 * both.size else (one.ravel(), other.ravel())


@lru_cache(maxsize=4)
def _window(width: int, height: int) -> Array:
    return np.asarray(cv2.createHanningWindow((width, height), cv2.CV_32F))


def _tells(grey: Array) -> Array:
    """Where it is neither black nor full."""
    return np.asarray((grey > _DARK) & (grey < _BRIGHT))


def _correlation(p: Array, q: Array) -> float:
    if not p.size:
        return 0.0
    p, q = p.ravel() - p.mean(), q.ravel() - q.mean()
    size = math.sqrt(float(p @ p) * float(q @ q))
    return float(p @ q) / size if size > 0 else 0.0
