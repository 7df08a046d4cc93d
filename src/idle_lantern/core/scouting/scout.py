"""From files to a kept scouting picture: made ground, read, and laid beside what lies there already."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.compositing.canvas.redrawn import redrawn
from idle_lantern.core.frames.reading import probe
from idle_lantern.core.join.report import read_report
from idle_lantern.core.join.report_reading import canvas_of as canvas_of_report
from idle_lantern.core.pictures.source import reduced
from idle_lantern.core.pictures.tiled import open_picture
from idle_lantern.core.scouting.detail import detail_of
from idle_lantern.core.scouting.facing import by_compass
from idle_lantern.core.scouting.ground import make_ground
from idle_lantern.core.scouting.lines import lines_of
from idle_lantern.core.scouting.readings import readings_of
from idle_lantern.core.scouting.reprojection import ReprojectedScouts, as_bytes, canvas_of, on_sphere
from idle_lantern.core.scouting.scout_picture import ScoutPicture
from idle_lantern.core.scouting.skyline import skyline_of

#: Longest side of an earlier outing's picture as it is kept.
_JOINED_PX = 2800
#: Size of the maps by which two pictures of a place are turned onto each other: half a degree a pixel.
_COMPARED = (720, 360)
#: Least agreement of their edges for that, and by how much the best turn must beat the others.
_AGREE, _CLEARLY = 0.25, 1.25


def scouted(
    paths: Sequence[Path], field_deg: float | None = None, progress: Progress = SILENT
) -> tuple[ScoutPicture, bytes]:
    """What an outing keeps of some pictures, and the bytes of its asset, which is still to be named.

    Raises
    ------
    LanternError
        As ``make_ground``.
    """
    ground = make_ground(paths, field_deg, progress)
    data, canvas = as_bytes(ground.picture, ground.canvas)
    facing = by_compass(ground)
    first = ground.paths[0]
    name = first.name if len(ground.paths) == 1 else f"{first.name} and {len(ground.paths) - 1} more"
    kept = replace(
        _kept(name, canvas),
        sigma_deg=ground.sigma_deg,
        readings=tuple((r.azimuth_deg, round(r.ev, 3), r.bound) for r in readings_of(ground.glances)),
        details=tuple((d.azimuth_deg, d.altitude_deg, round(d.share, 3)) for d in detail_of(ground.glances)),
        facing_deg=None if facing is None else round(facing, 2),
        taken=probe(first).metadata.taken,
        told=ground.told,
    )
    return _with_shapes(kept, data), data


def from_joined(picture: Path, report: Path, name: str, facing_deg: float) -> tuple[ScoutPicture, bytes]:
    """The joined picture of an earlier outing as a scouting picture: its canvas is known, and which way it faced.

    Raises
    ------
    LanternError
        Picture or report cannot be read.
    """
    try:
        canvas = canvas_of_report(read_report(report, remedy="Join that outing again"))
    except ValueError as error:
        raise InputError("Is no report of a join", where=report.name, remedy="Join that outing again") from error
    source = open_picture(picture)
    small = reduced(source, _JOINED_PX)
    flat = replace(canvas, stretch=None)
    if canvas.stretch is not None:
        small = redrawn(small, canvas, flat, _JOINED_PX**2 // 3)
    if small.dtype == np.uint16:
        small = (small >> 8).astype(np.uint8)
    alpha = small[..., 3].copy() if small.shape[2] == 4 else None
    data, own = as_bytes(Picture(np.ascontiguousarray(small[..., :3]), alpha, source.space).in_space(SRGB), flat)
    kept = replace(
        _kept(name, own), sigma_deg=0.2, facing_deg=facing_deg % 360, told=("The picture of an earlier outing.",)
    )
    return _with_shapes(kept, data), data


def _with_shapes(kept: ScoutPicture, data: bytes) -> ScoutPicture:
    """A picture with its straight things and its skyline."""
    shown = _reprojected(kept, data)
    return replace(kept, lines=lines_of(shown), skyline=skyline_of(shown))


def _reprojected(kept: ScoutPicture, data: bytes) -> ReprojectedScouts:
    """A picture that was just made, as it will be laid."""
    pixels = cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_UNCHANGED)
    return ReprojectedScouts(np.asarray(cv2.cvtColor(pixels, cv2.COLOR_BGRA2RGBA)), canvas_of(kept))


def _kept(name: str, canvas: Canvas) -> ScoutPicture:
    (a, b, c), (d, e, f), (g, h, i) = canvas.canvas_from_world.tolist()
    return ScoutPicture(
        uuid.uuid4().hex,
        name[:400],
        "0" * 64,
        canvas.projection.name,
        canvas.width,
        canvas.height,
        canvas.px_per_rad,
        (float(canvas.centre_px[0]), float(canvas.centre_px[1])),
        ((a, b, c), (d, e, f), (g, h, i)),
        canvas.full_circle,
        canvas.projection.panini_distance,
    )


def turn_between(front: ReprojectedScouts, other: ReprojectedScouts) -> float | None:
    """By how many degrees ``other`` must be turned to lie on ``front`` where both show the same place; None where that is not clear.

    Edges of both on a map, compared at every turn.
    """
    one, two = (_edges(on_sphere([ground], _COMPARED)) for ground in (front, other))
    width = _COMPARED[0]
    # sums over the common part at every turn, by the correlation theorem
    spectra = [np.fft.rfft(v, axis=1) for v in (one[0], one[1], two[0], two[1], one[0] ** 2, two[0] ** 2)]

    def at_every_turn(a: int, b: int) -> Array:
        return np.asarray(np.fft.irfft((spectra[a] * np.conj(spectra[b])).sum(0), width))

    common, both = at_every_turn(1, 3), at_every_turn(0, 2)
    power = np.sqrt(np.maximum(at_every_turn(4, 3) * at_every_turn(1, 5), 1e-12))
    least = 0.35 * min(one[1].sum(), two[1].sum())
    agree = np.where(common > max(least, 1.0), both / power, 0.0)
    best = int(agree.argmax())
    away = np.abs((np.arange(width) - best + width / 2) % width - width / 2) > 8
    if agree[best] < _AGREE or agree[best] < _CLEARLY * agree[away].max(initial=0.0):
        return None
    return float((best * 360 / width + 180) % 360 - 180)


def _edges(sheet: Array) -> tuple[Array, Array]:
    """Edges without their mean level, zero where nothing is shown, and what is shown, both (H, W) float."""
    grey = cv2.cvtColor(sheet[..., :3], cv2.COLOR_RGB2GRAY).astype(np.float32)
    x, y = (cv2.Sobel(grey, cv2.CV_32F, *d) for d in ((1, 0), (0, 1)))
    shown = cv2.erode((sheet[..., 3] > 0).astype(np.uint8), np.ones((5, 5), np.uint8)).astype(np.float32)
    edges = np.log1p(np.hypot(x, y)) * shown
    blurred = cv2.GaussianBlur(edges, (0, 0), 1.5)
    # against the mean of each row: land and sky alone would agree at every turn
    rows = shown.sum(1, keepdims=True)
    mean = np.where(rows > 0, (blurred * shown).sum(1, keepdims=True) / np.maximum(rows, 1), 0)
    return (blurred - mean) * shown, shown


def laid_beside(
    kept: ScoutPicture, data: bytes, front: ReprojectedScouts | None, facing_deg: float, others: bool
) -> ScoutPicture:
    """A new picture turned to where it belongs: by compass, else by what it shows of the one in front, else as it is.

    ``facing_deg`` is the bearing of the map's yaw 0, which the compass may only contradict while ``others`` lie there.
    """
    if kept.facing_deg is not None and others:
        return _turned(kept, kept.facing_deg - facing_deg, "Turned by the compass in its file.")
    if front is not None:
        turn = turn_between(front, _reprojected(kept, data))
        if turn is not None:
            return _turned(kept, turn, "Turned to where it shows the same as the picture in front.")
    return kept


def _turned(kept: ScoutPicture, turn_deg: float, why: str) -> ScoutPicture:
    yaw = (turn_deg + 180) % 360 - 180
    return replace(kept, turn_deg=(round(yaw, 2), 0.0, 0.0), told=(*kept.told, why))
