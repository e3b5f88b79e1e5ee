"""PostgreSQL, by COPY in binary form both ways."""

from __future__ import annotations

import contextlib
import errno
from collections.abc import Hashable, Iterator, Mapping, Sequence
from functools import cached_property, partial
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import sqlalchemy as sa
from msgspec.structs import replace

from kanal.connections.base import Connection, Digest
from kanal.connections.description import ColumnInfo, TableInfo
from kanal.connections.errors import DatabaseError, state_passes
from kanal.connections.loading import Load
from kanal.connections.reading import Breaker, Reading
from kanal.connections.roles import Reads, Writes
from kanal.connections.sql.access import AS_IT_IS
from kanal.connections.sql.copy_rows import form_of, most_rows
from kanal.connections.sql.database import SqlDatabase
from kanal.connections.sql.ddl import TableDefinitions
from kanal.connections.sql.load import SqlLoad, sql_load
from kanal.connections.sql.named_type import NamedType
from kanal.connections.sql.postgresql_access import PostgreSQLAccess
from kanal.connections.sql.postgresql_batches import copied_batches
from kanal.connections.sql.postgresql_catalogue import PostgreSQLCatalogue
from kanal.connections.sql.postgresql_load import PostgreSQLLoad
from kanal.connections.sql.postgresql_rows import DriverBlocks, ServerError, SocketBlocks
from kanal.connections.sql.postgresql_types import is_direct, is_wide
from kanal.connections.sql.postgresql_values import misfits, own_form
from kanal.connections.sql.selects import Selects
from kanal.core.carried_rows import CarriedRows
from kanal.core.errors import KanalError
from kanal.core.faults import Fault
from kanal.core.frame import SourceBatch
from kanal.core.native import OwnForm
from kanal.core.types import TEXT, Family


class PostgreSQLTableDefinitions(TableDefinitions):
    """A table is created with what belongs to it, or not at all."""

    database: PostgreSQLAccess
    keeps_types = True
    has_identity = True
    comments_apart = True
    in_one_transaction = True

    def like(self, taken: ColumnInfo, in_key: bool) -> ColumnInfo | None:
        del in_key
        if not isinstance(taken.dialect_type, NamedType):
            return taken if taken.dialect_type is not None and self._has_collation(taken.dialect_type) else None
        return taken if taken.values or self._has_type(taken.declared) else None

    def _has_collation(self, declared: Any) -> bool:
        name = getattr(declared, "collation", None)
        return name is None or bool(
            self.database.rows_of("SELECT 1 FROM pg_collation WHERE collname = :name LIMIT 1", name=name)
        )

    def _has_type(self, name: str) -> bool:
        with contextlib.suppress(DatabaseError):
            return self.database.rows_of("SELECT to_regtype(:name) IS NOT NULL", name=name) == [(True,)]
        return False

    def checks_values(self, column: ColumnInfo) -> bool:
        return bool(column.values) and not isinstance(column.dialect_type, NamedType)

    def definitions(self, table: TableInfo) -> list[str]:
        return [*map(self._enumeration, self._missing_enumerations(table)), *super().definitions(table)]

    def _missing_enumerations(self, table: TableInfo) -> list[ColumnInfo]:
        """The columns of types with values of their own that do not exist here yet, one for each type."""
        own = {column.declared: column for column in table.columns
               if column.values and isinstance(column.dialect_type, NamedType)}  # fmt: skip
        return [column for name, column in own.items() if not self._has_type(name)]

    @staticmethod
    def _enumeration(column: ColumnInfo) -> str:
        """The SQL that makes the type of a column; nothing if another table has made it meanwhile."""
        values = ", ".join("'" + value.replace("'", "''") + "'" for value in column.values)
        return (
            f"DO $kanal$ BEGIN CREATE TYPE {column.declared} AS ENUM ({values}); "
            "EXCEPTION WHEN duplicate_object THEN NULL; END $kanal$"
        )


