"""The one family of errors that people see: what happened, where, what to do."""

from __future__ import annotations

#: A sentence longer than this is read by nobody: a name or a value inside it may be of any length.
MOST_CHARACTERS = 299
_MOST_WHERE, _LEAST_WHAT = 110, 40
#: Narrow and wide spaces that must not break.
_SPACES = "\u202f\u00a0"


class LanternError(Exception):
    """A problem told in one sentence to the person who can mend it.

    Parameters
    ----------
    what : str
        What is wrong, as a clause with a capital and no full stop.
    where : str, optional
        The file, field or frame it concerns.
    remedy : str, optional
        What the person can do about it.
    """

    def __init__(self, what: str, *, where: str = "", remedy: str = "") -> None:
        self.what, self.where, self.remedy = what, where, remedy
        super().__init__(self.sentence)

    @property
    def sentence(self) -> str:
        """The whole message: ``where: what. remedy.``; one line, and cut where it could not be read."""
        where, what, remedy = (one_line(part) for part in (self.where, self.what, self.remedy))
        text = _assembled(where, what, remedy)
        if len(text) > MOST_CHARACTERS:
            where = shortened(where, _MOST_WHERE, keep_end=True)
            room = MOST_CHARACTERS - len(_assembled(where, "", remedy))
            text = _assembled(where, shortened(what, max(_LEAST_WHAT, room)), remedy)
        return shortened(text, MOST_CHARACTERS)


class InputError(LanternError):
    """Something the user gave (a file, a number, an argument) cannot be used."""


class UnreadableFrame(InputError):
    """A picture file that cannot be read."""


class JoinError(LanternError):
    """The frames are readable but cannot be joined."""


class DocumentError(LanternError):
    """An outing file that is damaged or newer than this program."""


class Cancelled(Exception):
    """The person asked to stop; shown as nothing at all."""


def one_line(text: str) -> str:
    """Text as it can be shown and written: no control characters, no bytes that are no text."""
    return "".join(c if c.isprintable() or c in _SPACES else " " if c.isspace() else "\ufffd" for c in text)


def shortened(text: str, most: int, *, keep_end: bool = False) -> str:
    """Text of at most so many characters; of a path the end says more than the beginning."""
    if len(text) <= most:
        return text
    return f"…{text[1 - most :]}" if keep_end else f"{text[: most - 1]}…"


def _assembled(where: str, what: str, remedy: str) -> str:
    text = f"{where}: {what}" if where else what
    text = text.rstrip(".") + "."
    return f"{text} {remedy.rstrip('.')}." if remedy else text
