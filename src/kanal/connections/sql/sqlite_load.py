"""A transaction on SQLite, through its Arrow driver."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Iterator, Sequence
from typing import Any

import pyarrow as pa
import sqlalchemy as sa

from kanal.connections.base import Target
from kanal.connections.description import Constraint, ForeignKey, TableInfo
from kanal.connections.errors import DatabaseError, RowsRefused
from kanal.connections.loading import RefusedRow
from kanal.connections.sql.load import SqlLoad
from kanal.connections.sql.sqlite_access import SQLiteAccess
from kanal.connections.sql.sqlite_catalogue import SQLiteCatalogue, checks_in
from kanal.connections.sql.sqlite_rows import (
    driver_errors,
    quote,
    text_literal,
)
from kanal.connections.sql.staging import row_column
from kanal.connections.sql.writer import TableWriter
from kanal.core.native import taken_as


def _constraint_in(words: str) -> str | None:
    """The constraint that SQLite's words name; of a key they name the columns."""
    check = re.search("CHECK constraint failed: (.*)", words)
    unique = re.search("UNIQUE constraint failed: (.*)", words)
    if unique:
        return f"unique ({', '.join(column.partition('.')[2] for column in unique[1].split(', '))})"
    return check[1] if check else None


#: Errors of a file, not of a row (https://sqlite.org/rescode.html).
_OF_FILE = ("locked", "disk", "readonly", "malformed", "not a database", "out of memory", "unable to open")


def _refuses_row(error: BaseException, words: str) -> bool:
    """True if a row breaks a constraint, or a trigger raises an error of its own words."""
    if "constraint" in words.lower() or "datatype mismatch" in words or type(error).__name__ == "IntegrityError":
        return True
    return "failed to execute" in str(error) and not any(word in words for word in _OF_FILE)


class SQLiteWriter(TableWriter):
    """Writes rows by the Arrow driver."""

    transaction: SQLiteLoad

    def insert(self, encoded: Any) -> Sequence[RefusedRow]:
        temporary = bool(self.table.info.get("temporary"))
        mixed = any(pa.types.is_struct(taken_as(values).type) for values in encoded.columns)
        encoded = pa.record_batch([taken_as(values) for values in encoded.columns], names=encoded.schema.names)
        with self.transaction.all_or_nothing():
            if mixed:
                self._insert_mixed(encoded)
                return ()
            self.transaction.cursor.adbc_ingest(self.table.name, encoded, mode="append", temporary=temporary)
        return ()

    def _insert_mixed(self, rows: pa.RecordBatch) -> None:
        """Insert rows of which some columns have a slot for each storage class: the value is in one of them."""
        values: list[str] = []
        parameters: list[pa.Array] = []
        for column in rows.columns:
            slots = column.flatten() if pa.types.is_struct(column.type) else [column]
            first = len(parameters) + 1
            places = [f"?{first + place}" for place in range(len(slots))]
            values.append(f"coalesce({', '.join(places)})" if len(slots) > 1 else places[0])
            parameters += slots
        place = f"temp.{quote(self.table.name)}" if self.table.info.get("temporary") else quote(self.table.name)
        names = ", ".join(map(quote, rows.schema.names))
        given = pa.record_batch(parameters, names=[f"p{number}" for number in range(len(parameters))])
        self.transaction.cursor.executemany(f"INSERT INTO {place} ({names}) VALUES ({', '.join(values)})", given)


