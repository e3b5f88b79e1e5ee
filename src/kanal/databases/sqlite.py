"""SQLite, read and written through its Arrow driver.

Any row of SQLite may hold a value of any type in any column (https://sqlite.org/datatype3.html), so every column is
read in one type and the values of other types beside it, as text.
"""

from __future__ import annotations

import contextlib
import datetime as dt
import json
import os
import re
import sqlite3
from collections.abc import Collection, Iterator, Sequence
from dataclasses import replace
from decimal import Decimal
from functools import cached_property
from pathlib import Path
from typing import Any, ClassVar, cast

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import sqlalchemy as sa
from sqlalchemy.dialects import sqlite as dialect

from kanal.core.arrays import from_unscaled, mask_of, to_unscaled
from kanal.core.conversions import converter
from kanal.core.errors import TypeNameError
from kanal.core.faults import Fault
from kanal.core.frame import SourceBatch, Strays
from kanal.core.reasons import Reason
from kanal.core.types import BIGINT, BINARY, DOUBLE, TEXT, Family, SqlType, parse_type
from kanal.databases.arrow import ArrowDatabase, driver_errors
from kanal.databases.base import Breaker, Database, DatabaseError, Load, Reading, RowsRefused, Window, row_column
from kanal.databases.batches import valid_text
from kanal.databases.declared import Declared
from kanal.databases.description import About, ColumnInfo, ForeignKey, Right, RowCount, TableInfo

#: By family, where a value of a column {c} is one of its type, that value, and one to show the driver its type;
#: all other values are strays. Whole numbers beyond 2 to the 53rd have no floating value of their own.
_NUMERIC = "(typeof({c}) = 'real' OR (typeof({c}) = 'integer' AND {c} BETWEEN -9007199254740992 AND 9007199254740992))"
_NATIVE = {
    Family.INTEGER: ("typeof({c}) = 'integer'", "{c}", "0"),
    Family.DOUBLE: (_NUMERIC, "CAST({c} AS REAL)", "0.0"),
    Family.DECIMAL: (_NUMERIC, "CAST({c} AS REAL)", "0.0"),
    Family.BINARY: ("typeof({c}) = 'blob'", "{c}", "x''"),
}
#: As which Arrow type the driver gives them; all others as text.
_KINDS = {Family.INTEGER: pa.int64(), Family.DOUBLE: pa.float64(), Family.DECIMAL: pa.float64()}
#: Significant digits of a decimal that a floating value, and so SQLite, always keeps.
_EXACT_DIGITS = 15
#: In larger files, rows are not counted.
_COUNTED_BYTES = 500_000_000


def affinity(declared: str) -> str:
    """The column affinity that SQLite derives from a declared type (datatype3.html, 3.1)."""
    upper = declared.upper()
    if "INT" in upper:
        return "integer"
    if any(word in upper for word in ("CHAR", "CLOB", "TEXT")):
        return "text"
    if not upper or "BLOB" in upper:
        return "blob"
    if any(word in upper for word in ("REAL", "FLOA", "DOUB")):
        return "real"
    return "numeric"


def declared_type(declared: str) -> SqlType | None:
    """The SQL type that a declared type means; None where it means none."""
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
    if sql_type.family is Family.DECIMAL and (sql_type.precision or 0) <= _EXACT_DIGITS:
        return sql_type
    by_family = {Family.INTEGER: BIGINT, Family.DOUBLE: DOUBLE, Family.BINARY: BINARY}
    return by_family.get(sql_type.family, TEXT)


