"""PostgreSQL, by COPY in binary form both ways: read through its Arrow driver, written by way of psycopg."""

from __future__ import annotations

import contextlib
import math
import re
import time
import warnings
from collections.abc import Iterator, Sequence
from dataclasses import replace
from functools import cached_property
from typing import Any, ClassVar

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import sqlalchemy as sa
from sqlalchemy.dialects import postgresql as dialect

from kanal.core.arrays import from_unscaled, mask_of, text_bytes, valid_mask
from kanal.core.errors import TypeNameError
from kanal.core.faults import Fault
from kanal.core.frame import SourceBatch, Strays
from kanal.core.reasons import Reason
from kanal.core.types import TEXT, WIDE_DECIMAL, Family, SqlType, parse_type
from kanal.databases.arrow import ArrowDatabase, driver_errors
from kanal.databases.base import Database
from kanal.databases.batches import rebatched
from kanal.databases.copy_binary import MAX_DIGITS, binary_rows, takes
from kanal.databases.declared import Declared
from kanal.databases.description import About, ColumnInfo, Right, RowCount, TableInfo
from kanal.databases.errors import DatabaseError, RowsRefused
from kanal.databases.load import Load, row_column
from kanal.databases.reading import Breaker, Reading
from kanal.databases.text_rows import as_text, text_rows

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
_DAY = 86_400_000_000
#: What the driver makes of infinite dates and timestamps, in days and microseconds wrapped around; the end of a day.
_OUT_OF_RANGE = {
    -2147472692: "infinity", -2147472691: "-infinity",
    -9222425352054775809: "infinity", -9222425352054775808: "-infinity", _DAY: "24:00:00",
}  # fmt: skip
#: What a NaN comes as among whole numbers of at most 18 digits.
_NOT_A_NUMBER = -(2**63)
_FIRST, _LAST = -719_162, 2_932_896  # the days of 0001-01-01 and 9999-12-31, counted from 1970


def is_direct(declared: Any) -> bool:
    """True for a column whose values the driver takes from Arrow as they are; others go by way of text."""
    if isinstance(declared, sa.Enum | dialect.DOMAIN):
        return False
    if isinstance(declared, sa.Time):
        return not declared.timezone
    if isinstance(declared, sa.Numeric) and not isinstance(declared, sa.Float):
        return declared.precision is not None
    return isinstance(declared, _DIRECT)


def _comes_whole(sql_type: SqlType) -> bool:
    """True for decimals of at most 18 digits, which are read as whole numbers of their last digit."""
    return sql_type.family is Family.DECIMAL and (sql_type.precision or 0) <= MAX_DIGITS


