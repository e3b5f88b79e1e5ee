"""A rejected row, as it is kept and shown."""

from __future__ import annotations

from dataclasses import dataclass

from kanal.core.reasons import Reason


@dataclass(frozen=True)
class Reject:
    """A row that is not loaded: the first bad column and why, and the whole source row as text."""

    column: str | None
    reason: Reason
    value: str | None
    message: str
    row: dict[str, str | None]
