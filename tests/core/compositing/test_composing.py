"""How a picture is composed: another turn, projection or eye drawn from the one that is there, and what each costs."""

from __future__ import annotations

import math

import cv2
import numpy as np
import pytest

from idle_lantern.core.compositing.canvas.canvas import Canvas, make_canvas
from idle_lantern.core.compositing.canvas.costs import costs_of
from idle_lantern.core.compositing.canvas.redrawn import redrawn
from idle_lantern.core.compositing.canvas.requested_canvas import canvas_for
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.core.geometry.sphere import direction
from idle_lantern.core.geometry.uprights import then_turned, upright_turn
from idle_lantern.core.registration.solve.covered_field import field_of
from idle_lantern.core.registration.solve.poses import Poses
from idle_lantern.core.request.options import JoinOptions


def _row(yaws: list[float], pitch: float = 0.0) -> Poses:
    lens = Lens("rectilinear", 900.0, 900, 1200)
    turned = np.stack([rotations.from_yaw_pitch_roll(*np.radians([y, pitch, 0])) for y in yaws])
    return Poses(tuple(range(len(yaws))), (lens,) * len(yaws), turned, 0.1)


def test_a_leaning_upright_is_made_upright_and_a_tilted_horizon_level():
    """Directions of a post and of the sea's rim, leaned by a known turn; by hand: the post must come back to azimuth 20."""
    lean = rotations.from_yaw_pitch_roll(*np.radians([0.0, 2.0, -3.5]))
    post = [lean @ direction(math.radians(20), math.radians(a)) for a in (-15, 25)]
    other_post = [lean @ direction(math.radians(-35), math.radians(a)) for a in (-10, 30)]
    rim = [lean @ direction(math.radians(a), 0.0) for a in (-40, 45)]
    for uprights, levels in (([post, other_post], []), ([], [rim]), ([post], [rim])):
        turn = upright_turn([tuple(u) for u in uprights], [tuple(r) for r in levels])
        for one, two in (post, other_post):
            a, b = turn @ one, turn @ two
            assert math.atan2(a[0], a[2]) == pytest.approx(math.atan2(b[0], b[2]), abs=1e-3)
        assert [(turn @ d)[1] for d in rim] == pytest.approx([0, 0], abs=1e-3)
    # one upright alone leaves the rest as it is: no larger turn than what it leans by
    alone = upright_turn([tuple(post)], [])
    assert math.acos((np.trace(alone) - 1) / 2) < math.radians(4.1)
    assert upright_turn([], []) == pytest.approx(np.eye(3))


def test_a_turn_after_a_turn_is_both():
    more = rotations.from_yaw_pitch_roll(*np.radians([10, -4, 3]))
    both = then_turned((20.0, 5.0, -2.0), more)
    whole = rotations.from_yaw_pitch_roll(*np.radians(both))
    assert whole == pytest.approx(more @ rotations.from_yaw_pitch_roll(*np.radians([20, 5, -2])), abs=1e-9)


@pytest.mark.parametrize("yaws", [[-60.0, 0.0, 60.0], [60.0 * i for i in range(6)]])
def test_a_planet_is_round_about_what_lies_straight_below(yaws: list[float]):
    """The horizon of a stereographic picture that looks straight down is a circle about its middle: all directions of one altitude lie as
    far from it (Snyder, USGS PP 1395, chapter 21: polar aspect)."""
    poses = _row(yaws)
    planet = canvas_for(poses, field_of(poses), JoinOptions(projection="stereographic", turn_deg=(0.0, 90.0, 0.0)))
    azimuths = np.radians([-50.0, -20.0, 0.0, 30.0, 55.0])
    for altitude in (-0.3, 0.0, 0.4):
        off = planet.pixels(direction(azimuths, np.full(5, altitude))) - np.array(planet.centre_px)
        away = 2 * math.tan((math.pi / 2 + altitude) / 2) * planet.px_per_rad
        assert np.hypot(*off.T) == pytest.approx(np.full(5, away), rel=1e-6)
    # ahead is up
    ahead = planet.pixels(np.array([[0.0, 0.0, 1.0]]))[0] - np.array(planet.centre_px)
    assert ahead[1] < 0
    assert abs(ahead[0]) < 1e-6


def test_a_flat_picture_of_another_look_is_the_homography_that_opencv_warps_by():
    """Perspective by hand against ``cv2.warpPerspective``: K R K' (Hartley and Zisserman 2004, section 8.4)."""
    poses = _row([0.0])
    options = JoinOptions(projection="rectilinear")
    old = canvas_for(poses, field_of(poses), options)
    new = canvas_for(poses, field_of(poses), JoinOptions(projection="rectilinear", turn_deg=(4.0, 3.0, 2.0)))
    rng = np.random.default_rng(1)
    picture = cv2.GaussianBlur(rng.integers(0, 255, (old.height, old.width, 3)).astype(np.uint8), (0, 0), 9)
    drawn = redrawn(picture, old, new, most_px=new.width * new.height)

    def camera(canvas: Canvas) -> np.ndarray:
        f, (cx, cy) = canvas.px_per_rad, canvas.centre_px
        return np.array([[f, 0, cx], [0, f, cy], [0, 0, 1.0]])

    turn = new.canvas_from_world @ old.canvas_from_world.T
    homography = camera(new) @ turn @ np.linalg.inv(camera(old))
    expected = cv2.warpPerspective(picture, homography, (new.width, new.height), flags=cv2.INTER_LINEAR)
    inside = cv2.erode((drawn[..., 3] == 255).astype(np.uint8), np.ones((9, 9), np.uint8), borderValue=0) > 0
    assert inside.mean() > 0.7
    assert np.abs(drawn[inside][:, :3].astype(int) - expected[inside]).max() <= 2


