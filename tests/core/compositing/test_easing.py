"""Lines drawn straight and round things drawn round, on canvases of every kind; the rest stays about where it was, and goes back exactly."""

from __future__ import annotations

import json
import math
from pathlib import Path

import cv2
import numpy as np
import pytest
from tests.helpers.commands import run_command
from tests.helpers.sets import FrameFiles

from idle_lantern.core.base.errors import InputError, JoinError
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.compositing.canvas.easing import eased
from idle_lantern.core.frames.reading import read
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.join.known_picture import known_from
from idle_lantern.core.request.eased import RoundThing, StraightLine, ray_of, read_eased


def cylinder() -> Canvas:
    return Canvas(Projection("cylindrical"), 6000, 2500, 6000 / math.radians(160), (2999.5, 1249.5))


def flat() -> Canvas:
    return Canvas(Projection("rectilinear"), 6000, 4000, 3000 / math.tan(math.radians(50)), (2999.5, 1999.5))


def sphere() -> Canvas:
    return Canvas(Projection("equirectangular"), 4000, 2000, 4000 / (2 * math.pi), (1999.5, 999.5), full_circle=True)


def bow_px(canvas: Canvas, line: StraightLine) -> float:
    """How far what is straight in the world strays from the chord between its ends."""
    a, b = ray_of(line.from_deg), ray_of(line.to_deg)
    angle, along = math.acos(a @ b), np.linspace(0, 1, 90)[:, None]
    points = canvas.pixels((np.sin((1 - along) * angle) * a + np.sin(along * angle) * b) / math.sin(angle))
    chord = points[-1] - points[0]
    return float(np.abs((points - points[0]) @ np.array([-chord[1], chord[0]]) / np.hypot(*chord)).max())


def out_of_round(canvas: Canvas, thing: RoundThing, share: float = 1.0) -> float:
    """Longer to shorter axis of what a circle about a place is drawn as."""
    centre, angle = ray_of(thing.centre_deg), math.radians(thing.radius_deg) * share
    right = np.cross([0, 1, 0], centre)
    right /= np.linalg.norm(right)
    turn = np.linspace(0, 2 * math.pi, 72, endpoint=False)[:, None]
    ring = np.cos(turn) * right + np.sin(turn) * np.cross(centre, right)
    points = canvas.pixels(math.cos(angle) * centre + math.sin(angle) * ring)
    sizes = np.linalg.svd(points - points.mean(0), compute_uv=False)
    return float(sizes[0] / sizes[1])


LINE = StraightLine((-40.0, -15.0), (35.0, -12.0))


@pytest.mark.parametrize(
    ("canvas", "line"),
    [(cylinder(), LINE), (sphere(), LINE), (sphere(), StraightLine((100.0, 10.0), (160.0, 30.0)))],
)
def test_what_is_straight_is_drawn_straight(canvas: Canvas, line: StraightLine):
    before, after = bow_px(canvas, line), bow_px(eased(canvas, [line]), line)
    assert before > 20
    assert after < max(1.0, 0.035 * before)


@pytest.mark.parametrize(
    ("canvas", "thing"),
    [
        (flat(), RoundThing((42.0, -15.0), 5.0)),
        (flat(), RoundThing((-42.0, 20.0), 6.0)),
        (cylinder(), RoundThing((60.0, 24.0), 4.0)),
        (sphere(), RoundThing((120.0, 50.0), 8.0)),
    ],
)
def test_round_things_are_drawn_round(canvas: Canvas, thing: RoundThing):
    bent = eased(canvas, [thing])
    for share in (1.0, 0.5):
        before, after = out_of_round(canvas, thing, share), out_of_round(bent, thing, share)
        assert before > 1.05
        assert after - 1 < 0.1 * (before - 1)
    # about as large as it was
    side = [np.linalg.norm(np.diff(c.pixels(np.stack([ray_of((y, thing.centre_deg[1])) for y in (thing.centre_deg[0] - 0.3, thing.centre_deg[0] + 0.3)])), axis=0)) for c in (canvas, bent)]  # fmt: skip
    assert 0.6 < side[1] / side[0] < 1.4


