"""MariaDB and MySQL: read from the packets that the server sends, written by LOAD DATA LOCAL from memory."""

from __future__ import annotations

import contextlib
import datetime as dt
import math
import re
import warnings
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any, ClassVar

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import sqlalchemy as sa
from sqlalchemy import exc
from sqlalchemy.dialects import mysql as dialect

from kanal.core.arrays import mask_of, text_bytes, valid_mask
from kanal.core.conversions import converter
from kanal.core.faults import Fault
from kanal.core.frame import SourceBatch, Strays
from kanal.core.reasons import Reason
from kanal.core.types import (
    BIGINT,
    BINARY,
    BOOLEAN,
    DOUBLE,
    INTEGER,
    REAL,
    SMALLINT,
    TEXT,
    TIMESTAMP,
    TIMESTAMPTZ,
    Family,
    SqlType,
    decimal,
)
from kanal.databases.base import Database
from kanal.databases.batches import valid_text
from kanal.databases.description import About, ColumnInfo, Right, RowCount, TableInfo
from kanal.databases.errors import DatabaseError, RowsRefused
from kanal.databases.load import Load, row_column
from kanal.databases.mariadb_rows import row_batches
from kanal.databases.reading import Breaker, Reading
from kanal.databases.text_rows import as_text, text_rows

warnings.filterwarnings("ignore", message="Did not recognize type", category=sa.exc.SAWarning)

#: Families that are parsed as they come; all others are handed on as text.
_PARSED = (Family.INTEGER, Family.DECIMAL, Family.DOUBLE)
#: Bytes that a text type holds.
_TEXT_BYTES = {"TINYTEXT": 255, "TEXT": 65_535, "MEDIUMTEXT": 16_777_215}
_BINARY_BYTES = {"TINYBLOB": 255, "BLOB": 65_535, "MEDIUMBLOB": 16_777_215}
_GEOMETRIES = ("geometry", "point", "linestring", "polygon", "multi")
#: Numbers of errors by which rows are refused, apart from those that the driver knows as errors of data or integrity.
_REFUSALS = {1048, 1062, 1216, 1217, 1263, 1264, 1265, 1292, 1364, 1365, 1366, 1367, 1406, 1451, 1452, 1644, 1690, 3819,
             4025, 4078}  # fmt: skip
#: Tables of more rows, as the server thinks, are not counted.
_COUNTED = 200_000
_NOT_ALLOWED = {1148, 3948, 4166}
_FIRST_TIMESTAMP, _LAST_TIMESTAMP = 1_000_000, 2_147_483_647_999_999
_THIS_MACHINE = (None, "localhost", "127.0.0.1", "::1")
_SESSION = (
    "SET time_zone = '+00:00', sql_mode = CONCAT(@@sql_mode, "
    "',STRICT_ALL_TABLES,ERROR_FOR_DIVISION_BY_ZERO,NO_AUTO_VALUE_ON_ZERO')"
)


