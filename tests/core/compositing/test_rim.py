"""The rim of a picture: bent to a rectangle or filled, and told either way."""

from __future__ import annotations

import json

import cv2
import numpy as np
import pytest
import skimage.data
import tifffile
from tests.helpers.reports import typed
from tests.helpers.sets import FrameFiles

from idle_lantern.cli.main import main
from idle_lantern.core.compositing.canvas.stretch import Stretch, resampled
from idle_lantern.core.compositing.canvas.warp import Tile
from idle_lantern.core.compositing.render.filled_picture import boxes_of
from idle_lantern.core.compositing.rim.filling import fill_tile, filling_of
from idle_lantern.core.compositing.rim.patches import completed
from idle_lantern.core.compositing.rim.rectangling import rectangled
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.join.report_reading import canvas_of


def _facade(w: int, h: int) -> np.ndarray:
    """Lines level, upright and slanted on noise of some detail."""
    rng = np.random.default_rng(2)
    picture = np.full((h, w, 3), 190, np.uint8)
    for x in range(25, w, 70):
        cv2.line(picture, (x, 0), (x, h), (90, 60, 50), 2, cv2.LINE_AA)
    for y in range(30, h, 60):
        cv2.line(picture, (0, y), (w, y), (60, 90, 50), 2, cv2.LINE_AA)
    cv2.line(picture, (60, h - 80), (w - 60, 70), (40, 40, 120), 3, cv2.LINE_AA)
    return np.clip(picture + rng.integers(-6, 7, picture.shape), 0, 255).astype(np.uint8)


def _wavy(w: int, h: int, deep: float) -> np.ndarray:
    """What a row of turned frames leaves: bows above and below, slanted sides."""
    x, y = np.meshgrid(np.arange(w), np.arange(h))
    top = deep * (0.5 + 0.5 * np.cos(x / w * 6 * np.pi)) * (0.6 + 0.4 * x / w)
    bottom = h - 1 - deep * (0.5 - 0.5 * np.cos(x / w * 4 * np.pi))
    left, right = deep * 0.5 * y / h, w - 1 - deep * 0.5 * (1 - y / h)
    return np.asarray((y >= top) & (y <= bottom) & (x >= left) & (x <= right))


def test_a_whole_rectangle_stays_as_it_is():
    """He, Chang and Sun 2013: nothing is missing, nothing is warped."""
    assert rectangled(_facade(300, 200), np.ones((200, 300), bool)) is None
    hole = np.ones((200, 300), bool)
    hole[80:100, 100:140] = False
    assert rectangled(_facade(300, 200), hole) is None, "a hole inside is no rim"


def test_a_wavy_outline_becomes_a_rectangle_of_straight_lines():
    """He, Chang and Sun 2013, section 4: the energy falls with each turn of lines and mesh, and no gap is left."""
    picture, shown = _facade(900, 420), _wavy(900, 420, 34)
    found = rectangled(picture, shown)
    assert found is not None
    assert all(b <= a * (1 + 1e-9) for a, b in zip(found.energies, found.energies[1:]))
    drawn = resampled(np.dstack([picture, shown.astype(np.uint8) * 255]), found.stretch, found.size)
    assert (drawn[3:-3, 3:-3, 3] == 255).mean() > 0.9995
    assert found.bow_px < 3.0
    assert 1.0 < found.stretch.largest < 2.0
    # level and upright lines stay so: each is found again at one row or column of the middle of the picture
    for x in range(95, 800, 70):
        ends = found.stretch.bent(np.array([[x, 90.0], [x, 330.0]]))
        assert abs(ends[0, 0] - ends[1, 0]) < 4.0
    # all of the outline is used: the rectangle is hardly smaller than the picture
    assert found.size[0] > 0.95 * 900
    assert found.size[1] > 0.85 * 420