class SQLite(ArrowDatabase):
    """A SQLite file."""

    extra = "kanal itself again, which brings SQLite's driver"
    sql_dialect = dialect.dialect()
    defers_references = True
    folds_columns = True
    pooling: ClassVar[dict[str, Any]] = {}

    @cached_property
    def engine(self) -> sa.Engine:
        engine = super().engine

        @sa.event.listens_for(engine, "connect")
        def _settings(connection: Any, _: Any) -> None:
            # Who reads does not wait for who writes, and a commit waits for the disk only now and then.
            connection.execute("PRAGMA journal_mode = WAL")
            connection.execute("PRAGMA synchronous = NORMAL")

        return engine

    @cached_property
    def path(self) -> Path:
        """The database's file; raises DatabaseError for one in memory, which two connections cannot share."""
        name = self.url.database
        if not name or name == ":memory:":
            raise DatabaseError(
                f"connection {self.name}: a database in memory is empty for each who connects",
                "name a file, such as sqlite:///register.db",
            )
        return Path(name)

    def check_file(self) -> None:
        """Raise DatabaseError unless the file is there and is a database."""
        if self._checked and self.path.exists():
            return
        self._check_file()
        self._checked = True

    # Locks of a file are the process's: whoever closes it, by whatever handle, gives up those of the Arrow driver,
    # which has a SQLite of its own (https://sqlite.org/howtocorrupt.html, 2.2). So the file is opened otherwise only
    # while no load is under way: its head is looked at once, and its tables are listed once.
    _checked = False

    def _check_file(self) -> None:
        if not self.path.exists():
            near = sorted(path.name for path in self.path.parent.glob("*.db")) if self.path.parent.is_dir() else []
            where = f"its folder has: {', '.join(near[:8])}" if near else "create it first, or correct the URL"
            raise DatabaseError(f"connection {self.name}: there is no file {self.path}", where)
        if self.path.is_dir():
            raise DatabaseError(f"connection {self.name}: {self.path} is a folder", "name the database file in it")
        try:
            with self.path.open("rb") as file:
                head = file.read(16)
        except OSError as error:
            raise DatabaseError(
                f"connection {self.name}: {self.path} cannot be read: {error.strerror}",
                "ask for the right to read it",
            ) from None
        if head and head != b"SQLite format 3\x00":
            raise DatabaseError(f"connection {self.name}: {self.path} is not a SQLite database", "correct the URL")

    @contextlib.contextmanager
    def _python(self) -> Iterator[sqlite3.Connection]:
        """A connection of Python's own driver, for small questions."""
        self.check_file()
        try:
            connection = sqlite3.connect(self.path, timeout=self.lock_timeout or 30)
            try:
                yield connection
            finally:
                connection.close()
        except sqlite3.Error as error:
            raise self.failed(str(error)) from None

    def failed(self, words: str) -> DatabaseError:
        """An error in SQLite's words."""
        message = " ".join(words.split())
        remedy = "see what SQLite says of it"
        if "locked" in message or "busy" in message.lower():
            remedy = "another program writes to the file; try again when it has finished"
        elif "disk is full" in message:
            remedy = "make room on the disk"
        elif "readonly" in message:
            remedy = "ask for the right to write to the file and its folder"
        return DatabaseError(f"connection {self.name} ({self.path}): {message}", remedy)

    @contextlib.contextmanager
    def arrow(self) -> Iterator[Any]:
        """A connection of the Arrow driver; its errors become Kanal's."""
        import adbc_driver_sqlite.dbapi

        self.check_file()
        uri = f"file:{str(self.path.resolve()).replace('%', '%25').replace('?', '%3f').replace('#', '%23')}?mode=rw"
        try:
            connection = adbc_driver_sqlite.dbapi.connect(uri)
            try:
                with connection.cursor() as cursor:
                    cursor.execute(f"PRAGMA busy_timeout = {round(1000 * (self.lock_timeout or 30))}")
                    cursor.fetchall()
                yield connection
            finally:
                connection.close()
        except driver_errors() as error:
            raise self.driver_failure(error) from None

    def driver_words(self, error: BaseException) -> str:
        text = super().driver_words(error)
        text = re.sub(r"^[A-Z_]+: (?:\[SQLite\] )?", "", text)
        text = re.sub(r"\s*query was: .*$", "", text)
        return re.sub(r"^(?:[Ff]ailed to \w+(?: \w+)*: )+", "", text)

    @property
    def lock(self) -> Any:
        return self.path.resolve()

    def shares_lock_with(self, other: Database, reading: Reading | None = None, table: str = "") -> bool:
        del reading, table
        return isinstance(other, SQLite) and self.path.resolve() == other.path.resolve()

    # --- what there is ---------------------------------------------------------------------------------------------

    def about(self) -> About:
        with self._python() as connection:
            (encoding,) = connection.execute("PRAGMA encoding").fetchone()
        return About("SQLite", sqlite3.sqlite_version, "Arrow", encoding)

    def rights(self, schema: str | None = None) -> list[Right]:
        del schema
        ask = f"the right to write to {self.path} and its folder, where SQLite keeps its journal"
        return [
            Right("read", os.access(self.path, os.R_OK), f"the right to read {self.path}"),
            Right("create, write", all(os.access(path, os.W_OK) for path in (self.path, self.path.parent)), ask),
        ]

    def row_counts(self, schema: str | None, names: Sequence[str]) -> dict[str, RowCount]:
        del schema
        large = self.path.exists() and self.path.stat().st_size > _COUNTED_BYTES
        counts = {}
        with self._python() as connection:
            for name in names:
                if large:  # counting reads the whole table; its last row number comes at once
                    with contextlib.suppress(sqlite3.OperationalError):
                        (last,) = connection.execute(f"SELECT max(rowid) FROM {quote(name)}").fetchone()
                        counts[name] = RowCount(last or 0, exact=False)
                        continue
                (count,) = connection.execute(f"SELECT count(*) FROM {quote(name)}").fetchone()
                counts[name] = RowCount(count, exact=True)
        return counts

    # --- describing ------------------------------------------------------------------------------------------------

    def table_names(self, schema: str | None = None) -> list[str]:
        if schema not in (None, "main"):
            raise DatabaseError(f"connection {self.name}: SQLite has no schema {schema}", "leave the schema out")
        if None not in self._names_of:
            with self._python() as connection:
                rows = connection.execute(
                    "SELECT name FROM sqlite_master WHERE type IN ('table', 'view') AND substr(name, 1, 7) <> 'sqlite_'"
                )
                self._names_of[None] = sorted(row[0] for row in rows), []
        return self._names_of[None][0]

    def expect(self, schema: str | None, tables: Collection[str]) -> None:
        del schema, tables

    def describe(self, schema: str | None, table: str) -> TableInfo:
        name = self.find_table(schema, table)
        quoted = quote(name)
        with self._python() as connection:
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
        columns = tuple(self._column_of(row, primary) for row in rows if row[6] != 1)
        if is_view:
            columns = self._guessed(columns, f"SELECT * FROM {quoted}")
        return TableInfo(schema, name, columns, primary, tuple(key for key in unique if key), foreign, is_view)

    @cached_property
    def _row_numbers(self) -> dict[str, str | None]:
        """The name by which each table numbers its rows, None where it does not; of tables that were described."""
        return {}

    def _column_of(self, row: Sequence[Any], primary: tuple[str, ...]) -> ColumnInfo:
        _, name, declared, not_null, default, _, hidden = row
        sql_type = declared_type(declared)
        # The one INTEGER PRIMARY KEY is the row's number, which SQLite gives where there is none.
        row_number = primary == (name,) and declared.upper() == "INTEGER"
        return ColumnInfo(
            name=name,
            declared=declared,
            type=sql_type,
            stored=_stored(sql_type),
            nullable=not not_null and not row_number and name not in primary,
            filled=default is not None or hidden in (2, 3) or row_number,
            generated=hidden in (2, 3),
            loose=True,
        )

    def _foreign_keys(self, connection: sqlite3.Connection, quoted: str) -> tuple[ForeignKey, ...]:
        keys: dict[int, list[Any]] = {}
        for row in connection.execute(f"PRAGMA foreign_key_list({quoted})").fetchall():
            keys.setdefault(row[0], []).append(row)
        return tuple(
            ForeignKey(tuple(r[3] for r in rows), None, rows[0][2], tuple(r[4] for r in rows if r[4]))
            for rows in keys.values()
        )

    def describe_query(self, query: str) -> TableInfo:
        """The columns of a query: their declared types where they are plain columns, else by their first values."""
        body = query.rstrip().rstrip(";")
        with self._python() as connection:
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
        with self._python() as connection:
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
        with self._python() as connection:
            for index in connection.execute(f"PRAGMA index_list({quote(table.name)})").fetchall():
                names = [row[2] for row in connection.execute(f"PRAGMA index_info({quote(index[1])})")]
                if not index[2] and None not in names:
                    found.append(tuple(names))
        return found

    def column_type(self, sql_type: SqlType, in_key: bool) -> Any:
        # The declared name tells Kanal the type again, and SQLite the affinity.
        if sql_type.family is Family.DECIMAL and (sql_type.precision or 0) > _EXACT_DIGITS:
            return sa.Text()
        if sql_type.family in (Family.UUID, Family.JSON, Family.INTERVAL):
            return sa.Text()
        return Declared("BLOB" if sql_type.family is Family.BINARY else str(sql_type).upper())

    def alteration(self, table: TableInfo, column: ColumnInfo) -> str | None:
        return None

    def sa_table(self, table: TableInfo) -> sa.Table:
        return sa.Table(table.name, sa.MetaData(), *(sa.Column(name) for name in table.names))

    # --- reading ---------------------------------------------------------------------------------------------------

    @contextlib.contextmanager
    def read(
        self, reading: Reading, within: Load | None = None, breaker: Breaker | None = None, connection: Any = None
    ) -> Iterator[Iterator[SourceBatch]]:
        del connection
        stored = {column.name: column.stored for column in reading.table.columns}
        names = list(reading.columns) or [reading.table.names[0]]
        connecting = self.arrow() if within is None else contextlib.nullcontext(cast(SQLiteLoad, within).arrow)
        with connecting as connected, connected.cursor() as cursor:
            if breaker is not None:
                breaker.add(cursor.adbc_cancel)
            cursor.adbc_statement.set_options(**{"adbc.sqlite.query.batch_rows": str(reading.batch_rows)})
            yield self._arriving(cursor, reading, names, stored)

    def _arriving(
        self, cursor: Any, reading: Reading, names: list[str], stored: dict[str, SqlType]
    ) -> Iterator[SourceBatch]:
        """The batches: by a plain SELECT as long as all values are of their columns' storage classes, which is twice as
        quick, and from the first that is not on, in the same transaction, by one that tells them apart."""
        number = self._row_numbers.get(reading.table.name)
        within = reading.order_by or reading.windows or reading.query is not None
        plain = None if within or number is None else self._plain_select(reading, names, stored, number)
        if plain is not None:
            last, count = None, 0
            kinds = [_KINDS.get(stored[name].family, pa.string()) for name in names] + [pa.int64()]
            try:
                for rows in self._fetched(cursor, plain):
                    if rows.schema.types != kinds:
                        raise _Mixed
                    if rows.num_rows:
                        yield _source_batch(rows, names, stored)
                        last, count = rows.column(len(names))[-1].as_py(), count + rows.num_rows
                return
            except _Mixed:
                pass
            if count and reading.limit is not None:
                reading = replace(reading, limit=reading.limit - count)
            beyond = f"{number} > {last}" if count else None
        else:
            beyond = None
        for rows in self._fetched(cursor, self._typed_select(reading, names, stored, beyond)):
            if rows.num_rows:
                batch = _source_batch(rows, names, stored)
                _put_strays(batch, rows.column(len(names)), names)
                yield batch

    def _fetched(self, cursor: Any, statement: str) -> Iterator[pa.RecordBatch]:
        """What a SELECT gives, without its first row, which told the driver the columns' types."""
        cursor.execute(statement)
        reader = cursor.fetch_record_batch()
        first = True
        while True:
            try:
                rows = reader.read_next_batch()
            except StopIteration:
                return
            except (pa.ArrowException, *driver_errors()) as error:
                if "Type mismatch in column" in str(error):
                    raise _Mixed from None
                raise self.driver_failure(error) from None
            yield rows.slice(1) if first else rows
            first = False

    def _plain_select(self, reading: Reading, names: list[str], stored: dict[str, SqlType], number: str) -> str | None:
        """A SELECT of a table's rows in the order of their numbers, which come last; None where some column needs more.

        Of numbers that a floating value may not keep, it makes texts, which the driver then stumbles on.
        """
        parts, samples = [], []
        for name in names:
            column, family = quote(name), stored[name].family
            declared = reading.table.column(name)
            if family is Family.BINARY or declared is None:
                return None
            if family is Family.INTEGER or (family in _NATIVE and affinity(declared.declared) == "real"):
                parts.append(column)
            elif family in _NATIVE:
                kept = f"{column} BETWEEN -9007199254740992 AND 9007199254740992"
                parts.append(f"CASE WHEN {kept} THEN CAST({column} AS REAL) WHEN {column} IS NOT NULL THEN 'x' END")
            else:
                parts.append(f"CAST({column} AS TEXT)")
            samples.append(_NATIVE[family][2] if family in _NATIVE else "''")
        limit = -1 if reading.limit is None else reading.limit
        inner = f"SELECT {', '.join(parts)}, {number} FROM {quote(reading.table.name)} ORDER BY {number} LIMIT {limit}"
        return f"SELECT {', '.join(samples)}, 0 UNION ALL SELECT * FROM ({inner})"

    def _typed_select(
        self, reading: Reading, names: list[str], stored: dict[str, SqlType], beyond: str | None = None
    ) -> str:
        """A SELECT that gives each column in one storage class, and a last column with the values of others.

        The driver takes a column's type from the first rows, so a row of known types is put before them.
        """
        source = f"({reading.query.rstrip().rstrip(';')})" if reading.query is not None else quote(reading.table.name)
        parts, strays, samples = [], [], []
        for place, name in enumerate(names):
            column = quote(name)
            native = _NATIVE.get(stored[name].family)
            if native is None:
                parts.append(f"CAST({column} AS TEXT)")
                samples.append("''")
                continue
            fits, value = (part.format(c=column) for part in native[:2])
            parts.append(f"CASE WHEN {fits} THEN {value} END")
            strays.append((f"({column} IS NOT NULL AND NOT {fits})", f"'{place}'", column))
            samples.append(native[2])
        if strays:
            found = " OR ".join(condition for condition, _, _ in strays)
            pairs = ", ".join(
                f"{place}, CASE WHEN {condition} THEN CAST({column} AS TEXT) END" for condition, place, column in strays
            )
            parts.append(f"CASE WHEN {found} THEN json_object({pairs}) END")
        else:
            parts.append("CAST(NULL AS TEXT)")
        samples.append("''")
        order = f" ORDER BY {', '.join(quote(name) for name in reading.order_by)}" if reading.order_by else ""
        # Without a LIMIT, SQLite may drop the order of an inner SELECT.
        limit = f" LIMIT {-1 if reading.limit is None else reading.limit}" if order or reading.limit is not None else ""
        conditions = [_window_condition(window) for window in reading.windows] + ([beyond] if beyond else [])
        if reading.last:
            after = _beyond([quote(name) for name in reading.order_by], reading.last)
            conditions.append(f"NOT ({after})" if reading.up_to_last else after)
        where = f" WHERE {' AND '.join(f'({condition})' for condition in conditions)}" if conditions else ""
        inner = f"SELECT {', '.join(parts)} FROM {source} AS q{where}{order}{limit}"
        return f"SELECT {', '.join(samples)} UNION ALL SELECT * FROM ({inner})"

    # --- writing ---------------------------------------------------------------------------------------------------

    def storable(self, table: TableInfo, rows: pa.RecordBatch) -> tuple[pa.RecordBatch, list[tuple[str, Fault]]]:
        faults: list[tuple[str, Fault]] = []
        columns = []
        for name, values in zip(rows.schema.names, rows.columns, strict=True):
            info = table.column(name)
            stored, found = _stored_form(values, affinity(info.declared) if info else "blob", info)
            columns.append(stored)
            faults.extend((name, fault) for fault in found)
        return pa.RecordBatch.from_arrays(columns, names=rows.schema.names), faults

    @contextlib.contextmanager
    def load(self) -> Iterator[Load]:
        with self.arrow() as connection:
            load = SQLiteLoad(self, connection)
            try:
                yield load
            finally:
                load.close()


