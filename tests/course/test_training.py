"""Practice: faults cost what they cost outside, grades come from the picture, nothing can be learned by heart."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from idle_lantern.core.geometry import rotations
from idle_lantern.course import geometry_course as geometry
from idle_lantern.course import light_course as light
from idle_lantern.course.conduct import Conduct, take
from idle_lantern.course.consequences import Figures, Outcome, as_it_is, directions_of, outcome_of
from idle_lantern.course.course import EXERCISES, carried_out, checked, exercise, in_words
from idle_lantern.course.exercise import Amount, Criterion, graded
from idle_lantern.course.faults import FAULTS, fault
from idle_lantern.course.places import LENS, on_the_terrace, row
from idle_lantern.course.record import RecordRow, add_row, best, practised, read_rows
from idle_lantern.simulator.room import metered_ev
from idle_lantern.simulator.surfaces import look

#: A row of three frames of few pixels: a run takes two seconds.
SMALL = replace(on_the_terrace(2), lens=LENS.scaled(0.6), field_deg=(-42.0, 42.0, -25.0, 25.0))
TAKES = row(-28, 28, 3)


@pytest.fixture(scope="module")
def right(tmp_path_factory: pytest.TempPathFactory) -> Outcome:
    return carried_out(SMALL, Conduct(TAKES), tmp_path_factory.mktemp("right"))


def test_a_run_without_fault_is_the_place_as_it_is(right: Outcome):
    figures = right.figures
    assert figures.placed == 1.0
    assert figures.missing < 0.002
    assert figures.wrong < 0.02
    assert figures.uneven_ev < 0.2
    assert figures.colour < 0.05
    assert figures.sharp > 0.75
    assert right.sheet.shape[:2] == directions_of(SMALL).shape[:2] == as_it_is(SMALL).shape[:2]


@pytest.mark.parametrize(
    ("conduct", "figure", "least"),
    [
        (Conduct(TAKES[:2]), "missing", 0.1),
        (Conduct(tuple(replace(t, white_balance=(1.3 - 0.3 * i, 1.0, 0.7 + 0.3 * i)) for i, t in enumerate(TAKES))), "evened_ev", 0.4),
        (Conduct(TAKES, polariser=True), "uneven_ev", 0.5),
        (Conduct(tuple(replace(t, exposure_ev=2.0) for t in TAKES)), "burnt", 0.05),
        (Conduct(TAKES, lean_deg=9.0, lean_toward_deg=40.0), "lost_height", 0.08),
    ],
    ids=["missed", "white-balance", "polariser", "overexposed", "lean"],
)  # fmt: skip
def test_each_fault_costs_its_own_figure(conduct: Conduct, figure: str, least: float, right: Outcome, tmp_path: Path):
    done = carried_out(SMALL, conduct, tmp_path)
    assert not done.failed
    assert getattr(done.figures, figure) > max(least, 2 * getattr(right.figures, figure))


def test_shaken_frames_are_soft_and_of_repeats_the_sharpest_is_kept(right: Outcome, tmp_path: Path):
    shaken = tuple(replace(t, shakes_px=((3.0, 1.0),)) for t in TAKES)
    soft = carried_out(SMALL, Conduct(shaken), tmp_path / "soft").figures.sharp
    again = tuple(replace(t, shakes_px=((3.0, 1.0), (0.2, 0.0), (4.0, -2.0))) for t in TAKES)
    chosen = carried_out(SMALL, Conduct(again), tmp_path / "again").figures.sharp
    assert soft < 0.75 * right.figures.sharp
    assert chosen > 0.85 * right.figures.sharp


def test_a_grade_is_the_worst_of_what_was_measured():
    """A line between good and bad, reckoned by hand: 30 % of the way from good to bad leaves 70 points."""
    criterion = Criterion("missing", 0.0, 0.1, str, "{} missing")
    assert criterion.score(0.03) == pytest.approx(0.7)
    assert (criterion.score(-1.0), criterion.score(0.5)) == (1.0, 0.0)
    more = Criterion("placed", 1.0, 0.5, str, "{} placed")
    assert more.score(0.75) == pytest.approx(0.5), "good may be the larger one"
    one = replace(geometry.HAND, criteria=(criterion, more))
    grade = graded(one, Figures(missing=0.03, placed=0.75))
    assert (grade.points, grade.passed) == (50, False)
    assert grade.sentences == ("0.75 placed", "0.03 missing")
    assert graded(one, Figures(), "Nothing fits.").points == 0


def test_the_post_moves_as_two_rays_say():
    """Near and far angles from the shifted pupil, from coordinates: the post at 0.9 m against infinity, turned by 20 degrees."""
    seed = 3
    values = {"rail": float(geometry.PUPIL.right(seed)["rail"]) + 30}
    told = dict(geometry.PUPIL.instruments(seed, values))["Post against the shore"]
    off_m = geometry.PUPIL.conduct(seed, values).pupil_mm / 1000
    assert off_m == pytest.approx(0.030, abs=0.0006), "the rail is right to its millimetre"
    angles = []
    for turn in (-20.0, 20.0):
        pupil = off_m * np.array([math.sin(math.radians(turn)), math.cos(math.radians(turn))])
        ray = np.array([0.0, 0.9]) - pupil * [1.0, 0.0]
        angles.append(math.degrees(math.atan2(ray[0], ray[1])))
    px = (angles[0] - angles[1]) * math.radians(LENS.focal_px)
    assert told.startswith(f"moves {px:.1f} px")
    assert told.endswith("against the turn"), "turning right carries the pupil right: what is near falls behind"


def test_two_millimetres_off_the_pupil_cost_what_they_show_at_full_size(tmp_path: Path):
    """A post at 0.9 m where two frames meet, each turned by 14 degrees from it, in frames of 4216 x 5692 pixels: both had 100 points."""
    one = geometry.PUPIL
    for off_mm, least, most in ((2, 50, 90), (6, 0, 40)):
        conduct = one.conduct(1, {"rail": float(one.right(1)["rail"]) + off_mm})
        taken = take(one.situation(1), conduct, tmp_path)
        outcome = outcome_of(one.situation(1), conduct, taken, tmp_path)
        parted = 2 * conduct.pupil_mm / 1000 * math.sin(math.radians(14)) / 0.9 * LENS.focal_px * 4216 / LENS.width
        assert outcome.figures.parted_px == pytest.approx(parted, rel=0.2)
        assert least < graded(one, outcome.figures).points < most


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_the_right_legs_make_the_base_level(seed: int):
    """Legs that differ from the right ones tip the plane through the three feet, whose normal leans by as much as the base does."""
    right, start = geometry.BASE.right(seed), geometry.BASE.start()
    feet = [
        (450 * math.sin(math.radians(a)), float(start[f"leg{i}"]) - float(right[f"leg{i}"]), 450 * math.cos(math.radians(a)))
        for i, a in enumerate((0, 120, 240))
    ]  # fmt: skip
    a, b, c = (np.array(f) for f in feet)
    normal = np.cross(b - a, c - a)
    lean = math.degrees(math.acos(abs(normal[1]) / np.linalg.norm(normal)))
    assert geometry.BASE.conduct(seed, right).lean_deg < 0.15
    assert geometry.BASE.conduct(seed, start).lean_deg == pytest.approx(lean, abs=0.15)
    assert 4.0 <= lean <= 9.0


def test_a_camera_levelled_on_its_ball_is_level_only_there():
    """The base as the least rotation (SciPy) that takes straight up to where its axis points."""
    conduct = geometry.BASE.conduct(2, {**geometry.BASE.start(), "ball": "camera"})
    lean, towards = math.radians(conduct.lean_deg), math.radians(conduct.lean_toward_deg)
    axis = np.cross([0, -1, 0], [math.sin(towards), 0, math.cos(towards)])
    base = Rotation.from_rotvec(lean * axis).as_matrix()
    assert conduct.swing is not None
    ahead, aside = (base @ rotations.about_y(math.radians(turn)) @ conduct.swing for turn in (0, 56))
    assert abs(math.degrees(math.asin(ahead[1, 0]))) < 1e-9
    assert np.degrees(np.arccos(aside[1, 1])) > 3


@pytest.mark.parametrize("one", EXERCISES, ids=lambda e: e.key)
def test_exercises_are_whole_and_differ_from_seed_to_seed(one):
    assert exercise(one.key) is one
    for seed in (1, 2):
        right, start = one.right(seed), one.start()
        for knob in one.knobs:
            for values in (right, start):
                if isinstance(knob, Amount):
                    assert knob.low <= float(values[knob.key]) <= knob.high
                else:
                    assert values[knob.key] in knob.options
        assert set(in_words(one, start)) == {k.name for k in one.knobs}
        assert one.conduct(seed, right).takes
        assert all(name and words for name, words in one.instruments(seed, start))
        assert one.situation(seed).seed == seed
    places = [one.situation(seed) for seed in range(1, 5)]
    assert len(
        {(p.facing_deg, p.scene.sun_direction, str(one.instruments(p.seed, one.start()))) for p in places}
    ) > 1 or (one is light.WINDOW)
    assert checked(one, {k.key: 1e9 if isinstance(k, Amount) else "nonsense" for k in one.knobs}) == {
        k.key: k.high if isinstance(k, Amount) else k.start for k in one.knobs
    }


def test_the_meter_in_the_loft_reads_what_the_simulator_has_there():
    """EV = 14 + log2(L / 0.18) of the light seen: the simulator's white is full at EV 14, and a meter takes all for 18 % (ISO 2720)."""
    room, window = metered_ev()
    place = light.WINDOW.situation(1)
    rays = directions_of(place).astype(np.float32)
    seen = look(place.scene, np.zeros(3), rays, 1 / place.lens.focal_px).light.mean(-1)
    assert room == pytest.approx(14 + math.log2(float(np.median(seen)) / 0.18), abs=0.4)
    assert window == pytest.approx(14 + math.log2(float(np.percentile(seen, 98)) / 0.18), abs=0.4)


