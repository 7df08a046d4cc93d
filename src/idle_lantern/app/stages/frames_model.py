"""What the Frames stage shows, as plain values: no Qt, tested without a window."""

from __future__ import annotations

import contextlib
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from idle_lantern.core.audit.findings import Finding
from idle_lantern.core.base import units
from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import LanternError, UnreadableFrame
from idle_lantern.core.base.progress import Progress
from idle_lantern.core.frames.content import sha256_of
from idle_lantern.core.frames.frameset import pictures_in
from idle_lantern.core.frames.reading import FrameInfo
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.outing import document
from idle_lantern.core.outing.model import CaptureGroup, FrameRef, Outing
from idle_lantern.core.outing.position_edits import BroughtPosition
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.sorting.card import Card, CardRun, sort
from idle_lantern.core.sorting.positions import Position
from idle_lantern.core.sorting.previews import look_at

if TYPE_CHECKING:
    from idle_lantern.core.audit.audit import CardReport

#: So many positions of a run are shown where runs are chosen.
_MOST_LOOKS = 40
LOOKING_WEIGHTS = {"read": 0.1, "prepare": 0.2, "features": 0.2, "match": 0.1, "adjust": 0.1, "look closely": 0.3}

FACTS = (
    ("size", "Size"),
    ("focal", "Focal length"),
    ("exposure", "Exposure"),
    ("taken", "Taken"),
    ("direction", "Direction"),
    ("state", "In the join"),
)


@dataclass(frozen=True)
class BroughtRun:
    """A run of a card: its positions as the document takes them, what to say of it, and a small look (h, w, 3) at each position."""

    positions: tuple[BroughtPosition, ...]
    words: str
    looks: tuple[Array, ...] = ()

    @property
    def sweep(self) -> bool:
        """Whether it can be a picture of several frames; a snapshot cannot."""
        return len(self.positions) > 1


@dataclass(frozen=True)
class Brought:
    """What bringing files in found: runs, what was left where it lies, and a sentence for each that cannot be read."""

    runs: tuple[BroughtRun, ...]
    faults: tuple[str, ...]
    left: str = ""

    @property
    def message(self) -> str:
        """What to tell; empty where there is nothing to tell."""
        if self.faults:
            more = f" ({len(self.faults) - 1} more could not be read)" if len(self.faults) > 1 else ""
            return self.faults[0] + more
        return self.left if self.runs else "There is no picture there that can be read."


def bring(paths: list[Path], folder: Path, progress: Progress) -> Brought:
    """Sort files, and the pictures of folders, that are to come into the outing in ``folder``."""
    files: list[Path] = []
    faults: list[str] = []
    for path in paths:
        try:
            files += pictures_in(path) if path.is_dir() else [path]
        except (LanternError, OSError) as error:
            faults.append(error.sentence if isinstance(error, LanternError) else f"{path}: cannot be read ({error}).")
    files, told = _halved(list(dict.fromkeys(files)), folder)
    card = sort(files, progress)
    faults += [error.sentence for error in card.unreadable]
    runs = []
    beside = dict(reversed(card.twins))  # of several the first counts

    def named(file: Path | None) -> str | None:
        return None if file is None else document.relative(folder, file)

    for run in card.runs:
        positions = tuple(
            BroughtPosition(
                tuple(document.relative(folder, f) for f in p.files), p.role, p.chosen, p.ev,
                tuple(named(beside.get(f)) for f in p.files) if beside else (),
            )
            for p in run.positions
        )  # fmt: skip
        looks = tuple(p.looks[p.chosen].small for p in run.positions[:_MOST_LOOKS])
        runs.append(BroughtRun(positions, _run_in_words(run), looks))
    return Brought(tuple(runs), tuple(faults), " ".join(filter(None, (told, _left_in_words(card)))))


def _halved(files: list[Path], folder: Path) -> tuple[list[Path], str]:
    """Files of cameras with two lenses as the two frames that they hold, written into the outing; and what to say of it."""
    # loads what writes TIFF, which no start needs
    from idle_lantern.core.frames.two_circles import circles_of, split

    found: list[Path] = []
    count = 0
    for path in files:
        circles = None
        with contextlib.suppress(LanternError, OSError):  # what cannot be read is told where files are sorted
            circles = circles_of(path)
        if circles is None:
            found.append(path)
        else:
            found += split(path, circles, folder / document.FRAMES)
            count += 1
    return found, f"{units.counted(count, 'file')} with two circles split into its two frames." if count else ""


