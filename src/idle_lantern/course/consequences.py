"""What became of a run: its frames joined by the engine, and the picture measured against the place as it is."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.sphere import direction
from idle_lantern.core.join.report import FrameRow
from idle_lantern.core.join.report_reading import lens_of
from idle_lantern.core.join.request import Failed, Finished, JoinFrame, JoinRequest
from idle_lantern.core.join.service import run
from idle_lantern.core.pictures.source import reduced
from idle_lantern.core.pictures.tiled import open_picture
from idle_lantern.core.request.options import JoinOptions
from idle_lantern.course.conduct import Conduct, Situation, Taken, camera_of
from idle_lantern.simulator.surfaces import Diorama, look

_CELL_DEG = 2.0  # side of the cells that are compared
_SEARCH_DEG = 0.35  # how far a thing may stand from its place
_CONTRAST = 7.0  # display values from which on a cell shows anything
#: A cell that agrees so well shows what stands there.
_SAME = 0.55
#: Near and far are looked at in so many places across a frame, midway between two to so many degrees, out to this distance; the worst
#: per cent of them count, in a picture whose frames have so many pixels.
_SPREAD_PX, _MIDWAY_DEG, _FAR_M, _WORST, _DELIVERED_PX = 160, 3.0, 1e6, 98, 24e6
#: Spread of what counts as light of a region and not as detail.
_REGION_DEG = 3.0
#: What the lens, one sampling and a JPEG take from detail even when all is right, as a blur in pixels.
_BEST_PX = 0.55
#: Somebody is a place that differs from the empty scene by so many display values, over so many square degrees, higher than wide.
_OTHER, _FIGURE_DEG2 = 32, 0.5


@dataclass(frozen=True)
class Figures:
    """What was measured of a picture; shares from 0 to 1.

    ``placed`` frames that the join used, ``missing`` of the wanted field, ``lost_height`` when the picture is cut to
    full rows, ``wrong`` places that show something else than stands there, ``moved_px`` how far the worst of the others stand off,
    ``parted_px`` how far near and far part where two frames meet, at the size that is delivered,
    ``uneven_ev`` spread of brightness against the place, ``colour`` the same of colour, ``sharp`` detail against what the lens could show, ``burnt`` and ``drowned`` parts
    without any tone, ``evened_ev`` what the join had
    to even out between frames in any colour, ``grain`` in display values, ``again`` people who stand there once more than they are.
    """

    placed: float = 0.0
    missing: float = 1.0
    lost_height: float = 1.0
    wrong: float = 1.0
    moved_px: float = 99.0
    parted_px: float = 99.0
    uneven_ev: float = 9.0
    colour: float = 9.0
    sharp: float = 0.0
    sharp_subject: float = 0.0
    sharp_beside: float = 1.0
    burnt: float = 1.0
    drowned: float = 1.0
    evened_ev: float = 9.0
    grain: float = 99.0
    again: float = 99.0
    frames: float = 0.0
    seconds: float = 0.0


@dataclass(frozen=True)
class Outcome:
    """A run's picture as the wanted field shows it (h, w, 4 uint8), what was measured, and why there is none where it failed."""

    sheet: Array
    figures: Figures
    failed: str = ""


