"""Frames put where planned rows leave a hole, and taken away where they show nothing that is required."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from idle_lantern.core.base.arrays import Array, Directions
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.sphere import azimuth_altitude
from idle_lantern.core.plan.brief import Support
from idle_lantern.core.plan.coverage import corner_angle_rad, covered
from idle_lantern.core.plan.grid_row import GridRow, cameras_of_rows
from idle_lantern.core.plan.required import Required
from idle_lantern.core.plan.rows import frame_rays

#: Directions of a hole from which frames are tried, and the share of a frame by which each is put beside them.
_TRIED = 24
_BESIDE = (0.0, 0.35, -0.35, 0.48, -0.48)
#: Rays of a frame, along a side, that tell whether others show all of it.
_RAYS = 61
_SAMPLES = 2200


def mended(
    lens: Lens, support: Support, rows: Sequence[GridRow], missing: Directions, worth: int
) -> list[GridRow] | None:
    """Rows with a frame put wherever one shows at least ``worth`` of the missing directions (N, 3), the best first.

    None where half as many frames again would not do.
    """
    extra: list[tuple[float, float]] = []
    most = 4 + sum(len(row.yaws_rad) for row in rows) // 2
    while len(missing):
        yaws, pitches = _places(lens, support, rows, missing)
        cameras = rotations.from_yaw_pitch_roll(yaws, pitches, 0 * yaws)
        shown = np.asarray(lens.sees(np.einsum("nj,kji->kni", missing, cameras), margin_px=1.0))
        gains = shown.sum(1)
        best = int(gains.argmax())
        if gains[best] < worth:
            break
        extra.append((float(yaws[best]), float(pitches[best])))
        if len(extra) > most:
            return None
        missing = missing[~shown[best]]
    return _joined(rows, extra)


def _places(lens: Lens, support: Support, rows: Sequence[GridRow], missing: Directions) -> tuple[Array, Array]:
    """Yaws and pitches (K,) that the head may take and from which some of the missing may be seen, present rows first."""
    some = missing[:: max(1, len(missing) // _TRIED)]
    azimuth, altitude = azimuth_altitude(some)
    present = np.array(sorted({row.pitch_rad for row in rows}))
    low, high, stop = (math.radians(v) for v in (support.tilt_low_deg, support.tilt_high_deg, support.tilt_step_deg))
    own = np.clip(altitude, low, high)
    if stop:
        own = np.clip(np.round(own / stop), math.ceil(low / stop - 1e-9), math.floor(high / stop + 1e-9)) * stop
    beside = np.array(_BESIDE) * lens.field_rad()[0]
    yaws, pitches = [], []
    for choices in (np.broadcast_to(present, (len(some), len(present))), own[:, None]):
        near = np.abs(choices - altitude[:, None]) < corner_angle_rad(lens)
        at, which = np.nonzero(near)
        pitch = choices[at, which]
        yaw = azimuth[at, None] + beside / np.maximum(np.cos(pitch), 0.2)[:, None]
        yaws.append(yaw.ravel())
        pitches.append(np.repeat(pitch, len(beside)))
    yaw, pitch = np.concatenate(yaws), np.concatenate(pitches)
    if support.step_deg:
        step, first = math.radians(support.step_deg), math.radians(support.first_stop_deg)
        yaw = np.round((yaw - first) / step) * step + first
    return yaw, pitch


def _joined(rows: Sequence[GridRow], extra: Sequence[tuple[float, float]]) -> list[GridRow]:
    """Rows with further frames, each in the row of its pitch or in one of its own."""
    joined = list(rows)
    for yaw, pitch in extra:
        at = next(
            (i for i, row in enumerate(joined) if row.role == "field" and abs(row.pitch_rad - pitch) < 1e-9), None
        )
        if at is None:
            joined.append(GridRow(pitch, (yaw,)))
        else:
            yaws = joined[at].yaws_rad
            near = yaw + 2 * math.pi * round(((yaws[0] + yaws[-1]) / 2 - yaw) / (2 * math.pi))
            joined[at] = replace(joined[at], yaws_rad=tuple(sorted((*yaws, near))))
    return sorted(joined, key=lambda row: -row.pitch_rad)


def trimmed(lens: Lens, required: Required, rows: Sequence[GridRow], only_wanted: bool) -> list[GridRow]:
    """Rows without frames at their ends that show nothing required of their own and keep no wished overlap.

    Those go too that show nothing of the wanted field itself; with ``only_wanted`` a rim of it is nothing.
    """
    kept = list(rows)
    for row in rows:
        for end in (0, -1):
            while row.role == "field" and _end_is_idle(lens, required, kept, row, end, only_wanted):
                rest = replace(row, yaws_rad=row.yaws_rad[1:] if end == 0 else row.yaws_rad[:-1])
                kept = [rest if other is row else other for other in kept if other is not row or rest.yaws_rad]
                row = rest
    return kept


def _end_is_idle(
    lens: Lens, required: Required, rows: Sequence[GridRow], row: GridRow, end: int, only_wanted: bool
) -> bool:
    """Whether the first (0) or last (-1) frame of a row can be left out."""
    if not row.yaws_rad or len(rows) == len(row.yaws_rad) == 1:
        return False
    camera = rotations.from_yaw_pitch_roll(row.yaws_rad[end], row.pitch_rad, 0.0)
    rays = frame_rays(lens, _RAYS) @ camera.T
    if not required.in_wanted(rays).any():  # a reserve alone is worth no frame
        return True
    rest = replace(row, yaws_rad=row.yaws_rad[1:] if end == 0 else row.yaws_rad[:-1])
    others = _near(lens, camera, [rest if other is row else other for other in rows])
    # what is left out mostly lies on the rim, between the frame's own rays
    samples = required.samples(_SAMPLES)[: _SAMPLES if only_wanted else None]
    seen = samples[np.asarray(lens.sees(samples @ camera, margin_px=0.5))]
    for some in (rays[::_RAYS][required.holds(rays[::_RAYS])], seen, rays[required.holds(rays)]):
        if len(some) and not (len(others) and covered(lens, others, some).all()):
            return False
    return _rows_still_overlap(lens, required, rows, row, rest, camera)


def _near(lens: Lens, camera: Array, rows: Sequence[GridRow]) -> Array:
    """Cameras (N, 3, 3) of rows that may show something that the given one (3, 3) shows."""
    cameras = cameras_of_rows([row for row in rows if row.yaws_rad])
    return cameras[cameras[:, :, 2] @ camera[:, 2] > math.cos(min(math.pi, 2 * corner_angle_rad(lens) + 0.02))]


def _rows_still_overlap(
    lens: Lens, required: Required, rows: Sequence[GridRow], row: GridRow, rest: GridRow, camera: Array
) -> bool:
    """Whether frames above and below one that goes are still shown enough by what is left beside them."""
    at = next(i for i, other in enumerate(rows) if other is row)
    beside = [rows[i] for i in (at - 1, at + 1) if 0 <= i < len(rows)]
    rays = frame_rays(lens, 25)
    for other in beside:
        left = [rest] if rest.yaws_rad else [r for r in beside if r is not other]
        for one in _near(lens, camera, [other]):
            seen = rays @ one.T
            before = covered(lens, cameras_of_rows([row]), seen).mean()
            after = covered(lens, cameras_of_rows(left), seen).mean() if left else 0.0
            if after < min(before, required.wanted.between_rows) - 1e-9:
                return False
    return True
