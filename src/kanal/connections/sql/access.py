"""How statements are run on a SQL database, and how it differs from others."""

from __future__ import annotations

from collections.abc import Hashable
from functools import cached_property
from typing import Any, ClassVar

import sqlalchemy as sa
from sqlalchemy import exc

from kanal.connections.description import ColumnInfo, TableInfo
from kanal.connections.sql.opening import SqlOpening
from kanal.connections.sql.statements import split_statements

#: Execution options of SQL in which a % is a %.
AS_IT_IS = {"no_parameters": True}


class SqlAccess(SqlOpening):
    """A SQL database that runs statements."""

    #: True if a join of two whole tables is quick without an index of one.
    joins_whole: ClassVar[bool] = False
    #: True if rows of other tables may refer to rows that are missing, as long as they are there at the commit.
    defers_references: ClassVar[bool] = False
    #: True if what failed within a transaction can be undone by itself, to a savepoint.
    has_savepoints: bool = True
    #: True if a reference is checked as each row comes, and not at the end of the statement as ISO SQL has it.
    checks_each_row: ClassVar[bool] = False
    #: The name by which its SQL is parted into statements, and SQLAlchemy's dialect by which statements become text.
    sql_name: ClassVar[str | None] = None
    sql_dialect: ClassVar[Any] = None

    def compiled(self, statement: Any) -> str:
        """A statement made with SQLAlchemy as text."""
        return str(statement.compile(dialect=self.dialect_of_text, compile_kwargs={"literal_binds": True}))

    @property
    def dialect(self) -> Any:
        """SQLAlchemy's dialect, which knows how statements are written here."""
        return self.engine.dialect if self.sql_dialect is None else self.sql_dialect

    @cached_property
    def dialect_of_text(self) -> Any:
        """The same for statements that are run as text."""
        if self.sql_dialect is not None:
            return self.sql_dialect
        known = self.engine.dialect
        if getattr(known, "server_version_info", None) is None:
            self.connect().close()  # by which it learns what the server can do
        kind: Any = type(known)
        # With the placeholders of some drivers, SQLAlchemy doubles each % of a name.
        made = kind(paramstyle="named")
        made.server_version_info = getattr(known, "server_version_info", None)
        made.max_identifier_length = known.max_identifier_length
        return made

    def broken_constraint(self, error: BaseException) -> str | None:
        """The name of the constraint that a refused row breaks, if the database tells."""
        del error
        return None

    def refuses(self, error: exc.SQLAlchemyError) -> bool:
        """True for an error by which the target refuses a row, and not the connection.

        Drivers differ in what they call a broken constraint; what was not a row's fault is then refused for each row,
        and the load given up with the database's words.
        """
        lost = isinstance(error, exc.OperationalError | exc.InterfaceError)
        return isinstance(error, exc.DBAPIError) and not error.connection_invalidated and not lost

    def scalar(self, query: sa.Executable) -> Any:
        """The one value that a query finds, None if there is none; outside of any load."""
        found = self.found_by(query)
        return found[0][0] if found else None

    def found_by(self, query: sa.Executable) -> list[tuple[Any, ...]]:
        """The rows that a query finds, outside of any load."""
        with self.errors(), self.connect() as connection:
            return [tuple(row) for row in connection.execute(query)]

    def rows_of(self, sql: str, **values: Any) -> list[Any]:
        """The rows that a question about the database itself finds."""
        with self.errors(), self.connect() as connection:
            return list(connection.execute(sa.text(sql), values))

    def sa_table(self, table: TableInfo) -> sa.Table:
        """SQLAlchemy's Table for a table, for composing statements."""
        columns = [
            sa.Column(
                column.name,
                column.dialect_type or sa.types.NullType(),
                autoincrement=False,
                info={"always": column.always},
            )
            for column in table.columns
        ]
        return sa.Table(table.name, sa.MetaData(), *columns, schema=table.schema)

    def differs(self, column: ColumnInfo, left: Any, right: Any) -> sa.ColumnElement[bool]:
        """The condition that two values of a column are not displayed alike; NULL is the same as NULL."""
        pairs = zip(self.exact(column, left), self.exact(column, right), strict=True)
        return sa.or_(*(one.is_distinct_from(other) for one, other in pairs))

    def exact(self, column: ColumnInfo, value: Any) -> list[Any]:
        """Forms of a column's value that are equal in SQL only if the value is displayed alike, under any collation.

        A dialect whose equality ignores a difference (case, blanks, the sign of zero) returns stricter forms.
        """
        del column
        return [value]

    def break_off(self, driver: Any) -> None:
        """Break off what a connection of the driver is doing, by way of another; nothing if the driver cannot."""

    def statements(self, sql: str) -> list[str]:
        """The statements of a command, as they are to be run one after the other."""
        return split_statements(sql, self.sql_name)

    def place_of(self, table: TableInfo) -> Hashable:
        """The identity of a table: equal for two descriptions of one table."""
        return self.identity, table.schema, table.name

    def type_text(self, declared: Any) -> str:
        """One of SQLAlchemy's types as this database writes it."""
        try:
            return str(declared.compile(dialect=self.engine.dialect))
        except exc.CompileError:
            return str(declared)
