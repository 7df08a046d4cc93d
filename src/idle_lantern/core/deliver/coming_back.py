"""What comes back from another program: told from the joined picture, and kept as a file that a recipe can lay over it."""

from __future__ import annotations

import hashlib
import os
import tempfile
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.atomic import make_folder
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.colour.convert import eight_bit
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.deliver.writing import write_source
from idle_lantern.core.finish.drawn import Place
from idle_lantern.core.finish.retouched import as_deep, full_of, in_space, looks_of, size_told
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.directions import CanvasDirections
from idle_lantern.core.pictures.resized import ResizedPicture
from idle_lantern.core.pictures.source import HeldPicture, PictureSource, reduced, region
from idle_lantern.core.pictures.tiled import open_picture

#: Pictures are compared at so many pixels of their longer side; less alike than this they show different things.
_COMPARED_PX, _LEAST_ALIKE = 512, 0.5
#: What rounding to 8 bit moves a value by, in levels.
_ROUNDED = 1


@dataclass(frozen=True)
class TakenIn:
    """What came back: the name of the file that holds it, where its canvas looks, whether it was made of the finished picture, and
    what share of the picture was changed."""

    asset: str
    looks_deg: tuple[Place, ...]
    of_finished: bool
    changed: float


def take_in(
    path: Path,
    joined: PictureSource,
    handed_on: tuple[PictureSource, PictureSource],
    box: Rectangle,
    canvas: CanvasDirections,
    folder: Path,
    progress: Progress = SILENT,
) -> TakenIn:
    """Keep in ``folder`` what a picture from another program changes of a joined one.

    ``path`` is a picture of all of the canvas, or of its crop ``box``, made of one of those that were ``handed_on``, as joined or
    finished: of whichever it is more like. Where it is the joined picture but for rounding nothing of it is kept, so that the depth
    of that one stays there.

    Raises
    ------
    InputError
        It has another size, shows something else, or cannot be read or kept; nothing is left.
    Cancelled
        Stopped; nothing is left.
    """
    back = in_space(open_picture(path), joined)
    whole = Rectangle(0, 0, *joined.sizes[0])
    at = next((b for b in (whole, box) if back.sizes[0] == (b.width, b.height)), None)
    if at is None:
        crop = "" if box == whole else f", its crop {box.width} x {box.height}"
        raise InputError(
            f"Has {size_told(back)}; the joined picture has {size_told(joined)}{crop}",
            where=path.name,
            remedy="Save it at the size at which it was handed on",
        )
    likeness = [_likeness(back, of, at) for of in handed_on]
    if max(alike for alike, _apart in likeness) < _LEAST_ALIKE:
        raise InputError("Shows something else than the joined picture", where=path.name, remedy="Choose another file")
    changes = _Changes(joined, back, at)
    made = Path()
    try:
        make_folder(folder, inside=folder.parent)
        with tempfile.TemporaryDirectory(dir=folder, prefix=".") as beside:
            made = Path(beside) / "retouched.tif"
            write_source(changes, made, progress=progress)
            with made.open("rb") as stream:
                name = f"{hashlib.file_digest(stream, 'sha256').hexdigest()}.tif"
            os.replace(made, folder / name)
    except OSError as error:
        raise InputError(f"Cannot be kept ({error.strerror})", where=str(folder), remedy="Free some space") from error
    of_finished = likeness[1][1] < likeness[0][1]
    return TakenIn(name, looks_of(canvas, joined.sizes[0]), of_finished, changes.share)


