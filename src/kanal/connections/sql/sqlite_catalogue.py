"""What SQLite says of itself."""

from __future__ import annotations

import contextlib
import os
import re
import sqlite3
from collections.abc import Collection, Sequence
from functools import cached_property
from typing import Any

from msgspec.structs import replace
from sqlglot.dialects.dialect import Dialect
from sqlglot.tokens import TokenType  # type: ignore[attr-defined]

from kanal.connections.description import About, ColumnInfo, ForeignKey, Right, RowCount, TableInfo
from kanal.connections.errors import DatabaseError
from kanal.connections.sql.catalogue import Catalogue
from kanal.connections.sql.sqlite_access import SQLiteAccess
from kanal.connections.sql.sqlite_rows import (
    EXACT_DIGITS,
    affinity,
    quote,
)
from kanal.core.errors import KanalError, TypeNameError
from kanal.core.types import BIGINT, BINARY, DOUBLE, TEXT, Family, SqlType, parse_type


class SQLiteCatalogue(Catalogue):
    """The catalogue of a SQLite database."""

    database: SQLiteAccess

    def about(self) -> About:
        with self.database._python() as connection:
            (encoding,) = connection.execute("PRAGMA encoding").fetchone()
        return About("SQLite", sqlite3.sqlite_version, "Arrow", encoding)

    def rights(self, schema: str | None = None) -> list[Right]:
        del schema
        ask = f"the right to write to {self.database.path} and its folder, where SQLite keeps its journal"
        return [
            Right("read", os.access(self.database.path, os.R_OK), f"the right to read {self.database.path}"),
            Right(
                "create, write",
                all(os.access(path, os.W_OK) for path in (self.database.path, self.database.path.parent)),
                ask,
            ),
        ]

    def comment(self, table: TableInfo) -> str | None:
        return None

    def row_counts(self, schema: str | None, names: Sequence[str]) -> dict[str, RowCount]:
        del schema
        large = self.database.path.exists() and self.database.path.stat().st_size > _COUNTED_BYTES
        counts = {}
        with self.database._python() as connection:
            for name in names:
                if large:  # counting reads the whole table; its last row number comes at once
                    with contextlib.suppress(sqlite3.OperationalError):
                        (last,) = connection.execute(f"SELECT max(rowid) FROM {quote(name)}").fetchone()
                        counts[name] = RowCount(last or 0, exact=False)
                        continue
                (count,) = connection.execute(f"SELECT count(*) FROM {quote(name)}").fetchone()
                counts[name] = RowCount(count, exact=True)
        return counts

    def table_names(self, schema: str | None = None) -> list[str]:
        if schema not in (None, "main"):
            raise DatabaseError(
                f"connection {self.database.name}: SQLite has no schema {schema}", "leave the schema out"
            )
        if self.database.missing_file:
            return []
        if None not in self._names_of:
            with self.database._python() as connection:
                rows = connection.execute(
                    "SELECT name FROM sqlite_master WHERE type IN ('table', 'view') AND substr(name, 1, 7) <> 'sqlite_'"
                )
                self._names_of[None] = sorted(row[0] for row in rows), []
        return self._names_of[None][0]

    def expect(self, schema: str | None, tables: Collection[str]) -> None:
        # Each connection reads the whole schema, so one is asked for all tables.
        with contextlib.suppress(KanalError):
            there = {name.casefold() for name in tables}
            names = [name for name in self.table_names(schema) if name.casefold() in there]
            if len(names) > 1:
                with self.database._python() as connection:
                    self._expected.update({name: self._describe(connection, schema, name) for name in names})

    @cached_property
    def _expected(self) -> dict[str, TableInfo]:
        return {}

    def forget_names(self) -> None:
        super().forget_names()
        self._expected.clear()

    def describe(self, schema: str | None, table: str) -> TableInfo:
        name = self.find_table(schema, table)
        if name not in self._expected:
            with self.database._python() as connection:
                return self._describe(connection, schema, name)
        return replace(self._expected[name], schema=schema)

    def _describe(self, connection: sqlite3.Connection, schema: str | None, name: str) -> TableInfo:
        quoted = quote(name)
        rows = connection.execute(f"PRAGMA table_xinfo({quoted})").fetchall()
        kind, sql = connection.execute("SELECT type, sql FROM sqlite_master WHERE name = ?", (name,)).fetchone()
        is_view = kind == "view"
        if not is_view and not re.match(r"CREATE\s+VIRTUAL", sql or "", re.IGNORECASE):
            self._row_numbers[name] = _row_number(connection, quoted, [row[1] for row in rows])
        primary = tuple(row[1] for row in sorted((row for row in rows if row[5]), key=lambda row: row[5]))
        unique = [
            tuple(row[2] for row in connection.execute(f"PRAGMA index_info({quote(index[1])})") if row[2])
            for index in connection.execute(f"PRAGMA index_list({quoted})").fetchall()
            if index[2] and not index[4]
        ]
        foreign = self._foreign_keys(connection, quoted)
        self._collations[name] = _collations(sql or "")
        columns = tuple(self._column_of(row, primary) for row in rows if row[6] != 1)
        if is_view:
            columns = self._guessed(columns, f"SELECT * FROM {quoted}")
        return TableInfo(schema, name, columns, primary, tuple(key for key in unique if key), foreign, is_view)

    @cached_property
    def _collations(self) -> dict[str, dict[str, str]]:
        """By table, the collations of columns that have one of their own; of tables that were described."""
        return {}

    @cached_property
    def _row_numbers(self) -> dict[str, str | None]:
        """The name by which each table numbers its rows, None if it does not; of tables that were described."""
        return {}

    def _column_of(self, row: Sequence[Any], primary: tuple[str, ...]) -> ColumnInfo:
        _, name, declared, not_null, default, _, hidden = row
        sql_type = declared_type(declared)
        # The one INTEGER PRIMARY KEY is the row's number, which SQLite gives if there is none.
        row_number = primary == (name,) and declared.upper() == "INTEGER"
        return ColumnInfo(
            name=name,
            declared=declared,
            type=sql_type,
            stored=_stored(sql_type),
            nullable=not not_null and not row_number and name not in primary,
            filled=default is not None or hidden in (2, 3) or row_number,
            numbered=row_number,
            default=default,
            generated=hidden in (2, 3),
            loose=True,
        )

    def _foreign_keys(self, connection: sqlite3.Connection, quoted: str) -> tuple[ForeignKey, ...]:
        keys: dict[int, list[Any]] = {}
        for row in connection.execute(f"PRAGMA foreign_key_list({quoted})").fetchall():
            keys.setdefault(row[0], []).append(row)

        def referred(rows: list[Any]) -> tuple[str, ...]:
            if rows[0][4] is not None:
                return tuple(row[4] for row in rows)
            parent = connection.execute(f"PRAGMA table_info({quote(rows[0][2])})").fetchall()
            return tuple(row[1] for row in sorted((row for row in parent if row[5]), key=lambda row: row[5]))

        # Each of them can be deferred, by a PRAGMA of the transaction.
        return tuple(
            ForeignKey(tuple(row[3] for row in rows), None, rows[0][2], referred(rows), deferrable=True)
            for rows in keys.values()
        )

    def describe_query(self, query: str) -> TableInfo:
        """The columns of a query: their declared types if they are plain columns, else by their first values."""
        body = query.rstrip().rstrip(";")
        with self.database._python() as connection:
            try:
                connection.execute(f"CREATE TEMP VIEW kanal_query AS SELECT * FROM ({body})")
                rows = connection.execute("PRAGMA temp.table_xinfo(kanal_query)").fetchall()
            except (sqlite3.Error, sqlite3.Warning) as error:
                raise DatabaseError(f"the query cannot be run: {error}", "correct the SQL of the source") from None
        columns = tuple(self._column_of(row, ()) for row in rows)
        return TableInfo(None, "query", self._guessed(columns, body), is_view=True)

    def _guessed(self, columns: tuple[ColumnInfo, ...], query: str) -> tuple[ColumnInfo, ...]:
        """The columns, those without a declared type by the storage classes of the first thousand rows."""
        unknown = [column for column in columns if column.declared.upper() in ("", "NUM", "INT", "REAL", "TEXT")]
        if not unknown:
            return columns
        checks = ", ".join(f"group_concat(DISTINCT typeof({quote(column.name)}))" for column in unknown)
        with self.database._python() as connection:
            found = connection.execute(f"SELECT {checks} FROM (SELECT * FROM ({query}) LIMIT 1000)").fetchone()
        guesses: dict[str, SqlType | None] = {}
        for column, classes in zip(unknown, found, strict=True):
            seen = set((classes or "").split(",")) - {"null", ""}
            guess: SqlType | None = None
            if seen == {"integer"}:
                guess = BIGINT
            elif seen and seen <= {"integer", "real"}:
                guess = DOUBLE
            elif seen == {"blob"}:
                guess = BINARY
            guesses[column.name] = guess or column.type
        return tuple(
            replace(column, type=guesses[column.name], stored=_stored(guesses[column.name]))
            if column.name in guesses
            else column
            for column in columns
        )

    def indexes(self, table: TableInfo) -> list[tuple[str, ...]]:
        found = []
        with self.database._python() as connection:
            for index in connection.execute(f"PRAGMA index_list({quote(table.name)})").fetchall():
                names = [row[2] for row in connection.execute(f"PRAGMA index_info({quote(index[1])})")]
                if not index[2] and None not in names:
                    found.append(tuple(names))
        return found


