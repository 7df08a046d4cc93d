"""Coverage-guided fuzzing of all readers: ``python benchmarks/campaign/fuzz_readers.py CORPUS -max_total_time=7200``.

Needs ``atheris`` (``pip install atheris``), which is no dependency: it runs on request only. The folder CORPUS is
begun from the campaign's sound files. What it finds becomes a case of the campaign.
"""

from __future__ import annotations

import os
import sys
import tempfile
from pathlib import Path

import atheris

sys.path.insert(0, str(Path(__file__).parents[2]))

with atheris.instrument_imports(include=["idle_lantern", "tifffile", "PIL", "campaign"]):
    from campaign import documents, pictures
    from idle_lantern.core.base.errors import MOST_CHARACTERS, LanternError

FOLDER = Path(tempfile.mkdtemp(prefix="lantern-fuzz-"))
os.environ["XDG_CONFIG_HOME"] = str(FOLDER / "config")
KINDS = list(documents.READERS)


def one(data: bytes) -> None:
    """The first byte chooses the reader, the rest is the file."""
    if not data:
        return
    which, data = data[0] % (len(KINDS) + 1), data[1:]
    try:
        if which < len(KINDS):
            documents.read_as(KINDS[which], data, FOLDER)
        else:
            (FOLDER / "x.jpg").write_bytes(data)
            pictures.look_all_ways(FOLDER / "x.jpg")
    except LanternError as error:
        check(error)


def check(error: LanternError) -> None:
    """One sentence, short enough to be read."""
    assert 0 < len(error.sentence) <= MOST_CHARACTERS
    assert "\n" not in error.sentence


def begin_corpus(folder: Path) -> None:
    """The sound files, each after the byte that chooses its reader."""
    folder.mkdir(parents=True, exist_ok=True)
    for kind, data in documents.sound_documents().items():
        (folder / f"sound-{kind}").write_bytes(bytes([KINDS.index(kind)]) + data)
    for name, data in pictures.sound_pictures().items():
        (folder / f"sound-{name}").write_bytes(bytes([len(KINDS)]) + data)


if __name__ == "__main__":
    begin_corpus(Path(sys.argv[1]))
    # decoders print what they think of damage; it would fill the screen
    os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
    atheris.Setup([*sys.argv, "-timeout=10", "-rss_limit_mb=3000", "-max_len=60000"], one)
    atheris.Fuzz()
