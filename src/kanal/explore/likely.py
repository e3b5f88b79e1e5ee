"""Which table of a target is likely meant for a table of a source that has another name, column by column."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from functools import lru_cache

from msgspec import Struct

from kanal.connections import ColumnInfo, TableInfo
from kanal.core.types import holds

#: From this likeness on, of 1 at most, two tables or columns may be meant for each other.
_TABLES, _COLUMNS = 0.5, 0.55
#: So many tables, the first by a quick look, are compared column by column.
_CANDIDATES = 5
#: Ways to write one word.
_SAME = {"no": "number", "nr": "number", "num": "number", "txt": "text", "desc": "description", "qty": "quantity",
         "amt": "amount", "dt": "date", "ts": "timestamp", "cd": "code", "nm": "name", "addr": "address"}  # fmt: skip


class Likely(Struct, frozen=True):
    """A table of the target that is likely meant, and by its column the source's column that likely fills it."""

    table: TableInfo
    columns: Mapping[str, str]


def likely_targets(sources: Sequence[TableInfo], targets: Sequence[TableInfo]) -> dict[str, Likely]:
    """For tables of a source, by name, the likeliest tables of a target; each of them for one table only."""
    found: list[tuple[float, str, Likely]] = []
    words = [{word for column in target.columns for word in _words(column.name)} for target in targets]
    for source in sources:
        own = {word for column in source.columns for word in _words(column.name)}
        quick = sorted(
            (_overlap(own, there) + alike(source.name, target.name), place)
            for place, (target, there) in enumerate(zip(targets, words, strict=True))
        )
        for _, place in quick[-_CANDIDATES:]:
            target = targets[place]
            columns = _likely_columns(source, target)
            share = len(columns) / max(1, min(len(source.columns), len(target.columns)))
            score = 0.4 * alike(source.name, target.name) + 0.6 * share
            if score >= _TABLES and len(columns) >= min(2, len(source.columns)):
                found.append((score, source.name, Likely(target, columns)))
    result: dict[str, Likely] = {}
    taken: set[str] = set()
    for _, name, likely in sorted(found, key=lambda one: -one[0]):
        if name not in result and likely.table.name not in taken:
            result[name] = likely
            taken.add(likely.table.name)
    return result


def _likely_columns(source: TableInfo, target: TableInfo) -> dict[str, str]:
    """By column of the target, the column of the source that is likeliest meant for it."""
    scores = [
        (score, into.name, column.name)
        for into in target.columns
        for column in source.columns
        if not into.generated and (score := _score(column, source, into, target)) >= _COLUMNS
    ]
    chosen: dict[str, str] = {}
    for _, into, taken in sorted(scores, key=lambda one: -one[0]):
        if into not in chosen and taken not in chosen.values():
            chosen[into] = taken
    return {column.name: chosen[column.name] for column in target.columns if column.name in chosen}


def _score(column: ColumnInfo, source: TableInfo, into: ColumnInfo, target: TableInfo) -> float:
    fits = holds(into.type, column.type) if into.type is not None and column.type is not None else None
    by_type = 1.0 if fits else 0.6 if fits is None else 0.2
    both_keys = source.primary_key == (column.name,) and target.primary_key == (into.name,)
    return 0.8 * alike(column.name, into.name) + 0.2 * by_type + (0.4 if both_keys and fits else 0.0)


@lru_cache(maxsize=1_000_000)
def alike(one: str, other: str) -> float:
    """How alike two names are, from 0 to 1: by their words, and by the letters that stand together in them."""
    first, second = _words(one), _words(other)
    if first == second:
        return 1.0
    by_words = 0.9 * _overlap(set(first), set(second))
    return max(by_words, _dice(_parts("".join(first)), _parts("".join(second))))


def _overlap(one: set[str], other: set[str]) -> float:
    return len(one & other) / max(1, min(len(one), len(other)))


def _dice(one: set[str], other: set[str]) -> float:
    return 2 * len(one & other) / max(1, len(one) + len(other))


@lru_cache(maxsize=100_000)
def _words(name: str) -> tuple[str, ...]:
    """A name's words: `lockNo` and `LOCK_NO` are both lock and number."""
    split: Iterable[str] = re.findall(r"[A-Z]+(?![a-z])|[A-Z]?[^\W\d_A-Z]+|\d+", name)
    return tuple(_SAME.get(word.casefold(), word.casefold()) for word in split)


def _parts(text: str) -> set[str]:
    return {text[place : place + 2] for place in range(len(text) - 1)} or {text}
