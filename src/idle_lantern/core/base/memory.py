"""Memory of this process."""

from __future__ import annotations

import contextlib
import ctypes
import errno
import resource
from pathlib import Path

#: From malloc.h of the GNU C library.
_M_TRIM_THRESHOLD, _M_MMAP_THRESHOLD, _M_ARENA_MAX = -1, -3, -8
#: What is larger than this gets memory of its own, which goes back when it goes; so much of the rest may wait for its next use.
_OWN_MAP_BYTES, _SPARE_BYTES = 8 << 20, 64 << 20
#: cv::Error::StsNoMem.
_OPENCV_NO_MEMORY = -4


def peak_rss_mib() -> float:
    """Most memory this process ever held.

    From the kernel's own count: ``getrusage`` would tell that of a large process which started this one.
    """
    try:
        lines = Path("/proc/self/status").read_text(encoding="ascii").splitlines()
        return next(int(line.split()[1]) for line in lines if line.startswith("VmHWM:")) / 1024
    except (OSError, StopIteration):
        return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def forget_peak() -> None:
    """Let the peak be counted anew from here (proc(5), clear_refs)."""
    with contextlib.suppress(OSError):
        Path("/proc/self/clear_refs").write_text("5", encoding="ascii")


def available_bytes() -> int:
    """Memory that this process may still take: what the machine has free, less where a limit is set for the process."""
    free = 2**62
    with contextlib.suppress(OSError, ValueError, StopIteration):
        lines = Path("/proc/meminfo").read_text(encoding="ascii").splitlines()
        free = next(int(line.split()[1]) * 1024 for line in lines if line.startswith("MemAvailable:"))
    limit = resource.getrlimit(resource.RLIMIT_AS)[0]
    if limit != resource.RLIM_INFINITY:
        with contextlib.suppress(OSError, ValueError):
            pages = int(Path("/proc/self/statm").read_text(encoding="ascii").split()[0])
            free = min(free, max(0, limit - pages * resource.getpagesize()))
    return free


def is_out_of_memory(error: BaseException) -> bool:
    """Whether an error, of whatever library, says that memory ran out."""
    if isinstance(error, MemoryError) or getattr(error, "errno", None) == errno.ENOMEM:
        return True
    if getattr(error, "code", None) == _OPENCV_NO_MEMORY:
        return True
    return any(words in str(error) for words in ("can't start new thread", "bad_alloc", "failed to map segment"))


def tune_allocator() -> None:
    """Let threads share their heaps, before there are any, and keep what tiles took for the next tile.

    glibc gives each thread a heap of its own, and each keeps what it once held: with the many of a window a large join
    took a quarter more memory. And it hands the memory of most tiles back to the system as they go, to ask for it again at once:
    a tenth of the CPU of finishing. Elsewhere nothing is changed (mallopt(3)).
    """
    try:
        mallopt = ctypes.CDLL(None).mallopt
        mallopt(_M_ARENA_MAX, 3)
        mallopt(_M_MMAP_THRESHOLD, _OWN_MAP_BYTES)
        mallopt(_M_TRIM_THRESHOLD, _SPARE_BYTES)
    except (OSError, AttributeError, TypeError):  # another C library
        return


def give_back() -> None:
    """Hand free memory back to the system: large frames leave holes that the C library keeps (malloc_trim(3))."""
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).malloc_trim(0)
