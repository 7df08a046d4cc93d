"""All that decides the pixels of a picture, frozen; who renders it, and where, is another matter.

A plan can be pickled and sent to another process or machine that sees the same frame files:
``render_tile(plan, tile)`` gives the same pixels everywhere.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from threading import Lock
from typing import Any, Generic, Protocol, TypeVar

import numpy as np
from cachetools import LRUCache

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.cache import SizedCache
from idle_lantern.core.base.runners import Runner
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import SRGB, ColourSpace
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.compositing.canvas.warp import Tile
from idle_lantern.core.compositing.light.dust import Spot
from idle_lantern.core.compositing.light.vignetting import Vignetting, without_vignetting
from idle_lantern.core.compositing.render.compositor import Compositor
from idle_lantern.core.compositing.render.frame_views import Levels
from idle_lantern.core.frames.content import sha256_of
from idle_lantern.core.frames.decoded import DecodedFrames
from idle_lantern.core.frames.masks import Mask
from idle_lantern.core.frames.reading import FrameInfo, read_again
from idle_lantern.core.optics.known import Lateral
from idle_lantern.core.registration.solve.poses import Poses

T = TypeVar("T")
T_co = TypeVar("T_co", covariant=True)

#: Full frames held while tiles are made, unless a plan tells another limit.
CACHE_BYTES = 450_000_000
#: Plans whose frames are kept in memory between calls of ``render_tile``.
_PLANS_KEPT = 2


#: Where a file of some content (SHA-256) lies, by the path that it was told with; it can be pickled.
Resolver = Callable[[str, Path], Path]


def as_told(_content: str, path: Path) -> Path:
    """Where it was told to lie: on the machine that told it, or where all see the same folders."""
    return path


class FrameSource(Protocol):
    """Where the pixels of a plan's frames come from."""

    def load(self, k: int) -> Picture:
        """The k-th frame of the plan's poses."""

    @property
    def identity(self) -> object:
        """What tells other frames apart."""


@dataclass(frozen=True)
class FilesOfFrames:
    """Frames read from their files at a fraction of their size, in one space of colour.

    They are known by what they hold (``contents``, SHA-256): ``resolver`` finds a file of that content where the work is done.
    """

    infos: tuple[FrameInfo, ...]
    space: ColourSpace
    reduce: int
    contents: tuple[str, ...]
    resolver: Resolver = as_told

    @staticmethod
    def of(
        infos: Sequence[FrameInfo], space: ColourSpace, reduce: int = 1, resolver: Resolver = as_told
    ) -> FilesOfFrames:
        """The frames as their files are now; raises UnreadableFrame where one is gone."""
        contents = tuple(sha256_of(info.path) for info in infos)
        return FilesOfFrames(tuple(infos), space, reduce, contents, resolver)

    def load(self, k: int) -> Picture:
        """Read a frame; raises UnreadableFrame."""
        info = self.infos[k]
        found = replace(info, path=self.resolver(self.contents[k], info.path))
        return read_again(found, self.reduce).in_space(self.space)

    @property
    def identity(self) -> object:
        """What the files hold, and how they are read."""
        return self.reduce, self.space, self.contents


@dataclass(frozen=True)
class FramesInMemory:
    """Frames that are there: reduced ones, for a rough picture."""

    pictures: tuple[Picture, ...]

    def load(self, k: int) -> Picture:
        """The frame as it is."""
        return self.pictures[k]

    @property
    def identity(self) -> object:
        """The pixels themselves."""
        return [hashlib.sha256(p.pixels.tobytes()).hexdigest() for p in self.pictures]


