"""The errors a user may meet: one line each, saying what, where and what to do."""

__all__ = ["BadInput", "Cancelled", "TinsnipError"]


class TinsnipError(Exception):
    """A message for the user. Its text is one line: what is wrong, where, and what to do."""


class BadInput(TinsnipError):
    """A file, routine or parameter that cannot be used as it is."""


class Cancelled(TinsnipError):
    """The user stopped the work; nothing was changed."""

    def __init__(self) -> None:
        super().__init__("cancelled; nothing was changed")
