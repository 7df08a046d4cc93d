"""Was it worth it: the joined picture against one wide frame of the same place, in figures."""

from __future__ import annotations

import math
from dataclasses import dataclass

import cv2
import numpy as np

from idle_lantern.core.advice.detail import edge_blur_px, lightness_of, places_to_look, slope_of
from idle_lantern.core.advice.single_frame import SingleFrame, seen_by
from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.pictures.source import HeldPicture, PictureSource

#: Both are compared on so many pixels of the frame's longer side, in blocks of so many.
_COMPARED_PX, _BLOCK_PX = 1600, 32
#: Blurs that are tried, in pixels of the compared frame; a block that is softer by more than this is background.
_BLURS_PX, _SOFTER_PX = (0.0, 0.5, 0.8, 1.2, 1.8, 2.6, 3.8, 5.5, 8.0), 1.0
#: No edge is sharper than its pixel is wide: the deviation of an even spread over one.
_PIXEL = 1 / math.sqrt(12)
#: A block tells something with so much slope of lightness, where the picture shows all of it.
_TEXTURE = 0.004
#: A background is spoken of from this share of what can be compared.
_LEAST_SHARE = 0.05


@dataclass(frozen=True)
class Against:
    """One wide frame against the joined picture.

    Attributes
    ----------
    field_deg, joined_field_deg : across and up
    megapixels, joined_megapixels : of each
    px_per_deg, joined_px_per_deg : in the middle of each
    blur_deg, joined_blur_deg : sigma of sharp edges, as an angle; None where there are too few
    softer_share, softer_deg : share of what both show that the joined picture shows softer, as a shallower depth does, and by how much
    """

    field_deg: tuple[float, float]
    joined_field_deg: tuple[float, float]
    megapixels: float
    joined_megapixels: float
    px_per_deg: float
    joined_px_per_deg: float
    blur_deg: float | None
    joined_blur_deg: float | None
    softer_share: float
    softer_deg: float

    def rows(self) -> list[tuple[str, str, str]]:
        """Title, the frame's figure and the joined picture's."""
        made = [
            ("Field", _field(self.field_deg), _field(self.joined_field_deg)),
            ("Pixels", f"{self.megapixels:.1f} MP", f"{self.joined_megapixels:.1f} MP"),
            ("Resolution", f"{self.px_per_deg:.0f} px/°", f"{self.joined_px_per_deg:.0f} px/°"),
        ]
        if self.blur_deg is not None and self.joined_blur_deg is not None:
            made.append(("Edges", _minutes(self.blur_deg), _minutes(self.joined_blur_deg)))
        if self.softer_share >= _LEAST_SHARE:
            made.append(("Background", "0′", f"{_minutes(self.softer_deg)} softer"))
        return made

    def sentence(self) -> str:
        """Whether it was worth it, and why."""
        wider = self.joined_field_deg[0] * self.joined_field_deg[1] / max(1e-6, self.field_deg[0] * self.field_deg[1])
        finer = self.joined_px_per_deg / self.px_per_deg
        if self.blur_deg is not None and self.joined_blur_deg:
            finer = self.blur_deg / self.joined_blur_deg
        gains = []
        if wider >= 1.25:
            gains.append(f"{wider:.1f} times the field")
        if finer >= 1.25:
            gains.append(f"detail {finer:.1f} times as fine")
        if self.softer_share >= _LEAST_SHARE:
            gains.append(f"a softer background over {100 * self.softer_share:.0f} % of the frame")
        if not gains:
            return "One frame shows as much of it and as finely: the join gained nothing that can be measured."
        told = gains[0] if len(gains) == 1 else f"{', '.join(gains[:-1])} and {gains[-1]}"
        return f"Against one frame the join gained {told}."


def _field(field_deg: tuple[float, float]) -> str:
    return f"{field_deg[0]:.0f}° x {field_deg[1]:.0f}°"


def _minutes(angle_deg: float) -> str:
    return f"{60 * angle_deg:.1f}′"


