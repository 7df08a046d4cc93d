"""Film: scans made of known pictures come back as those pictures, cut where the film's border was."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
import skimage.data
from tests.helpers.sets import FrameFiles

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.frameset import gather
from idle_lantern.core.frames.reading import probe, read
from idle_lantern.core.join.pipeline import join
from idle_lantern.core.merging.development import Development, read_development
from idle_lantern.core.merging.film import Film, measure_film
from idle_lantern.core.merging.prepared import ExposureSet, prepare
from idle_lantern.core.merging.recipe import Recipe
from idle_lantern.core.request.options import JoinOptions

#: An orange base as colour negatives have it, linear; and the slope of their curves.
BASE, GAMMA = np.array([0.62, 0.34, 0.2]), 0.6
RIM, HOLDER = 14, 9


def _scan(path: Path, light: np.ndarray, base: np.ndarray = BASE, gamma: np.ndarray | float = GAMMA) -> None:
    """A negative of linear light (h, w, 3), with the film's rim round it, in a black holder."""
    density = gamma * np.log10(np.clip(light, 3e-3, None) / 3e-3)
    film = np.pad(base * 10.0**-density, ((RIM, RIM), (RIM, RIM), (0, 0)), constant_values=np.nan)
    film = np.where(np.isnan(film), base, film)
    film = np.pad(film, ((HOLDER, HOLDER), (HOLDER, HOLDER), (0, 0)), constant_values=0.001)
    film += np.random.default_rng(1).normal(0, 1e-4, film.shape)
    write(Picture(np.rint(SRGB.from_linear(np.clip(film, 0, 1)) * 65535).astype(np.uint16)), path, WriteOptions())


@pytest.fixture(scope="module")
def roll(tmp_path_factory: pytest.TempPathFactory, row_set: FrameFiles) -> list[Path]:
    folder = tmp_path_factory.mktemp("roll")
    paths = []
    for path in row_set.paths[2:6]:
        _scan(folder / f"{path.stem}.tif", SRGB.to_linear(read(path).pixels / 255))
        paths.append(folder / f"{path.stem}.tif")
    return paths


def test_negatives_come_back_as_what_was_seen(roll: list[Path], row_set: FrameFiles, tmp_path: Path):
    film = measure_film(roll, "negative")
    assert film.base == pytest.approx(BASE, rel=0.03)
    width, height = probe(roll[0]).width, probe(roll[0]).height
    left, top, across, down = film.box(width, height)
    edge = RIM + HOLDER
    assert (left, top) == (pytest.approx(edge + 3, abs=3), pytest.approx(edge + 3, abs=3))
    assert (across, down) == (pytest.approx(480 - 6, abs=6), pytest.approx(680 - 6, abs=6))
    made = prepare([ExposureSet(probe(p)) for p in roll], Recipe(development=Development(film=film)), tmp_path)
    for info, path in zip(made.infos, row_set.paths[2:6]):
        assert (info.width, info.height) == (across, down)
        truth = SRGB.to_linear(read(path).pixels[top - edge :, left - edge :][:down, :across] / 255)
        seen = SRGB.to_linear(read(info.path).pixels / 65535)
        middle = (truth > 0.03) & (truth < 0.7)
        each = [np.log2(seen[..., c][middle[..., c]] / truth[..., c][middle[..., c]]) for c in range(3)]
        assert max(float(np.std(ratio)) for ratio in each) < 0.25, "tones follow the light"
        assert max(abs(float(np.median(ratio))) for ratio in each) < 0.5, "and are nearly as bright"
    # a roll joins as one, and as the pictures do
    solution, _made = join(gather([i.path for i in made.infos]), tmp_path / "p.jpg", JoinOptions())
    assert solution.poses.frames == (0, 1, 2, 3)
    assert solution.poses.lenses[0].focal_px == pytest.approx(row_set.lens.focal_px, rel=0.01)


@pytest.mark.parametrize("gamma", [0.45, 0.75])
def test_the_range_of_a_film_tells_something_of_its_gamma(gamma: float, tmp_path: Path):
    """Photographs on a film of another gamma than most: with a fixed one they had three quarters of their contrast."""
    off = []
    for name in ("astronaut", "chelsea", "coffee"):
        _scan(tmp_path / "a.tif", SRGB.to_linear(getattr(skimage.data, name)() / 255), gamma=gamma)
        off.append(np.log(np.mean(measure_film([tmp_path / "a.tif"], "negative").gamma) / gamma))
    assert abs(np.mean(off)) < 0.85 * abs(np.log(0.6 / gamma))


def test_a_grey_and_a_white_that_are_picked_set_the_film_exactly(roll: list[Path]):
    """Its colours have curves of their own, so that no white balance makes all greys grey."""
    film = measure_film(roll[:1], "negative")
    curve = np.array([0.55, 0.62, 0.66])

    def scanned(tone: float) -> np.ndarray:
        return np.asarray(film.base) * 10 ** (-curve * np.log10(tone / 3e-3))

    picked = film.with_white(scanned(0.9)).with_grey(scanned(0.2))
    grey = picked.light(scanned(0.2)[None])[0]
    assert np.ptp(np.log2(grey)) < 0.01, "the grey is grey"
    np.testing.assert_allclose(picked.light(scanned(0.9)[None]), 1, atol=1e-6)
    others = np.log2(picked.light(np.stack([scanned(t) for t in (0.05, 0.1, 0.4)])))
    assert np.ptp(others, axis=1).max() < 0.02, "and so are all others"
    with pytest.raises(InputError, match="as bright as white"):
        film.with_white(scanned(0.2)).with_grey(scanned(0.3))


def test_a_blank_frame_tells_the_base_where_there_is_no_border(tmp_path: Path, row_set: FrameFiles):
    light = SRGB.to_linear(read(row_set.paths[3]).pixels / 255)
    _scan(tmp_path / "a.tif", light)
    whole = read(tmp_path / "a.tif")
    edge = RIM + HOLDER
    write(Picture(np.ascontiguousarray(whole.pixels[edge:-edge, edge:-edge])), tmp_path / "b.tif", WriteOptions())
    blank = np.broadcast_to(np.rint(SRGB.from_linear(BASE) * 65535).astype(np.uint16), (480, 640, 3))
    write(Picture(np.ascontiguousarray(blank)), tmp_path / "c.tif", WriteOptions())
    film = measure_film([tmp_path / "b.tif", tmp_path / "c.tif"], "negative")
    assert film.base == pytest.approx(BASE, rel=0.01)
    assert film.crop == (0, 0, 1, 1)


def test_black_and_white_is_grey_and_slides_are_only_cut(roll: list[Path], tmp_path: Path):
    grey = Development(film=measure_film(roll[:2], "grey")).applied(read(roll[0]))
    assert np.ptp(grey.pixels, axis=2).max() == 0
    slide = measure_film(roll[:2], "slide")
    cut = Development(film=slide).applied(read(roll[0]))
    left, top, across, down = slide.box(read(roll[0]).width, read(roll[0]).height)
    assert np.abs(cut.pixels.astype(int) - read(roll[0]).pixels[top : top + down, left : left + across]).max() <= 1
    recipe = tmp_path / "r.json"
    recipe.write_text(json.dumps({"film": {"kind": "negative", "base": [0.6, 0.3, 0.2], "white": [1.2, 1.2, 1.2]}}))
    assert read_development(recipe).film == Film("negative", (0.6, 0.3, 0.2), (1.2, 1.2, 1.2))
    recipe.write_text(json.dumps({"film": {"kind": "polar"}}))
    with pytest.raises(InputError, match="film"):
        read_development(recipe)
