"""Frames made ready for the join: raw developed, brackets merged, all by one recipe; kept in the cache, named by content.

The join reads them like any other frame. What needs no preparing is left where it lies.
"""

from __future__ import annotations

import contextlib
import hashlib
import math
import shutil
import tempfile
import time
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path
from threading import Lock

import numpy as np
import platformdirs
import tifffile

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.atomic import replacing
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.fingerprint import code_fingerprint
from idle_lantern.core.base.memory import give_back
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.base.units import file_size
from idle_lantern.core.colour.picture import Picture, deep
from idle_lantern.core.colour.profiles import common_space, told_profile
from idle_lantern.core.colour.space import ColourSpace
from idle_lantern.core.frames.content import sha256_of
from idle_lantern.core.frames.decoders import raw
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.frames.reading import FrameInfo, probe, read, thumbnail
from idle_lantern.core.frames.series import steps_of
from idle_lantern.core.merging.aligning import BaseLook, as_sharp, on_base, unmoved
from idle_lantern.core.merging.fusion import fuse
from idle_lantern.core.merging.radiance import merge
from idle_lantern.core.merging.recipe import BracketExposure, Recipe
from idle_lantern.core.merging.sensor_shift import combined
from idle_lantern.core.merging.spill_store import SpilledPicture, SpillStore

#: Files that nobody asked for in a while go when all together take more than this.
_MOST_BYTES = 12_000_000_000
_ROWS = 512
_DAY_S = 86400
#: How folders are called in which work lies that is under way.
SCRATCH = "light-"
#: Light beyond white that is not worth a curve.
_WHITE_ENOUGH = 1.1


@dataclass(frozen=True)
class ExposureSet:
    """A position: the frame that stands for it, and what else was taken there."""

    base: FrameInfo
    others: tuple[BracketExposure, ...] = ()


@dataclass(frozen=True)
class Prepared:
    """Frames as the join reads them, in the order of the places; all in one colour space up to the brightest light of their
    brackets; ``told`` says in sentences what was done."""

    infos: tuple[FrameInfo, ...]
    white_balance: tuple[float, float, float, float] | None = None
    told: tuple[str, ...] = ()


def prepared_folder() -> Path:
    """Where prepared frames are kept."""
    return Path(platformdirs.user_cache_dir("idle-lantern")) / "prepared"


def needs_preparing(places: Sequence[ExposureSet], recipe: Recipe) -> bool:
    """Whether anything is to be done at all."""
    if not recipe.development.changes_nothing:
        return True
    return any(p.base.raw or recipe.used(p.others) for p in places)


def prepare(places: Sequence[ExposureSet], recipe: Recipe, folder: Path, progress: Progress = SILENT) -> Prepared:
    """Make the frames of all places ready; what was made before of the same files and recipe is taken up.

    Raises
    ------
    UnreadableFrame
        A file cannot be read.
    InputError
        They cannot be kept: no room, no permission.
    Cancelled
        Stopped by ``progress``.
    """
    if not needs_preparing(places, recipe):
        return Prepared(tuple(p.base for p in places))
    maker = _Maker(places, recipe, progress)
    try:
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    except OSError as error:
        raise InputError(f"Cannot be made ({error.strerror})", where=str(folder)) from error
    progress.begin("prepare", len(places))
    infos = []
    # quick ones are small enough for two at a time
    with ThreadPoolExecutor(2 if recipe.quick else 1) as pool:
        for info in pool.map(lambda place: maker.made(place, folder), places):
            infos.append(info)
            give_back()
            progress.advance()
    _throw_old_away(folder, {info.path for info in infos})
    return Prepared(tuple(infos), maker.balance, tuple(maker.told()))


