"""``idle-lantern tour``: steps between places by geometry, north by the sun, places by a track, and the page in a real browser."""

from __future__ import annotations

import itertools
import json
import math
from pathlib import Path

import networkx
import numpy as np
import pytest
from PIL import Image
from scipy.spatial import Delaunay
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from tests.helpers.browser import browser, opened, until_sharp
from tests.helpers.commands import run_command
from tests.helpers.spheres import sphere_pixels

from idle_lantern.core.deliver.tour import Stand, links_of, metres_from, middle_of, seen_pairs


def test_steps_are_a_connected_part_of_the_delaunay_graph():
    """Toussaint 1980: minimum spanning tree, within relative neighbourhood graph, within Delaunay triangulation (by SciPy)."""
    rng = np.random.default_rng(4)
    for _ in range(20):
        at = rng.uniform(0, 100, (25, 2))
        pairs = set(seen_pairs([Stand(str(k), *p) for k, p in enumerate(at)]))
        delaunay = {tuple(sorted(e)) for t in Delaunay(at).simplices for e in itertools.combinations(t.tolist(), 2)}
        whole = networkx.Graph()
        whole.add_weighted_edges_from((i, j, math.dist(at[i], at[j])) for i, j in itertools.combinations(range(25), 2))
        tree = {tuple(sorted(e)) for e in networkx.minimum_spanning_edges(whole, data=False)}
        assert tree <= pairs <= delaunay


def test_a_step_points_to_where_the_other_place_lies():
    stands = [Stand("a", 0, 0, 0, 90.0), Stand("b", 10, 10, 10 * math.sqrt(2), 0.0)]
    (ahead,), (back,) = links_of(stands, [(0, 1)])
    assert (ahead.to, ahead.yaw_deg, ahead.pitch_deg) == pytest.approx((1, -45, 45))  # bearing 45, seen facing east
    assert (back.to, back.yaw_deg, back.pitch_deg) == pytest.approx((0, -135, -45))
    assert middle_of([*stands, Stand("c", 20, 20)]) == 1
    assert metres_from(55.001, 10.0, (55.0, 10.0))[1] == pytest.approx(111.2, abs=0.1)  # a thousandth of a degree


@pytest.fixture
def spheres(tmp_path: Path) -> Path:
    for name in ("yard", "roof", "gate"):
        Image.fromarray(sphere_pixels(800)).save(tmp_path / f"{name}.jpg", quality=92)
    return tmp_path


def spec(folder: Path, **more: object) -> Path:
    places = [
        {"picture": "yard.jpg", "name": "Yard", "at_m": [0, 0], "north_deg": 0},
        {"picture": "roof.jpg", "name": "Roof", "at_m": [20, 0], "north_deg": 30, "note": "mind the edge"},
        {"picture": "gate.jpg", "name": "Gate", "at_m": [45, 0], "north_deg": 0},
    ]
    path = folder / "tour.json"
    path.write_text(json.dumps({"schema": "idle-lantern/tour/1", "places": places, **more}))
    return path


def test_one_walks_through_a_tour_from_its_middle(spheres: Path):
    done = run_command("tour", spec(spheres), "--out", spheres / "page.html")
    assert done.returncode == 0, done.stderr
    with browser() as driver:
        opened(driver, spheres / "page.html")
        assert driver.title == "Roof", "the middle one comes first"
        assert driver.find_element(By.ID, "note").text == "mind the edge"
        assert driver.find_element(By.ID, "plan").is_displayed()
        dots = driver.find_elements(By.CSS_SELECTOR, "#plan circle")
        lines = driver.find_elements(By.CSS_SELECTOR, "#plan line")
        assert (len(dots), len(lines)) == (3, 4), "the yard and the gate are not joined: the roof lies between"
        canvas = driver.find_element(By.ID, "view")
        # the gate lies to the east, which is 60 degrees to the right of where azimuth 0 faces
        assert not driver.find_element(By.CSS_SELECTOR, "#links button:last-child").is_displayed()
        canvas.send_keys(*[Keys.ARROW_RIGHT] * 8)
        until_sharp(driver)
        names = [b.text for b in driver.find_elements(By.CSS_SELECTOR, "#links button") if b.is_displayed()]
        assert names == ["Gate"]
        driver.find_element(By.CSS_SELECTOR, "#links button:not([hidden])").click()
        until_sharp(driver)
        assert driver.title == "Gate"
        assert driver.execute_script("return document.querySelectorAll('#plan circle.here').length") == 1