@pytest.mark.parametrize("canvas", [cylinder(), flat(), sphere()])
def test_the_rest_stays_and_the_way_back_is_exact(canvas: Canvas):
    bent = eased(canvas, [LINE, RoundThing((42.0, 20.0), 5.0)])
    assert (bent.width, bent.height) == (canvas.width, canvas.height)
    u, v = np.meshgrid(np.linspace(0, canvas.width - 1, 70), np.linspace(2, canvas.height - 3, 40))
    places = np.stack([u, v], -1)
    rays = bent.directions(places)
    off = np.abs(bent.pixels(rays) - places)
    if canvas.full_circle:
        off[..., 0] = np.minimum(off[..., 0], canvas.width - off[..., 0])
    assert off.max() < 0.02
    moved = np.abs(canvas.pixels(rays) - places)
    if canvas.full_circle:
        moved[..., 0] = np.minimum(moved[..., 0], canvas.width - moved[..., 0])
    assert np.median(moved) < 0.005 * canvas.width
    small = bent.scaled(0.25)
    assert np.abs(small.pixels(rays[::7, ::7]) - ((places[::7, ::7] + 0.5) / 4 - 0.5))[2:-2, 2:-2].max() < 2.5


def test_nothing_asked_or_shown_is_the_very_same_canvas_and_too_much_is_refused():
    canvas = cylinder()
    assert eased(canvas, []) is canvas
    assert eased(canvas, [RoundThing((170.0, 0.0), 5.0)]) is canvas
    with pytest.raises(JoinError, match="more than the picture can bend"):
        eased(sphere(), [StraightLine((-85.0, 60.0), (85.0, 60.0))])  # leads past the pole


@pytest.mark.parametrize(
    ("told", "said"),
    [
        ('[{"do": "line", "from_deg": [0, 0]}]', "place 1"),
        ('[{"do": "line", "from_deg": [0, 0], "to_deg": [1, 1]}, {"do": "oval"}]', "place 2"),
        ('[{"do": "round", "centre_deg": [0, 91], "radius_deg": 3}]', "place 1"),
        ("{}", "its top"),
    ],
)
def test_a_wrong_file_is_told_by_its_place(tmp_path: Path, told: str, said: str):
    path = tmp_path / "eased.json"
    path.write_text(told)
    with pytest.raises(InputError, match=f"Is wrong at {said}"):
        read_eased(path)


def test_a_join_draws_a_line_straight_and_its_report_tells_the_canvas(row_set: FrameFiles, tmp_path: Path):
    """Sampled once from the frames: each place shows what the plain picture shows in that direction, as its report has it."""
    (tmp_path / "places.json").write_text('[{"do": "line", "from_deg": [-25, -14], "to_deg": [22, -14]}]')
    made = []
    for name, more in (("plain", []), ("eased", ["--ease", tmp_path / "places.json"])):
        out, report = tmp_path / f"{name}.tif", tmp_path / f"{name}.json"
        done = run_command(
            "join", *row_set.paths[:3], "--out", out, "--report", report, "--projection", "cylindrical", *more
        )
        assert done.returncode == 0, done.stderr
        picture = read(out)
        h, w = picture.pixels.shape[:2]
        made.append((picture, known_from(report, Rectangle(0, 0, w, h)).canvas, json.loads(report.read_text())))
    (plain, plain_canvas, _), (bent, bent_canvas, told) = made
    assert told["canvas"]["stretch"] is not None
    line = StraightLine((-25.0, -14.0), (22.0, -14.0))
    assert bow_px(plain_canvas, line) > 10
    assert bow_px(bent_canvas, line) < 1
    h, w = bent.pixels.shape[:2]
    u, v = np.meshgrid(np.arange(20.0, w - 20), np.arange(20.0, h - 20))
    at = plain_canvas.pixels(bent_canvas.directions(np.stack([u, v], -1))).astype(np.float32)
    wanted = cv2.remap(plain.pixels, at, None, cv2.INTER_LINEAR).astype(int)
    shown = bent.pixels[20 : h - 20, 20 : w - 20].astype(int)
    both = bent.alpha[20 : h - 20, 20 : w - 20] > 0
    assert np.median(np.abs(shown - wanted)[both]) <= 2
