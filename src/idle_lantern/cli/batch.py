"""``idle-lantern batch``: folders, cards and outings, each joined and delivered by a preset; goes on after a failure."""

from __future__ import annotations

import argparse
import hashlib
import re
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import msgspec

from idle_lantern import __version__
from idle_lantern.cli.ends import DONE, DOUBTFUL, INTERRUPTED, give, say, stopping
from idle_lantern.cli.schedulers import add_scheduler, address_of, runner_at
from idle_lantern.core.base import units
from idle_lantern.core.base.atomic import check_writable, make_folder, write_text
from idle_lantern.core.base.errors import Cancelled, InputError, LanternError
from idle_lantern.core.base.paths import check_outputs
from idle_lantern.core.base.strict_json import read_json
from idle_lantern.core.deliver.kinds import kind_named
from idle_lantern.core.deliver.presets import SCHEMA, Preset, preset_named, presets_folder
from idle_lantern.core.finish.recipe import text_of
from idle_lantern.core.finish.recipe_files import named_files
from idle_lantern.core.frames.content import sha256_of
from idle_lantern.core.outing import document
from idle_lantern.core.outing.batch_rows import Row, as_csv, as_json, as_page, as_text, keep_rows, kept_rows
from idle_lantern.core.outing.joining import wanted_choices
from idle_lantern.core.outing.model import Outing
from idle_lantern.core.sorting.grouped import files_in

#: From this suspicion on a place of the picture is worth a look before it is handed on.
_DOUBTFUL_FROM = 0.9
_WAIT_S = 0.1
#: How a join tells of a run that it left where it lies.
_OTHER_RUN = re.compile(r"--run '([^']+)' joins it")
#: Files beside each other that are as they should be.
_EXPECTED = ("twin", "bracket", "bookend")


@dataclass(frozen=True)
class Source:
    """A folder of pictures; of an outing those frames that it joins, with its recipe and its choices. ``name`` is what its pictures are
    called by."""

    path: Path
    files: tuple[Path, ...]
    name: str
    outing: Outing | None = None

    @property
    def recipe(self) -> str:
        """The steps that finish it; nothing where it has none."""
        return text_of(self.outing.finish) if self.outing is not None and self.outing.finish.working else ""


@dataclass(frozen=True)
class Wanted:
    """How every picture is delivered, where to, by which recipe, and by whose workers."""

    preset: Preset
    out: Path
    recipe: Path | None = None
    scheduler: str = ""

    @property
    def by_workers(self) -> list[str]:
        """How a command is told to let workers do it."""
        return ["--scheduler", self.scheduler] if self.scheduler else []


class Stop:
    """Whether somebody asked to stop."""

    def __init__(self) -> None:
        self.asked = False

    def ask(self) -> None:
        """Stop as soon as the work in hand has been stopped."""
        self.asked = True