class SQLiteLoad(Load):
    """A transaction through the Arrow driver."""

    database: SQLite

    def __init__(self, database: SQLite, connection: Any) -> None:
        self.arrow = connection
        self.cursor = connection.cursor()
        super().__init__(database)

    def begin(self) -> None:
        # The driver begins a transaction at once, within which foreign keys cannot be switched on.
        self.arrow.adbc_connection.set_autocommit(True)
        self._deferred = False
        self.fetch("PRAGMA foreign_keys = ON")
        self.arrow.adbc_connection.set_autocommit(False)

    def statement(self, sql: str) -> int:
        """Run one statement; the number of rows it changed, where it changes rows. Raises the driver's errors."""
        self.fetch(sql)
        return int(self.fetch("SELECT changes()")[0][0])

    def fetch(self, sql: str) -> list[Any]:
        """The rows that a query finds. Raises the driver's errors."""
        self.cursor.execute(sql)
        rows: list[Any] = self.cursor.fetchall()
        return rows

    def execute(self, statement: Any, counted: bool = True) -> int:
        return self.run_sql(self.database.compiled(statement))

    def run_sql(self, sql: str) -> int:
        try:
            return sum(self.statement(statement) for statement in split_statements(sql))
        except driver_errors() as error:
            raise self.database.driver_failure(error) from None

    def scalar(self, query: sa.Select[Any]) -> Any:
        try:
            rows = self.fetch(self.database.compiled(query))
        except driver_errors() as error:
            raise self.database.driver_failure(error) from None
        return rows[0][0] if rows else None

    def empty(self, table: sa.Table) -> int:
        # Rows of other tables may refer to these; what matters is that they do so again when the load commits.
        # (Switching the deferral off again would forget what it has deferred.)
        if self.fetch(
            "SELECT 1 FROM sqlite_master AS m, pragma_foreign_key_list(m.name) AS k "
            f'WHERE lower(k."table") = lower({text_literal(table.name)}) LIMIT 1'
        ):
            self.fetch("PRAGMA defer_foreign_keys = ON")
            self._deferred = True
        return self.execute(table.delete())

    def insert(self, table: sa.Table, packed: Any) -> None:
        temporary = bool(table.info.get("temporary"))
        with self._all_or_nothing():
            self.cursor.adbc_ingest(table.name, packed, mode="append", temporary=temporary)

    def attempt(self, *statements: Any) -> list[int]:
        with self._all_or_nothing():
            return [self.statement(self.database.compiled(statement)) for statement in statements]
        raise AssertionError

    @contextlib.contextmanager
    def _all_or_nothing(self) -> Iterator[None]:
        try:
            self.fetch("SAVEPOINT kanal")
            yield
            self.fetch("RELEASE SAVEPOINT kanal")
        except driver_errors() as error:
            words = self.database.driver_words(error)
            if "constraint" not in words.lower() and "datatype mismatch" not in words:
                raise self.database.driver_failure(error) from None
            self.run_sql("ROLLBACK TO SAVEPOINT kanal; RELEASE SAVEPOINT kanal")
            raise RowsRefused(words) from None

    def create_stage(self, table: TableInfo, columns: Sequence[str], key: Sequence[str], name: str) -> sa.Table:
        declared = {column.name: column.declared for column in table.columns}
        body = ", ".join(f"{quote(column)} {declared[column]}" for column in columns)
        number = row_column(columns)
        self.run_sql(f"CREATE TEMP TABLE {quote(name)} ({body}, {number} INTEGER PRIMARY KEY)")
        self.run_sql(f"CREATE INDEX temp.{quote(name + '_key')} ON {quote(name)} ({', '.join(map(quote, key))})")
        columns = [*columns, number]
        info = {"temporary": True}
        return sa.Table(name, sa.MetaData(), *(sa.Column(column) for column in columns), schema="temp", info=info)

    def drop_stage(self, stage: sa.Table) -> None:
        self.run_sql(f"DROP TABLE temp.{quote(stage.name)}")

    def cancel(self) -> None:
        with contextlib.suppress(*driver_errors()):
            self.cursor.adbc_cancel()

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


