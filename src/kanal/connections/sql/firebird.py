"""Firebird, through SQLAlchemy's dialect and the driver firebird-driver, row by row."""

from __future__ import annotations

import contextlib
import math
import uuid
from collections.abc import Sequence
from functools import cached_property
from typing import Any, cast

import pyarrow as pa
import pyarrow.compute as pc
import sqlalchemy as sa
from sqlalchemy import exc

from kanal.connections.description import About, ColumnInfo, TableInfo
from kanal.connections.misfits import too_fine
from kanal.connections.sql.catalogue import Catalogue
from kanal.connections.sql.database import SqlDatabase
from kanal.connections.sql.ddl import TableDefinitions
from kanal.connections.sql.driver_rows import DriverRowsWriter
from kanal.connections.sql.joined_update import MergedUpdate
from kanal.connections.sql.load import SqlLoad
from kanal.connections.sql.named_type import NamedType
from kanal.connections.sql.selects import Selects
from kanal.core.faults import Fault
from kanal.core.types import BIGINT, REAL, Family, SqlType, decimal

#: Digits of a NUMERIC, up to version 3.
_DIGITS = 18
#: Rows of one statement, and bytes of what is sent with it (Firebird's language reference, "EXECUTE BLOCK").
_ROWS, _MESSAGE = 50, 60_000
#: Decimals of a second that a moment is kept to.
_FRACTION = 4
#: Characters of a VARCHAR in UTF-8 (Firebird's language reference, "Character Data Types"), and of one in an index.
_LONGEST, _LONGEST_KEY = 8_191, 200


class FirebirdCatalogue(Catalogue):
    """What the system tables say, and what SQLAlchemy's dialect leaves out."""

    database: Firebird

    def about(self) -> About:
        found = super().about()
        return About("Firebird", found.version, "firebird-driver", "UTF8")

    def decimals_of(self, declared: Any) -> int:
        return _FRACTION if isinstance(declared, sa.DateTime | sa.Time) else 6

    def sql_type(self, declared: Any) -> SqlType | None:
        name = type(declared).__name__
        known = {"FBBIGINT": BIGINT, "FBINT128": decimal(38, 0), "FBFLOAT": REAL, "FBREAL": REAL}
        if name in ("FBBINARY", "FBVARBINARY"):
            return super().sql_type(sa.LargeBinary())
        if name == "FBDECFLOAT":
            return None
        return known.get(name) or super().sql_type(declared)


class FirebirdTableDefinitions(TableDefinitions):
    """The tables of a Firebird database."""

    has_identity = True

    def column_type(self, sql_type: SqlType, in_key: bool) -> Any:
        if sql_type.family is Family.DECIMAL and (sql_type.precision or 0) > _DIGITS:
            return sa.VARCHAR(60)
        if sql_type.family in (Family.TEXT, Family.JSON, Family.INTERVAL):
            longest = _LONGEST_KEY if in_key else _LONGEST
            if in_key or (sql_type.length or _LONGEST + 1) <= longest:
                return sa.VARCHAR(min(sql_type.length or longest, longest))
            return sa.Text()
        made = {Family.UUID: sa.CHAR(36), Family.TIMESTAMPTZ: sa.VARCHAR(40)}
        return made.get(sql_type.family) or super().column_type(sql_type, in_key)

    def addition(self, table: TableInfo, column: ColumnInfo) -> str:
        return super().addition(table, column).replace(" ADD COLUMN ", " ADD ", 1)