def _run_in_words(run: CardRun) -> str:
    looks = [look for p in run.positions for look in p.looks]
    brackets = sum(p.role == "bracket" for p in run.positions)
    repeats = sum(p.role == "repeat" for p in run.positions)
    told = [units.counted(len(run.positions), "position")] if len(run.positions) > 1 else ["a snapshot"]
    if len(looks) > len(run.positions):
        told.append(units.counted(len(looks), "file"))
    if brackets:
        told.append(
            f"{units.counted(brackets, 'bracket')} of {len(run.positions[0].looks)}"
            if brackets == len(run.positions)
            else units.counted(brackets, "bracket")
        )
    if repeats:
        told.append(f"{units.counted(repeats, 'position')} taken again")
    clock = (looks[0].info.metadata.taken or "")[11:16]
    first, last = looks[0].path.name, looks[-1].path.name
    names = first if first == last else f"{first} to {last}"
    return f"{names}{f', from {clock}' if clock else ''}: {', '.join(told)}"


def _left_in_words(card: Card) -> str:
    told = []
    if card.bookends:
        told.append(f"{units.counted(len(card.bookends), 'frame')} with a hand or cap before the lens")
    return f"Left where they are: {' and '.join(told)}." if told else ""


@dataclass(frozen=True)
class Looked:
    """What a careful look found: findings by frame id, the worst first, and sentences on the whole.

    ``lie`` are frames of no planned direction where the matches put them, ``missing`` those that their rows ask for.
    """

    findings: tuple[tuple[str, Finding], ...]
    sentences: tuple[str, ...]
    lie: tuple[tuple[Lens, GridFrame], ...] = ()
    missing: tuple[tuple[Lens, GridFrame, str], ...] = ()

    @property
    def summary(self) -> str:
        """The line over the list."""
        if not self.findings and not self.sentences:
            return "Looked at every frame: nothing speaks against joining them."
        if not self.findings:
            return "Nothing is wrong with the frames themselves."
        order = ", what would hurt most first" if len(self.findings) > 1 else ""
        return f"{units.counted(len(self.findings), 'finding')}{order}"


def look_closely(outing: Outing, folder: Path, progress: Progress) -> Looked:
    """Look at every frame that is to be joined, against its neighbours."""
    # the engine is loaded when it is needed: no start should pay for it
    from idle_lantern.core.audit.audit import audit_card

    refs = outing.frames_to_join()
    by_path = {document.resolve(folder, ref): ref.id for ref in refs}
    positions, faults = [], []
    progress.begin("read", len(refs))
    for path, ref in zip(by_path, refs):
        beside = outing.exposures_beside(ref.id)
        try:
            looks = [look_at(path), *(look_at(document.resolve(folder, other)) for other, _ev in beside)]
            ev = (0.0, *(e for _other, e in beside))
            positions.append(Position(tuple(looks), "bracket" if beside else "single", ev, 0))
        except UnreadableFrame as error:
            faults.append(error)
        progress.advance()
    report = audit_card(
        Card((CardRun(outing.name, tuple(positions)),) if positions else (), (), (), tuple(faults)), progress
    )
    by_name = {path.name: frame for path, frame in by_path.items()}
    found = [(by_path.get(f.path) or by_name.get(f.path.name, ""), f) for f in report.findings]
    found += [(by_path[path], _stray(path)) for path in report.strays]
    sentences = [f"{m.sentence}." for run in report.runs for m in run.missing]
    if len(report.runs) > 1:
        sentences.append(
            f"The frames make {len(report.runs)} pictures that nothing ties together; the largest is joined."
        )
    return Looked(
        tuple(found), tuple(sentences), *_on_map(report, {document.resolve(folder, r) for r in refs if r.number})
    )


def _on_map(report: CardReport, planned: set[Path]) -> tuple[Any, Any]:
    """Frames and holes of the largest run, as the map draws them."""
    run = max((r for r in report.runs if r.lens is not None), key=lambda r: len(r.directions_deg), default=None)
    if run is None or run.lens is None:
        return (), ()
    lie = tuple(
        (run.lens, GridFrame(i, 1, i, *angles))
        for i, (path, angles) in enumerate(run.directions_deg.items(), 1)
        if path not in planned
    )
    missing = tuple(
        (run.lens, GridFrame(i, m.row, m.column, m.yaw_deg, m.pitch_deg), m.sentence)
        for i, m in enumerate(run.missing, 1)
        if m.column is not None and m.yaw_deg is not None
    )
    return lie, missing


def _stray(path: Path) -> Finding:
    return Finding(
        path,
        "overlap",
        0.0,
        "%",
        "Matches no other frame",
        "Leave it out, or bring in the frames beside it",
        cure="leave_out",
    )


