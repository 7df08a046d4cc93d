"""Files that packages of the registries carry, for checks against something that is not ours."""

from __future__ import annotations

import os
import subprocess
import sys
import tarfile
from pathlib import Path

import pytest

#: SHA-256 of what is fetched: a file of another content is none of ours.
_PINNED = {
    ("rawpipe", "0.19.3"): "733d899e2c9a09e1e81fd95c28c6e19642d8749a90058aeada206d2f6542b13f",
    ("dngpy", "0.1.3"): "10d84ff5b1b3b3bd72e92e4fa94a02e90f5e2d369297d0e10f90be91fd2345a8",
}


def unpacked(name: str, version: str) -> Path:
    """The unpacked source of a package; the test is skipped with the reason where it cannot be had."""
    root = Path(os.environ.get("XDG_CACHE_HOME", Path.home() / ".cache")) / "idle-lantern-tests" / f"{name}-{version}"
    if not root.is_dir():
        pinned = _PINNED[name, version]
        asked = root.parent / f"{name}.txt"
        root.parent.mkdir(parents=True, exist_ok=True)
        asked.write_text(f"{name}=={version} --hash=sha256:{pinned}\n")
        command = [
            sys.executable,
            "-m",
            "pip",
            "download",
            "-q",
            "--no-deps",
            "--require-hashes",
        ]
        try:
            done = subprocess.run(
                [*command, "--no-binary", name, "-d", str(root.parent), "-r", str(asked)],
                capture_output=True,
                text=True,
                timeout=60,
            )
        except subprocess.TimeoutExpired:
            pytest.skip(f"{name} {version} cannot be had: the registry does not answer")
        archive = next(iter(root.parent.glob(f"{name}-{version}*.tar.gz")), None)
        if archive is None:
            pytest.skip(f"{name} {version} cannot be had: {done.stderr.strip()[-200:]}")
        with tarfile.open(archive) as packed:
            packed.extractall(root.parent, filter="data")
    return root