class FirebirdSelects(Selects):
    """What comes in another form than the column has."""

    def delivered(self, table: TableInfo, column: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
        info = table.column(str(column.key))
        if info is not None and isinstance(info.dialect_type, sa.CHAR) and info.type is not None:
            # A CHAR comes filled up with blanks, which are no part of its text.
            return sa.literal_column(f"TRIM(TRAILING FROM {self.quoted(info.name)})").label(info.name)
        return column

    def quoted(self, name: str) -> str:
        """A column's name as it is written in SQL."""
        return str(self.database.dialect.identifier_preparer.quote(name))


class FirebirdWriter(DriverRowsWriter):
    """Writes several rows by one statement."""

    def rows_at_once(self, names: Sequence[str]) -> int:
        # What is sent with one statement has to fit into 64 KB, counted as if each text were as long as it may be.
        widths = [4 * (getattr(self.table.c[name].type, "length", None) or 0) + 16 for name in names]
        return max(1, min(_ROWS, _MESSAGE // sum(widths)))

    def _insert_text(self, names: Sequence[str], rows: int) -> str:
        if rows == 1:
            return super()._insert_text(names, rows)
        # Each statement is a round trip, so a block inserts several rows.
        quote = self.transaction.database.dialect.identifier_preparer
        place, columns = quote.format_table(self.table), [quote.quote(self.table.c[name].name) for name in names]
        named = [[f"p{row}_{column}" for column in range(len(names))] for row in range(rows)]
        given = ", ".join(
            f"{name} TYPE OF COLUMN {place}.{column} = ?"
            for row in named
            for name, column in zip(row, columns, strict=True)
        )
        listed = ", ".join(columns)
        body = " ".join(
            f"INSERT INTO {place} ({listed}) VALUES ({', '.join(f':{one}' for one in row)});" for row in named
        )
        return f"EXECUTE BLOCK ({given}) AS BEGIN {body} END"

    def driver_values(self, column: sa.Column[Any], values: pa.Array) -> list[Any]:
        # As dates, the driver takes none before 1858; as texts with four decimals, the server takes all.
        if pa.types.is_timestamp(values.type):
            return cast("list[Any]", pc.utf8_slice_codeunits(values.cast(pa.string()), 0, 24).to_pylist())
        if pa.types.is_time(values.type):
            return cast("list[Any]", pc.utf8_slice_codeunits(values.cast(pa.string()), 0, 13).to_pylist())
        return super().driver_values(column, values)


class FirebirdLoad(SqlLoad):
    """A transaction in which rows wait for a merge in global temporary tables, which are Firebird's only ones."""

    def writer_of(self, table: sa.Table) -> FirebirdWriter:
        return FirebirdWriter(self, table)

    def begin(self) -> None:
        self._stages: list[str] = []
        self._merged = 0
        super().begin()
        from firebird.driver import Isolation, tpb

        # A table made by another connection is not seen by a transaction that keeps to the state of its beginning.
        seconds = -1 if self.database.lock_timeout is None else math.ceil(self.database.lock_timeout)
        driver: Any = self.connection.connection.driver_connection
        driver.begin(tpb(Isolation.READ_COMMITTED_RECORD_VERSION, seconds))
        sa.event.listen(self.connection, "after_cursor_execute", self._count_merged)

    def _count_merged(self, _connection: Any, cursor: Any, statement: str, *_: Any) -> None:
        """Ask how many rows a MERGE has updated, of which the driver's cursor says nothing."""
        if statement.startswith("MERGE "):
            from firebird.driver.types import ReqInfoCode, StmtInfoCode

            self._merged = int(cursor.statement.info.get_info(StmtInfoCode.RECORDS)[ReqInfoCode.UPDATE_COUNT])

    def _counted(self, statement: Any) -> int:
        rows = super()._counted(statement)
        return self._merged if isinstance(statement, MergedUpdate) else rows

    def create_stage(self, table: TableInfo, columns: Sequence[str], key: Sequence[str], name: str) -> sa.Table:
        stage = self.stage_table(table, columns, f"kanal_{uuid.uuid4().hex[:20]}")
        if key:
            sa.Index(f"{stage.name}_k", *(stage.c[column] for column in key))
        # A table can be used once its making is committed, which is done by another connection.
        with self.database.errors(), self.database.engine.begin() as other:
            stage.create(other)
        self._stages.append(stage.name)
        return stage

    def stage_table(self, table: TableInfo, columns: Sequence[str], name: str) -> sa.Table:
        stage = super().stage_table(table, columns, name)
        return sa.Table(
            name,
            sa.MetaData(),
            *(column._copy() for column in stage.c),
            prefixes=["GLOBAL TEMPORARY"],
            info={"temporary": True},
        )

    def drop_stage(self, stage: sa.Table) -> None:
        """Nothing yet: a table in use cannot be dropped."""

    def close(self) -> None:
        super().close()
        for name in self._stages:
            with contextlib.suppress(exc.SQLAlchemyError), self.database.engine.begin() as other:
                other.exec_driver_sql(f"DROP TABLE {name}")


class Firebird(SqlDatabase):
    """A database of a Firebird server."""

    extra = "kanal[firebird]"
    port = 3050
    drivers = frozenset({"firebird"})
    checks_each_row = True

    def __init__(self, name: str, url: sa.URL) -> None:
        settings = {"charset": "UTF8"} | dict(url.query)
        super().__init__(name, url.set(drivername="firebird+firebird", query=settings))
        self._given = url

    @cached_property
    def catalogue(self) -> FirebirdCatalogue:
        return FirebirdCatalogue(self)

    @cached_property
    def ddl(self) -> FirebirdTableDefinitions:
        return FirebirdTableDefinitions(self, self.run_command)

    @cached_property
    def selects(self) -> FirebirdSelects:
        return FirebirdSelects(self)

    def storable(self, table: TableInfo, rows: pa.RecordBatch) -> tuple[pa.RecordBatch, list[tuple[str, Fault]]]:
        faults: list[tuple[str, Fault]] = []
        for name, values in zip(rows.schema.names, rows.columns, strict=True):
            info = table.column(name)
            kept = 6 if info is None else info.decimals
            if kept < 6 and (pa.types.is_timestamp(values.type) or pa.types.is_time(values.type)):
                faults += [(name, fault) for fault in too_fine(values, kept, "use date_trunc, or a VARCHAR")]
        return rows, faults

    def exact(self, column: ColumnInfo, value: Any) -> list[Any]:
        family = None if column.type is None else column.type.family
        if family is Family.DOUBLE:
            return [value, sa.func.atan2(value, sa.literal_column("-1e0"))]  # which tells 0 from -0
        if family not in (Family.TEXT, None):
            return [value]
        # As bytes, which no collation compares.
        is_short = isinstance(column.dialect_type, sa.CHAR | sa.VARCHAR)
        octets = "VARCHAR(32765) CHARACTER SET OCTETS" if is_short else "BLOB SUB_TYPE BINARY"
        return [sa.cast(value, NamedType(octets))]

    def new_load(self) -> SqlLoad:
        return FirebirdLoad(self, self.catalogue, self)