def outcome_of(
    situation: Situation, conduct: Conduct, taken: Taken, folder: Path, progress: Progress = SILENT
) -> Outcome:
    """Join the files of a run and measure the picture.

    Raises
    ------
    InputError
        The folder cannot be written.
    Cancelled
        Stopped by ``progress``.
    """
    events: list[Any] = []
    request = JoinRequest(
        tuple(JoinFrame(path, str(i)) for i, path in enumerate(taken.files)),
        folder / "joined.tif",
        JoinOptions(projection=situation.projection),
        prepared=folder,
    )
    run(request, events.append, progress)
    plain = Figures(frames=len(taken.files), seconds=conduct.seconds)
    end = events[-1]
    if isinstance(end, Failed):
        height, width = directions_of(situation).shape[:2]
        return Outcome(np.zeros((height, width, 4), np.uint8), plain, end.error.sentence)
    assert isinstance(end, Finished)
    result = end.result
    rays = directions_of(situation)
    used = [f for f in result.report.frames if f.used]
    turn = _alignment(used, taken)
    with np.errstate(invalid="ignore"):
        places = result.canvas.pixels(rays @ turn.T)
    sheet = _sampled(reduced(open_picture(result.picture), 6000), places, result.canvas)
    figures = _measured(situation, sheet)
    return Outcome(
        sheet,
        replace(
            figures,
            placed=len(used) / max(1, len(taken.files)),
            parted_px=_parted_px(situation, conduct, used, taken),
            evened_ev=float(np.ptp(np.log2([f.gain for f in used]), axis=0).max()),
            frames=plain.frames,
            seconds=plain.seconds,
        ),
    )


def directions_of(situation: Situation) -> Array:
    """World directions of the wanted field at the frames' own scale, (h, w, 3)."""
    left, right, low, high = situation.field_deg
    px = math.radians(situation.lens.focal_px)
    width, height = max(2, round((right - left) * px)), max(2, round((high - low) * px))
    azimuth = np.radians(situation.facing_deg + left + (np.arange(width) + 0.5) / px)
    altitude = np.radians(high - (np.arange(height) + 0.5) / px)
    rays: Array = direction(azimuth[None, :], altitude[:, None])
    return rays


def as_it_is(situation: Situation, scene: Diorama | None = None) -> Array:
    """The wanted field as the place is, at the first moment, (h, w, 3) uint8."""
    rays = directions_of(situation).astype(np.float32)
    view = look(scene or situation.scene, np.zeros(3), rays, 1 / situation.lens.focal_px)
    shown: Array = (SRGB.from_linear(np.clip(view.light, 0, 1)) * 255 + 0.5).astype(np.uint8)
    return shown


def _parted_px(situation: Situation, conduct: Conduct, used: Sequence[FrameRow], taken: Taken) -> float:
    """How far two frames show the same things apart, midway between them, in pixels of frames of 24 megapixels.

    The place tells where things stand, and the lenses and poses that the join found where its frames show them. So it tells too
    what the small frames of an exercise hide, and what shows at 100 % in a picture that is delivered.
    """
    if not conduct.pupil_mm:
        return 0.0
    lens = situation.lens
    small = camera_of(situation, conduct).finder(_SPREAD_PX)
    pixels = lens.places_px(small.lens.width, small.lens.height)
    delivered = math.sqrt(_DELIVERED_PX / (lens.width * lens.height))
    cameras = dict(zip((path.name for path in taken.files), taken.cameras))
    apart: list[Array] = []
    for one, other in zip(used, used[1:]):
        first, second = cameras[Path(one.file).name], cameras[Path(other.file).name]
        away = np.minimum(small.view(situation.scene, first).distance_m, _FAR_M)[..., None]
        stands = first @ small.pupil_m + away * (lens.unproject(pixels) @ first.T)
        seen, valid = lens.project((stands - second @ small.pupil_m) @ second)
        towards = stands / np.linalg.norm(stands, axis=-1, keepdims=True)
        midway = np.abs(towards @ (first[:, 2] - second[:, 2])) < math.radians(_MIDWAY_DEG)
        there = valid & midway & ((seen > 0) & (seen < (lens.width - 1, lens.height - 1))).all(-1)
        if one.pose is None or other.pose is None or not there.any():
            continue
        shown = [
            lens_of(row).unproject(places[there]) @ np.array(row.pose.rotation).T
            for row, places in ((one, pixels), (other, seen))
            if row.pose is not None
        ]
        apart.append(np.linalg.norm(shown[0] - shown[1], axis=-1) * one.lens.focal_px * delivered if one.lens else [])
    return float(np.percentile(np.concatenate(apart), _WORST)) if apart else Figures.parted_px


