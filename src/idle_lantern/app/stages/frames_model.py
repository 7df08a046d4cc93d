"""What the Frames stage shows, as plain values: no Qt, tested without a window."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from idle_lantern.core.base import units
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.base.progress import Progress
from idle_lantern.core.frames.content import sha256_of
from idle_lantern.core.frames.frameset import pictures_in
from idle_lantern.core.frames.reading import FrameInfo, probe
from idle_lantern.core.outing import document
from idle_lantern.core.outing.model import FrameRef, Outing

FACTS = (
    ("size", "Size"),
    ("focal", "Focal length"),
    ("exposure", "Exposure"),
    ("taken", "Taken"),
    ("direction", "Direction told by the head"),
    ("state", "In the join"),
)


@dataclass(frozen=True)
class Brought:
    """What bringing files in found: names as the document holds them, and a sentence for each that is left."""

    files: tuple[str, ...]
    faults: tuple[str, ...]

    @property
    def message(self) -> str:
        """What to tell; empty where all went well."""
        if self.faults:
            more = f" ({len(self.faults) - 1} more could not be read)" if len(self.faults) > 1 else ""
            return self.faults[0] + more
        return "" if self.files else "There is no JPEG, PNG or TIFF picture there."


def bring(paths: list[Path], folder: Path, progress: Progress) -> Brought:
    """Look at files, and at the pictures of folders, that are to come into the outing in ``folder``."""
    files, good, faults = [], [], []
    for path in paths:
        try:
            files += pictures_in(path) if path.is_dir() else [path]
        except (LanternError, OSError) as error:
            faults.append(error.sentence if isinstance(error, LanternError) else f"{path}: cannot be read ({error}).")
    progress.begin("work", len(files))
    for path in files:
        try:
            probe(path)
            good.append(document.relative(folder, path))
        except LanternError as error:
            faults.append(error.sentence)
        progress.advance()
    return Brought(tuple(good), tuple(faults))


def contents(outing: Outing, folder: Path, progress: Progress) -> dict[str, str]:
    """The SHA-256 of frames that do not tell theirs yet, by id; unreadable ones are left out."""
    unknown = [ref for ref in outing.frames if ref.sha256 is None]
    found = {}
    progress.begin("work", len(unknown))
    for ref in unknown:
        try:
            found[ref.id] = sha256_of(document.resolve(folder, ref))
        except LanternError:
            continue
        finally:
            progress.advance()
    return found


def summary(outing: Outing) -> str:
    """How many frames there are, and how many of them are joined."""
    n, joined = len(outing.frames), len(outing.frames_to_join())
    return f"{n} frame{'s' if n != 1 else ''}, {joined} of them for the join" if n else ""


def caption(ref: FrameRef, *, joined: bool) -> str:
    """What stands under a thumbnail."""
    sign = "" if joined else "⊘ "
    return f"{sign}{Path(ref.file).name}" + (f"\nframe {ref.number}" if ref.number else "")


def facts(outing: Outing, ref: FrameRef | None, info: FrameInfo | None, fault: str) -> dict[str, str]:
    """Facts of a frame, by the keys of ``FACTS``."""
    shown = dict.fromkeys((key for key, _ in FACTS), "")
    if ref is None:
        return shown
    shown["size"] = fault
    if info is not None:
        shown |= _facts_of_file(info)
    if ref.yaw_deg is not None and ref.pitch_deg is not None:
        shown["direction"] = f"yaw {units.angle(ref.yaw_deg)}, pitch {units.angle(ref.pitch_deg)}"
    else:
        shown["direction"] = "unknown: it is found from the matches"
    if ref.id in outing.choices.left_out:
        shown["state"] = "left out by you"
    else:
        why_not = "another exposure of its bracket stands for it" if ref.id in outing.besides() else "shot again later"
        shown["state"] = "yes" if ref in outing.frames_to_join() else f"no: {why_not}"
    return shown


def _facts_of_file(info: FrameInfo) -> dict[str, str]:
    m = info.metadata
    parts = (
        units.exposure_time(m.exposure_s) if m.exposure_s else "",
        f"f/{m.aperture:g}" if m.aperture else "",
        f"ISO {m.iso:.0f}" if m.iso else "",
    )
    return {
        "size": f"{info.width} × {info.height} px, {units.megapixels(info.width * info.height)}, {info.bits} bit",
        "focal": f"{m.focal_mm:g} mm" if m.focal_mm else "not told: it is found from the matches",
        "exposure": "  ".join(p for p in parts if p) or "not told",
        "taken": m.taken or "not told",
    }