class MariaDB(Database):
    """A database of a MariaDB or MySQL server."""

    extra = "kanal[mariadb]"
    port = 3306
    splits = True
    folds_columns = True
    system_schemas = ("information_schema", "performance_schema", "mysql", "sys")
    pooling: ClassVar[dict[str, Any]] = {"pool_pre_ping": True}
    sql_dialect = dialect.dialect(paramstyle="named")

    def __init__(self, name: str, url: sa.URL) -> None:
        kind = url.drivername.partition("+")[0]
        super().__init__(name, url.set(drivername=f"{kind}+pymysql"))
        self._given = url

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
        return isinstance(error, exc.IntegrityError | exc.DataError) or _number(error) in _REFUSALS

    def words_of(self, error: BaseException) -> str:
        original = getattr(error, "orig", None) or error
        if len(original.args) == 2 and isinstance(original.args[0], int):
            return " ".join(str(original.args[1]).split()) or "lost connection to the server"
        return super().words_of(error)

    # --- what there is ---------------------------------------------------------------------------------------------

    def about(self) -> About:
        (row,) = self.rows_of("SELECT VERSION(), @@character_set_database, @@global.time_zone, @@system_time_zone")
        kind = "MariaDB" if "mariadb" in row[0].lower() else "MySQL"
        zone = row[3] if row[2] == "SYSTEM" else row[2]
        return About(kind, row[0].partition("-")[0], "PyMySQL", row[1], zone)

    def rights(self, schema: str | None = None) -> list[Right]:
        (row,) = self.rows_of("SELECT CURRENT_USER(), COALESCE(:schema, DATABASE()), @@local_infile", schema=schema)
        account, place = row[0], row[1]
        user, _, host = account.rpartition("@")
        grantee = f"'{user}'@'{host}'"
        granted = {
            found[0]
            for found in self.rows_of(
                "SELECT privilege_type FROM information_schema.user_privileges WHERE grantee = :grantee UNION "
                "SELECT privilege_type FROM information_schema.schema_privileges "
                "WHERE grantee = :grantee AND :place LIKE table_schema",
                grantee=grantee,
                place=place or "",
            )
        }
        named = {
            "SELECT": "select", "INSERT": "insert", "UPDATE": "update", "DELETE": "delete", "CREATE": "create tables",
            "CREATE TEMPORARY TABLES": "temporary tables (for merges)", "LOCK TABLES": "lock tables (for split)",
        }  # fmt: skip
        ask = "GRANT {} ON " + f"{place}.* TO {grantee}"
        found = [Right(name, kind in granted, ask.format(kind)) for kind, name in named.items()]
        ask = "SET GLOBAL local_infile = 1; without it rows go in by INSERT, which is slower"
        return [*found, Right("load data local", bool(row[2]), ask)]

    def other_databases(self) -> list[str]:
        with contextlib.suppress(DatabaseError):
            other = MariaDB(self.name, self.url.set(database=""))
            return [row[0] for row in other.rows_of("SHOW DATABASES")]
        return []

    def row_counts(self, schema: str | None, names: Sequence[str]) -> dict[str, RowCount]:
        rows = self.rows_of(
            "SELECT table_name, table_rows, update_time FROM information_schema.tables "
            "WHERE table_schema = COALESCE(:schema, DATABASE())",
            schema=schema,
        )
        known = {row[0]: (row[1], None if row[2] is None else str(row[2])) for row in rows}
        counts = {}
        for name in names:
            estimate, changed = known.get(name, (None, None))
            if estimate is not None and estimate > _COUNTED:
                counts[name] = RowCount(int(estimate), False, changed)
            else:
                counts[name] = replace(self.counted(schema, name), changed=changed)
        return counts

    # --- describing ------------------------------------------------------------------------------------------------

    def describe(self, schema: str | None, table: str) -> TableInfo:
        info = _with_plain_names(super().describe(schema, table))
        unknown = {column.name for column in info.columns if isinstance(column.dialect_type, sa.types.NullType)}
        if not unknown:
            return info
        query = sa.text(
            "SELECT column_name, column_type FROM information_schema.columns "
            "WHERE table_schema = COALESCE(:schema, DATABASE()) AND table_name = :name"
        ).bindparams(schema=schema, name=info.name)
        with self.errors(), self.engine.connect() as connection:
            texts: dict[str, str] = {row[0]: row[1] for row in connection.execute(query)}
        columns = (
            replace(column, declared=texts[column.name]) if column.name in unknown else column
            for column in info.columns
        )
        return replace(info, columns=tuple(columns))

    def sql_type(self, declared: Any) -> SqlType | None:
        unsigned = bool(getattr(declared, "unsigned", False))
        if isinstance(declared, dialect.TINYINT):
            return BOOLEAN if declared.display_width == 1 and not unsigned else SMALLINT
        if isinstance(declared, dialect.YEAR):
            return SMALLINT
        if isinstance(declared, dialect.MEDIUMINT):
            return INTEGER
        if isinstance(declared, dialect.BIT):
            return BOOLEAN if declared.length in (None, 1) else decimal(20, 0)
        if isinstance(declared, sa.BigInteger) and unsigned:
            return decimal(20, 0)
        if isinstance(declared, sa.SmallInteger) and unsigned:
            return INTEGER
        if isinstance(declared, sa.Integer) and not isinstance(declared, sa.BigInteger | sa.SmallInteger) and unsigned:
            return BIGINT
        if isinstance(declared, dialect.FLOAT):
            return REAL if (declared.precision or 0) <= 24 else DOUBLE
        if isinstance(declared, dialect.DOUBLE):
            return DOUBLE
        if isinstance(declared, sa.TIMESTAMP):
            return TIMESTAMPTZ
        if isinstance(declared, dialect.SET):
            return TEXT
        if isinstance(declared, dialect.TINYBLOB | dialect.MEDIUMBLOB | dialect.LONGBLOB):
            return BINARY
        return super().sql_type(declared)

    def column_type(self, sql_type: SqlType, in_key: bool) -> Any:
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
        return dialect.DOUBLE() if sql_type.name == "double precision" else super().column_type(sql_type, in_key)

    def alteration(self, table: TableInfo, column: ColumnInfo) -> str | None:
        there = table.column(column.name)
        quote = self.sql_dialect.identifier_preparer
        null = "" if there is None or there.nullable else " NOT NULL"
        place, name = quote.format_table(self.sa_table(table)), quote.quote(there.name if there else column.name)
        return f"ALTER TABLE {place} MODIFY COLUMN {name} {column.declared}{null}"

    def stored_type(self, sql_type: SqlType | None, declared: Any) -> SqlType:
        if sql_type is None:
            return TEXT
        if sql_type.family in _PARSED or sql_type.family in (Family.BINARY, Family.TIMESTAMPTZ):
            return sql_type
        return TEXT

    def is_loose(self, sql_type: SqlType | None) -> bool:
        return sql_type is None or sql_type == TIMESTAMPTZ

    def query_column(self, name: str, described: Sequence[Any]) -> ColumnInfo:
        from pymysql.constants import FIELD_TYPE

        number, precision, scale = described[1], described[4], described[5]
        numbers = {
            FIELD_TYPE.TINY: SMALLINT, FIELD_TYPE.SHORT: INTEGER, FIELD_TYPE.LONG: BIGINT, FIELD_TYPE.INT24: INTEGER,
            FIELD_TYPE.LONGLONG: decimal(20, 0), FIELD_TYPE.DOUBLE: DOUBLE, FIELD_TYPE.FLOAT: DOUBLE,
        }  # fmt: skip
        sql_type: SqlType = numbers.get(number, TEXT)
        if number in (FIELD_TYPE.DECIMAL, FIELD_TYPE.NEWDECIMAL):
            sql_type = decimal(min(65, precision or 65), scale or 0)
        times = {FIELD_TYPE.DATE: "date", FIELD_TYPE.DATETIME: "timestamp", FIELD_TYPE.TIME: "time"}
        if number in times:
            sql_type = SqlType(times[number])
        if number == FIELD_TYPE.TIMESTAMP:
            sql_type = TIMESTAMPTZ
        loose = self.is_loose(sql_type) or sql_type == TEXT  # which may be bytes
        return ColumnInfo(name, "", sql_type, self.stored_type(sql_type, None), loose=loose)

    def differs(self, left: sa.Column[Any], right: sa.Column[Any]) -> sa.ColumnElement[bool]:
        # As texts compare, upper and lower case and trailing blanks may not count; here they do.
        if isinstance(left.type, sa.String | sa.types.NullType):
            return sa.cast(left, dialect.BINARY()).is_distinct_from(sa.cast(right, dialect.BINARY()))
        return left.is_distinct_from(right)

    # --- reading ---------------------------------------------------------------------------------------------------

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

    @contextlib.contextmanager
    def read(
        self, reading: Reading, within: Load | None = None, breaker: Breaker | None = None, connection: Any = None
    ) -> Iterator[Iterator[SourceBatch]]:
        if not reading.columns:
            reading = replace(reading, columns=(reading.table.names[0],))
        columns = reading.table.chosen(reading.columns)
        kinds = [pa.binary() if column.stored == BINARY else pa.string() for column in columns]
        compiled = self.selection(reading).compile(dialect=self.sql_dialect, compile_kwargs={"literal_binds": True})
        given = connection if within is None else within.connection
        connecting = self.connect() if given is None else contextlib.nullcontext(given)
        with connecting as connected:
            driver: Any = connected.connection.driver_connection
            if breaker is not None:
                breaker.add(lambda: self.kill_query(driver))

            def batches() -> Iterator[SourceBatch]:
                try:
                    for arrays in row_batches(driver, str(compiled), kinds, reading.batch_rows):
                        yield _source_batch(columns, arrays)
                except _driver_errors() as error:
                    raise self.failed(self.words_of(error)) from None

            try:
                yield batches()
            finally:
                result = getattr(driver, "_result", None)
                if within is None and result is not None and result.unbuffered_active:
                    # The rest is not wanted: rather than read it all, the connection is given up.
                    result.unbuffered_active = False
                    driver._force_close()
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

    def comparable(self, value: Any) -> Any:
        # The session's time zone is UTC; a zone in a text is not understood.
        if isinstance(value, dt.datetime) and value.tzinfo is not None:
            return value.astimezone(dt.UTC).replace(tzinfo=None)
        return value

    def kill_query(self, driver: Any) -> None:
        """Break off what a connection of the driver is doing, by way of another."""
        with self.engine.connect() as other:
            other.exec_driver_sql(f"KILL QUERY {int(driver.thread_id())}")

    def storable(self, table: TableInfo, rows: pa.RecordBatch) -> tuple[pa.RecordBatch, list[tuple[str, Fault]]]:
        faults: list[tuple[str, Fault]] = []
        for name, values in zip(rows.schema.names, rows.columns, strict=True):
            info = table.column(name)
            if info is not None:
                faults += [(name, fault) for fault in _misfits(values, info.dialect_type)]
        return rows, faults

    def new_load(self) -> Load:
        return MariaDBLoad(self)