class PostgreSQL(ArrowDatabase):
    """A PostgreSQL database."""

    extra = "kanal[postgresql]"
    port = 5432
    splits = True
    system_schemas = ("information_schema", "pg_catalog")
    pooling: ClassVar[dict[str, Any]] = {"pool_pre_ping": True}
    sql_dialect = dialect.dialect(paramstyle="named")  # type: ignore[no-untyped-call]

    def __init__(self, name: str, url: sa.URL) -> None:
        super().__init__(name, url.set(drivername="postgresql+psycopg"))
        self._given = url
        self._idle: list[tuple[float, Any]] = []

    def connect_arguments(self) -> dict[str, Any]:
        given = self.url.query
        settings = {"connect_timeout": str(math.ceil(self.connect_timeout or 15)), "application_name": "kanal"}
        settings = {name: value for name, value in settings.items() if name not in given}
        if self.lock_timeout is not None:
            before = given.get("options")
            options = [before] if isinstance(before, str) else list(before or ())
            settings["options"] = " ".join([*options, f"-c lock_timeout={round(self.lock_timeout * 1000)}"])
        return settings

    @contextlib.contextmanager
    def arrow(self) -> Iterator[Any]:
        connection = self._taken() or self._connect()
        try:
            yield connection
        except BaseException as error:
            with contextlib.suppress(Exception):
                connection.close()
            if isinstance(error, driver_errors()):
                raise self.driver_failure(error) from None
            raise
        # Connecting takes the driver so long that steps do it one after the other with the same connections.
        self._idle.append((time.monotonic(), connection))

    def _taken(self) -> Any:
        """A connection that has not been idle for long, if there is one."""
        while self._idle:
            since, connection = self._idle.pop()
            if time.monotonic() - since < _IDLE_SECONDS:
                return connection
            with contextlib.suppress(*driver_errors()):
                connection.close()
        return None

    def _connect(self) -> Any:
        try:
            import adbc_driver_postgresql.dbapi
            from psycopg.conninfo import make_conninfo
        except ImportError as error:
            raise DatabaseError(
                f"connection {self.name}: the driver {error.name} is not installed", f"install {self.extra}"
            ) from None
        given = dict(self.engine.dialect.create_connect_args(self.url)[1])
        given.pop("context", None)  # which is for SQLAlchemy alone
        parts = make_conninfo(**(given | self.connect_arguments() | {"client_encoding": "UTF8"}))
        try:
            connection = adbc_driver_postgresql.dbapi.connect(parts, autocommit=True)
            _tell(connection, "SET TimeZone = 'UTC'; SET IntervalStyle = 'iso_8601'")
        except driver_errors() as error:
            raise self.driver_failure(error) from None
        return connection

    def dispose(self) -> None:
        super().dispose()
        while self._idle:
            self._idle.pop()[1].close()

    def driver_words(self, error: BaseException) -> str:
        details = dict(getattr(error, "details", None) or ())
        primary = details.get(b"PG_DIAG_MESSAGE_PRIMARY")
        if primary is None:
            return re.sub(r"^[A-Z_]+: \[libpq\] (?:Failed to \w+(?: \w+)*: )?", "", super().driver_words(error))
        super().driver_words(error)
        parts = [primary, details.get(b"PG_DIAG_MESSAGE_DETAIL"), details.get(b"PG_DIAG_MESSAGE_HINT")]
        return ": ".join(" ".join(part.decode("utf-8", "replace").split()) for part in parts if part)

    def refuses(self, error: sa.exc.SQLAlchemyError) -> bool:
        return refuses(str(getattr(getattr(error, "orig", None), "sqlstate", None) or ""))

    def words_of(self, error: BaseException) -> str:
        original = getattr(error, "orig", None) or error
        said = getattr(original, "diag", None)
        parts = [said.message_primary, said.message_detail, said.message_hint] if said is not None else []
        return ": ".join(" ".join(part.split()) for part in parts if part) or super().words_of(error)

    def shares_lock_with(self, other: Database, reading: Reading | None = None, table: str = "") -> bool:
        # Emptying a table locks it against whoever reads it, this step's own reader among them.
        if reading is None or _server(self.url) != _server(other.url):
            return False
        return reading.table.is_view or reading.table.name == table

    # --- what there is ---------------------------------------------------------------------------------------------

    def about(self) -> About:
        (row,) = self.rows_of(
            "SELECT current_setting('server_version'), current_setting('server_encoding'), current_setting('TimeZone')"
        )
        return About("PostgreSQL", row[0], "psycopg and Arrow", row[1], row[2])

    def rights(self, schema: str | None = None) -> list[Right]:
        (row,) = self.rows_of(
            "SELECT s, has_schema_privilege(s, 'USAGE'), has_schema_privilege(s, 'CREATE'), "
            "has_database_privilege(current_database(), 'TEMP'), current_user, current_database() "
            "FROM (SELECT COALESCE(CAST(:schema AS text), current_schema()) AS s) AS q",
            schema=schema,
        )
        place, user = row[0], row[4]
        if place is None:
            return [Right("use a schema", False, f"GRANT USAGE ON SCHEMA public TO {user}")]
        found = [
            Right(f"use schema {place}", row[1], f"GRANT USAGE ON SCHEMA {place} TO {user}"),
            Right("create tables", row[2], f"GRANT CREATE ON SCHEMA {place} TO {user}"),
            Right("temporary tables (for merges)", row[3], f"GRANT TEMP ON DATABASE {row[5]} TO {user}"),
        ]
        kinds = ("SELECT", "INSERT", "UPDATE", "DELETE", "TRUNCATE")
        counts = ", ".join(f"count(*) FILTER (WHERE has_table_privilege(c.oid, '{kind}'))" for kind in kinds)
        (sums,) = self.rows_of(
            f"SELECT count(*), {counts} FROM pg_class AS c JOIN pg_namespace AS n ON n.oid = c.relnamespace "
            "WHERE n.nspname = :place AND c.relkind IN ('r', 'p')",
            place=place,
        )
        for kind, count in zip(kinds, sums[1:], strict=True):
            shown = kind.lower() if count in (0, sums[0]) else f"{kind.lower()} in {count} of {sums[0]} tables"
            ask = f"GRANT {kind} ON ALL TABLES IN SCHEMA {place} TO {user}"
            found.append(Right(shown, count == sums[0], ask))
        return found

    def table_rights(self, table: TableInfo) -> dict[str, bool]:
        kinds = ("select", "insert", "update", "delete")
        asked = ", ".join(f"has_table_privilege(:name, '{kind}')" for kind in kinds)
        name = self.sql_dialect.identifier_preparer.format_table(self.sa_table(table))
        return dict(zip(kinds, self.rows_of(f"SELECT {asked}", name=name)[0], strict=True))

    def other_databases(self) -> list[str]:
        for name in ("postgres", "template1"):
            with contextlib.suppress(DatabaseError):
                other = PostgreSQL(self.name, self.url.set(database=name))
                return [row[0] for row in other.rows_of("SELECT datname FROM pg_database WHERE NOT datistemplate")]
        return []

    def row_counts(self, schema: str | None, names: Sequence[str]) -> dict[str, RowCount]:
        rows = self.rows_of(
            "SELECT c.relname, c.reltuples, c.relkind, c.relpages FROM pg_class AS c "
            "JOIN pg_namespace AS n ON n.oid = c.relnamespace "
            "WHERE n.nspname = COALESCE(CAST(:schema AS text), current_schema())",
            schema=schema,
        )
        large = {row[0]: int(row[1]) for row in rows if row[2] in ("r", "p", "m") and row[1] > _COUNTED}
        return {
            name: RowCount(large[name], exact=False) if name in large else self.counted(schema, name) for name in names
        }

    # --- describing ------------------------------------------------------------------------------------------------

    def _find_names(self, schema: str | None) -> tuple[list[str], list[str]]:
        where = "n.nspname = :schema" if schema else "pg_table_is_visible(c.oid) AND n.nspname <> 'pg_catalog'"
        rows = self.rows_of(
            "SELECT c.relname, c.relkind IN ('v', 'm'), p.relname FROM pg_class AS c "
            "JOIN pg_namespace AS n ON n.oid = c.relnamespace "
            "LEFT JOIN pg_inherits AS i ON i.inhrelid = c.oid AND c.relispartition "
            "LEFT JOIN pg_class AS p ON p.oid = i.inhparent "
            f"WHERE c.relkind IN ('r', 'p', 'f', 'v', 'm') AND c.relpersistence <> 't' AND {where}",
            **({"schema": schema} if schema else {}),
        )
        self._part_of |= {(schema, name): whole for name, _, whole in rows if whole is not None}
        return [name for name, view, _ in rows if not view], [name for name, view, _ in rows if view]

    @cached_property
    def _part_of(self) -> dict[tuple[str | None, str], str]:
        return {}

    def describe(self, schema: str | None, table: str) -> TableInfo:
        info = super().describe(schema, table)
        info = replace(info, part_of=self._part_of.get((schema, info.name)))
        if all(is_direct(column.dialect_type) for column in info.columns):
            return info
        rows = self.rows_of(
            "SELECT attname, format_type(atttypid, atttypmod), "
            "CASE WHEN typtype = 'd' THEN format_type(typbasetype, typtypmod) END "
            "FROM pg_attribute JOIN pg_type AS t ON t.oid = atttypid "
            "WHERE attnum > 0 AND NOT attisdropped AND attrelid = to_regclass(:name)",
            name=self.sql_dialect.identifier_preparer.format_table(self.sa_table(info)),
        )
        texts = {row[0]: (row[1], row[2]) for row in rows}

        def exact(column: ColumnInfo) -> ColumnInfo:
            if is_direct(column.dialect_type):
                return column
            text, base = texts[column.name]
            if base is not None and column.type == WIDE_DECIMAL:  # a domain, of which the digits are not told yet
                with contextlib.suppress(TypeNameError):
                    sql_type = parse_type(base)
                    stored = self.stored_type(sql_type, None)
                    column = replace(column, type=sql_type, stored=stored, loose=self.is_loose(sql_type))
            return replace(column, declared=text, dialect_type=Declared(text))

        return replace(info, columns=tuple(map(exact, info.columns)))

    def sql_type(self, declared: Any) -> SqlType | None:
        if isinstance(declared, sa.Time) and declared.timezone:
            return None
        if isinstance(declared, dialect.DOMAIN):
            return self.sql_type(declared.data_type)
        return super().sql_type(declared)

    def stored_type(self, sql_type: SqlType | None, declared: Any) -> SqlType:
        if sql_type is None or sql_type.family in (Family.UUID, Family.JSON):
            return TEXT
        return TEXT if sql_type.family is Family.DECIMAL and not _comes_whole(sql_type) else sql_type

    def is_loose(self, sql_type: SqlType | None) -> bool:
        if sql_type is None:
            return False
        return _comes_whole(sql_type) or sql_type.family in (
            Family.DATE,
            Family.TIME,
            Family.TIMESTAMP,
            Family.TIMESTAMPTZ,
        )

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
            dialect_type=sa.CHAR() if found is not None and found.name == "bpchar" else None,
        )

    def differs(self, left: sa.Column[Any], right: sa.Column[Any]) -> sa.ColumnElement[bool]:
        # Some types, such as json and xml, have no equality; others, such as citext, one that is too kind.
        if not is_direct(left.type) or isinstance(left.type, sa.JSON):
            return sa.cast(left, sa.Text).is_distinct_from(sa.cast(right, sa.Text))
        return left.is_distinct_from(right)

    # --- reading ---------------------------------------------------------------------------------------------------

    def delivered(self, table: TableInfo, column: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
        info = table.column(str(column.key))
        if info is None:
            return column
        if info.type is None or info.type.family is Family.UUID or isinstance(info.dialect_type, sa.CHAR):
            # Of char(n), the cast leaves out the blanks with which it is filled up.
            return sa.cast(column, sa.Text).label(info.name)
        if _comes_whole(info.type):
            # The driver gives decimals as text, at some cost; as whole numbers of their last digit they come quicker.
            number = sa.case(
                (
                    column == sa.cast(sa.literal("NaN"), sa.Numeric),
                    sa.cast(sa.literal(str(_NOT_A_NUMBER)), sa.BigInteger),
                ),
                else_=sa.cast(column * sa.literal_column(str(10 ** (info.type.scale or 0))), sa.BigInteger),
            )
            return number.label(info.name)
        return column

    @contextlib.contextmanager
    def read(
        self, reading: Reading, within: Load | None = None, breaker: Breaker | None = None, connection: Any = None
    ) -> Iterator[Iterator[SourceBatch]]:
        if not reading.columns:
            reading = replace(reading, columns=(reading.table.names[0],))
        if within is not None:
            with super().read(reading, within) as batches:
                yield batches
            return
        names = list(reading.columns)
        connecting = self.arrow() if connection is None else contextlib.nullcontext(connection)
        with connecting as connected, connected.cursor() as cursor:
            if breaker is not None:
                breaker.add(cursor.adbc_cancel)
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

            stored = [column.stored for column in reading.table.chosen(names)]
            yield (_source_batch(batch, names, stored) for batch in rebatched(arriving(), reading.batch_rows))

    @contextlib.contextmanager
    def snapshot(self, table: TableInfo, count: int) -> Iterator[list[Any]]:
        begin = "BEGIN TRANSACTION ISOLATION LEVEL REPEATABLE READ READ ONLY"
        with contextlib.ExitStack() as stack:
            connections = [stack.enter_context(self.arrow()) for _ in range(count)]
            _tell(connections[0], begin)
            with connections[0].cursor() as cursor:
                cursor.execute("SELECT pg_export_snapshot()")
                name = cursor.fetchall()[0][0]
            for connection in connections[1:]:
                _tell(connection, begin)
                _tell(connection, f"SET TRANSACTION SNAPSHOT '{name}'")
            yield connections
            for connection in connections:
                _tell(connection, "COMMIT")

    # --- writing ---------------------------------------------------------------------------------------------------

    def storable(self, table: TableInfo, rows: pa.RecordBatch) -> tuple[pa.RecordBatch, list[tuple[str, Fault]]]:
        faults: list[tuple[str, Fault]] = []
        for name, values in zip(rows.schema.names, rows.columns, strict=True):
            info = table.column(name)
            faults += [(name, fault) for fault in _misfits(values, info.dialect_type if info else None)]
        return rows, faults

    def new_load(self) -> Load:
        return PostgreSQLLoad(self)


#: After so long the server, or what stands before it, may have closed a connection.
_IDLE_SECONDS = 30
#: Bytes that the driver gathers before it hands rows on.
_BATCH_BYTES = 8 * 1024 * 1024


def _tell(connection: Any, sql: str) -> None:
    """Run a statement of the driver's connection that gives no rows."""
    with connection.cursor() as cursor:
        cursor.adbc_statement.set_sql_query(sql)
        cursor.adbc_statement.execute_update()


def refuses(sqlstate: str) -> bool:
    """True for the states of errors by which rows are refused: bad data, broken constraints, raised by a trigger."""
    return sqlstate[:2] in ("22", "23", "44", "P0")


def _server(url: sa.URL) -> tuple[Any, ...]:
    return url.host, url.port or 5432, url.database


class PostgreSQLLoad(Load):
    """A transaction in which rows go in by COPY."""

    database: PostgreSQL

    def empty(self, table: sa.Table) -> int:
        some = sa.select(sa.literal_column("1")).select_from(table).limit(_FEW + 1).subquery()
        few = int(self.scalar(sa.select(sa.func.count()).select_from(some))) <= _FEW
        # A TRUNCATE makes new files and keeps readers waiting: of few rows, DELETE is quicker and kinder.
        if few or self.database.referring(TableInfo(table.schema, table.name, ())):
            return self.execute(table.delete())
        name = self.database.sql_dialect.identifier_preparer.format_table(table)
        asked = [sa.literal(text, sa.Text) for text in (name, "TRUNCATE")]
        if not self.scalar(sa.select(sa.func.has_table_privilege(*asked))):
            return self.execute(table.delete())
        self.execute(sa.text(f"LOCK TABLE {name} IN ACCESS EXCLUSIVE MODE"), counted=False)
        rows = int(self.scalar(sa.select(sa.func.count()).select_from(table)))
        self.execute(sa.text(f"TRUNCATE TABLE {name}"), counted=False)
        return rows

    def pack(self, table: sa.Table, rows: pa.RecordBatch) -> Any:
        names = rows.schema.names
        target = self.database.sql_dialect.identifier_preparer.format_table(table)
        listed = ", ".join(map(self.database.sql_dialect.identifier_preparer.quote, names))
        columns = [_stored_form(values, table.c[name].type) for name, values in zip(names, rows.columns, strict=True)]
        if all(is_direct(table.c[name].type) for name in names) and all(takes(values.type) for values in columns):
            return f"COPY {target} ({listed}) FROM STDIN (FORMAT binary)", binary_rows(columns)
        texts = [_plain_text(values) for values in rows.columns]
        return f"COPY {target} ({listed}) FROM STDIN", text_rows(texts)

    def insert(self, table: sa.Table, packed: Any) -> None:
        import psycopg

        sql, content = packed
        driver: Any = self.connection.connection.driver_connection
        try:
            with self.connection.begin_nested(), driver.cursor().copy(sql) as copy:
                for start in range(0, len(content), _SENT_AT_ONCE):
                    copy.write(content[start : start + _SENT_AT_ONCE])
        except psycopg.Error as error:
            words = self.database.words_of(error)
            if not refuses(error.sqlstate or ""):
                raise self.database.failed(words) from None
            line = re.search(r"COPY .*, line (\d+)", error.diag.context or "")
            raise RowsRefused(words, int(line[1]) - 1 if line else None) from None
        except sa.exc.SQLAlchemyError as error:
            raise self.database.diagnosed(error) from None

    def create_stage(self, table: TableInfo, columns: Sequence[str], key: Sequence[str], name: str) -> sa.Table:
        stage = self.stage_table(table, columns, name)
        real = self.database.sa_table(table)
        number = sa.cast(sa.null(), sa.BigInteger).label(row_column(columns))
        query = self.database.compiled(sa.select(*(real.c[column] for column in columns), number))
        self.run_sql(f"CREATE TEMPORARY TABLE {name} ON COMMIT DROP AS {query} WITH NO DATA")
        return stage

    def index_rows(self, stage: sa.Table) -> None:
        self.run_sql(f"CREATE INDEX ON {stage.name} ({list(stage.c)[-1].name}); ANALYZE {stage.name}")

    def settle_stage(self, stage: sa.Table) -> None:
        self.run_sql(f"ANALYZE {stage.name}; SET LOCAL work_mem = '64MB'")

    def cancel(self) -> None:
        with contextlib.suppress(Exception):
            driver: Any = self.connection.connection.driver_connection
            driver.cancel()


_SENT_AT_ONCE = 1024 * 1024
_FEW = 10_000
#: Tables of more rows, as the server thinks, are not counted.
_COUNTED = 200_000


# --- what comes from the driver, and what goes to it ----------------------------------------------------------------


def _source_batch(rows: pa.RecordBatch, names: list[str], stored: list[SqlType]) -> SourceBatch:
    columns: dict[str, pa.Array] = {}
    strays: dict[str, Strays] = {}
    for place, name in enumerate(names):
        values = rows.column(place)
        if isinstance(values, pa.ExtensionArray):
            values = values.storage
        if pa.types.is_temporal(values.type):
            values = _within_range(name, values, strays)
        if stored[place].family is Family.DECIMAL:
            values = _decimals(name, values, stored[place], strays)
        columns[name] = values
    return SourceBatch(rows.num_rows, columns, strays)


def _decimals(name: str, values: pa.Array, sql_type: SqlType, strays: dict[str, Strays]) -> pa.Array:
    """Decimals from whole numbers of their last digit; NaN becomes a stray."""
    numbers = values.fill_null(0).to_numpy(zero_copy_only=False)
    valid = valid_mask(values)
    least = numbers.min(initial=0)
    if least == _NOT_A_NUMBER:
        strays[name] = dict.fromkeys(np.flatnonzero(numbers == _NOT_A_NUMBER).tolist(), "NaN")
        valid &= numbers != _NOT_A_NUMBER
        numbers = np.where(valid, numbers, 0)
    return from_unscaled(numbers, sql_type, valid)


def _within_range(name: str, values: pa.Array, strays: dict[str, Strays]) -> pa.Array:
    """Dates or timestamps of the years 1 to 9999, or times within a day; others become strays."""
    is_date = pa.types.is_date32(values.type)
    unit = 1 if is_date else _DAY
    low, high = (0, _DAY) if pa.types.is_time(values.type) else (_FIRST * unit, (_LAST + 1) * unit)
    numbers = values.cast(pa.int32() if is_date else pa.int64())
    bounds = pc.min_max(numbers).as_py()
    if bounds["min"] is None or (bounds["min"] >= low and bounds["max"] < high):
        return values
    found = numbers.fill_null(0).to_numpy(zero_copy_only=False)
    beyond = (found < low) | (found >= high)
    for row in np.flatnonzero(beyond).tolist():
        number = int(found[row])
        side = "before the year 1" if number < 0 else "after the year 9999"
        strays.setdefault(name, {})[row] = _OUT_OF_RANGE.get(number, side)
    return pc.if_else(pa.array(beyond), pa.scalar(None, values.type), values)


def _misfits(values: pa.Array, declared: Any) -> list[Fault]:
    """Faults for values that a column could not hold."""
    if pa.types.is_string(values.type):
        return _with_zero_character(values)
    if pa.types.is_temporal(values.type):
        return _too_fine(values, getattr(declared, "precision", None))
    return []


def _stored_form(values: pa.Array, declared: Any) -> pa.Array:
    """An array in the form in which COPY takes it for a column, in binary."""
    if isinstance(declared, sa.Uuid) and pa.types.is_string(values.type):
        return _uuid_bytes(values)
    if isinstance(declared, dialect.JSONB):
        return pc.binary_join_element_wise(pa.scalar(b"\x01"), values.cast(pa.binary()), pa.scalar(b""))
    return values


def _plain_text(values: pa.Array) -> pa.Array:
    """Values as the text that a type's own reader in the server takes."""
    if pa.types.is_binary(values.type):
        return pc.binary_join_element_wise(pa.scalar("\\x"), as_text(values), pa.scalar(""))
    if pa.types.is_timestamp(values.type) and values.type.tz:
        return pc.binary_join_element_wise(as_text(values), pa.scalar("+00"), pa.scalar(""))
    if pa.types.is_decimal(values.type) and values.type.precision == WIDE_DECIMAL.precision:
        # A numeric of any precision keeps the zeros that it is given.
        trimmed = pc.replace_substring_regex(as_text(values), r"(\.[0-9]*?)0+$", r"\1")
        return pc.replace_substring_regex(trimmed, r"\.$", "")
    return as_text(values)


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
