"""Parts of frames that must not show, or must: painted pictures beside the frames.

A mask is a PNG of any size, laid over its frame corner to corner: dark paint hides, light paint
keeps, middle tones and the see-through ground leave the choice to the seams. Tone, not hue, is the
code: it survives print and colour blindness. Masks are looked for as ``NAME.mask.png`` for the
frame ``NAME.jpg``, so any painting program can make them. Older masks, in pure red (hides) and
pure green (keeps), are still read.
"""

from __future__ import annotations

import io
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
from PIL import Image

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.atomic import write_bytes
from idle_lantern.core.base.errors import InputError, UnreadableFrame
from idle_lantern.core.frames.frameset import MASK_ENDING
from idle_lantern.core.frames.reading import read
from idle_lantern.core.geometry.lenses import Lens

#: What is written: ink for what is hidden, sand for what is kept.
HIDE_COLOUR, KEEP_COLOUR = (30, 28, 48), (244, 232, 206)
#: Brightness (ITU-R BT.601 luma, 0 to 255) up to which paint is dark, and from which it is light.
_DARK, _LIGHT = 85, 170
#: Opacity from which paint counts; and of a colour's share so much made paint red or green in the older code.
_STRONG, _WEAK = 128, 110
#: Masks are held no larger than this; seams do not follow finer outlines.
_LONGEST = 1500
#: A mask made smaller keeps its frame's shape to this share, by rounding.
_SAME_SHAPE = 0.03


@dataclass(frozen=True)
class Mask:
    """What of a frame is hidden and what is kept, (h, w) uint8 of 0 or 255 each."""

    hide: Array
    keep: Array

    def hidden_at(self, places: Array, lens: Lens) -> Array:
        """Whether frame pixels (H, W, 2) are hidden, bool."""
        return _at(self.hide, places, lens)

    def kept_at(self, places: Array, lens: Lens) -> Array:
        """Whether frame pixels (H, W, 2) are to show, bool."""
        return _at(self.keep, places, lens)


Masks = Mapping[int, Mask]
#: Of a frame that shows nowhere.
WHOLLY_HIDDEN = Mask(np.full((2, 2), 255, np.uint8), np.zeros((2, 2), np.uint8))


def together(masks: Masks, more: Masks) -> dict[int, Mask]:
    """What is painted, and what the program hides or keeps beside that: where both speak, what is painted counts."""
    result = dict(masks)
    for i, mask in more.items():
        if i not in result:
            result[i] = mask
            continue
        painted = result[i]
        hide, keep = (
            cv2.resize(part, painted.hide.shape[::-1], interpolation=cv2.INTER_AREA) > 60
            for part in (mask.hide, mask.keep)
        )
        result[i] = Mask(
            np.where(hide & (painted.keep == 0), 255, painted.hide).astype(np.uint8),
            np.where(keep & (painted.hide == 0), 255, painted.keep).astype(np.uint8),
        )
    return result


def read_mask(path: Path, frame_size: tuple[int, int] | None = None) -> Mask:
    """A painted mask; ``frame_size`` is the width and height of the frame that it is to lie on.

    Raises
    ------
    InputError
        It cannot be read as a picture, or is of another shape than its frame.
    """
    try:
        picture = read(path)
    except UnreadableFrame as error:
        raise InputError(
            f"Is no mask that can be read ({error.what[0].lower()}{error.what[1:]})",
            where=error.where,
            remedy="Save it as PNG anew, or take it away",
        ) from error
    if frame_size is not None:
        height = picture.width * frame_size[1] / frame_size[0]
        if abs(height - picture.height) > max(1.0, _SAME_SHAPE * height):
            raise InputError(
                f"Is a mask of {picture.width} x {picture.height} pixels, and its frame has {frame_size[0]} x {frame_size[1]}",
                where=str(path),
                remedy="Paint it on the whole frame, held as the frame is",
            )
    pixels, alpha = (None if a is None else _eight_bit(a) for a in (picture.pixels, picture.alpha))
    assert pixels is not None
    full = np.full(pixels.shape[:2], 255, np.uint8) if alpha is None else alpha
    image = Image.fromarray(np.dstack([pixels, full]))
    image.thumbnail((_LONGEST, _LONGEST), Image.Resampling.BOX)
    rgba = np.asarray(image)
    return of_painting(rgba)


def of_painting(rgba: Array) -> Mask:
    """The mask of a painting (h, w, 4) uint8; what is see-through is not painted."""
    red, green, blue, alpha = (rgba[..., c].astype(int) for c in range(4))
    painted = alpha >= _STRONG
    hide = painted & (red >= _STRONG) & (green < _WEAK) & (blue < _WEAK)
    keep = painted & (green >= _STRONG) & (red < _WEAK) & (blue < _WEAK)
    if not (hide.any() or keep.any()) and not painted.all():
        # paint lies on a see-through ground: a picture that is opaque everywhere was not painted on
        tone = (299 * red + 587 * green + 114 * blue) // 1000
        hide, keep = painted & (tone <= _DARK), painted & (tone >= _LIGHT)
    return Mask((hide * 255).astype(np.uint8), (keep * 255).astype(np.uint8))


def mask_bytes(mask: Mask) -> bytes:
    """A mask as the bytes of a PNG painting; equal masks give equal bytes."""
    rgba = np.zeros((*mask.hide.shape, 4), np.uint8)
    for area, colour in ((mask.hide, HIDE_COLOUR), (mask.keep, KEEP_COLOUR)):
        rgba[area > 0] = (*colour, 255)
    stream = io.BytesIO()
    Image.fromarray(rgba).save(stream, "PNG")
    return stream.getvalue()


def write_mask(mask: Mask, path: Path) -> None:
    """Write a mask as a painting, whole or not at all."""
    write_bytes(path, mask_bytes(mask))


def mask_path(folder: Path, name: str) -> Path:
    """Where the mask of a frame of that name lies."""
    return folder / (str(Path(name).with_suffix("")).lstrip("/").replace("/", "__") + MASK_ENDING)


def _eight_bit(samples: Array) -> Array:
    return samples if samples.dtype == np.uint8 else (samples >> 8).astype(np.uint8)


def _at(area: Array, places: Array, lens: Lens) -> Array:
    if not area.any():
        return np.zeros(places.shape[:2], bool)
    h, w = area.shape
    scale = np.array([w / lens.width, h / lens.height], np.float32)
    there = (places + np.float32(0.5)) * scale - np.float32(0.5)
    sampled = cv2.remap(area, there, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    return np.asarray(sampled > 127)