class MariaDBLoad(Load):
    """A transaction in which rows go in by LOAD DATA LOCAL, or where the server forbids that, by INSERT."""

    database: MariaDB
    _may_load = True

    def begin(self) -> None:
        super().begin()
        driver: Any = self.connection.connection.driver_connection
        self._driver = driver
        self._stages: list[str] = []
        # The server may ask for a file only as the answer to a LOAD DATA of ours, which never opens one.
        driver._local_infile = False

    def pack(self, table: sa.Table, rows: pa.RecordBatch) -> Any:
        if not self._may_load or rows.num_rows == 1:
            return rows
        quote = self.database.sql_dialect.identifier_preparer.quote
        fields, settings = [], []
        for place, (name, values) in enumerate(zip(rows.schema.names, rows.columns, strict=True)):
            how = None
            if pa.types.is_binary(values.type):
                how = f"UNHEX(@v{place})"
            elif isinstance(table.c[name].type, dialect.BIT):
                how = f"CAST(@v{place} AS UNSIGNED)"
            fields.append(quote(name) if how is None else f"@v{place}")
            if how is not None:
                settings.append(f"{quote(name)} = {how}")
        target = self.database.sql_dialect.identifier_preparer.format_table(table)
        sql = f"LOAD DATA LOCAL INFILE 'rows' INTO TABLE {target} CHARACTER SET utf8mb4 ({', '.join(fields)})" + (
            f" SET {', '.join(settings)}" if settings else ""
        )
        return _Lines(sql, text_rows([as_text(values) for values in rows.columns]), rows)

    def insert(self, table: sa.Table, packed: Any) -> None:
        if isinstance(packed, _Lines) and self._may_load:
            try:
                with self.connection.begin_nested():
                    self._load(packed)
                return
            except _driver_errors() as error:
                if error.args and error.args[0] in _NOT_ALLOWED:
                    self._may_load = False
                elif error.args and error.args[0] in _REFUSALS:
                    raise RowsRefused(self.database.words_of(error)) from None
                else:
                    raise self.database.failed(self.database.words_of(error)) from None
            except exc.SQLAlchemyError as error:
                raise self.database.diagnosed(error) from None
        rows = packed.rows if isinstance(packed, _Lines) else packed
        with self._all_or_nothing():
            self.connection.execute(table.insert(), rows.to_pylist())

    def _load(self, lines: _Lines) -> None:
        """Send rows; raises RowsRefused where the server did not take every one of them as it is."""
        from pymysql.connections import MySQLResult
        from pymysql.constants import COMMAND

        driver = self._driver
        driver._execute_command(COMMAND.COM_QUERY, lines.sql)
        answer = driver._read_packet()
        if not answer.is_load_local_packet():
            raise DatabaseError(f"connection {self.database.name}: the server does not take rows", "see its log")
        for start in range(0, len(lines.content), _SENT_AT_ONCE):
            driver.write_packet(bytes(lines.content[start : start + _SENT_AT_ONCE]))
        driver.write_packet(b"")
        result = MySQLResult(driver)
        result._read_ok_packet(driver._read_packet())
        driver._result = None
        if result.warning_count or result.affected_rows != lines.rows.num_rows:
            # With LOCAL, what would be an error is a warning, and the row is bent or left out.
            first = self.connection.exec_driver_sql("SHOW WARNINGS LIMIT 1").first()
            raise RowsRefused(str(first[2]) if first else "rows were left out")

    def create_stage(self, table: TableInfo, columns: Sequence[str], key: Sequence[str], name: str) -> sa.Table:
        stage = self.stage_table(table, columns, name)
        real = self.database.sa_table(table)
        quote = self.database.sql_dialect.identifier_preparer.quote
        number = sa.cast(sa.literal_column("0"), sa.BigInteger).label(row_column(columns))
        query = sa.select(*(real.c[column] for column in columns), number).where(sa.false())
        body = query.compile(dialect=self.database.sql_dialect, compile_kwargs={"literal_binds": True})
        parts = (quote(column) + _prefix(real.c[column].type) for column in key)
        self._stages.append(name)
        keys = f"PRIMARY KEY ({row_column(columns)}), KEY kanal_key ({', '.join(parts)})"
        self.run_sql(f"CREATE TEMPORARY TABLE {name} ({keys}) ENGINE = InnoDB {body}")
        return stage

    def drop_stage(self, stage: sa.Table) -> None:
        self.run_sql(f"DROP TEMPORARY TABLE {stage.name}")
        self._stages.remove(stage.name)

    def close(self) -> None:
        # The connection is kept, and a temporary table would be with it.
        with contextlib.suppress(exc.SQLAlchemyError):
            self._transaction.close()
            for name in self._stages:
                self.connection.exec_driver_sql(f"DROP TEMPORARY TABLE IF EXISTS {name}")
        super().close()

    def cancel(self) -> None:
        with contextlib.suppress(exc.SQLAlchemyError):
            self.database.kill_query(self._driver)