class SQLiteLoad(SqlLoad):
    """A transaction through the Arrow driver."""

    database: SQLiteAccess

    catalogue: SQLiteCatalogue

    def __init__(self, database: SQLiteAccess, catalogue: SQLiteCatalogue, target: Target, connection: Any) -> None:
        self.arrow = connection
        self.cursor = connection.cursor()
        super().__init__(database, catalogue, target)

    def writer_of(self, table: sa.Table) -> SQLiteWriter:
        return SQLiteWriter(self, table)

    def begin(self) -> None:
        # The driver begins a transaction at once, within which foreign keys cannot be switched on.
        self.arrow.adbc_connection.set_autocommit(True)
        self._deferred = False
        self.fetch("PRAGMA foreign_keys = ON")
        self.arrow.adbc_connection.set_autocommit(False)
        # A transaction that reads before it writes cannot wait for another that writes: it takes the lock at once.
        try:
            self.fetch("COMMIT")
            self.fetch("BEGIN IMMEDIATE")
        except driver_errors() as error:
            raise self.database.driver_failure(error) from None

    def statement(self, sql: str) -> int:
        """Run one statement; the number of rows it changed, if it changes rows. Raises the driver's errors."""
        self.fetch(sql)
        return int(self.fetch("SELECT changes()")[0][0])

    def fetch(self, sql: str) -> list[Any]:
        """The rows that a query finds. Raises the driver's errors."""
        self.cursor.execute(sql)
        rows: list[Any] = self.cursor.fetchall()
        return rows

    def execute(self, statement: Any, counted: bool = True) -> int:
        try:
            return self.statement(self.database.compiled(statement))
        except driver_errors() as error:
            raise self.database.driver_failure(error) from None

    def run_sql(self, sql: str) -> int:
        try:
            return sum(self.statement(statement) for statement in self.database.statements(sql))
        except driver_errors() as error:
            raise self.database.driver_failure(error) from None

    def scalar(self, query: Any) -> Any:
        try:
            rows = self.fetch(self.database.compiled(query))
        except driver_errors() as error:
            raise self.database.driver_failure(error) from None
        return rows[0][0] if rows else None

    def empty_table(self, table: sa.Table) -> int:
        # Rows of other tables may refer to these; what matters is that they do so again when the load commits.
        # (Switching the deferral off again would forget what it has deferred.)
        if self.fetch(
            "SELECT 1 FROM sqlite_master AS m, pragma_foreign_key_list(m.name) AS k "
            f'WHERE lower(k."table") = lower({text_literal(table.name)}) AND lower(m.name) <> lower(k."table") LIMIT 1'
        ):
            self.fetch("PRAGMA defer_foreign_keys = ON")
            self._deferred = True
        return self.execute(table.delete())

    def attempt(self, *statements: Any) -> list[int]:
        with self.all_or_nothing():
            return [self.statement(self.database.compiled(statement)) for statement in statements]
        raise AssertionError

    @contextlib.contextmanager
    def all_or_nothing(self) -> Iterator[None]:
        """While this lasts, all is done or nothing; raises RowsRefused if the target refuses a row."""
        try:
            self.fetch("SAVEPOINT kanal")
            yield
            self.fetch("RELEASE SAVEPOINT kanal")
        except driver_errors() as error:
            words = self.database.driver_words(error)
            if not _refuses_row(error, words):
                raise self.database.driver_failure(error) from None
            self._undo()
            raise RowsRefused(words, constraint=_constraint_in(words)) from None

        except RowsRefused:
            self._undo()
            raise

    def _undo(self) -> None:
        for statement in ("ROLLBACK TO SAVEPOINT kanal", "RELEASE SAVEPOINT kanal"):
            self.fetch(statement)

    def create_stage(self, table: TableInfo, columns: Sequence[str], key: Sequence[str], name: str) -> sa.Table:
        collations = self.catalogue._collations.get(table.name, {})
        declared = {column.name: column.declared for column in table.columns}
        for column in set(columns) & declared.keys():
            if column.casefold() in collations:  # by which keys are equal here too
                declared[column] += f" COLLATE {quote(collations[column.casefold()])}"
        body = ", ".join(f"{quote(column)} {declared[column]}" for column in columns)
        number = row_column(columns)
        self.run_sql(f"CREATE TEMP TABLE {quote(name)} ({body}, {number} INTEGER PRIMARY KEY)")
        if key:
            self.run_sql(f"CREATE INDEX temp.{quote(name + '_key')} ON {quote(name)} ({', '.join(map(quote, key))})")
        columns = [*columns, number]
        info = {"temporary": True}
        return sa.Table(name, sa.MetaData(), *(sa.Column(column) for column in columns), schema="temp", info=info)

    def referrers(self, table: TableInfo) -> list[tuple[str | None, str, ForeignKey]]:
        found: dict[tuple[str, int], tuple[list[str], list[str]]] = {}
        for name, number, column, referred in self.fetch(
            'SELECT m.name, k.id, k."from", k."to" FROM sqlite_master AS m, pragma_foreign_key_list(m.name) AS k '
            f'WHERE lower(k."table") = lower({text_literal(table.name)}) ORDER BY m.name, k.id, k.seq'
        ):
            columns, there = found.setdefault((name, number), ([], []))
            columns.append(column)
            there += [referred] if referred is not None else []
        return [
            (None, name, ForeignKey(tuple(columns), None, table.name, tuple(there) or table.primary_key))
            for (name, _), (columns, there) in found.items()
        ]

    def rows(self, query: Any) -> list[Any]:
        try:
            return self.fetch(self.database.compiled(query))
        except driver_errors() as error:
            raise self.database.driver_failure(error) from None

    def can_run(self, query: Any) -> bool:
        try:
            self.fetch(self.database.compiled(query))
        except driver_errors():
            return False
        return True

    def defer(self, keys: Sequence[ForeignKey]) -> None:
        if keys and not self._deferred:
            self.fetch("PRAGMA defer_foreign_keys = ON")
            self._deferred = True

    def sifts_first(self, table: TableInfo) -> bool:
        # While a row refers to one that is missing, SQLite looks in the whole table for rows that refer to each new one
        # (https://sqlite.org/foreignkeys.html, section 3).
        return self._deferred or bool(table.own_references)

    def has_triggers(self, table: TableInfo) -> bool:
        found = self.fetch(
            "SELECT 1 FROM sqlite_master WHERE type = 'trigger' "
            f"AND lower(tbl_name) = lower({text_literal(table.name)})"
        )
        return bool(found)

    def constraints(self, table: TableInfo) -> list[Constraint]:
        keys = dict.fromkeys([table.primary_key, *table.unique])
        found = [Constraint(None, key) for key in keys if key]
        found += [Constraint(key.name, key.columns, foreign_key=key) for key in table.foreign_keys]
        (sql,) = self.fetch(f"SELECT sql FROM sqlite_master WHERE name = {text_literal(table.name)}")[0]
        return found + [Constraint(name, (), condition=condition) for name, condition in checks_in(sql)]

    def drop_stage(self, stage: sa.Table) -> None:
        self.run_sql(f"DROP TABLE temp.{quote(stage.name)}")

    def cancel(self) -> None:
        """The driver cannot break off a statement."""

    def verify(self) -> None:
        if self._deferred:
            try:
                self._check_references()
            except driver_errors() as error:
                raise self.database.driver_failure(error) from None

    def commit(self) -> None:
        try:
            if self._deferred:
                self._check_references()
            self.arrow.commit()
        except driver_errors() as error:
            raise self.database.driver_failure(error) from None

    def _check_references(self) -> None:
        """Raise DatabaseError where rows refer to rows that are no longer there."""
        broken = self.fetch(
            'SELECT "table", parent, count(*) FROM pragma_foreign_key_check GROUP BY 1, 2 ORDER BY 1, 2'
        )
        if broken:
            parts = ", ".join(f"{count:,} rows of {table} to {parent}" for table, parent, count in broken)
            raise DatabaseError(
                f"connection {self.database.name}: FOREIGN KEY constraint failed: after the load, rows would refer to "
                f"rows that are not there: {parts}",
                "load the missing rows, or empty the referring table in the same job before",
            )

    def close(self) -> None:
        with contextlib.suppress(*driver_errors()):
            self.cursor.close()
        with contextlib.suppress(*driver_errors()):
            self.arrow.rollback()
