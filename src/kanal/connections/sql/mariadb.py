"""MariaDB and MySQL: read from the packets that the server sends, written by LOAD DATA LOCAL from memory."""

from __future__ import annotations

import contextlib
import datetime as dt
import json
import math
import re
from collections.abc import Hashable, Iterator
from functools import cached_property, partial
from typing import Any, ClassVar, cast

import pyarrow as pa
import pyarrow.compute as pc
import sqlalchemy as sa
from msgspec.structs import replace
from sqlalchemy import exc
from sqlalchemy.dialects import mysql as dialect

from kanal.connections.batches import valid_text
from kanal.connections.defaults import DefaultValue
from kanal.connections.description import ColumnInfo, TableInfo
from kanal.connections.errors import os_error_passes
from kanal.connections.loading import Load
from kanal.connections.reading import Breaker, Reading
from kanal.connections.roles import Reads, Writes
from kanal.connections.sql.database import SqlDatabase
from kanal.connections.sql.ddl import TableDefinitions
from kanal.connections.sql.load import SqlLoad
from kanal.connections.sql.mariadb_catalogue import PARSED, MariaDBCatalogue
from kanal.connections.sql.mariadb_errors import PASSING, REFUSALS, constraint_in, driver_errors, error_number
from kanal.connections.sql.mariadb_load import MariaDBLoad, key_prefix
from kanal.connections.sql.mariadb_rows import row_batches
from kanal.connections.sql.mariadb_values import exact_form, misfits, years
from kanal.connections.sql.pymysql_private import give_up_result, is_known, notice_silence, slow_batches
from kanal.connections.sql.selects import Selects
from kanal.core.conversions import converter
from kanal.core.errors import KanalError
from kanal.core.faults import Fault
from kanal.core.frame import SourceBatch, Strays
from kanal.core.types import (
    BINARY,
    REAL,
    TEXT,
    TIMESTAMP,
    TIMESTAMPTZ,
    Family,
    SqlType,
)

_GEOMETRIES = ("geometry", "point", "linestring", "polygon", "multi")


#: So many texts are weighed by one question.
_WEIGHED_AT_ONCE = 20_000


_THIS_MACHINE = (None, "localhost", "127.0.0.1", "::1")
_SESSION = (
    "SET time_zone = '+00:00', sql_mode = CONCAT(@@sql_mode, "
    "',STRICT_ALL_TABLES,ERROR_FOR_DIVISION_BY_ZERO,NO_AUTO_VALUE_ON_ZERO')"
)


#: A column's type as SHOW CREATE TABLE has it, and what follows.
_AFTER_TYPE = re.compile(r"\w+(?:\((?:[^()']|'(?:[^']|'')*')*\))?(?: unsigned)?(?: zerofill)?((?: .*)?)", re.DOTALL)


def type_to_make(sql_type: SqlType, in_key: bool) -> Any:
    """The type of a column that holds every value of one of Kanal's, where it is another than ISO SQL's."""
    made = {
        Family.TIME: dialect.TIME(fsp=6), Family.TIMESTAMP: dialect.DATETIME(fsp=6),
        Family.TIMESTAMPTZ: dialect.TIMESTAMP(fsp=6), Family.UUID: sa.CHAR(36), Family.JSON: dialect.LONGTEXT(),
        Family.BINARY: sa.VARBINARY(255) if in_key else dialect.LONGBLOB(),
    }  # fmt: skip
    if sql_type.family in made:
        return made[sql_type.family]
    if sql_type.family is Family.DECIMAL and ((sql_type.precision or 0) > 65 or (sql_type.scale or 0) > 38):
        return sa.VARCHAR(80) if in_key else dialect.LONGTEXT()
    if sql_type.family is Family.TEXT and (sql_type.length or 0) <= 4_000 and (sql_type.length or in_key):
        # A key has room for so many characters.
        return sa.String(min(sql_type.length or 255, 700 if in_key else 4_000))
    if sql_type.family in (Family.TEXT, Family.INTERVAL):
        return sa.String(255) if in_key else dialect.LONGTEXT()
    return dialect.DOUBLE() if sql_type.name == "double precision" else None


