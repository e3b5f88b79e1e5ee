"""A rejected row, as it is kept and shown."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence

from msgspec import Struct
from msgspec.structs import force_setattr

from kanal.core.hidden import without_hidden
from kanal.core.native import ExactText
from kanal.core.reasons import Reason


class Reject(Struct, frozen=True):
    """A row that is not loaded: the first bad column and why, and the whole source row as text."""

    column: str | None
    reason: Reason
    value: str | None
    message: str
    row: dict[str, str | None]
    #: The target's constraint that the row breaks, if it is one of those.
    constraint: str | None = None
    #: Which row of the target it would have been, as `target_row` says it, and which missing row it refers to.
    would_be: str | None = None
    parent: str | None = None
    #: The number of the reject that was to be loaded again, if it is one.
    again: int | None = None

    def __post_init__(self) -> None:
        # A secret parameter may be a part of a computed value. The row is the source's, and is left as it is.
        force_setattr(self, "message", without_hidden(self.message))
        if self.value is not None:
            force_setattr(self, "value", without_hidden(self.value))


def row_as_json(row: Mapping[str, str | None]) -> str:
    """A source row as the run log keeps it: texts, and of values of other storage classes also the values."""
    return json.dumps({name: text.as_object if isinstance(text, ExactText) else text for name, text in row.items()},
                      ensure_ascii=False)  # fmt: skip


def row_from_json(text: str) -> dict[str, str | None]:
    """A source row that the run log has kept."""
    row = json.loads(text)
    return {name: ExactText.of_object(value) if isinstance(value, dict) else value for name, value in row.items()}


def target_row(table: str, key: Mapping[str, str | None]) -> str | None:
    """What two rejects have in common of which one would have been the row that the other refers to: a table and the
    values of its key, as text; None if one is missing."""
    if not key or None in key.values():
        return None
    return json.dumps([table.casefold(), dict(sorted(key.items()))], ensure_ascii=False)


def row_key(row: Mapping[str, str | None], columns: Sequence[str]) -> str:
    """What tells a source row from all others: the values of its key, as text."""
    return json.dumps([row.get(name) for name in columns], ensure_ascii=False)
