"""A real browser without a window or a network, driven as a person would."""

from __future__ import annotations

import contextlib
import io
import shutil
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
from PIL import Image
from selenium import webdriver
from selenium.webdriver.chrome.service import Service

WIDTH, HEIGHT = 1000, 640


@contextlib.contextmanager
def browser() -> Iterator[webdriver.Chrome]:
    """Chromium with a page area of ``WIDTH`` by ``HEIGHT``, drawing by software, cut off from every network."""
    options = webdriver.ChromeOptions()
    options.binary_location = shutil.which("chromium") or "chromium"
    for word in (
        "--headless=new", "--no-sandbox", "--disable-dev-shm-usage", "--use-gl=angle", "--use-angle=swiftshader",
        "--enable-unsafe-swiftshader", "--force-color-profile=srgb", "--host-resolver-rules=MAP * ~NOTFOUND", f"--window-size={WIDTH},{HEIGHT + 200}",
    ):  # fmt: skip
        options.add_argument(word)
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    driver = webdriver.Chrome(options=options, service=Service(shutil.which("chromedriver")))
    try:
        driver.set_window_size(WIDTH, HEIGHT + 200)
        inside = driver.execute_script("return innerHeight")
        driver.set_window_size(WIDTH, HEIGHT + 200 + HEIGHT - inside)
        yield driver
    finally:
        driver.quit()


def opened(driver: webdriver.Chrome, page: Path) -> None:
    """Open a page from disk and wait until it is drawn sharply; nothing may have gone wrong in it."""
    driver.get(page.resolve().as_uri())
    until_sharp(driver)


def until_sharp(driver: webdriver.Chrome) -> None:
    """Wait until all that is wanted is drawn."""
    end = time.monotonic() + 60
    while driver.execute_script("return document.body.dataset.sharp") != "true":
        assert time.monotonic() < end, driver.get_log("browser")
        time.sleep(0.02)
    wrong = [entry for entry in driver.get_log("browser") if entry["level"] == "SEVERE"]
    assert not wrong, wrong


def seen(driver: webdriver.Chrome) -> np.ndarray:
    """What the page shows, (h, w, 3) float."""
    return np.asarray(Image.open(io.BytesIO(driver.get_screenshot_as_png())).convert("RGB"), float)
