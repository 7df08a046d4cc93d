"""What was done at the rim of a picture, and what it costs."""

from __future__ import annotations

from dataclasses import dataclass

#: Drawn so many times as large as elsewhere, or bent by so many pixels of a frame's width, it shows.
_TOO_LARGE, _TOO_BENT_PX = 1.6, 12.0


@dataclass(frozen=True)
class Stretched:
    """The rim taken up by a warp: by how many times it is drawn larger where most, and how far straight lines bend at most."""

    largest: float
    bow_px: float

    @property
    def sentence(self) -> str:
        """What it costs, in words."""
        told = f"The rim is stretched to a rectangle: drawn up to {self.largest:.2f} times as large, straight lines bent by up to {self.bow_px:.1f} px."
        if self.largest > _TOO_LARGE or self.bow_px > _TOO_BENT_PX:
            told += " People and buildings near the rim may look wrong: look there, or crop instead."
        return told


@dataclass(frozen=True)
class InventedArea:
    """Something invented: its rectangle (u, v are the middle) and pixels, on the canvas."""

    u: float
    v: float
    width: float
    height: float
    pixels: int


@dataclass(frozen=True)
class Filled:
    """The gaps filled with what is invented: ``areas`` of it and how many pixels, how many pixels of canvas there are, and
    which ``left`` sides stay open since more than sky, grass or water reaches them."""

    areas: tuple[InventedArea, ...]
    pixels: int
    of_pixels: int
    left: tuple[str, ...] = ()

    @property
    def sentence(self) -> str:
        """What it costs, in words."""
        if not self.pixels and not self.left:
            return "Nothing was missing, so nothing was invented."
        told = (
            f"{100 * self.pixels / self.of_pixels:.1f} % of the picture is invented."
            if self.pixels
            else "Nothing was invented."
        )
        if self.left:
            told += (
                f" Left open: {', '.join(self.left)}. Something else than sky, grass or water reaches the rim there, and what is "
                "invented would show: crop, or have all of it filled, whatever is there."
            )
        return told