def add_parser(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Declare the command and its arguments."""
    parser = commands.add_parser("batch", help="join and deliver many folders", description=__doc__)
    parser.add_argument(
        "paths",
        nargs="+",
        metavar="PATH",
        type=Path,
        help="folders, folders of folders, cards of several runs, outings",
    )
    parser.add_argument("--preset", default="archive", metavar="NAME", help="how each is delivered (default archive)")
    parser.add_argument(
        "--recipe", type=Path, metavar="RECIPE.json", help="finish each by these steps (outings: their own)"
    )
    parser.add_argument(
        "--out", type=Path, default=Path("delivered"), metavar="DIR", help="where the pictures go (default delivered)"
    )
    parser.add_argument("--json", type=Path, metavar="FILE", help="the table for programs")
    parser.add_argument("--csv", type=Path, metavar="FILE", help="the table for spreadsheets")
    parser.add_argument("--html", type=Path, metavar="FILE", help="the table as a page with small pictures")
    add_scheduler(parser)
    parser.add_argument("--again", action="store_true", help="do again what was done before")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Carry the command out; returns the exit code: 1 where a picture is not delivered, or doubtful."""
    stop = Stop()
    rows: list[Row] = []
    tables = [path for path in (args.json, args.csv, args.html) if path is not None]
    with stopping(stop.ask), runner_at(args.scheduler) as runner:
        sources = list(_sources(args.paths))
        check_outputs(tables, [f for source in sources for f in source.files])
        for path in tables:
            check_writable(path)
        wanted = Wanted(preset_named(args.preset, presets_folder()), args.out, args.recipe, address_of(runner))
        make_folder(args.out)
        before = [] if args.again else kept_rows(args.out)
        stopped = False
        for number, source in enumerate(sources, 1):
            say(f"{number} of {len(sources)}: {source.path}")
            key = _key(source, wanted)
            # two folders may hold the same, or nothing
            mine = [row for row in before if (row.key, row.folder) == (key, str(source.path))]
            done = [row for row in mine if _is_there(row, args.out)]
            try:
                rows += done or _made(source, wanted, key, stop)
            except Cancelled:
                stopped = True
                break
            others = [row for row in before if row.folder not in {r.folder for r in rows}]
            keep_rows([*rows, *others], args.out)
    for path, text in ((args.json, as_json), (args.csv, as_csv)):
        if path is not None:
            write_text(path, text(rows))
    if args.html is not None:
        write_text(args.html, as_page(rows, args.out))
    give(as_text(rows))
    if stopped:
        say("Stopped; what was delivered is there, and the same command goes on.")
        return INTERRUPTED
    return DONE if all(row.state == "delivered" for row in rows) else DOUBTFUL


# --- what there is to do ------------------------------------------------------------


def _sources(paths: Sequence[Path]) -> Iterator[Source]:
    """Each folder with pictures in it, once, with a name of its own."""
    taken: dict[str, int] = {}
    for path, files, outing in _folders(paths):
        name = path.resolve().name or "pictures"
        taken[name] = taken.get(name, 0) + 1
        yield Source(path, files, name if taken[name] == 1 else f"{name} ({taken[name]})", outing)


def _folders(paths: Sequence[Path]) -> Iterator[tuple[Path, tuple[Path, ...], Outing | None]]:
    for path in paths:
        if not path.exists():
            raise InputError("Is missing", where=str(path), remedy="Check the name")
        if path.is_file():
            raise InputError("Is a file, and a batch takes folders", where=str(path), remedy="Give its folder")
        if (path / document.DOCUMENT).is_file():
            try:
                outing = document.load(path)
                kept = outing.frames_to_join()
                refs = [r for ref in kept for r in (ref, *(other for other, _ev in outing.exposures_beside(ref.id)))]
                files = tuple(document.resolve(path, ref) for ref in refs)
                yield path, files, outing
            except LanternError:
                yield path, (), None
            continue
        try:
            own = tuple(files_in([path]))
        except InputError:
            own = ()
        inner = [p for p in sorted(path.iterdir()) if p.is_dir() and not p.name.startswith(".")]
        if own or not inner:
            yield path, own, None
        yield from _folders(inner)


def _key(source: Source, wanted: Wanted) -> str:
    """A name for all that decides what becomes of a folder: its files' content, the delivery, the recipe and the program."""
    parts: list[Any] = [__version__, repr(wanted.preset.job), source.recipe]
    parts += [] if source.outing is None else [repr(wanted_choices(source.outing)), repr(source.outing.composition)]
    parts += [] if wanted.recipe is None else [wanted.recipe.read_text("utf-8", "replace")]
    for file in source.files:
        try:
            parts.append((file.name, sha256_of(file)))
        except (OSError, LanternError):
            parts.append((file.name, "unreadable"))
    return hashlib.sha256(repr(parts).encode()).hexdigest()


def _is_there(row: Row, out: Path) -> bool:
    return row.state == "failed" or (out / Path(row.out).name).exists()


# --- doing it -------------------------------------------------------------------------


def _made(source: Source, wanted: Wanted, key: str, stop: Stop) -> list[Row]:
    """Join and deliver each run of a folder; what cannot be is a row that says why.

    Raises
    ------
    Cancelled
        Stopped.
    """
    if len(source.files) < 2:
        why = "There is no picture in it." if not source.files else "There is one picture only: nothing to join."
        return [Row(str(source.path), "", "failed", "", why, key)]
    rows: list[Row] = []
    left, seen = [""], {""}
    while left:
        one = left.pop(0)
        with tempfile.TemporaryDirectory(dir=wanted.out, prefix=".batch-") as scratch:
            row, report = _one(source, one, wanted, Path(scratch), stop)
        rows.append(replace(row, key=key))
        for frame in report.get("frames", []):
            other = _OTHER_RUN.search(frame.get("reason") or "")
            # the files of a run that was asked for by name tell of the first one again
            if other and not one and other[1] not in seen:
                seen.add(other[1])
                left.append(other[1])
    return rows


def _one(source: Source, run_name: str, wanted: Wanted, scratch: Path, stop: Stop) -> tuple[Row, dict[str, Any]]:
    """A picture of a run, and the report of its join."""
    name = f"{source.name} {run_name}".strip()
    target = wanted.out / f"{name}{kind_named(wanted.preset.job.format).ending}"
    joined, report_file = scratch / "joined.tif", scratch / "report.json"
    row = Row(str(source.path), run_name, "failed", "", "")
    files = [str(file) for file in source.files] if source.outing is None else [str(source.path)]
    code, told = _command(
        [
            "join",
            *files,
            "--out",
            str(joined),
            "--report",
            str(report_file),
            *(["--run", run_name] if run_name else []),
            *wanted.by_workers,
        ],
        stop,
    )
    report = _report(report_file)
    if code != DONE:
        return replace(row, why=told), report
    recipe = wanted.recipe
    if source.recipe:
        assert source.outing is not None
        recipe = scratch / "recipe.json"
        recipe.write_text(source.recipe, encoding="utf-8")
        for asset in named_files(source.outing.finish):
            there = document.finish_file(source.path, asset)
            if there.is_file():  # what is gone the command tells by name
                shutil.copyfile(there, scratch / asset)
    preset = scratch / "preset.json"
    _write_preset(wanted.preset, preset)
    arguments = ["deliver", str(joined), "--preset", str(preset), "--report", str(report_file), "--out", str(target)]
    arguments += ["--as", wanted.preset.job.format]
    if wanted.preset.job.format == "layers":
        arguments += ["--frames", str(source.files[0].parent)]
    else:
        arguments += wanted.by_workers
    code, told = _command([*arguments, *([] if recipe is None else ["--recipe", str(recipe)])], stop)
    if code != DONE:
        return replace(row, why=told), report
    shutil.copyfile(report_file, wanted.out / f"{name}.report.json")
    doubts = list(_doubts(report))
    if source.outing is not None and source.outing.composition.crop and source.outing.composition.box is not None:
        doubts.append("It is cut to the largest rectangle without gaps: its crop by hand is not taken.")
    state = "doubtful" if doubts else "delivered"
    # a picture whose level nothing tells is as good as the head stood
    remarks = [*doubts, str(report["level_doubt"])] if report.get("level_doubt") else doubts
    return replace(row, state=state, out=str(target), why=" ".join(remarks)), report


def _write_preset(preset: Preset, path: Path) -> None:
    path.write_bytes(msgspec.json.encode({"schema": SCHEMA, "name": preset.name, **msgspec.to_builtins(preset.job)}))


def _command(arguments: Sequence[str], stop: Stop) -> tuple[int, str]:
    """Run a command in a process of its own, whose memory goes with it; its exit code and its last words.

    Raises
    ------
    Cancelled
        Somebody asked to stop; it was stopped.
    """
    with tempfile.TemporaryFile("w+", encoding="utf-8", errors="replace") as words:
        process = subprocess.Popen(
            [sys.executable, "-m", "idle_lantern.cli.main", *arguments],
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            stderr=words,
            start_new_session=True,  # a Ctrl + C is passed on once, by us
        )
        try:
            while True:
                try:
                    code = process.wait(_WAIT_S)
                    break
                except subprocess.TimeoutExpired:
                    if stop.asked:
                        process.terminate()
                        process.wait()
                        raise Cancelled from None
        except BaseException:
            process.kill()
            raise
        words.seek(0)
        lines = [line.strip() for line in words.read().replace("\r", "\n").splitlines() if line.strip()]
    if stop.asked:
        raise Cancelled
    return code, lines[-1] if lines else f"Ended with {code}."


def _report(path: Path) -> dict[str, Any]:
    try:
        told = read_json(path)
    except LanternError:
        return {}
    return told if isinstance(told, dict) else {}


def _doubts(report: dict[str, Any]) -> Iterator[str]:
    """What of a picture is to be looked at before it is handed on."""
    for frame in report.get("frames", []):
        reason = frame.get("reason")
        if reason and not frame.get("used") and frame.get("role") not in _EXPECTED and not _OTHER_RUN.search(reason):
            yield f"{Path(frame['file']).name} is not in it: {reason}"
    likely = [s for s in report.get("suspects") or [] if s["suspicion"] >= _DOUBTFUL_FROM and s["kind"] != "invented"]
    if likely:
        worst = likely[0]
        places = units.counted(len(likely), "place")
        yield f"{places} to look at, first {worst['u']:.0f}, {worst['v']:.0f}: {worst['sentence']}."