class _Lines:
    """Rows as the lines of a LOAD DATA, and as they were."""

    def __init__(self, sql: str, content: memoryview, rows: pa.RecordBatch) -> None:
        self.sql = sql
        self.content = content
        self.rows = rows


_SENT_AT_ONCE = 1024 * 1024


def _driver_errors() -> tuple[type[Exception], ...]:
    import pymysql

    return pymysql.Error, EOFError, OSError


def _number(error: exc.SQLAlchemyError) -> int:
    arguments = getattr(getattr(error, "orig", None), "args", ())
    return arguments[0] if arguments and isinstance(arguments[0], int) else 0


def _prefix(declared: Any) -> str:
    """How much of a key of that type an index takes."""
    return "(191)" if re.search("TEXT|BLOB", type(declared).__name__.upper()) else ""


def _with_plain_names(info: TableInfo) -> TableInfo:
    """A table whose names SQLAlchemy has read from a CREATE TABLE, in which a backtick stands doubled."""
    if "``" not in "".join([*info.names, *(name for key in info.unique for name in key)]):
        return info

    def plain(names: Sequence[str]) -> tuple[str, ...]:
        return tuple(name.replace("``", "`") for name in names)

    return replace(
        info,
        columns=tuple(replace(column, name=column.name.replace("``", "`")) for column in info.columns),
        primary_key=plain(info.primary_key),
        unique=tuple(map(plain, info.unique)),
        foreign_keys=tuple(
            replace(key, columns=plain(key.columns), referred=plain(key.referred)) for key in info.foreign_keys
        ),
    )