class _Changes:
    """What a picture that came back changes of the joined one: its colours, and alpha only where they differ."""

    def __init__(self, joined: PictureSource, back: PictureSource, at: Rectangle) -> None:
        self._joined, self._back, self._at = joined, back, at
        self.sizes, self.tile_px, self.space = joined.sizes[:1], joined.tile_px, joined.space
        self._counted: dict[tuple[int, int], tuple[int, int]] = {}

    @property
    def share(self) -> float:
        """The share of what was read so far that is changed."""
        changed, shown = (sum(counts) for counts in zip(*self._counted.values())) if self._counted else (0, 0)
        return changed / max(1, shown)

    def tile(self, level: int, row: int, column: int) -> Array:
        """One tile (h, w, 4)."""
        below = self._joined.tile(0, row, column)
        h, w = below.shape[:2]
        left, top = column * self.tile_px, row * self.tile_px
        box = Rectangle(left, top, w, h)
        at = self._at
        x0, y0 = max(box.left, at.left), max(box.top, at.top)
        x1, y1 = min(left + w, at.left + at.width), min(top + h, at.top + at.height)
        like = region(self._back, Rectangle(0, 0, 1, 1))
        made = np.zeros((h, w, 4), like.dtype)
        made[..., :3] = _as_shallow(below[..., :3], like.dtype)
        if x1 <= x0 or y1 <= y0:
            return made
        above = region(self._back, Rectangle(x0 - at.left, y0 - at.top, x1 - x0, y1 - y0))
        inside = np.s_[y0 - top : y1 - top, x0 - left : x1 - left]
        alpha = above[..., 3] if above.shape[2] == 4 else np.full(above.shape[:2], full_of(like.dtype), like.dtype)
        if below.dtype == like.dtype:
            other = (below[inside][..., :3] != above[..., :3]).any(2)
        else:
            apart = eight_bit(below[inside][..., :3]).astype(np.int16) - eight_bit(above[..., :3])
            other = (np.abs(apart) > _ROUNDED).any(2)
        shown = below[inside][..., 3] > 0 if below.shape[2] == 4 else np.ones(other.shape, bool)
        # a file without alpha has black where nothing is shown
        changed = (alpha > 0) & np.where(shown, other, above[..., :3].any(2))
        made[inside][..., :3] = above[..., :3]
        made[inside][..., 3] = np.where(changed, alpha, 0)
        self._counted[row, column] = int((changed & shown).sum()), int(shown.sum())
        return made


def _likeness(back: PictureSource, of: PictureSource, at: Rectangle) -> tuple[float, float]:
    """How alike the greys of two pictures are (their correlation), and how far apart their values, from 0 to 1."""
    small = ResizedPicture(back, _COMPARED_PX)
    one = region(small, Rectangle(0, 0, *small.sizes[0]))
    level = reduced(of, 4 * _COMPARED_PX)
    scale = level.shape[1] / of.sizes[0][0], level.shape[0] / of.sizes[0][1]
    left, top = round(at.left * scale[0]), round(at.top * scale[1])
    right, bottom = round((at.left + at.width) * scale[0]), round((at.top + at.height) * scale[1])
    part = np.ascontiguousarray(level[top:bottom, left:right])
    alpha = part[..., 3] if part.shape[2] == 4 else None
    held = ResizedPicture(
        HeldPicture(Picture(np.ascontiguousarray(part[..., :3]), alpha, space=of.space)), _COMPARED_PX
    )
    other = region(held, Rectangle(0, 0, *held.sizes[0]))
    h, w = min(one.shape[0], other.shape[0]), min(one.shape[1], other.shape[1])
    seen = np.ones((h, w), bool)
    for pixels in (one, other):
        if pixels.shape[2] == 4:
            seen &= pixels[:h, :w, 3] > 0
    values = [eight_bit(p[:h, :w, :3])[seen].astype(np.float32) / 255 for p in (one, other)]
    if seen.sum() < 16:
        return 0.0, 1.0
    greys = [v.mean(1) - v.mean() for v in values]
    alike = float((greys[0] * greys[1]).sum() / max(1e-9, np.linalg.norm(greys[0]) * np.linalg.norm(greys[1])))
    return alike, float(np.abs(values[0] - values[1]).mean())


def _as_shallow(pixels: Array, dtype: np.dtype[Any]) -> Array:
    """Pixels in another kind, rounded where that is shallower."""
    if np.result_type(pixels.dtype, dtype) == dtype:
        return as_deep(pixels, dtype)
    if dtype.kind != "f" and pixels.dtype.kind == "f":
        return np.asarray(np.rint(pixels.clip(0, 1) * np.float32(full_of(dtype))), dtype)
    return np.asarray(np.rint(pixels / np.float32(full_of(pixels.dtype) / full_of(dtype))), dtype)
