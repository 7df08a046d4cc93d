"""How light and colour drift across a picture: measured in its upper part, where the sky is in most."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.finish.finishing import WHOLE_PX
from idle_lantern.core.pictures.source import PictureSource, light_of, reduced

#: The share of each column, from its top, that is looked at, and in how many columns together.
_UPPER, _COLUMNS = 0.35, 48
#: Light below this, or near white, tells nothing.
_DARK, _BRIGHT = 0.01, 0.97
#: A drift must explain so much of what columns differ by: else they differ by what stands there.
_EXPLAINED = 0.6
#: Drifts from which on people see them (common practice, no source): stops of light, and of red against blue.
SEEN_EV, SEEN_WARMTH = 0.2, 0.1


@dataclass(frozen=True)
class Drift:
    """By how many stops the right end is brighter than the left one, and red stronger against blue; 0 where no drift is told."""

    ev: float = 0.0
    warmth: float = 0.0

    @property
    def is_seen(self) -> bool:
        """Whether it is worth a step."""
        return abs(self.ev) >= SEEN_EV or abs(self.warmth) >= SEEN_WARMTH


def drift_of(source: PictureSource) -> Drift:
    """The drift of a picture, reduced."""
    pixels = reduced(source, WHOLE_PX)
    light = light_of(pixels, source.space)
    seen = light[..., 3] > 0 if light.shape[2] == 4 else np.ones(light.shape[:2], bool)
    brightness = light[..., :3] @ source.space.luminance
    usable = seen & (brightness > _DARK) & (light[..., :3].max(-1) < _BRIGHT)
    depth = np.cumsum(seen, 0) / np.maximum(seen.sum(0), 1)
    usable &= depth <= _UPPER
    at, ev, warmth = [], [], []
    edges = np.linspace(0, light.shape[1], _COLUMNS + 1).astype(int)
    for left, right in zip(edges, edges[1:]):
        mine = usable[:, left:right]
        if mine.sum() < 0.2 * _UPPER * mine.size:
            continue
        part = light[:, left:right][mine]
        at.append((left + right) / 2 / light.shape[1] - 0.5)
        ev.append(float(np.median(np.log2(brightness[:, left:right][mine]))))
        warmth.append(float(np.median(np.log2(np.maximum(part[:, 0], 1e-4) / np.maximum(part[:, 2], 1e-4)))))
    if len(at) < _COLUMNS // 2:
        return Drift()
    return Drift(_slope(np.array(at), np.array(ev)), _slope(np.array(at), np.array(warmth)))


def _slope(at: Array, values: Array) -> float:
    """Change from end to end by the median of all slopes (Theil 1950, Sen 1968); 0 where it explains little."""
    i, j = np.triu_indices(len(at), 1)
    far = at[j] - at[i] > 0.1
    slope = float(np.median((values[j] - values[i])[far] / (at[j] - at[i])[far]))
    left = values - slope * at
    spread = np.abs(values - np.median(values)).mean()
    kept = np.abs(left - np.median(left)).mean()
    return slope if spread > 0 and 1 - (kept / spread) ** 2 >= _EXPLAINED else 0.0
