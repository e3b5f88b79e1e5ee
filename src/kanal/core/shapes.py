"""The shape of a table, its columns and its key, and what has changed between two of them."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from difflib import SequenceMatcher
from enum import StrEnum
from typing import Any

from msgspec import Struct
from msgspec.structs import asdict

from kanal.core.types import holds, parse_type


class ColumnShape(Struct, frozen=True):
    """A column: `type` is Kanal's name of its type, None for one unknown; `declared` the database's own text.

    `filled` is true if the database gives a value to a row that has none.
    """

    name: str
    declared: str
    type: str | None
    nullable: bool
    filled: bool = False


class TableShape(Struct, frozen=True):
    """The columns of a table, in order, and its primary key."""

    columns: tuple[ColumnShape, ...]
    key: tuple[str, ...] = ()

    def to_json(self) -> str:
        """The shape as a text that reads back as an equal shape."""
        return json.dumps({"columns": [asdict(column) for column in self.columns], "key": self.key}, ensure_ascii=False)

    @classmethod
    def from_json(cls, text: str) -> TableShape:
        """The shape of such a text."""
        found: Mapping[str, Any] = json.loads(text)
        return cls(tuple(ColumnShape(**column) for column in found["columns"]), tuple(found["key"]))


class ShapeChange(StrEnum):
    """What can happen to a table between two runs."""

    ADDED = "added"
    DROPPED = "dropped"
    RENAMED = "renamed"
    WIDENED = "widened"
    NARROWED = "narrowed"
    RETYPED = "another type"
    NULLABLE = "nullable"
    NOT_NULL = "not null"
    KEY = "key"


class Changed(Struct, frozen=True):
    """One change of a table: `column` is its name now, or was; `what` says the change in words; `former` is the name
    before, of one that was renamed."""

    kind: ShapeChange
    column: str
    what: str
    former: str | None = None


def changes(before: TableShape, now: TableShape) -> list[Changed]:
    """What of a table has changed, in the order of its columns; the order of columns does not count.

    A column that took the place of another of the same type is taken for that one under a new name; where others went
    or came in the same place, if the names are alike.
    """
    renamed = dict(_renamed(before, now))
    former = {name: old for old, name in renamed.items()}
    was = {column.name: column for column in before.columns}
    found: list[Changed] = []
    for column in now.columns:
        old = was.get(former.get(column.name, column.name))
        if old is None:
            found.append(Changed(ShapeChange.ADDED, column.name, f"{column.name} ({column.declared}) is new"))
            continue
        if old.name != column.name:
            what = f"{old.name} seems to be called {column.name} now"
            found.append(Changed(ShapeChange.RENAMED, column.name, what, old.name))
        found += _changes_of_column(old, column)
    there = {column.name for column in now.columns}
    for name in [column.name for column in before.columns if column.name not in there and column.name not in renamed]:
        found.append(Changed(ShapeChange.DROPPED, name, f"{name} ({was[name].declared}) was dropped"))
    if tuple(renamed.get(name, name) for name in before.key) != now.key:
        what = f"the primary key is {_listed(now.key)} now, was {_listed(before.key)}"
        found.append(Changed(ShapeChange.KEY, "", what))
    return found


def _renamed(before: TableShape, now: TableShape) -> Iterator[tuple[str, str]]:
    """Pairs of names, before and now, of columns that have another name in the same place."""
    old, new = [column.name for column in before.columns], [column.name for column in now.columns]
    for step, first, last, start, end in SequenceMatcher(None, old, new, autojunk=False).get_opcodes():
        if step != "replace":
            continue
        left = [column for column in now.columns[start:end] if column.name not in old]
        for place, one in enumerate(before.columns[first:last]):
            alike = [other for other in left if other.declared == one.declared]
            if last - first == end - start:
                alike = [other for other in alike if other is now.columns[start + place]]
            else:
                alike = [other for other in alike if _similar(one.name, other.name)]
            if alike and one.name not in new:
                left.remove(alike[0])
                yield one.name, alike[0].name


def _similar(one: str, other: str) -> bool:
    return SequenceMatcher(None, one.casefold(), other.casefold()).ratio() > 0.6


def _changes_of_column(old: ColumnShape, now: ColumnShape) -> Iterator[Changed]:
    if old.declared != now.declared:
        kind = _kind_of(old.type, now.type)
        verb = f"was {kind} from {old.declared} to {now.declared}"
        if kind is ShapeChange.RETYPED:
            verb = f"is {now.declared} now, was {old.declared}"
        yield Changed(kind, now.name, f"{now.name} {verb}")
    if old.nullable != now.nullable:
        kind, what = (ShapeChange.NULLABLE, "may be NULL now") if now.nullable else (ShapeChange.NOT_NULL,
                                                                                    "is NOT NULL now")  # fmt: skip
        yield Changed(kind, now.name, f"{now.name} {what}")


def _kind_of(old: str | None, now: str | None) -> ShapeChange:
    """Whether a type holds more than another of its family, or less."""
    if old is None or now is None:
        return ShapeChange.RETYPED
    one, other = parse_type(old), parse_type(now)
    if one.family is not other.family:
        return ShapeChange.RETYPED
    more, less = holds(other, one) is True, holds(one, other) is True
    if more == less:
        return ShapeChange.RETYPED
    return ShapeChange.WIDENED if more else ShapeChange.NARROWED


def _listed(names: Sequence[str]) -> str:
    return f"({', '.join(names)})" if names else "none"
