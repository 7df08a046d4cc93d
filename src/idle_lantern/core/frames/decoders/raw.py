"""Camera raw through LibRaw: developed linear, 16 bit, and only then encoded for display."""

from __future__ import annotations

import contextlib
import io
from collections.abc import Callable, Iterator
from dataclasses import dataclass, fields, replace
from datetime import UTC, datetime
from functools import lru_cache
from pathlib import Path
from typing import Any, Literal

import cv2
import numpy as np
from PIL import Image

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import UnreadableFrame
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.frames.boundary import told
from idle_lantern.core.frames.bounds import Claim, check_claim, check_raw, cut_short
from idle_lantern.core.frames.decoders.head import FileHead
from idle_lantern.core.frames.decoders.restated import restated
from idle_lantern.core.frames.metadata import Metadata, from_exif

#: LibRaw's codes for how the camera was held: upside down, turned left, turned right.
_TURNS = {3: 2, 5: 1, 6: 3}
#: Rows at the foot that tell whether a raw file was written to its end.
_FOOT_ROWS = 8
#: TIFF that tells itself by another number than 42.
_ODD_MARKS = (b"IIRO", b"IIRS", b"IIU\0")
_MOST_HEAD_BYTES = 4_000_000
#: Facts that are asked for elsewhere when the file itself does not tell them.
_WANTED = ("focal_mm", "aperture", "exposure_s", "iso", "taken")


@dataclass(frozen=True)
class RawDevelopment:
    """How the mosaic becomes colours; alike for all frames of a set.

    ``white_balance`` gives the multipliers of red, green, blue and second green, None those of the camera.
    ``highlights`` says what becomes of places where one colour is clipped: ``clip`` to white, ``blend`` with
    what is left, or ``rebuild`` from the other colours.
    """

    white_balance: tuple[float, float, float, float] | None = None
    highlights: Literal["clip", "blend", "rebuild"] = "clip"


_HIGHLIGHTS = {"clip": 0, "blend": 2, "rebuild": 5}


def head(path: Path) -> FileHead:
    """Size and facts; what cameras tell nowhere else is asked of LibRaw."""
    with _opened(path, blank=True) as raw:
        width, height = raw.sizes.iwidth, raw.sizes.iheight
        if raw.sizes.flip in (5, 6) and raw.sizes.iwidth == raw.sizes.width:
            width, height = height, width
        # colours of 16 bit, twice, beside the mosaic
        check_claim(path, Claim(width, height, 4, 2))
        metadata = _metadata(path, raw, max(width, height))
    return FileHead(width, height, 16, metadata, raw=True)


#: The power and the slope of sRGB's straight part (IEC 61966-2-1), as LibRaw takes them.
_SRGB = (2.4, 12.92)


def pixels(path: Path, how: RawDevelopment | None = None, *, half: bool = False) -> Picture:
    """The picture in sRGB, 16 bit, upright; ``half`` makes one pixel of each four, quickly."""
    return Picture(_encoded()[linear(path, how, half=half)])


def glance(path: Path) -> Picture:
    """The picture in sRGB, 8 bit, upright, quickly: each pixel's missing colours are the mean of its neighbours'.

    Good enough to be judged by, beside others that were read alike.
    """
    import rawpy

    with _opened(path) as raw:
        developed = raw.postprocess(
            output_bps=8,
            gamma=_SRGB,
            no_auto_bright=True,
            adjust_maximum_thr=0.0,
            output_color=rawpy.ColorSpace.sRGB,
            demosaic_algorithm=rawpy.DemosaicAlgorithm.LINEAR,
            use_camera_wb=True,
        )
    return Picture(np.asarray(developed))


def linear(path: Path, how: RawDevelopment | None = None, *, half: bool = False) -> Array:
    """Linear light (H, W, 3) of 16 bit in the primaries of sRGB, upright; full scale is where the sensor is full."""
    import rawpy

    how = how or RawDevelopment()
    with _opened(path) as raw:
        if _foot_is_missing(raw):
            raise cut_short(path)
        balance: dict[str, Any] = {"use_camera_wb": True}
        if how.white_balance is not None:
            balance = {"user_wb": list(how.white_balance)}
        developed = raw.postprocess(
            output_bps=16,
            gamma=(1, 1),
            no_auto_bright=True,
            # the scale must not follow what the brightest place of one frame happens to be
            adjust_maximum_thr=0.0,
            output_color=rawpy.ColorSpace.sRGB,
            highlight_mode=_HIGHLIGHTS[how.highlights],
            half_size=half,
            **balance,
        )
    return np.asarray(developed)


def _foot_is_missing(raw: Any) -> bool:
    """Whether the last rows of the mosaic are zero, which no sensor tells: black is more, and has grain."""
    return not raw.raw_image_visible[-_FOOT_ROWS:].any() and min(raw.black_level_per_channel) > 0


