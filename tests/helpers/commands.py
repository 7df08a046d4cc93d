"""Commands run within the test's own process: the same code as in one of their own, without loading every library again."""

from __future__ import annotations

import contextlib
import io
from dataclasses import dataclass

from idle_lantern.cli.main import main


@dataclass(frozen=True)
class Done:
    """How a command ended, and what it told."""

    returncode: int
    stdout: str
    stderr: str


def run_command(*arguments: object) -> Done:
    """Run ``idle-lantern`` with these arguments."""
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        try:
            code = main([str(a) for a in arguments])
        except SystemExit as end:
            code = end.code if isinstance(end.code, int) else 1
    return Done(code, out.getvalue(), err.getvalue())