#: In larger files, rows are not counted.
_COUNTED_BYTES = 500_000_000


def declared_type(declared: str) -> SqlType | None:
    """The SQL type that a declared type means; None if it means none."""
    if not declared.strip():
        return None
    words = re.sub(r"\s+", " ", declared.strip().lower())
    if re.match(r"datetime\b", words):
        return parse_type("timestamp")
    try:
        found = parse_type(words)
    except TypeNameError:
        by_affinity = {"integer": BIGINT, "text": TEXT, "blob": BINARY, "real": DOUBLE, "numeric": None}
        return by_affinity[affinity(declared)]
    # An INTEGER of SQLite has 64 bits, and a REAL too.
    return {"integer": BIGINT, "real": DOUBLE}.get(found.name, found)


def _stored(sql_type: SqlType | None) -> SqlType:
    if sql_type is None:
        return TEXT
    if sql_type.family is Family.DECIMAL and (sql_type.precision or 0) <= EXACT_DIGITS:
        return sql_type
    by_family = {Family.INTEGER: BIGINT, Family.DOUBLE: DOUBLE, Family.BINARY: BINARY}
    return by_family.get(sql_type.family, TEXT)


def _collations(sql: str) -> dict[str, str]:
    """The collations that a CREATE TABLE names, by column, both in the one case that does not matter to SQLite."""
    if "COLLATE" not in sql.upper():
        return {}
    tokens = Dialect.get_or_raise("sqlite").tokenize(sql)
    found, column, depth = {}, "", 0
    for place, token in enumerate(tokens):
        depth += {"(": 1, ")": -1}.get(token.text, 0) if token.token_type not in _QUOTED else 0
        before = tokens[place - 1].text if place else ""
        if depth == 1 and before in ("(", ","):
            column = token.text.casefold()
        if depth == 1 and token.text.upper() == "COLLATE" and token.token_type not in _QUOTED:
            found[column] = tokens[place + 1].text.upper()
    return found