def look_matrix(path: Path, how: RawDevelopment | None = None) -> Array:
    """What carries the sensor's balanced colours to linear sRGB, (3, 3), as LibRaw has it; from quarter-size developments."""
    import rawpy

    common = _common(how)
    with _opened(path) as raw:
        own, shown = (
            np.asarray(raw.postprocess(output_color=space, half_size=True, **common), np.float64)[::5, ::5].reshape(
                -1, 3
            )
            for space in (rawpy.ColorSpace.raw, rawpy.ColorSpace.sRGB)
        )
    return _matrix_between(own, shown)


def _matrix_between(own: Array, shown: Array) -> Array:
    whole = (own.max(1) < 64000) & (shown.max(1) < 64000) & (shown.min(1) > 0)
    if whole.sum() < 50:
        return np.eye(3)
    return np.asarray(np.linalg.lstsq(own[whole], shown[whole], rcond=None)[0])


def _common(how: RawDevelopment | None) -> dict[str, Any]:
    how = how or RawDevelopment()
    balance: dict[str, Any] = {"use_camera_wb": True}
    if how.white_balance is not None:
        balance = {"user_wb": list(how.white_balance)}
    return {
        "output_bps": 16, "gamma": (1, 1), "no_auto_bright": True, "adjust_maximum_thr": 0.0, "user_flip": 0, **balance,
    }  # fmt: skip


def quick(path: Path, to_srgb: Array, how: RawDevelopment | None = None) -> Picture | None:
    """The picture (h, w, 3) in 8 bit, upright, its colours filled in the plainest way: to be looked at and measured, a tenth of the time.

    None where the mosaic is of another kind than two by two.
    """
    how = how or RawDevelopment()
    with _opened(path) as raw:
        pattern = raw.raw_pattern
        if pattern is None or pattern.shape != (2, 2) or raw.raw_image_visible.ndim != 2:
            return None
        kinds = np.where(pattern == 3, 1, pattern)
        if sorted(kinds.ravel().tolist()) != [0, 1, 1, 2] or kinds[0, 0] == kinds[1, 1] == 0:
            return None
        balance = np.array(how.white_balance or raw.camera_whitebalance, float)
        black, white = np.array(raw.black_level_per_channel, float), float(raw.white_level)
        mosaic = raw.raw_image_visible.copy()
        turn = _TURNS.get(raw.sizes.flip, 0)
    balance[3] = balance[3] or balance[1]
    balance = balance / balance[:3].min() if balance[:3].min() > 0 else np.ones(4)
    for y in range(2):
        for x in range(2):
            c = int(pattern[y, x])
            values = (np.arange(65536) - black[c]) * (65535 * balance[c] / max(1.0, white - black[c]))
            mosaic[y::2, x::2] = cv2.LUT(mosaic[y::2, x::2], np.clip(values, 0, 65535).astype(np.uint16))
    codes = {
        (0, 0): cv2.COLOR_BayerBG2RGB,
        (0, 1): cv2.COLOR_BayerGB2RGB,
        (1, 0): cv2.COLOR_BayerGR2RGB,
        (1, 1): cv2.COLOR_BayerRG2RGB,
    }
    red = np.argwhere(kinds == 0)[0]
    colours = cv2.demosaicing(mosaic, codes[int(red[0]), int(red[1])])
    shown = np.empty(colours.shape, np.uint8)
    table = (_encoded() >> 8).astype(np.uint8)
    matrix = np.ascontiguousarray(to_srgb.T)
    for top in range(0, len(shown), 256):
        shown[top : top + 256] = cv2.LUT(cv2.transform(colours[top : top + 256], matrix), table)
    return Picture(np.ascontiguousarray(np.rot90(shown, turn)) if turn else shown)


def camera_colours(path: Path, how: RawDevelopment | None = None) -> tuple[Array, Array, Array]:
    """A frame in the sensor's own colours, and what was seen of each.

    Returns
    -------
    colours : (H, W, 3) uint16, linear, the mosaic filled in, in the sensor's primaries, not turned
    seen : (H, W) uint8
        Which of the three colours the sensor saw at each pixel.
    to_srgb : (3, 3)
        Linear sRGB from those colours, as LibRaw has it: by least squares over the frame itself.
    """
    import rawpy

    common = _common(how)
    with _opened(path) as raw:
        seen = raw.raw_colors_visible.copy()
        own = raw.postprocess(output_color=rawpy.ColorSpace.raw, **common)
        small = [
            np.asarray(p, np.float64)[::7, ::7].reshape(-1, 3)
            for p in (own, raw.postprocess(output_color=rawpy.ColorSpace.sRGB, **common))
        ]
    to_srgb = _matrix_between(small[0], small[1])
    seen[seen == 3] = 1
    height, width = own.shape[:2]
    return np.asarray(own), np.asarray(seen[:height, :width], np.uint8), np.asarray(to_srgb)


