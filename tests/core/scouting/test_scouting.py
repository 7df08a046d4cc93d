"""What scouting pictures tell, against the simulator's truth: light, horizon, detail, direction."""

from __future__ import annotations

import datetime
import json
import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from tests.helpers.sets import FrameFiles, render
from tests.helpers.telephone import LENS, SETTING

from idle_lantern.cli.main import main
from idle_lantern.core.base.errors import InputError, JoinError
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.plan.brief import Site
from idle_lantern.core.plan.sun import sun_at
from idle_lantern.core.scouting.detail import detail_of, share_within
from idle_lantern.core.scouting.facing import by_compass, by_sun
from idle_lantern.core.scouting.ground import Glance, make_ground
from idle_lantern.core.scouting.readings import readings_of
from idle_lantern.simulator.camera import SCENE_EV, SimulatedCamera, SimulatedHead
from idle_lantern.simulator.diorama import ambrel_holm


def test_readings_are_those_of_the_true_light(sweep: FrameFiles):
    """18 % of full at an exposure reads the EV of that exposure: log2(N²/t) - log2(ISO/100), ISO 2720 and APEX by hand."""
    assert SETTING.exposure_value == pytest.approx(math.log2(64 * 320))
    ground = make_ground(sweep.paths)
    found = {r.azimuth_deg: r for r in readings_of(ground.glances)}
    assert len(found) >= 10
    camera = SimulatedCamera(LENS, 24.0, 24.0 * LENS.width / LENS.focal_px)
    # the ground's middle is yaw 0; the set's own is 42 degrees on
    first = sweep.cameras[0][:, 2]
    turn = math.degrees(math.atan2(first[0], first[2])) - ground.middles_deg[0]
    worst = 0.0
    for azimuth, reading in list(found.items())[::2]:
        pose = SimulatedHead(play_deg=0).pointed(azimuth + turn, 0, 0)
        light = camera.view(ambrel_holm(walkers=0), pose).light
        middle = light[:, LENS.width // 2 - 49 : LENS.width // 2 + 49] @ (0.2126, 0.7152, 0.0722)
        v = (np.arange(LENS.height) - (LENS.height - 1) / 2) / LENS.focal_px
        level = np.abs(np.degrees(np.arctan(v))) <= 25
        true = SCENE_EV + math.log2(float(np.minimum(middle[level], 8).mean()) / 0.18)
        if reading.bound == "ok":
            worst = max(worst, abs(reading.ev - true))
        else:
            assert reading.bound == "at least"
            assert reading.ev < true + 0.1
    assert worst < 0.15


def test_what_is_full_reads_at_least_so_much_and_no_settings_no_reading(sweep: FrameFiles, row_set: FrameFiles):
    ground = make_ground(sweep.paths[:1])
    (glance,) = ground.glances
    burnt = replace(glance, pixels=np.full_like(glance.pixels, 255))
    assert {r.bound for r in readings_of([burnt])} == {"at least"}
    assert {r.bound for r in readings_of([replace(glance, pixels=np.zeros_like(glance.pixels))])} == {"at most"}
    # of two pictures the one that is not full tells
    darker = replace(glance, ev=(glance.ev or 0) + 3)
    assert {r.bound for r in readings_of([burnt, darker])} == {"ok"}
    assert readings_of(make_ground(row_set.paths[:1]).glances) == []


def test_a_sliver_of_a_picture_stands_for_no_direction():
    """Half a degree of one frame read 8.9 EV where the frame that shows all ten, a tenth of it clipped, has 9.9."""
    azimuth, altitude = np.meshgrid(np.linspace(0.05, 9.95, 100), np.linspace(-20, 20, 100))
    bright = np.full((100, 100, 3), 150, np.uint8)
    bright[:, 90:] = 255
    whole = Glance("whole", bright, azimuth, altitude, 10.0, 10.0)
    dark = np.full((100, 100, 3), 60, np.uint8)
    sliver = Glance("sliver", dark, 0.5 * azimuth / 10, altitude, 10.0, 10.0)
    (told,) = readings_of([sliver, whole])
    light = 0.9 * SRGB.to_linear(np.array(150 / 255)) + 0.1
    assert told.bound == "at least"
    assert told.ev == pytest.approx(10 + math.log2(light / 0.18), abs=0.02)
    assert readings_of([sliver]) == []


@pytest.mark.parametrize(("pitch", "roll"), [(0.0, 0.0), (6.0, 0.0), (-3.0, 4.0)])
def test_the_horizon_of_one_photograph_is_how_it_was_held(tmp_path: Path, pitch: float, roll: float):
    lens = Lens("rectilinear", 900, 1200, 800)
    files = render(tmp_path, lens, [(35.0, pitch, roll)], play_deg=0.0, scene=ambrel_holm(walkers=0))
    ground = make_ground(files.paths)
    true_pitch = math.degrees(math.asin(float(-files.cameras[0][1, 2])))
    assert ground.pitch_deg == pytest.approx(true_pitch, abs=max(0.5, 3 * ground.sigma_deg))
    assert ground.roll_deg == pytest.approx(roll, abs=1.2)
    # what lies level in the world lies level in the ground
    ray = ground.canvas.directions(np.array([600.0, 400.0]))
    assert math.degrees(math.asin(-ray[1])) == pytest.approx(ground.pitch_deg, abs=0.05)


def test_bare_cells_are_those_that_the_engine_cannot_match(tmp_path: Path):
    """Clear sky over land: frames of the one have no features, frames of the other many."""
    scene = ambrel_holm(walkers=0, clouds=0.0)
    lens = Lens("rectilinear", 420, 800, 800)
    ground = make_ground(render(tmp_path, lens, [(35.0, 12.0, 0)], play_deg=0.0, scene=scene).paths)
    details = detail_of(ground.glances)
    assert share_within(details, (-30, 30), (25, 50)) < 0.02
    assert share_within(details, (-30, 30), (-30, 0)) > 0.5
    assert math.isnan(share_within(details, (150, 160), (0, 10)))


def test_a_sphere_a_sweep_and_a_photograph_without_angle(tmp_path: Path):
    rng = np.random.default_rng(1)

    def picture(name: str, width: int, height: int) -> Path:
        write(Picture(rng.integers(0, 255, (height, width, 3), dtype=np.uint8)), tmp_path / name, WriteOptions())
        return tmp_path / name

    sphere = make_ground([picture("s.png", 1600, 800)]).canvas
    assert (sphere.projection.name, sphere.full_circle) == ("equirectangular", True)
    assert sphere.px_per_rad == pytest.approx(1600 / (2 * math.pi))
    wide = make_ground([picture("w.png", 1500, 500)])
    assert wide.canvas.projection.name == "cylindrical"
    assert "sweep" in wide.told[0]
    assert make_ground([tmp_path / "w.png"], 180.0).canvas.px_per_rad == pytest.approx(1500 / math.pi)
    flat = picture("f.png", 600, 400)
    with pytest.raises(InputError, match="--field"):
        make_ground([flat])
    # by hand: half of 600 px over the tangent of half of 60 degrees
    assert make_ground([flat], 60.0).canvas.px_per_rad == pytest.approx(300 / math.tan(math.radians(30)))
    with pytest.raises(JoinError):
        make_ground([flat, picture("g.png", 600, 400)])


def test_the_sun_and_the_compass_tell_which_way_the_ground_faces(sweep: FrameFiles, tmp_path: Path):
    """EXIF 2.32, 4.6.6: GPSImgDirection and the position in degrees, minutes and seconds."""
    ground = make_ground(sweep.paths[:1])
    at = datetime.datetime(2026, 5, 14, 19, 30, tzinfo=datetime.timezone(datetime.timedelta(hours=1)))
    sun = sun_at(Site(latitude_deg=55.0, longitude_deg=-8.0, date="2026-05-14", start="19:30"), at.replace(tzinfo=None))
    yaw, high = math.radians(-12.0), math.radians(sun.altitude_deg)
    ray = np.array([math.sin(yaw) * math.cos(high), -math.sin(high), math.cos(yaw) * math.cos(high)])
    u, v = ground.canvas.pixels(ray)
    bearing, miss = by_sun(ground, float(u), float(v), at, (55.0, -8.0))
    assert bearing == pytest.approx(sun.bearing_deg + 12.0, abs=0.01)
    assert abs(miss) < 0.01
    with pytest.raises(InputError, match="The sun stands"):
        by_sun(ground, float(u), 600.0, at, (55.0, -8.0))
    exif = Image.Exif()
    gps = exif.get_ifd(0x8825)
    gps[16], gps[17] = "T", 215.5
    gps[1], gps[2], gps[3], gps[4] = "N", (55.0, 12.0, 0.0), "W", (8.0, 30.0, 0.0)
    exif.get_ifd(0x8769)[37386] = 24.0
    with Image.open(sweep.paths[0]) as image:
        image.save(tmp_path / "c.jpg", exif=exif, quality=95)
    facing = by_compass(make_ground([tmp_path / "c.jpg"], 46.0))
    assert facing == pytest.approx(215.5)
    out = tmp_path / "r.json"
    spot = ground.canvas.pixels(ray)
    command = [
        "scout",
        str(tmp_path / "c.jpg"),
        "--field",
        "46.4",
        "--json",
        str(out),
        "--at",
        "2026-05-14T19:30+01:00",
    ]
    assert main([*command, "--sun", f"{spot[0]},{spot[1]}"]) == 0
    assert json.loads(out.read_text())["facing_deg"] == pytest.approx(sun.bearing_deg + 12, abs=1.5)


def test_the_command_writes_the_report_and_refuses_what_is_none(
    sweep: FrameFiles, tmp_path: Path, capsys: pytest.CaptureFixture[str]
):
    out = tmp_path / "r.json"
    assert main(["scout", *map(str, sweep.paths), "--json", str(out), "--out", str(tmp_path / "g.png")]) == 0
    report = json.loads(out.read_text())
    assert report["schema"] == "idle-lantern/scout-report/1"
    assert abs(report["horizon"]["pitch_deg"]) < 0.5
    assert report["facing_deg"] is None
    assert {len(r) for r in report["readings"]} == {3}
    assert {len(d) for d in report["detail"]} == {3}
    assert {word for *_, word in report["matching"]} <= {"sure", "weak", "nothing"}
    assert max(h for _, h, _ in report["skyline"]) > 5, "houses and trees stand above the horizon"
    with Image.open(tmp_path / "g.png") as image:
        assert image.size == (report["ground"]["width"], report["ground"]["height"])
    assert main(["scout", str(sweep.paths[0])]) == 0
    assert "EV at ISO 100" in capsys.readouterr().out
    (tmp_path / "no.jpg").write_bytes(b"none")
    for bad in (
        ["scout", str(tmp_path / "no.jpg")], ["scout", str(tmp_path / "gone.jpg")], ["scout", str(sweep.paths[0]), "--sun", "x"],
        ["scout", str(sweep.paths[0]), "--sun", "1,2"], ["scout", str(sweep.paths[0]), "--json", str(sweep.paths[0])],
        ["scout", str(sweep.paths[0]), "--field", "400"],
    ):  # fmt: skip
        assert main(bad) == 2
        assert len(capsys.readouterr().err.strip().splitlines()[-1]) < 300