_QUOTED = (TokenType.STRING, TokenType.IDENTIFIER)


def checks_in(sql: str) -> list[tuple[str | None, str]]:
    """The conditions that a CREATE TABLE checks, each with its name, if it has one."""
    if "CHECK" not in sql.upper():
        return []
    tokens = Dialect.get_or_raise("sqlite").tokenize(sql)
    found: list[tuple[str | None, str]] = []
    for place, token in enumerate(tokens[:-1]):
        if token.text.upper() != "CHECK" or token.token_type in _QUOTED or tokens[place + 1].text != "(":
            continue
        depth = 0
        for end in tokens[place + 1 :]:
            depth += {"(": 1, ")": -1}.get(end.text, 0) if end.token_type not in _QUOTED else 0
            if depth == 0:
                break
        named = place > 1 and tokens[place - 2].text.upper() == "CONSTRAINT"
        found.append((tokens[place - 1].text if named else None, sql[tokens[place + 1].end + 1 : end.start].strip()))
    return found


def _row_number(connection: sqlite3.Connection, quoted: str, columns: list[str]) -> str | None:
    """A name for the number of a table's rows that is no column's; None if it has none (WITHOUT ROWID)."""
    names = {"rowid", "_rowid_", "oid"} - {column.casefold() for column in columns}
    for name in sorted(names):
        with contextlib.suppress(sqlite3.OperationalError):
            connection.execute(f"SELECT {name} FROM {quoted} LIMIT 0")
            return name
    return None