def test_what_is_told_of_the_largest_growth_is_what_is_drawn():
    """By brute force: the area between pixels half a step apart and the ways across it. It said 1.7 where things grew 5.4 times."""
    picture, shown = _facade(900, 420), _wavy(900, 420, 60)
    stretch = rectangled(picture, shown).stretch
    u, v = np.meshgrid(np.arange(2.0, 897, 2.5), np.arange(2.0, 417, 2.5))
    places = np.stack([u, v], -1)
    slopes = np.stack(
        [stretch.flat(places + h) - stretch.flat(places - h) for h in (np.array([0.5, 0]), np.array([0, 0.5]))], -1
    )
    grown = 1 / np.linalg.svd(slopes, compute_uv=False)[..., -1]
    assert 0.9 * grown.max() < stretch.largest < 1.15 * grown.max()


def test_a_full_circle_stays_one():
    picture, shown = _facade(700, 300), _wavy(700, 300, 26)
    shown[:, :] = shown[:, 350:351] & True
    shown[:40, 200:400] = False
    found = rectangled(picture, shown, full_circle=True)
    assert found is not None
    assert found.size[0] == 700
    rows = np.linspace(5, found.size[1] - 5, 20)
    one, other = (found.stretch.flat(np.stack([np.full(20, x), rows], 1)) for x in (3.25, 703.25))
    assert other == pytest.approx(one + np.array([700, 0]), abs=1e-6)


def test_the_way_back_from_a_stretch_is_exact():
    rng = np.random.default_rng(1)
    grid = np.stack(np.meshgrid(np.linspace(-0.5, 599.5, 13), np.linspace(-0.5, 299.5, 7)), -1)
    stretch = Stretch((-0.5, -0.5), (50.0, 50.0), grid + rng.uniform(-6, 6, grid.shape))
    places = rng.uniform([0, 0], [599, 299], (400, 2))
    assert stretch.bent(stretch.flat(places)) == pytest.approx(places, abs=5e-3)
    small = stretch.scaled(0.25)
    assert (small.flat((places + 0.5) * 0.25 - 0.5) + 0.5) * 4 - 0.5 == pytest.approx(stretch.flat(places), abs=1e-9)
    assert stretch.cut(20, 10).flat(places - [20, 10]) == pytest.approx(stretch.flat(places), abs=1e-9)
    # grid points are met exactly, as cubic convolution does (Keys 1981)
    assert stretch.flat(grid) == pytest.approx(grid + (stretch.at - grid), abs=1e-9)


def _weave(w: int, h: int) -> np.ndarray:
    """A pattern that repeats: what is missing of it is known."""
    x, y = np.meshgrid(np.arange(w), np.arange(h))
    return np.stack([120 + 80 * np.sin(x * np.pi / 8), 120 + 60 * np.cos(y * np.pi / 6), 100 + 0 * x], -1).astype(
        np.uint8
    )


def test_a_pattern_is_completed_as_it_goes_on_and_each_round_comes_nearer():
    """Wexler, Shechtman and Irani 2007: the difference of the gap's patches from the nearest never grows."""
    picture = _weave(120, 90)
    missing = np.zeros((90, 120), bool)
    missing[:14, 30:100], missing[50:64, 40:60] = True, True
    given = picture.copy()
    given[missing] = 0
    made = completed(given, missing)
    assert np.array_equal(made.pixels[~missing], given[~missing].astype(np.float32))
    assert np.abs(made.pixels[missing] - picture[missing]).mean() < 8
    assert all(b <= a + 1e-3 for a, b in zip(made.energies, made.energies[1:]))
    row, column = made.source[missing].T
    assert not missing[row, column].any()
    with pytest.raises(ValueError, match="nothing to take"):
        completed(given, np.ones_like(missing))


def test_what_is_filled_at_full_size_is_sharp_and_touches_nothing_else():
    whole = cv2.resize(_weave(120, 90), (480, 360), interpolation=cv2.INTER_NEAREST)
    alpha = np.full((360, 480), 255, np.uint8)
    alpha[:56, 120:400], alpha[300:301, 5:40] = 0, 0
    gap = alpha == 0
    given = whole.copy()
    given[gap] = 0
    small = cv2.resize(given, (120, 90), interpolation=cv2.INTER_AREA)
    shown = cv2.resize(alpha.astype(np.float32), (120, 90), interpolation=cv2.INTER_AREA) > 254
    up = np.zeros(shown.shape)
    filling = filling_of(small, shown, up, anything=True)
    assert filling is not None
    made, invented = fill_tile(filling, given, alpha, Tile(0, 0, 480, 360))
    assert np.array_equal(invented, gap), "a slit that the small picture hardly shows as well"
    assert np.array_equal(made[~gap], given[~gap])
    # as much detail as beside it: a blurred patch would have lost it
    steps = np.abs(np.diff(made.astype(int), axis=1)).mean(-1)
    assert steps[4:40, 140:380].mean() > 0.7 * steps[80:116, 140:380].mean()
    assert filling_of(small, np.ones_like(shown), up) is None


