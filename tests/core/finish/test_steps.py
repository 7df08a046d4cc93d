"""Steps of a recipe against published formulas and reference libraries; the same on tiles, levels and the whole."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import pytest
from scipy.interpolate import PchipInterpolator
from scipy.ndimage import gaussian_filter
from skimage import data
from tests.helpers.commands import run_command

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.figures import figures
from idle_lantern.core.colour.oklab import from_oklab, to_oklab
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import DISPLAY_P3, SRGB
from idle_lantern.core.colour.white import daylight_xy, white_of
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.finish.evenness import drift_of
from idle_lantern.core.finish.finishing import Finish, finished
from idle_lantern.core.finish.recipe import SCHEMA, Recipe, json_schema, parsed, text_of
from idle_lantern.core.finish.registry import STEPS, name_of
from idle_lantern.core.finish.tile_look import Ground
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.frames.reading import probe, read
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.operations import OperatedPicture
from idle_lantern.core.pictures.source import HeldPicture, PictureSource, region

#: Each step with figures that do much.
STRONG: dict[str, dict[str, Any]] = {
    "noise": {"light": 0.6, "colour": 0.8},
    "white_balance": {"kelvin": 8000.0, "from_kelvin": 5500.0, "tint": 0.4},
    "sweep": {"ev": 0.8, "warmth": -0.3},
    "exposure": {"ev": 0.7},
    "high_range": {"white_ev": 2.0},
    "tones": {"shadows": 0.8, "highlights": -0.7},
    "contrast": {"amount": 0.5, "black": 0.03, "white": 0.95},
    "curve": {"points": [[0, 0], [0.25, 0.2], [0.75, 0.82], [1, 1]]},
    "local_contrast": {"amount": 0.8},
    "saturation": {"factor": 1.25, "gentle": 0.4},
    "hue_band": {"hue_deg": 250.0, "lightness": -0.5, "factor": 1.3, "turn_deg": 10.0},
    "black_white": {"weights": [0.5, 0.4, 0.1]},
    "toning": {"light_amount": 0.5, "dark_amount": 0.5},
    "band": {"yaw_deg": 10.0, "width_deg": 60.0, "ev": 0.8},
    "haze": {"yaw_deg": -20.0, "width_deg": 90.0, "veil": 0.05},
    "fringes": {"purple": 1.0, "green": 1.0, "reach_px": 4.0},
    "sharpen": {"radius_px": 1.5, "amount": 1.2, "threshold": 0.004},
}


def ground(source: PictureSource) -> Ground:
    """The picture as a sweep of 180 degrees."""
    width, height = source.sizes[0]
    middle = ((width - 1) / 2, (height - 1) / 2)
    return Ground(SRGB, source.sizes[0], Canvas(Projection("cylindrical"), width, height, width / np.pi, middle))


def recipe(*steps: dict[str, Any]) -> Recipe:
    return parsed({"schema": SCHEMA, "steps": list(steps)}, "test")


def photograph(factor: int = 1) -> np.ndarray:
    """A photograph of the registry's data, made larger smoothly where asked."""
    picture = data.coffee()
    return cv2.resize(picture, None, fx=factor, fy=factor, interpolation=cv2.INTER_CUBIC) if factor > 1 else picture


def whole(source: PictureSource, level: int = 0) -> np.ndarray:
    return region(source, Rectangle(0, 0, *source.sizes[level]), level)


def done(pixels: np.ndarray, *steps: dict[str, Any], space: Any = SRGB) -> np.ndarray:
    """The pixels after steps, 16 bit, as values from 0 to 1."""
    deep = pixels if pixels.dtype == np.uint16 else (pixels.astype(np.uint16) * 257)
    source = HeldPicture(Picture(deep, space=space))
    return whole(finished(source, recipe(*steps), Ground(space, source.sizes[0]))) / 65535


# IEC 61966-2-1, as it is printed there
def decoded(v: np.ndarray) -> np.ndarray:
    return np.where(v <= 0.04045, v / 12.92, ((v + 0.055) / 1.055) ** 2.4)


def encoded(x: np.ndarray) -> np.ndarray:
    x = np.clip(x, 0, 1)
    return np.where(x <= 0.0031308, 12.92 * x, 1.055 * x ** (1 / 2.4) - 0.055)


