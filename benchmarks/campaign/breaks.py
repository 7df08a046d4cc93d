"""Work that is killed, interrupted, or runs out of disk or memory at any moment; and what must be true afterwards."""

from __future__ import annotations

import contextlib
import hashlib
import os
import resource
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path
from random import Random

import numpy as np
from PIL import Image

from idle_lantern.app.stages.frames_model import bring, contents
from idle_lantern.cli.main import main
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.base.progress import SILENT
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.deliver.writing import write_source
from idle_lantern.core.outing import assets, document, edits
from idle_lantern.core.outing.folder_lock import LockedOuting
from idle_lantern.core.outing.model import FrameRef, Outing
from idle_lantern.core.outing.position_edits import BroughtPosition, bring_positions
from idle_lantern.core.pictures.source import HeldPicture

_ENDINGS = (".tif", ".jpg", ".png")


@dataclass(frozen=True)
class Ground:
    """Where it happens: a few small frames, what they join to undisturbed, and a folder to work in."""

    folder: Path
    frames: tuple[Path, ...]
    whole: dict[str, bytes]

    def clear(self) -> Path:
        """An empty folder."""
        work = self.folder / "work"
        work.mkdir(exist_ok=True)
        for path in work.iterdir():
            path.unlink()
        return work


def prepare(folder: Path) -> Ground:
    """Make the frames and join them once into each format."""
    rng = np.random.default_rng(3)
    scene = np.asarray(
        Image.fromarray(rng.integers(0, 256, (60, 220, 3), dtype=np.uint8)).resize((880, 240), Image.Resampling.BICUBIC)
    )
    frames = []
    for i in range(3):
        path = folder / f"f{i}.jpg"
        Image.fromarray(scene[:, 200 * i : 200 * i + 400]).save(path, quality=95)
        frames.append(path)
    whole = {}
    for ending in _ENDINGS:
        target = folder / f"whole{ending}"
        assert _in_child(lambda t=target: main(_joining(frames, t))) == 0
        whole[ending] = target.read_bytes()
    return Ground(folder, tuple(frames), whole)


def _joining(frames: tuple[Path, ...] | list[Path], target: Path, *more: str) -> list[str]:
    return ["join", *map(str, frames), "--out", str(target), *more]


def killed_join(ground: Ground, rng: Random) -> None:
    """SIGKILL at any moment of a join; the target is whole or as it was, and the next run ends with the same bytes."""
    ending = rng.choice(_ENDINGS)
    work = ground.clear()
    target = work / f"o{ending}"
    old = rng.random() < 0.5
    if old:
        target.write_bytes(b"an older picture")
    _in_child(lambda: main(_joining(ground.frames, target)), kill_after_s=rng.uniform(0.0, 0.7))
    now = target.read_bytes() if target.exists() else b""
    assert now in ((b"an older picture",) if old else (b"",)) + (ground.whole[ending],), "half a file at the target"
    assert _in_child(lambda: main(_joining(ground.frames, target))) == 0
    assert target.read_bytes() == ground.whole[ending], "other bytes after going on"
    assert [p.name for p in work.iterdir()] == [target.name], "left over"


def killed_save(ground: Ground, rng: Random) -> None:
    """SIGKILL while an outing is edited and saved again and again; it opens as one of its states, and nothing is left over."""
    folder = ground.folder / "outing"
    start = Outing("0", "2026-05-14T18:00", frames=(FrameRef("a.jpg", id="a"),))
    document.save(start, folder)

    def edit_on() -> int:
        with LockedOuting(folder) as held:
            outing = held.load()
            for n in range(1, 10_000):
                mask = assets.put(folder, str(n).encode() * 2000, document.MASK_ASSET)
                outing = edits.paint("a", "a", mask).apply(edits.rename(str(n)).apply(outing))
                held.save(outing)
        return 0

    _in_child(edit_on, kill_after_s=rng.uniform(0.0, 0.1))
    with LockedOuting(folder) as held:
        assert held.reading == "", "a killed window's lock holds nobody out"
        outing = held.load()
    assert outing.name == "0" or document.mask_file(folder, outing, "a").read_bytes() == outing.name.encode() * 2000
    left = [p.name for p in (*folder.iterdir(), *(folder / assets.FOLDER).glob("*")) if "part" in p.name]
    assert not left, left
    for path in (folder / assets.FOLDER).glob("*"):
        path.unlink()


def killed_import(ground: Ground, rng: Random) -> None:
    """SIGKILL while pictures are brought in; the outing opens with some of them, and the pictures are as they were."""
    folder = ground.folder / "outing"
    document.save(Outing("bring", "2026-05-14T18:00"), folder)
    before = [path.read_bytes() for path in ground.frames]

    def bring_on() -> int:
        with LockedOuting(folder) as held:
            outing = held.load()
            for _ in range(10_000):
                brought = bring(list(ground.frames), folder, SILENT)
                for files in (brought.files[:1], brought.files):
                    outing = bring_positions([BroughtPosition((file,)) for file in files]).apply(outing)
                    held.save(edits.know_contents(contents(outing, folder, SILENT)).apply(outing))
                outing = edits.remove_frames([ref.id for ref in outing.frames]).apply(outing)
        return 0

    _in_child(bring_on, kill_after_s=rng.uniform(0.0, 0.25))
    with LockedOuting(folder) as held:
        outing = held.load()
    assert len(outing.frames) in (0, 1, len(ground.frames))
    sums = [hashlib.sha256(data).hexdigest() for data in before]
    assert [ref.sha256 for ref in outing.frames] == sums[: len(outing.frames)]
    assert [path.read_bytes() for path in ground.frames] == before
    assert not [p.name for p in folder.iterdir() if "part" in p.name]