class _Maker:
    """What is common to all places: white balance and colour space, up to the brightest light of all brackets."""

    def __init__(self, places: Sequence[ExposureSet], recipe: Recipe, progress: Progress = SILENT) -> None:
        self.recipe = recipe
        self._progress = progress
        places = [replace(p, others=recipe.used(p.others)) for p in places]
        self.balance = _common_balance([p.base.path for p in places if p.base.raw])
        self.white = _brightest(places) if recipe.brackets == "merge" else 1.0
        self.plain = common_space([p.base.space for p in places])
        self.space = self.plain.up_to(self.white)
        self.count = sum(any(e.kind == "bracket" for e in p.others) for p in places)
        self.series = sum(any(e.kind == "sensor-shift" for e in p.others) for p in places)
        self.stacked = [1 + sum(e.again for e in p.others) for p in places if any(e.again for e in p.others)]
        self.raws = sum(p.base.raw for p in places)
        self._lock = Lock()
        self._to_srgb: Array | None = None
        self._key = (recipe, self.balance, self.space, code_fingerprint())

    def _stop(self) -> None:
        """The chance to stop, between steps: it waits for no more than one file."""
        self._progress.advance(0)

    def told(self) -> list[str]:
        """What was done, in sentences."""
        told = []
        if self.raws and self.balance is not None:
            red, _green, blue, _second = self.balance
            told.append(
                f"{self.raws} raw frames developed alike, white balance red {red:.2f}, blue {blue:.2f} times green: "
                "the middle of what the camera set."
            )
        if self.count and self.recipe.brackets == "merge":
            told.append(
                f"Brackets of {self.count} positions merged to linear light"
                + (f", shown by one curve up to {math.log2(self.white):.1f} EV above white." if self.white > 1 else ".")
            )
        elif self.count:
            told.append(f"Brackets of {self.count} positions fused.")
        if self.series:
            told.append(f"Sensor-shift series of {self.series} positions combined.")
        if self.stacked:
            n = sum(self.stacked) / len(self.stacked)
            told.append(
                f"Repeats of {len(self.stacked)} positions averaged, {n:.1f} frames each: noise falls to {100 * n**-0.5:.0f} %."
            )
        return told

    def made(self, place: ExposureSet, folder: Path) -> FrameInfo:
        """The frame of one place."""
        others = self.recipe.used(place.others)
        plain = not place.base.raw and not others and self.white <= 1 and self.recipe.development.changes_nothing
        if plain:
            return place.base
        files = [sha256_of(place.base.path), *((sha256_of(e.path), e.ev, e.kind) for e in others)]
        name = hashlib.sha256(repr((files, self._key)).encode("utf-8", "surrogatepass")).hexdigest()[:32]
        target = folder / f"{name}.tif"
        if not target.exists():
            picture = self._picture(place, others, folder)
            _write(picture, target, packed=not self.recipe.quick)
        else:
            with contextlib.suppress(OSError):
                target.touch()
        film = self.recipe.development.film
        # a sensor-shift series may have twice the pixels of its frames
        width, height = (
            _size_of(target) if any(e.kind == "sensor-shift" for e in others) else (place.base.width, place.base.height)
        )
        metadata = replace(place.base.metadata, orientation=1)
        if film is not None:  # what the copying camera tells is not what took the picture
            (_left, _top, width, height), metadata = film.box(place.base.width, place.base.height), Metadata()
        return replace(
            place.base, path=target, bits=8 if self.recipe.quick and place.base.raw and not others else 16, plain_jpeg=False, raw=False, space=self.space, width=width, height=height,
            metadata=metadata,
        )  # fmt: skip

    def _read(self, path: Path) -> Picture:
        self._stop()
        info = probe(path)
        if not info.raw:
            return read(path).in_space(self.plain)
        how = raw.RawDevelopment(self.balance, self.recipe.development.clipped)
        return raw.pixels(path, how).in_space(self.plain)

    def _picture(self, place: ExposureSet, others: Sequence[BracketExposure], folder: Path) -> Picture:
        series = [e for e in others if e.kind == "sensor-shift"]
        if series:
            paths = [place.base.path, *(e.path for e in series)]
            moved = steps_of(paths) or ((0.0, 0.0),) * len(paths)
            how = raw.RawDevelopment(self.balance, self.recipe.development.clipped)
            return self._finished(combined(paths, moved, how).in_space(self.plain), None)
        if not others and self.recipe.quick and place.base.raw:
            seen = raw.quick(place.base.path, self._matrix(place.base.path)) or self._read(place.base.path)
            return _eight_bit(self.recipe.development.applied(seen.in_space(self.plain)))
        if not others:
            return self._finished(self._read(place.base.path), None)
        with tempfile.TemporaryDirectory(dir=folder, prefix=SCRATCH) as scratch:
            bracket, alpha = self._aligned(place, others, SpillStore(Path(scratch)))
            if self.recipe.brackets == "fuse" and not any(e.again for e in others):
                fused = fuse(bracket.pictures, [None if w is None else w.pixels for w in bracket.weights])
                return self.recipe.development.applied(replace(fused, alpha=alpha, space=self.space))
            return self._finished(None, bracket, alpha)

    def _matrix(self, path: Path) -> Array:
        """The colours of the set's sensor, asked for once."""
        with self._lock:
            if self._to_srgb is None:
                self._to_srgb = raw.look_matrix(path, raw.RawDevelopment(self.balance))
        return self._to_srgb

    def _aligned(
        self, place: ExposureSet, others: Sequence[BracketExposure], spill_store: SpillStore
    ) -> tuple[_Bracket, Array | None]:
        """The exposures of a place in the spill store, each aligned with the base as soon as it is read; and the base's alpha."""
        focal_px = place.base.metadata.focal_px(place.base.width, place.base.height)
        base = self._read(place.base.path)
        look, alpha = BaseLook.of(base), base.alpha
        pictures, evs = [spill_store.put(base.pixels)], [0.0]
        weights: list[SpilledPicture | None] = [None]
        del base  # one picture at a time
        for exposure in others:
            give_back()
            other = self._read(exposure.path)
            self._stop()
            aligned = on_base(look, other, focal_px, exactly=exposure.again)
            del other
            give_back()
            self._stop()
            if not exposure.again or as_sharp(look, aligned):
                (weight,) = unmoved(look, [aligned], [exposure.ev])
                pictures.append(spill_store.put(aligned.picture.pixels))
                evs.append(exposure.ev)
                weights.append(None if weight is None else spill_store.put(np.rint(weight * 255).astype(np.uint8)))
                del weight
            del aligned
        return _Bracket(tuple(pictures), tuple(evs), tuple(weights)), alpha

    def _finished(self, base: Picture | None, bracket: _Bracket | None, alpha: Array | None = None) -> Picture:
        """Light through the one development and the one curve; a few rows at a time, whatever the frame's size."""
        if base is not None:
            if self.white <= 1:
                return self.recipe.development.applied(base)
            alpha = base.alpha
        shape = base.pixels.shape if base is not None else bracket.pictures[0].shape if bracket is not None else ()
        gains = self.recipe.development.gains()
        made = np.empty(shape, np.uint16)
        for top in range(0, shape[0], _ROWS):
            self._stop()
            rows = np.s_[top : top + _ROWS]
            if base is not None:
                light = merge([replace(base, pixels=base.pixels[rows], alpha=None)], [0.0])
            else:
                assert bracket is not None
                light = bracket.light(top, _ROWS, self.plain)
            shown = Picture.of_light(light * gains, self.space).pixels
            if self.recipe.development.shadows or self.recipe.development.highlights:
                table = np.rint(self.recipe.development.toned(np.linspace(0, 1, 65536)) * 65535).astype(np.uint16)
                shown = table[shown]
            made[rows] = shown
        return Picture(made, None if alpha is None else deep(alpha), self.space)


