"""Pages opened from disk in a real browser: what they show, by mouse and keys, and that nothing in them reaches for a network."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from selenium import webdriver
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from tests.helpers.browser import HEIGHT, WIDTH, browser, opened, seen, until_sharp
from tests.helpers.commands import run_command
from tests.helpers.spheres import ball, pattern

from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.deliver.look_page import PagePlace, write_look_page
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.zoom_page import Caption, write_zoom_page
from idle_lantern.core.pictures.source import HeldPicture


@pytest.fixture(scope="module")
def driver() -> Iterator[webdriver.Chrome]:
    with browser() as started:
        yield started


def sight(driver: webdriver.Chrome) -> tuple[float, float, float]:
    """Azimuth, altitude and field of a page to look around in, as it tells them itself."""
    until_sharp(driver)  # it tells what it drew last
    canvas = driver.find_element(By.ID, "view")
    return tuple(float(canvas.get_attribute(f"data-{name}") or "nan") for name in ("yaw", "pitch", "fov"))


def meant(yaw: float, pitch: float, fov: float, x: float, y: float) -> np.ndarray:
    """The colour of the pattern at a place of the page."""
    f = WIDTH / 2 / np.tan(np.radians(fov) / 2)
    a, b, c = (x - WIDTH / 2) / f, (y - HEIGHT / 2) / f, 1.0
    p, q = np.radians(pitch), np.radians(yaw)
    b, c = b * np.cos(p) - c * np.sin(p), b * np.sin(p) + c * np.cos(p)
    a, c = a * np.cos(q) + c * np.sin(q), c * np.cos(q) - a * np.sin(q)
    return pattern(np.array([a, b, c]))


def test_one_looks_around_by_mouse_wheel_and_keys(driver: webdriver.Chrome, tmp_path: Path):
    page = tmp_path / "salt pans, 100 % – süd.html"
    write_look_page([PagePlace(ball(3000), "Salt <pans>", "a & b </script>", 20.0)], page, WriteOptions(95))
    opened(driver, page)
    assert driver.title == "Salt <pans>"
    assert driver.find_element(By.ID, "note").text == "a & b </script>"

    def right() -> None:
        until_sharp(driver)
        now, shown = sight(driver), seen(driver)
        for x, y in ((500, 300), (120, 80), (900, 150), (300, 500)):
            assert np.abs(shown[y, x] - meant(*now, x, y)).max() < 9, (now, x, y)

    right()
    assert sight(driver) == (0, 0, 75)
    canvas = driver.find_element(By.ID, "view")
    canvas.send_keys(Keys.ARROW_RIGHT, Keys.ARROW_RIGHT, Keys.ARROW_UP)
    assert sight(driver) == pytest.approx((10, 5, 75), abs=0.1)
    right()
    canvas.send_keys("+", "+")
    assert sight(driver)[2] == pytest.approx(75 / 1.15**2, abs=0.1)
    before = sight(driver)
    # a hand that rests before it lets go turns the view by just as much as it moved
    ActionChains(driver).move_to_element(canvas).click_and_hold().move_by_offset(-150, 0).pause(0.3).release().perform()
    degrees = np.degrees(150 / (WIDTH / 2 / np.tan(np.radians(before[2]) / 2))) / np.cos(np.radians(before[1]))
    assert sight(driver)[0] - before[0] == pytest.approx(degrees, abs=0.6)
    right()
    canvas.send_keys(*[Keys.ARROW_UP] * 40)
    assert sight(driver)[1] == pytest.approx(90, abs=0.1)
    right()
    driver.find_element(By.ID, "home").click()
    assert sight(driver) == (0, 0, 75)


def scene(width: int, height: int) -> Picture:
    """Colours that tell the place."""
    x, y = np.meshgrid(np.linspace(0, 255, width), np.linspace(0, 255, height))
    return Picture(np.dstack([x, y, np.full_like(x, 90)]).astype(np.uint8))


def test_one_zooms_into_a_picture_with_its_tiles_beside_the_page(driver: webdriver.Chrome, tmp_path: Path):
    page = tmp_path / "wide [1] #2.html"
    source = HeldPicture(scene(4000, 1500))
    write_zoom_page(source, page, WriteOptions(95), name="Wide <one>", captions=[Caption(2000, 750, "The <tower>")])
    opened(driver, page)
    assert driver.title == "Wide <one>"
    assert driver.find_element(By.CLASS_NAME, "caption").text == "The <tower>"
    room = driver.find_element(By.ID, "view").rect
    scale = room["width"] / 4000
    top = room["height"] / 2 - 750 * scale
    for x, y in ((200, 100), (1000, 700), (3800, 1400)):
        shown = seen(driver)[int(top + y * scale), int(x * scale)]
        assert np.abs(shown - [x / 4000 * 255, y / 1500 * 255, 90]).max() < 8
    driver.find_element(By.ID, "true").click()
    until_zoom(driver, 1.0)
    until_sharp(driver)
    middle = seen(driver)[int(room["height"] / 2) + 40, WIDTH // 2 - 60]
    assert np.abs(middle - [(2000 - 60) / 4000 * 255, (750 + 40) / 1500 * 255, 90]).max() < 6
    driver.find_element(By.TAG_NAME, "body").send_keys(Keys.HOME)
    until_zoom(driver, scale)


def until_zoom(driver: webdriver.Chrome, zoom: float) -> None:
    for _ in range(200):
        if abs(float(driver.execute_script("return document.body.dataset.zoom")) - zoom) < 0.02 * zoom:
            return
        driver.execute_script("return new Promise(done => setTimeout(done, 25))")
    raise AssertionError(driver.execute_script("return document.body.dataset.zoom"))


def test_a_page_without_its_folder_says_so(driver: webdriver.Chrome, tmp_path: Path):
    page = write_zoom_page(HeldPicture(scene(1200, 600)), tmp_path / "a.html", WriteOptions(), name="A")
    (tmp_path / "a_files").rename(tmp_path / "elsewhere")
    driver.get(page.as_uri())
    for _ in range(200):
        told = driver.find_element(By.ID, "told").text
        if told:
            break
        driver.execute_script("return new Promise(done => setTimeout(done, 25))")
    assert "keep the folder a_files beside this page" in told


def test_pages_reach_for_nothing_outside(tmp_path: Path):
    """No address in what the pages load: only namespaces and the words of licences."""
    look = write_look_page([PagePlace(ball(400), "A")], tmp_path / "l.html", WriteOptions())
    zoom = write_zoom_page(HeldPicture(scene(600, 300)), tmp_path / "z.html", WriteOptions(), name="A")
    for page in (look, zoom):
        text = page.read_text(encoding="utf-8")
        assert not re.search(r"(src|href)\s*=\s*[\"'](https?:)?//", text)
        assert "@import" not in text


def test_the_command_puts_words_where_they_belong(tmp_path: Path):
    Image.fromarray(scene(1000, 500).pixels).save(tmp_path / "in.png")
    (tmp_path / "c.json").write_text(
        '[{"x": 500, "y": 100, "text": "Salt <house>"}, {"x": 5000, "y": 1, "text": "beyond"}]'
    )
    asked = [
        "deliver",
        tmp_path / "in.png",
        "--as",
        "tiles-page",
        "--long-side",
        "500",
        "--captions",
        tmp_path / "c.json",
    ]
    done = run_command(*asked, "--out", tmp_path / "p.html")
    assert done.returncode == 0, done.stderr
    told = json.loads((tmp_path / "p.html").read_text().split('id="picture">')[1].split("</script>")[0])
    assert told["captions"] == [{"x": 250, "y": 50, "text": "Salt <house>"}]
    (tmp_path / "c.json").write_text('[{"x": "far"}]')
    done = run_command(*asked, "--out", tmp_path / "q.html")
    assert done.returncode == 2
    assert "Holds no captions" in done.stderr
