"""``idle-lantern join``: frames in, one picture out, exactly as the join contract says."""

from __future__ import annotations

import argparse
import json
import signal
import sys
from pathlib import Path
from types import FrameType

from idle_lantern.core.base.atomic import write_text
from idle_lantern.core.base.errors import Cancelled, InputError, JoinError, LanternError
from idle_lantern.core.base.progress import StageClock
from idle_lantern.core.base.units import duration
from idle_lantern.core.deliver.writing import check_target
from idle_lantern.core.frames.frameset import FrameSet, gather
from idle_lantern.core.frames.masks import Mask, mask_path, masks_in
from idle_lantern.core.geometry.projections import PROJECTIONS
from idle_lantern.core.join.checkpoint import checkpointed, checkpoints_folder, solving_key
from idle_lantern.core.join.options import JoinOptions
from idle_lantern.core.join.pipeline import STAGE_WEIGHTS, join
from idle_lantern.core.join.report import failure_report, report_of
from idle_lantern.core.join.solve.prior import prior_for, read_prior

JOINED, BAD_INPUT, CANNOT_JOIN, INTERRUPTED = 0, 2, 3, 130


def add_parser(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Declare the command and its arguments."""
    parser = commands.add_parser("join", help="join frames into one picture", description=__doc__)
    parser.add_argument("frames", nargs="+", metavar="FRAME", type=Path, help="picture files in any order")
    parser.add_argument("--out", required=True, type=Path, help="the picture to write: .tif, .png or .jpg")
    parser.add_argument("--projection", default="auto", choices=("auto", *PROJECTIONS))
    parser.add_argument("--width", type=int, metavar="PX", help="width of the canvas; default: the frames' own scale")
    parser.add_argument("--report", type=Path, metavar="REPORT.json", help="write how it was joined")
    parser.add_argument("--prior", type=Path, metavar="FILE", help="planned or logged directions of the frames")
    parser.add_argument(
        "--masks", type=Path, metavar="FOLDER", help="painted NAME.mask.png: red hides, green keeps parts of a frame"
    )
    parser.add_argument("--fresh", action="store_true", help="do not go on from where a killed run of this join ended")
    parser.add_argument("--crop", action="store_true", help="cut to the largest rectangle without gaps")
    parser.add_argument(
        "--memory", type=float, metavar="GIB", help="most memory for pictures; default: a quarter of the machine"
    )
    parser.set_defaults(run=run)


class TerminalProgress:
    """Stages, share done and remaining time on standard error."""

    def __init__(self) -> None:
        self._clock = StageClock(dict(STAGE_WEIGHTS))
        self._live = sys.stderr.isatty()
        self.stop = False

    def begin(self, stage: str, total: int) -> None:
        """Enter a stage."""
        self._check()
        self._clock.begin(stage, total)
        self._show(end="\r" if self._live else "\n")

    def advance(self, n: int = 1) -> None:
        """Count steps."""
        self._check()
        self._clock.advance(n)
        if self._live:
            self._show(end="\r")

    def _check(self) -> None:
        if self.stop:
            raise Cancelled

    def _show(self, end: str) -> None:
        left = self._clock.remaining_s
        rest = f", about {duration(left)} left" if left is not None else ""
        print(f"{self._clock.fraction:4.0%} {self._clock.stage}{rest}          ", end=end, file=sys.stderr, flush=True)


def _masks(folder: Path | None, frames: FrameSet) -> dict[int, Mask]:
    """The painted masks of a folder."""
    if folder is None:
        return {}
    if not folder.is_dir():
        raise InputError("Is no folder", where=str(folder), remedy="Give the folder with the masks")
    found = masks_in(folder, frames.names)
    if not found:
        raise InputError(
            "Holds no painted mask for these frames",
            where=str(folder),
            remedy=f"Name them like {mask_path(folder, frames.names[0]).name}, red to hide, green to keep",
        )
    return found


def run(args: argparse.Namespace) -> int:
    """Carry the command out; returns the exit code."""
    progress = TerminalProgress()

    def stop(_signal: int, _frame: FrameType | None) -> None:
        progress.stop = True

    before = {s: signal.signal(s, stop) for s in (signal.SIGINT, signal.SIGTERM)}
    frames: FrameSet | None = None
    try:
        if args.width is not None and not 16 <= args.width <= 1_000_000:
            raise InputError(f"A width of {args.width} pixels makes no picture", remedy="Give 16 to 1000000")
        if args.memory is not None and not 0.1 <= args.memory <= 100_000:
            raise InputError(f"{args.memory:g} GiB of memory is not possible", remedy="Give 0.1 or more")
        check_target(args.out)
        if args.report is not None and not args.report.parent.is_dir():
            raise InputError("Its folder does not exist", where=str(args.report), remedy="Make the folder first")
        frames = gather(args.frames)
        if args.out.exists() and args.out.resolve() in {i.path.resolve() for i in frames.infos}:
            raise InputError(
                "Is one of the frames", where=str(args.out), remedy="Give another name, or the frame would be lost"
            )
        prior = prior_for(frames.names, read_prior(args.prior)) if args.prior else None
        memory = None if args.memory is None else round(args.memory * 2**30)
        options = JoinOptions(projection=args.projection, width_px=args.width, crop=args.crop, memory_bytes=memory)
        masks = _masks(args.masks, frames)
        with checkpointed(checkpoints_folder(), solving_key(frames, options, prior), fresh=args.fresh) as checkpoint:
            solution, joined = join(frames, args.out, options, prior, progress, masks, checkpoint)
        report = report_of(solution, joined, crop=args.crop)
        if args.report:
            write_text(args.report, json.dumps(report, indent=1))
        for f, reason in solution.reasons.items():
            print(f"left out {frames.names[f]}: {reason}", file=sys.stderr)
        print(args.out)
        return JOINED
    except Cancelled:
        print("Stopped; nothing was written.", file=sys.stderr)
        return INTERRUPTED
    except LanternError as error:
        print(error.sentence, file=sys.stderr)
        if args.report and args.report.parent.is_dir():
            write_text(
                args.report, json.dumps(failure_report(frames, [str(f) for f in args.frames], error.sentence), indent=1)
            )
        return CANNOT_JOIN if isinstance(error, JoinError) else BAD_INPUT
    except MemoryError:
        print("The picture does not fit into memory. Give a smaller --width.", file=sys.stderr)
        return CANNOT_JOIN
    finally:
        for s, handler in before.items():
            signal.signal(s, handler)
