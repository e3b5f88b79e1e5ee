"""A transaction on PostgreSQL, in which rows go in by COPY."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

import pyarrow as pa
import sqlalchemy as sa
from msgspec import Struct
from msgspec.structs import replace

from kanal.connections.description import ForeignKey, TableInfo
from kanal.connections.errors import DatabaseError, RowsRefused
from kanal.connections.sql.access import AS_IT_IS
from kanal.connections.sql.copy_binary import HEADER, TRAILER, binary_rows, place_in_row, takes
from kanal.connections.sql.portion import HASH, portion_form
from kanal.connections.sql.postgresql_access import PostgreSQLAccess, refuses
from kanal.connections.sql.postgresql_batches import CopiedBatch
from kanal.connections.sql.postgresql_types import is_direct
from kanal.connections.sql.postgresql_values import plain_text, stored_form
from kanal.connections.sql.staging import row_column
from kanal.connections.sql.streaming import StreamingLoad, StreamWriter
from kanal.connections.sql.text_rows import text_rows
from kanal.core.carried_rows import CarriedRows


class CopyIn(Struct, frozen=True):
    """Rows as a COPY takes them, between what comes before the first row and behind the last one."""

    sql: str
    rows: memoryview
    head: bytes = b""
    tail: bytes = b""


class _Copying(Struct):
    """A COPY that takes more rows, and what ends it."""

    copy: Any
    tail: bytes


class PostgreSQLWriter(StreamWriter):
    """Writes rows by COPY."""

    def encode(self, rows: pa.RecordBatch) -> Any:
        prepared = self.transaction.database.sql_dialect.identifier_preparer
        carried: dict[str, int] = {}
        copied = None
        if isinstance(rows, CarriedRows) and isinstance(rows.batch, CopiedBatch):
            copied = rows.batch.copied
            fields = {name: rows.batch.places[source] for name, source in rows.carried.items()}
            carried = dict(sorted(fields.items(), key=lambda item: item[1]))
        names = [name for name in rows.schema.names if name not in carried]
        columns = {name: stored_form(rows.column(name), self.table.c[name].type) for name in names}
        if all(is_direct(self.table.c[name].type) and takes(values.type) for name, values in columns.items()):
            names.sort(key=lambda name: place_in_row(columns[name]))
            content = binary_rows([columns[name] for name in names], copied, list(carried.values()))
            form, edges = " (FORMAT binary)", (HEADER, TRAILER)
            names = [*carried, *names]
        else:
            names, form, edges = rows.schema.names, "", (b"", b"")
            content = text_rows([plain_text(values) for values in rows.columns])
        listed = ", ".join(map(prepared.quote, names))
        return CopyIn(f"COPY {prepared.format_table(self.table)} ({listed}) FROM STDIN{form}", content, *edges)


class PostgreSQLLoad(StreamingLoad):
    """A transaction in which rows go in by COPY."""

    database: PostgreSQLAccess

    def session(self) -> str | None:
        known = self.connection.info
        if "kanal_session" not in known:
            mine = "SELECT pid || ' ' || backend_start FROM pg_stat_activity WHERE pid = pg_backend_pid()"
            known["kanal_session"] = str(self.scalar(sa.text(mine)))
        return str(known["kanal_session"])

    def empty_table(self, table: sa.Table) -> int:
        name = self.database.sql_dialect.identifier_preparer.format_table(table)
        # Whoever else empties it waits, readers do not: a DELETE would not see the rows that another is to commit.
        self.run_sql(f"LOCK TABLE {name} IN SHARE ROW EXCLUSIVE MODE")
        few = int(self.value(f"SELECT count(*) FROM (SELECT 1 FROM {name} LIMIT {_FEW + 1}) AS few")) <= _FEW
        # A TRUNCATE makes new files and keeps readers waiting: of few rows, DELETE is quicker and kinder.
        if few or self.catalogue.referring(TableInfo(table.schema, table.name, ())):
            return self.run_sql(f"DELETE FROM {name}")
        asked = [sa.literal(text, sa.Text) for text in (name, "TRUNCATE")]
        if not self.scalar(sa.select(sa.func.has_table_privilege(*asked))):
            return self.run_sql(f"DELETE FROM {name}")
        self.run_sql(f"LOCK TABLE {name} IN ACCESS EXCLUSIVE MODE")
        rows = int(self.value(f"SELECT count(*) FROM {name}"))
        self.run_sql(f"TRUNCATE TABLE {name}")
        return rows

    def move(self, source: TableInfo, names: Mapping[str, str], table: TableInfo) -> int:
        """Insert all rows of another table of the database; how many they are. Raises RowsRefused, with nothing
        inserted, if a row is refused, or has a value that Kanal does not have."""
        quote, place = self.database.sql_dialect.identifier_preparer.quote, self.database.written
        ruled = sa.text("SELECT relhasrules FROM pg_class WHERE oid = to_regclass(:name)").bindparams(name=place(table))
        if self.scalar(ruled):  # which may send an INSERT elsewhere, and do not hold for COPY
            raise RowsRefused(f"{table.name} has rules")
        into = self._into(place(table), names, any(column.always for column in table.chosen(names)))
        # A division by 0 if there is such a value: the row is left to Kanal, which says what is wrong with it.
        guard = f"1 / (CASE WHEN {self.database.odd(source, list(names.values()))} THEN 0 ELSE 1 END) = 1"
        sql = f"{into} SELECT {', '.join(map(quote, names.values()))} FROM {place(source)} WHERE {guard}"
        with self.all_or_nothing():
            return self.connection.exec_driver_sql(sql, execution_options=AS_IT_IS).rowcount
        raise AssertionError

    def drop_indexes(self, table: TableInfo) -> list[str]:
        """Take the indexes of a table away, with the keys that they represent; the statements that make them again."""
        quote, name = self.database.sql_dialect.identifier_preparer.quote, self.database.written(table)
        self.run_sql(f"LOCK TABLE {name} IN ACCESS EXCLUSIVE MODE")
        found = self.rows(sa.text(_INDEXES).bindparams(name=name))
        again = []
        for index, definition, key, constraint in found:
            if key is not None:
                self.run_sql(f"ALTER TABLE {name} DROP CONSTRAINT {quote(key)}")
                again.append(f"ALTER TABLE {name} ADD CONSTRAINT {quote(key)} {constraint}")
            else:
                self.run_sql(f"DROP INDEX {self.database.written(replace(table, name=index))}")
                again.append(definition)
        return again

    def make_indexes(self, dropped: Sequence[str]) -> None:
        """Create them again; raises RowsRefused if rows break them."""
        with self.all_or_nothing():
            for statement in dropped:
                self.connection.exec_driver_sql(statement, execution_options=AS_IT_IS)

    def writer_of(self, table: sa.Table) -> PostgreSQLWriter:
        return PostgreSQLWriter(self, table)

    def begin_stream(self, encoded: CopyIn, stack: contextlib.ExitStack) -> _Copying:
        driver: Any = self.connection.connection.driver_connection
        copy = stack.enter_context(driver.cursor().copy(encoded.sql))
        copy.write(encoded.head)
        return _Copying(copy, encoded.tail)

    def stream(self, known: _Copying, encoded: CopyIn) -> int:
        for start in range(0, len(encoded.rows), _SENT_AT_ONCE):
            known.copy.write(encoded.rows[start : start + _SENT_AT_ONCE])
        return len(encoded.rows)

    def end_stream(self, known: _Copying) -> None:
        known.copy.write(known.tail)

    def break_stream(self, known: _Copying) -> None:
        raise DatabaseError("the load is given up")

    @contextlib.contextmanager
    def refusals(self) -> Iterator[None]:
        import psycopg

        try:
            yield
        except psycopg.Error as error:
            words = self.database.words_of(error)
            if not refuses(error.sqlstate or ""):
                raise self.database.failed(words, self.database.passes(error)) from None
            line = re.search(r"COPY .*, line (\d+)", error.diag.context or "")
            name = self.database.broken_constraint(error)
            raise RowsRefused(words, int(line[1]) - 1 if line else None, name) from None
        except sa.exc.SQLAlchemyError as error:
            raise self.database.diagnosed(error) from None

    def create_stage(self, table: TableInfo, columns: Sequence[str], key: Sequence[str], name: str) -> sa.Table:
        return self._temporary(table, columns, name, "bigint")

    def _temporary(self, table: TableInfo, columns: Sequence[str], name: str, last: str) -> sa.Table:
        """A temporary table of some of a table's columns, and a last one of a type."""
        real = self.database.sa_table(table)
        number: sa.Label[Any] = sa.literal_column(f"NULL::{last}").label(row_column(columns))
        query = self.database.compiled(sa.select(*(real.c[column] for column in columns), number))
        self.run_sql(f"CREATE TEMPORARY TABLE {name} ON COMMIT DROP AS {query} WITH NO DATA")
        return self.stage_table(table, columns, name)

    def portion_table(
        self, table: TableInfo, columns: Sequence[str], key: Sequence[str], name: str, new: bool
    ) -> sa.Table:
        del key
        made = portion_form(self.database.sa_table(table), columns, name)
        if new:
            real, zero = self.database.sa_table(table), sa.cast(sa.null(), sa.BigInteger)
            numbers = (zero.label(column) for column in (HASH, row_column(columns)))
            query = self.database.compiled(sa.select(*(real.c[column] for column in columns), *numbers))
            place = self.database.sql_dialect.identifier_preparer.format_table(made)
            # Without a log of writes: what a crash takes away is noticed by the count, and loaded again.
            self.run_sql(f"CREATE UNLOGGED TABLE {place} AS {query} WITH NO DATA")
        return made

    def twin(self, table: TableInfo, name: str) -> TableInfo:
        """A new, empty table of that name, with all that belongs to another; nobody else writes to that meanwhile."""
        fresh = replace(table, name=name)
        old, new = map(self.database.written, (table, fresh))
        self.run_sql(f"LOCK TABLE {old} IN SHARE ROW EXCLUSIVE MODE; CREATE TABLE {new} (LIKE {old} INCLUDING ALL)")
        return fresh

    def exchange(self, table: TableInfo, twin: TableInfo) -> None:
        """Put a twin in the place of a table, which goes; indexes and constraints are called as before."""
        quote = self.database.sql_dialect.identifier_preparer.quote
        old, new = map(self.database.written, (table, twin))
        indexes = sa.text(
            "SELECT c.relname, regexp_replace(pg_get_indexdef(i.indexrelid), '^CREATE( UNIQUE)? INDEX .* USING', '\\1')"
            " FROM pg_index AS i JOIN pg_class AS c ON c.oid = i.indexrelid "
            "WHERE i.indrelid = to_regclass(:name) ORDER BY i.indisprimary DESC, c.relname"
        )
        before, after = (self.rows(indexes.bindparams(name=one)) for one in (old, new))
        self.run_sql(f"DROP TABLE {old}; ALTER TABLE {new} RENAME TO {quote(table.name)}")
        for name, form in before:
            same = next((found for found in after if found[1] == form), None)
            if same is not None:
                after.remove(same)
                made = self.database.written(replace(table, name=same[0]))
                self.run_sql(f"ALTER INDEX {made} RENAME TO {quote(name)}")

    def check_at_once(self, keys: Sequence[ForeignKey]) -> None:
        # One that is INITIALLY DEFERRED would refuse no row, and fail the commit.
        quote = self.database.sql_dialect.identifier_preparer.quote
        names = sorted({quote(key.name) for key in keys if key.deferrable and key.name})
        if names:
            self.run_sql(f"SET CONSTRAINTS {', '.join(names)} IMMEDIATE")

    def defer(self, keys: Sequence[ForeignKey]) -> None:
        quote = self.database.sql_dialect.identifier_preparer.quote
        for name in {key.name for key in keys if key.deferrable and key.name} - self._deferred_keys:
            self.run_sql(f"SET CONSTRAINTS {quote(name)} DEFERRED")
            self._deferred_keys.add(name)

    def has_triggers(self, table: TableInfo) -> bool:
        name = self.database.written(table)
        query = "SELECT EXISTS (SELECT FROM pg_trigger WHERE tgrelid = to_regclass(:name) AND NOT tgisinternal)"
        return bool(self.scalar(sa.text(query).bindparams(name=name)))

    def insert_select(self, table: sa.Table, columns: Sequence[str], rows: sa.Select[Any]) -> Any:
        if not any(table.c[name].info.get("always") for name in columns):
            return super().insert_select(table, columns, rows)
        into = self._into(self.database.sql_dialect.identifier_preparer.format_table(table), columns, always=True)
        return sa.text(_escaped(f"{into} {self.database.compiled(rows)}"))

    def _into(self, place: str, columns: Iterable[str], always: bool) -> str:
        """The beginning of an INSERT, with what has columns that always number rows take values, as COPY does by
        itself."""
        named = ", ".join(map(self.database.sql_dialect.identifier_preparer.quote, columns))
        return f"INSERT INTO {place} ({named}){' OVERRIDING SYSTEM VALUE' if always else ''}"

    def settle(self, table: TableInfo, columns: Sequence[str]) -> list[str]:
        notes = []
        there = self.table_of(table)
        name = self.database.written(table)
        for column in table.chosen(columns):
            if not column.numbered:
                continue
            found = sa.text(
                "SELECT s.name, q.seqincrement, "
                "CASE WHEN has_sequence_privilege(q.seqrelid, 'SELECT') THEN pg_sequence_last_value(q.seqrelid) END, "
                "has_sequence_privilege(q.seqrelid, 'UPDATE') "
                "FROM (SELECT pg_get_serial_sequence(:table, :column) AS name) AS s "
                "JOIN pg_sequence AS q ON q.seqrelid = s.name::regclass"
            )
            for sequence, step, last, allowed in self.rows(found.bindparams(table=name, column=column.name)):
                extreme = sa.func.max if step > 0 else sa.func.min
                reached = self.scalar(sa.select(extreme(there.c[column.name])))
                if reached is None or (last is not None and (reached - last) * step <= 0):
                    continue
                if not allowed:
                    notes.append(f"{sequence} stays as it is, though {column.name} goes to {reached}: the user may "
                                 f"not set it; ask for GRANT UPDATE ON SEQUENCE {sequence}")  # fmt: skip
                    continue
                lowest = sa.text("SELECT seqmin, seqmax FROM pg_sequence WHERE seqrelid = CAST(:name AS regclass)")
                (bounds,) = self.rows(lowest.bindparams(name=sequence))
                if bounds[0] <= reached <= bounds[1]:
                    self.scalar(sa.text("SELECT setval(CAST(:name AS regclass), :value)").bindparams(
                        name=sequence, value=reached))  # fmt: skip
        return notes

    def verify(self) -> None:
        self.run_sql("SET CONSTRAINTS ALL IMMEDIATE")

    def ask_may_stage(self) -> bool:
        return bool(self.scalar(sa.text("SELECT has_database_privilege(current_database(), 'TEMPORARY')")))

    def index_rows(self, stage: sa.Table) -> None:
        self.run_sql(f"CREATE INDEX ON {stage.name} ({list(stage.c)[-1].name}); ANALYZE {stage.name}")

    def clear_stage(self, stage: sa.Table) -> None:
        self.run_sql(f"TRUNCATE {stage.name}")

    def foresee_growth(self, table: sa.Table) -> None:
        # Of a table that is all but empty, a plan may go through all rows for each that comes, and they grow with it.
        few = sa.select(sa.literal(1)).select_from(table).limit(_FEW).subquery()
        small = int(self.scalar(sa.select(sa.func.count()).select_from(few))) < _FEW
        self.run_sql(f"SET LOCAL enable_nestloop TO {'off' if small else 'DEFAULT'}")

    def settle_stage(self, stage: sa.Table, columns: Sequence[str] | None = None) -> None:
        listed = f" ({', '.join(map(self.database.sql_dialect.identifier_preparer.quote, columns))})" if columns else ""
        self.run_sql(f"ANALYZE {stage.name}{listed}; SET LOCAL work_mem = '64MB'")

    def create_verdict(self, stage: sa.Table, table: TableInfo, key: Sequence[str]) -> tuple[sa.Table, Any]:
        made = self._temporary(table, key, f"{stage.name}_verdict", "tid")
        found = sa.column("ctid", sa.types.NullType())
        found.table = stage
        return made, found

    @contextlib.contextmanager
    def one_by_one(self) -> Iterator[None]:
        # The server holds it dearer than it is to go to the place of a row, and would go through the whole stage again.
        ways = {"enable_hashjoin": "off", "enable_mergejoin": "off", "enable_nestloop": "on"}
        self.run_sql("; ".join(f"SET LOCAL {way} TO {state}" for way, state in ways.items()))
        as_before = "; ".join(f"SET LOCAL {way} TO DEFAULT" for way in ways)
        try:
            yield
        except RowsRefused:
            self.run_sql(as_before)
            raise
        self.run_sql(as_before)


#: The indexes of a table, those of keys first: name, definition, and of a key its name and definition.
_INDEXES = """
SELECT c.relname, pg_get_indexdef(i.indexrelid), k.conname, pg_get_constraintdef(k.oid)
FROM pg_index AS i JOIN pg_class AS c ON c.oid = i.indexrelid
LEFT JOIN pg_constraint AS k ON k.conindid = i.indexrelid AND k.contype IN ('p', 'u', 'x')
WHERE i.indrelid = to_regclass(:name) ORDER BY i.indisprimary DESC, k.conname IS NULL, c.relname
"""


def _escaped(sql: str) -> str:
    """SQL in which a colon is no parameter's."""
    return sql.replace("\\", "\\\\").replace(":", "\\:")


_SENT_AT_ONCE = 1024 * 1024
#: A table of fewer rows is all but empty.
_FEW = 10_000
