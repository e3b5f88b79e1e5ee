"""A database whose kind is stated by a `Server`, whichever driver leads to it."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence
from functools import cached_property
from pathlib import Path
from typing import Any, Self

import pyarrow as pa
import sqlalchemy as sa
from sqlalchemy import exc

from kanal.connections.description import ColumnInfo, TableInfo
from kanal.connections.loading import RefusedRow
from kanal.connections.sql.catalogue import Catalogue
from kanal.connections.sql.database import SqlDatabase
from kanal.connections.sql.ddl import TableDefinitions
from kanal.connections.sql.driver_rows import DriverRowsWriter
from kanal.connections.sql.load import SqlLoad
from kanal.connections.sql.selects import Selects
from kanal.connections.sql.servers import Server, server_named
from kanal.connections.sql.staging import row_column
from kanal.core.faults import Fault
from kanal.core.types import TEXT, SqlType


class ServerTableDefinitions(TableDefinitions):
    """Tables as the server has them."""

    database: ServerDatabase

    @property
    def has_identity(self) -> bool:  # type: ignore[override]
        """True if columns number rows as ISO SQL has it."""
        return self.database.server.has_identity

    def column_type(self, sql_type: SqlType, in_key: bool) -> Any:
        return self.database.server.column_type(sql_type, in_key) or super().column_type(sql_type, in_key)

    def alteration(self, table: TableInfo, column: ColumnInfo) -> str | None:
        made = super().alteration(table, column)
        return None if made is None else self.database.server.altered(made)

    def addition(self, table: TableInfo, column: ColumnInfo) -> str:
        return self.database.server.added(super().addition(table, column))


class ServerSelects(Selects):
    """What is asked for in another form than the column has."""

    database: ServerDatabase

    def delivered(self, table: TableInfo, column: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
        info = table.column(str(column.key))
        return column if info is None else self.database.server.delivered(column, info)


class ServerCatalogue(Catalogue):
    """The catalogue that SQLAlchemy's dialect finds, with the server's own meaning of its types."""

    database: ServerDatabase

    def sql_type(self, declared: Any) -> SqlType | None:
        known = self.database.server.type_of(self.database.type_text(declared).lower())
        return super().sql_type(declared) if known is None else known

    def stored_type(self, sql_type: SqlType | None, declared: Any) -> SqlType:
        del declared
        return sql_type if sql_type is not None and sql_type.family in self.database.server.as_they_are else TEXT

    def is_loose(self, sql_type: SqlType | None) -> bool:
        return sql_type is None or sql_type.family not in self.database.server.as_they_are

    def decimals_of(self, declared: Any) -> int:
        return self.database.server.decimals_of(self.database.type_text(declared).lower())


class ServerWriter(DriverRowsWriter):
    """Writes values as the server takes them."""

    transaction: ServerLoad

    def rows_at_once(self, names: Sequence[str]) -> int:
        del names
        return self.transaction.database.server.rows_at_once

    def driver_values(self, column: sa.Column[Any], values: pa.Array) -> list[Any]:
        known = column.table.info.get("columns", {})
        return self.transaction.database.server.bound(values, known.get(column.name))

    def insert(self, encoded: Any) -> Sequence[RefusedRow]:
        with self.transaction.numbering(self.table, encoded[0]):
            return super().insert(encoded)
        raise AssertionError


class ServerLoad(SqlLoad):
    """A transaction whose temporary tables and values are the server's."""

    database: ServerDatabase

    def writer_of(self, table: sa.Table) -> ServerWriter:
        return ServerWriter(self, table)

    def table_of(self, table: TableInfo) -> sa.Table:
        made = super().table_of(table)
        made.info["columns"] = {column.name: column for column in table.columns}
        return made

    def insert_select(self, table: sa.Table, columns: Sequence[str], rows: sa.Select[Any]) -> Any:
        return super().insert_select(table, columns, rows).execution_options(kanal_columns=tuple(columns))

    def _counted(self, statement: Any) -> int:
        columns = statement.get_execution_options().get("kanal_columns")
        with contextlib.nullcontext() if columns is None else self.numbering(statement.table, columns):
            return super()._counted(statement)
        raise AssertionError

    @contextlib.contextmanager
    def numbering(self, table: sa.Table, names: Sequence[str]) -> Iterator[None]:
        """While this lasts, a column that numbers rows takes the values that are given to it, if it is among these."""
        known = {} if table.info.get("temporary") else table.info.get("columns", {})
        numbered = any(known[name].numbered for name in names if name in known)
        place = str(self.database.dialect.identifier_preparer.format_table(table))
        before, after = self.database.server.around_insert(place, numbered)
        for statement in before:
            self.connection.exec_driver_sql(statement)
        try:
            yield
        finally:
            for statement in after:
                with contextlib.suppress(exc.SQLAlchemyError):
                    self.connection.exec_driver_sql(statement)

    def create_stage(self, table: TableInfo, columns: Sequence[str], key: Sequence[str], name: str) -> sa.Table:
        real = self.database.sa_table(table)
        number = sa.cast(sa.literal_column("0"), sa.BigInteger).label(row_column(columns))
        query = sa.select(*(real.c[column] for column in columns), number).where(sa.literal_column("1 = 0"))
        server, rows = self.database.server, self.database.compiled(query)
        names = [self.database.dialect.identifier_preparer.quote(column) for column in key]
        place, statement = server.stage(name, rows)
        _, with_index = server.stage(name, rows, names)
        if with_index == statement or not self._tried(with_index):
            with self.database.errors():
                self.connection.exec_driver_sql(statement)
            if names and (index := server.index_stage(place, names)) is not None:
                self._tried(index)
        stage = self.stage_table(table, columns, place)
        stage.info["columns"] = {column.name: column for column in table.columns}
        return stage

    def _tried(self, statement: str) -> bool:
        """Run a statement that the load could do without, such as an index of a long text; whether it succeeded."""
        if not self.database.has_savepoints:
            return False
        with contextlib.suppress(exc.SQLAlchemyError), self.connection.begin_nested():
            self.connection.exec_driver_sql(statement)
            return True
        return False

    def stage_table(self, table: TableInfo, columns: Sequence[str], name: str) -> sa.Table:
        schema, _, plain = name.rpartition(".")
        made = super().stage_table(table, columns, plain)
        return made.to_metadata(sa.MetaData(), schema=schema) if schema else made

    def drop_stage(self, stage: sa.Table) -> None:
        statement = self.database.server.drop_stage(f"{stage.schema}.{stage.name}" if stage.schema else stage.name)
        if statement:
            with self.database.errors():
                self.connection.exec_driver_sql(statement)