def test_the_same_canvas_draws_the_same_picture_across_the_end_of_a_circle_too():
    canvas = Canvas(Projection("equirectangular"), 400, 200, 400 / (2 * math.pi), (199.5, 99.5), full_circle=True)
    rng = np.random.default_rng(2)
    picture = rng.integers(0, 255, (200, 400, 3)).astype(np.uint8)
    same = redrawn(picture, canvas, canvas)
    assert np.array_equal(same[1:-1, :, :3], picture[1:-1])
    quarter = Canvas(
        canvas.projection,
        400,
        200,
        canvas.px_per_rad,
        canvas.centre_px,
        rotations.about_y(math.pi / 2),
        full_circle=True,
    )
    turned = redrawn(picture, canvas, quarter)
    assert np.abs(turned[1:-1, :, :3].astype(int) - np.roll(picture, 100, 1)[1:-1]).max() <= 1


def test_a_turn_is_that_of_the_canvas_and_poses_stay():
    poses = _row([-30.0, 0.0, 30.0])
    seen = field_of(poses)
    plain = canvas_for(poses, seen, JoinOptions(projection="panini"))
    turned = canvas_for(poses, seen, JoinOptions(projection="panini", turn_deg=(0.0, 0.0, 5.0)))
    ahead = np.array([0.0, 0.0, 1.0])
    right = direction(math.radians(20), 0.0)
    tilt = [float(np.diff([c.pixels(ahead)[1], c.pixels(right)[1]])[0]) for c in (plain, turned)]
    assert tilt[0] == pytest.approx(0, abs=1e-6)
    assert tilt[1] > 20  # roll is positive clockwise as it is seen: what lies to the right comes down
    near = canvas_for(poses, seen, JoinOptions(projection="panini", distance=0.0))
    flat = make_canvas(poses, seen, "rectilinear")
    assert near.pixels(right) - near.pixels(ahead) == pytest.approx(flat.pixels(right) - flat.pixels(ahead))


@pytest.mark.parametrize(("name", "half_deg"), [("rectilinear", 50.0), ("cylindrical", 50.0), ("stereographic", 50.0)])
def test_costs_follow_from_the_formulas_of_the_projections(name: str, half_deg: float):
    """Snyder, *Map Projections* (USGS PP 1395): scale 1/cos² of the flat and sec²(c/2) of the stereographic projection at c
    from the middle, sec of the latitude on the cylinder."""
    poses = _row([-22.0, 22.0])
    canvas = make_canvas(poses, field_of(poses), name)
    shown = np.ones((90, 160), bool)
    line = direction(np.radians([-40.0, 40.0]), np.radians([20.0, 20.0]))
    cost = costs_of(canvas, shown, line)
    u, v = canvas.width / 2, canvas.height / 2
    corner = canvas.directions(np.array([canvas.centre_px[0] + u * 0.985, canvas.centre_px[1] + v * 0.985]))
    off = math.acos(float((canvas.canvas_from_world @ corner)[2]))
    latitude = math.asin(abs(float(corner[1])))
    wanted = {
        "rectilinear": 1 / math.cos(off) ** 2,
        "stereographic": 1 / math.cos(off / 2) ** 2,
        "cylindrical": 1 / math.cos(latitude) ** 2,
    }[name]
    assert cost.stretch == pytest.approx(wanted, rel=0.1)
    assert cost.loss == pytest.approx(0, abs=0.02)
    assert (cost.bend < 1e-3) == (name == "rectilinear")
    if name == "cylindrical":
        # by hand: the line's middle stands at tan(20 deg)/cos(40 deg) on the cylinder, its ends at tan(20 deg), 80 deg apart
        rise = math.tan(math.radians(20)) * (1 / math.cos(math.radians(40)) - 1)
        assert cost.bend == pytest.approx(rise / math.radians(80), rel=0.02)


def test_the_crop_that_a_projection_costs_is_told():
    poses = _row([0.0])
    canvas = make_canvas(poses, field_of(poses), "rectilinear")
    shown = np.ones((120, 90), bool)
    shown[:60, 45:] = False
    assert costs_of(canvas, shown, direction(np.array([-0.1, 0.1]), np.zeros(2))).loss == pytest.approx(1 / 2, abs=0.03)