class MariaDBTableDefinitions(TableDefinitions):
    """The tables of a MariaDB database."""

    database: MariaDB

    def column_type(self, sql_type: SqlType, in_key: bool) -> Any:
        return type_to_make(sql_type, in_key) or super().column_type(sql_type, in_key)

    def default(self, column: ColumnInfo, value: DefaultValue) -> str | None:
        made = super().default(column, value)
        if made is not None and value.moment == "CURRENT_TIMESTAMP":
            return f"{made}(6)"
        return f"({made})" if made is not None and value.moment is not None else made

    def alteration(self, table: TableInfo, column: ColumnInfo) -> str | None:
        there = table.column(column.name)
        if there is None:
            return None
        quote = self.database.sql_dialect.identifier_preparer
        place = quote.format_table(self.database.sa_table(table))
        # MODIFY says all of a column, so what it has besides its type is said again.
        ((_, whole),) = self.database.rows_of(f"SHOW CREATE TABLE {place}")
        name = "`" + there.name.replace("`", "``") + "`"
        line = next((line.strip() for line in whole.split("\n") if line.strip().startswith(f"{name} ")), "")
        said = _AFTER_TYPE.fullmatch(line.rstrip(",").removeprefix(f"{name} "))
        return f"ALTER TABLE {place} MODIFY COLUMN {name} {column.declared}{said[1]}" if said else None

    def definitions(self, table: TableInfo) -> list[str]:
        # In one statement, which the server does wholly or not at all; its DDL knows no transaction.
        whole, *indexes = super().definitions(replace(table, indexes=())), *table.indexes
        quote = self.database.sql_dialect.identifier_preparer.quote
        types = {column.name: column.dialect_type for column in table.columns}
        keys = [
            f"    KEY {quote('_'.join((table.name, *names))[:60])} "
            f"({', '.join(quote(name) + key_prefix(types[name]) for name in names)})"
            for names in indexes
        ]
        body, _, end = whole[0].rpartition("\n)")
        return ["".join([",\n".join([body.rstrip(" "), *keys]), "\n)", end])] if keys else whole