#: Dates and times with a zone may differ by so much from what their text begins with.
_ZONES = dt.timedelta(days=2)


def _window_condition(window: Window) -> str:
    """A condition that holds for all rows of a window, and as few others as the values' many forms allow."""
    column, parts = quote(window.column), []
    for value, sign, spare in ((window.low, ">=", -_ZONES), (window.high, "<", _ZONES)):
        if value is None:
            continue
        if isinstance(value, dt.date):
            day = dt.date(value.year, value.month, value.day)
            with contextlib.suppress(OverflowError):
                parts.append(f"{column} {sign} '{day + spare}' OR {column} < '0' OR typeof({column}) <> 'text'")
        else:
            parts.append(f"{column} {sign} {value} OR typeof({column}) NOT IN ('integer', 'real')")
    return " AND ".join(f"({part})" for part in parts) or "1"


def _text_or_bytes(text: str) -> str | bytes:
    """A text, or the bytes that it was made of, where they are none."""
    given = text.encode("utf-8", "surrogateescape")
    with contextlib.suppress(UnicodeDecodeError):
        return given.decode("utf-8")
    return given


class _Mixed(Exception):
    """A column has values of several storage classes."""


def _row_number(connection: sqlite3.Connection, quoted: str, columns: list[str]) -> str | None:
    """A name for the number of a table's rows that is no column's; None where it has none (WITHOUT ROWID)."""
    names = {"rowid", "_rowid_", "oid"} - {column.casefold() for column in columns}
    for name in sorted(names):
        with contextlib.suppress(sqlite3.OperationalError):
            connection.execute(f"SELECT {name} FROM {quoted} LIMIT 0")
            return name
    return None


