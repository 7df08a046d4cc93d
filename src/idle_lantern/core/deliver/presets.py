"""Deliveries by name: those that come with the program, and those that people keep, one JSON file each."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import msgspec
import platformdirs

from idle_lantern.core.base.atomic import make_folder, write_text
from idle_lantern.core.base.errors import InputError, LanternError
from idle_lantern.core.base.strict_json import read_json
from idle_lantern.core.deliver.job import DeliverJob

SCHEMA = "idle-lantern/delivery/1"
_ENDING = ".json"


@dataclass(frozen=True)
class Preset:
    """A delivery that can be asked for by its name; ``own`` ones can be changed and removed."""

    name: str
    job: DeliverJob
    own: bool = False


#: What is usual: a small JPEG for the web, all that there is for keeping, a sharpened TIFF for a printing house, a sphere for viewers.
SHIPPED: tuple[Preset, ...] = (
    Preset("web", DeliverJob("jpeg", 85, 96.0, "srgb", 2560, sharpen_for="screen")),
    Preset("archive", DeliverJob("tiff")),
    Preset("print", DeliverJob("tiff", dpi=300.0, sharpen_for="glossy")),
    Preset("sphere", DeliverJob("sphere", 90, profile="srgb")),
)


def presets_folder() -> Path:
    """Where people's own presets are kept."""
    return Path(platformdirs.user_config_dir("idle-lantern")) / "deliveries"


def presets(folder: Path) -> tuple[Preset, ...]:
    """Those that are kept in a folder, by name, then those that come with the program unless one of that name is kept; what cannot be read is left out."""
    own: list[Preset] = []
    try:
        files = sorted(folder.glob(f"*{_ENDING}"))
    except OSError:
        files = []
    for file in files:
        try:
            own.append(read_preset(file))
        except LanternError:
            continue
    names = {preset.name for preset in own}
    return (*own, *(preset for preset in SHIPPED if preset.name not in names))


def preset_named(name: str, folder: Path) -> Preset:
    """The preset of that name; or of a file, where the name is a path to one.

    Raises
    ------
    InputError
        There is none.
    """
    if name.endswith(_ENDING) and Path(name).is_file():
        return read_preset(Path(name))
    known = presets(folder)
    for preset in known:
        if preset.name == name:
            return preset
    raise InputError(f"There is no preset '{name}'", remedy=f"Known are {', '.join(p.name for p in known)}")


def read_preset(file: Path) -> Preset:
    """The preset in a file.

    Raises
    ------
    InputError
        It holds none, or a figure lies out of its limits.
    """
    told = read_json(file)
    if not isinstance(told, dict) or told.get("schema") != SCHEMA:
        raise InputError("Is no preset of a delivery", where=str(file), remedy=f'Begin it with "schema": "{SCHEMA}"')
    rest = {key: value for key, value in told.items() if key not in ("schema", "name")}
    try:
        job = msgspec.convert(rest, DeliverJob)
    except msgspec.ValidationError as error:
        raise InputError(f"Cannot be used ({error})", where=str(file), remedy="Keep the preset anew") from error
    return Preset(str(told.get("name", file.stem)), job, own=True)


def keep_preset(name: str, job: DeliverJob, folder: Path) -> Preset:
    """Keep a delivery under a name, in place of one that had it.

    Raises
    ------
    InputError
        The name cannot be one, the delivery names files of its outing, or it cannot be written.
    """
    name = name.strip()
    if not re.fullmatch(r"[^/\\\0.][^/\\\0]{0,59}", name):
        raise InputError("A preset needs a name of 1 to 60 letters, without a slash", where=name)
    if job.profile not in ("keep", "srgb", "p3") or (job.nadir is not None and job.nadir.mark is not None):
        raise InputError(
            "A preset keeps no profile or mark of your own, which lie in the outing",
            remedy="Take sRGB, Display P3 or the colours of the frames, and no mark",
        )
    make_folder(folder)
    told: dict[str, Any] = {"schema": SCHEMA, "name": name, **msgspec.to_builtins(job)}
    write_text(folder / f"{name}{_ENDING}", msgspec.json.format(msgspec.json.encode(told), indent=1).decode() + "\n")
    return Preset(name, job, own=True)


def remove_preset(name: str, folder: Path) -> None:
    """Forget an own preset; raises InputError where its file cannot be removed."""
    try:
        (folder / f"{name}{_ENDING}").unlink(missing_ok=True)
    except OSError as error:
        raise InputError(f"Cannot be removed ({error.strerror})", where=str(folder / name)) from error


def applied(preset: Preset, job: DeliverJob) -> DeliverJob:
    """A delivery as a preset has it; what belongs to the picture stays where the preset tells nothing of it: where its sphere faces, what
    covers its nadir, the names of its marks, and its paper unless the preset is a print."""
    wanted = preset.job
    return replace(
        wanted,
        heading_deg=job.heading_deg if wanted.heading_deg is None else wanted.heading_deg,
        operations=wanted.operations or job.operations,
        captions=wanted.captions or job.captions,
        on_paper=wanted.on_paper if wanted.format == "print" else job.on_paper,
    )