class PostgreSQLSelects(Selects):
    """What comes in another form than the column has."""

    def delivered(self, table: TableInfo, column: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
        info = table.column(str(column.key))
        if info is None:
            return column
        goes_as_text = info.type is None or info.type.family in (Family.UUID, Family.JSON)
        if goes_as_text or isinstance(info.dialect_type, sa.CHAR) or is_wide(info.type):
            # Of char(n), the cast leaves out the blanks with which it is filled up.
            return sa.cast(column, sa.Text).label(info.name)
        return column

    def bytewise(self, column: Any) -> Any:
        return sa.collate(sa.cast(column, sa.Text), "C")

    def ordinary(self, column: sa.ColumnElement[Any]) -> list[sa.ColumnElement[bool]]:
        years = sa.func.extract("year", column)
        return [sa.func.isfinite(column), years >= 1, years <= 9999]


class PostgreSQL(PostgreSQLAccess, SqlDatabase):
    """A PostgreSQL database."""

    reads = frozenset(Reads) - {Reads.FILES}
    writes = frozenset(Writes) - {Writes.FILES}

    @cached_property
    def catalogue(self) -> PostgreSQLCatalogue:
        return PostgreSQLCatalogue(self)

    @cached_property
    def ddl(self) -> PostgreSQLTableDefinitions:
        return PostgreSQLTableDefinitions(self, self.run_command)

    @cached_property
    def selects(self) -> PostgreSQLSelects:
        return PostgreSQLSelects(self)

    def shares_lock_with(
        self, other: Connection, reading: Reading | None = None, table: TableInfo | None = None
    ) -> bool:
        # Emptying a table locks it against whoever reads it, this step's own reader among them.
        if reading is None or table is None or self.identity != other.identity:
            return False
        return reading.table.is_view or self.overlaps(reading.table, other, table)

    def place_of(self, table: TableInfo) -> Hashable:
        return self.identity, *self.catalogue._whole_place(table.schema, table.name)

    def has_parts(self, table: TableInfo) -> bool:
        place = self.catalogue._whole_place(table.schema, table.name)
        return place in self.catalogue._parents or any(place in parents for parents in self.catalogue._parents.values())

    def overlaps(self, table: TableInfo, other: Connection, there: TableInfo) -> bool:
        if self.identity != other.identity:
            return False
        one, two = (
            self.catalogue._whole_place(table.schema, table.name),
            self.catalogue._whole_place(there.schema, there.name),
        )
        # A table has the rows of its partitions, and of those that inherit from it.
        return one in self.catalogue._line_of(two) or two in self.catalogue._line_of(one)

    def carries(self, column: ColumnInfo, target: Connection, there: ColumnInfo) -> bool:
        if (
            not isinstance(target, PostgreSQL)
            or column.type is None
            or column.type.family in (Family.UUID, Family.JSON)
        ):
            return False
        alike = column.type == there.type and column.declared.lower() == there.declared.lower()
        return (
            alike
            and is_direct(there.dialect_type)
            and not (isinstance(there.dialect_type, sa.CHAR) or is_wide(column.type))
        )

    def own_form(self, column: ColumnInfo, target: Connection, there: ColumnInfo) -> OwnForm | None:
        known = column.type is not None and there.type is not None
        if not known or not isinstance(target, PostgreSQL) or column.declared.lower() != there.declared.lower():
            return None
        as_text = column.stored == TEXT and column.type != TEXT
        return own_form if as_text or column.loose else None

    def moves_to(self, target: Connection) -> bool:
        return isinstance(target, PostgreSQL) and self.identity == target.identity

    def digest(self, table: TableInfo, columns: Sequence[str]) -> Digest | None:
        quote, loose = self.sql_dialect.identifier_preparer.quote, self._loosely_compared(table)
        hashes = []
        for place, column in enumerate(table.chosen(columns)):
            if column.type is None or column.name in loose or not self.carries(column, self, column):
                return None
            seed = _SEED + place  # by which it counts in which column a value stands
            found = _HASHES.get(column.type.family, _HASH_OF_TEXT).format(quote(column.name), seed)
            hashes.append(f"coalesce({found}, {seed})" if column.nullable else found)
        sql = (
            f"SELECT count(*), coalesce(sum(hashtextextended('', {' # '.join(hashes)})), 0), "
            f"count(*) FILTER (WHERE {self.odd(table, columns)}), "
            f"current_setting('server_version_num')::integer / 10000, getdatabaseencoding() FROM {self.written(table)}"
        )
        try:
            with self.errors(), self.connect() as connection:
                rows, number, strays, *kind = connection.exec_driver_sql(sql, execution_options=AS_IT_IS).one()
        except DatabaseError:  # a type that has no hash, or a server that has no such function
            return None
        return None if strays else Digest(("postgresql", *kind), int(rows), int(number))

    def key_form(self, table: TableInfo, name: str, values: pa.Array) -> pa.Array:
        info = table.column(name)
        if info is None or not pa.types.is_string(values.type):
            return values
        if isinstance(info.dialect_type, sa.CHAR):
            return pc.utf8_rtrim(values, " ")
        base = getattr(info.dialect_type, "data_type", None)  # of a domain
        if "citext" in (info.declared.lower(), type(base).__name__.lower()):
            lowered = "SELECT lower(v) FROM unnest(CAST(:texts AS text[])) WITH ORDINALITY AS t(v, n) ORDER BY n"
            rows = self.rows_of(lowered, texts=values.to_pylist())
            return pa.array([row[0] for row in rows], pa.string())
        if info.name in self._loosely_compared(table):
            raise DatabaseError(
                f"the key column {info.name} of {table.name} has a collation in which different texts are equal, and "
                "which texts these are PostgreSQL does not tell",
                "give the column a deterministic collation, or make the key of another column",
            )
        return values

    def _loosely_compared(self, table: TableInfo) -> set[str]:
        """The columns of a table whose collation holds different texts equal."""
        place = self.place_of(table)
        if place not in self._loose_columns:
            rows = self.rows_of(
                "SELECT attname FROM pg_attribute AS a JOIN pg_collation AS c ON c.oid = a.attcollation "
                "WHERE NOT c.collisdeterministic AND a.attrelid = to_regclass(:name)",
                name=self.written(table),
            )
            self._loose_columns[place] = {row[0] for row in rows}
        return self._loose_columns[place]

    @cached_property
    def _loose_columns(self) -> dict[Hashable, set[str]]:
        return {}

    @cached_property
    def _unencrypted(self) -> bool:
        """True if what the server sends comes over the socket as it is."""
        with self.connect() as connection:
            driver: Any = connection.connection.driver_connection
            if driver.pgconn.ssl_in_use:
                return False
        try:
            rows = self.rows_of("SELECT encrypted FROM pg_stat_gssapi WHERE pid = pg_backend_pid()")
        except DatabaseError:
            return False
        return not any(row[0] for row in rows)

    @contextlib.contextmanager
    def _rows(
        self, reading: Reading, within: Load | None = None, breaker: Breaker | None = None, connection: Any = None
    ) -> Iterator[Iterator[SourceBatch]]:
        if not reading.columns:
            reading = replace(reading, columns=(reading.table.names[0],))
        # Fields of one length first: these are looked at all at once.
        columns = sorted(reading.table.chosen(reading.columns), key=lambda column: form_of(column.stored) is None)
        stored, asked = [column.stored for column in columns], tuple(column.name for column in columns)
        places = {name: asked.index(name) for name in reading.columns}
        sql = (
            f"COPY ({self.compiled(self.selects.selection(replace(reading, columns=asked)))}) TO STDOUT (FORMAT binary)"
        )
        given = connection if within is None else sql_load(within).connection
        # The texts of types that only the server knows depend on its settings.
        settled = any(column.type is None for column in columns)
        connecting = self.connect() if given is None else contextlib.nullcontext(given)
        with connecting as connected:
            driver: Any = connected.connection.driver_connection
            known = contextlib.nullcontext() if breaker is None else breaker.knows(partial(self.break_off, driver))
            with known, _read_settings(connected, given is not None) if settled else contextlib.nullcontext():
                blocks = self._blocks(driver, sql)

                try:
                    with self._server_errors():
                        rows = min(reading.batch_rows, most_rows(reading.batch_bytes // 2, stored))
                        yield copied_batches(blocks, places, stored, rows, reading.batch_bytes)
                finally:
                    if not self._ended(blocks):
                        # The rest is not wanted: rather than read it all, the connection is given up.
                        connected.invalidate()
                        driver.close()

    def _blocks(self, driver: Any, sql: str) -> Any:
        return SocketBlocks(driver, sql) if self._unencrypted else DriverBlocks(driver, sql)

    def _ended(self, blocks: Any) -> bool:
        blocks.close()
        return bool(blocks.ended)

    @contextlib.contextmanager
    def _server_errors(self) -> Iterator[None]:
        import psycopg

        try:
            yield
        except ServerError as error:
            raise self.failed(error.words, state_passes(error.sqlstate)) from None
        except psycopg.Error as error:
            raise self.failed(self.words_of(error), self.passes(error)) from None
        except OSError as error:
            if error.filename is None and error.errno in _CUT_OFF:
                raise self.failed(f"connection lost: {error.strerror}", passing=True) from None
            raise

    @contextlib.contextmanager
    def snapshot(self, table: TableInfo, count: int) -> Iterator[list[Any]]:
        with self._sharing() as (first, name), contextlib.ExitStack() as stack:
            yield [first, *(stack.enter_context(self.shared_snapshot(name)) for _ in range(count - 1))]

    @contextlib.contextmanager
    def share_snapshot(self) -> Iterator[str]:
        with self._sharing() as (_, name):
            yield name

    @contextlib.contextmanager
    def _sharing(self) -> Iterator[tuple[sa.Connection, str]]:
        """A connection, and the name of the state that it sees."""
        with self._of_one_state() as connection:
            with self.errors():
                # It has nothing to do, for as long as others read.
                connection.exec_driver_sql("SET LOCAL idle_in_transaction_session_timeout = 0")
                name = str(connection.exec_driver_sql("SELECT pg_export_snapshot()").scalar())
            yield connection, name

    @contextlib.contextmanager
    def shared_snapshot(self, name: str) -> Iterator[Any]:
        with self._of_one_state() as connection:
            try:
                with self.errors():
                    connection.exec_driver_sql(f"SET TRANSACTION SNAPSHOT '{name}'")
            except DatabaseError as error:
                # Whoever held it is gone; with another one, all begin again.
                raise DatabaseError(error.what, error.remedy, passing=True) from None
            yield connection

    @contextlib.contextmanager
    def _of_one_state(self) -> Iterator[sa.Connection]:
        with self.connect() as connection:
            with self.errors():
                connection.execution_options(isolation_level="REPEATABLE READ", postgresql_readonly=True)
            yield connection

    def why_not_swapped(self, table: TableInfo) -> list[str]:
        """What would break or be lost by exchanging a table for a new one; empty if it can be exchanged."""
        return self._reasons(_UNSWAPPABLE, table)

    def why_not_rebuilt(self, table: TableInfo) -> list[str]:
        """What would break or be lost by rebuilding the indexes of a table; empty if they can be rebuilt."""
        return self._reasons(_UNBUILDABLE, table)

    def _reasons(self, query: str, table: TableInfo) -> list[str]:
        return [str(why) for (why,) in self.found_by(sa.text(query).bindparams(name=self.written(table)))]

    def change(self, statement: sa.Executable) -> int:
        # The server commits it by itself: a process that is held up just then leaves no lock.
        with self.errors(), self.connect() as connection:
            return connection.execution_options(isolation_level="AUTOCOMMIT").execute(statement).rowcount

    def end_session(self, session: str) -> None:
        pid, _, start = session.partition(" ")
        same = "pid = CAST(:pid AS integer) AND backend_start = CAST(:start AS timestamptz)"
        found = sa.text(f"SELECT count(pg_terminate_backend(pid)) FROM pg_stat_activity WHERE {same}")
        with contextlib.suppress(KanalError):  # of another user's, perhaps
            self.scalar(found.bindparams(pid=pid, start=start))

    def storable(self, table: TableInfo, rows: pa.RecordBatch) -> tuple[pa.RecordBatch, list[tuple[str, Fault]]]:
        faults: list[tuple[str, Fault]] = []
        # What was carried comes from a column of the same type.
        names = rows.computed if isinstance(rows, CarriedRows) else rows.schema.names
        for name in names:
            info, values = table.column(name), rows.column(name)
            faults += [(name, fault) for fault in misfits(values, info.dialect_type if info else None)]
        return rows, faults

    def new_load(self) -> SqlLoad:
        return PostgreSQLLoad(self, self.catalogue, self)


#: A number from which the hashes of a row's columns begin.
_SEED = 4711
#: The hash of a value by its family, of which all 64 bits depend on all of the value. The server's own of a bigint is
#: the same for 1 and 4294967296, that of a decimal does not see its sign, and -0.0 has that of 0.0. The server's hash
#: of a row is a sum of those of its values, so that a sum of them would not see which values are in one row.
_HASHES = {
    Family.INTEGER: "hashint8extended({0}::bigint >> 32, hashint8extended({0}::bigint & 4294967295, {1}))",
    Family.DOUBLE: "CASE WHEN {0} = 0 THEN hashtextextended({0}::text, {1}) ELSE hashfloat8extended({0}, {1}) END",
    Family.BOOLEAN: "hashint4extended({0}::integer, {1})",
    Family.DATE: "hashint4extended({0} - date '2000-01-01', {1})",
    Family.TEXT: "hashtextextended({0}, {1})",
    Family.TIMESTAMPTZ: "hashtextextended(({0} AT TIME ZONE 'UTC')::text, {1})",
    Family.BINARY: "hash_record_extended(ROW({0}), {1})",
}
_HASH_OF_TEXT = "hashtextextended({0}::text, {1})"
#: What of a table does not go with a new one that is made like it, or would hold on to the old one.
_UNSWAPPABLE = """
WITH t AS (SELECT * FROM pg_class WHERE oid = to_regclass(:name))
SELECT 'view ' || v.relname || ' reads it' FROM t JOIN pg_depend AS d ON d.refobjid = t.oid
    JOIN pg_rewrite AS r ON r.oid = d.objid JOIN pg_class AS v ON v.oid = r.ev_class AND v.oid <> t.oid
    GROUP BY v.relname
UNION ALL SELECT 'foreign key ' || c.conname || CASE WHEN c.conrelid = t.oid THEN ' is one of its own'
    ELSE ' refers to it' END FROM t JOIN pg_constraint AS c ON c.contype = 'f' AND t.oid IN (c.conrelid, c.confrelid)
UNION ALL SELECT 'trigger ' || g.tgname || ' belongs to it' FROM t JOIN pg_trigger AS g ON g.tgrelid = t.oid
    WHERE NOT g.tgisinternal
UNION ALL SELECT 'it has rules about which rows a user sees' FROM t WHERE t.relrowsecurity
UNION ALL SELECT 'it is a part of another table, or has parts' FROM t WHERE t.relkind <> 'r' OR t.relispartition
    OR EXISTS (SELECT FROM pg_inherits AS i WHERE t.oid IN (i.inhrelid, i.inhparent))
UNION ALL SELECT 'rights to it were granted' FROM t WHERE t.relacl IS NOT NULL
    OR EXISTS (SELECT FROM pg_attribute AS a WHERE a.attrelid = t.oid AND a.attacl IS NOT NULL)
UNION ALL SELECT 'it belongs to ' || pg_get_userbyid(t.relowner) FROM t
    WHERE pg_get_userbyid(t.relowner) <> current_user
UNION ALL SELECT 'its column ' || a.attname || ' numbers rows by itself'
    FROM t JOIN pg_attribute AS a ON a.attrelid = t.oid
    LEFT JOIN pg_attrdef AS f ON f.adrelid = t.oid AND f.adnum = a.attnum
    WHERE a.attidentity <> '' OR pg_get_expr(f.adbin, f.adrelid) LIKE 'nextval(%'
UNION ALL SELECT 'it is published to subscribers' FROM t JOIN pg_publication_rel AS p ON p.prrelid = t.oid
"""
#: What hangs on the indexes of a table, or would not come back with them.
_UNBUILDABLE = """
WITH t AS (SELECT * FROM pg_class WHERE oid = to_regclass(:name)),
    i AS (SELECT c.relname, c.reloptions, c.reltablespace, x.*, k.oid AS key FROM t
        JOIN pg_index AS x ON x.indrelid = t.oid JOIN pg_class AS c ON c.oid = x.indexrelid
        LEFT JOIN pg_constraint AS k ON k.conindid = x.indexrelid AND k.contype IN ('p', 'u', 'x'))
SELECT 'foreign key ' || c.conname || ' refers to it' FROM t JOIN pg_constraint AS c
    ON c.contype = 'f' AND c.confrelid = t.oid
UNION ALL SELECT 'it is a part of another table, or has parts' FROM t WHERE t.relkind <> 'r' OR t.relispartition
    OR EXISTS (SELECT FROM pg_inherits AS h WHERE t.oid IN (h.inhrelid, h.inhparent))
UNION ALL SELECT 'it belongs to ' || pg_get_userbyid(t.relowner) FROM t
    WHERE NOT pg_has_role(current_user, t.relowner, 'USAGE')
UNION ALL SELECT 'it is published to subscribers, who know its rows by its key' FROM t
    WHERE EXISTS (SELECT FROM pg_publication_rel AS p WHERE p.prrelid = t.oid)
    OR EXISTS (SELECT FROM pg_publication WHERE puballtables)
UNION ALL SELECT 'view ' || v.relname || ' needs its key' FROM i JOIN pg_depend AS d ON d.refobjid = i.key
    JOIN pg_rewrite AS r ON r.oid = d.objid JOIN pg_class AS v ON v.oid = r.ev_class GROUP BY v.relname
UNION ALL SELECT 'index ' || i.relname || ' has settings, a place, statistics or a comment of its own, or is not valid'
    FROM i WHERE i.reloptions IS NOT NULL OR i.reltablespace <> 0 OR i.indisclustered OR i.indisreplident
    OR NOT i.indisvalid OR obj_description(i.indexrelid, 'pg_class') IS NOT NULL
    OR obj_description(i.key, 'pg_constraint') IS NOT NULL
    OR EXISTS (SELECT FROM pg_attribute AS a WHERE a.attrelid = i.indexrelid AND coalesce(a.attstattarget, -1) >= 0)
"""
_CUT_OFF = (errno.ECONNRESET, errno.EPIPE, errno.ETIMEDOUT, errno.ENOTCONN, errno.EBADF)
_SETTINGS = {"TimeZone": "UTC", "IntervalStyle": "iso_8601", "DateStyle": "ISO, MDY", "extra_float_digits": "1"}


@contextlib.contextmanager
def _read_settings(connection: sa.Connection, restore: bool) -> Iterator[None]:
    """While this lasts, the server writes times and intervals in one way; afterwards as it did, if that matters."""

    def tell(values: Mapping[str, str]) -> None:
        for name, value in values.items():
            connection.execute(sa.select(sa.func.set_config(name, value, True)))

    before = {name: str(connection.execute(sa.select(sa.func.current_setting(name))).scalar()) for name in _SETTINGS}
    tell(_SETTINGS)
    yield
    if restore:
        tell(before)


__all__ = ["PostgreSQL"]