# --- what comes from the server, and what goes to it ----------------------------------------------------------------


def _source_batch(columns: list[ColumnInfo], arrays: list[pa.Array]) -> SourceBatch:
    found: dict[str, pa.Array] = {}
    strays: dict[str, Strays] = {}
    for column, values in zip(columns, arrays, strict=True):
        parsed = values
        if column.stored.family in _PARSED:
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


def _misfits(values: pa.Array, declared: Any) -> list[Fault]:
    """Faults for values that a column could not hold as they are."""
    name = type(declared).__name__.upper()
    kind = values.type
    if pa.types.is_string(kind) and name in _TEXT_BYTES:
        return _too_many_bytes(values, _TEXT_BYTES[name], declared)
    if pa.types.is_binary(kind):
        limit = _BINARY_BYTES.get(name) or (declared.length if name in ("BINARY", "VARBINARY") else None)
        return _wrong_bytes(values, limit, declared, exact=name == "BINARY") if limit else []
    if pa.types.is_floating(kind):
        bad = ~mask_of(pc.fill_null(pc.is_finite(values), True))
        return _faults(values, bad, Reason.OUT_OF_RANGE, "MariaDB has no infinity and no NaN: map it with CASE")
    if pa.types.is_timestamp(kind) and isinstance(declared, sa.TIMESTAMP):
        numbers = values.cast(pa.int64()).fill_null(_FIRST_TIMESTAMP).to_numpy(zero_copy_only=False)
        bad = (numbers < _FIRST_TIMESTAMP) | (numbers > _LAST_TIMESTAMP)
        message = "a TIMESTAMP holds 1970-01-01 00:00:01 to 2038-01-19 03:14:07 in UTC: declare the column DATETIME(6)"
        return _faults(values, bad, Reason.OUT_OF_RANGE, message) + _too_fine(values, declared)
    if pa.types.is_timestamp(kind) or pa.types.is_time(kind):
        return _too_fine(values, declared)
    return []


