"""Rows handed to a driver as its own Python values, by one INSERT with placeholders."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import chain
from typing import Any

import pyarrow as pa
import sqlalchemy as sa

from kanal.connections.loading import RefusedRow
from kanal.connections.sql.writer import TableWriter

#: Placeholders of one statement, of which some servers take no more.
_PLACEHOLDERS = 2_000


class DriverRowsWriter(TableWriter):
    """Writes values that go to the driver untouched by SQLAlchemy's types."""

    def rows_at_once(self, names: Sequence[str]) -> int:
        """The rows of one statement."""
        del names
        return 1

    def driver_values(self, column: sa.Column[Any], values: pa.Array) -> list[Any]:
        """The values of a column as the driver takes them."""
        del column
        found: list[Any] = values.to_pylist()
        return found

    def encode(self, rows: pa.RecordBatch) -> Any:
        columns = [self.driver_values(self.table.c[name], values)
                   for name, values in zip(rows.schema.names, rows.columns, strict=True)]  # fmt: skip
        return rows.schema.names, list(zip(*columns, strict=True))

    def insert(self, encoded: Any) -> Sequence[RefusedRow]:
        names, rows = encoded
        together = max(1, min(self.rows_at_once(names), _PLACEHOLDERS // max(1, len(names))))
        whole = len(rows) - len(rows) % together
        connection = self.transaction.connection
        with self.transaction.all_or_nothing():
            if whole and together > 1:
                parts = [tuple(chain.from_iterable(rows[n : n + together])) for n in range(0, whole, together)]
                connection.exec_driver_sql(self._insert_text(names, together), parts)
                rows = rows[whole:]
            if rows:
                connection.exec_driver_sql(self._insert_text(names, 1), rows)
        return ()

    def _insert_text(self, names: Sequence[str], rows: int) -> str:
        """The statement that inserts this many rows, with the driver's placeholders."""
        dialect, table = self.transaction.database.dialect, self.table
        quote, style = dialect.identifier_preparer, dialect.paramstyle
        # A name of the table's own knows whether it must be quoted; one of the rows' does not.
        columns = ", ".join(quote.quote(table.c[name].name) for name in names)
        if style not in ("qmark", "numeric"):
            columns = columns.replace("%", "%%")
        return f"INSERT INTO {quote.format_table(table)} ({columns}) VALUES {_marks(style, rows, len(names))}"


def _marks(style: str, rows: int, columns: int) -> str:
    """The placeholders of some rows, as a driver takes them by position (PEP 249)."""
    if style in ("numeric", "named", "numeric_dollar"):
        sign = "$" if style == "numeric_dollar" else ":"
        marks = [f"{sign}{n + 1}" for n in range(rows * columns)]
    else:
        marks = ["?" if style == "qmark" else "%s"] * (rows * columns)
    parts = (marks[start : start + columns] for start in range(0, rows * columns, columns))
    return ", ".join(f"({', '.join(part)})" for part in parts)
