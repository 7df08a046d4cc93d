"""Join requests in a process of their own: memory that runs out, or a fault in a library, ends that process and no window.

``JoinWorker.run`` is ``service.run`` seen from outside. Requests, events and progress go through pipes as
pickles, between two processes of the same program on the same machine; nothing else reads or writes them.
The process is kept for the next request, since loading the libraries takes longer than making a small picture
again, and ends by itself when nothing is asked of it for a while.
"""

from __future__ import annotations

import contextlib
import os
import pickle
import queue
import selectors
import signal
import subprocess
import sys
import tempfile
import threading
import traceback
from dataclasses import replace
from typing import IO, Any

from idle_lantern.core.base.errors import Cancelled, JoinError, LanternError
from idle_lantern.core.base.memory import forget_peak, tune_allocator
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.join.request import Event, Failed, Finished, JoinRequest, Sink

_STOP = b"stop"
_HEAD_BYTES = 8
_LOOK_S = 0.1  # between two looks whether a stop was asked for
#: a stopped process may take so long to come out (LibRaw cannot be interrupted; a killed join leaves no half file)
_STOP_S = 0.8
_TIDY_S = 3.0  # a closed one may take so long
_IDLE_S = 180.0  # an idle one stays so long


class JoinWorker:
    """One process for joins, started when it is first needed."""

    def __init__(self) -> None:
        self._process: subprocess.Popen[bytes] | None = None
        self._words: IO[bytes] | None = None
        self._busy = threading.Lock()

    def run(self, request: JoinRequest, sink: Sink, progress: Progress = SILENT) -> None:
        """Carry a request out; as ``service.run``, and a process that dies is a ``Failed``.

        Raises
        ------
        Cancelled
            Stopped by ``progress``.
        """
        if not self._busy.acquire(blocking=False):
            other = JoinWorker()
            try:
                other.run(request, sink, progress)
            finally:
                other.close()
            return
        try:
            self._run(request, sink, progress)
        finally:
            self._busy.release()

    def close(self) -> None:
        """End the process."""
        if self._process is None:
            return
        for stream in (self._process.stdin, self._process.stdout, self._words):
            if stream is not None:
                with contextlib.suppress(OSError):
                    stream.close()
        try:
            self._process.wait(_TIDY_S)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()
        self._process = self._words = None

    def _run(self, request: JoinRequest, sink: Sink, progress: Progress) -> None:
        try:
            process = self._ready()
            assert process.stdin is not None
            _put(process.stdin, request)
            self._follow(process, request, sink, progress)
        except _Died:
            sink(_death(request, self._end_of_dead()))
        except BaseException:
            self._stop(request, sink)
            raise

    def _ready(self) -> subprocess.Popen[bytes]:
        if self._process is not None and self._process.poll() is not None:
            self.close()
        if self._process is None:
            self._words = tempfile.TemporaryFile()
            self._process = subprocess.Popen(
                [sys.executable, "-X", "faulthandler", "-m", "idle_lantern.core.join.worker"],
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                stderr=self._words,
                bufsize=0,  # what is buffered here would not be seen by who waits for the pipe
                env={**os.environ, "OPENBLAS_NUM_THREADS": "1"},
            )
        return self._process

    def _follow(self, process: subprocess.Popen[bytes], request: JoinRequest, sink: Sink, progress: Progress) -> None:
        assert process.stdout is not None
        with selectors.DefaultSelector() as waiting:
            waiting.register(process.stdout, selectors.EVENT_READ)
            while True:
                progress.advance(0)  # a stop is heard although nothing is told
                if not waiting.select(_LOOK_S):
                    continue
                kind, *values = _got(process.stdout)
                if kind == "begin":
                    progress.begin(*values)
                elif kind == "advance":
                    progress.advance(*values)
                elif kind == "event":
                    sink(_as_asked(values[0], request))
                elif kind == "fault":
                    raise values[0]
                else:
                    return

    def _stop(self, request: JoinRequest, sink: Sink) -> None:
        """Let the process end its work, or end it. A picture that stands by then is told all the same."""
        process = self._process
        if process is None or process.stdin is None or process.stdout is None:
            return
        killer = threading.Timer(_STOP_S, process.kill)
        killer.start()
        try:
            _put(process.stdin, _STOP)
            kind = ""
            while kind not in ("done", "fault"):
                kind, *values = _got(process.stdout)
                if kind == "event":
                    with contextlib.suppress(Cancelled):
                        sink(_as_asked(values[0], request))
        except _Died:
            self.close()
        finally:
            killer.cancel()
            killer.join()

    def _end_of_dead(self) -> tuple[int, str]:
        """The exit code of a process that died, and the last it said."""
        assert self._process is not None
        code = self._process.wait()
        words = b""
        if self._words is not None:
            with contextlib.suppress(OSError):
                self._words.seek(max(0, self._words.seek(0, os.SEEK_END) - 4000))
                words = self._words.read()
        self.close()
        return code, words.decode("utf-8", "replace")


