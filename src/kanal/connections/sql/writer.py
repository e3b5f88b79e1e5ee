"""Writes rows into one table, whether it is a target or a temporary one."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import pyarrow as pa
import sqlalchemy as sa

from kanal.connections.loading import RefusedRow
from kanal.connections.sql.transaction import SqlTransaction


class TableWriter:
    """Writes rows as one statement for each batch."""

    def __init__(self, transaction: SqlTransaction, table: sa.Table) -> None:
        self.transaction = transaction
        self.table = table

    def encode(self, rows: pa.RecordBatch) -> Any:
        """A storable batch in the form that `insert` and `send` take. May be called while other statements run."""
        return rows

    def insert(self, encoded: Any) -> Sequence[RefusedRow]:
        """Insert an encoded batch; raises RowsRefused, with nothing of it inserted, if the target refuses a row."""
        with self.transaction.all_or_nothing():
            self.transaction.connection.execute(self.table.insert(), encoded.to_pylist())
        return ()

    def send(self, encoded: Any) -> int | None:
        """Send an encoded batch, which the transaction confirms later; its size in bytes. None if it was not sent,
        since earlier batches have to be confirmed first."""
        raise NotImplementedError