def near(found: np.ndarray, expected: np.ndarray, off: float) -> bool:
    """Whether no value is further off; pytest's own comparison takes seconds for a picture."""
    return bool(np.abs(found - expected).max() <= off)


def test_every_step_is_tried_here_and_nowhere_named_else():
    # healing and what comes back have tests of their own
    assert {*STRONG, "heal", "retouched"} == {name_of(kind) for kind in STEPS}


def test_oklab_gives_its_published_pairs():
    """Ottosson 2020, table of XYZ and Lab pairs, to the three digits printed there."""
    to_xyz = np.array(
        [[0.4124564, 0.3575761, 0.1804375], [0.2126729, 0.7151522, 0.0721750], [0.0193339, 0.1191920, 0.9503041]]
    )
    for xyz, lab in (
        ((0.950, 1.000, 1.089), (1.000, 0.000, 0.000)),
        ((1.000, 0.000, 0.000), (0.450, 1.236, -0.019)),
        ((0.000, 1.000, 0.000), (0.922, -0.671, 0.263)),
        ((0.000, 0.000, 1.000), (0.153, -1.415, -0.449)),
    ):
        light = np.linalg.solve(to_xyz, xyz).astype(np.float32)[None, None]
        assert to_oklab(light)[0, 0] == pytest.approx(lab, abs=1.5e-3)
    values = np.random.default_rng(1).uniform(-0.1, 1.6, (40, 50, 3)).astype(np.float32)
    assert near(from_oklab(to_oklab(values, DISPLAY_P3), DISPLAY_P3), values, 2e-4)


def test_exposure_is_linear_light_times_two_to_its_power():
    v = photograph() / 255
    for ev in (-2.0, 0.5, 1.7):
        assert near(done(photograph(), {"do": "exposure", "ev": ev}), encoded(decoded(v) * 2**ev), 2e-5)


def test_what_is_out_of_range_is_cut_at_the_end_only():
    there_and_back = done(photograph(), {"do": "exposure", "ev": 3.0}, {"do": "exposure", "ev": -3.0})
    assert near(there_and_back, photograph() / 255, 2e-5)


def test_a_curve_is_scipys_pchip_on_display_values():
    points = [[0, 0.05], [0.2, 0.1], [0.6, 0.8], [1, 0.95]]
    expected = PchipInterpolator(*np.array(points).T)(photograph() / 255)
    assert near(done(photograph(), {"do": "curve", "points": points}), expected, 2e-5)


def test_saturation_is_chroma_of_oklab_and_black_and_white_a_weighted_sum():
    light = decoded(photograph() / 255).astype(np.float32)
    lab = to_oklab(light)
    lab[..., 1:] *= 0.4
    assert near(done(photograph(), {"do": "saturation", "factor": 0.4}), encoded(from_oklab(lab)), 1e-4)
    grey = encoded(light @ np.array([0.6, 0.3, 0.1]))[..., None].repeat(3, -1)
    assert near(done(photograph(), {"do": "black_white", "weights": [0.6, 0.3, 0.1]}), grey, 2e-5)


def test_sharpening_is_an_unsharp_mask_on_lightness():
    """SciPy's Gaussian, cut at four sigmas as ours."""
    lab = to_oklab(decoded(photograph() / 255).astype(np.float32))
    apart = lab[..., 0] - gaussian_filter(lab[..., 0], 2.0, truncate=4.0)
    apart[np.abs(apart) < 0.01] = 0
    lab[..., 0] += 1.5 * apart
    found = done(photograph(), {"do": "sharpen", "radius_px": 2.0, "amount": 1.5, "threshold": 0.01})
    # a difference that stands just at the threshold may fall to either side
    assert np.quantile(np.abs(found - encoded(from_oklab(lab))), 0.999) < 3e-4


