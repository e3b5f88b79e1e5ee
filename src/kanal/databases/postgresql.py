"""PostgreSQL, read and written through its Arrow driver, which uses COPY in binary form both ways."""

from __future__ import annotations

import contextlib
import re
import warnings
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any, cast

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import sqlalchemy as sa
from sqlalchemy.dialects import postgresql as dialect
from sqlalchemy.dialects.postgresql import psycopg as psycopg_dialect

from kanal.core.arrays import mask_of, patch, text_bytes, valid_mask
from kanal.core.conversions import converter
from kanal.core.faults import Fault
from kanal.core.frame import SourceBatch, Strays
from kanal.core.reasons import Reason
from kanal.core.types import TEXT, Family, SqlType, parse_type
from kanal.databases.arrow import ArrowDatabase, ArrowLoad, driver_errors
from kanal.databases.base import Database, DatabaseError, Load, Reading, RowsRefused, row_column
from kanal.databases.batches import rebatched
from kanal.databases.description import ColumnInfo, TableInfo

# Types that SQLAlchemy does not know are read and written as text here.
warnings.filterwarnings("ignore", message="Did not recognize type", category=sa.exc.SAWarning)

#: Types whose values the driver takes from Arrow as they are.
_DIRECT = (
    sa.SmallInteger, sa.Integer, sa.Float, sa.Boolean, sa.Date, sa.DateTime, sa.LargeBinary, sa.Uuid, sa.JSON,
    sa.String,
)  # fmt: skip
#: PostgreSQL's name of a type: Kanal's, where a query's columns are described.
_BY_NAME = {
    "int2": "smallint", "int4": "integer", "int8": "bigint", "numeric": "decimal", "float4": "real", "text": "text",
    "float8": "double precision", "bool": "boolean", "varchar": "text", "bpchar": "text", "name": "text",
    "date": "date", "time": "time", "timestamp": "timestamp", "timestamptz": "timestamp with time zone",
    "bytea": "binary", "uuid": "uuid", "json": "json", "jsonb": "json",
}  # fmt: skip
#: What the driver makes of infinite dates and timestamps: days and microseconds, wrapped around.
_INFINITE = {
    -2147472692: "infinity", -2147472691: "-infinity",
    -9222425352054775809: "infinity", -9222425352054775808: "-infinity",
}  # fmt: skip
_DAY = 86_400_000_000
_FIRST, _LAST = -719_162, 2_932_896  # the days of 0001-01-01 and 9999-12-31, counted from 1970


class Declared(sa.types.UserDefinedType[Any]):
    """A type by the text with which it is declared."""

    cache_ok = True

    def __init__(self, text: str) -> None:
        self.text = text

    def get_col_spec(self, **_: Any) -> str:
        """The text."""
        return self.text


def is_direct(declared: Any) -> bool:
    """True for a column whose values the driver takes from Arrow as they are; others go by way of text."""
    if isinstance(declared, sa.Enum | dialect.DOMAIN):
        return False
    if isinstance(declared, sa.Time):
        return not declared.timezone
    if isinstance(declared, sa.Numeric) and not isinstance(declared, sa.Float):
        return declared.precision is not None
    return isinstance(declared, _DIRECT)


