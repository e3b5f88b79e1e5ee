"""A database of any SQLAlchemy dialect: describe, read in batches, write in one transaction.

Other modules of this package state only how their database differs.
"""

from __future__ import annotations

import contextlib
import operator
import re
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from functools import cached_property
from typing import Any, ClassVar
from urllib.parse import quote, quote_plus

import pyarrow as pa
import sqlalchemy as sa
from sqlalchemy import exc
from sqlalchemy.engine.reflection import ObjectKind

from kanal.core.arrays import single
from kanal.core.errors import KanalError
from kanal.core.faults import Fault
from kanal.core.frame import Frame, SourceBatch
from kanal.core.nearest import did_you_mean
from kanal.core.types import (
    BIGINT,
    BINARY,
    BOOLEAN,
    DATE,
    DOUBLE,
    INTEGER,
    JSON,
    REAL,
    SMALLINT,
    TEXT,
    TIME,
    TIMESTAMP,
    TIMESTAMPTZ,
    UUID,
    WIDE_DECIMAL,
    Family,
    SqlType,
    decimal,
    varchar,
)
from kanal.databases.description import About, ColumnInfo, ForeignKey, Right, RowCount, TableInfo
from kanal.databases.diagnosis import remedy_for
from kanal.databases.errors import DatabaseError
from kanal.databases.load import AS_IT_IS, Load
from kanal.databases.reading import Breaker, Reading, Window
from kanal.definition.models import redacted