class _Died(Exception):
    """The other end of a pipe is gone."""


def _death(request: JoinRequest, end: tuple[int, str]) -> Event:
    code, words = end
    how = signal.Signals(-code).name if code < 0 else f"exit code {code}"
    if code == -signal.SIGKILL or "MemoryError" in words or "bad_alloc" in words:
        error = JoinError(
            "The join was ended by the system, most likely for want of memory",
            remedy="Close other programs or allow it less memory, then join again: it goes on where it was",
        )
    else:
        error = JoinError(
            f"The join met a fault in a library ({how})",
            remedy="Nothing else was touched; join again, it goes on where it was",
        )
    from idle_lantern.core.join.report_making import failure_report

    report = failure_report(None, [f.path for f in request.frames], error.sentence)
    return Failed(request.document_id, request.request_id, error, report)


def _as_asked(event: Event, request: JoinRequest) -> Event:
    """A solution that was given comes back as the very same thing, not as its copy."""
    if isinstance(event, Finished) and request.solution is not None:
        return replace(event, result=replace(event.result, solution=request.solution))
    return event


def _put(stream: IO[bytes], thing: object) -> None:
    data = pickle.dumps(thing, pickle.HIGHEST_PROTOCOL)
    left = memoryview(len(data).to_bytes(_HEAD_BYTES, "big") + data)
    try:
        while left:
            left = left[stream.write(left) :]
        stream.flush()
    except (OSError, ValueError) as error:
        raise _Died from error


def _got(stream: IO[bytes]) -> Any:
    return pickle.loads(_exactly(stream, int.from_bytes(_exactly(stream, _HEAD_BYTES), "big")))


def _exactly(stream: IO[bytes], count: int) -> bytearray:
    data = bytearray()
    while len(data) < count:
        try:
            piece = stream.read(min(count - len(data), 1 << 20))
        except (OSError, ValueError) as error:
            raise _Died from error
        if not piece:
            raise _Died
        data += piece
    return data


class _Teller:
    """Progress inside the process: tells the other one, and hears when it wants a stop."""

    def __init__(self, out: IO[bytes], stop: threading.Event) -> None:
        self._out, self._stop, self._lock = out, stop, threading.Lock()

    def begin(self, stage: str, total: int) -> None:
        """Enter a stage."""
        self._check()
        self.tell("begin", stage, total)

    def advance(self, n: int = 1) -> None:
        """Count steps."""
        self._check()
        if n:
            self.tell("advance", n)

    def tell(self, *words: object) -> None:
        """Send words over; where nobody listens any more the work is stopped."""
        try:
            with self._lock:
                _put(self._out, words)
        except _Died:
            raise Cancelled from None

    def _check(self) -> None:
        if self._stop.is_set():
            raise Cancelled


def _serve() -> None:
    """The process: requests in, one after another; it ends with the one that began it."""
    from idle_lantern.core.join.service import run  # this process joins; the one that asks need not load it

    tune_allocator()
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the one that began it is asked, and says what to do
    # what libraries print must not get between the messages
    out = os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)
    stop, asked = threading.Event(), queue.Queue[Any]()
    threading.Thread(target=_listen, args=(sys.stdin.buffer, asked, stop), daemon=True).start()
    teller = _Teller(out, stop)
    while True:
        try:
            request = asked.get(timeout=_IDLE_S)
        except queue.Empty:
            return
        if request is None:
            return
        forget_peak()
        try:
            run(request, lambda event: teller.tell("event", event), teller)
            end: tuple[object, ...] = ("done",)
        except (Cancelled, LanternError) as error:
            end = ("fault", error)
        except Exception as error:
            fault = RuntimeError(f"{type(error).__name__}: {error}")
            fault.add_note(traceback.format_exc())  # for the log of the one that asked
            end = ("fault", fault)
        stop.clear()
        with contextlib.suppress(Cancelled):
            teller.tell(*end)


def _listen(stream: IO[bytes], asked: queue.Queue[Any], stop: threading.Event) -> None:
    with contextlib.suppress(_Died):
        while True:
            thing = _got(stream)
            if thing == _STOP:
                stop.set()
            else:
                asked.put(thing)
    stop.set()
    asked.put(None)


if __name__ == "__main__":
    _serve()
