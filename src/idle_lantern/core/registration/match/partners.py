"""Which frames may overlap, without comparing each with each.

Every frame gives its largest features to one common index; a frame's partners are the
frames that hold nearest neighbours of its features. The index divides the descriptors
among words (one in a few hundred descriptors, taken as they come), and only those of the
same word are compared: the work for a frame hardly grows with the number of frames.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from idle_lantern.core.base.arrays import Array

#: Words to which a descriptor is given: the nearest two, since neighbours may straddle a border.
_WORDS_EACH = 2
#: Descriptors of a word on average.
_PER_WORD = 60
_BLOCK = 4096


def votes(descriptors: Sequence[Array], alike: float) -> Array:
    """How many features of frames i find their nearest neighbour of all in j, both ways added, (n, n).

    ``descriptors`` holds for each frame unit vectors (M, D); a neighbour whose likeness (cosine) is
    below ``alike`` says nothing.
    """
    n = len(descriptors)
    total = np.zeros((n, n))
    rows = np.concatenate([np.asarray(d, np.float32) for d in descriptors])
    if len(rows) < 2:
        return total
    frame = np.repeat(np.arange(n), [len(d) for d in descriptors])
    step = max(1, _PER_WORD * _WORDS_EACH)
    words = rows[step // 2 :: step] if len(rows) > step else rows[:1]
    nearest = _nearest_words(rows, words)
    best, partner = np.full(len(rows), alike, np.float32), np.full(len(rows), -1)
    flat, member = nearest.ravel(), np.repeat(np.arange(len(rows)), nearest.shape[1])
    order = np.argsort(flat, kind="stable")
    bounds = np.searchsorted(flat[order], np.arange(len(words) + 1))
    for first, last in zip(bounds[:-1].tolist(), bounds[1:].tolist()):
        if last - first < 2:
            continue
        at = member[order[first:last]]
        like = rows[at] @ rows[at].T
        like[frame[at][:, None] == frame[at][None, :]] = -1
        top = like.argmax(1)
        value = like[np.arange(len(at)), top]
        better = value > best[at]
        best[at[better]], partner[at[better]] = value[better], at[top[better]]
    found = np.flatnonzero(partner >= 0)
    np.add.at(total, (frame[found], frame[partner[found]]), 1)
    return total + total.T


def _nearest_words(rows: Array, words: Array) -> Array:
    """Indices of the nearest words of each descriptor, (N, 1 or 2)."""
    count = min(_WORDS_EACH, len(words))
    parts = []
    for start in range(0, len(rows), _BLOCK):
        like = rows[start : start + _BLOCK] @ words.T
        parts.append(np.argpartition(-like, count - 1, axis=1)[:, :count])
    return np.concatenate(parts)