class ServerDatabase(SqlDatabase):
    """A database of a known kind of server, through SQLAlchemy's dialect and a driver of its own."""

    drivers = frozenset({"oracledb", "cx_oracle", "pymssql", "pyodbc", "ibm_db"})

    @cached_property
    def server(self) -> Server:
        """The kind of server that it is."""
        return server_named(self.url.get_backend_name())

    @classmethod
    def opened(cls, name: str, url: sa.URL, folder: Path) -> Self:
        del folder
        driver = server_named(url.get_backend_name()).driver
        made = cls(
            name, url.set(drivername=f"{url.drivername}+{driver}") if driver and "+" not in url.drivername else url
        )
        made._given = url
        return made

    @property
    def extra(self) -> str:  # type: ignore[override]
        """What to install if the driver is missing."""
        return self.server.extra

    @property
    def port(self) -> int | None:  # type: ignore[override]
        """Where its servers listen, by default."""
        return self.server.port

    @property
    def checks_each_row(self) -> bool:  # type: ignore[override]
        """True if a reference is checked as each row comes."""
        return self.server.checks_each_row

    @property
    def has_savepoints(self) -> bool:  # type: ignore[override]
        """True if what failed is undone to a savepoint; else some drivers undo all, and do not say so."""
        return self.server.has_savepoints

    @property
    def sql_name(self) -> str | None:  # type: ignore[override]
        """The name of sqlglot's dialect for its SQL."""
        return self.server.sql_name

    @cached_property
    def catalogue(self) -> Catalogue:
        return ServerCatalogue(self)

    @cached_property
    def ddl(self) -> ServerTableDefinitions:
        return ServerTableDefinitions(self, self.run_command)

    @cached_property
    def selects(self) -> ServerSelects:
        return ServerSelects(self)

    @cached_property
    def engine(self) -> sa.Engine:
        engine = super().engine

        @sa.event.listens_for(engine, "connect")
        def _settings(connection: Any, _: Any) -> None:
            cursor = connection.cursor()
            for statement in self.server.session:
                cursor.execute(statement)
            cursor.close()

        return engine

    def storable(self, table: TableInfo, rows: pa.RecordBatch) -> tuple[pa.RecordBatch, list[tuple[str, Fault]]]:
        faults: list[tuple[str, Fault]] = []
        for name, values in zip(rows.schema.names, rows.columns, strict=True):
            info = table.column(name)
            if info is not None:
                faults += [(name, fault) for fault in self.server.misfits(values, info)]
        return rows, faults

    def exact(self, column: ColumnInfo, value: Any) -> list[Any]:
        return self.server.exact(column, value)

    def new_load(self) -> SqlLoad:
        return ServerLoad(self, self.catalogue, self)
