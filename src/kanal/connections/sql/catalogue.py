"""What a database of any SQLAlchemy dialect says of itself: tables, columns and keys, and what its user may do."""

from __future__ import annotations

import contextlib
from collections.abc import Collection, Mapping, Sequence
from functools import cached_property
from typing import Any, ClassVar

import sqlalchemy as sa
from sqlalchemy import exc
from sqlalchemy.engine.reflection import ObjectKind

from kanal.connections.description import About, ColumnInfo, ForeignKey, Right, RowCount, SpecialIndex, TableInfo
from kanal.connections.errors import DatabaseError
from kanal.connections.roles import Reads, lacks
from kanal.connections.sql.access import AS_IT_IS, SqlAccess
from kanal.core.errors import KanalError
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


class Catalogue:
    """What there is in a database. Asked once if nothing is expected to change; `forget_names` asks again."""

    #: The schemas of the server's own, if it has an information_schema.
    system_schemas: ClassVar[tuple[str, ...]] = ()

    def __init__(self, database: SqlAccess) -> None:
        self.database = database

    def about(self) -> About:
        """The server, as far as it is known; raises DatabaseError if it cannot be reached."""
        with self.database.errors(), self.database.connect() as connection:
            dialect = connection.dialect
            version = ".".join(str(part) for part in dialect.server_version_info or ())
            return About(dialect.name, version, dialect.driver)

    def rights(self, schema: str | None = None) -> list[Right]:
        """What the user may do, as far as it is known."""
        del schema
        return []

    def table_rights(self, table: TableInfo) -> dict[str, bool]:
        """Which of select, insert, update and delete the user may do to a table; empty if that is not known."""
        rights = {right.name: right.granted for right in self.rights(table.schema)}
        return {name: granted for name, granted in rights.items() if name in ("select", "insert", "update", "delete")}

    def other_databases(self) -> list[str]:
        """The databases of the server, as far as they are known."""
        return []

    def row_counts(self, schema: str | None, names: Sequence[str]) -> dict[str, RowCount]:
        """The numbers of rows of tables: counted, or estimated if counting takes long."""
        return {name: self.counted(schema, name) for name in names}

    def counted(self, schema: str | None, name: str) -> RowCount:
        """How many rows a table or view has."""
        query = sa.select(sa.func.count()).select_from(sa.table(name, schema=schema))
        with self.database.errors(), self.database.connect() as connection:
            return RowCount(int(connection.execute(query).scalar() or 0), exact=True)

    @cached_property
    def _inspector(self) -> sa.Inspector:
        with self.database.errors():
            return sa.inspect(self.database.engine)

    @cached_property
    def _referrers_of(self) -> dict[str | None, dict[str, dict[str, None]]]:
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
        with self.database.errors():
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
        if table.schema not in self._referrers_of:
            with self.database.errors():
                found = self._inspector.get_multi_foreign_keys(table.schema)
            referrers: dict[str, dict[str, None]] = {}
            for (_, name), keys in found.items():
                for key in keys:
                    if name is not None and key["referred_schema"] in (None, table.schema):
                        referrers.setdefault(key["referred_table"], {})[name] = None
            self._referrers_of[table.schema] = referrers
        names = self._referrers_of[table.schema].get(table.name, ())
        return [self.describe(table.schema, name) for name in names if name != table.name]

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
        with self.database.errors():
            return self._inspector.get_table_names(schema), self._inspector.get_view_names(schema)

    def other_schemas(self) -> dict[str, int]:
        """The schemas that have tables, and how many, if the database can tell."""
        if not self.system_schemas:
            return {}
        left_out = ", ".join(f"'{name}'" for name in self.system_schemas)
        found = self.database.rows_of(
            "SELECT table_schema, count(*) FROM information_schema.tables "
            f"WHERE table_schema NOT IN ({left_out}) GROUP BY 1 ORDER BY 2 DESC, 1"
        )
        return {row[0]: int(row[1]) for row in found}

    def forget_names(self) -> None:
        """Ask again for tables when they are next wanted, since some were made."""
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
        where = f"schema {schema} of connection {self.database.name}" if schema else f"connection {self.database.name}"
        raise DatabaseError(
            f'There is no table "{table}" in {where}' if not same else f'"{table}" could be {" or ".join(same)}',
            did_you_mean(table, names) or "the database has no tables" if not same else "write the one meant",
        )

    def describe(self, schema: str | None, table: str) -> TableInfo:
        """A table or view; raises DatabaseError if there is none of that name."""
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
                key.get("name"),
                bool((key.get("options") or {}).get("deferrable")),
            )
            for key in found["foreign"] or ()
        ]
        is_view = name in self._names(schema)[1]
        return TableInfo(schema, name, columns, primary, tuple(unique), tuple(foreign), is_view)

    def has_table(self, schema: str | None, table: str) -> bool:
        """True if there is a table or view of that name, regardless of case."""
        names = self.table_names(schema)
        return table in names or table.casefold() in {name.casefold() for name in names}

    def comment(self, table: TableInfo) -> str | None:
        """The comment of a table."""
        with contextlib.suppress(exc.SQLAlchemyError, NotImplementedError):
            return self._inspector.get_table_comment(table.name, table.schema)["text"]
        return None

    def indexes(self, table: TableInfo) -> list[tuple[str, ...]]:
        """The columns of each index of a table that is neither its key nor unique."""
        with self.database.errors():
            found = self._inspector.get_indexes(table.name, table.schema)
        columns = [tuple(index["column_names"]) for index in found if not index["unique"]]
        return [tuple(str(name) for name in names) for names in columns if None not in names]

    def special_indexes(self, table: TableInfo) -> list[SpecialIndex] | None:
        """All indexes of a table but its keys as the database defines them; None if lists of columns will do."""
        del table
        return None

    def _column(self, column: Mapping[str, Any], primary: tuple[str, ...]) -> ColumnInfo:
        sql_type = self.sql_type(column["type"])
        alone = primary == (column["name"],)
        integer = sql_type is not None and sql_type.family is Family.INTEGER
        return ColumnInfo(
            name=column["name"],
            declared=self.database.type_text(column["type"]),
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
            numbered=(
                column.get("identity") is not None
                or str(column.get("default") or "").startswith("nextval(")
                or (alone and integer and column.get("autoincrement") is True)
            ),
            default=column.get("default"),
            values=tuple(getattr(column["type"], "enums", None) or ()),
            comment=column.get("comment"),
            always=bool((column.get("identity") or {}).get("always")),
            decimals=self.decimals_of(column["type"]),
        )

    def decimals_of(self, declared: Any) -> int:
        """The decimals of a second that a column of one of SQLAlchemy's types keeps."""
        precision = getattr(declared, "precision", None)
        return precision if isinstance(precision, int) and isinstance(declared, sa.DateTime | sa.Time) else 6

    def stored_type(self, sql_type: SqlType | None, declared: Any) -> SqlType:
        """The type in which the reader delivers a column's values."""
        del declared
        return sql_type or TEXT

    def is_loose(self, sql_type: SqlType | None) -> bool:
        """True for a type of which the database holds values that Kanal's cannot, which then come as strays."""
        del sql_type
        return False

    def sql_type(self, declared: Any) -> SqlType | None:
        """Kanal's type for one of SQLAlchemy's, None if there is none."""
        for kind, make in _TYPES:
            if isinstance(declared, kind):
                found: SqlType = make(declared) if callable(make) else make
                return found
        return None

    def describe_files(self, pattern: str, form: Any, differ: str = "fail", lenient: bool = False) -> TableInfo:
        """The table that files make; raises KanalError, since a database has none."""
        del pattern, form, differ, lenient
        raise lacks(self.database.name, Reads.FILES)

    def describe_query(self, query: str) -> TableInfo:
        """The columns that a query gives, by running it for no rows; their types as text where unknown."""
        with self.database.errors(), self.database.connect() as connection:
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


def _varchar(declared: Any) -> SqlType:
    return varchar(declared.length) if declared.length else TEXT


def _decimal(declared: Any) -> SqlType:
    if declared.precision is None:
        return WIDE_DECIMAL
    return decimal(declared.precision, declared.scale or 0)


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
