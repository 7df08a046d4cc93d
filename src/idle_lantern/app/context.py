"""What every stage works with: the state, the work that runs, settings, gear, devices, and the way to actions.

Stages know this and nothing of each other or of the window: they ask for an action by its id.
"""

from __future__ import annotations

import logging
from dataclasses import dataclass, field
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from idle_lantern.app.devices import Devices
from idle_lantern.app.join_runner import JoinRunner
from idle_lantern.app.scout_grounds import ScoutGrounds
from idle_lantern.app.settings import Settings
from idle_lantern.app.state import AppState
from idle_lantern.app.tasks import TaskRunner
from idle_lantern.app.watcher import Watcher
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.gear.library import Library, gear_file

log = logging.getLogger(__name__)


@dataclass
class CurrentSettings:
    """What may be replaced while the window is open."""

    settings: Settings = field(default_factory=Settings)


class AppContext(QObject):
    """The shared part of the window."""

    asked = pyqtSignal(str)  # the id of an action
    tools_changed = pyqtSignal()  # another tool is in hand, or others can be used now

    def __init__(self, settings: Settings, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.kept = CurrentSettings(settings)
        self.state = AppState(self)
        self.tasks = TaskRunner(self)
        self.devices = Devices()
        self.scout_grounds = ScoutGrounds(self.state, self.tasks, self)
        self.watcher = Watcher(self.state, self)
        self.gear: Library | None = self._open_gear()
        self.joins = JoinRunner(self.state, self.tasks, self.gear, self)
        # an outing that was left is let go to other windows when no work can end in it any more
        self.tasks.changed.connect(self._release_others)
        self.state.changed.connect(lambda topics: self._release_others() if "outing" in topics else None)

    @property
    def settings(self) -> Settings:
        """The person's settings as they are now."""
        return self.kept.settings

    def keep(self, settings: Settings) -> None:
        """Let other settings hold; they are written when the window closes."""
        self.kept.settings = settings

    def ask(self, action_id: str) -> None:
        """Ask for an action by its id, as a menu would."""
        self.asked.emit(action_id)

    def tell(self, sentence: str, *, problem: bool = True) -> None:
        """Show a sentence on the message line."""
        self.state.message.emit(sentence, problem)

    def start(self, *args: Any, **kwargs: Any) -> Any:
        """Start work off the thread; as ``TaskRunner.start``."""
        return self.tasks.start(*args, **kwargs)

    def _release_others(self) -> None:
        if self.tasks.idle:
            self.state.autosave.release_others()

    def _open_gear(self) -> Library | None:
        """The gear library; one that cannot be read is left, and everything else works without it."""
        try:
            library = Library(gear_file())
            self.state.past = library.past_joins()
        except (LanternError, OSError) as error:
            log.warning("gear library: %s", error)
            return None
        return library
