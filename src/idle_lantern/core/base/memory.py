"""Memory of this process."""

from __future__ import annotations

import ctypes
import resource
from pathlib import Path

#: From malloc.h of the GNU C library.
_M_ARENA_MAX = -8


def peak_rss_mib() -> float:
    """Most memory this process ever held.

    From the kernel's own count: ``getrusage`` would tell that of a large process which started this one.
    """
    try:
        lines = Path("/proc/self/status").read_text(encoding="ascii").splitlines()
        return next(int(line.split()[1]) for line in lines if line.startswith("VmHWM:")) / 1024
    except (OSError, StopIteration):
        return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def few_arenas() -> None:
    """Let threads share their heaps, before there are any.

    glibc gives each thread one of its own, and each keeps what it once held: with the many of a window a large join
    took a quarter more memory. Elsewhere nothing is changed (mallopt(3), M_ARENA_MAX).
    """
    try:
        ctypes.CDLL(None).mallopt(_M_ARENA_MAX, 3)
    except (OSError, AttributeError, TypeError):  # another C library
        return
