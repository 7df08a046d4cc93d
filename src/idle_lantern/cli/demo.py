"""``idle-lantern demo``: the window with the demo outing, or pictures of every view."""

from __future__ import annotations

import argparse
import os
from dataclasses import replace
from pathlib import Path

from idle_lantern.cli.ends import give, say
from idle_lantern.core.base import units
from idle_lantern.core.base.atomic import make_folder
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.progress import StageClock
from idle_lantern.core.outing.model import Outing

#: Where the demo's telephone frames lie.
SCOUTED = "scouting"


def add_parser(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Declare the command and its arguments."""
    parser = commands.add_parser("demo", help="open the window with the demo outing", description=__doc__)
    parser.add_argument("--screenshots", type=Path, metavar="DIR", help="render each view to a PNG in DIR and end")
    parser.add_argument("--only", nargs="+", default=(), metavar="VIEW", help="of --screenshots: render these views")
    parser.add_argument(
        "--card", type=Path, metavar="DIR", help="write a simulated memory card into DIR, a new folder, and end"
    )
    parser.set_defaults(run=run)


class _DemoLine:
    """One line of progress on standard error."""

    def __init__(self) -> None:
        self._clock = StageClock({"shoot": 1.0})

    def begin(self, stage: str, total: int) -> None:
        """Start counting."""
        self._clock.begin(stage, total)
        say(f"Shooting with the simulated camera: {units.counted(total, 'position')}, some ten seconds.")

    def advance(self, n: int = 1) -> None:
        """Count a frame."""
        self._clock.advance(n)
        left = self._clock.remaining_s
        say(f"  {self._clock.fraction:4.0%}" + (f", {units.time_left(left)}" if left else ""))


def run(args: argparse.Namespace) -> int:
    """Make the demo outing if needed and show it."""
    if args.card is not None:
        return _card(args.card)
    if args.screenshots is not None:
        os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    # Qt is imported only now: the platform must be chosen before, and the other commands need none of it
    from idle_lantern.app.main import has_display
    from idle_lantern.app.main import run as open_window
    from idle_lantern.app.settings import outings_folder
    from idle_lantern.simulator.demo import make_demo

    if args.screenshots is None and not has_display():
        raise InputError(
            "There is no display to open a window on", remedy="Use --screenshots DIR to render each view to a PNG"
        )
    folder = outings_folder() / "ambrel-holm-evening"
    make_folder(folder)
    line = _DemoLine()
    outing = make_demo(folder, line)
    if not outing.scouts and not (folder / SCOUTED).exists():
        _scout(outing, folder, line)
    if args.screenshots is not None:
        from idle_lantern.app.screenshots import render_views

        for path in render_views(folder, args.screenshots, args.only):
            give(f"{path}\n")
        return 0
    return open_window(folder)


def _scout(outing: Outing, folder: Path, line: _DemoLine) -> None:
    """Lay telephone frames of the place on the demo's map, once: who takes them away is not given them again."""
    from idle_lantern.core.outing import assets, document, scout_edits
    from idle_lantern.core.scouting.scout import scouted
    from idle_lantern.simulator.demo import make_telephone_frames

    kept, data = scouted(make_telephone_frames(folder / SCOUTED, line))
    kept = replace(kept, name="telephone", asset=assets.put(folder, data, document.SCOUT_ASSET))
    document.save(scout_edits.add_scout(kept).apply(outing), folder)


def _card(folder: Path) -> int:
    """Write the demo's card; a folder that holds anything is left."""
    from idle_lantern.simulator.demo import make_demo_card

    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise InputError("Is there already", where=str(folder), remedy="Name a new folder")
    make_demo_card(folder, _DemoLine())
    give(f"{folder}\n")
    return 0
