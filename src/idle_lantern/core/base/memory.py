"""Memory of this process."""

from __future__ import annotations

import resource
from pathlib import Path


def peak_rss_mib() -> float:
    """Most memory this process ever held.

    From the kernel's own count: ``getrusage`` would tell that of a large process which started this one.
    """
    try:
        lines = Path("/proc/self/status").read_text(encoding="ascii").splitlines()
        return next(int(line.split()[1]) for line in lines if line.startswith("VmHWM:")) / 1024
    except (OSError, StopIteration):
        return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
