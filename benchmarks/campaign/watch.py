"""Runs cases in a process of its own and sees what they do to it: tracebacks, crashes, time, memory."""

from __future__ import annotations

import contextlib
import faulthandler
import multiprocessing
import os
import time
import traceback
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from multiprocessing.connection import Connection
from pathlib import Path
from random import Random

from idle_lantern.core.base.errors import MOST_CHARACTERS, Cancelled, LanternError

#: A case that takes longer hangs; what it takes beyond a gigabyte is not honest.
MOST_S, MOST_BYTES = 10.0, 2**30


@dataclass
class Tally:
    """What became of many cases."""

    cases: int = 0
    sound: int = 0
    refused: int = 0
    faults: list[str] = field(default_factory=list)
    longest_s: float = 0.0
    most_mib: float = 0.0
    longest_sentence: int = 0

    def row(self, name: str) -> str:
        """A line of the table."""
        return (
            f"{name:<22} {self.cases:>7} {self.sound:>7} {self.refused:>8} {len(self.faults):>7} "
            f"{self.longest_s:>9.2f} {self.most_mib:>9.0f} {self.longest_sentence:>9}"
        )


HEADING = (
    f"{'':<22} {'cases':>7} {'read':>7} {'refused':>8} {'faults':>7} {'most s':>9} {'most MiB':>9} {'sentence':>9}"
)


def watched(case: Callable[[int], None], seeds: Iterable[int], say: Callable[[str], None] = lambda _: None) -> Tally:
    """Run ``case(seed)`` for each seed in a child process; what kills or stalls it is a fault of that seed.

    A case is sound when it returns and refused when it raises one sentence of the program's own.
    """
    tally, waiting = Tally(), list(seeds)[::-1]
    context = multiprocessing.get_context("fork")
    while waiting:
        here, there = context.Pipe()
        child = context.Process(target=_serve, args=(there, case, waiting[::-1]), daemon=True)
        child.start()
        there.close()
        begun = time.monotonic()
        while waiting:
            seed = waiting[-1]
            left = MOST_S + 5 - (time.monotonic() - begun)
            try:
                if not here.poll(max(0.0, left)):
                    tally.faults.append(f"{seed}: no end after {MOST_S:.0f} s")
                    child.kill()
                    break
                result, took_s, grown = here.recv()
            except EOFError:
                child.join()
                tally.faults.append(f"{seed}: the process ended with {child.exitcode}")
                break
            finally:
                begun = time.monotonic()
            waiting.pop()
            _count(tally, seed, result, took_s, grown)
            if tally.cases % 500 == 0:
                say(f"{tally.cases} done, {len(tally.faults)} faults")
        else:
            child.join(5)
            here.close()
            continue
        tally.cases += 1
        waiting.pop()
        child.join()
        here.close()
    return tally


def _count(tally: Tally, seed: int, result: str, took_s: float, grown: float) -> None:
    tally.cases += 1
    tally.longest_s, tally.most_mib = max(tally.longest_s, took_s), max(tally.most_mib, grown / 2**20)
    if took_s > MOST_S:
        tally.faults.append(f"{seed}: took {took_s:.1f} s")
    if grown > MOST_BYTES:
        tally.faults.append(f"{seed}: took {grown / 2**30:.1f} GiB")
    if result == "":
        tally.sound += 1
    elif result.startswith("told "):
        tally.refused += 1
        sentence = result[5:]
        tally.longest_sentence = max(tally.longest_sentence, len(sentence))
        if not sentence.strip() or len(sentence) > MOST_CHARACTERS or "\n" in sentence:
            tally.faults.append(f"{seed}: told {sentence[:80]!r} of {len(sentence)} characters")
    else:
        tally.faults.append(f"{seed}: {result}")


def _serve(pipe: Connection, case: Callable[[int], None], seeds: list[int]) -> None:
    faulthandler.disable()
    silent = os.open(os.devnull, os.O_WRONLY)  # decoders written in C tell of damage by themselves
    os.dup2(silent, 2)
    for seed in seeds:
        _forget_peak()
        before, begun = _peak(), time.monotonic()
        try:
            case(seed)
            result = ""
        except LanternError as error:
            result = f"told {error.sentence}"
        except Cancelled:
            result = "told Stopped."
        except BaseException:
            result = traceback.format_exc(limit=-3)
        pipe.send((result, time.monotonic() - begun, _peak() - before))
    os._exit(0)


def _forget_peak() -> None:
    """Let the kernel count the peak of memory anew (proc(5), clear_refs)."""
    with contextlib.suppress(OSError):
        Path("/proc/self/clear_refs").write_text("5")


def _peak() -> int:
    with open("/proc/self/status") as lines:
        return next(int(line.split()[1]) * 1024 for line in lines if line.startswith("VmHWM:"))


def random_of(seed: int) -> Random:
    """The source of chance of a case."""
    return Random(f"campaign {seed}")
