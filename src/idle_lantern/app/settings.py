"""The person's settings: one dataclass, kept as JSON; a bad key is reset alone."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass, field, fields, replace
from pathlib import Path
from typing import Any

import platformdirs

from idle_lantern.core.base.atomic import write_text
from idle_lantern.core.base.errors import InputError, LanternError
from idle_lantern.core.base.strict_json import read_json

_NAME = "idle-lantern"


@dataclass(frozen=True)
class Settings:
    """What is remembered between starts.

    Sizes of 0 are not known yet; ``map_shares`` is where the hinge was dragged to, ``elsewhere`` the last outings that
    were opened outside the folder of outings; ``screen_profile`` is a file, sRGB where it is empty; ``author`` and
    ``rights`` stand in what is delivered.
    """

    look: str = "dark"
    imperial: bool = False
    last_outing: str = ""
    stage: str = "plan"
    text_size: float = 1.0
    window_width: int = 0
    window_height: int = 0
    window_maximized: bool = False
    map_shares: dict[str, float] = field(default_factory=dict)
    elsewhere: tuple[str, ...] = ()
    tones: bool = True
    quick: bool = False
    screen_profile: str = ""
    author: str = ""
    rights: str = ""


def config_file() -> Path:
    """Where settings are kept."""
    return Path(platformdirs.user_config_dir(_NAME)) / "settings.json"


def outings_folder() -> Path:
    """Where outings are kept."""
    return Path(platformdirs.user_data_dir(_NAME)) / "outings"


def rescue_folder() -> Path:
    """Where copies of outings are kept that cannot be saved where they belong."""
    return Path(platformdirs.user_state_dir(_NAME)) / "rescue"


def tour_file() -> Path:
    """Where the tour that is worked on is kept."""
    return Path(platformdirs.user_data_dir(_NAME)) / "tour.json"


def sessions_folder() -> Path:
    """Where each open window leaves word of itself, so that the next one knows how it ended."""
    return Path(platformdirs.user_state_dir(_NAME)) / "sessions"


def shown(path: Path) -> str:
    """A path as told to people: the home folder as ``~``."""
    try:
        return f"~/{path.relative_to(Path.home())}"
    except ValueError:
        return str(path)


def log_file() -> Path:
    """Where the log is kept."""
    return Path(platformdirs.user_state_dir(_NAME)) / "idle-lantern.log"


def load() -> Settings:
    """Read the settings; what is missing or of the wrong kind takes its default."""
    try:
        stored = read_json(config_file())
    except LanternError:
        return Settings()
    settings = Settings()
    known: dict[str, Any] = {}
    if isinstance(stored, dict):
        for f in fields(Settings):
            value = stored.get(f.name)
            if isinstance(value, list):  # JSON has no tuples
                value = tuple(v for v in value if isinstance(v, str))
            if type(value) is type(getattr(settings, f.name)):
                known[f.name] = value
    shares = known.get("map_shares", {})
    known["map_shares"] = {s: v for s, v in shares.items() if isinstance(v, float) and 0.02 <= v <= 0.95}
    return replace(settings, **known)


def save(settings: Settings) -> None:
    """Keep the settings; a full or read-only disk is no reason to stop."""
    path = config_file()
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        write_text(path, json.dumps(asdict(settings), indent=1))
    except (OSError, InputError):
        return