@dataclass(frozen=True)
class _Bracket:
    """Exposures of a place that lie on each other, on disk, with where each counts (of 255)."""

    pictures: tuple[SpilledPicture, ...]
    evs: tuple[float, ...]
    weights: tuple[SpilledPicture | None, ...]

    def light(self, top: int, count: int, space: ColourSpace) -> Array:
        """Linear light of some rows."""
        strips = [Picture(p.rows(top, count), space=space) for p in self.pictures]
        weights = [None if w is None else w.rows(top, count).astype(np.float32) / 255 for w in self.weights]
        return merge(strips, self.evs, weights)


#: What is brighter than this share of all does not stretch the curve: glints on water, the sun itself.
_GLINTS = 99.7
_LOOK_PX = 256


def _brightest(places: Sequence[ExposureSet]) -> float:
    """The light, as shares of what fills a base exposure, that the brackets of the whole set tell apart at most."""
    most = 1.0
    for place in places:
        darkest = min(place.others, key=lambda e: e.ev, default=None)
        if darkest is None or darkest.ev >= 0:
            continue
        value = float(np.percentile(thumbnail(darkest.path, _LOOK_PX).light().max(2), _GLINTS))
        most = max(most, value * 2.0**-darkest.ev)
    return most if most > _WHITE_ENOUGH else 1.0


def _eight_bit(picture: Picture) -> Picture:
    if picture.pixels.dtype == np.uint8:
        return picture
    alpha = None if picture.alpha is None else (picture.alpha >> 8).astype(np.uint8)
    return Picture((picture.pixels >> 8).astype(np.uint8), alpha, picture.space)


def _size_of(target: Path) -> tuple[int, int]:
    with tifffile.TiffFile(target) as tiff:
        page = tiff.pages.first
        return int(page.imagewidth), int(page.imagelength)


def _common_balance(raws: Sequence[Path]) -> tuple[float, float, float, float] | None:
    """The middle of the camera's white balances: one for all, whatever it set from frame to frame."""
    if not raws:
        return None
    with ThreadPoolExecutor(2) as pool:  # LibRaw unpacks the mosaic before it tells
        each = np.array(list(pool.map(raw.white_balance_of, raws)))
    red, green, blue, second = (float(v) for v in np.median(each, 0))
    return red, green, blue, second


def _write(picture: Picture, target: Path, *, packed: bool) -> None:
    pixels = picture.pixels if picture.alpha is None else np.dstack([picture.pixels, picture.alpha])
    needed = pixels.nbytes
    if shutil.disk_usage(target.parent).free < needed:
        raise InputError(
            f"Needs {file_size(needed)} for prepared frames, and there is less",
            where=str(target.parent),
            remedy="Make room there",
        )
    try:
        with replacing(target) as part:
            tifffile.imwrite(
                part, pixels, photometric="rgb", compression="zstd" if packed else None,
                compressionargs={"level": 1} if packed else None, predictor=packed or None,
                rowsperstrip=256, iccprofile=told_profile(picture.space), extrasamples=None if picture.alpha is None else ["unassalpha"],
                metadata=None,
            )  # fmt: skip
    except OSError as error:
        raise InputError(f"Cannot be written ({error.strerror})", where=str(target.parent)) from error


def _throw_old_away(folder: Path, used: set[Path]) -> None:
    """Keep what is used now, and of the rest the newest that fit."""
    total = 0
    with contextlib.suppress(OSError):
        for left in folder.glob(f"{SCRATCH}*"):  # of a join that was killed
            if time.time() - left.stat().st_mtime > _DAY_S:
                shutil.rmtree(left, ignore_errors=True)
        for path in sorted(folder.glob("*.tif"), key=lambda p: -p.stat().st_mtime):
            total += path.stat().st_size
            if total > _MOST_BYTES and path not in used:
                path.unlink(missing_ok=True)