class PostgreSQL(ArrowDatabase):
    """A PostgreSQL database."""

    extra = "kanal[postgresql]"
    sql_dialect = psycopg_dialect.PGDialect_psycopg(paramstyle="named")  # type: ignore[no-untyped-call]

    def __init__(self, name: str, url: sa.URL) -> None:
        super().__init__(name, url.set(drivername="postgresql+psycopg"))
        self._idle: list[Any] = []

    def connect_arguments(self) -> dict[str, Any]:
        given = self.url.query
        settings = {"connect_timeout": "15", "application_name": "kanal"}
        return {name: value for name, value in settings.items() if name not in given}

    @contextlib.contextmanager
    def arrow(self) -> Iterator[Any]:
        connection = self._idle.pop() if self._idle else self._connect()
        try:
            yield connection
        except BaseException as error:
            with contextlib.suppress(Exception):
                connection.close()
            if isinstance(error, driver_errors()):
                raise self.driver_failure(error) from None
            raise
        # Connecting takes the driver so long that steps do it one after the other with the same connections.
        self._idle.append(connection)

    def _connect(self) -> Any:
        try:
            import adbc_driver_postgresql.dbapi
        except ImportError as error:
            raise DatabaseError(
                f"connection {self.name}: the driver {error.name} is not installed", f"install {self.extra}"
            ) from None
        url = self.url.set(drivername="postgresql").update_query_dict(
            self.connect_arguments() | {"client_encoding": "UTF8"}
        )
        try:
            connection = adbc_driver_postgresql.dbapi.connect(
                url.render_as_string(hide_password=False), autocommit=True
            )
            with connection.cursor() as cursor:
                cursor.adbc_statement.set_sql_query("SET TimeZone = 'UTC'; SET IntervalStyle = 'iso_8601'")
                cursor.adbc_statement.execute_update()
        except driver_errors() as error:
            raise self.driver_failure(error) from None
        return connection

    def dispose(self) -> None:
        super().dispose()
        while self._idle:
            self._idle.pop().close()

    def driver_words(self, error: BaseException) -> str:
        details = dict(getattr(error, "details", None) or ())
        primary = details.get(b"PG_DIAG_MESSAGE_PRIMARY")
        if primary is None:
            return re.sub(r"^[A-Z_]+: \[libpq\] (?:Failed to \w+(?: \w+)*: )?", "", super().driver_words(error))
        super().driver_words(error)
        parts = [primary, details.get(b"PG_DIAG_MESSAGE_DETAIL"), details.get(b"PG_DIAG_MESSAGE_HINT")]
        return ": ".join(" ".join(part.decode("utf-8", "replace").split()) for part in parts if part)

    def driver_refusal(self, error: BaseException) -> RowsRefused | None:
        if not refuses(str(getattr(error, "sqlstate", None) or "")):
            return None
        details = dict(getattr(error, "details", None) or ())
        line = re.search(rb"COPY .*, line (\d+)", details.get(b"PG_DIAG_CONTEXT") or b"")
        return RowsRefused(self.driver_words(error), int(line[1]) - 1 if line else None)

    def shares_lock_with(self, other: Database, reading: Reading | None = None) -> bool:
        # Emptying a table locks it against whoever reads it, this step's own reader among them.
        return reading is not None and reading.table.is_view and _server(self.url) == _server(other.url)

    # --- describing ------------------------------------------------------------------------------------------------

    def describe(self, schema: str | None, table: str) -> TableInfo:
        info = super().describe(schema, table)
        if all(is_direct(column.dialect_type) for column in info.columns):
            return info
        found = sa.table("pg_attribute", sa.column("attname"), sa.column("atttypid"), sa.column("atttypmod"))
        named = self.sql_dialect.identifier_preparer.format_table(self.sa_table(info))
        query = sa.select(found.c.attname, sa.func.format_type(found.c.atttypid, found.c.atttypmod)).where(
            sa.text("attnum > 0 AND NOT attisdropped AND attrelid = to_regclass(:name)").bindparams(name=named)
        )
        with self.errors(), self.engine.connect() as connection:
            texts: dict[str, str] = {row[0]: row[1] for row in connection.execute(query)}

        def exact(column: ColumnInfo) -> ColumnInfo:
            if is_direct(column.dialect_type):
                return column
            return replace(column, declared=texts[column.name], dialect_type=Declared(texts[column.name]))

        return replace(info, columns=tuple(map(exact, info.columns)))

    def sql_type(self, declared: Any) -> SqlType | None:
        if isinstance(declared, sa.Time) and declared.timezone:
            return None
        if isinstance(declared, dialect.DOMAIN):
            return self.sql_type(declared.data_type)
        return super().sql_type(declared)

    def stored_type(self, sql_type: SqlType | None, declared: Any) -> SqlType:
        if sql_type is None or sql_type.family in (Family.DECIMAL, Family.UUID, Family.JSON):
            return TEXT
        return sql_type

    def is_loose(self, sql_type: SqlType | None) -> bool:
        return sql_type is not None and sql_type.family in (Family.DATE, Family.TIMESTAMP, Family.TIMESTAMPTZ)

    def query_column(self, name: str, described: Sequence[Any]) -> ColumnInfo:
        import psycopg

        number = int(described[1])
        found = psycopg.adapters.types.get(number)
        if found is not None and found.oid != number:
            found = None  # an array of that type
        text = _BY_NAME.get(found.name if found else "", "")
        precision, scale = described[4], described[5]
        if text == "decimal" and precision is not None:
            text = f"decimal({precision},{scale or 0})"
        sql_type = parse_type(text) if text else None
        return ColumnInfo(
            name,
            found.name if found else "",
            sql_type,
            self.stored_type(sql_type, None),
            loose=self.is_loose(sql_type),
        )

    def differs(self, left: sa.Column[Any], right: sa.Column[Any]) -> sa.ColumnElement[bool]:
        # Some types, such as json and xml, have no equality; others, such as citext, one that is too kind.
        if not is_direct(left.type) or isinstance(left.type, sa.JSON):
            return sa.cast(left, sa.Text).is_distinct_from(sa.cast(right, sa.Text))
        return left.is_distinct_from(right)

    # --- reading ---------------------------------------------------------------------------------------------------

    def delivered(self, table: TableInfo, column: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
        info = table.column(str(column.key))
        if info is not None and (info.type is None or info.type.family is Family.UUID):
            return sa.cast(column, sa.Text).label(info.name)
        return column

    @contextlib.contextmanager
    def read(self, reading: Reading, within: Load | None = None) -> Iterator[Iterator[SourceBatch]]:
        if not reading.columns:
            reading = replace(reading, columns=(reading.table.names[0],))
        names = list(reading.columns)
        connecting = self.arrow() if within is None else contextlib.nullcontext(cast(ArrowLoad, within).arrow)
        with connecting as connection, connection.cursor() as cursor:
            cursor.adbc_statement.set_options(**{"adbc.postgresql.batch_size_hint_bytes": str(_BATCH_BYTES)})
            cursor.execute(self.compiled(self.selection(reading)))
            reader = cursor.fetch_record_batch()

            def arriving() -> Iterator[pa.RecordBatch]:
                while True:
                    try:
                        yield reader.read_next_batch()
                    except StopIteration:
                        return
                    except (pa.ArrowException, *driver_errors()) as error:
                        raise self.driver_failure(error) from None

            yield (_source_batch(batch, names) for batch in rebatched(arriving(), reading.batch_rows))

    # --- writing ---------------------------------------------------------------------------------------------------

    @contextlib.contextmanager
    def load(self) -> Iterator[Load]:
        with self.arrow() as connection:
            load = PostgreSQLLoad(self, connection)
            try:
                yield load
            finally:
                load.close()


#: Bytes that the driver gathers before it hands rows on.
_BATCH_BYTES = 8 * 1024 * 1024


def refuses(sqlstate: str) -> bool:
    """True for the states of errors by which rows are refused: bad data, broken constraints, raised by a trigger."""
    return sqlstate[:2] in ("22", "23", "44", "P0")


def _server(url: sa.URL) -> tuple[Any, ...]:
    return url.host, url.port or 5432, url.database


class PostgreSQLLoad(ArrowLoad):
    """A transaction through the Arrow driver."""

    database: PostgreSQL
    _open = False

    def begin(self) -> None:
        self.statement("BEGIN")
        self._open = True
        self._by_text: dict[str, sa.Table] = {}

    def statement(self, sql: str) -> int:
        self.cursor.adbc_statement.set_sql_query(sql)
        return int(self.cursor.adbc_statement.execute_update())

    def empty(self, table: sa.Table) -> int:
        name = self.database.sql_dialect.identifier_preparer.format_table(table)
        info = TableInfo(table.schema, table.name, ())
        asked = [sa.literal(text, sa.Text) for text in (name, "TRUNCATE")]
        may = self.scalar(sa.select(sa.func.has_table_privilege(*asked)))
        if self.database.referring(info) or not may:
            return self.execute(table.delete())
        self.run_sql(f"LOCK TABLE {name} IN ACCESS EXCLUSIVE MODE")
        rows = int(self.scalar(sa.select(sa.func.count()).select_from(table)))
        self.run_sql(f"TRUNCATE TABLE {name}")
        return rows

    def storable(self, table: TableInfo, rows: pa.RecordBatch) -> tuple[pa.RecordBatch, list[tuple[str, Fault]]]:
        columns, faults = [], []
        for name, values in zip(rows.schema.names, rows.columns, strict=True):
            info = table.column(name)
            stored, found = _stored_form(values, info.dialect_type if info else None)
            columns.append(stored)
            faults += [(name, fault) for fault in found]
        return pa.RecordBatch.from_arrays(columns, names=rows.schema.names), faults

    def ingest(self, table: sa.Table, rows: pa.RecordBatch) -> None:
        names = rows.schema.names
        if all(is_direct(table.c[name].type) for name in names):
            super().ingest(table, rows)
            return
        texts = self._texts_for(table, names)
        super().ingest(texts, rows)
        values = sa.select(
            *(
                texts.c[name] if is_direct(table.c[name].type) else sa.cast(texts.c[name], table.c[name].type)
                for name in names
            )
        )
        self.statement(self.database.compiled(table.insert().from_select(names, values, include_defaults=False)))
        self.statement(self.database.compiled(texts.delete()))

    def _texts_for(self, table: sa.Table, names: Sequence[str]) -> sa.Table:
        """A temporary table that takes as text the values of types that the driver cannot write."""
        if table.name not in self._by_text:
            columns = (
                sa.Column(name, kind if is_direct(kind := table.c[name].type) else sa.Text, autoincrement=False)
                for name in names
            )
            texts = sa.Table(
                f"kanal_text_{len(self._by_text)}",
                sa.MetaData(),
                *columns,
                prefixes=["TEMPORARY"],
                info={"temporary": True},
                postgresql_on_commit="DROP",
            )
            self.statement(self.database.compiled(sa.schema.CreateTable(texts)))
            self._by_text[table.name] = texts
        return self._by_text[table.name]

    def create_stage(self, table: TableInfo, columns: Sequence[str], key: Sequence[str], name: str) -> sa.Table:
        stage = self.stage_table(table, columns, name)
        real = self.database.sa_table(table)
        number = sa.cast(sa.null(), sa.BigInteger).label(row_column(columns))
        query = self.database.compiled(sa.select(*(real.c[column] for column in columns), number))
        self.run_sql(f"CREATE TEMPORARY TABLE {name} ON COMMIT DROP AS {query} WITH NO DATA")
        return stage

    def settle_stage(self, stage: sa.Table) -> None:
        self.run_sql(f"ANALYZE {stage.name}; SET LOCAL work_mem = '64MB'")

    def finish(self) -> None:
        self.statement("COMMIT")
        self._open = False

    def close(self) -> None:
        with contextlib.suppress(*driver_errors()):
            if self._open:
                self.statement("ROLLBACK")
        with contextlib.suppress(*driver_errors()):
            self.cursor.close()


# --- what comes from the driver, and what goes to it ----------------------------------------------------------------


def _source_batch(rows: pa.RecordBatch, names: list[str]) -> SourceBatch:
    columns: dict[str, pa.Array] = {}
    strays: dict[str, Strays] = {}
    for place, name in enumerate(names):
        values = rows.column(place)
        if isinstance(values, pa.ExtensionArray):
            values = values.storage
        if pa.types.is_date32(values.type) or pa.types.is_timestamp(values.type):
            values = _within_years(name, values, strays)
        columns[name] = values
    return SourceBatch(rows.num_rows, columns, strays)


def _within_years(name: str, values: pa.Array, strays: dict[str, Strays]) -> pa.Array:
    """Dates or timestamps of the years 1 to 9999; others become strays."""
    is_date = pa.types.is_date32(values.type)
    unit = 1 if is_date else _DAY
    numbers = values.cast(pa.int32() if is_date else pa.int64())
    bounds = pc.min_max(numbers).as_py()
    if bounds["min"] is None or (bounds["min"] >= _FIRST * unit and bounds["max"] < (_LAST + 1) * unit):
        return values
    found = numbers.fill_null(0).to_numpy(zero_copy_only=False)
    beyond = (found < _FIRST * unit) | (found >= (_LAST + 1) * unit)
    for row in np.flatnonzero(beyond).tolist():
        number = int(found[row])
        side = "before the year 1" if number < 0 else "after the year 9999"
        strays.setdefault(name, {})[row] = _INFINITE.get(number, side)
    return pc.if_else(pa.array(beyond), pa.scalar(None, values.type), values)


def _stored_form(values: pa.Array, declared: Any) -> tuple[pa.Array, list[Fault]]:
    """An array as the driver takes it for a column, and faults for values that the column could not hold."""
    if isinstance(declared, sa.Uuid) and pa.types.is_string(values.type):
        return _uuid_bytes(values), []
    if not is_direct(declared):
        return _plain_text(values)
    if isinstance(declared, dialect.JSONB):
        binary = values.cast(pa.binary())
        return pc.binary_join_element_wise(pa.scalar(b"\x01"), binary, pa.scalar(b"")), []
    if pa.types.is_string(values.type):
        return values, _with_zero_character(values)
    if pa.types.is_temporal(values.type):
        return values, _too_fine(values, getattr(declared, "precision", None))
    return values, []


def _plain_text(values: pa.Array) -> tuple[pa.Array, list[Fault]]:
    """Values as the text that a type's own reader in the server takes."""
    if pa.types.is_string(values.type):
        return values, _with_zero_character(values)
    if pa.types.is_decimal(values.type):
        texts = converter(parse_type(f"decimal({values.type.precision},{values.type.scale})"), TEXT)(values)[0]
        trimmed = pc.replace_substring_regex(texts, r"(\.[0-9]*?)0+$", r"\1")
        return pc.replace_substring_regex(trimmed, r"\.$", ""), []
    if pa.types.is_binary(values.type):
        return patch(
            pa.nulls(len(values), pa.string()),
            np.flatnonzero(valid_mask(values)),
            ["\\x" + value.hex() for value in values.drop_null().to_pylist()],
        ), []
    return values.cast(pa.string()), []


def _with_zero_character(values: pa.Array) -> list[Fault]:
    content, starts = text_bytes(values)
    if not len(values) or not (content[starts[0] : starts[-1]] == 0).any():
        return []
    rows = np.flatnonzero(mask_of(pc.match_substring(values, "\0"))).tolist()
    message = "PostgreSQL's texts cannot hold the character of code 0: take it out, for instance with regexp_replace"
    return [Fault(row, Reason.BAD_TEXT, values[row].as_py(), message) for row in rows]


def _too_fine(values: pa.Array, precision: int | None) -> list[Fault]:
    """Faults for times with more decimals of a second than the column keeps."""
    if precision is None or precision >= 6 or pa.types.is_date(values.type):
        return []
    numbers = values.cast(pa.int64()).fill_null(0).to_numpy(zero_copy_only=False)
    message = f"the column keeps {precision} decimals of a second: widen it, or use date_trunc"
    rows = np.flatnonzero(numbers % 10 ** (6 - precision)).tolist()
    return [Fault(row, Reason.WOULD_ROUND, str(values[row].as_py()), message) for row in rows]


def _uuid_bytes(values: pa.Array) -> pa.Array:
    """UUIDs in their usual text of 36 characters as their 16 bytes."""
    valid = valid_mask(values)
    content, starts = text_bytes(values.filter(pa.array(valid)))
    texts = content[starts[0] : starts[-1]].reshape(-1, 36)[:, _UUID_DIGITS]
    nibbles = np.where(texts >= ord("a"), texts - np.uint8(ord("a") - 10), texts - np.uint8(ord("0")))
    packed = (nibbles[:, 0::2] << 4) | nibbles[:, 1::2]
    found = np.zeros((len(values), 16), dtype=np.uint8)
    found[valid] = packed
    ends = np.arange(0, 16 * len(values) + 1, 16, dtype=np.int32)
    missing = None if valid.all() else pa.py_buffer(np.packbits(valid, bitorder="little"))
    return pa.Array.from_buffers(pa.binary(), len(values), [missing, pa.py_buffer(ends), pa.py_buffer(found)])


_UUID_DIGITS = [place for place in range(36) if place not in (8, 13, 18, 23)]

__all__ = ["PostgreSQL"]