def cure_in_words(outing: Outing, frame: str, finding: Finding) -> str:
    """The button for a finding; empty where nothing can be done here."""
    if finding.cure == "use_repeat" or (finding.cure == "leave_out" and repeat_of(outing, frame) is not None):
        return "Use a repeat of it"
    if finding.cure == "leave_out" and frame not in outing.choices.left_out:
        return "Leave it out"
    return ""


def repeat_of(outing: Outing, frame: str) -> FrameRef | None:
    """Another frame of the same place and exposure, None where there is none."""
    group = next((g for g in outing.groups if g.kind == "repeat" and g.chosen == frame), None)
    return next((outing.frame(f) for f in group.frames if f != frame), None) if group else None


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
    n, joined, besides = len(outing.frames), len(outing.frames_to_join()), outing.besides()
    places = sum(ref.id not in besides for ref in outing.frames)
    if not n:
        return ""
    if places == n:
        return f"{units.counted(n, 'frame')}, {joined} of them for the join"
    return f"{units.counted(n, 'file')} at {units.counted(places, 'position')}, {joined} of them for the join"


def in_stacks(outing: Outing) -> tuple[FrameRef, ...]:
    """The frames in order of taking, the other files of a position after the one that stands for it."""
    refs = {ref.id: ref for ref in outing.frames}
    besides, of = outing.besides(), {g.chosen: g for g in outing.groups if g.chosen is not None}
    found: list[FrameRef] = []
    for ref in outing.frames:
        if ref.id not in besides:
            found.append(ref)
            found += [refs[f] for f in (of[ref.id].frames if ref.id in of else ()) if f != ref.id and f in refs]
    return tuple(found)


def group_of(outing: Outing, frame: str) -> CaptureGroup | None:
    """The bracket or series that a frame belongs to."""
    return next((g for g in outing.groups if frame in g.frames), None)


_STACKS = {"bracket": "bracket", "sensor-shift": "sensor-shift series"}


def caption(outing: Outing, ref: FrameRef, *, joined: bool) -> str:
    """What stands under a thumbnail: its name, its part in a bracket or series, and whether it is left out of the join."""
    name, group = Path(ref.file).name, group_of(outing, ref.id)
    if group is not None and group.chosen is not None and ref.id != group.chosen:
        told = len(group.ev) == len(group.frames)
        part = f"{group.ev[group.frames.index(ref.id)]:+g} EV".replace("-", "−") if told else "again"
        return f"▤ {name}\n{part}"
    sign = "" if joined else "⊘ "
    stack = ""
    if group is not None and ref.id == group.chosen:
        count = len(group.frames)
        stack = f"taken {count} times" if group.kind == "repeat" else f"{_STACKS[group.kind]} of {count}"
    number = f"frame {ref.number}" if ref.number else ""
    return "\n".join(filter(None, (f"{sign}{name}", ", ".join(filter(None, (number, stack))))))


def _beside_in_words(outing: Outing, ref: FrameRef) -> str:
    """What becomes of another exposure of a bracket, or of a frame taken again."""
    group = group_of(outing, ref.id)
    chosen = outing.frame(group.chosen) if group is not None else None
    if group is None or chosen is None:
        return "no: another stands for it"
    name = Path(chosen.file).name
    if group.kind == "bracket":
        used = outing.choices.brackets != "base"
        return f"yes, merged with {name}" if used else f"no: {name} alone stands for its bracket"
    used = group.kind == "sensor-shift" or outing.choices.repeats == "stack"
    return f"yes, averaged with {name}" if used else f"no: {name} stands for the frames taken here"


def facts(outing: Outing, ref: FrameRef | None, info: FrameInfo | None, fault: str) -> dict[str, str]:
    """Facts of a frame, by the keys of ``FACTS``."""
    shown = dict.fromkeys((key for key, _ in FACTS), "")
    if ref is None:
        return shown
    shown["size"] = fault
    if info is not None:
        shown |= _facts_of_file(info)
    if ref.yaw_deg is not None and ref.pitch_deg is not None:
        who = {"head": "told by the head", "matches": "by what it shares with others", "plan": "as planned"}[
            ref.told_by
        ]
        shown["direction"] = f"yaw {units.angle(ref.yaw_deg)}, pitch {units.angle(ref.pitch_deg)}, {who}"
    else:
        shown["direction"] = "unknown: it is found from the matches"
    if ref.id in outing.choices.left_out:
        shown["state"] = "left out by you"
    else:
        beside = ref.id in outing.besides()
        joined = "yes" if ref in outing.frames_to_join() else "no: shot again later"
        shown["state"] = _beside_in_words(outing, ref) if beside else joined
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