def test_faults_change_one_thing_only():
    assert len(FAULTS) >= 9
    for one in FAULTS:
        right, wrong = one.exercise.right(4), one.values(4)
        assert fault(one.key) is one
        changed = [k for k in wrong if k in right and wrong[k] != right[k]]
        assert changed, one.key
        assert len(changed) == 1 or one.key in ("lean", "wind")


def test_attempts_are_kept_and_a_damaged_record_is_left(tmp_path: Path):
    path = tmp_path / "user" / "practice.json"
    assert read_rows(path) == ()
    assert "Nothing practised" in practised(())
    add_row(path, RecordRow("hand", 1, 40, "2026-05-14T18:40:00"))
    rows = add_row(path, RecordRow("hand", 2, 90, "2026-05-15T18:40:00"))
    assert read_rows(path) == rows
    assert best(rows) == {"hand": 90}
    assert practised(rows) == "Practised: 2 attempts at 1 exercise, 1 passed; the last one 90 of 100 on 2026-05-15."
    damaged = '{"schema": "idle-lantern/practice/1", "attempts": [{"exercise": 3}]}'
    path.write_text(damaged)
    assert read_rows(path) == ()
    assert path.read_text() == damaged
    assert len(add_row(path, RecordRow("hand", 3, 70, "2026-05-16T18:40:00"))) == 1
    (aside,) = path.parent.glob("practice-unread-*.json")
    assert aside.read_text() == damaged, "nothing is lost"
