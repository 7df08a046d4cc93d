"""All outings below a folder, told in a line each; what a document tells is kept until it changes."""

from __future__ import annotations

import logging
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.outing import document
from idle_lantern.core.plan.planner import make_plan

log = logging.getLogger(__name__)


@dataclass(frozen=True)
class OutingSummary:
    """One outing as a list shows it; ``fault`` when it cannot be opened."""

    folder: Path
    name: str
    created: str = ""
    planned: int = 0
    frames: int = 0
    joined: bool = False
    note: str = ""
    fault: str = ""


class OutingIndex:
    """Summaries by folder; a document is read, and planned, again only when it changed."""

    def __init__(self) -> None:
        self._known: dict[Path, tuple[tuple[int, int], OutingSummary]] = {}

    def listed(self, root: Path, elsewhere: Sequence[Path] = (), progress: Progress = SILENT) -> list[OutingSummary]:
        """Outings in folders of ``root`` and those ``elsewhere`` that are still there, the newest first.

        Damaged ones are told and do not hide others.
        """
        try:
            folders = sorted(p for p in root.iterdir() if (p / document.DOCUMENT).is_file())
        except OSError:
            folders = []
        known = {folder.resolve() for folder in folders}
        for folder in elsewhere:
            if folder.resolve() not in known and (folder / document.DOCUMENT).is_file():
                known.add(folder.resolve())
                folders.append(folder)
        progress.begin("work", len(folders))
        found = []
        for folder in folders:
            found.append(self._summary(folder))
            progress.advance()
        return sorted(found, key=lambda s: s.created, reverse=True)

    def _summary(self, folder: Path) -> OutingSummary:
        try:
            stat = (folder / document.DOCUMENT).stat()
            stamp = (stat.st_mtime_ns, stat.st_size)
        except OSError as error:
            return OutingSummary(folder, folder.name, fault=f"Cannot be read ({error.strerror}).")
        joined = (folder / document.PICTURES / document.PICTURE).exists()
        known = self._known.get(folder)
        if known is not None and known[0] == stamp and known[1].joined == joined:
            return known[1]
        try:
            outing = document.load(folder)
            planned = len(outing.given_frames or make_plan(outing.brief).frames)
            summary = OutingSummary(
                folder, outing.name, outing.created, planned, len(outing.frames), joined, outing.note
            )
        except LanternError as error:
            summary = OutingSummary(folder, folder.name, fault=error.sentence)
        except Exception as error:  # one outing that trips the program must not hide the others
            log.exception("outing %s", folder)
            summary = OutingSummary(folder, folder.name, fault=f"Cannot be shown ({type(error).__name__}).")
        self._known[folder] = (stamp, summary)
        return summary
