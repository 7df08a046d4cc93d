"""Film that was scanned or photographed: borders cut alike, negatives turned into what was seen, the same for a whole roll.

Density is the logarithm of how much less light a place lets through than the unexposed film beside the picture. On the straight
part of a negative's curve it grows with the logarithm of the light by its gamma (Hurter and Driffield 1890), so that the light is
``10 ** ((density - density of white) / gamma)``.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Literal

import cv2
import msgspec
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.checks import one_of, within
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.base.strict_json import whole_numbers
from idle_lantern.core.frames.reading import read

Kind = Literal["negative", "grey", "slide"]
KINDS: tuple[Kind, ...] = ("negative", "grey", "slide")
#: Gamma of negatives made for taking (common practice, no source), and how far it may be from that.
_GAMMA, _GAMMAS = 0.6, (0.2, 1.5)
#: Logarithm of light between these per cent of a photograph's pixels (a dozen of them), and how much more is known of the
#: gamma of films than of that: a range that is narrower by a factor tells a gamma that is less by the factor to this power.
_RANGE_PERCENT, _USUAL_RANGE, _RANGE_TELLS = (1.0, 99.7), 2.0, 0.3
#: A picked grey is darker than white by this logarithm of light at least.
_DARKER = 0.15
#: Frames are looked at this many pixels along the longer side.
_LOOK_PX = 700
#: Rows and columns of the border are of one tone.
_BORDER_SHARE = 0.92  # over so much of their length
_ONE_TONE = 0.1  # within this share of it
_NOISE = 0.004  # and so much more
#: A border takes no more than this share of a side, and a little more than itself is cut.
_MOST_BORDER, _SPARE = 0.2, 0.004
#: A frame without detail is a blank one: it tells the base.
_BLANK = 0.02
#: Share of all pixels that may be whiter than white.
_WHITEST = 0.3
_LEAST_LIGHT = 1e-4
#: What is darker than this share of the lightest border is the holder, no film.
_HOLDER = 0.25

Box = tuple[float, float, float, float]
Triple = tuple[float, float, float]


@dataclass(frozen=True)
class Film:
    """What is common to a roll.

    Attributes
    ----------
    kind : colour negative, black-and-white negative, or slide
    base : linear light of the unexposed film, by colour; of a slide it is not used
    white : density, by colour, that becomes white
    gamma : how much density grows with the logarithm of light, by colour
    crop : left, top, right and bottom of the picture as shares of the scan
    """

    kind: Kind
    base: Triple = (1.0, 1.0, 1.0)
    white: Triple = (1.5, 1.5, 1.5)
    crop: Box = (0.0, 0.0, 1.0, 1.0)
    gamma: Triple = (_GAMMA, _GAMMA, _GAMMA)

    def __post_init__(self) -> None:
        one_of("Film", self.kind, KINDS)
        for value in self.base:
            within("Light of the film's base", value, 1e-4, 1.0, "")
        for value in self.white:
            within("Density of white", value, 0.05, 5.0, "")
        for value in self.gamma:
            within("Gamma of the film", value, *_GAMMAS, "")
        left, top, right, bottom = self.crop
        for value in self.crop:
            within("Edge of the film's picture", value, 0.0, 1.0, "")
        if right - left < 0.2 or bottom - top < 0.2:
            raise InputError("leaves less than a fifth of the scan", where="Edges of the film's picture")

    def box(self, width: int, height: int) -> tuple[int, int, int, int]:
        """Left, top, width and height of the picture in pixels of a scan."""
        left, top = round(self.crop[0] * width), round(self.crop[1] * height)
        return left, top, max(1, round(self.crop[2] * width) - left), max(1, round(self.crop[3] * height) - top)

    def light(self, linear: Array) -> Array:
        """Linear light of what was taken, (N, 3), by the linear light (N, 3) of its scan, 0 to 1."""
        if self.kind == "slide":
            return linear
        above = _density(linear, self.base) - np.asarray(self.white)
        return np.asarray(np.clip(10.0 ** (above / np.asarray(self.gamma)), 0, 4))

    def with_white(self, linear: Array) -> Film:
        """So that the linear light (3,) of a place of the scan becomes white.

        Raises
        ------
        InputError
            The place is as clear as the unexposed film.
        """
        red, green, blue = (float(d) for d in _density(linear, self.base))
        return replace(self, white=(red, green, blue))

    def with_grey(self, linear: Array) -> Film:
        """So that a place of the scan, linear light (3,), becomes a grey as bright as it is, and white stays white: by gammas of
        the colours.

        Raises
        ------
        InputError
            The place is as bright as white, or no grey that films have.
        """
        below = np.asarray(self.white) - _density(linear, self.base)
        darker = float((below / np.asarray(self.gamma)).mean())
        if darker < _DARKER:
            raise InputError("That place is as bright as white", remedy="Click on a grey that is darker")
        red, green, blue = (float(b) / darker for b in below)
        return replace(self, gamma=(red, green, blue))


def _density(linear: Array, base: Triple) -> Array:
    """Density over that of the unexposed film, by colour, of linear light (..., 3) of a scan."""
    return np.asarray(-np.log10(np.clip(linear / np.asarray(base), _LEAST_LIGHT, None)))


def measure_film(paths: Sequence[Path], kind: Kind, progress: Progress = SILENT) -> Film:
    """The conversion of a roll from its scans: where the pictures lie, the base, and white, one for all of them.

    Raises
    ------
    UnreadableFrame
        A scan cannot be read.
    """
    progress.begin("read", len(paths))
    looks = []
    for path in paths:
        looks.append(_look(path))
        progress.advance()
    even = [float(look.std((0, 1)).max()) < _BLANK for look in looks]
    blank = [look for look, plain in zip(looks, even) if plain]
    shown = [look for look, plain in zip(looks, even) if not plain] or looks
    borders = [_borders(look) for look in shown]
    crop = _common([b for b, _tones in borders])
    base = _base([t for _b, tones in borders for t in tones], blank, shown)
    inside = [_inside(look, crop).reshape(-1, 3) for look in shown]
    density = _density(np.concatenate(inside), base)
    white = np.clip(np.percentile(density, 100 - _WHITEST, axis=0), 0.05, 5.0)
    if kind == "grey":
        base, white = (float(np.mean(base)),) * 3, np.full(3, float(white.mean()))
    gamma = _gamma_of(density)
    return Film(kind, base, (float(white[0]), float(white[1]), float(white[2])), crop, (gamma, gamma, gamma))


def _gamma_of(density: Array) -> float:
    """The likeliest gamma of a film whose pictures have these densities (N, 3): between that of most films and that by which they
    would hold as much light as photographs do."""
    low, high = np.percentile(density, _RANGE_PERCENT, axis=0)
    wider = max(float((high - low).mean()), 1e-3) / (_GAMMA * _USUAL_RANGE)
    return float(np.clip(_GAMMA * wider**_RANGE_TELLS, *_GAMMAS))


def _look(path: Path) -> Array:
    """Linear light (h, w, 3) of a scan, small."""
    picture = read(path)
    factor = min(1.0, _LOOK_PX / max(picture.width, picture.height))
    size = (max(8, round(picture.width * factor)), max(8, round(picture.height * factor)))
    return np.asarray(cv2.resize(picture.light(), size, interpolation=cv2.INTER_AREA))


def _borders(look: Array) -> tuple[Box, list[Array]]:
    """Shares of the scan at which the picture begins and ends, and the tones of the borders."""
    height, width = look.shape[:2]
    tones: list[Array] = []
    ends = []
    for lines, count in ((look, height), (look.transpose(1, 0, 2), width)):
        for order in (range(count), range(count - 1, -1, -1)):
            depth = 0
            for at in order:
                line = lines[at]
                tone = np.median(line, axis=0)
                alike = (np.abs(line - tone) < _ONE_TONE * tone + _NOISE).all(1).mean()
                if alike < _BORDER_SHARE or depth > _MOST_BORDER * count:
                    break
                tones.append(tone)
                depth += 1
            # a border that never ends is a plain side of the picture
            ends.append(0.0 if depth > _MOST_BORDER * count else depth / count)
    top, bottom, left, right = ends
    return (left, top, 1 - right, 1 - bottom), tones


def _common(boxes: Sequence[Box]) -> Box:
    """One crop for all: what most of them have, and a little more where there is a border at all."""
    left, top, right, bottom = (float(v) for v in np.median(np.asarray(boxes), axis=0))
    return (
        left + _SPARE if left else 0.0,
        top + _SPARE if top else 0.0,
        right - _SPARE if right < 1 else 1.0,
        bottom - _SPARE if bottom < 1 else 1.0,
    )


def _base(tones: Sequence[Array], blank: Sequence[Array], shown: Sequence[Array]) -> Triple:
    """Light of the unexposed film: of a blank frame, else of the borders, else the lightest that there is."""
    if blank:
        value = np.median(np.concatenate([b.reshape(-1, 3) for b in blank]), axis=0)
    else:
        value = np.percentile(np.concatenate([s.reshape(-1, 3) for s in shown]), 99.9, axis=0)
        lightest = max((float(t.sum()) for t in tones), default=0.0)
        film = [t for t in tones if float(t.sum()) > _HOLDER * lightest]
        if film and lightest > 0.2 * float(value.sum()):
            value = np.median(np.asarray(film), axis=0)
    red, green, blue = (float(np.clip(v, 1e-4, 1.0)) for v in value)
    return red, green, blue


def _inside(look: Array, crop: Box) -> Array:
    height, width = look.shape[:2]
    left, top, right, bottom = crop
    return look[
        math.ceil(top * height) : math.floor(bottom * height), math.ceil(left * width) : math.floor(right * width)
    ]


def film_from(facts: object, where: str) -> Film:
    """A film's conversion from plain data.

    Raises
    ------
    InputError
        A value is missing or impossible.
    """
    try:
        return msgspec.convert(whole_numbers(facts), Film)
    except msgspec.ValidationError as error:
        raise InputError(
            f"Holds no film ({error})", where=where, remedy="Mend it there, or measure the film anew"
        ) from error
