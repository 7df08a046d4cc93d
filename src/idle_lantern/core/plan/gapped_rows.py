"""Rows of a head whose stops leave gaps whatever is done: chosen by what they show."""

from __future__ import annotations

import numpy as np

from idle_lantern.core.base.arrays import Array, Flags
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.plan.brief import Support
from idle_lantern.core.plan.coverage import covered
from idle_lantern.core.plan.grid_row import GridRow, cameras_of_rows
from idle_lantern.core.plan.required import Required
from idle_lantern.core.plan.rows import half_widths
from idle_lantern.core.plan.yaws import row_yaws

_SAMPLES = 900
#: Pitches tried for a head without stops of the tilt.
_MOST_PITCHES = 41
#: A further row must show so much of what is required, and such a share of what the best row shows.
_LEAST, _WORTH = 0.003, 0.05
_MOST_ROWS = 40


def gapped_rows(lens: Lens, required: Required, support: Support, pitches: Array, steps: Array) -> list[GridRow]:
    """The fewest rows that show nearly all that any could, top row first.

    ``pitches`` (P,) in radians may be used, ``steps`` (P,) is how far a frame may turn at each.
    """
    if not support.tilt_step_deg and len(pitches) > _MOST_PITCHES:
        kept = np.linspace(0, len(pitches) - 1, _MOST_PITCHES).round().astype(int)
        pitches, steps = pitches[kept], steps[kept]
    field = required.grown
    heights = np.clip(pitches, *np.radians([field.low_deg, field.high_deg]))
    halves = half_widths(lens, pitches, heights, heights)
    # where stops leave gaps a frame may be wanted for one corner: the ends are trimmed later
    inside = np.where(support.step_deg > 0, 0.0, halves)
    rows = [
        GridRow(p, row_yaws(field, support, p, step, half), step_rad=step)
        for p, step, half in zip(pitches.tolist(), steps.tolist(), inside.tolist())
    ]
    directions = required.samples(_SAMPLES)
    shown = np.array([covered(lens, cameras_of_rows([row]), directions) for row in rows])
    return [rows[k] for k in sorted(_chosen(shown), key=lambda k: -pitches[k])]


def _chosen(shown: Flags) -> list[int]:
    """Indices of the rows, (R, N) by direction, that together show most: as many as are worth it."""
    chosen: list[int] = []
    told, worth = 0.0, max(_LEAST, _WORTH * float(shown.mean(1).max()))
    for _ in range(min(_MOST_ROWS, len(shown))):
        more = _settled(shown, [*chosen, _best(shown, chosen)])
        share = float(shown[more].any(0).mean())
        if chosen and share < told + worth:
            break
        chosen, told = more, share
    return chosen


def _settled(shown: Flags, rows: list[int]) -> list[int]:
    """Each row moved to where it shows most beside the others, until none moves."""
    for _ in range(8):
        before = list(rows)
        for i in range(len(rows)):
            rows[i] = _best(shown, rows[:i] + rows[i + 1 :], rows[i])
        if rows == before:
            break
    return rows


def _best(shown: Flags, others: list[int], present: int | None = None) -> int:
    """The row that shows most of what the others do not; the present one where none shows more."""
    left = ~shown[others].any(0) if others else np.ones(shown.shape[1], bool)
    gains = (shown & left).sum(1)
    best = int(gains.argmax())
    return best if present is None or gains[best] > gains[present] else present