def _beyond(columns: Sequence[str], last: Sequence[int | str]) -> str:
    """The condition that columns, taken together, come after these values in their order."""
    values = [str(value) if isinstance(value, int) else text_literal(value) for value in last]
    ways = []
    for place, column in enumerate(columns):
        same = [f"{columns[before]} = {values[before]}" for before in range(place)]
        ways.append(" AND ".join([*same, f"{column} > {values[place]}"]))
    return " OR ".join(f"({way})" for way in ways)


def quote(name: str) -> str:
    """A name as SQLite takes it in any case."""
    return '"' + name.replace('"', '""') + '"'


def text_literal(text: str) -> str:
    """A text as a literal of SQL."""
    return "'" + text.replace("'", "''") + "'"


def split_statements(sql: str) -> list[str]:
    """The statements of a text, parted where SQLite itself sees one complete."""
    statements, current = [], ""
    for piece in re.split(r"(;)", sql):
        current += piece
        if piece == ";" and sqlite3.complete_statement(current):
            statements.append(current.strip())
            current = ""
    if current.strip():
        statements.append(current.strip())
    return [statement for statement in statements if statement.strip(" ;\n\t")]


def _source_batch(rows: pa.RecordBatch, names: list[str], stored: dict[str, SqlType]) -> SourceBatch:
    columns = {name: rows.column(place) for place, name in enumerate(names)}
    strays: dict[str, Strays] = {}
    for name, values in columns.items():
        if pa.types.is_string(values.type):
            columns[name] = valid_text(name, values, strays)
        elif stored[name].family is Family.DECIMAL:
            columns[name] = _decimals(name, values, stored[name], strays)
    return SourceBatch(rows.num_rows, columns, strays)


