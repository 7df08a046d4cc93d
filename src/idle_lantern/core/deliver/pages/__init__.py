"""Pages that are delivered: one file each, which opens from disk without a network."""

from __future__ import annotations

import html
import json
import re
from importlib import resources
from typing import Any


def part(name: str) -> str:
    """The text of a file of this folder."""
    return resources.files(__name__).joinpath(name).read_text(encoding="utf-8")


def filled(name: str, **parts: str) -> str:
    """A page with its ``%WORDS%`` replaced, each once and in one go: what is put in is never read as such a word."""
    return re.sub("%([A-Z]+)%", lambda found: parts[found[1].lower()], part(name))


def text(words: str) -> str:
    """Words as they stand in a page."""
    return html.escape(words)


def data(values: Any) -> str:
    """Values as JSON inside a ``script`` of a page: nothing in them can end it."""
    return json.dumps(values).replace("<", "\\u003c")
