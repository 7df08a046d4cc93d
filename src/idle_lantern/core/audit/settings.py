"""Settings that one frame has and the others have not, as the files tell them."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Callable, Sequence

from idle_lantern.core.audit.findings import Finding
from idle_lantern.core.base import units
from idle_lantern.core.sorting.positions import Position

_SAME_SHARE = 0.06
#: So many brackets alike make a pattern that others are held against.
_LEAST_BRACKETS = 2


def setting_findings(positions: Sequence[Position]) -> list[Finding]:
    """Frames whose aperture, ISO, focal length or exposure time is another than most have."""
    bases = [p.base for p in positions]
    kinds: tuple[tuple[str, str, Callable[[float], str], str], ...] = (
        (
            "aperture",
            "EV",
            lambda v: f"f/{v:g}",
            "Depth and fall-off differ: use a repeat, or watch its seams at 100 %",
        ),
        ("iso", "EV", lambda v: f"ISO {v:g}", "Noise differs; even the brightness out"),
        ("focal_mm", "mm", lambda v: f"{v:g} mm", "The zoom was moved: leave it out, or use a repeat"),
        ("exposure_s", "EV", units.exposure_time, "Even it out, or use a repeat"),
    )
    found = []
    for name, unit, words, remedy in kinds:
        values = [getattr(look.info.metadata, name) for look in bases]
        known = [v for v in values if v]
        if len(known) < 3:
            continue
        usual, often = Counter(round(math.log(v) / _SAME_SHARE) for v in known).most_common(1)[0]
        if often < 0.6 * len(known):
            continue
        middle = next(v for v in known if round(math.log(v) / _SAME_SHARE) == usual)
        for look, value in zip(bases, values):
            if not value or abs(math.log(value / middle)) <= _SAME_SHARE:
                continue
            what = {"focal_mm": "focal_length", "exposure_s": "exposure"}.get(name, name)
            figure = _difference(name, value, middle)
            sentence = f"{words(value)} where the others have {words(middle)}"
            found.append(
                Finding(
                    look.path,
                    what,
                    figure,
                    unit,
                    sentence,
                    remedy,
                    cure="even_out" if what in ("exposure", "iso") else "",
                )
            )
    return found


def short_brackets(positions: Sequence[Position]) -> list[Finding]:
    """Positions with fewer exposures than the brackets of their run, and which are missing where that can be told."""
    thirds = [sorted({round(3 * ev) for ev in p.ev}) for p in positions]  # cameras step by thirds of an EV
    patterns = Counter(tuple(t - ev[0] for t in ev) for ev in thirds if len(ev) > 1)
    usual, often = patterns.most_common(1)[0] if patterns else ((), 0)
    if often < _LEAST_BRACKETS or 2 * often < len(positions):
        return []
    middle = usual[len(usual) // 2]
    whole = Counter(told for p in positions if len(told := _thirds_told(p)) == len(usual))
    lowest = whole.most_common(1)[0][0][0] if whole else None
    found = []
    for position, ev in zip(positions, thirds):
        if len(ev) >= len(usual):
            continue
        fitting = [s for s in range(usual[-1] + 1) if all(t - ev[0] + s in usual for t in ev)]
        if lowest is not None and (told := _thirds_told(position)):
            fitting = [s for s in fitting if s == told[0] - lowest] or fitting
        which = "which ones cannot be told from these"
        figure = 0.0
        if len(fitting) == 1:
            gone = [t for t in usual if t - fitting[0] + ev[0] not in ev]
            figure = (gone[0] - middle) / 3
            which = (
                ", ".join(f"{(t - middle) / 3:+.1f} EV" if t != middle else "the middle one" for t in gone)
                + (" is" if len(gone) == 1 else " are")
                + " missing"
            )
        found.append(
            Finding(
                position.base.path, "exposure", figure, "EV",
                f"{units.counted(len(ev), 'exposure')} where the other brackets have {len(usual)}: {which}",
                "Bring the missing file in, or shoot the position again; what is burnt out or black stays so there",
            )
        )  # fmt: skip
    return found


def _thirds_told(position: Position) -> tuple[int, ...]:
    """Exposures as the files tell them, in thirds of an EV, more is brighter; empty where one tells none."""
    told = [look.exposure_ev for look in position.looks]
    return tuple(sorted({round(-3 * ev) for ev in told if ev is not None})) if None not in told else ()


def _difference(name: str, value: float, usual: float) -> float:
    """In EV, more is brighter; of the focal length in millimetres."""
    if name == "focal_mm":
        return value - usual
    return math.log2(value / usual) * (-2 if name == "aperture" else 1)
