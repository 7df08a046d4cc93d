"""What a picture file says about how it was taken (EXIF), in and out."""

from __future__ import annotations

import math
import unicodedata
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from PIL import ExifTags, Image

_BASE, _EXIF = ExifTags.Base, ExifTags.IFD.Exif
_SENSOR_DIAGONAL_35MM = math.hypot(36, 24)


@dataclass(frozen=True)
class Metadata:
    """Facts of the exposure; None where the file says nothing.

    ``focal_35mm`` is the focal length that gives the same diagonal field on a frame
    of 36 x 24 mm; ``sensor_width_mm`` follows the longer side.
    ``orientation`` is the EXIF code 1..8, ``fraction_s`` what is beyond the full seconds of ``taken``.
    """

    focal_mm: float | None = None
    focal_35mm: float | None = None
    sensor_width_mm: float | None = None
    aperture: float | None = None
    exposure_s: float | None = None
    iso: float | None = None
    taken: str | None = None
    fraction_s: float = 0.0
    orientation: int = 1
    camera: str | None = None
    lens: str | None = None
    maker: str | None = None
    author: str | None = None
    rights: str | None = None
    description: str | None = None

    @property
    def exposure_value(self) -> float | None:
        """EV at ISO 100, ``log2(N^2 / t) - log2(ISO / 100)`` (ISO 2720); None where a part of it is not told.

        Lenses without a coupled diaphragm tell no aperture: then steps between frames still count, by time and ISO.
        """
        if self.exposure_s is None:
            return None
        return math.log2((self.aperture or 8.0) ** 2 / self.exposure_s) - math.log2((self.iso or 100.0) / 100)

    @property
    def taken_s(self) -> float | None:
        """Time of the exposure in seconds since 1970 by the camera's clock; None where it is not told."""
        try:
            return (
                datetime.strptime(self.taken or "", "%Y:%m:%d %H:%M:%S").replace(tzinfo=UTC).timestamp()
                + self.fraction_s
            )
        except (ValueError, OverflowError):
            return None

    def focal_px(self, width: int, height: int) -> float | None:
        """Focal length in pixels of a frame of that size, None if it cannot be told."""
        if self.focal_mm and self.sensor_width_mm:
            return self.focal_mm * max(width, height) / self.sensor_width_mm
        if self.focal_35mm:
            return self.focal_35mm * math.hypot(width, height) / _SENSOR_DIAGONAL_35MM
        return None


def from_exif(exif: Image.Exif, longer_side_px: int) -> Metadata:
    """Read the facts out of an EXIF block; damaged values count as absent."""
    sub = exif.get_ifd(_EXIF)
    # TIFF/EP keeps the same tags in the first directory
    tags: dict[int, Any] = {**dict(exif), **sub}
    return Metadata(
        focal_mm=_positive(tags.get(_BASE.FocalLength)),
        focal_35mm=_positive(tags.get(_BASE.FocalLengthIn35mmFilm)),
        sensor_width_mm=_sensor_width_mm(tags, longer_side_px),
        aperture=_positive(tags.get(_BASE.FNumber)),
        exposure_s=_positive(tags.get(_BASE.ExposureTime)),
        iso=_positive(tags.get(_BASE.ISOSpeedRatings)),
        taken=_text(tags.get(_BASE.DateTimeOriginal) or tags.get(_BASE.DateTime)),
        fraction_s=_fraction(tags.get(_BASE.SubsecTimeOriginal)),
        orientation=_orientation(tags.get(_BASE.Orientation)),
        camera=_text(tags.get(_BASE.Model)),
        lens=_text(tags.get(_BASE.LensModel)),
        maker=_text(tags.get(_BASE.Make)),
        author=_text(tags.get(_BASE.Artist)),
        rights=_text(tags.get(_BASE.Copyright)),
    )


def in_ascii(words: str) -> str:
    """Words in the letters that EXIF and TIFF hold: accents go, what has no such letter becomes a question mark."""
    plain = unicodedata.normalize("NFKD", words.replace("©", "(c)"))
    return "".join(c for c in plain if not unicodedata.combining(c)).encode("ascii", "replace").decode()


def to_exif(meta: Metadata, width: int, height: int) -> Image.Exif:
    """An EXIF block with the facts, for a frame of that size."""
    exif = Image.Exif()
    exif[_BASE.Orientation.value] = meta.orientation
    exif[_BASE.Software.value] = "Idle Lantern"
    if meta.camera:
        exif[_BASE.Model.value] = meta.camera
    if meta.maker:
        exif[_BASE.Make.value] = meta.maker
    for tag, words in (
        (_BASE.Artist, meta.author),
        (_BASE.Copyright, meta.rights),
        (_BASE.ImageDescription, meta.description),
    ):
        if words:  # EXIF holds ASCII; XMP beside it says it whole
            exif[tag.value] = in_ascii(words)
    sub: dict[int, Any] = {}
    for tag, value in (
        (_BASE.FocalLength, meta.focal_mm),
        (_BASE.FNumber, meta.aperture),
        (_BASE.ExposureTime, meta.exposure_s),
    ):
        if value:
            sub[tag.value] = float(value)
    if meta.iso:
        sub[_BASE.ISOSpeedRatings.value] = int(meta.iso)
    if meta.focal_35mm:
        sub[_BASE.FocalLengthIn35mmFilm.value] = round(meta.focal_35mm)
    if meta.taken:
        exif[_BASE.DateTime.value] = meta.taken
        sub[_BASE.DateTimeOriginal.value] = meta.taken
        if meta.fraction_s:
            sub[_BASE.SubsecTimeOriginal.value] = f"{meta.fraction_s:.3f}"[2:]
    if meta.lens:
        sub[_BASE.LensModel.value] = meta.lens
    if meta.sensor_width_mm:
        per_cm = max(width, height) / meta.sensor_width_mm * 10
        sub[_BASE.FocalPlaneXResolution.value] = per_cm
        sub[_BASE.FocalPlaneYResolution.value] = per_cm
        sub[_BASE.FocalPlaneResolutionUnit.value] = 3
    exif.get_ifd(_EXIF).update(sub)
    return exif


def _sensor_width_mm(tags: dict[int, Any], longer_side_px: int) -> float | None:
    """Length of the sensor's longer side from the focal-plane resolution (EXIF 2.32, 4.6.5)."""
    resolution = _positive(tags.get(_BASE.FocalPlaneXResolution))
    unit_mm = {2: 25.4, 3: 10.0, 4: 1.0}.get(tags.get(_BASE.FocalPlaneResolutionUnit, 2))
    if resolution is None or unit_mm is None:
        return None
    width = longer_side_px / resolution * unit_mm
    # cameras that shrink the picture keep the old resolution: such widths are no sensor's
    return width if 3 < width < 120 else None


def _positive(value: Any) -> float | None:
    try:
        if isinstance(value, (tuple, list)):
            value = value[0]
        number = float(value)
    except (TypeError, ValueError, ZeroDivisionError, IndexError):
        return None
    return number if math.isfinite(number) and number > 0 else None


def _text(value: Any) -> str | None:
    if not isinstance(value, str):
        return None
    cleaned = value.replace("\x00", "").strip()
    return cleaned or None


def _fraction(value: Any) -> float:
    """Digits behind the point of the seconds (EXIF 2.32, 4.6.5)."""
    digits = (_text(value) or "").strip()
    return float(f"0.{digits}") if digits.isdecimal() and digits.isascii() else 0.0


def _orientation(value: Any) -> int:
    return value if isinstance(value, int) and 1 <= value <= 8 else 1
