"""What is asked of a delivery: one frozen value, in the outing's document and from the command line alike."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Annotated, Literal

import msgspec
from msgspec import Meta

Sha256 = Annotated[str, Meta(pattern="^[0-9a-f]{64}$", description="SHA-256 of the file's bytes")]


class CoverNadir(msgspec.Struct, frozen=True, tag_field="do", tag="cover-nadir"):
    """Cover what stands under the tripod up to ``radius_deg`` from straight down (a tripod head covers 8 to 20 degrees).

    By a blur of what lies round it, or by ``mark``, a PNG among the assets seen from above with yaw 0 up.
    """

    how: Literal["blur", "mark"] = "blur"
    radius_deg: Annotated[float, Meta(ge=1, le=45, extra={"title": "Reach of the cover", "unit": "degrees"})] = 12.0
    mark: Sha256 | None = None


class TellInvented(msgspec.Struct, frozen=True, tag_field="do", tag="tell-invented"):
    """Tell in a margin below the picture what of it is invented."""


#: What can be done to a picture as it is written; ``operations`` binds each to a picture.
Step = CoverNadir | TellInvented
#: In the order in which they are done.
STEPS: tuple[type[Step], ...] = (CoverNadir, TellInvented)


def _mm(title: str, most: float) -> Meta:
    return Meta(ge=0, le=most, extra={"title": title, "unit": "mm"})


class OnPaper(msgspec.Struct, frozen=True):
    """How a print lies on paper (``papers``): as large as it fits, or by its dots an inch over several ``sheets``; ``width_mm`` sets its size instead. With ``strip`` only a test strip of that print is printed.

    ``bleed_mm`` of it goes beyond the cut, ``wrap_mm`` round the edges of a frame; both show the picture mirrored. From ``seen_from_m``
    it is judged.
    """

    paper: Annotated[str, Meta(min_length=1, max_length=40)] = "A3"
    border_mm: Annotated[float, _mm("Border", 500)] = 10.0
    bleed_mm: Annotated[float, _mm("Bleed", 50)] = 0.0
    wrap_mm: Annotated[float, _mm("Wrap", 200)] = 0.0
    sheets: bool = False
    strip: bool = False
    overlap_mm: Annotated[float, _mm("Overlap of sheets", 100)] = 10.0
    width_mm: Annotated[float, Meta(ge=10, le=200_000, extra={"title": "Width of the print", "unit": "mm"})] | None = (
        None
    )
    seen_from_m: Annotated[float, Meta(ge=0.1, le=100, extra={"title": "Seen from", "unit": "m"})] = 0.5


@dataclass(frozen=True)
class DeliverJob:
    """A delivery.

    Attributes
    ----------
    format : name of what is written (``kinds``)
    quality : of a JPEG, WebP, AVIF or JPEG XL, also of those inside pages and prints
    dpi : the print resolution noted in the file
    profile : ``keep``, ``srgb``, ``p3`` (Display P3), or an ICC profile among the assets
    long_side_px : of the file; None leaves the picture's size
    light : linear light in floats, where the format has both
    operations : in their order
    heading_deg : compass bearing of azimuth 0, for spheres; None where it is not known
    captions : whether a page to zoom into shows the names of marks
    on_paper : how a print lies on its paper
    sharpen_for : what the file is looked at on: sharpened by what that will blur, at the size that is written
    """

    format: Literal[
        "tiff", "png", "jpeg", "exr", "webp", "avif", "jxl",
        "sphere", "sphere-page", "tiles-page", "print", "layers", "cube", "tiles", "iiif",
    ] = "tiff"  # fmt: skip
    quality: Annotated[
        int, Meta(ge=40, le=100, extra={"title": "Quality", "usual": "92 is hard to tell from the original"})
    ] = 92
    dpi: Annotated[
        float,
        Meta(
            ge=20,
            le=2400,
            extra={"title": "Print resolution", "unit": "dpi", "usual": "300 is usual for prints held in the hand"},
        ),
    ] = 300.0
    profile: Annotated[str, Meta(pattern="^(keep|srgb|p3|[0-9a-f]{64})$")] = "keep"
    long_side_px: Annotated[int, Meta(ge=16, le=1_000_000, extra={"title": "Longer side", "unit": "px"})] | None = None
    light: bool = False
    operations: tuple[Step, ...] = ()
    sharpen_for: Literal["none", "screen", "glossy", "matte"] = "none"
    heading_deg: Annotated[float, Meta(ge=0, le=360, extra={"title": "Azimuth 0 faces", "unit": "degrees"})] | None = (
        None
    )
    captions: bool = False
    on_paper: OnPaper = field(default_factory=OnPaper)

    @property
    def nadir(self) -> CoverNadir | None:
        """The cover of the nadir, where one is asked for."""
        return next((step for step in self.operations if isinstance(step, CoverNadir)), None)

    @property
    def tells_invented(self) -> bool:
        """Whether a margin tells what is invented."""
        return any(isinstance(step, TellInvented) for step in self.operations)