class MariaDBSelects(Selects):
    """What is asked for in another form than the column has."""

    def delivered(self, table: TableInfo, column: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
        info = table.column(str(column.key))
        if info is None:
            return column
        if info.type is None and info.declared.startswith(_GEOMETRIES):
            return sa.func.ST_AsText(column).label(info.name)
        if isinstance(info.dialect_type, dialect.BIT):
            return (column + sa.literal_column("0")).label(info.name)
        if info.type == REAL:
            # As it is, the server would send 6 digits of it.
            return (column + sa.literal_column("0e0")).label(info.name)
        return column

    def bytewise(self, column: Any) -> Any:
        in_utf8 = sa.func.convert(column.op("USING")(sa.literal_column("utf8mb4")))
        return sa.type_coerce(sa.cast(in_utf8, dialect.BINARY()), sa.String())

    def ordinary(self, column: sa.ColumnElement[Any]) -> list[sa.ColumnElement[bool]]:
        return [column >= sa.literal_column("'0001-01-01'")]

    def comparable(self, value: Any) -> Any:
        # The session's time zone is UTC; a zone in a text is not understood.
        if isinstance(value, dt.datetime) and value.tzinfo is not None:
            return value.astimezone(dt.UTC).replace(tzinfo=None)
        return value


class MariaDB(SqlDatabase):
    """A database of a MariaDB or MySQL server."""

    extra = "kanal[mariadb]"
    port = 3306
    drivers = frozenset({"pymysql"})
    on_connect = staticmethod(notice_silence)
    reads = frozenset(Reads) - {Reads.FILES, Reads.SHARED}
    writes = SqlDatabase.writes | {Writes.PORTIONS, Writes.STREAM}
    folds_columns = True
    pooling: ClassVar[dict[str, Any]] = {}
    looks_after = True
    checks_each_row = True
    sql_name = "mysql"
    sql_dialect = dialect.dialect(paramstyle="named")

    def __init__(self, name: str, url: sa.URL) -> None:
        kind = url.drivername.partition("+")[0]
        super().__init__(name, url.set(drivername=f"{kind}+pymysql"))
        self._given = url

    @cached_property
    def catalogue(self) -> MariaDBCatalogue:
        return MariaDBCatalogue(self)

    @cached_property
    def ddl(self) -> MariaDBTableDefinitions:
        return MariaDBTableDefinitions(self)

    @cached_property
    def selects(self) -> MariaDBSelects:
        return MariaDBSelects(self)

    @cached_property
    def identity(self) -> Hashable:
        (row,) = self.rows_of("SELECT @@hostname, @@port, @@datadir, DATABASE()")
        return "mariadb", *row

    def place_of(self, table: TableInfo) -> Hashable:
        *server, database = cast("tuple[Any, ...]", self.identity)
        return *server, table.schema or database, table.name

    def connect_arguments(self) -> dict[str, Any]:
        seconds = math.ceil(self.connect_timeout or 15)
        settings = {"local_infile": True, "charset": "utf8mb4", "connect_timeout": seconds, "init_command": _SESSION}
        if self.lock_timeout is not None:
            wait = math.ceil(self.lock_timeout)
            settings["init_command"] = f"{_SESSION}, innodb_lock_wait_timeout = {wait}, lock_wait_timeout = {wait}"
        if self.url.host in _THIS_MACHINE and not any(name.startswith("ssl") for name in self.url.query):
            # Making ready for TLS takes the driver longer than all the rest, and here nobody listens.
            settings["ssl_disabled"] = True
        return settings

    def refuses(self, error: exc.SQLAlchemyError) -> bool:
        return isinstance(error, exc.IntegrityError | exc.DataError) or error_number(error) in REFUSALS

    def passes(self, error: BaseException) -> bool:
        original = getattr(error, "orig", None) or error
        cause = getattr(original, "original_exception", None) or original
        if isinstance(cause, OSError):
            return os_error_passes(cause)
        return isinstance(cause, EOFError) or error_number(original) in PASSING or super().passes(error)

    def words_of(self, error: BaseException) -> str:
        original = getattr(error, "orig", None) or error
        if len(original.args) == 2 and isinstance(original.args[0], int):
            return " ".join(self.without_password(str(original.args[1])).split()) or "lost connection to the server"
        return super().words_of(error)

    def can_undo(self, sql: str) -> bool:
        # All others may commit by themselves (MariaDB's manual, "SQL statements That Cause an Implicit Commit").
        words = [statement.split(None, 1)[0].upper() for statement in self.statements(sql)]
        return set(words) <= {"SELECT", "INSERT", "UPDATE", "DELETE", "REPLACE", "WITH", "SET", "DO"}

    def broken_constraint(self, error: BaseException) -> str | None:
        return constraint_in(self.words_of(error))

    def exact(self, column: ColumnInfo, value: Any) -> list[Any]:
        return [exact_form(column, value)]

    def key_form(self, table: TableInfo, name: str, values: pa.Array) -> pa.Array:
        if not pa.types.is_string(values.type):
            return values
        collation = self.catalogue._collations(table).get(name)
        if collation is None or collation == "binary":
            return values
        pads = "nopad" not in collation and "_0900_" not in collation
        values = pc.utf8_rtrim(values, " ") if pads else values
        if collation.endswith("_bin"):
            return values
        # Two texts are equal where their weights are (the server's manual, WEIGHT_STRING).
        weighed = f"WEIGHT_STRING(CONVERT(j.v USING {collation.partition('_')[0]}) COLLATE {collation})"
        sql = (
            f"SELECT HEX({weighed}) FROM JSON_TABLE(:texts, '$[*]' "
            "COLUMNS(n FOR ORDINALITY, v LONGTEXT PATH '$')) AS j "
            "ORDER BY n"
        )
        encoded = values.dictionary_encode()
        texts = encoded.dictionary.to_pylist()
        weights: list[str | None] = []
        for start in range(0, len(texts), _WEIGHED_AT_ONCE):
            asked = json.dumps(texts[start : start + _WEIGHED_AT_ONCE], ensure_ascii=False)
            weights += [row[0] for row in self.rows_of(sql, texts=asked)]
        return pa.array(weights, pa.string()).take(encoded.indices)

    @contextlib.contextmanager
    def _rows(
        self, reading: Reading, within: Load | None = None, breaker: Breaker | None = None, connection: Any = None
    ) -> Iterator[Iterator[SourceBatch]]:
        if not reading.columns:
            reading = replace(reading, columns=(reading.table.names[0],))
        columns = reading.table.chosen(reading.columns)
        kinds = [pa.binary() if column.stored == BINARY else pa.string() for column in columns]
        sql = self.compiled(self.selects.selection(reading))
        given = connection if within is None else cast(SqlLoad, within).connection
        connecting = self.connect() if given is None else contextlib.nullcontext(given)
        with connecting as connected, contextlib.ExitStack() as stack:
            driver: Any = connected.connection.driver_connection
            if breaker is not None:
                stack.enter_context(breaker.knows(partial(self.break_off, driver)))

            def batches() -> Iterator[SourceBatch]:
                try:
                    read = row_batches if is_known(driver) else slow_batches
                    for arrays in read(driver, sql, kinds, reading.batch_rows, reading.batch_bytes):
                        yield _source_batch(columns, arrays)
                except driver_errors() as error:
                    raise self.failed(self.words_of(error), self.passes(error)) from None

            try:
                yield batches()
            finally:
                if within is None and give_up_result(driver):
                    connected.invalidate()

    @contextlib.contextmanager
    def snapshot(self, table: TableInfo, count: int) -> Iterator[list[Any]]:
        name = self.sql_dialect.identifier_preparer.format_table(self.sa_table(table))
        with contextlib.ExitStack() as stack:
            first = stack.enter_context(self.connect())
            connections = [stack.enter_context(self.connect()) for _ in range(count)]
            with self.errors():
                # While nobody can write to the table, all begin to look at it.
                first.exec_driver_sql(f"LOCK TABLES {name.replace('%', '%%')} READ")
                try:
                    for connection in connections:
                        connection.exec_driver_sql("START TRANSACTION WITH CONSISTENT SNAPSHOT")
                finally:
                    first.exec_driver_sql("UNLOCK TABLES")
            yield connections

    def change(self, statement: sa.Executable) -> int:
        # The server commits it by itself: a process that is held up just then leaves no lock.
        with self.errors(), self.connect() as connection:
            return connection.execution_options(isolation_level="AUTOCOMMIT").execute(statement).rowcount

    def end_session(self, session: str) -> None:
        user = sa.text("SELECT count(*) FROM information_schema.processlist "
                       "WHERE id = :id AND user = SUBSTRING_INDEX(CURRENT_USER(), '@', 1)")  # fmt: skip
        with contextlib.suppress(KanalError):  # it may end at this moment
            if self.scalar(user.bindparams(id=int(session))):
                self.run_command(f"KILL {int(session)}")

    def break_off(self, driver: Any) -> None:
        with self.connect() as other:
            other.exec_driver_sql(f"KILL QUERY {int(driver.thread_id())}")

    def storable(self, table: TableInfo, rows: pa.RecordBatch) -> tuple[pa.RecordBatch, list[tuple[str, Fault]]]:
        faults: list[tuple[str, Fault]] = []
        columns = []
        for name, values in zip(rows.schema.names, rows.columns, strict=True):
            info = table.column(name)
            declared = info.dialect_type if info is not None else None
            faults += [(name, fault) for fault in misfits(values, declared)]
            columns.append(years(values) if isinstance(declared, dialect.YEAR) else values)
        return pa.RecordBatch.from_arrays(columns, names=rows.schema.names), faults

    def new_load(self) -> SqlLoad:
        return MariaDBLoad(self)


# --- what comes from the server, and what goes to it ----------------------------------------------------------------


def _source_batch(columns: list[ColumnInfo], arrays: list[pa.Array]) -> SourceBatch:
    found: dict[str, pa.Array] = {}
    strays: dict[str, Strays] = {}
    for column, values in zip(columns, arrays, strict=True):
        parsed = values
        if column.stored.family in PARSED:
            parsed = pc.cast(values, pa.float64()).cast(pa.float32()) if column.stored == REAL else values
            parsed = parsed.cast(column.stored.arrow)
        elif column.stored == TIMESTAMPTZ:
            moments, faults = converter(TEXT, TIMESTAMP)(values)
            strays[column.name] = {fault.row: fault.value or "" for fault in faults}
            parsed = moments.cast(TIMESTAMPTZ.arrow)
        elif column.loose:
            parsed = valid_text(column.name, values, strays)
        found[column.name] = parsed
    return SourceBatch(len(arrays[0]), found, {name: some for name, some in strays.items() if some})


__all__ = ["MariaDB"]
