"""Any database by its ODBC driver: its catalogue by ODBC's functions, its rows in columns if that is safe."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from functools import cached_property
from typing import Any

from kanal.connections.description import Constraint, TableInfo
from kanal.connections.loading import Load
from kanal.connections.reading import Breaker, Reading
from kanal.connections.sql.load import SqlLoad, sql_load
from kanal.connections.sql.odbc_access import OdbcAccess
from kanal.connections.sql.odbc_catalogue import OdbcCatalogue
from kanal.connections.sql.odbc_rows import in_columns, longest_texts, row_by_row
from kanal.connections.sql.server_database import ServerDatabase, ServerLoad
from kanal.core.frame import SourceBatch


class OdbcLoad(ServerLoad):
    """A transaction by ODBC."""

    catalogue: OdbcCatalogue

    def constraints(self, table: TableInfo) -> list[Constraint]:
        return self.catalogue.constraints(table)

    def cancel(self) -> None:
        """A driver cannot be asked to break off what another thread is waiting for."""


class Odbc(OdbcAccess, ServerDatabase):
    """A database that has an ODBC driver."""

    # --- connecting ------------------------------------------------------------------------------------------------

    # --- its parts -------------------------------------------------------------------------------------------------

    @cached_property
    def catalogue(self) -> OdbcCatalogue:
        return OdbcCatalogue(self)

    def new_load(self) -> SqlLoad:
        return OdbcLoad(self, self.catalogue, self)

    def refuses_table(self, table: TableInfo) -> tuple[str, str] | None:
        if self.told.read_only or not self.told.has_transactions:
            return f"the driver {self.told.driver} writes nothing that could be undone", "name another target"
        return super().refuses_table(table)

    # --- errors ----------------------------------------------------------------------------------------------------

    # --- reading ---------------------------------------------------------------------------------------------------

    @contextlib.contextmanager
    def _rows(
        self, reading: Reading, within: Load | None = None, breaker: Breaker | None = None, connection: Any = None
    ) -> Iterator[Iterator[SourceBatch]]:
        sql = self.compiled(self.selects.selection(reading))
        columns = [info for info in map(reading.table.column, reading.columns) if info is not None]
        given = connection if within is None else sql_load(within).connection
        if given is None and reading.query is None:
            longest = longest_texts(self, reading, columns)
            if longest is not None:
                with self.driver_errors(), in_columns(self, sql, columns, reading, longest) as batches:
                    yield batches
                return
        connecting = self.connect() if given is None else contextlib.nullcontext(given)
        with self.errors(), connecting as connected, self.driver_errors():
            driver: Any = connected.connection.driver_connection
            cursor = driver.cursor()
            with contextlib.nullcontext() if breaker is None else breaker.knows(cursor.cancel):
                yield row_by_row(cursor, sql, columns, reading)
