"""The two roles of a connection, source and target, and what it may be able to do in each.

A connection states what it can; planning checks it, so that what it cannot is an error before a row moves.
"""

from __future__ import annotations

from enum import StrEnum

from kanal.core.errors import KanalError


class Reads(StrEnum):
    """What a source may be able to do."""

    ROWS = "rows"
    FILTER = "filter"
    QUERY = "query"
    ORDER = "order"
    SEEK = "seek"
    SPLIT = "split"
    SNAPSHOT = "snapshot"
    SHARED = "shared snapshot"
    FILES = "files"
    MOVE = "move"


class Writes(StrEnum):
    """What a target may be able to do."""

    APPEND = "append"
    EMPTY = "empty"
    MERGE = "merge"
    DELETE = "delete"
    CREATE = "create"
    SQL = "sql"
    SHARE = "share"
    UNLINK = "unlink"
    REMEMBER = "remember"
    BATCHES = "batches"
    REPLACE = "replace"
    FILES = "files"
    PORTIONS = "portions"
    SWAP = "swap"
    REBUILD = "rebuild"
    STREAM = "stream"


#: What a connection lacks that a job can ask for, as the end of a sentence, and the way out.
_LACKS: dict[Reads | Writes, tuple[str, str]] = {
    Reads.ROWS: ("cannot be read from", "name another source"),
    Reads.FILTER: ("does not filter rows", "leave that to Kanal"),
    Reads.QUERY: ("cannot run a query", "name a table, and use where, columns and look-ups"),
    Reads.ORDER: ("does not read rows in an order that is asked for", "leave order_by out"),
    Reads.SEEK: ("cannot go on reading behind a row", 'set commit = "step"'),
    Reads.SPLIT: ("cannot be read in parts that all see the same state", "leave split out"),
    Reads.SHARED: (
        "cannot show one state to readers on several machines",
        'set split = { parts = …, snapshot = "none" } where each range may be of another moment',
    ),
    Reads.SNAPSHOT: ("does not read one consistent state", "load it when nobody writes there"),
    Reads.FILES: ("has no files", "name a table, or a connection to a folder"),
    Reads.MOVE: ("cannot move or delete its files", "leave when_loaded out"),
    Writes.APPEND: ("takes no rows", "name another target"),
    Writes.EMPTY: ("cannot be emptied", 'set write = "append"'),
    Writes.MERGE: ("cannot merge rows into those that it has", 'set write = "append" or "truncate"'),
    Writes.DELETE: ("cannot delete rows", 'set missing = "keep"'),
    Writes.CREATE: ("makes no tables", "make the table there, and leave create out"),
    Writes.SQL: ("runs no SQL", "leave first_sql and last_sql out, and give commands another connection"),
    Writes.BATCHES: ("cannot commit batch by batch", 'set commit = "step"'),
    Writes.REPLACE: ("cannot replace rows of the load itself", 'set duplicates = "first" or "reject"'),
    Writes.FILES: ("has no files", "remove it, or name a connection to a folder as target"),
    Writes.UNLINK: (
        "cannot remove or change rows in one transaction with the rows that refer to them",
        'set commit = "step", or leave out the foreign key',
    ),
    Writes.SHARE: ("has no transaction that steps could share", 'set commit = "step"'),
    Writes.SWAP: ("cannot exchange one table for another within a transaction", 'set publish = "rows"'),
    Writes.REBUILD: ("cannot take indexes away and make them again within a transaction", "leave rebuild_indexes out"),
    Writes.PORTIONS: ("cannot hold ranges back until all are there", "leave split out"),
    Writes.REMEMBER: (
        "cannot keep how far a load has come",
        'leave since, files_once and when_loaded out, and set commit = "step"',
    ),
}


def lacks(connection: str, ability: Reads | Writes) -> KanalError:
    """The error for a connection that lacks an ability that a job asks for."""
    what, remedy = _LACKS[ability]
    return KanalError(f"connection {connection} {what}", remedy)
