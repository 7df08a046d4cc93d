"""Pictures of a place, taken to find the framing, as one rough picture whose directions are known.

A handful of overlapping frames is joined by the engine without fine registration; a single photograph is laid by the lens that its
metadata tell; a telephone's sweep is taken for a cylinder and a picture twice as wide as high for a full sphere.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.compositing.canvas.canvas import Canvas, make_canvas
from idle_lantern.core.compositing.light.vignetting import NONE, evened_at
from idle_lantern.core.compositing.render.compose import rough_picture
from idle_lantern.core.frames.decoded import DecodedFrames
from idle_lantern.core.frames.frameset import FrameSet, gather
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.core.registration.match.features import WorkingFrame, working_frame
from idle_lantern.core.registration.solve.poses import Poses
from idle_lantern.core.registration.solve.solve import solve, working_of
from idle_lantern.core.request.options import JoinOptions
from idle_lantern.core.scouting.photograph_level import levelled_photograph

#: Size at which a single picture is looked at, and pixels of a picture that stands for the ground.
_LOOK_MP = 0.5
_SWEEP = 2.3  # a picture without a lens of its own that is wider, times its height, is a sweep
_SPHERE_WITHIN = 0.004  # of twice as wide as high: a full sphere
_SPHERE_PX = 1500  # where it is as wide at least
#: Focal length of a telephone's main camera, for 35 mm film (common practice, no source), where nothing tells another.
_TELEPHONE_MM, _FILM_LONG_MM = 26.0, 36.0
#: How well a horizon is known: of pictures held by hand where nothing in them tells, and where the engine put x-axes level.
_HELD_DEG, _BY_AXES_DEG = 8.0, 2.0
#: How well the horizon of a joined sweep or sphere lies in its middle.
_MIDDLE_DEG = 3.0


class UnknownAngle(InputError):
    """A single photograph does not tell its angle of view, which must then be told by a person."""


@dataclass(frozen=True)
class Glance:
    """A picture at a size to be measured: its pixels with even light, and where each looks.

    Attributes
    ----------
    pixels : (h, w, 3) uint8
        Of sRGB, whatever the file is in.
    azimuth_deg, altitude_deg : (h, w)
        NaN where it shows nothing.
    ev : float or None
        Of the exposure at ISO 100; None where the file does not tell.
    px_per_deg : float
        About its middle.
    """

    name: str
    pixels: Array
    azimuth_deg: Array
    altitude_deg: Array
    ev: float | None
    px_per_deg: float


@dataclass(frozen=True)
class Ground:
    """The rough picture of a place.

    Attributes
    ----------
    canvas, picture
        The rough picture, 8 bit; of one photograph the canvas has the photograph's own pixels and the picture is a smaller one.
    glances : tuple of Glance
        The pictures it is made of, in the order of ``paths``; ``middles_deg`` are the azimuths they look towards.
    pitch_deg, roll_deg, sigma_deg : float
        How the canvas stands against the horizon, as of a camera, and how well that is known.
    told : tuple of str
        In sentences what was taken for granted.
    """

    canvas: Canvas
    picture: Picture
    glances: tuple[Glance, ...]
    paths: tuple[Path, ...]
    middles_deg: tuple[float, ...]
    pitch_deg: float
    roll_deg: float
    sigma_deg: float
    told: tuple[str, ...] = ()


def make_ground(paths: Sequence[Path], field_deg: float | None = None, progress: Progress = SILENT) -> Ground:
    """The ground of one or several pictures; ``field_deg`` is the angle across a single one, where that is known.

    Raises
    ------
    UnreadableFrame
        A picture cannot be read.
    JoinError
        Several pictures do not match each other.
    UnknownAngle
        Nothing tells the angle of view of a single photograph.
    """
    frames = gather(paths)
    if len(frames) > 1:
        return _of_several(frames, progress)
    progress.begin("read", 1)
    look = working_frame(0, DecodedFrames(frames.infos, 0, SRGB), _LOOK_MP)
    progress.advance()
    info = frames.infos[0]
    shape = info.width / info.height
    if field_deg is None and abs(shape / 2 - 1) < _SPHERE_WITHIN and info.width >= _SPHERE_PX:
        return _of_plane(
            frames,
            look,
            "equirectangular",
            info.width / (2 * math.pi),
            "Twice as wide as high: taken for a full sphere.",
        )
    if shape > _SWEEP:
        return _of_sweep(frames, look, field_deg)
    return _of_photograph(frames, look, field_deg)


def _of_several(frames: FrameSet, progress: Progress) -> Ground:
    options = JoinOptions(refine=False, profile=SRGB)
    store = DecodedFrames(frames.infos, 0, SRGB)
    solution = solve(frames, options, None, progress, store)
    canvas = make_canvas(solution.poses, solution.seen)
    working = working_of(solution, store)
    joined = rough_picture(solution, canvas, options, working=working)
    poses = solution.poses
    at = [frames.infos[f] for f in poses.frames]
    glances = []
    for i, (look, info) in enumerate(zip(working, at)):
        pixels = look.picture.pixels
        if joined.vignetting != NONE:
            pixels = evened_at(pixels, _radius2(poses.lenses[i], look), joined.vignetting)
        glances.append(
            _glance(frames.names[poses.frames[i]], pixels, _rays(poses.lenses[i], look) @ poses.world_from_camera[i].T,
                    info.metadata.exposure_value, poses.lenses[i].focal_px / look.scale[0])
        )  # fmt: skip
    axes = poses.world_from_camera[:, :, 2]
    sigma = _BY_AXES_DEG if solution.level is None else math.degrees(solution.level.sigma_rad)
    told = [f"{frames.names[f]} is not used: {why}" for f, why in solution.reasons.items()]
    _yaw, pitch, roll = rotations.to_yaw_pitch_roll(joined.canvas.canvas_from_world.T)
    return Ground(
        joined.canvas, joined.picture, tuple(glances), tuple(i.path for i in at),
        tuple(float(np.degrees(np.arctan2(a[0], a[2]))) for a in axes), math.degrees(float(pitch)), math.degrees(float(roll)),
        max(sigma, 0.01), tuple(told),
    )  # fmt: skip


def _of_photograph(frames: FrameSet, look: WorkingFrame, field_deg: float | None) -> Ground:
    info = frames.infos[0]
    if field_deg is not None:
        if not 1 <= field_deg < 170:
            raise InputError(
                f"A flat photograph cannot span {field_deg:g}°", remedy="Give an angle from 1 to 170 degrees"
            )
        focal = info.width / 2 / math.tan(math.radians(field_deg) / 2)
    else:
        known = info.metadata.focal_px(info.width, info.height)
        if known is None:
            raise UnknownAngle(
                "Does not tell its angle of view", where=info.path.name, remedy="Give it in degrees across with --field"
            )
        focal = known
    lens = Lens("rectilinear", focal, info.width, info.height)
    straight = Poses((0,), (lens,), np.eye(3)[None])
    poses, level = levelled_photograph(straight, look)
    turned = poses.world_from_camera[0]
    yaw, pitch, roll = (float(v) for v in rotations.to_yaw_pitch_roll(turned))
    turned = rotations.about_y(-yaw) @ turned  # the picture's middle is yaw 0
    canvas = Canvas(
        Projection("rectilinear"),
        info.width,
        info.height,
        focal,
        ((info.width - 1) / 2, (info.height - 1) / 2),
        turned.T,
    )
    told = () if level else (f"Nothing in it tells the horizon: taken as held level, ± {_HELD_DEG:.0f}°.",)
    glance = _glance(
        frames.names[0],
        look.picture.pixels,
        _rays(lens, look) @ turned.T,
        info.metadata.exposure_value,
        focal / look.scale[0],
    )
    sigma = _HELD_DEG if level is None else math.degrees(level.sigma_rad)
    return Ground(
        canvas,
        look.picture,
        (glance,),
        (info.path,),
        (0.0,),
        math.degrees(pitch),
        math.degrees(roll),
        max(sigma, 0.01),
        told,
    )


def _of_sweep(frames: FrameSet, look: WorkingFrame, field_deg: float | None) -> Ground:
    info = frames.infos[0]
    if field_deg is not None:
        return _of_plane(frames, look, "cylindrical", info.width / math.radians(min(360.0, field_deg)), "")
    film = info.metadata.focal_35mm or _TELEPHONE_MM
    # swept upright: the long side of the sensor stands
    scale = info.height / 2 / (_FILM_LONG_MM / 2 / film)
    scale = max(scale, info.width / (2 * math.pi))
    across = math.degrees(info.width / scale)
    why = f"Taken for an upright sweep by a lens of {film:.0f} mm: {across:.0f}° across. Give --field if it is another angle."
    return _of_plane(frames, look, "cylindrical", scale, why)


def _of_plane(frames: FrameSet, look: WorkingFrame, projection: str, px_per_rad: float, why: str) -> Ground:
    """A picture that is joined already, its horizon in the middle."""
    info = frames.infos[0]
    full = abs(info.width / px_per_rad - 2 * math.pi) < 1e-3
    middle = ((info.width - 1) / 2, (info.height - 1) / 2)
    canvas = Canvas(Projection(projection), info.width, info.height, px_per_rad, middle, full_circle=full)
    h, w = look.picture.pixels.shape[:2]
    x, y = ((np.arange(n) + 0.5) * s - 0.5 for n, s in zip((w, h), look.scale))
    rays = canvas.directions(np.stack(np.meshgrid(x, y), -1))
    glance = _glance(
        frames.names[0], look.picture.pixels, rays, info.metadata.exposure_value, px_per_rad / look.scale[0]
    )
    told = tuple(t for t in (why, "Its horizon is taken to lie in the middle.") if t)
    return Ground(canvas, look.picture, (glance,), (info.path,), (0.0,), 0.0, 0.0, _MIDDLE_DEG, told)


def _glance(name: str, pixels: Array, rays: Array, ev: float | None, px_per_rad: float) -> Glance:
    with np.errstate(invalid="ignore"):
        azimuth = np.degrees(np.arctan2(rays[..., 0], rays[..., 2]))
        altitude = np.degrees(np.arctan2(-rays[..., 1], np.hypot(rays[..., 0], rays[..., 2])))
    return Glance(name, pixels, azimuth, altitude, ev, math.radians(px_per_rad))


def _rays(lens: Lens, look: WorkingFrame) -> Array:
    """Directions in the camera of the pixels of a reduced frame, (h, w, 3)."""
    return lens.unproject(_places(look))


def _places(look: WorkingFrame) -> Array:
    h, w = look.picture.pixels.shape[:2]
    x, y = ((np.arange(n) + 0.5) * s - 0.5 for n, s in zip((w, h), look.scale))
    return np.stack(np.meshgrid(x, y), -1)


def _radius2(lens: Lens, look: WorkingFrame) -> Array:
    off = _places(look) - np.asarray(lens.principal_px)
    return np.asarray(4 * (off**2).sum(-1) / (lens.width**2 + lens.height**2))
