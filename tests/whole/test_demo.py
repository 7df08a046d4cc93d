"""``demo`` as a process: every view as a picture, and without a display one clear line."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from idle_lantern.app import settings as settings_module
from idle_lantern.app.screenshots import VIEWS, render_views
from idle_lantern.cli.demo import SCOUTED
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.frames.frameset import pictures_in
from idle_lantern.core.outing import document
from idle_lantern.core.sorting.card import sort
from idle_lantern.simulator.demo import demo_outing, make_demo, make_demo_card

COMMAND = [sys.executable, "-m", "idle_lantern.cli.main"]
#: Those that need a ground, a join or an attempt are driven by the tests of their rooms, and rendered when pictures are refreshed.
SEEN = {"plan-shallow", "field-bright"}


def _without_display() -> dict[str, str]:
    return {k: v for k, v in os.environ.items() if k not in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")}


def test_screenshots_show_views_and_change_nothing(tmp_path: Path):
    """Of a demo that was shot with fewer pixels: the views are the same, and it takes half a minute less."""
    target = tmp_path / "shots"
    folder = settings_module.outings_folder() / "ambrel-holm-evening"
    make_demo(folder, most_megapixels=0.3)
    (folder / SCOUTED).mkdir()  # as if its ground had been taken away
    command = [*COMMAND, "demo", "--screenshots", str(target), "--only", "plan-shallow"]
    done = subprocess.run(
        [*command, "field-bright"], capture_output=True, text=True, env=_without_display(), check=False
    )
    assert done.returncode == 0, done.stderr
    assert {p.stem for p in target.iterdir()} == SEEN
    for path in target.iterdir():
        with Image.open(path) as image:
            assert image.size == (1280, 800)
            assert len(np.unique(np.asarray(image.convert("L")))) > 20, path.name
    # the demo outing is complete and was not changed by taking pictures
    outing = document.load(folder)
    assert len(outing.frames) == 7
    # what was changed for the pictures was changed in a copy: the plan is the demo's, and nothing is developed or taken off the log
    assert outing.brief == demo_outing().brief
    assert outing.choices.development.changes_nothing


def test_the_pictures_in_the_documentation_are_those_of_the_tour():
    kept = Path(__file__).parents[2] / "docs" / "screenshots"
    assert {p.stem for p in kept.glob("*.png")} == set(VIEWS)
    with pytest.raises(InputError, match="no view “plane”"):
        render_views(kept, kept, ["plane"])


def test_no_display_is_told_in_one_line():
    for arguments in (["demo"], []):
        done = subprocess.run(
            [*COMMAND, *arguments], capture_output=True, text=True, env=_without_display(), check=False
        )
        assert done.returncode == 2
        assert "no display" in done.stderr
        assert len(done.stderr.strip().splitlines()) == 1


def test_version_and_help():
    done = subprocess.run([*COMMAND, "--version"], capture_output=True, text=True, check=False)
    assert done.stdout.startswith("Idle Lantern ")
    done = subprocess.run([*COMMAND, "--help"], capture_output=True, text=True, check=False)
    assert "join" in done.stdout
    assert "demo" in done.stdout


def test_a_demo_card_holds_what_it_says_and_overwrites_nothing(tmp_path: Path):
    make_demo_card(tmp_path / "card", scale=0.2)
    card = sort(pictures_in(tmp_path / "card"))
    assert [len(run.positions) for run in card.runs] == [7, 4, 3, 1]
    assert [run.positions[0].role for run in card.runs] == ["single", "bracket", "repeat", "single"]
    assert (len(card.bookends), len(card.twins)) == (4, 14)
    done = subprocess.run([*COMMAND, "demo", "--card", str(tmp_path)], capture_output=True, text=True)
    assert done.returncode == 2
    assert "there already" in done.stderr
