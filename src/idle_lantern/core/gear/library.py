"""The gear library and this machine's past joins: one small SQLite file in the user's data folder.

Facts are kept as JSON beside kind and name, so that a new fact needs no new table;
the export is JSON as well (``docs/formats/gear.md``).
"""

from __future__ import annotations

import json
import logging
import math
import sqlite3
from collections.abc import Iterable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path

import platformdirs

from idle_lantern.core.base.atomic import make_folder
from idle_lantern.core.base.errors import DocumentError, InputError, LanternError
from idle_lantern.core.base.strict_json import parse_json
from idle_lantern.core.gear.entries import (
    Camera,
    Entry,
    Filter,
    Head,
    LensEntry,
    MemoryCard,
    Tripod,
    entry_from,
    facts_of,
)
from idle_lantern.core.optics.known import KnownLens
from idle_lantern.core.plan.cost import PastJoin

log = logging.getLogger(__name__)

SCHEMA = "idle-lantern/gear/1"
_VERSION = 1
_MOST_JOINS = 50
#: So long another window may hold the file.
_PATIENCE_S = 5.0
#: The disk is full, the file or its folder is read-only, another program holds it: the library itself is sound.
_JUST_NOW = tuple(
    f"SQLITE_{name}" for name in ("FULL", "READONLY", "BUSY", "LOCKED", "CANTOPEN", "IOERR", "PERM", "NOMEM")
)


def gear_file() -> Path:
    """Where the user's library lies."""
    return Path(platformdirs.user_data_dir("idle-lantern")) / "gear.sqlite"


#: Invented things to begin with: sizes as they are common, of no maker.
GENERIC: tuple[Entry, ...] = (
    Entry("camera", "Small sensor, 24 MP", Camera(23.5, 15.7, 6000, 4000, 28.0, 14, 100.0, 13.5, 1)),
    Entry("camera", "36 x 24 mm, 45 MP", Camera(36.0, 24.0, 8256, 5504, 52.0, 14, 64.0, 14.5, 1)),
    Entry("camera", "36 x 24 mm, 24 MP", Camera(36.0, 24.0, 6000, 4000, 27.0, 14, 100.0, 14.0, 1)),
    Entry("camera", "44 x 33 mm, 100 MP, sensor shift", Camera(43.8, 32.9, 11648, 8736, 118.0, 16, 100.0, 14.8, 4)),
    Entry("camera", "Flying camera, 12 MP", Camera(6.17, 4.63, 4000, 3000, 19.0, 12, 100.0, 11.0, 1)),
    Entry("lens", "20 mm f/2.8", LensEntry("rectilinear", 20, 20, 2.8, 22, 0, 0, 1.4, ((20.0, 62.0),), 2.0)),
    Entry(
        "lens", "24-70 mm f/4", LensEntry("rectilinear", 24, 70, 4, 22, 0, 0, 1.0, ((24.0, 81.0), (70.0, 96.0)), 2.0)
    ),
    Entry("lens", "56 mm f/1.2", LensEntry("rectilinear", 56, 56, 1.2, 16, 0, 0, 1.3, (), 2.0)),
    Entry("lens", "85 mm f/1.8", LensEntry("rectilinear", 85, 85, 1.8, 16, 0, 0, 1.6, (), 2.0)),
    Entry("lens", "200 mm f/2.8", LensEntry("rectilinear", 200, 200, 2.8, 32, 0, 0, 0.8, (), 5.0)),
    Entry("lens", "8 mm fisheye f/3.5", LensEntry("equisolid", 8, 8, 3.5, 22, 0, 0, 0.8, ((8.0, 71.0),), 1.5)),
    Entry("lens", "24 mm shift f/3.5", LensEntry("rectilinear", 24, 24, 3.5, 22, 67, 12, 0.7, (), 2.0)),
    Entry("head", "Panoramic head, free", Head("head", 0, 0, True, -90, 90, 0.2)),
    Entry("head", "Click head, 15 degrees", Head("head", 15, 15, True, -90, 90, 0.1)),
    Entry("head", "Ball head", Head("tripod", 0, 0, True, -60, 60, 0.8)),
    Entry("head", "Hand-held", Head("hand", 0, 0, True, -80, 80, 2.5)),
    Entry("head", "Hovering", Head("air", 0, 0, True, -90, 30, 1.5)),
    Entry("filter", "Grey 3 stops", Filter(3.0, False)),
    Entry("filter", "Grey 6 stops", Filter(6.0, False)),
    Entry("filter", "Polariser", Filter(1.5, True)),
    Entry("card", "64 GB", MemoryCard(64.0)),
    Entry("tripod", "Firm legs", Tripod(1.7, 2.6)),
)