def _street() -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Photographs of scikit-image as a street by the water: picture, what is shown, sine of the altitude.

    Above sky, but a shop front of brick with windows from column 260 on; below from the left water, water behind a railing, asphalt, grass.
    """
    h, w = 300, 400
    rng = np.random.default_rng(5)

    def ground(name: str, tint: tuple[float, float, float], level: float, deep: float) -> np.ndarray:
        grey = cv2.resize(getattr(skimage.data, name)(), (w, h), interpolation=cv2.INTER_AREA).astype(np.float32)
        return np.clip((level + deep * (grey - grey.mean())[..., None]) * np.array(tint), 0, 255)

    fur = cv2.cvtColor(skimage.data.chelsea(), cv2.COLOR_RGB2GRAY)
    soft = cv2.GaussianBlur(cv2.resize(fur, (w, h)), (0, 0), 5)[..., None].astype(np.float32) - 120
    picture = 190 + 0.3 * soft + np.array([-40, -10, 25.0])
    picture[150:] = ground("gravel", (0.7, 0.9, 1.15), 110, 0.35)[150:]
    picture[150:, 190:300] = ground("gravel", (1.0, 1.0, 1.0), 95, 0.3)[150:, 190:300]
    picture[150:, 300:] = ground("grass", (0.85, 1.1, 0.6), 100, 0.4)[150:, 300:]
    picture[:150, 260:] = ground("brick", (1.05, 0.95, 0.85), 130, 0.5)[:150, 260:]
    for x in range(270, 390, 30):
        cv2.rectangle(picture, (x, 20), (x + 16, 60), (60, 60, 70), -1)
    cv2.rectangle(picture, (260, 8), (399, 14), (70, 75, 80), -1)
    for x in range(110, 190, 9):
        cv2.line(picture, (x, 230), (x, 299), (235, 235, 230), 2)
    cv2.line(picture, (105, 232), (190, 232), (235, 235, 230), 3)
    picture = np.clip(picture + rng.normal(0, 2, picture.shape), 0, 255).astype(np.uint8)
    shown = np.ones((h, w), bool)
    shown[:12], shown[286:], shown[:, :8] = False, False, False
    picture[~shown] = 0
    up = np.broadcast_to(np.sin((150 - np.arange(h)) / 500)[:, None], (h, w))
    return picture, shown, up


def test_gaps_are_filled_beside_sky_grass_and_water_alone_place_by_place():
    """What --rim fill promises; it invented asphalt, a railing, a shop front above a girder, and sky under water."""
    picture, shown, up = _street()
    careful, bold = filling_of(picture, shown, up), filling_of(picture, shown, up, anything=True)
    assert careful is not None
    assert bold is not None
    below = careful.open[292]
    assert not careful.open[4, 30:235].any(), "sky"
    assert careful.open[4, 275:390].all(), "a shop front above a girder"
    assert not below[20:90].any(), "water"
    assert below[125:180].all(), "a railing"
    assert below[205:285].all(), "asphalt"
    assert not below[315:390].any(), "grass"
    assert not careful.open[40:130, 3].any(), "sky at the left"
    assert {"the top", "the bottom"} <= set(careful.left)
    # each from its own: no sky under water, no grass above
    rows = careful.small.source[..., 0]
    assert (rows[290, 20:90] > 150).all()
    assert (rows[4, 30:235] < 150).all()
    assert (careful.small.source[290, 320:390, 1] > 295).all()
    assert bold.left == ()
    assert not bold.open.any()


def test_boxes_of_what_is_invented_hold_little_else():
    """A gap all round a picture had one box as large as the picture."""
    marked = np.zeros((120, 200), np.uint8)
    marked[:6], marked[-4:], marked[:, :5], marked[60:70, 90:120] = 1, 1, 1, 1
    boxes = boxes_of(marked)
    covered = np.zeros(marked.shape, bool)
    for left, top, width, height, places in boxes:
        part = marked[top : top + height, left : left + width]
        assert part.sum() == places >= 0.5 * part.size
        covered[top : top + height, left : left + width] = True
    assert covered[marked > 0].all()
    assert sum(b[2] * b[3] for b in boxes) < 1.3 * marked.sum()


@pytest.fixture(scope="module")
def rims(row_set: FrameFiles, tmp_path_factory: pytest.TempPathFactory) -> dict[str, tuple[np.ndarray, dict]]:
    """A row joined with each kind of rim: pixels and report."""
    folder = tmp_path_factory.mktemp("rims")
    made = {}
    for rim in ("none", "stretch", "fill"):
        out, told = folder / f"{rim}.tif", folder / f"{rim}.json"
        frames = [str(p) for p in row_set.paths[:3]]
        assert main(["join", *frames, "--out", str(out), "--report", str(told), "--rim", rim, "--width", "1100"]) == 0
        made[rim] = tifffile.imread(out), json.loads(told.read_text())
    return made


def test_a_filled_picture_tells_what_is_invented_and_the_rest_is_untouched(rims: dict[str, tuple[np.ndarray, dict]]):
    (plain, before), (filled, told) = rims["none"], rims["fill"]
    gap = plain[..., 3] == 0
    assert before["invented_px"] == 0
    assert gap.any()
    assert filled.shape == plain.shape
    assert np.array_equal(filled[~gap][:, :3], plain[~gap][:, :3])
    shown = filled[..., 3] > 0
    assert told["invented_px"] == (gap & shown).sum() > 0.15 * gap.sum()
    # sky is, the paving of the terrace is not
    assert (gap & shown)[: len(gap) // 2].sum() > 0.7 * gap[: len(gap) // 2].sum()
    assert not (gap & shown)[-30:].any()
    assert told["rim"]["way"] == "fill"
    places = [s for s in told["suspects"] if s["kind"] == "invented"]
    assert places
    for row, column in np.argwhere(gap & shown)[::997]:
        assert any(
            abs(column - s["u"]) <= s["width"] / 2 + 8 and abs(row - s["v"]) <= s["height"] / 2 + 8 for s in places
        )


def test_a_stretched_picture_has_no_gap_and_shows_things_where_its_report_says(
    row_set: FrameFiles, rims: dict[str, tuple[np.ndarray, dict]]
):
    pixels, told = rims["stretch"]
    assert pixels[..., 3].min() == 255
    assert told["rim"]["way"] == "stretch"
    assert told["rim"]["bow_px"] < 12
    assert (told["canvas"]["width"], told["canvas"]["height"]) == (pixels.shape[1], pixels.shape[0])
    canvas = canvas_of(typed(told))
    rng = np.random.default_rng(4)
    places = rng.integers([40, 40], [pixels.shape[1] - 40, pixels.shape[0] - 40], (300, 2))
    rays = canvas.directions(places.astype(float))
    assert canvas.pixels(rays) == pytest.approx(places, abs=0.05)
    misses = []
    smooth = cv2.GaussianBlur(pixels[..., :3], (0, 0), 3)
    frames = [cv2.GaussianBlur(cv2.imread(str(p))[..., ::-1], (0, 0), 3) for p in row_set.paths[:3]]
    for (u, v), ray in zip(places, rays):
        for row, frame in zip(told["frames"], frames):
            lens = Lens(**row["lens"], width=row["width"], height=row["height"])
            local = ray @ np.array(row["pose"]["rotation"])
            if lens.sees(local):
                x, y = np.rint(lens.project(local)[0]).astype(int)
                if 30 < x < lens.width - 30 and 30 < y < lens.height - 30:
                    misses.append(np.abs(smooth[v, u].astype(int) - frame[y, x]).max())
    assert len(misses) > 200
    assert np.median(misses) < 6
