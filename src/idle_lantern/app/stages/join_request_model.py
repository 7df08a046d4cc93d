"""In what a picture differs from what would be asked of a join now: no Qt, tested without a window."""

from __future__ import annotations

from idle_lantern.core.join.request import JoinRequest, JoinResult
from idle_lantern.core.outing.joining import wanted_choices
from idle_lantern.core.outing.model import Outing
from idle_lantern.core.request.choices import changed_by, differing

#: Why a picture must be joined again, by the choice that changed; what is not named here only draws it anew.
_WHY = {"lens": "lens", "lens_shift": "lens", "points": "points", "cut_links": "cut", "twins": "files"}


def differs(outing: Outing, joined: JoinResult | None) -> str:
    """Why the picture is not what the outing asks for now: ``frames``, ``files``, ``lens``, ``points``, ``cut``,
    ``choices`` or empty.

    After a change of choices the picture can be made anew from the same solution.
    """
    if joined is None:
        return ""
    if joined.frame_ids != tuple(r.id for r in outing.frames_to_join()):
        return "frames"
    asked = joined.report.chosen
    if asked is None:  # a report that does not tell
        return ""
    changed = differing(asked, wanted_choices(outing))
    if changed_by(changed) & {"files", "solve"}:
        return next((_WHY[name] for name in changed if name in _WHY), "frames")
    return "choices" if changed else ""


#: Why a picture must be joined again before anything can be done on it.
AGAIN = {
    "frames": "Frames came or went since this join. Join again to take them in.",
    "lens": "Another lens was chosen. Join again to lay the frames by it.",
    "points": "Points were set or taken away by hand. Join again to lay the frames by them.",
    "cut": "A link was cut or mended by hand. Join again to lay the frames without it.",
    "files": "Other files of the frames were chosen. Join again to take them.",
}


def must_join_again(outing: Outing, joined: JoinResult | None) -> str:
    """Why nothing can be done on a picture before it is joined again, in a sentence; empty where it can."""
    return AGAIN.get(differs(outing, joined), "")


def outdated(running: JoinRequest, wanted: JoinRequest) -> bool:
    """Whether a picture that is being made anew from a solution is no longer the one that is wanted."""
    return running.solution is not None and running.choices != wanted.choices


def asks_the_same(one: JoinRequest, other: JoinRequest) -> bool:
    """Whether two requests would make the same picture of the same frames."""
    return [f.id for f in one.frames] == [f.id for f in other.frames] and one.choices == other.choices
