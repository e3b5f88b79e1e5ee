"""MariaDB and MySQL: read from the packets that the server sends, written by LOAD DATA LOCAL from memory."""

from __future__ import annotations

import contextlib
import datetime as dt
import json
import re
from collections.abc import Iterator
from functools import cached_property, partial
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import sqlalchemy as sa
from msgspec.structs import replace
from sqlalchemy.dialects import mysql as dialect

from kanal.connections.base import Connection
from kanal.connections.batches import valid_text
from kanal.connections.defaults import DefaultValue
from kanal.connections.description import ColumnInfo, TableInfo
from kanal.connections.errors import DatabaseError
from kanal.connections.loading import Load
from kanal.connections.reading import Breaker, Reading
from kanal.connections.roles import Reads, Writes
from kanal.connections.sql.database import SqlDatabase
from kanal.connections.sql.ddl import TableDefinitions
from kanal.connections.sql.load import SqlLoad, sql_load
from kanal.connections.sql.mariadb_access import MariaDBAccess
from kanal.connections.sql.mariadb_catalogue import PARSED, MariaDBCatalogue
from kanal.connections.sql.mariadb_errors import driver_errors
from kanal.connections.sql.mariadb_load import MariaDBLoad, key_prefix
from kanal.connections.sql.mariadb_rows import row_batches
from kanal.connections.sql.mariadb_values import misfits, years
from kanal.connections.sql.named_type import NamedType
from kanal.connections.sql.pymysql_private import give_up_result, is_known, slow_batches
from kanal.connections.sql.selects import Selects
from kanal.connections.sql.text_rows import cast_to_text
from kanal.core.conversions import converter
from kanal.core.errors import KanalError
from kanal.core.faults import Fault
from kanal.core.frame import SourceBatch, Strays
from kanal.core.native import OwnForm, native_texts
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


#: A column's type as SHOW CREATE TABLE has it, and what follows.
_AFTER_TYPE = re.compile(r"\w+(?:\((?:[^()']|'(?:[^']|'')*')*\))?(?: unsigned)?(?: zerofill)?((?: .*)?)", re.DOTALL)


def type_to_make(sql_type: SqlType, in_key: bool) -> Any:
    """The type of a column that holds every value of one of Kanal's, if it is another than ISO SQL's."""
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
        # A key has room for this many characters.
        return sa.String(min(sql_type.length or 255, 700 if in_key else 4_000))
    if sql_type.family in (Family.TEXT, Family.INTERVAL):
        return sa.String(255) if in_key else dialect.LONGTEXT()
    return dialect.DOUBLE() if sql_type.name == "double precision" else None


#: Characters of four bytes that a column of an index may have.
_INDEXED = 768


def _prefix(declared: Any) -> str:
    """How much of a column of that type an index takes."""
    too_long = (getattr(declared, "length", None) or 0) > _INDEXED
    return "(191)" if too_long and isinstance(declared, sa.String | sa.LargeBinary) else key_prefix(declared)


class MariaDBTableDefinitions(TableDefinitions):
    """The tables of a MariaDB database."""

    database: MariaDBAccess

    keeps_types = True
    indexes_long_texts = True

    def like(self, taken: ColumnInfo, in_key: bool) -> ColumnInfo | None:
        if taken.dialect_type is None or (in_key and key_prefix(taken.dialect_type)):
            return None
        if taken.declared.startswith(_GEOMETRIES):
            return None  # it is read as text, which the server does not take for one
        if not self._has_collation(getattr(taken.dialect_type, "collation", None)):
            return None
        if isinstance(taken.dialect_type, sa.types.NullType | sa.Uuid):  # which not every server has
            return replace(taken, dialect_type=NamedType(taken.declared)) if self._has_type(taken.declared) else None
        return taken

    def _has_type(self, declared: str) -> bool:
        with contextlib.suppress(DatabaseError):
            self.database.rows_of(f"SELECT CAST(NULL AS {declared})")
            return True
        return False

    def _has_collation(self, name: str | None) -> bool:
        # Some collations are listed without their character set.
        known = "SELECT 1 FROM information_schema.collations WHERE collation_name IN (:name, :bare) LIMIT 1"
        return name is None or bool(self.database.rows_of(known, name=name, bare=name.partition("_")[2]))

    def checks_values(self, column: ColumnInfo) -> bool:
        return bool(column.values) and not isinstance(column.dialect_type, sa.Enum | dialect.SET)

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
            f"({', '.join(quote(name) + _prefix(types[name]) for name in names)})"
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


class MariaDB(MariaDBAccess, SqlDatabase):
    """A database of a MariaDB or MySQL server."""

    reads = frozenset(Reads) - {Reads.FILES, Reads.SHARED}
    writes = SqlDatabase.writes | {Writes.PORTIONS, Writes.STREAM}
    folds_columns = True

    @cached_property
    def catalogue(self) -> MariaDBCatalogue:
        return MariaDBCatalogue(self)

    @cached_property
    def ddl(self) -> MariaDBTableDefinitions:
        return MariaDBTableDefinitions(self, self.run_command)

    @cached_property
    def selects(self) -> MariaDBSelects:
        return MariaDBSelects(self)

    def can_undo(self, sql: str) -> bool:
        # All others may commit by themselves (MariaDB's manual, "SQL statements That Cause an Implicit Commit").
        words = [statement.split(None, 1)[0].upper() for statement in self.statements(sql)]
        return set(words) <= {"SELECT", "INSERT", "UPDATE", "DELETE", "REPLACE", "WITH", "SET", "DO"}

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
        given = connection if within is None else sql_load(within).connection
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

    def storable(self, table: TableInfo, rows: pa.RecordBatch) -> tuple[pa.RecordBatch, list[tuple[str, Fault]]]:
        faults: list[tuple[str, Fault]] = []
        columns = []
        for name, values in zip(rows.schema.names, rows.columns, strict=True):
            info = table.column(name)
            declared = info.dialect_type if info is not None else None
            faults += [(name, fault) for fault in misfits(values, declared)]
            columns.append(years(values) if isinstance(declared, dialect.YEAR) else values)
        return pa.RecordBatch.from_arrays(columns, names=rows.schema.names), faults

    def own_form(self, column: ColumnInfo, target: Connection, there: ColumnInfo) -> OwnForm | None:
        known = column.type is not None and there.type is not None
        if not known or not isinstance(target, MariaDB) or column.declared.lower() != there.declared.lower():
            return None
        as_text = column.stored == TEXT and column.type != TEXT
        return _own_form if as_text or column.loose or column.stored == TIMESTAMPTZ else None

    def new_load(self) -> SqlLoad:
        return MariaDBLoad(self, self.catalogue, self)


# --- what comes from the server, and what goes to it ----------------------------------------------------------------


def _own_form(values: pa.Array, strays: Strays) -> pa.Array:
    """A column's values as the text that the server sends."""
    return native_texts(cast_to_text(values), strays)


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
