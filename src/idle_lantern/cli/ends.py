"""How every command ends: one line on standard error and an exit code, whatever happened."""

from __future__ import annotations

import contextlib
import logging
import logging.handlers
import os
import signal
import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from types import FrameType
from typing import Any

from idle_lantern.core.base.errors import Cancelled, InputError, JoinError, LanternError, one_line, shortened
from idle_lantern.core.base.memory import is_out_of_memory

#: What a command ends with (join contract).
DONE = 0
FAULT = 1
BAD_INPUT = 2
CANNOT = 3
INTERRUPTED = 130  # 128 + SIGINT
#: Done, and something doubtful found; only commands that say so end with it.
DOUBTFUL = 1
_SIGNALS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)

log = logging.getLogger("idle_lantern")


def run_to_end(command: Callable[[], int], *, ends_process: bool = False) -> int:
    """Run a command; whatever it raises becomes a sentence and the exit code that the command line promises.

    Where the process ends with it, signals that come after the end are not heard any more: what was done stays done.
    """
    _open_streams()
    before = _listen(_interrupt)
    try:
        return command()
    except (_Interrupted, KeyboardInterrupt, Cancelled):
        say("Stopped; nothing was written.")
        return INTERRUPTED
    except LanternError as error:
        say(error.sentence)
        return CANNOT if isinstance(error, JoinError) else BAD_INPUT
    except Exception as error:  # the last barrier: everything else is our mistake, told as such
        if is_out_of_memory(error):
            say("The computer ran out of memory. Close other programs, or ask for less at once.")
            return CANNOT
        where = _log_fault(error)
        say(f"Something unexpected happened ({shortened(f'{type(error).__name__}: {error}', 120)}). {where}")
        return FAULT
    finally:
        if ends_process:
            _listen(signal.SIG_IGN)
        else:
            _restore(before)


def say(text: str, end: str = "\n") -> None:
    """A line on standard error; where that is closed or full there is nobody to be told."""
    with contextlib.suppress(OSError, ValueError):
        print(one_line(text), end=end, file=sys.stderr, flush=True)


def give(text: str) -> None:
    """The result on standard output, to its last byte.

    Raises
    ------
    InputError
        It is closed or full.
    """
    try:
        if _closed_out:
            raise OSError("it is closed")
        sys.stdout.write(text)
        sys.stdout.flush()
    except OSError as error:
        _silence(1)  # what is left in the buffer must not fail once more when the interpreter ends
        raise InputError(f"Cannot be written ({error.strerror or error})", where="Standard output") from error


@contextlib.contextmanager
def stopping(stop: Callable[[], None]) -> Iterator[None]:
    """Let the first signal ask for a stop at the next step, and the next one stop at once."""

    def asked(number: int, _frame: FrameType | None) -> None:
        signal.signal(number, _interrupt)
        stop()

    before = _listen(asked)
    try:
        yield
    finally:
        _restore(before)


_closed_out = False


Handler = Callable[[int, FrameType | None], None] | signal.Handlers


def _listen(handler: Handler) -> dict[signal.Signals, Any]:
    """Take the signals; returns who had them. What nohup ignores stays ignored."""
    before = {number: signal.getsignal(number) for number in _SIGNALS}
    for number, present in before.items():
        if present != signal.SIG_IGN:
            signal.signal(number, handler)
    return before


def _restore(before: dict[signal.Signals, Any]) -> None:
    for number, handler in before.items():
        signal.signal(number, handler)


class _Interrupted(BaseException):
    """A signal. Not KeyboardInterrupt: where that passes through ``exec`` (every dataclass is made by it) the interpreter
    remembers it as unhandled and ends itself by SIGINT, whoever handled it.
    """


def _interrupt(_number: int, _frame: FrameType | None) -> None:
    raise _Interrupted


def _open_streams() -> None:
    """Standard output takes file names that are no text; closed streams lead nowhere instead of into each other."""
    global _closed_out
    _closed_out = sys.stdout is None
    if sys.stdout is None:
        sys.stdout = open(os.devnull, "w")
    if sys.stderr is None:
        sys.stderr = open(os.devnull, "w")
    reconfigure = getattr(sys.stdout, "reconfigure", None)
    if reconfigure is not None:
        reconfigure(errors="surrogateescape")


def _silence(descriptor: int) -> None:
    with contextlib.suppress(OSError):
        nowhere = os.open(os.devnull, os.O_WRONLY)
        os.dup2(nowhere, descriptor)
        os.close(nowhere)


def _log_fault(error: Exception) -> str:
    """Keep the details where the window keeps its log."""
    import platformdirs

    path = Path(platformdirs.user_state_dir("idle-lantern")) / "idle-lantern.log"
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handler = logging.handlers.RotatingFileHandler(path, maxBytes=500_000, backupCount=2, encoding="utf-8")
    except OSError:
        return "This is a fault of the program, not yours."
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(name)s: %(message)s"))
    log.addHandler(handler)
    log.critical("uncaught", exc_info=error)
    log.removeHandler(handler)
    handler.close()
    return f"This is a fault of the program, not yours; the details are in {path}."