def _too_fine(values: pa.Array, declared: Any) -> list[Fault]:
    digits = getattr(declared, "fsp", None) or 0
    if digits >= 6 or not isinstance(declared, dialect.DATETIME | dialect.TIMESTAMP | dialect.TIME):
        return []
    numbers = values.cast(pa.int64()).fill_null(0).to_numpy(zero_copy_only=False)
    message = f"the column keeps {digits} decimals of a second: declare it with (6), or use date_trunc"
    return _faults(values, numbers % 10 ** (6 - digits) != 0, Reason.WOULD_ROUND, message)


def _too_many_bytes(values: pa.Array, limit: int, declared: Any) -> list[Fault]:
    sizes = np.where(valid_mask(values), np.diff(text_bytes(values)[1]), 0)
    message = f"the column is {type(declared).__name__} and holds {limit:,} bytes: declare it LONGTEXT, or shorten it"
    return _faults(values, sizes > limit, Reason.TOO_LONG, message)


def _wrong_bytes(values: pa.Array, limit: int, declared: Any, exact: bool) -> list[Fault]:
    sizes = np.where(valid_mask(values), np.diff(text_bytes(values)[1]), limit)
    message = f"the column holds {limit:,} bytes: declare it LONGBLOB, or shorten it"
    found = _faults(values, sizes > limit, Reason.TOO_LONG, message)
    if exact:
        message = f"the column is BINARY({limit}) and would fill it up with zeros: declare it VARBINARY"
        found += _faults(values, sizes < limit, Reason.BAD_TEXT, message)
    return found


def _faults(values: pa.Array, bad: np.ndarray[Any, Any], reason: Reason, message: str) -> list[Fault]:
    rows = np.flatnonzero(bad & valid_mask(values)).tolist()
    return [Fault(row, reason, str(values[row].as_py())[:200], message) for row in rows]


__all__ = ["MariaDB"]
