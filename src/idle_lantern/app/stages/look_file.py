"""What the careful look at every frame found, kept beside the picture until the next look; may be deleted. No Qt."""

from __future__ import annotations

import json
import math
from dataclasses import asdict
from pathlib import Path
from typing import Any

from idle_lantern.app.stages.frames_model import Looked
from idle_lantern.core.audit.findings import Finding
from idle_lantern.core.base.atomic import make_folder, write_text
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.base.strict_json import parse_json, read_bytes
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.outing import document
from idle_lantern.core.plan.grid_frame import GridFrame

SCHEMA = "idle-lantern/look/1"
NAME = "look.json"


def keep(looked: Looked, frames: tuple[str, ...], folder: Path) -> None:
    """Keep what was found of frames, by id, in the folder of their outing.

    Raises
    ------
    InputError
        The file cannot be written.
    """
    make_folder(folder / document.PICTURES, inside=folder)
    told = {
        "schema": SCHEMA,
        "frames": frames,
        "findings": [[frame, asdict(found) | {"path": str(found.path)}] for frame, found in looked.findings],
        "sentences": looked.sentences,
        "lie": [[_lens(lens), asdict(frame)] for lens, frame in looked.lie],
        "missing": [[_lens(lens), asdict(frame), where] for lens, frame, where in looked.missing],
    }
    write_text(folder / document.PICTURES / NAME, json.dumps(told, indent=1))


def kept(folder: Path) -> tuple[Looked, tuple[str, ...]] | None:
    """What was found last, and of which frames; None where nothing is kept, or nothing that can be read."""
    try:
        told = parse_json(read_bytes(folder / document.PICTURES / NAME), NAME)
        if told["schema"] != SCHEMA:
            return None
        looked = Looked(
            tuple((str(frame), Finding(**{**row, "path": Path(row["path"])})) for frame, row in told["findings"]),
            tuple(map(str, told["sentences"])),
            tuple((_as_lens(lens), GridFrame(**frame)) for lens, frame in told["lie"]),
            tuple((_as_lens(lens), GridFrame(**frame), str(where)) for lens, frame, where in told["missing"]),
        )
        return looked, tuple(map(str, told["frames"]))
    except (LanternError, OSError, ValueError, TypeError, KeyError):
        return None


def _lens(lens: Lens) -> dict[str, Any]:
    """Its numbers; JSON has no infinity, which a lens that fills its frame has for the image circle."""
    return {key: None if value == math.inf else value for key, value in asdict(lens).items()}


def _as_lens(row: dict[str, Any]) -> Lens:
    numbers: dict[str, Any] = {key: math.inf if value is None else value for key, value in row.items()}
    return Lens(**numbers)