class Library:
    """Entries and past joins in one file; each call is one transaction."""

    def __init__(self, path: Path) -> None:
        """Open the file, made with the generic entries if it is new.

        Raises
        ------
        DocumentError
            The file is damaged or from a newer version; it is left as it is.
        """
        self.path = path
        make_folder(path.parent)
        with self._open() as db:
            version = db.execute("PRAGMA user_version").fetchone()[0]
            if version > _VERSION:
                raise DocumentError(
                    f"Was written by a newer Idle Lantern (gear version {version}, this one reads up to {_VERSION})",
                    where=str(path),
                    remedy="Update Idle Lantern; the file was left as it is",
                )
            if version == 0:
                db.execute("CREATE TABLE entries (kind TEXT, name TEXT, facts TEXT, PRIMARY KEY (kind, name))")
                db.execute("CREATE TABLE joins (frames INT, read_mp REAL, made_mp REAL, seconds REAL, peak_mib REAL)")
                _write(db, GENERIC)
                db.execute(f"PRAGMA user_version = {_VERSION}")

    @contextmanager
    def _open(self) -> Iterator[sqlite3.Connection]:
        try:
            with closing(sqlite3.connect(self.path, timeout=_PATIENCE_S)) as db, db:
                yield db
        except (sqlite3.DatabaseError, UnicodeDecodeError) as error:  # what SQLite says of damage may be no text itself
            if getattr(error, "sqlite_errorname", "").startswith(_JUST_NOW):
                raise InputError(
                    f"The gear library cannot be used just now ({error})",
                    where=str(self.path),
                    remedy="Nothing of it is lost; make room on the disk, or see that you may write there, and try again",
                ) from error
            raise DocumentError(
                f"The gear library is damaged ({error})",
                where=str(self.path),
                remedy="It was left as it is; move it away to begin a new one",
            ) from error

    def entries(self, kind: str = "") -> list[Entry]:
        """Entries of one kind, or all, by name."""
        with self._open() as db:
            rows = db.execute("SELECT kind, name, facts FROM entries ORDER BY kind, name COLLATE NOCASE").fetchall()
        return [entry for k, n, f in rows if not kind or k == kind for entry in _sound(k, n, f)]

    def get(self, kind: str, name: str) -> Entry | None:
        """The entry of that name."""
        return next((e for e in self.entries(kind) if e.name == name), None)

    def measured_lenses(self) -> dict[str, KnownLens]:
        """Lenses that were measured, by name."""
        return {e.name: e.facts for e in self.entries("measured-lens") if isinstance(e.facts, KnownLens)}

    def put(self, *entries: Entry) -> None:
        """Add entries; those of the same kind and name are replaced. All of them or none."""
        with self._open() as db:
            _write(db, entries)

    def remove(self, kind: str, name: str) -> None:
        """Take an entry out."""
        with self._open() as db:
            db.execute("DELETE FROM entries WHERE kind = ? AND name = ?", (kind, name))

    def to_text(self) -> str:
        """All entries as JSON text."""
        rows = [{"kind": e.kind, "name": e.name, "facts": facts_of(e)} for e in self.entries()]
        return json.dumps({"schema": SCHEMA, "entries": rows}, indent=1, ensure_ascii=False)

    def take_text(self, text: str, where: str = "") -> int:
        """Add the entries of an export; returns how many. A text with one bad entry changes nothing.

        Raises
        ------
        InputError
            Not an export, or an entry that cannot be.
        """
        document = parse_json(text.encode("utf-8", "surrogatepass"), where)
        if not isinstance(document, dict) or document.get("schema") != SCHEMA:
            raise InputError(f"Is no gear list (schema {SCHEMA})", where=where)
        try:
            found = [entry_from(str(r["kind"]), str(r["name"]), r["facts"]) for r in document["entries"]]
        except (KeyError, TypeError) as error:
            raise InputError("Holds an entry without kind, name or facts", where=where) from error
        self.put(*found)
        return len(found)

    def past_joins(self) -> tuple[PastJoin, ...]:
        """This machine's last joins, newest first."""
        with self._open() as db:
            rows = db.execute(
                "SELECT frames, read_mp, made_mp, seconds, peak_mib FROM joins ORDER BY rowid DESC LIMIT ?",
                (_MOST_JOINS,),
            ).fetchall()
        return tuple(PastJoin(*row) for row in rows if all(_is_amount(value) for value in row))

    def add_join(self, join: PastJoin) -> None:
        """Remember a join that ran to its end."""
        with self._open() as db:
            db.execute(
                "INSERT INTO joins VALUES (?, ?, ?, ?, ?)",
                (join.frames, join.read_mp, join.made_mp, join.seconds, join.peak_mib),
            )


def _is_amount(value: object) -> bool:
    return isinstance(value, (int, float)) and math.isfinite(value) and value > 0


def _sound(kind: object, name: object, facts: object) -> Iterator[Entry]:
    """The entry of a row; one that cannot be read hides no other, and stays in the file."""
    try:
        yield entry_from(str(kind), str(name), parse_json(str(facts).encode("utf-8", "surrogatepass")))
    except LanternError as error:
        log.warning("gear entry %r cannot be read: %s", name, error)


def _write(db: sqlite3.Connection, entries: Iterable[Entry]) -> None:
    db.executemany(
        "INSERT OR REPLACE INTO entries VALUES (?, ?, ?)", [(e.kind, e.name, json.dumps(facts_of(e))) for e in entries]
    )