def compared(frame: SingleFrame, joined: PictureSource, canvas: Canvas, progress: Progress = SILENT) -> Against:
    """Measure a placed frame against the joined picture, finished or not; raises Cancelled."""
    progress.begin("compare", 3)
    lens = frame.lens
    across, up = lens.field_rad()
    width, height = joined.sizes[0]
    px_per_deg, joined_px_per_deg = (math.radians(scale) for scale in (lens.focal_px, canvas.px_per_rad))
    blur = _edges(HeldPicture(frame.picture))
    progress.advance()
    joined_blur = _edges(joined)
    progress.advance()
    share, softer = background(*seen_by(frame, joined, canvas, _COMPARED_PX))
    progress.advance()
    compared_px_per_deg = px_per_deg * min(1.0, _COMPARED_PX / max(lens.width, lens.height))
    return Against(
        (math.degrees(across), math.degrees(up)),
        field_of_canvas(canvas),
        lens.width * lens.height / 1e6,
        width * height / 1e6,
        px_per_deg,
        joined_px_per_deg,
        None if blur is None else math.hypot(blur, _PIXEL) / px_per_deg,
        None if joined_blur is None else math.hypot(joined_blur, _PIXEL) / joined_px_per_deg,
        share,
        softer / compared_px_per_deg,
    )


def field_of_canvas(canvas: Canvas) -> tuple[float, float]:
    """Angles across and up that a canvas spans, in degrees, along its middle row and column."""
    if canvas.full_circle:
        across = 360.0
    else:
        row = np.stack([np.linspace(-0.5, canvas.width - 0.5, 65), np.full(65, (canvas.height - 1) / 2)], -1)
        across = _length_deg(canvas.directions(row))
    column = np.stack([np.full(33, (canvas.width - 1) / 2), np.linspace(-0.5, canvas.height - 0.5, 33)], -1)
    return across, _length_deg(canvas.directions(column))


def _length_deg(rays: Array) -> float:
    rays = rays[np.isfinite(rays).all(-1)]
    return float(np.degrees(np.arccos((rays[1:] * rays[:-1]).sum(-1).clip(-1, 1)).sum()))


def _edges(source: PictureSource) -> float | None:
    places, _even = places_to_look(source)
    return edge_blur_px([lightness_of(source.tile(0, *place), source.space) for place in places])


def background(own: Array, joined: Array) -> tuple[float, float]:
    """How much of a frame (h, w, 3) uint8 the joined picture (h, w, 4) uint8 shows softer: the share, and the blur in pixels, its median.

    The blur is the Gaussian that leaves of the frame's slopes in a block what the joined picture has there.
    """
    one, other = (lightness_of(pixels, SRGB) for pixels in (own, joined))
    shown = _blocks((joined[..., 3] > 0).astype(np.float32)) > 0.999
    slopes = np.stack([_blocks(slope_of(cv2.GaussianBlur(one, (0, 0), s) if s else one)) for s in _BLURS_PX])
    there = _blocks(slope_of(other))
    tells = shown & (slopes[0] > _TEXTURE)
    if not tells.any():
        return 0.0, 0.0
    # one frame and the other may be exposed otherwise: as many blocks as not are as sharp, and those tell the factor
    ratio = there[tells] / slopes[0][tells]
    exposed = float(np.quantile(ratio, 0.75))
    wanted = there[tells] / min(max(exposed, 0.5), 2.0)
    have = slopes[:, tells]
    blur = np.array([np.interp(-w, -h, _BLURS_PX) for w, h in zip(wanted, have.T)])
    softer = blur > _SOFTER_PX
    return float(softer.mean()), float(np.median(blur[softer])) if softer.any() else 0.0


def _blocks(values: Array) -> Array:
    h, w = (n // _BLOCK_PX for n in values.shape)
    cut = values[: h * _BLOCK_PX, : w * _BLOCK_PX].reshape(h, _BLOCK_PX, w, _BLOCK_PX)
    return np.asarray(cut.mean((1, 3)))
