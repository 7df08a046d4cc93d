"""Links stay links, modes stay as they were, and what killed writers left is removed by whoever comes next."""

from __future__ import annotations

import os
import signal
import stat
import subprocess
import sys
from pathlib import Path

import pytest

from idle_lantern.core.base.atomic import check_writable, make_folder, remove_all_leftovers, replacing, write_text
from idle_lantern.core.base.errors import InputError


def _killed_while_writing(target: Path) -> Path:
    """The part file that a killed writer of ``target`` left."""
    script = (
        "import os, signal, sys; from pathlib import Path\n"
        "from idle_lantern.core.base.atomic import replacing\n"
        "with replacing(Path(sys.argv[1])) as part:\n"
        "    part.write_text('half'); print(part, flush=True); os.kill(os.getpid(), signal.SIGKILL)\n"
    )
    done = subprocess.run([sys.executable, "-c", script, str(target)], capture_output=True, text=True, check=False)
    assert done.returncode == -signal.SIGKILL
    part = Path(done.stdout.strip())
    assert part.read_text() == "half"
    return part


def test_what_a_killed_writer_left_is_removed_by_the_next_one(tmp_path: Path):
    target, other = tmp_path / "o.tif", tmp_path / "o2.tif"
    left, not_mine = _killed_while_writing(target), _killed_while_writing(other)
    write_text(target, "whole")
    assert not left.exists()
    assert not_mine.exists(), "another target's is not ours to judge"
    remove_all_leftovers(tmp_path)
    assert not not_mine.exists()


def test_what_a_living_writer_holds_and_what_people_name_alike_stays(tmp_path: Path):
    target = tmp_path / "o.tif"
    for name in (".o-notes.tif", ".o-0123456789ab.tif", ".hidden", "o-0123456789ab.lantern-part.tif"):
        (tmp_path / name).write_text("mine")
    with replacing(target) as part:
        part.write_text("first")
        write_text(target, "second")  # at the same time
        remove_all_leftovers(tmp_path)
        assert part.exists()
    assert target.read_text() == "first"
    assert sum(p.read_text() == "mine" for p in tmp_path.iterdir() if p.is_file()) == 4


def test_a_link_stays_a_link_and_what_it_leads_to_is_replaced(tmp_path: Path):
    (tmp_path / "store").mkdir()
    real = tmp_path / "store" / "real.txt"
    real.write_text("old")
    link = tmp_path / "link.txt"
    link.symlink_to(real)
    write_text(link, "new")
    assert link.is_symlink()
    assert real.read_text() == "new"
    assert [p.name for p in (tmp_path / "store").iterdir()] == ["real.txt"]
    # a link that leads to nothing yet is filled
    dangling = tmp_path / "dangling.txt"
    dangling.symlink_to(tmp_path / "store" / "later.txt")
    write_text(dangling, "made")
    assert (tmp_path / "store" / "later.txt").read_text() == "made"


@pytest.mark.parametrize("mode", [0o600, 0o640, 0o664])
def test_the_mode_of_what_is_replaced_is_kept(tmp_path: Path, mode: int):
    target = tmp_path / "a.txt"
    target.write_text("old")
    target.chmod(mode)
    write_text(target, "new")
    assert stat.S_IMODE(target.stat().st_mode) == mode
    before = os.umask(0o027)
    try:
        write_text(tmp_path / "new.txt", "x")
    finally:
        os.umask(before)
    assert stat.S_IMODE((tmp_path / "new.txt").stat().st_mode) == 0o640


def test_what_cannot_be_written_is_known_before(tmp_path: Path):
    for path, sentence in (
        (tmp_path, "Is a folder"),
        (tmp_path / "none" / "a.txt", "folder does not exist"),
        (Path("/dev/null"), "no file that can be replaced"),
    ):
        with pytest.raises(InputError, match=sentence):
            check_writable(path)
    with pytest.raises(InputError, match="Is not there any more"):
        make_folder(tmp_path / "gone" / "frames", inside=tmp_path / "gone")
    assert not (tmp_path / "gone").exists()


def test_a_very_long_name_is_written_too(tmp_path: Path):
    target = tmp_path / ("n" * 240 + ".tif")
    write_text(target, "x")
    assert target.read_text() == "x"
