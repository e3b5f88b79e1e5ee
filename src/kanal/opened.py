"""Open connections and their tables, for programs and notebooks."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, Self

import pyarrow as pa

from kanal.connections import open_connection
from kanal.connections.description import TableInfo
from kanal.connections.roles import Reads
from kanal.definition import Connection
from kanal.definition.places import split_table
from kanal.explore.ping import Answer, ping
from kanal.explore.tables import find_tables, sample_table

if TYPE_CHECKING:
    from types import TracebackType

_TABLES = pa.schema({
    "schema": pa.string(), "table": pa.string(), "view": pa.bool_(), "rows": pa.int64(), "exact": pa.bool_(),
    "columns": pa.int64(), "primary_key": pa.list_(pa.string()), "refers_to": pa.list_(pa.string()),
    "unreadable": pa.string(),
})  # fmt: skip
_COLUMNS = pa.schema({
    "column": pa.string(), "declared": pa.string(), "type": pa.string(), "nullable": pa.bool_(),
    "default": pa.string(), "in_key": pa.bool_(), "comment": pa.string(),
})  # fmt: skip
_PROFILES = pa.schema({
    "column": pa.string(), "rows": pa.int64(), "nulls": pa.int64(), "distinct": pa.int64(), "least": pa.string(),
    "greatest": pa.string(), "longest": pa.int64(), "may_be": pa.string(),
})  # fmt: skip


def connect(place: str | Connection, *, name: str = "place", folder: str | Path = ".") -> OpenConnection:
    """Open a connection to a database, a folder of files or an API.

    `place` is a URL, such as `sqlite:///old.db`, or a Connection, which can also name the place of a password.
    Messages call it by `name`; relative paths start from `folder`. Nothing is connected to yet: see `ping`.
    Raises KanalError if the URL is wrong.
    """
    settings = Connection(url=place) if isinstance(place, str) else place
    return OpenConnection(name, settings, Path(folder))


class OpenConnection:
    """A database, a folder of files or an API. Use it in a `with` statement, or close it by `close`."""

    def __init__(self, name: str, settings: Connection, folder: Path) -> None:
        self.name = name
        self.settings = settings
        self._opened = open_connection(name, settings, folder)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def __repr__(self) -> str:
        return f"<{self.name}: {self._opened.shown_url}>"

    def close(self) -> None:
        """Close all connections to the place."""
        self._opened.dispose()

    def ping(self) -> Answer:
        """Try the connection: the server, its speed, and the rights of the user. Never raises: see `works`."""
        return ping(self._opened)

    def tables(self, *, like: Sequence[str] = (), not_like: Sequence[str] = (), schema: str | None = None) -> pa.Table:
        """The tables and views whose names match one of the patterns `like`, such as `lock_*`, and none of `not_like`.

        One row for each: schema, table, view, rows (null if unknown; an estimate unless exact), columns, primary_key,
        refers_to (other tables), and unreadable (why a file cannot be read). Raises KanalError.
        """
        found = find_tables(self._opened, schema, list(like), list(not_like))
        return pa.Table.from_pylist(
            [
                {
                    "schema": one.table.schema,
                    "table": one.table.name,
                    "view": one.table.is_view,
                    "rows": one.count.rows if one.count is not None else None,
                    "exact": one.count.exact if one.count is not None else None,
                    "columns": len(one.table.columns),
                    "primary_key": list(one.table.primary_key),
                    "refers_to": list(dict.fromkeys(key.table for key in one.table.foreign_keys)),
                    "unreadable": one.unreadable,
                }
                for one in found
            ],
            _TABLES,
        )

    def table(self, name: str) -> OpenTable:
        """A table, view or pattern of files, such as `vessel`, `register.vessel` or `cards-*.csv`.

        Raises KanalError if it does not exist.
        """
        whole = Reads.FILES in self._opened.reads
        schema, bare = (None, name) if whole else split_table(name)
        return OpenTable(self._opened, self._opened.catalogue.describe(schema, bare))


class OpenTable:
    """A table of an open connection, as it was when it was asked for."""

    def __init__(self, opened: Any, info: TableInfo) -> None:
        self._opened, self._info = opened, info

    @property
    def name(self) -> str:
        """The table's name."""
        return self._info.name

    @property
    def primary_key(self) -> tuple[str, ...]:
        """The columns of the primary key; empty without one."""
        return self._info.primary_key

    @property
    def columns(self) -> pa.Table:
        """One row for each column: column, declared, type (null if Kanal reads it as text), nullable, default, in_key,
        comment."""
        return pa.Table.from_pylist(
            [
                {
                    "column": column.name,
                    "declared": column.declared,
                    "type": str(column.type) if column.type is not None else None,
                    "nullable": column.nullable,
                    "default": column.default,
                    "in_key": column.name in self._info.primary_key,
                    "comment": column.comment,
                }
                for column in self._info.columns
            ],
            _COLUMNS,
        )

    def sample(self, rows: int = 20) -> pa.Table:
        """The first rows, as texts. Raises KanalError."""
        found = sample_table(self._opened, self._info.schema, self._info.name, rows, scan=rows)
        return pa.Table.from_pylist(found.rows, pa.schema({name: pa.string() for name in self._info.names}))

    def profile(self, scan: int = 100_000) -> pa.Table:
        """One row for each column, over the first `scan` rows: column, rows, nulls, distinct, least, greatest, longest
        (characters), may_be (a type that fits most of its texts). Raises KanalError."""
        found = sample_table(self._opened, self._info.schema, self._info.name, 0, scan)
        return pa.Table.from_pylist(
            [
                {
                    "column": one.name,
                    "rows": one.rows,
                    "nulls": one.nulls,
                    "distinct": one.distinct,
                    "least": one.least,
                    "greatest": one.greatest,
                    "longest": one.longest,
                    "may_be": one.guess.shown if one.guess is not None else None,
                }
                for one in found.profiles
            ],
            _PROFILES,
        )

    def __repr__(self) -> str:
        return f"<table {self.name}: {', '.join(self._info.names)}>"

    def _repr_html_(self) -> str:
        from kanal.runner.html import html_table

        names = ["column", "declared", "type", "nullable"]
        rows = [[str(row[name]) for name in names] for row in self.columns.to_pylist()]
        return html_table(f"table {self.name}", names, rows)
