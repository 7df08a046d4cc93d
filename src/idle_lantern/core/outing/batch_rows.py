"""What came out of a batch: a row for each picture, kept beside the pictures, told as text, CSV, JSON or a page."""

from __future__ import annotations

import base64
import csv
import html
import io
import json
from collections.abc import Sequence
from dataclasses import asdict, dataclass, fields
from pathlib import Path

from idle_lantern.core.base.atomic import write_text
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.base.strict_json import read_json

SCHEMA = "idle-lantern/batch/1"
#: In the folder of the pictures: what was done, so that it is not done again.
KEPT = "batch.json"
_SMALL_PX = 240


@dataclass(frozen=True)
class Row:
    """A picture: of which folder and run, what became of it and why, and the key of all that decided it."""

    folder: str
    run: str
    state: str
    out: str
    why: str
    key: str = ""


def kept_rows(folder: Path) -> list[Row]:
    """Rows of earlier batches; none where they cannot be read."""
    try:
        told = read_json(folder / KEPT)
        names = {f.name for f in fields(Row)}
        return [Row(**{name: str(row.get(name, "")) for name in names}) for row in told["rows"]]
    except (LanternError, KeyError, TypeError, AttributeError):
        return []


def keep_rows(rows: Sequence[Row], folder: Path) -> None:
    """Keep rows for the next batch; raises InputError where they cannot be written."""
    told = {"schema": SCHEMA, "rows": [asdict(row) for row in rows]}
    write_text(folder / KEPT, json.dumps(told, indent=1) + "\n")


def as_text(rows: Sequence[Row]) -> str:
    """A line for each picture, in columns."""
    lines = [(row.state, _name(row), row.out or "-") for row in rows]
    wide = [max((len(line[c]) for line in lines), default=0) for c in range(2)]
    told = []
    for line, row in zip(lines, rows):
        told.append(f"{line[0]:<{wide[0]}}  {line[1]:<{wide[1]}}  {line[2]}")
        told += [f"{'':<{wide[0]}}  {row.why}"] if row.why else []
    return "\n".join(told) + "\n"


def as_json(rows: Sequence[Row]) -> str:
    """The table for programs."""
    told = [{name: value for name, value in asdict(row).items() if name != "key"} for row in rows]
    return json.dumps({"schema": SCHEMA, "rows": told}, indent=1) + "\n"


def as_csv(rows: Sequence[Row]) -> str:
    """The table for spreadsheets (RFC 4180)."""
    stream = io.StringIO()
    table = csv.writer(stream)
    table.writerow(["folder", "run", "state", "out", "why"])
    table.writerows([row.folder, row.run, row.state, row.out, row.why] for row in rows)
    return stream.getvalue()


def as_page(rows: Sequence[Row], folder: Path) -> str:
    """The table as one page with small pictures in it."""
    body = []
    for row in rows:
        small = _small(folder / Path(row.out).name) if row.out else ""
        image = f'<img src="data:image/jpeg;base64,{small}" alt="">' if small else ""
        cells = (image, html.escape(_name(row)), row.state, html.escape(row.why), html.escape(row.out))
        body.append(f'<tr class="{row.state}">' + "".join(f"<td>{cell}</td>" for cell in cells) + "</tr>")
    style = (
        "body{font:15px/1.4 system-ui,sans-serif;margin:2em}td{padding:.4em .8em;border-bottom:1px solid #bbb;vertical-align:top}"
        "tr.failed td:nth-child(3){color:#a01818}tr.doubtful td:nth-child(3){color:#8a5a00}"
    )
    head = "<tr><th></th><th>folder, run</th><th>state</th><th>why</th><th>file</th></tr>"
    return (
        f'<!DOCTYPE html>\n<html lang="en"><head><meta charset="utf-8"><title>Batch</title><style>{style}</style></head>\n'
        f"<body><h1>Batch</h1><table>{head}\n" + "\n".join(body) + "\n</table></body></html>\n"
    )


def _name(row: Row) -> str:
    name = Path(row.folder).name
    return f"{name}, {row.run}" if row.run else name


def _small(path: Path) -> str:
    """A small JPEG of a picture, as base64; empty where it cannot be shown so."""
    from PIL import Image  # only pages need it

    try:
        with Image.open(path) as image:
            image.thumbnail((_SMALL_PX, _SMALL_PX))
            packed = io.BytesIO()
            image.convert("RGB").save(packed, "JPEG", quality=80)
    except (OSError, ValueError, Image.DecompressionBombError):
        return ""
    return base64.b64encode(packed.getvalue()).decode()