def turn_of(path: Path) -> int:
    """Quarter turns, counterclockwise, that bring a frame as the sensor had it upright."""
    with _opened(path, blank=True) as raw:
        return _TURNS.get(raw.sizes.flip, 0)


def white_balance_of(path: Path) -> tuple[float, float, float, float]:
    """The camera's multipliers of red, green, blue and second green, green counting one."""
    with _opened(path, blank=True) as raw:
        red, green, blue, second = (float(v) for v in raw.camera_whitebalance)
    if green <= 0 or red <= 0 or blue <= 0:
        return (1.0, 1.0, 1.0, 1.0)
    return red / green, 1.0, blue / green, (second / green if second > 0 else 1.0)


def preview(path: Path) -> Picture | None:
    """The picture that the camera put into the file, upright; None where there is none that can be read."""
    import rawpy

    with _opened(path, as_is=True) as raw, contextlib.suppress(rawpy.LibRawError, OSError, ValueError, SyntaxError):
        thumb = raw.extract_thumb()
        if thumb.format == rawpy.ThumbFormat.JPEG:
            with Image.open(io.BytesIO(thumb.data), formats=("JPEG",)) as image:
                image.draft("RGB", (640, 640))
                seen = np.asarray(image.convert("RGB"))
        else:
            seen = np.asarray(thumb.data)
        upright = raw.sizes.flip in (5, 6)
        if raw.sizes.flip in _TURNS and (not upright or seen.shape[1] > seen.shape[0]):
            seen = np.rot90(seen, _TURNS[raw.sizes.flip])
        return Picture(np.ascontiguousarray(seen))
    return None


@contextlib.contextmanager
def _opened(path: Path, *, blank: bool = False, as_is: bool = False) -> Iterator[Any]:
    """LibRaw's view of a file; ``blank`` without pixels where those have to be unpacked first, ``as_is`` the file itself."""
    import rawpy  # a library of its own, which sets without raw never load

    with told(path):  # a card may be pulled out at any moment, whoever asks
        plain = None if as_is or path.suffix.lower() != ".dng" else restated(path, blank=blank)
        try:
            with rawpy.imread(str(path) if plain is None else plain) as raw:
                if not (blank or as_is):
                    check_raw(path, raw.sizes.raw_width, raw.sizes.raw_height)
                yield raw
        except (rawpy.LibRawFileUnsupportedError, rawpy.NotSupportedError) as error:
            raise UnreadableFrame(
                "Is a raw file of a kind that cannot be developed here",
                where=path.name,
                remedy="Convert it to DNG or TIFF with the camera's own program",
            ) from error


@lru_cache(maxsize=1)
def _encoded() -> Array:
    """Display value of 16 bit by linear value."""
    made: Array = np.rint(SRGB.from_linear(np.linspace(0, 1, 65536)) * 65535).astype(np.uint16)
    return made


def _metadata(path: Path, raw: Any, longer_side_px: int) -> Metadata:
    """EXIF of the file, of the preview within, and LibRaw's own, in this order for each fact."""
    facts: dict[str, Any] = {}
    sources: tuple[Callable[[], Metadata], ...] = (
        lambda: _exif_of_file(path, longer_side_px),
        lambda: _exif_of_preview(raw, longer_side_px),
        lambda: _of_libraw(raw),
    )
    for source in sources:
        if facts and all(facts[name] for name in _WANTED):
            break  # LibRaw unpacks the whole mosaic before it tells anything
        told = source()
        for name in (f.name for f in fields(Metadata)):
            facts[name] = facts.get(name) or getattr(told, name)
    return replace(Metadata(**facts), orientation=1)


def _exif_of_file(path: Path, longer_side_px: int) -> Metadata:
    with contextlib.suppress(Exception), open(path, "rb") as stream:
        start = stream.read(4)
        source: Any = stream
        if start in _ODD_MARKS:
            source = io.BytesIO(start[:2] + b"*\0" + stream.read(_MOST_HEAD_BYTES))
        source.seek(0)
        exif = Image.Exif()
        exif.load_from_fp(source)
        return from_exif(exif, longer_side_px)
    return Metadata()


def _exif_of_preview(raw: Any, longer_side_px: int) -> Metadata:
    with contextlib.suppress(Exception):
        thumb = raw.extract_thumb()
        with Image.open(io.BytesIO(thumb.data), formats=("JPEG",)) as image:
            return from_exif(image.getexif(), longer_side_px)
    return Metadata()


def _of_libraw(raw: Any) -> Metadata:
    other = raw.other
    taken = other.timestamp
    known = taken is not None and taken.replace(tzinfo=UTC) > datetime(1980, 1, 1, tzinfo=UTC)
    return Metadata(
        focal_mm=other.focal_length or None,
        aperture=other.aperture or None,
        exposure_s=other.shutter_speed or None,
        iso=other.iso_speed or None,
        taken=f"{taken:%Y:%m:%d %H:%M:%S}" if known else None,
        lens=raw.lens.model or None,
    )