def test_white_balance_adapts_by_bradford_between_lights_of_cie_15():
    """CIE 15:2004: D65 is 6504 K at x 0.3127, y 0.3290; D50 is 5003 K at 0.3457, 0.3585. Bradford D65 to D50 as published (ICC.1)."""
    assert daylight_xy(6504) == pytest.approx((0.3127, 0.3290), abs=3e-4)
    assert daylight_xy(5003) == pytest.approx((0.3457, 0.3585), abs=3e-4)
    # a black body of 2856 K is illuminant A (CIE 15:2004)
    x, y, z = white_of(2856)
    assert (x / (x + y + z), y / (x + y + z)) == pytest.approx((0.4476, 0.4074), abs=1e-3)
    kind = next(kind for kind in STEPS if name_of(kind) == "white_balance")
    step: Any = kind(kelvin=6504.0, from_kelvin=5003.0)  # type: ignore[call-arg]
    published = [
        [1.0478112, 0.0228866, -0.0501270],
        [0.0295424, 0.9904844, -0.0170491],
        [-0.0092345, 0.0150436, 0.7521316],
    ]
    assert step.matrix(np.eye(3)) == pytest.approx(np.array(published), abs=2e-3)
    grey = np.full((8, 8, 3), 128, np.uint8)
    warm = done(grey, {"do": "white_balance", "kelvin": 8000.0, "from_kelvin": 5500.0})
    assert warm[0, 0, 0] > warm[0, 0, 1] > warm[0, 0, 2]
    magenta = done(grey, {"do": "white_balance", "tint": 1.0})
    assert magenta[0, 0, 1] < min(magenta[0, 0, 0], magenta[0, 0, 2])
    assert done(grey, {"do": "white_balance", "kelvin": 5000.0, "from_kelvin": 5000.0}) == pytest.approx(
        grey / 255, abs=1e-5
    )


def test_the_base_of_tones_is_the_guided_filter_by_its_definition():
    """He, Sun and Tang 2010, equations 5 to 8, window by window, on a picture that need not be reduced."""
    from idle_lantern.core.finish.base_layer import base_layer
    from idle_lantern.core.finish.tile_look import TileLook
    from idle_lantern.core.pictures.operations import TilePlace

    grey = (data.camera()[60:120, 150:225] / 255).astype(np.float32)
    reach, radius = 0.08, 6
    layer = base_layer(grey, np.ones_like(grey), reach)
    place = TilePlace(Rectangle(0, 0, 75, 60), (75, 60), (75, 60))
    look = TileLook(Ground(SRGB, (75, 60)), place, np.ones_like(grey), np.zeros((60, 75, 3), np.float32))
    found = layer.at(grey, look)
    a, b = np.zeros_like(grey), np.zeros_like(grey)
    padded = np.pad(grey, radius, mode="symmetric")
    for y in range(60):
        for x in range(75):
            window = padded[y : y + 2 * radius + 1, x : x + 2 * radius + 1].astype(float)
            a[y, x] = window.var() / (window.var() + 0.08**2)
            b[y, x] = window.mean() * (1 - a[y, x])
    mean = [
        np.array(
            [[np.pad(c, radius, mode="symmetric")[y : y + 13, x : x + 13].mean() for x in range(75)] for y in range(60)]
        )
        for c in (a, b)
    ]
    assert near(found, mean[0] * grey + mean[1], 2e-4)


def test_tones_draw_no_halo_along_a_horizon():
    """A bright sky over dark ground: beside the edge each is as far from it, within a hundredth."""
    pixels = np.full((900, 1400, 3), 60, np.uint8)
    pixels[:420] = 225
    made = done(pixels, {"do": "tones", "shadows": 1.0, "highlights": -1.0})[:, 700, 0]
    assert np.abs(made[5:415] - made[200]).max() < 0.012
    assert np.abs(made[425:895] - made[700]).max() < 0.012
    assert made[700] > 60 / 255 + 0.05
    assert made[200] < 225 / 255 - 0.05


def _drifting(ev: float, warmth: float, seed: int = 1) -> HeldPicture:
    """A sky of soft clouds over a photograph's ground, brighter and warmer from left to right."""
    rng = np.random.default_rng(seed)
    sky = 0.35 + 0.05 * cv2.GaussianBlur(rng.normal(0, 8, (500, 1400)), (0, 0), 9)
    light = np.clip(sky, 0.1, 0.6)[..., None] * np.array([0.8, 0.9, 1.1])
    light[260:] = decoded(cv2.resize(photograph(), (1400, 240)) / 255)
    across = (np.arange(1400) + 0.5) / 1400 - 0.5
    stops = across[:, None] * np.array([ev + warmth / 2, ev, ev - warmth / 2])
    return HeldPicture(Picture(np.rint(encoded(light * 2.0**stops) * 65535).astype(np.uint16)))


