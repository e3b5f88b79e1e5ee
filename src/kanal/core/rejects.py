"""A rejected row, as it is kept and shown."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
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
    #: The number of the reject that was to be loaded again, where it is one.
    again: int | None = None


def row_key(row: Mapping[str, str | None], columns: Sequence[str]) -> str:
    """What tells a source row from all others: the values of its key, as text."""
    return json.dumps([row.get(name) for name in columns], ensure_ascii=False)
