"""SQLite, read and written through its Arrow driver."""

from __future__ import annotations

import contextlib
import os
import re
import sqlite3
from collections.abc import Collection, Iterator, Sequence
from dataclasses import replace
from functools import cached_property
from pathlib import Path
from typing import Any, ClassVar, cast

import pyarrow as pa
import sqlalchemy as sa
from sqlalchemy.dialects import sqlite as dialect

from kanal.core.errors import TypeNameError
from kanal.core.faults import Fault
from kanal.core.frame import SourceBatch
from kanal.core.types import BIGINT, BINARY, DOUBLE, TEXT, Family, SqlType, parse_type
from kanal.databases.arrow import ArrowDatabase, driver_errors
from kanal.databases.base import Database
from kanal.databases.declared import Declared
from kanal.databases.description import About, ColumnInfo, ForeignKey, Right, RowCount, TableInfo
from kanal.databases.errors import DatabaseError, RowsRefused
from kanal.databases.load import Load, row_column
from kanal.databases.reading import Breaker, Reading
from kanal.databases.sqlite_rows import EXACT_DIGITS, RowReader, affinity, quote, stored_form, text_literal

#: In larger files, rows are not counted.
_COUNTED_BYTES = 500_000_000


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
    if sql_type.family is Family.DECIMAL and (sql_type.precision or 0) <= EXACT_DIGITS:
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
            where = f"its folder has: {', '.join(near[:8])}" if near else "correct the URL"
            remedy = f"{where}; a new database begins as an empty file of that name"
            raise DatabaseError(f"connection {self.name}: there is no file {self.path}", remedy)
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
        if sql_type.family is Family.DECIMAL and (sql_type.precision or 0) > EXACT_DIGITS:
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
        connecting = self.arrow() if within is None else contextlib.nullcontext(cast(SQLiteLoad, within).arrow)
        with connecting as connected, connected.cursor() as cursor:
            if breaker is not None:
                breaker.add(cursor.adbc_cancel)
            cursor.adbc_statement.set_options(**{"adbc.sqlite.query.batch_rows": str(reading.batch_rows)})
            yield RowReader(cursor, reading, self._row_numbers.get(reading.table.name), self.driver_failure).batches()

    # --- writing ---------------------------------------------------------------------------------------------------

    def storable(self, table: TableInfo, rows: pa.RecordBatch) -> tuple[pa.RecordBatch, list[tuple[str, Fault]]]:
        faults: list[tuple[str, Fault]] = []
        columns = []
        for name, values in zip(rows.schema.names, rows.columns, strict=True):
            info = table.column(name)
            stored, found = stored_form(values, affinity(info.declared) if info else "blob", info)
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


def _row_number(connection: sqlite3.Connection, quoted: str, columns: list[str]) -> str | None:
    """A name for the number of a table's rows that is no column's; None where it has none (WITHOUT ROWID)."""
    names = {"rowid", "_rowid_", "oid"} - {column.casefold() for column in columns}
    for name in sorted(names):
        with contextlib.suppress(sqlite3.OperationalError):
            connection.execute(f"SELECT {name} FROM {quoted} LIMIT 0")
            return name
    return None
