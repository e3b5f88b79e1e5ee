"""The root of Kanal's errors, and those that the core raises."""

from __future__ import annotations


class KanalError(Exception):
    """Anything Kanal tells its user: one sentence of what is wrong and where, one of what to do.

    `what` says what happened and where; `remedy` says what to do about it and may be empty.
    """

    def __init__(self, what: str, remedy: str = "") -> None:
        self.what = what
        self.remedy = remedy
        super().__init__(sentence(what, remedy))


def sentence(what: str, remedy: str = "") -> str:
    """What happened and what to do about it, as one or two sentences."""
    return f"{_ended(what)} {capital(_ended(remedy))}" if remedy else _ended(what)


def _ended(text: str) -> str:
    return text if text.endswith((".", "?", "!")) else f"{text}."


def capital(text: str) -> str:
    """A text with its first letter in upper case, for the start of a sentence."""
    return text[:1].upper() + text[1:]


def counted(count: int, noun: str) -> str:
    """A number of things: `1 row`, `1,200 rows`."""
    return f"{count:,} {noun}" if count == 1 else f"{count:,} {noun}s"


class ExpressionError(KanalError):
    """An expression that cannot be understood or has no meaning over the given columns.

    `position` is the offset, in characters from 0, at which the trouble stands in `text`, or None.
    """

    def __init__(self, what: str, remedy: str = "", text: str = "", position: int | None = None) -> None:
        self.text = text
        self.position = position
        super().__init__(what, remedy)


class ConversionError(KanalError):
    """A conversion that does not exist, or an option that says nothing to it."""


class TypeNameError(KanalError):
    """A type's name that is not one of Kanal's SQL types."""


class LookupError(KanalError):
    """A looked-up table that cannot serve as one, for instance because a key stands in it twice."""


class BooksError(KanalError):
    """A tally that does not balance."""
