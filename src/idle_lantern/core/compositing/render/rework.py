"""A picture made again after a change: which of its tiles are as they were, and its light, which stays.

Each tiled picture tells in its own description what every tile was made from. The next one takes over, still packed,
whatever would come out the same: after a stroke of paint a few tiles are made and not hundreds. Light is held while
the frames and their lenses are the same: paint in one corner must not brighten the other.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import tifffile

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.fingerprint import code_fingerprint
from idle_lantern.core.colour.space import ColourSpace
from idle_lantern.core.compositing.canvas.warp import Tile
from idle_lantern.core.compositing.light.vignetting import Vignetting
from idle_lantern.core.compositing.render.plan import RenderPlan
from idle_lantern.core.frames.content import sha256_of
from idle_lantern.core.frames.frameset import FrameSet
from idle_lantern.core.pictures.packing import unpacked_tile
from idle_lantern.core.pictures.pyramid import PyramidInfo
from idle_lantern.core.pictures.source import TILE
from idle_lantern.core.pictures.tiled import TiledPicture
from idle_lantern.core.registration.solve.poses import Poses

_KEY = "made_from"
_DIGITS = 16


@dataclass(frozen=True)
class Light:
    """What was evened: gains (F, 3) and fall-off; ``of`` names the frames that it holds for."""

    gains: Array
    vignetting: Vignetting
    of: str


@dataclass(frozen=True)
class MadeFrom:
    """What a picture was made from: of all its tiles, of each row by row, which of them have no gap, and its light."""

    whole: str
    tiles: tuple[str, ...]
    full: tuple[bool, ...]
    light: Light


class EarlierPicture:
    """A picture on disk, what it was made from, and its tiles; ``None`` of ``open`` where it tells nothing."""

    def __init__(self, picture: TiledPicture, made: MadeFrom) -> None:
        self._picture, self.made = picture, made

    @staticmethod
    def open(path: Path | None) -> EarlierPicture | None:
        """The picture of an earlier join, where it can be read and tells what it was made from."""
        if path is None or not path.is_file():
            return None
        with contextlib.suppress(InputError, KeyError, TypeError, ValueError, AttributeError, IndexError):
            picture = TiledPicture(path)
            told = picture.told[_KEY]
            gains = np.asarray(told["gains"], float)
            light = Light(gains, (float(told["falloff"][0]), float(told["falloff"][1])), str(told["light_of"]))
            text = str(told["tiles"])
            keys = tuple(text[i : i + _DIGITS] for i in range(0, len(text), _DIGITS))
            full = tuple(c == "1" for c in str(told["full"]))
            columns, rows = (-(-side // TILE) for side in picture.sizes[0])
            sound = len(keys) == len(full) == columns * rows and gains.ndim == 2 and gains.shape[1] == 3
            return EarlierPicture(picture, MadeFrom(str(told["whole"]), keys, full, light)) if sound else None
        return None

    def packed(self, level: int, row: int, column: int) -> bytes:
        """As of ``TiledPicture``."""
        return self._picture.packed(level, row, column)

    def whole(self, level: int, row: int, column: int) -> Array:
        """A tile (TILE, TILE, C), nothing beyond the picture's rim.

        Raises
        ------
        InputError
            It is damaged.
        """
        shape = (TILE, TILE, self._picture.channels)
        try:
            return unpacked_tile(self.packed(level, row, column), shape, self._picture.dtype)
        except ValueError as error:
            where = str(self._picture.path)
            raise InputError("A part of the picture is damaged", where=where, remedy="Join again") from error

    def alpha(self, index: int, tile: Tile, info: PyramidInfo) -> Array:
        """Where a tile shows anything, (H, W); raises as ``whole``."""
        if self.made.full[index]:
            return np.ones((tile.height, tile.width), np.uint8)
        return self.whole(0, index // info.columns, index % info.columns)[: tile.height, : tile.width, 3]


def light_of(poses: Poses, frames: FrameSet, profile: ColourSpace | None) -> str:
    """A name for the frames that light was evened between."""
    contents = [sha256_of(frames.infos[f].path) for f in poses.frames]
    return _hash((poses.frames, poses.lenses, profile, contents))


def made_from(
    plan: RenderPlan, tiles: Sequence[Tile], info: PyramidInfo, light: str, *, alone: bool = True
) -> MadeFrom:
    """What a picture of these tiles will be made from; gaps are not known yet.

    Tiles that are not made ``alone``, each for itself, can be taken over by no other picture.
    """
    compositor = plan.compositor(plan.even_frame)
    keys = tuple(_hash((tile, compositor.made_from(tile))) for tile in tiles)
    whole = _hash((code_fingerprint(), plan.common, info)) if alone else ""
    return MadeFrom(whole, keys, (False,) * len(keys), Light(plan.gains, plan.vignetting, light))


def same_tiles(new: MadeFrom, earlier: EarlierPicture | None) -> frozenset[int]:
    """Places of the tiles that need not be made again."""
    if earlier is None or not new.whole or earlier.made.whole != new.whole or len(earlier.made.tiles) != len(new.tiles):
        return frozenset()
    return frozenset(i for i, (a, b) in enumerate(zip(new.tiles, earlier.made.tiles)) if a == b)


def write_made_from(path: Path, info: PyramidInfo, made: MadeFrom, full: Sequence[bool]) -> None:
    """Let a finished pyramid tell what it was made from.

    Raises
    ------
    OSError
        The disk is full.
    """
    told = {
        "whole": made.whole,
        "tiles": "".join(made.tiles),
        "full": "".join("01"[f] for f in full),
        "light_of": made.light.of,
        "gains": made.light.gains.tolist(),
        "falloff": list(made.light.vignetting),
    }
    if all(math.isfinite(g) for row in told["gains"] for g in row):
        tifffile.tiffcomment(path, json.dumps({**info.told, _KEY: told}))


def _hash(parts: object) -> str:
    return hashlib.sha256(repr(parts).encode("utf-8", "surrogatepass")).hexdigest()[:_DIGITS]