def two_at_once(ground: Ground, rng: Random) -> None:
    """Two processes change one outing as often as they are let; no change of either is lost."""
    folder = ground.folder / "outing"
    document.save(Outing("two", "2026-05-14T18:00"), folder)

    def add_lines(mark: str) -> int:
        made = 0
        for _ in range(60):
            with LockedOuting(folder) as held:
                if not held.reading:
                    outing = held.load()
                    held.save(replace(outing, note=outing.note + mark))
                    made += 1
        return made

    pauses = rng.uniform(0.0, 0.02)
    made = []
    children = [_begin_child(lambda m=mark: add_lines(m)) for mark in "ab"]
    time.sleep(pauses)
    made = [os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) for child in children]
    note = document.load(folder).note
    assert [note.count("a"), note.count("b")] == made, f"{made} were saved, {note!r} is there"
    assert sum(made) > 0


def killed_delivery(ground: Ground, rng: Random) -> None:
    """SIGKILL while a picture is delivered."""
    ending = rng.choice(_ENDINGS)
    work = ground.clear()
    target = work / f"d{ending}"
    _in_child(lambda: _delivered(target), kill_after_s=rng.uniform(0.0, 0.15))
    if target.exists():
        assert target.read_bytes() == _delivery(ground.folder, ending)
    assert _in_child(lambda: _delivered(target)) == 0
    assert target.read_bytes() == _delivery(ground.folder, ending)
    assert [p.name for p in work.iterdir()] == [target.name], "left over"


def _delivered(target: Path) -> int:
    pixels = np.random.default_rng(1).integers(0, 256, (900, 1300, 3), dtype=np.uint8)
    write_source(HeldPicture(Picture(pixels)), target)
    return 0


@lru_cache(maxsize=8)
def _delivery(folder: Path, ending: str) -> bytes:
    target = folder / f"delivered{ending}"
    assert _in_child(lambda: _delivered(target)) == 0
    return target.read_bytes()


def full_disk(ground: Ground, rng: Random) -> None:
    """No file can grow beyond so many bytes, as on a full disk: told in one sentence, nothing is lost or left half-written."""
    ending = rng.choice(_ENDINGS)
    work = ground.clear()
    target = work / f"o{ending}"
    target.write_bytes(b"older")
    most = rng.randrange(0, len(ground.whole[ending]))
    words = ground.folder / "words"

    def limited() -> int:
        resource.setrlimit(resource.RLIMIT_FSIZE, (most, resource.RLIM_INFINITY))
        return main(_joining(ground.frames, target))

    code = _in_child(limited, words=words)
    _check_words(words, code, {2})
    assert target.read_bytes() == b"older"
    assert [p.name for p in work.iterdir()] == [target.name], "left over"
    assert _in_child(lambda: main(_joining(ground.frames, target))) == 0
    assert target.read_bytes() == ground.whole[ending]


def full_disk_saving(ground: Ground, rng: Random) -> None:
    """The same while an outing is saved."""
    folder = ground.folder / "outing"
    document.save(Outing("before", "2026-05-14T18:00"), folder)
    before = (folder / document.DOCUMENT).read_bytes()

    def limited() -> int:
        resource.setrlimit(resource.RLIMIT_FSIZE, (rng.randrange(0, len(before)), resource.RLIM_INFINITY))
        with LockedOuting(folder) as held:
            held.load()
            try:
                held.save(Outing("after" * 100, "2026-05-14T18:00"))
            except LanternError:
                return 7
        return 0

    assert _in_child(limited) == 7
    assert (folder / document.DOCUMENT).read_bytes() == before
    assert not [p.name for p in folder.iterdir() if "part" in p.name]


def mounted_full(ground: Ground, rng: Random) -> None:
    """A file system that is really full: told, nothing half-written; with room again the same bytes as ever."""
    ending = rng.choice(_ENDINGS)
    disk, words = ground.folder / "disk", ground.folder / "words"
    disk.mkdir(exist_ok=True)
    size = 64 * 1024 + len(ground.whole[ending]) * 4
    subprocess.run(["mount", "-t", "tmpfs", "-o", f"size={size}", "none", str(disk)], check=True)
    try:
        filler, target = disk / "filler", disk / f"o{ending}"
        target.write_bytes(b"older")
        free = os.statvfs(disk).f_bavail * os.statvfs(disk).f_frsize
        filler.write_bytes(b"x" * max(0, free - rng.randrange(0, len(ground.whole[ending]))))
        code = _in_child(lambda: main(_joining(ground.frames, target)), words=words)
        _check_words(words, code, {2})
        assert sorted(p.name for p in disk.iterdir()) == ["filler", target.name], "left over"
        assert target.read_bytes() == b"older"
        filler.unlink()
        assert _in_child(lambda: main(_joining(ground.frames, target))) == 0
        assert target.read_bytes() == ground.whole[ending]
    finally:
        subprocess.run(["umount", str(disk)], check=True)