@pytest.mark.parametrize(("ev", "warmth"), [(0.5, 0.0), (-0.35, 0.25), (0.0, 0.0)])
def test_a_drift_across_is_measured_and_gone_when_it_is_evened(ev: float, warmth: float):
    source = _drifting(ev, warmth)
    found = drift_of(source)
    assert (found.ev, found.warmth) == (pytest.approx(ev, abs=0.06), pytest.approx(warmth, abs=0.04))
    assert found.is_seen == bool(ev)
    even = recipe({"do": "sweep", "ev": -found.ev, "warmth": -found.warmth})
    assert not drift_of(finished(source, even, ground(source))).is_seen


def test_a_veil_is_taken_off_as_air_laid_it_on():
    """Light through haze is light (1 - v) + v (Koschmieder 1924, airlight of white)."""
    plain = HeldPicture(Picture((photograph() / 255.0 * 40000).astype(np.uint16)))
    laid = finished(plain, recipe({"do": "haze", "yaw_deg": 0, "width_deg": 180, "veil": -0.25}), ground(plain))
    light = SRGB.to_linear(whole(plain) / np.float32(65535))
    middle = light.shape[1] // 2
    # (light + v) / (1 + v) is a veil of v / (1 + v)
    wanted = SRGB.from_linear(light * 0.8 + 0.2)[:, middle]
    assert np.abs(whole(laid)[:, middle] / 65535 - wanted).max() < 2e-3


def test_a_band_is_one_power_of_two_in_its_middle_and_nothing_beyond_its_width():
    plain = HeldPicture(Picture(np.full((20, 360, 3), 16000, np.uint16)))
    made = whole(finished(plain, recipe({"do": "band", "yaw_deg": 30, "width_deg": 40, "ev": 1.0}), ground(plain)))
    light = SRGB.to_linear(made[10, :, 1] / np.float32(65535)) / SRGB.to_linear(np.float32(16000 / 65535))
    yaw = (np.arange(360) - 179.5) / 2
    assert np.log2(light[np.argmin(np.abs(yaw - 30))]) == pytest.approx(1, abs=0.01)
    assert np.log2(light[np.argmin(np.abs(yaw - 50))]) == pytest.approx(0.5, abs=0.03)
    assert np.abs(np.log2(light[np.abs(yaw - 30) > 41])).max() < 1e-3


def test_fringes_are_paled_at_edges_and_purple_things_are_not():
    picture = np.full((60, 200, 3), 240, np.uint8)
    picture[:, 100:] = 20
    picture[:, 97:100] = (150, 60, 190)  # a purple rim
    picture[:, 20:60] = (205, 170, 225)  # a pale purple thing, softly lit
    source = HeldPicture(Picture(picture))
    made = whole(finished(source, recipe({"do": "fringes", "purple": 1.0, "reach_px": 4}), ground(source)))

    def chroma(x: int) -> tuple[float, float]:
        labs = [to_oklab(SRGB.to_linear(p[30:31, x : x + 1] / np.float32(255)))[0, 0] for p in (picture, made)]
        return tuple(float(np.hypot(lab[1], lab[2])) for lab in labs)  # type: ignore[return-value]

    before, after = chroma(98)
    assert before > 0.12
    assert after < 0.2 * before
    before, after = chroma(40)
    assert after == pytest.approx(before, abs=2e-3)


def test_things_that_stand_there_are_no_drift():
    """A photograph, which has no sky at all."""
    assert not drift_of(HeldPicture(Picture(data.astronaut()))).is_seen


@pytest.mark.parametrize("name", STRONG)
def test_a_step_on_a_reduced_picture_is_the_reduced_result(name: str):
    """Within one hundredth of the range for 99 of 100 values, as people judge a preview."""
    source = HeldPicture(Picture(photograph(3).astype(np.uint16) * 257))
    made = finished(source, recipe({"do": name, **STRONG[name]}), ground(source))
    full = whole(made).astype(np.float32)
    small = cv2.resize(full, made.sizes[1], interpolation=cv2.INTER_AREA)
    assert np.quantile(np.abs(whole(made, 1) - small), 0.99) <= 655


def test_no_tile_shows():
    """All steps at once, strong: tiles of 64 to 1 024 give the same pixels within one level."""
    pixels = photograph(2)
    steps = [{"do": name, **figures_of} for name, figures_of in STRONG.items() if name != "black_white"]
    made = []
    for side in (64, 200, 1024):
        source = HeldPicture(Picture(pixels))
        source.tile_px = side
        operated = OperatedPicture(source, [Finish(recipe(*steps).working, source, ground(source))])
        made.append(whole(operated).astype(int))
    for other in made[1:]:
        assert np.abs(other - made[0]).max() <= 1


