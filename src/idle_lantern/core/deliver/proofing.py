"""A print on the screen before it is one: what a printer's profile makes of the colours, by LittleCMS, and which it cannot print."""

from __future__ import annotations

import hashlib
import io
from typing import Any, Literal

import numpy as np
from PIL import Image, ImageCms

from idle_lantern.core.base.arrays import Array, Float32Image
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.colour.convert import eight_bit
from idle_lantern.core.colour.profiles import profile_of
from idle_lantern.core.colour.space import ColourSpace
from idle_lantern.core.pictures.operations import Operation, TilePlace
from idle_lantern.core.pictures.source import PictureSource, reduced

Intent = Literal["perceptual", "relative", "paper"]
#: How colours become those of the printer, and how these are shown: with ``paper`` white is the paper's own.
_INTENTS = {
    "perceptual": (ImageCms.Intent.PERCEPTUAL, ImageCms.Intent.RELATIVE_COLORIMETRIC),
    "relative": (ImageCms.Intent.RELATIVE_COLORIMETRIC, ImageCms.Intent.RELATIVE_COLORIMETRIC),
    "paper": (ImageCms.Intent.RELATIVE_COLORIMETRIC, ImageCms.Intent.ABSOLUTE_COLORIMETRIC),
}
#: What cannot be printed is marked by this colour, in stripes so many pixels wide.
_MARK, _STRIPE_PX = np.array([1.0, 0.1, 0.8], np.float32), 4
#: Pixels a side by which the share is told that cannot be printed.
_LOOKED_PX = 700


class PrinterProof(Operation):
    """An operation that shows a picture of ``space`` as a printer's profile prints it; ``mark`` stripes what it cannot.

    Raises
    ------
    InputError
        The data is no profile of a printer.
    """

    name = "proof"

    def __init__(self, data: bytes, space: ColourSpace, intent: Intent = "relative", *, mark: bool = True) -> None:
        self._data, self._intent, self._mark = data, intent, mark
        try:
            printer = ImageCms.ImageCmsProfile(io.BytesIO(data))
            own = ImageCms.ImageCmsProfile(io.BytesIO(profile_of(space)))
            self.title = ImageCms.getProfileDescription(printer).strip() or "a printer"
            self._plain, self._checked = (self._transform(own, printer, intent, check=check) for check in (False, True))
            # by way of the printer's own numbers, which end where its inks do
            inks = {"CMYK": "CMYK", "GRAY": "L"}.get(printer.profile.xcolor_space.strip(), "RGB")
            to_printer, to_screen = _INTENTS[intent]
            self._there = ImageCms.buildTransform(own, printer, "RGB", inks, to_printer)
            self._back = ImageCms.buildTransform(printer, own, inks, "RGB", to_screen)
        except (ImageCms.PyCMSError, OSError, ValueError) as error:
            raise InputError(
                "Is no profile that can be proofed by", remedy="Choose the ICC profile of a printer"
            ) from error

    @staticmethod
    def _transform(own: Any, printer: Any, intent: Intent, *, check: bool) -> Any:
        flags = ImageCms.Flags.SOFTPROOFING | (ImageCms.Flags.GAMUTCHECK if check else ImageCms.Flags.NONE)
        to_printer, to_screen = _INTENTS[intent]
        return ImageCms.buildProofTransform(own, own, printer, "RGB", "RGB", to_screen, to_printer, flags)

    @property
    def key(self) -> str:
        """The profile and how it is shown."""
        return f"{self.name} {hashlib.sha256(self._data).hexdigest()} {self._intent} {self._mark}"

    def apply(self, tile: Float32Image, at: TilePlace) -> Float32Image:
        """What becomes of a tile (h, w, 4), in 8 bit: it is for the screen."""
        eight = np.rint(np.clip(tile[..., :3], 0, 1) * 255).astype(np.uint8)
        shown, outside = self._seen(eight)
        colours = shown.astype(np.float32) / 255
        if self._mark and outside.any():
            y, x = np.ogrid[at.box.top : at.box.top + len(tile), at.box.left : at.box.left + tile.shape[1]]
            stripes = (x + y) // _STRIPE_PX % 2 == 0
            colours[outside & stripes] = _MARK
        return np.dstack([colours, tile[..., 3]])

    def _seen(self, pixels: Array) -> tuple[Array, Array]:
        """Pixels (h, w, 3) uint8 as they are printed, and where (h, w) they cannot be."""
        picture = Image.fromarray(np.ascontiguousarray(pixels))
        plain, checked = (np.asarray(_through(t, picture)) for t in (self._plain, self._checked))
        shown = _through(self._back, _through(self._there, picture))
        return np.asarray(shown), (plain != checked).any(-1)

    def outside_share(self, picture: PictureSource) -> float:
        """Share of what a picture shows that cannot be printed."""
        pixels = eight_bit(reduced(picture, _LOOKED_PX))
        there = pixels[..., 3] > 0 if pixels.shape[2] == 4 else np.ones(pixels.shape[:2], bool)
        _shown, outside = self._seen(pixels[..., :3])
        return float(outside[there].mean()) if there.any() else 0.0


def _through(transform: Any, picture: Image.Image) -> Image.Image:
    made = ImageCms.applyTransform(picture, transform)
    assert made is not None  # only what is changed in its place gives nothing
    return made
