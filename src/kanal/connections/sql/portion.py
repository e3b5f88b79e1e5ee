"""A table in which the rows of one range of a source wait, loaded by whoever has the range, until all are published."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import sqlalchemy as sa
from numpy.typing import NDArray

from kanal.connections.errors import DatabaseError
from kanal.connections.loading import DoubledRow, Merging, PortionRows
from kanal.connections.sql.stage import SqlStage
from kanal.connections.sql.staging import StagingTransaction, row_column
from kanal.core.hashing import RowHash

#: The column that tells rows of one content from others, whoever reads them and in whatever order.
HASH = "kanal_hash"


class Portion(SqlStage):
    """Rows of the target's form, in a table that stays when its load is committed."""

    def __init__(
        self, load: StagingTransaction, merging: Merging, columns: tuple[str, ...], name: str, there: PortionRows | None
    ) -> None:
        """Make the table, or take one that is there; raises DatabaseError if that has other rows than it should."""
        self._made = there is None
        super().__init__(load, merging, columns, name)
        self._hash = RowHash()
        if there is not None:
            self.rows = there.numbered
            count = self.load.scalar(sa.select(sa.func.count()).select_from(self.table))
            if count != there.count:
                raise DatabaseError(
                    f"connection {load.database.name}: {name} should have {there.count:,} rows and has {count:,}, "
                    "as after a crash of the server",
                    "load it again",
                    passing=True,
                )

    def table_named(self, key: tuple[str, ...], name: str) -> sa.Table:
        table = self.merging.table
        return self.load.portion_table(table, self._columns, key, name, self._made)

    def encode(
        self,
        rows: pa.RecordBatch,
        numbers: NDArray[np.int64] | None = None,
        withdrawn: NDArray[np.bool_] | None = None,
    ) -> Any:
        hashes = pa.array(self.hashes(rows).view(np.int64))
        return super().encode(rows.append_column(HASH, hashes), numbers, withdrawn)

    def hashes(self, rows: pa.RecordBatch) -> NDArray[np.uint64]:
        """Hashes of the content of rows."""
        columns = [values.dictionary_decode() if pa.types.is_dictionary(values.type) else values for values in rows]
        return self._hash.rows(columns) if columns else np.zeros(rows.num_rows, dtype=np.uint64)

    @property
    def encoded(self) -> list[str]:
        return [*self._columns, HASH]

    def clear(self) -> None:
        """Leave the rows: the whole table is dropped once they are published."""
        self.forget_verdict()

    def drop(self) -> None:
        """Leave the table, for it is dropped with all others of its step."""
        self.forget_verdict()

    def hashes_of(self, numbers: Sequence[int]) -> dict[int, int]:
        """The hashes of rows by their numbers."""
        found: dict[int, int] = {}
        for start in range(0, len(numbers), 5_000):
            chosen = self.number.in_(list(numbers[start : start + 5_000]))
            # By another connection: this load may have taken them out.
            rows = self.load.database.found_by(sa.select(self.number, self.table.c[HASH]).where(chosen))
            found |= {int(number): int(digest) for number, digest in rows}
        return found


def portion_form(table: sa.Table, columns: Sequence[str], name: str) -> sa.Table:
    """SQLAlchemy's Table for a portion next to a table."""
    return sa.Table(
        name,
        sa.MetaData(),
        *(sa.Column(column, table.c[column].type, nullable=True, autoincrement=False) for column in columns),
        sa.Column(HASH, sa.BigInteger, autoincrement=False),
        sa.Column(row_column(columns), sa.BigInteger, nullable=False, autoincrement=False),
        schema=table.schema,
    )


def doubled_rows(load: StagingTransaction, portions: Sequence[Portion], columns: Sequence[str]) -> Iterator[DoubledRow]:
    """The rows of portions whose values in some columns those of an earlier portion, or an earlier one of the same,
    have too."""
    if len(portions) < 2:
        return
    parts = [
        sa.select(
            sa.literal_column(str(place)).label("kanal_portion"),
            portion.number.label("kanal_number"),
            portion.table.c[HASH].label(HASH),
            *(portion.table.c[name] for name in columns),
        )
        for place, portion in enumerate(portions)
    ]
    every = sa.union_all(*parts).subquery("kanal_every")
    given = [every.c[name].is_not(None) for name in columns]
    keys = [every.c[name] for name in columns]
    doubled = sa.select(*keys).where(*given).group_by(*keys).having(sa.func.count() > 1).subquery("kanal_doubled")
    same = sa.and_(*(every.c[name] == doubled.c[name] for name in columns))
    # Which of the rows of one key is the first is asked of the database, which knows what it holds equal.
    place = sa.func.row_number().over(partition_by=keys, order_by=[every.c.kanal_portion, every.c.kanal_number])
    ranked = sa.select(*every.c, place.label("kanal_place")).select_from(every.join(doubled, same)).subquery("ranked")
    later = sa.select(ranked.c.kanal_portion, ranked.c[HASH]).where(ranked.c.kanal_place > 1)
    for portion, digest in load.rows(later):
        yield DoubledRow(int(portion), int(digest))
