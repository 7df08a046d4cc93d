"""Files that packages of the registries carry, for checks against something that is not ours."""

from __future__ import annotations

import hashlib
import os
import shutil
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


#: The same for what Debian keeps of a package's source: release, and the SHA-256 of the archive as its makers gave it out.
_DEBIAN = {
    ("exiv2", "0.27.6"): ("bookworm", "f16ee5ff08b6994c66106109417857f13e711fca100ac43c6a403d4f02b59602"),
}


def debian_source(name: str, version: str) -> Path:
    """The unpacked source of a Debian package, by the machine's own apt, whose lists stay as they are."""
    root = _cache() / f"{name}-{version}"
    if root.is_dir():
        return root
    release, pinned = _DEBIAN[name, version]
    apt = _cache() / "apt"
    for folder in ("lists/partial", "cache/archives/partial", "parts"):
        (apt / folder).mkdir(parents=True, exist_ok=True)
    ask = ["apt-get", "indextargets", "Created-By: Packages", "Component: main", "--format", "$(REPO_URI)"]
    where = (
        subprocess.run(ask, capture_output=True, text=True, check=False).stdout.split() if shutil.which(ask[0]) else []
    )
    mirror = next((uri for uri in where if uri.rstrip("/").endswith("/debian")), None)
    if mirror is None:
        pytest.skip(f"the source of {name} cannot be had: no Debian archive is known here")
    (apt / "parts" / "source.list").write_text(f"deb-src {mirror} {release} main\n")
    own = [f"Dir::Etc::sourceparts={apt}/parts", "Dir::Etc::sourcelist=/dev/null", f"Dir::State::lists={apt}/lists"]
    options = [word for one in (*own, f"Dir::Cache={apt}/cache") for word in ("-o", one)]
    archive = apt / f"{name}_{version}.orig.tar.gz"
    for command in (["update"], ["source", "--download-only", name]):
        try:
            done = subprocess.run(
                ["apt-get", "-q", *options, *command], cwd=apt, capture_output=True, text=True, timeout=60
            )
        except subprocess.TimeoutExpired:
            pytest.skip(f"the source of {name} cannot be had: the archive does not answer")
    if not archive.is_file() or hashlib.sha256(archive.read_bytes()).hexdigest() != pinned:
        pytest.skip(f"the source of {name} {version} cannot be had: {done.stderr.strip()[-200:]}")
    with tarfile.open(archive) as packed:
        packed.extractall(_cache(), filter="data")
    return root


def _cache() -> Path:
    return Path(os.environ.get("XDG_CACHE_HOME", Path.home() / ".cache")) / "idle-lantern-tests"


def unpacked(name: str, version: str) -> Path:
    """The unpacked source of a package; the test is skipped with the reason where it cannot be had."""
    root = _cache() / f"{name}-{version}"
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