def _put_strays(batch: SourceBatch, found: pa.Array, names: list[str]) -> None:
    """Add the values that are none of their columns' types, from JSON by the place of the column."""
    if found.null_count < len(found):
        for row in np.flatnonzero(mask_of(found.is_valid())).tolist():
            whole = found[row].as_buffer().to_pybytes().decode("utf-8", "surrogateescape")
            for place, text in json.loads(whole).items():
                if text is not None:
                    batch.strays.setdefault(names[int(place)], {})[row] = _text_or_bytes(text)


def _decimals(name: str, values: pa.Array, target: SqlType, strays: dict[str, Strays]) -> pa.Array:
    """Floating values as the decimals of 15 digits that SQLite shows for them; those that do not fit become strays."""
    numbers = values.fill_null(0.0).to_numpy(zero_copy_only=False)
    scale, precision = target.scale or 0, target.precision or 1
    with np.errstate(all="ignore"):
        scaled = np.rint(numbers * 10.0**scale)
        # n / 10^s is rounded once, so it is the floating value nearest to that decimal.
        near = np.abs(scaled / 10.0**scale - numbers) <= np.abs(numbers) * 5e-16
        good = near & (np.abs(scaled) < 10.0**precision)
    for row in np.flatnonzero(~good).tolist():
        strays.setdefault(name, {})[row] = format(Decimal(f"{numbers[row]:.15g}"), "f")
    keep = good & mask_of(values.is_valid())
    return from_unscaled(np.where(keep, scaled, 0.0).astype(np.int64), target, keep)