@pytest.mark.parametrize("dtype", [np.uint8, np.uint16, np.float32])
def test_a_recipe_that_changes_nothing_gives_the_very_pixels(dtype: Any):
    pixels = photograph()
    pixels = (pixels / np.float32(255)) if dtype == np.float32 else pixels.astype(dtype)
    source = HeldPicture(Picture(photograph())) if dtype == np.float32 else HeldPicture(Picture(pixels))
    idle = recipe({"do": "exposure"}, {"do": "sharpen"}, {"do": "exposure", "ev": 2.0, "on": False})
    assert finished(source, idle, ground(source)) is source
    back = recipe({"do": "exposure", "ev": 1.0}, {"do": "exposure", "ev": -1.0})
    found = whole(finished(source, back, ground(source)))
    assert np.abs(found.astype(int) - whole(source).astype(int)).max() <= (0 if found.dtype == np.uint8 else 1)


def test_gaps_stay_gaps_and_do_not_bleed_into_the_rim():
    pixels = np.full((200, 300, 3), 200, np.uint8)
    alpha = np.full((200, 300), 255, np.uint8)
    alpha[:, 150:], pixels[:, 150:] = 0, 0
    source = HeldPicture(Picture(pixels, alpha))
    made = whole(finished(source, recipe({"do": "sharpen", **STRONG["sharpen"]}), ground(source)))
    assert (made[..., 3] == alpha).all()
    assert np.abs(made[:, :150, :3].astype(int) - 200).max() <= 1


def test_the_published_schema_and_page_are_those_of_the_steps():
    formats = Path(__file__).parents[3] / "docs" / "formats"
    assert json.loads((formats / "recipe-1.schema.json").read_text(encoding="utf-8")) == json_schema()
    page = (formats / "recipe.md").read_text(encoding="utf-8")
    for kind in STEPS:
        assert f"| `{name_of(kind)}` |" in page
        for figure in figures(kind):
            assert f"`{figure.name}` ({figure.least:g} to {figure.most:g}" in page, (name_of(kind), figure.name)


def test_figures_tell_limits_and_titles_and_the_schema_holds_every_step():
    schema = json_schema()
    told = json.dumps(schema)
    for kind in STEPS:
        assert f'"{name_of(kind)}"' in told
        assert kind.title
        assert kind.meaning
        for figure in figures(kind):
            assert figure.title != figure.name, (name_of(kind), figure.name)
            assert figure.default is not None
    again = parsed(json.loads(text_of(recipe({"do": "exposure", "ev": 1}))), "again")
    assert again == recipe({"do": "exposure", "ev": 1.0})


@pytest.mark.parametrize(
    ("told", "words"),
    [
        ({}, "Is no recipe"),
        ({"schema": "idle-lantern/recipe/9", "steps": []}, "Is no recipe"),
        ([{"do": "exposure"}], "Is no recipe"),
        ({"schema": SCHEMA, "steps": [{"do": "blur"}]}, "Step 1 'blur' is not known"),
        ({"schema": SCHEMA, "steps": [{"ev": 1}]}, "Step 1 has no name"),
        ({"schema": SCHEMA, "steps": [{"do": "exposure", "ev": 30}]}, r"step 1 \(exposure\), ev"),
        ({"schema": SCHEMA, "steps": [{"do": "exposure", "stops": 1}]}, "unknown field `stops`"),
        ({"schema": SCHEMA, "steps": [{"do": "curve", "points": [[0.5, 0], [0.5, 1]]}]}, "do not go to the right"),
        ({"schema": SCHEMA, "steps": 5}, "steps"),
        ({"schema": SCHEMA, "stops": []}, "unknown part 'stops'"),
        ({"schema": SCHEMA, "steps": [{"do": "exposure", "mask": {"kind": "all", "of": []}}]}, "mask.of"),
    ],
)
def test_a_bad_recipe_is_told_with_its_place(told: Any, words: str):
    with pytest.raises(InputError, match=words):
        parsed(told, "bad.json")


# --- the command -------------------------------------------------------------


def _files(tmp_path: Path, steps: list[dict[str, Any]]) -> tuple[Path, Path]:
    picture, file = tmp_path / "in.png", tmp_path / "r.json"
    write(Picture(photograph()), picture)
    file.write_text(json.dumps({"schema": SCHEMA, "steps": steps}))
    return picture, file