class Database:
    """A named connection. Made without connecting; each use connects."""

    #: What to install where the driver is missing.
    extra: ClassVar[str] = "the driver's package"
    #: True where rows of other tables may refer to rows that are missing, as long as they are there at the commit.
    defers_references: ClassVar[bool] = False
    #: True where several connections can read a table side by side in one snapshot.
    splits: ClassVar[bool] = False
    #: True where the columns of a table cannot have names that differ in case alone.
    folds_columns: ClassVar[bool] = False
    #: The schemas of the server's own, where it has an information_schema.
    system_schemas: ClassVar[tuple[str, ...]] = ()

    #: Whether connections are kept for the next use. Here none is, so that nothing temporary outlives it.
    pooling: ClassVar[dict[str, Any]] = {"poolclass": sa.NullPool}

    #: Where its servers listen, if nothing else is said.
    port: ClassVar[int | None] = None
    #: Seconds that connecting, or waiting for a lock, may take; None for the driver's own way.
    connect_timeout: float | None = None
    lock_timeout: float | None = None

    def __init__(self, name: str, url: sa.URL) -> None:
        self.name = name
        self.url = url
        self._given = url

    # --- connecting ------------------------------------------------------------------------------------------------

    @cached_property
    def engine(self) -> sa.Engine:
        """SQLAlchemy's engine; raises DatabaseError where the driver is missing."""
        try:
            return sa.create_engine(self.url, connect_args=self.connect_arguments(), **self.pooling)
        except ImportError as error:
            raise DatabaseError(
                f"connection {self.name}: the driver {error.name or self.url.drivername} is not installed",
                f"install {self.extra}",
            ) from None

    def connect_arguments(self) -> dict[str, Any]:
        """What the driver is told besides the URL."""
        return {}

    def connect(self) -> sa.Connection:
        """A connection for statements outside of loads; raises DatabaseError."""
        try:
            return self.engine.connect()
        except exc.SQLAlchemyError as error:
            raise self.diagnosed(error) from None

    @property
    def shown_url(self) -> str:
        """The URL without its password."""
        return redacted(self._given.render_as_string(hide_password=True))

    def words_of(self, error: BaseException) -> str:
        """What the database itself said, on one line."""
        original = getattr(error, "orig", None) or error
        return " ".join(self.without_password(str(original)).split())

    def refuses(self, error: exc.SQLAlchemyError) -> bool:
        """True for an error by which the target refuses a row, and not the connection.

        Drivers differ in what they call a broken constraint; what was not a row's fault is then refused for each row,
        and the load given up with the database's words.
        """
        lost = isinstance(error, exc.OperationalError | exc.InterfaceError)
        return isinstance(error, exc.DBAPIError) and not error.connection_invalidated and not lost

    def diagnosed(self, error: exc.SQLAlchemyError) -> DatabaseError:
        """A SQLAlchemy error as one of Kanal's."""
        return self.failed(self.words_of(error))

    def failed(self, words: str) -> DatabaseError:
        """An error in the database's words."""
        text = " ".join(self.without_password(words).split())
        remedy = remedy_for(text, self.url, self.port) or "see what the database says of it"
        return DatabaseError(f"connection {self.name} ({self.shown_url}): {text}", remedy)

    def without_password(self, text: str) -> str:
        """A text with *** in place of the connection's password."""
        password = self.url.password
        if not password or len(password) < 3:
            return text
        for form in (password, *(quote(password, safe=safe) for safe in ("", " +", "/")), quote_plus(password)):
            text = text.replace(form, "***")
        return text

    @contextlib.contextmanager
    def errors(self) -> Iterator[None]:
        """While it lasts, SQLAlchemy's errors become Kanal's."""
        try:
            yield
        except exc.SQLAlchemyError as error:
            raise self.diagnosed(error) from None

    def shares_lock_with(self, other: Database, reading: Reading | None = None, table: str = "") -> bool:
        """True where reading from the one, or this reading from it, would hold up writing to a table of the other."""
        del other, reading, table
        return False

    @property
    def lock(self) -> Any:
        """What is locked as a whole, so that many may read it or one write it; None where rows are."""
        return None

    def dispose(self) -> None:
        """Close what is open."""
        if "engine" in self.__dict__:
            self.engine.dispose()

    # --- what there is ---------------------------------------------------------------------------------------------

    def about(self) -> About:
        """The server, as far as can be told; raises DatabaseError where it cannot be reached."""
        with self.errors(), self.connect() as connection:
            dialect = connection.dialect
            version = ".".join(str(part) for part in dialect.server_version_info or ())
            return About(dialect.name, version, dialect.driver)

    def rights(self, schema: str | None = None) -> list[Right]:
        """What the user may do, as far as can be told."""
        del schema
        return []

    def table_rights(self, table: TableInfo) -> dict[str, bool]:
        """Which of select, insert, update and delete the user may do to a table; empty where that cannot be told."""
        rights = {right.name: right.granted for right in self.rights(table.schema)}
        return {name: granted for name, granted in rights.items() if name in ("select", "insert", "update", "delete")}

    def other_databases(self) -> list[str]:
        """The databases that the server has, as far as can be told."""
        return []

    def row_counts(self, schema: str | None, names: Sequence[str]) -> dict[str, RowCount]:
        """How many rows tables have: counted, or estimated where counting is dear."""
        return {name: self.counted(schema, name) for name in names}

    def counted(self, schema: str | None, name: str) -> RowCount:
        """How many rows a table or view has."""
        query = sa.select(sa.func.count()).select_from(sa.table(name, schema=schema))
        with self.errors(), self.connect() as connection:
            return RowCount(int(connection.execute(query).scalar() or 0), exact=True)

    def rows_of(self, sql: str, **values: Any) -> list[Any]:
        """The rows that a question about the database itself finds."""
        with self.errors(), self.connect() as connection:
            return list(connection.execute(sa.text(sql), values))

    # --- describing ------------------------------------------------------------------------------------------------

    @cached_property
    def _inspector(self) -> sa.Inspector:
        with self.errors():
            return sa.inspect(self.engine)

    @cached_property
    def _foreign_keys_of(self) -> dict[str | None, dict[Any, Any]]:
        return {}

    @cached_property
    def _reflected(self) -> dict[tuple[str | None, str], dict[str, Any]]:
        return {}

    def reflect(self, schema: str | None, names: Collection[str]) -> None:
        """Ask for what `describe` needs of several tables at once, which is much quicker than one by one."""
        wanted = {name for name in names if (schema, name) not in self._reflected}
        if not wanted:
            return
        asked = sorted(wanted)
        with self.errors():
            found: dict[str, Any] = {
                "columns": self._inspector.get_multi_columns(schema, asked, kind=ObjectKind.ANY),
                "primary": self._inspector.get_multi_pk_constraint(schema, asked, kind=ObjectKind.ANY),
                "unique": self._inspector.get_multi_unique_constraints(schema, asked, kind=ObjectKind.ANY),
                "foreign": self._inspector.get_multi_foreign_keys(schema, asked, kind=ObjectKind.ANY),
            }
        for name in wanted:
            parts = {part: answers.get((schema, name)) for part, answers in found.items()}
            self._reflected[schema, name] = parts

    def expect(self, schema: str | None, tables: Collection[str]) -> None:
        """Be told which tables will be described; what is wrong with one is said when it is."""
        with contextlib.suppress(KanalError):
            there = {name.casefold() for name in tables}
            self.reflect(schema, [name for name in self.table_names(schema) if name.casefold() in there])

    def referring(self, table: TableInfo) -> list[TableInfo]:
        """The other tables of the schema with foreign keys to this one."""
        if table.schema not in self._foreign_keys_of:
            with self.errors():
                self._foreign_keys_of[table.schema] = dict(self._inspector.get_multi_foreign_keys(table.schema))
        names = [
            name
            for (_, name), keys in self._foreign_keys_of[table.schema].items()
            if name != table.name
            and any(
                key["referred_table"] == table.name and key["referred_schema"] in (None, table.schema) for key in keys
            )
        ]
        return [self.describe(table.schema, name) for name in names]

    def table_names(self, schema: str | None = None) -> list[str]:
        """The tables and views of a schema, or of the connection's own."""
        tables, views = self._names(schema)
        return sorted([*tables, *views])

    def _names(self, schema: str | None) -> tuple[list[str], list[str]]:
        """The names of tables and of views."""
        if schema not in self._names_of:
            self._names_of[schema] = self._find_names(schema)
        return self._names_of[schema]

    def _find_names(self, schema: str | None) -> tuple[list[str], list[str]]:
        with self.errors():
            return self._inspector.get_table_names(schema), self._inspector.get_view_names(schema)

    def other_schemas(self) -> dict[str, int]:
        """The schemas that have tables, and how many, where the database can tell."""
        if not self.system_schemas:
            return {}
        left_out = ", ".join(f"'{name}'" for name in self.system_schemas)
        found = self.rows_of(
            "SELECT table_schema, count(*) FROM information_schema.tables "
            f"WHERE table_schema NOT IN ({left_out}) GROUP BY 1 ORDER BY 2 DESC, 1"
        )
        return {row[0]: int(row[1]) for row in found}

    def forget_names(self) -> None:
        """Ask anew for tables when they are next wanted, since some were made."""
        self._names_of.clear()
        if "_inspector" in self.__dict__:
            self._inspector.clear_cache()

    @cached_property
    def _names_of(self) -> dict[str | None, tuple[list[str], list[str]]]:
        return {}

    def find_table(self, schema: str | None, table: str) -> str:
        """The table's name as the database has it: exactly, else regardless of case; raises DatabaseError."""
        names = self.table_names(schema)
        if table in names:
            return table
        same = [name for name in names if name.casefold() == table.casefold()]
        if len(same) == 1:
            return same[0]
        where = f"schema {schema} of connection {self.name}" if schema else f"connection {self.name}"
        raise DatabaseError(
            f'There is no table "{table}" in {where}' if not same else f'"{table}" could be {" or ".join(same)}',
            did_you_mean(table, names) or "the database has no tables" if not same else "write the one meant",
        )

    def describe(self, schema: str | None, table: str) -> TableInfo:
        """A table or view; raises DatabaseError where there is none of that name."""
        name = self.find_table(schema, table)
        self.reflect(schema, [name])
        found = self._reflected[schema, name]
        primary = tuple((found["primary"] or {}).get("constrained_columns") or ())
        columns = tuple(self._column(dict(column), primary) for column in found["columns"] or ())
        unique = [tuple(c for c in index["column_names"] if c) for index in found["unique"] or ()]
        foreign = [
            ForeignKey(
                tuple(key["constrained_columns"]),
                key["referred_schema"] or schema,
                key["referred_table"],
                tuple(key["referred_columns"]),
            )
            for key in found["foreign"] or ()
        ]
        is_view = name in self._names(schema)[1]
        return TableInfo(schema, name, columns, primary, tuple(unique), tuple(foreign), is_view)

    def has_table(self, schema: str | None, table: str) -> bool:
        """True where there is a table or view of that name, regardless of case."""
        return table.casefold() in {name.casefold() for name in self.table_names(schema)}

    def indexes(self, table: TableInfo) -> list[tuple[str, ...]]:
        """The columns of each index of a table that is neither its key nor unique."""
        with self.errors():
            found = self._inspector.get_indexes(table.name, table.schema)
        columns = [tuple(index["column_names"]) for index in found if not index["unique"]]
        return [tuple(str(name) for name in names) for names in columns if None not in names]

    def new_column(self, name: str, sql_type: SqlType, nullable: bool, in_key: bool) -> ColumnInfo:
        """A column of a table to be made, of a type that holds every value of a SQL type."""
        declared = self.column_type(sql_type, in_key)
        return ColumnInfo(name, self.type_text(declared), sql_type, sql_type, nullable, dialect_type=declared)

    def column_type(self, sql_type: SqlType, in_key: bool) -> Any:
        """The type of this database, as SQLAlchemy's, that holds every value of a SQL type."""
        del in_key
        if sql_type.family is Family.DECIMAL:
            return sa.Numeric(sql_type.precision, sql_type.scale)
        if sql_type.length is not None:
            return sa.String(sql_type.length)
        return _MADE[sql_type.name]()

    def picture(self, table: TableInfo) -> sa.Table:
        """SQLAlchemy's picture of a table to be made, with its keys and references."""
        columns = [
            sa.Column(column.name, column.dialect_type, nullable=column.nullable, autoincrement=False)
            for column in table.columns
        ]
        keys: list[Any] = [sa.UniqueConstraint(*key) for key in table.unique if set(key) != set(table.primary_key)]
        keys += [sa.PrimaryKeyConstraint(*table.primary_key)] if table.primary_key else []
        metadata = sa.MetaData()
        for key in table.foreign_keys:
            there = f"{key.schema}.{key.table}" if key.schema else key.table
            if key.table != table.name and there not in metadata.tables:
                others = [k for k in table.foreign_keys if (k.schema, k.table) == (key.schema, key.table)]
                referred = dict.fromkeys(name for other in others for name in other.referred)
                sa.Table(key.table, metadata, *(sa.Column(name) for name in referred), schema=key.schema)
            keys.append(sa.ForeignKeyConstraint(key.columns, [f"{there}.{name}" for name in key.referred]))
        return sa.Table(table.name, metadata, *columns, *keys, schema=table.schema)

    def definitions(self, table: TableInfo) -> list[str]:
        """The SQL that makes a table and its indexes."""
        made = self.picture(table)
        for names in table.indexes:
            sa.Index("_".join((table.name, *names))[:60], *(made.c[name] for name in names))
        dialect = self.engine.dialect
        statements = [str(sa.schema.CreateTable(made).compile(dialect=dialect))]
        indexes = sorted(made.indexes, key=lambda index: str(index.name))
        statements += [str(sa.schema.CreateIndex(index).compile(dialect=dialect)) for index in indexes]
        return [re.sub(r"[ \t]+$", "", statement.strip().replace("\t", "    "), flags=re.M) for statement in statements]

    def alteration(self, table: TableInfo, column: ColumnInfo) -> str | None:
        """The SQL that gives a table's column the type of another; None where that cannot be done in place."""
        quote_name = self.engine.dialect.identifier_preparer
        place, name = quote_name.format_table(self.sa_table(table)), quote_name.quote(column.name)
        return f"ALTER TABLE {place} ALTER COLUMN {name} TYPE {column.declared}"

    def addition(self, table: TableInfo, column: ColumnInfo) -> str:
        """The SQL that adds a column to a table."""
        quote_name = self.engine.dialect.identifier_preparer
        place, name = quote_name.format_table(self.sa_table(table)), quote_name.quote(column.name)
        return f"ALTER TABLE {place} ADD COLUMN {name} {column.declared}"

    def _column(self, column: Mapping[str, Any], primary: tuple[str, ...]) -> ColumnInfo:
        sql_type = self.sql_type(column["type"])
        alone = primary == (column["name"],)
        integer = sql_type is not None and sql_type.family is Family.INTEGER
        return ColumnInfo(
            name=column["name"],
            declared=self.type_text(column["type"]),
            type=sql_type,
            stored=self.stored_type(sql_type, column["type"]),
            loose=self.is_loose(sql_type),
            dialect_type=column["type"],
            nullable=bool(column["nullable"]) and column["name"] not in primary,
            filled=(
                column.get("default") is not None
                or column.get("computed") is not None
                or column.get("identity") is not None
                or (alone and integer and column.get("autoincrement") is True)
            ),
            generated=column.get("computed") is not None,
        )

    def type_text(self, declared: Any) -> str:
        """One of SQLAlchemy's types as this database writes it."""
        try:
            return str(declared.compile(dialect=self.engine.dialect))
        except exc.CompileError:
            return str(declared)

    def stored_type(self, sql_type: SqlType | None, declared: Any) -> SqlType:
        """The type in which the reader delivers a column's values."""
        del declared
        return sql_type or TEXT

    def is_loose(self, sql_type: SqlType | None) -> bool:
        """True for a type of which the database holds values that Kanal's cannot, which then come as strays."""
        del sql_type
        return False

    def sql_type(self, declared: Any) -> SqlType | None:
        """Kanal's type for one of SQLAlchemy's, None where there is none."""
        for kind, make in _TYPES:
            if isinstance(declared, kind):
                found: SqlType = make(declared) if callable(make) else make
                return found
        return None

    def describe_query(self, query: str) -> TableInfo:
        """The columns that a query gives, by running it for no rows; their types as text where unknown."""
        with self.errors(), self.engine.connect() as connection:
            nothing = f"SELECT * FROM ({query.rstrip().rstrip(';')}\n) AS q WHERE 1 = 0"
            result = connection.exec_driver_sql(nothing, execution_options=AS_IT_IS)
            described = result.cursor.description if result.cursor is not None else ()
            columns = tuple(self.query_column(column[0], column) for column in described)
        names = [column.name for column in columns]
        for name in names:
            if names.count(name) > 1:
                raise DatabaseError(f'the query gives two columns named "{name}"', "name them apart with AS")
        return TableInfo(None, "query", columns, is_view=True)

    def query_column(self, name: str, described: Sequence[Any]) -> ColumnInfo:
        """A column of a query, by what its driver's cursor says of it."""
        del described
        return ColumnInfo(name, "", TEXT, TEXT)

    def sa_table(self, table: TableInfo) -> sa.Table:
        """SQLAlchemy's picture of a table, for composing statements."""
        columns = [
            sa.Column(column.name, column.dialect_type or sa.types.NullType(), autoincrement=False)
            for column in table.columns
        ]
        return sa.Table(table.name, sa.MetaData(), *columns, schema=table.schema)

    def differs(self, left: sa.Column[Any], right: sa.Column[Any]) -> sa.ColumnElement[bool]:
        """The condition that two values of a column's type are not the same, NULL being the same as NULL."""
        return left.is_distinct_from(right)

    # --- reading ---------------------------------------------------------------------------------------------------

    def selection(self, reading: Reading) -> sa.Select[Any]:
        """The SELECT of a reading."""
        source: Any
        if reading.query is not None:
            body = sa.text(reading.query.rstrip().rstrip(";").replace(":", "\\:") + "\n").columns(
                *(sa.column(name) for name in reading.table.names)
            )
            source = body.subquery("q")
        else:
            source = sa.table(
                reading.table.name,
                *(sa.column(name) for name in reading.table.names),
                schema=reading.table.schema,
            )
        statement = sa.select(*(self.delivered(reading.table, source.c[name]) for name in reading.columns))
        for name, comparison, value in reading.conditions:
            statement = statement.where(_COMPARISONS[comparison](source.c[name], value))
        for window in reading.windows:
            statement = statement.where(self._within(source.c[window.column], window))
        if reading.last:
            beyond = _beyond([source.c[name] for name in reading.order_by], reading.last)
            statement = statement.where(sa.not_(beyond) if reading.up_to_last else beyond)
        if reading.order_by:
            statement = statement.order_by(*(source.c[name] for name in reading.order_by))
        return statement if reading.limit is None else statement.limit(reading.limit)

    def _within(self, column: sa.ColumnElement[Any], window: Window) -> sa.ColumnElement[bool]:
        parts = [column >= self.comparable(window.low)] if window.low is not None else []
        parts += [column < self.comparable(window.high)] if window.high is not None else []
        inside = sa.and_(sa.true(), *parts)
        return sa.or_(inside, column.is_(None)) if window.with_null else inside

    def comparable(self, value: Any) -> Any:
        """A value as it is compared with a column's."""
        return value

    @contextlib.contextmanager
    def snapshot(self, table: TableInfo, count: int) -> Iterator[list[Any]]:
        """So many connections for `read` that see one and the same state of a table."""
        raise NotImplementedError
        yield

    def bounds(self, table: TableInfo, column: str) -> tuple[Any, Any]:
        """The least and the greatest value of a column; None in a table without any."""
        place = self.sa_table(table)
        query = sa.select(sa.func.min(place.c[column]), sa.func.max(place.c[column]))
        with self.errors(), self.connect() as connection:
            return tuple(connection.execute(query).one())

    def delivered(self, table: TableInfo, column: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
        """A column as it is selected, where the driver would not deliver it as it should be."""
        del table
        return column

    @contextlib.contextmanager
    def read(
        self, reading: Reading, within: Load | None = None, breaker: Breaker | None = None, connection: Any = None
    ) -> Iterator[Iterator[SourceBatch]]:
        """Batches of a table's or query's rows, in one consistent snapshot; as a transaction sees them, if given.

        By one of the connections of `snapshot`, if given. `breaker` is told how to break it off.
        """
        del connection, breaker
        types = {column.name: column.stored for column in reading.table.columns}
        connecting = self.connect() if within is None else contextlib.nullcontext(within.connection)
        with self.errors(), connecting as connection:
            # For this statement alone: the options of a connection would hold for the rest of a transaction too.
            streaming = {"stream_results": True, "max_row_buffer": reading.batch_rows}
            result = connection.execute(self.selection(reading), execution_options=streaming)

            def batches() -> Iterator[SourceBatch]:
                while rows := result.fetchmany(reading.batch_rows):
                    columns = list(zip(*rows, strict=True))
                    yield SourceBatch(
                        len(rows),
                        {name: _array(columns[place], types[name]) for place, name in enumerate(reading.columns)},
                    )

            yield batches()

    def read_columns(self, table: TableInfo, columns: Sequence[str], within: Load | None = None) -> dict[str, pa.Array]:
        """Whole columns of a table in memory, for a look-up; values that their type cannot hold become NULL."""
        types = {name: column.type for name, column in table.source_columns().items()}
        parts: dict[str, list[pa.Array]] = {name: [] for name in columns}
        with self.read(Reading(table, None, tuple(columns), 100_000), within) as batches:
            for batch in batches:
                frame = Frame(batch, types)
                for name in columns:
                    parts[name].append(frame.column((None, name)))
        return {
            name: single(pa.chunked_array(found, types[name].arrow)) if found else pa.array([], types[name].arrow)
            for name, found in parts.items()
        }

    # --- writing ---------------------------------------------------------------------------------------------------

    def storable(self, table: TableInfo, rows: pa.RecordBatch) -> tuple[pa.RecordBatch, list[tuple[str, Fault]]]:
        """The rows as this database takes them, and the faults of values that it could not hold unchanged."""
        del table
        return rows, []

    @contextlib.contextmanager
    def load(self) -> Iterator[Load]:
        """One transaction on this database; it is undone unless it was committed."""
        with self.errors():
            load = self.new_load()
        try:
            yield load
        finally:
            load.close()

    def new_load(self) -> Load:
        """A transaction that has begun."""
        return Load(self)

    def define(self, statements: Sequence[str]) -> None:
        """Make a table with what belongs to it; all or nothing, where the database can."""
        for statement in statements:
            self.run_command(statement)

    def run_command(self, sql: str) -> int:
        """Run the statements of a command in one transaction; the number of rows that they changed."""
        with self.load() as load:
            rows = load.run_sql(sql)
            load.commit()
            return rows


def _beyond(columns: Sequence[Any], last: Sequence[int | str]) -> sa.ColumnElement[bool]:
    """The condition that columns, taken together, come after these values in their order."""
    ways = []
    for place, (column, value) in enumerate(zip(columns, last, strict=True)):
        same = [before == known for before, known in zip(columns[:place], last, strict=False)]
        ways.append(sa.and_(*same, column > value))
    return sa.or_(*ways)


def _array(values: Sequence[Any], sql_type: SqlType) -> pa.Array:
    """Python values of a driver as an array of the type; as text where they do not agree with it."""
    try:
        return pa.array(values, sql_type.arrow)
    except (pa.ArrowInvalid, pa.ArrowTypeError, OverflowError):
        return pa.array([None if value is None else str(value) for value in values], pa.string())


def _varchar(declared: Any) -> SqlType:
    return varchar(declared.length) if declared.length else TEXT


def _decimal(declared: Any) -> SqlType:
    if declared.precision is None:
        return WIDE_DECIMAL
    return decimal(declared.precision, declared.scale or 0)


_COMPARISONS: dict[str, Any] = {
    "=": operator.eq,
    "<>": operator.ne,
    "<": operator.lt,
    "<=": operator.le,
    ">": operator.gt,
    ">=": operator.ge,
    "IS NULL": lambda column, _: column.is_(None),
    "IS NOT NULL": lambda column, _: column.is_not(None),
}

#: What makes the type of a column, by the SQL type's name.
_MADE: dict[str, Callable[[], Any]] = {
    "smallint": sa.SmallInteger,
    "integer": sa.Integer,
    "bigint": sa.BigInteger,
    "real": sa.REAL,
    "double precision": sa.Double,
    "boolean": sa.Boolean,
    "text": sa.Text,
    "date": sa.Date,
    "time": sa.Time,
    "timestamp": sa.DateTime,
    "timestamp with time zone": lambda: sa.DateTime(timezone=True),
    "binary": sa.LargeBinary,
    "uuid": sa.Uuid,
    "json": sa.JSON,
    "interval": sa.Text,
}

#: SQLAlchemy's type: Kanal's, or what makes it. The first that fits is taken, so the narrower stand first.
_TYPES: list[tuple[Any, Any]] = [
    (sa.Boolean, BOOLEAN),
    (sa.SmallInteger, SMALLINT),
    (sa.BigInteger, BIGINT),
    (sa.Integer, INTEGER),
    (sa.REAL, REAL),
    (sa.Float, DOUBLE),
    (sa.Numeric, _decimal),
    (sa.Uuid, UUID),
    (sa.JSON, JSON),
    (sa.Enum, TEXT),
    (sa.String, _varchar),
    (sa.DateTime, lambda declared: TIMESTAMPTZ if declared.timezone else TIMESTAMP),
    (sa.Date, DATE),
    (sa.Time, TIME),
    ((sa.LargeBinary, sa.BINARY, sa.VARBINARY), BINARY),
]
