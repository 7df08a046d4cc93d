"""The rule done in the head: steps of the field of view times one minus the overlap, all rows alike."""

from __future__ import annotations

import math

import numpy as np

from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.plan.grid_row import GridRow
from idle_lantern.core.plan.row_pitches import SPARE_RAD
from idle_lantern.core.plan.target_field import TargetField
from idle_lantern.core.plan.yaws import spread


def row_rule(lens: Lens, target_field: TargetField) -> list[GridRow]:
    """Rows by the rule, the lowest last."""
    wide, tall = lens.field_rad()
    left, sweep = math.radians(target_field.left_deg), math.radians(target_field.sweep_deg)
    low, high = math.radians(target_field.low_deg), math.radians(target_field.high_deg)
    rows = 1 + math.ceil(max(0.0, high - low - tall) / (tall * (1 - target_field.between_rows)) - 1e-9)
    reach = tall / 2 - SPARE_RAD
    first, last = (low + reach, high - reach) if rows > 1 else ((low + high) / 2, (low + high) / 2)
    step = wide * (1 - target_field.overlap)
    if target_field.full_circle:
        count = math.ceil(2 * math.pi / step - 1e-9)
        yaws = [left + 2 * math.pi * (i + 0.5) / count for i in range(count)]
    else:
        yaws = spread(left, sweep, step, wide / 2 - SPARE_RAD)
    return [GridRow(float(p), tuple(yaws), step_rad=step) for p in np.linspace(last, first, rows)]