@dataclass(frozen=True, eq=False)
class RenderPlan:
    """What tiles are made from.

    Attributes
    ----------
    poses, canvas
        Geometry, with the lenses of the frames as ``frames`` gives them.
    frames : FrameSource
        In the order of ``poses.frames``.
    label : (h, w) int array
        Winning frame on the reduced canvas, -1 where none shows.
    gains : (F, 3) array
    vignetting : Vignetting
        Taken out of the frames before anything else.
    full_scale : int
        255 or 65535.
    with_alpha : frozenset of int
        Frames that bring an alpha of their own.
    masks : mapping of int to Mask
        By index into ``poses.frames``.
    blend : bool
        Blend along the seams; rough pictures do without.
    lateral : pair of (a, b) or None
        Lateral colour of red and blue, taken out as frames are sampled.
    dust : tuple of Spot
        Found on the sensor; ``masks`` hide it where another frame shows the place clean.
    carried : tuple of int
        Frames in which the head at the nadir was found; ``masks`` hide it where another frame shows the ground.
    cache_bytes : int
        Most memory for full frames.
    space : ColourSpace
        Of the frames as ``frames`` gives them, and of the picture.
    """

    poses: Poses
    canvas: Canvas
    frames: FrameSource
    label: Array
    gains: Array
    vignetting: Vignetting
    full_scale: int
    with_alpha: frozenset[int] = frozenset()
    masks: Mapping[int, Mask] = field(default_factory=dict)
    blend: bool = True
    lateral: tuple[Lateral, Lateral] | None = None
    dust: tuple[Spot, ...] = ()
    carried: tuple[int, ...] = ()
    cache_bytes: int = CACHE_BYTES
    space: ColourSpace = SRGB

    @property
    def dtype(self) -> Any:
        """Of the picture's pixels."""
        return np.uint8 if self.full_scale == 255 else np.uint16

    @cached_property
    def common(self) -> str:
        """A name for what decides all tiles alike: canvas, geometry, files, fall-off."""
        c, p = self.canvas, self.poses
        shape = (c.projection, c.width, c.height, c.px_per_rad, c.centre_px, c.canvas_from_world.tobytes())
        bent = None if c.stretch is None else (c.stretch.origin, c.stretch.step, c.stretch.at.tobytes())
        turned = (p.world_from_camera.tobytes(), p.lenses, [b.tobytes() for b in p.bends if b is not None])
        light = (self.vignetting, self.full_scale, self.blend, self.lateral, self.label.shape, self.space)
        parts = (shape, bent, turned, light, sorted(self.with_alpha), self.frames.identity)
        return hashlib.sha256(repr(parts).encode("utf-8", "surrogatepass")).hexdigest()

    @cached_property
    def key(self) -> str:
        """A name for all that decides a pixel."""
        painted = [(k, m.hide.tobytes(), m.keep.tobytes()) for k, m in sorted(self.masks.items())]
        parts = (self.common, painted, self.gains.tobytes(), self.label.tobytes())
        return hashlib.sha256(repr(parts).encode()).hexdigest()

    def even_frame(self, k: int, picture: Picture | None = None) -> Levels:
        """The k-th frame with its fall-off taken out, and its half."""
        picture = picture or self.frames.load(k)
        pixels = without_vignetting(picture.pixels, self.poses.lenses[k], self.vignetting, self.space)
        return Levels.of(replace(picture, pixels=pixels))

    def compositor(self, load: Callable[[int], Levels]) -> Compositor:
        """What makes the tiles, with another way to the frames."""
        return Compositor(
            self.poses,
            self.canvas,
            load,
            self.label,
            self.gains,
            self.full_scale,
            self.with_alpha,
            self.masks,
            blend=self.blend,
            lateral=self.lateral,
            space=self.space,
        )


_compositors: LRUCache[str, Compositor] = LRUCache(_PLANS_KEPT)
_compositors_lock = Lock()


def compositor_of(plan: RenderPlan) -> Compositor:
    """What makes the tiles of a plan in this process; frames of the last plans stay in memory, as many as ``plan.cache_bytes`` holds."""
    with _compositors_lock:
        compositor = _compositors.get(plan.key)
        if compositor is None:
            frames = SizedCache(plan.even_frame, lambda levels: levels.nbytes, plan.cache_bytes)
            compositor = _compositors[plan.key] = plan.compositor(frames.load)
    return compositor


@contextmanager
def sharing(plan: RenderPlan, frames: SizedCache[int, Levels]) -> Iterator[None]:
    """Let tiles of a plan that are made in this process take their frames from a cache that is used for more than them."""
    with _compositors_lock:
        _compositors[plan.key] = plan.compositor(frames.load)
    try:
        yield
    finally:
        with _compositors_lock:
            _compositors.pop(plan.key, None)


def render_tile(plan: RenderPlan, tile: Tile) -> tuple[Array, Array]:
    """Pixels (H, W, 3) and alpha (H, W) of one tile; the same wherever it is called."""
    return compositor_of(plan).tile(tile)


#: What becomes of a tile's pixels and alpha where it is made; it can be pickled.
Finish = Callable[[Array, Array], T_co]


def as_made(pixels: Array, alpha: Array) -> tuple[Array, Array]:
    """The pixels (h, w, 3) and alpha (h, w) themselves."""
    return pixels, alpha


@dataclass(frozen=True)
class RenderTiles(Generic[T_co]):
    """The task of making tiles of a plan; ``finish(pixels, alpha)`` runs where they are made."""

    plan: RenderPlan
    tiles: tuple[Tile, ...]
    finish: Finish[T_co]

    def work(self, index: int) -> T_co:
        """One tile; raises UnreadableFrame where a frame is gone."""
        return self.finish(*render_tile(self.plan, self.tiles[index]))


class TileMaker(Protocol):
    """Who gives the tiles of a plan, in order: a runner, or a picture that was made of them before."""

    def tiles(self, plan: RenderPlan, tiles: Sequence[Tile], finish: Finish[T]) -> Iterator[T]:
        """``finish(pixels, alpha)`` of each tile."""


@dataclass(frozen=True)
class Rendered:
    """Tiles rendered by a runner."""

    runner: Runner

    def tiles(self, plan: RenderPlan, tiles: Sequence[Tile], finish: Finish[T]) -> Iterator[T]:
        """As of ``TileMaker``."""
        return self.runner.run(RenderTiles(plan, tuple(tiles), finish), range(len(tiles)))


def frames_of(plan: RenderPlan, decoded: DecodedFrames | None = None) -> SizedCache[int, Levels]:
    """The even frames of a plan by their places in its poses, made on demand and kept within its memory; those that ``decoded``
    holds are not read again."""

    def even_frame(k: int) -> Levels:
        return plan.even_frame(k, None if decoded is None else decoded.held(plan.poses.frames[k]))

    return SizedCache(even_frame, lambda levels: levels.nbytes, plan.cache_bytes)


__all__ = (
    "FilesOfFrames", "FramesInMemory", "RenderPlan", "RenderTiles", "Rendered", "TileMaker", "as_made", "frames_of", "render_tile",
    "sharing",
)  # fmt: skip