def may_mount(folder: Path) -> bool:
    """Whether file systems can be mounted here: root on its own machine may, others may not."""
    probe = folder / "probe"
    probe.mkdir()
    tried = subprocess.run(["mount", "-t", "tmpfs", "none", str(probe)], capture_output=True, check=False)
    if tried.returncode == 0:
        subprocess.run(["umount", str(probe)], check=True)
    return tried.returncode == 0


def signalled(ground: Ground, rng: Random) -> None:
    """A signal at any moment of a whole process: one line, the right exit code, no traceback, the target whole or absent."""
    work = ground.clear()
    target = work / "o.tif"
    process = subprocess.Popen(
        [sys.executable, "-m", "idle_lantern.cli.main", *_joining(ground.frames, target, "--fresh")],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
        text=True,
    )
    number = rng.choice((signal.SIGTERM, signal.SIGINT, signal.SIGHUP))
    # earlier there is no Python that could hear it
    time.sleep(rng.uniform(0.25, 2.0))
    process.send_signal(number)
    words = process.communicate(timeout=30)[1]
    assert "Traceback" not in words, words[-500:]
    assert process.returncode in (0, 130), f"{number.name} ended with {process.returncode}: {words[-300:]}"
    if process.returncode == 130:
        assert words.rstrip().endswith("Stopped; nothing was written."), words[-300:]
    whole = process.returncode == 0
    assert [p.name for p in work.iterdir()] == ([target.name] if whole else []), "left over"


def starved(ground: Ground, rng: Random) -> None:
    """So little address space that something must fail: told in one sentence, never as damage of a sound frame."""
    work = ground.clear()
    target = work / "o.tif"
    most = rng.randrange(200, 1200) * 2**20
    done = subprocess.run(
        [sys.executable, "-m", "idle_lantern.cli.main", *_joining(ground.frames, target, "--fresh")],
        capture_output=True,
        text=True,
        check=False,
        preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_AS, (most, most)),
    )
    assert "Traceback" not in done.stderr, done.stderr[-500:]
    assert "damaged" not in done.stderr, done.stderr[-300:]
    assert done.returncode in (0, 2, 3), f"{most >> 20} MiB ended with {done.returncode}: {done.stderr[-300:]}"
    assert target.exists() == (done.returncode == 0)


def closed_streams(ground: Ground, rng: Random) -> None:
    """Standard output or error full or closed: the picture stands, and the code tells whether the result was told."""
    work = ground.clear()
    target = work / "o.jpg"
    out, err = rng.choice((("/dev/full", ""), ("&-", ""), ("", "/dev/full"), ("", "&-"), ("&-", "&-")))
    ways = (f"1>{out}" if out else "1>/dev/null") + " " + (f"2>{err}" if err else "")
    command = " ".join([sys.executable, "-m", "idle_lantern.cli.main", *_joining(ground.frames, target)])
    done = subprocess.run(["bash", "-c", f"{command} {ways}"], stderr=subprocess.PIPE, text=True, check=False)
    assert done.returncode == (2 if out else 0), done.stderr
    assert "Traceback" not in done.stderr
    assert target.read_bytes() == ground.whole[".jpg"]


BREAKS: dict[str, tuple[Callable[[Ground, Random], None], ...]] = {
    "kills": (killed_join, killed_save, killed_delivery, killed_import, two_at_once),
    "full disks": (full_disk, full_disk_saving),
    "signals": (signalled,),
    "memory": (starved,),
    "streams": (closed_streams,),
}


def _check_words(words: Path, code: int, codes: set[int]) -> None:
    told = words.read_text(errors="replace")
    assert code in codes, f"ended with {code}: {told[-300:]}"
    assert "Traceback" not in told, told[-500:]
    assert len(told.strip().rpartition("\n")[2]) < 300


def _in_child(work: Callable[[], int], *, kill_after_s: float | None = None, words: Path | None = None) -> int:
    """Run in a forked process, which has all libraries loaded; returns its exit code, negative for a signal."""
    child = _begin_child(work, words)
    if kill_after_s is not None:
        time.sleep(kill_after_s)
        os.kill(child, signal.SIGKILL)
    return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])


def _begin_child(work: Callable[[], int], words: Path | None = None) -> int:
    child = os.fork()
    if child == 0:
        code = 99
        with contextlib.suppress(BaseException):
            target = os.open(words or os.devnull, os.O_WRONLY | os.O_CREAT | os.O_TRUNC)
            os.dup2(target, 2)
            os.dup2(target, 1)
            signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
            code = work()
        os._exit(code)
    return child