#: A text that SQLite would store as a number in a column of numeric affinity.
_NUMERIC_TEXT = r"^\s*[+-]?(?:[0-9]+\.?[0-9]*|\.[0-9]+)(?:[eE][+-]?[0-9]+)?\s*$"


def _stored_form(values: pa.Array, kind: str, info: ColumnInfo | None) -> tuple[pa.Array, list[Fault]]:
    """An array as SQLite stores it, and faults for values that it would change."""
    arrow = values.type
    if pa.types.is_boolean(arrow) or pa.types.is_integer(arrow):
        return values.cast(pa.int64()), []
    if pa.types.is_floating(arrow):
        return _without_nan(values.cast(pa.float64()))
    if pa.types.is_decimal(arrow):
        if kind not in ("text", "blob") and arrow.precision <= _EXACT_DIGITS:
            # SQLite would make the same floating value, or integer, of the text, only slower.
            unscaled = to_unscaled(values)
            return pa.array(unscaled / 10.0**arrow.scale, mask=~mask_of(values.is_valid())), []
        texts = converter(SqlType("decimal", precision=arrow.precision, scale=arrow.scale), TEXT)(values)[0]
        if kind in ("text", "blob"):
            return texts, []
        limit = pa.scalar(Decimal(1).scaleb(_EXACT_DIGITS - arrow.scale)).cast(pa.decimal256(76, arrow.scale))
        message = "SQLite keeps 15 digits of a number: declare the column TEXT to keep them all"
        return _refused(texts, ~mask_of(pc.less(pc.abs(values), limit)), Reason.OUT_OF_RANGE, message)
    if pa.types.is_temporal(arrow):
        names = {"date32[day]": "date", "time64[us]": "time", "timestamp[us]": "timestamp"}
        sql_type = parse_type(names.get(str(arrow), "timestamp with time zone"))
        return converter(sql_type, TEXT)(values)[0], []
    if pa.types.is_string(arrow) and kind in ("integer", "real", "numeric"):
        message = (
            f"SQLite would store this text as a number in a column declared {info.declared if info else ''}: "
            "declare it TEXT"
        )
        return _refused(values, mask_of(pc.match_substring_regex(values, _NUMERIC_TEXT)), Reason.BAD_TEXT, message)
    return values, []


def _without_nan(values: pa.Array) -> tuple[pa.Array, list[Fault]]:
    nan = mask_of(pc.is_nan(values))
    return _refused(values, nan, Reason.OUT_OF_RANGE, "SQLite would store NaN as NULL: map it with CASE or NULLIF")


def _refused(
    values: pa.Array, bad: np.ndarray[Any, np.dtype[np.bool_]], reason: Reason, message: str
) -> tuple[pa.Array, list[Fault]]:
    rows = np.flatnonzero(bad & mask_of(values.is_valid())).tolist()
    return values, [Fault(row, reason, str(values[row].as_py()), message) for row in rows]


__all__ = ["SQLite"]