def test_the_sun_and_a_track_tell_where_and_which_way(spheres: Path):
    """The sun of 2026-06-21 at 12:00 UTC on the meridian of Greenwich at 50 north: due south (to the equation of time, two
    minutes, half a degree), 63.4 degrees high (latitude and the solstice's declination, 23.44)."""
    from PIL.ExifTags import IFD, Base

    exif = Image.Exif()
    exif.get_ifd(IFD.Exif)[Base.DateTimeOriginal] = "2026:06:21 12:05:00"
    Image.fromarray(sphere_pixels(800)).save(spheres / "yard.jpg", exif=exif)
    track = "".join(
        f'<trkpt lat="50.0" lon="{lon}"><time>2026-06-21T12:0{m}:00Z</time></trkpt>'
        for m, lon in ((0, 0.0), (9, 0.009))
    )
    (spheres / "walk.gpx").write_text(
        f'<gpx xmlns="http://www.topografix.com/GPX/1/1"><trk><trkseg>{track}</trkseg></trk></gpx>'
    )
    # the sun stands in the middle column, 63.4 degrees high: azimuth 0 faces south
    places = [
        {
            "picture": "yard.jpg",
            "name": "Yard",
            "sun": {"xy": [399.5, (90 - 63.4) / 180 * 400], "at": "2026-06-21T12:02+00:00"},
        },
        {"picture": "roof.jpg", "name": "Roof", "latlon": [50.0, 0.0], "north_deg": 0},
    ]
    path = spheres / "t.json"
    path.write_text(
        json.dumps({"schema": "idle-lantern/tour/1", "track": "walk.gpx", "places": places, "reach_m": 1000})
    )
    done = run_command("tour", path, "--out", spheres / "t.html")
    assert done.returncode == 0, done.stderr
    text = (spheres / "t.html").read_text()
    told = json.loads(text.split('id="places">')[1].split("</script>")[0])
    yard = next(p for p in told if p["name"] == "Yard")
    assert yard["north_deg"] == pytest.approx(180, abs=1.5)
    roof = next(p for p in told if p["name"] == "Roof")
    # five of nine minutes along the track, eastwards: 0.005 degrees of longitude at 50 north
    assert yard["at_m"][0] - roof["at_m"][0] == pytest.approx(0.005 * 111_195 * math.cos(math.radians(50)), rel=0.01)
    assert roof["links"][0]["yaw_deg"] == pytest.approx(90, abs=0.1)


@pytest.mark.parametrize(
    ("more", "why"),
    [
        ({"schema": "x"}, "Is no tour"),
        ({"places": []}, "length >= 1"),
        ({"first": "Attic"}, "There is no place 'Attic'"),
        ({"links": [["Yard", "Moon"]]}, "There is no place 'Moon'"),
        ({"places": [{"picture": "yard.jpg"}]}, "Nothing tells where it was taken"),
        ({"places": [{"picture": "yard.jpg", "at": [0, 0]}]}, "unknown field"),
        ({"track": "yard.jpg"}, "Is no track"),
    ],
)
def test_a_wrong_tour_is_refused_in_a_sentence(spheres: Path, more: dict, why: str):
    done = run_command("tour", spec(spheres, **more), "--out", spheres / "p.html")
    assert done.returncode == 2
    assert why in done.stderr
    assert not (spheres / "p.html").exists()