def _alignment(used: list[FrameRow], taken: Taken) -> Array:
    """How the join's world lies against the true one: the mean of what the frames tell."""
    names = {path.name: camera for path, camera in zip(taken.files, taken.cameras)}
    total = sum((np.array(f.pose.rotation) @ names[Path(f.file).name].T for f in used if f.pose), np.zeros((3, 3)))
    return rotations.nearest(total)


def _sampled(picture: Array, places: Array, canvas: Any) -> Array:
    scale = np.array([picture.shape[1] / canvas.width, picture.shape[0] / canvas.height])
    at = ((np.nan_to_num(places, nan=-1e6) + 0.5) * scale - 0.5).astype(np.float32)
    if picture.shape[2] == 3:
        picture = np.dstack([picture, np.full(picture.shape[:2], 255, picture.dtype)])
    if picture.dtype == np.uint16:
        picture = (picture >> 8).astype(np.uint8)
    border = cv2.BORDER_CONSTANT
    if canvas.full_circle:
        at[..., 0] %= picture.shape[1]
        picture = np.concatenate([picture, picture[:, :1]], 1)  # the last column runs into the first
    sheet: Array = cv2.remap(picture, at[..., 0], at[..., 1], cv2.INTER_LINEAR, borderMode=border)
    sheet[..., 3] = np.where(sheet[..., 3] > 127, 255, 0)
    return sheet


def _measured(situation: Situation, sheet: Array) -> Figures:
    true, shown = as_it_is(situation), sheet[..., 3] > 0
    if not shown.any():
        return Figures()
    px = math.radians(situation.lens.focal_px)
    grey_true, grey = (cv2.cvtColor(np.ascontiguousarray(p[..., :3]), cv2.COLOR_RGB2GRAY) for p in (true, sheet))
    grey_true = cv2.GaussianBlur(grey_true, (0, 0), _BEST_PX)
    wrong, moved, sharp, grain = _cells(grey_true, grey, shown, px)
    inside = np.zeros(shown.shape, bool)
    if situation.subject_deg is not None:
        left, right, low, high = situation.subject_deg
        top, first = situation.field_deg[3], situation.field_deg[0]
        inside[
            max(0, round((top - high) * px)) : round((top - low) * px),
            max(0, round((left - first) * px)) : round((right - first) * px),
        ] = True
    uneven, colour = _light(true, sheet, shown, px)
    part, darkest = sheet[shown][:, :3], true[shown].max(1)
    return Figures(
        missing=1 - float(shown.mean()),
        lost_height=1 - float(shown.all(1).mean()),
        wrong=wrong,
        moved_px=moved,
        uneven_ev=uneven,
        colour=colour,
        sharp=sharp,
        sharp_subject=_sharpness(grey_true, grey, shown & inside) if inside.any() else 0.0,
        sharp_beside=_sharpness(grey_true, grey, shown & ~inside) if inside.any() else 1.0,
        burnt=float((part.min(1) >= 253).mean()),
        drowned=float(((part.max(1) <= 14) & (darkest > 24)).mean()),
        grain=grain,
        placed=0.0,
        again=max(0.0, _people(situation, sheet) - situation.people) if situation.empty is not None else 0.0,
    )


