"""The SQL that makes and alters tables, for any SQLAlchemy dialect."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import Any, ClassVar

import sqlalchemy as sa
from msgspec.structs import replace

from kanal.connections.defaults import DefaultValue
from kanal.connections.description import ColumnInfo, ForeignKey, TableInfo
from kanal.connections.sql.access import SqlAccess
from kanal.core.types import BIGINT, Family, SqlType

#: What SQLAlchemy lays out, apart from what is in quotes.
_OUTSIDE_OF_QUOTES = re.compile(r"""("(?:[^"]|"")*"|`(?:[^`]|``)*`|'(?:[^']|'')*'|\[[^\]]*\])|\t|[ \t]*\n""")

#: What makes the type of a column, by the SQL type's name.
_MADE: dict[str, Callable[[], Any]] = {
    "smallint": sa.SmallInteger,
    "integer": sa.Integer,
    "bigint": sa.BigInteger,
    "real": sa.REAL,
    "double precision": sa.DOUBLE_PRECISION,
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


#: For which columns a moment is a default.
_MOMENTS = {
    "CURRENT_TIMESTAMP": (Family.TIMESTAMP, Family.TIMESTAMPTZ),
    "CURRENT_DATE": (Family.DATE,),
}


_NUMBERS = (Family.INTEGER, Family.DECIMAL, Family.DOUBLE)


def _text(value: str) -> str:
    return "'" + value.replace("'", "''") + "'"


class TableDefinitions:
    """How tables are created."""

    def __init__(self, database: SqlAccess, run_command: Callable[[str], int]) -> None:
        self.database = database
        self._run_command = run_command

    def new_column(self, name: str, sql_type: SqlType, nullable: bool, in_key: bool) -> ColumnInfo:
        """A column of a table to be created, with a type that holds every value of a SQL type."""
        declared = self.column_type(sql_type, in_key)
        return ColumnInfo(name, self.database.type_text(declared), sql_type, sql_type, nullable, dialect_type=declared)

    def like(self, taken: ColumnInfo, in_key: bool) -> ColumnInfo | None:
        """A column to be created with exactly the type of one in another database of the same kind.

        None if this database cannot have it; `in_key` is true if it belongs to a primary or unique key.
        """
        del taken, in_key
        return None

    def checks_values(self, column: ColumnInfo) -> bool:
        """True if a column to be created needs a condition so that it has only the values of an enumeration."""
        return bool(column.values)

    def numbered(self, column: ColumnInfo) -> ColumnInfo:
        """A column to be created, which numbers rows by itself."""
        return replace(column, numbered=True)

    def surrogate(self, table: str, name: str) -> ColumnInfo:
        """A column to be created that numbers the rows of a table by itself, and is its primary key."""
        del table
        return self.numbered(self.new_column(name, BIGINT, nullable=False, in_key=True))

    def column_type(self, sql_type: SqlType, in_key: bool) -> Any:
        """The type of this database, as SQLAlchemy's, that holds every value of a SQL type."""
        del in_key
        if sql_type.family is Family.DECIMAL:
            return sa.Numeric(sql_type.precision, sql_type.scale)
        if sql_type.length is not None:
            return sa.String(sql_type.length)
        return _MADE[sql_type.name]()

    def sa_new_table(self, table: TableInfo) -> sa.Table:
        """SQLAlchemy's Table for a table to be created, with its keys and references."""
        columns = [
            sa.Column(
                column.name,
                column.dialect_type,
                *([sa.Identity()] if column.numbered and self.has_identity else []),
                nullable=column.nullable,
                autoincrement=column.numbered and column.default is None,
                server_default=None if column.default is None else sa.text(column.default.replace(":", "\\:")),
                comment=column.comment,
            )
            for column in table.columns
        ]
        keys: list[Any] = [sa.UniqueConstraint(*key) for key in table.unique if set(key) != set(table.primary_key)]
        keys += [sa.PrimaryKeyConstraint(*table.primary_key)] if table.primary_key else []
        keys += [
            sa.CheckConstraint(sa.column(column.name).in_([sa.literal_column(_text(value)) for value in column.values]))
            for column in table.columns
            if self.checks_values(column)
        ]
        metadata = sa.MetaData()
        for key in table.foreign_keys:
            there = f"{key.schema}.{key.table}" if key.schema else key.table
            if key.table != table.name and there not in metadata.tables:
                others = [k for k in table.foreign_keys if (k.schema, k.table) == (key.schema, key.table)]
                referred = dict.fromkeys(name for other in others for name in other.referred)
                sa.Table(key.table, metadata, *(sa.Column(name) for name in referred), schema=key.schema)
            keys.append(sa.ForeignKeyConstraint(key.columns, [f"{there}.{name}" for name in key.referred]))
        return sa.Table(table.name, metadata, *columns, *keys, schema=table.schema, comment=table.comment)

    def create(self, table: TableInfo) -> None:
        """Create a table with its indexes and comments; all or nothing, if the database can."""
        self.define(self.definitions(table))

    def definitions(self, table: TableInfo) -> list[str]:
        """The SQL that makes a table and its indexes."""
        made = self.sa_new_table(table)
        for names in table.indexes:
            sa.Index("_".join((table.name, *names))[:60], *(made.c[name] for name in names))
        statements = [self.definition(sa.schema.CreateTable(made))]
        indexes = sorted(made.indexes, key=lambda index: str(index.name))
        statements += [self.definition(sa.schema.CreateIndex(index)) for index in indexes]
        place = self.database.engine.dialect.identifier_preparer.format_table(made)
        for index in table.special_indexes:
            statements.append(f"CREATE {'UNIQUE ' if index.unique else ''}INDEX ON {place} {index.sql}")
        return statements + self.comments(made)

    def comments(self, made: sa.Table) -> list[str]:
        """The SQL that tells the database what a table and its columns are, if the table's own does not."""
        if not self.comments_apart:
            return []
        told = [sa.schema.SetTableComment(made)] if made.comment else []
        columns = [sa.schema.SetColumnComment(column) for column in made.c if column.comment]
        return [self.definition(each) for each in (*told, *columns)]

    def default(self, column: ColumnInfo, value: DefaultValue) -> str | None:
        """A default as this database writes it for a column; None if it has none such."""
        family = column.type.family if column.type is not None else None
        if value.moment is not None:
            return value.moment if family in _MOMENTS[value.moment] else None
        text = str(value.value).lower() if isinstance(value.value, bool) else str(value.value)
        if family is Family.BOOLEAN:
            truth = sa.true() if text in ("true", "1", "t") else sa.false()
            return str(truth.compile(dialect=self.database.dialect))
        if family in _NUMBERS:
            return text if re.fullmatch(r"-?[0-9]+(\.[0-9]+)?([eE][+-]?[0-9]+)?", text) else None
        return _text(text)

    #: True if comments are statements of their own, and where definitions can be undone together.
    comments_apart: ClassVar[bool] = False
    in_one_transaction: ClassVar[bool] = False
    #: True if columns number rows as ISO SQL has it.
    has_identity: ClassVar[bool] = False

    #: True if a column can be created with the type of one in another database of the kind: see `like`.
    keeps_types: ClassVar[bool] = False
    #: True if an index may be of texts of any length.
    indexes_long_texts: ClassVar[bool] = False

    #: True if a table may refer to one that is not there yet.
    refers_forward: ClassVar[bool] = False

    def reference(self, table: TableInfo, key: ForeignKey) -> str:
        """The SQL that adds a foreign key to a table."""
        made = self.sa_new_table(replace(table, foreign_keys=(key,), indexes=()))
        (constraint,) = made.foreign_key_constraints
        return self.definition(sa.schema.AddConstraint(constraint))

    def refer(self, table: TableInfo, key: ForeignKey) -> None:
        """Add a foreign key to a table."""
        self.define([self.reference(table, key)])

    def definition(self, made: Any) -> str:
        """The SQL that makes something; names stay as they are, whatever characters they have."""
        text = str(made.compile(dialect=self.database.dialect_of_text)).strip()
        return _OUTSIDE_OF_QUOTES.sub(lambda found: found[1] or ("    " if found[0] == "\t" else "\n"), text)

    def alteration(self, table: TableInfo, column: ColumnInfo) -> str | None:
        """The SQL that gives a table's column the type of another; None if that cannot be done in place."""
        quote_name = self.database.engine.dialect.identifier_preparer
        place, name = quote_name.format_table(self.database.sa_table(table)), quote_name.quote(column.name)
        return f"ALTER TABLE {place} ALTER COLUMN {name} TYPE {column.declared}"

    def addition(self, table: TableInfo, column: ColumnInfo) -> str:
        """The SQL that adds a column to a table."""
        quote_name = self.database.engine.dialect.identifier_preparer
        place, name = quote_name.format_table(self.database.sa_table(table)), quote_name.quote(column.name)
        return f"ALTER TABLE {place} ADD COLUMN {name} {column.declared}"

    def define(self, statements: Sequence[str]) -> None:
        """Create a table with its indexes and comments; all or nothing, if the database can."""
        for statement in [";\n".join(statements)] if self.in_one_transaction else statements:
            self._run_command(statement)
