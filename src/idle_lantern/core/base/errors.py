"""The one family of errors that people see: what happened, where, what to do."""


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
        """The whole message: ``where: what. remedy.``"""
        text = f"{self.where}: {self.what}" if self.where else self.what
        text = text.rstrip(".") + "."
        return f"{text} {self.remedy.rstrip('.')}." if self.remedy else text


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