def _cells(true: Array, grey: Array, shown: Array, px: float) -> tuple[float, float, float, float]:
    """Share of wrong cells, how far the worst fiftieth of the others stand off, median sharpness of those with detail, and grain of those without."""
    cell, search = round(_CELL_DEG * px), max(2, round(_SEARCH_DEG * px))
    wrong, seen, off, sharp, grains = 0, 0, [], [], []
    for y in range(search, true.shape[0] - cell - search, cell):
        for x in range(search, true.shape[1] - cell - search, cell):
            if not shown[y : y + cell, x : x + cell].all():
                continue
            a, b = true[y : y + cell, x : x + cell], grey[y : y + cell, x : x + cell]
            if a.std() < 2.0 and a.max() < 250:
                grains.append(float((b.astype(np.float32) - cv2.GaussianBlur(b, (0, 0), 2.0)).std()))
            if a.std() < _CONTRAST:
                continue
            around = grey[y - search : y + cell + search, x - search : x + cell + search]
            seen += 1
            alike = cv2.matchTemplate(around, a, cv2.TM_CCOEFF_NORMED)
            v, u = np.unravel_index(int(alike.argmax()), alike.shape)
            if float(alike[v, u]) < _SAME:
                wrong += 1
            else:
                off.append(math.hypot(v - search, u - search))
            sharp.append(_detail(b) / max(1e-6, _detail(a)))
    return (
        wrong / seen if seen else 0.0,
        float(np.percentile(off, 98)) if off else 0.0,
        min(1.0, float(np.median(sharp))) if sharp else 0.0,
        float(np.median(grains)) if grains else 0.0,
    )


def _detail(cell: Array) -> float:
    return float(cv2.Laplacian(cell, cv2.CV_32F, ksize=1).std())


def _people(situation: Situation, sheet: Array) -> float:
    """How many stand in the picture."""
    empty = as_it_is(situation, situation.empty)
    off = np.abs(cv2.GaussianBlur(sheet[..., :3], (0, 0), 1.0).astype(int) - cv2.GaussianBlur(empty, (0, 0), 1.0)).max(
        -1
    )
    other = ((off > _OTHER) & (sheet[..., 3] > 0)).astype(np.uint8)
    other = cv2.morphologyEx(other, cv2.MORPH_OPEN, np.ones((3, 3), np.uint8))
    other = cv2.morphologyEx(
        other, cv2.MORPH_CLOSE, np.ones((13, 3), np.uint8)
    )  # a rope before somebody is one of nobody
    _count, _labels, stats, _middles = cv2.connectedComponentsWithStats(other, connectivity=8)
    wide, tall, area = (stats[1:, k] for k in (cv2.CC_STAT_WIDTH, cv2.CC_STAT_HEIGHT, cv2.CC_STAT_AREA))
    return float(((area >= _FIGURE_DEG2 * math.radians(situation.lens.focal_px) ** 2) & (tall > 1.2 * wide)).sum())


def _sharpness(true: Array, grey: Array, where: Array) -> float:
    """Detail of a region against what stands there."""
    inner = cv2.erode(where.astype(np.uint8), np.ones((3, 3), np.uint8)) > 0
    if not inner.any():
        return 0.0
    a, b = (cv2.Laplacian(sheet, cv2.CV_32F, ksize=1)[inner] for sheet in (true, grey))
    return min(1.0, float(b.std()) / max(1e-6, float(a.std())))


def _light(true: Array, sheet: Array, shown: Array, px: float) -> tuple[float, float]:
    """Spread of brightness in EV and of colour in per cent against the place, over the whole field."""
    sigma = _REGION_DEG * px
    weights = cv2.GaussianBlur(shown.astype(np.float32), (0, 0), sigma)
    logs = []
    for picture in (true, sheet):
        linear = np.power(np.clip(picture[..., :3].astype(np.float32) / 255, 0.003, 1), 2.2) * shown[..., None]
        logs.append(np.log2(cv2.GaussianBlur(linear, (0, 0), sigma) / np.maximum(weights, 1e-3)[..., None] + 1e-5))
    ratio = (logs[1] - logs[0])[shown & (weights > 0.5)]
    if not len(ratio):
        return 9.0, 9.0
    bright, balance = ratio[:, 1], ratio[:, [0, 2]] - ratio[:, 1:2]
    uneven = float(np.percentile(bright, 97) - np.percentile(bright, 3))
    colour = float((np.percentile(balance, 97, axis=0) - np.percentile(balance, 3, axis=0)).max())
    return uneven, (2**colour - 1)