def test_the_command_finishes_a_picture(tmp_path: Path):
    picture, file = _files(tmp_path, [{"do": "exposure", "ev": 1.0}])
    out = tmp_path / "out.png"
    told = run_command("finish", picture, "--recipe", file, "--out", out)
    assert (told.returncode, told.stdout.strip()) == (0, str(out)), told.stderr
    expected = np.rint(encoded(decoded(photograph() / 255) * 2) * 255)
    assert np.abs(read(out).pixels.astype(int) - expected).max() <= 1
    delivered = tmp_path / "d.png"
    assert run_command("deliver", picture, "--recipe", file, "--out", delivered).returncode == 0
    assert (read(delivered).pixels == read(out).pixels).all()


def test_a_recipe_that_changes_nothing_copies_the_file_and_metadata_go_along(tmp_path: Path):
    _picture, file = _files(tmp_path, [])
    jpeg, out = tmp_path / "in.jpg", tmp_path / "out.jpg"
    from idle_lantern.core.deliver.write_options import WriteOptions

    taken = Metadata(camera="Box", focal_mm=35.0, iso=200.0)
    write(Picture(photograph(), space=DISPLAY_P3), jpeg, WriteOptions(metadata=taken))
    assert run_command("finish", jpeg, "--recipe", file, "--out", out).returncode == 0
    assert out.read_bytes() == jpeg.read_bytes()
    file.write_text(json.dumps({"schema": SCHEMA, "steps": [{"do": "contrast", "amount": 0.3}]}))
    assert run_command("finish", jpeg, "--recipe", file, "--out", out).returncode == 0
    assert read(out).space == DISPLAY_P3
    found = probe(out).metadata
    assert replace(Metadata(), camera=found.camera, focal_mm=found.focal_mm, iso=found.iso) == taken


@pytest.mark.parametrize(
    ("change", "word"),
    [
        ({"--out": "in.png"}, "files that are read"),
        ({"--out": "r.json"}, "files that are read"),
        ({"--out": "out.xyz"}, "no picture ending"),
        ({"--recipe": "none.json"}, "Cannot be read"),
    ],
)
def test_what_cannot_be_is_said_before_the_work(tmp_path: Path, change: dict[str, str], word: str):
    picture, file = _files(tmp_path, [{"do": "exposure", "ev": 1.0}])
    before = picture.read_bytes(), file.read_bytes()
    arguments = {"--recipe": "r.json", "--out": "out.png"} | change
    told = run_command("finish", picture, *(w for k, v in arguments.items() for w in (k, tmp_path / v)))
    assert told.returncode == 2
    assert word in told.stderr
    assert (picture.read_bytes(), file.read_bytes()) == before
    assert not (tmp_path / "out.png").exists()


def test_ten_steps_together_look_on_screen_as_in_the_file():
    """The reduced picture finished, against the finished one reduced: within one percent of the range for 99 of 100 values."""
    photo = cv2.resize(data.astronaut(), None, fx=3, fy=3, interpolation=cv2.INTER_CUBIC)
    source = HeldPicture(Picture(photo.astype(np.uint16) * 257))
    steps = [
        {"do": "white_balance", "kelvin": 6200.0, "from_kelvin": 5500.0},
        {"do": "exposure", "ev": 0.3},
        {"do": "tones", "shadows": 0.4, "highlights": -0.4},
        {"do": "contrast", "amount": 0.2},
        {"do": "curve", "points": [[0, 0], [0.3, 0.27], [0.7, 0.75], [1, 1]]},
        {"do": "local_contrast", "amount": 0.3},
        {"do": "saturation", "factor": 1.1, "gentle": 0.2},
        {"do": "hue_band", "lightness": -0.4},
        {"do": "noise", "colour": 0.4},
        {"do": "sharpen", "radius_px": 1.0, "amount": 0.6},
    ]
    made = finished(source, recipe(*steps), ground(source))
    full = whole(made).astype(np.float32)
    w, h = made.sizes[1]
    shown = region(made, Rectangle(0, 0, w, h), 1).astype(np.float32)
    reduced_after = cv2.resize(full, (w, h), interpolation=cv2.INTER_AREA)
    assert np.quantile(np.abs(shown - reduced_after), 0.99) <= 655
