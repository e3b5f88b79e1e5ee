"""A value that does not fit, as the core reports it: which row of the batch, why, and what to do about it."""

from __future__ import annotations

from dataclasses import dataclass

from kanal.core.reasons import Reason


@dataclass(frozen=True, slots=True)
class Fault:
    """One bad value. `row` counts from 0 within the batch; `value` is the value as text, or None for NULL."""

    row: int
    reason: Reason
    value: str | None
    message: str


class Refusal(Exception):
    """Raised by an exact conversion for a value that does not fit; the caller makes a Fault of it."""

    def __init__(self, reason: Reason, message: str) -> None:
        self.reason = reason
        self.message = message
        super().__init__(message)


def as_text(value: object) -> str | None:
    """A value as a reject shows it: None for NULL, bytes in hexadecimal, all else as its text."""
    if value is None:
        return None
    if isinstance(value, bytes):
        return "x'" + value.hex() + "'"
    if isinstance(value, bool):
        return "true" if value else "false"
    return str(value)
