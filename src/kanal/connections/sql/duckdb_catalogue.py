"""What DuckDB says of itself, by its own functions (its manual, "DuckDB Table Functions")."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import Any

import sqlglot
from msgspec.structs import replace
from sqlglot import exp

from kanal.connections.description import About, ColumnInfo, Constraint, ForeignKey, RowCount, TableInfo
from kanal.connections.errors import DatabaseError
from kanal.connections.sql.catalogue import Catalogue
from kanal.connections.sql.duckdb_access import DuckDBAccess
from kanal.connections.sql.named_type import NamedType
from kanal.core.errors import KanalError
from kanal.core.types import BIGINT, INTEGER, REAL, SMALLINT, TEXT, TIMESTAMP, UUID, SqlType, decimal, parse_type

#: Types that have other names elsewhere, or another meaning.
_NAMED = {
    "TINYINT": SMALLINT, "UTINYINT": SMALLINT, "USMALLINT": INTEGER, "UINTEGER": BIGINT, "UBIGINT": decimal(20, 0),
    "FLOAT": REAL, "TIMESTAMP_S": TIMESTAMP, "TIMESTAMP_MS": TIMESTAMP, "UUID": UUID,
}  # fmt: skip
#: Types that are read as the text that DuckDB shows, since Kanal has none like them.
_AS_TEXT = {
    "TIMESTAMP_NS",
    "TIME WITH TIME ZONE",
    "TIME_NS",
    "HUGEINT",
    "UHUGEINT",
    "BIT",
    "BIGNUM",
    "VARINT",
    "INTERVAL",
}


def sql_type_of(declared: str) -> SqlType | None:
    """Kanal's type for one of DuckDB's; None if it has none like it."""
    if declared in _NAMED:
        return _NAMED[declared]
    if declared in _AS_TEXT:
        return None
    try:
        return parse_type(declared)
    except KanalError:
        return None


def column_of(name: str, declared: str, nullable: bool = True) -> ColumnInfo:
    """A column of one of DuckDB's types."""
    sql_type = sql_type_of(declared)
    return ColumnInfo(name, declared, sql_type, sql_type or TEXT, nullable, dialect_type=NamedType(declared))


def _described(row: Any, primary: tuple[str, ...], generated: bool) -> ColumnInfo:
    """A column of a table, by what `duckdb_columns` says."""
    name, declared, nullable, default, comment = row
    text = None if default is None else str(default)
    return replace(
        column_of(name, declared, bool(nullable) and name not in primary),
        filled=text is not None,
        generated=generated,
        default=None if generated else text,
        comment=comment or None,
        numbered=text is not None and text.lower().startswith("nextval("),
    )


class DuckDBCatalogue(Catalogue):
    """The catalogue of a DuckDB file."""

    database: DuckDBAccess
    system_schemas = ("information_schema", "pg_catalog")

    def about(self) -> About:
        ((version,),) = self.database.rows_of("SELECT version()")
        return About("DuckDB", str(version).removeprefix("v"), "duckdb", "UTF-8", "UTC")

    def row_counts(self, schema: str | None, names: Sequence[str]) -> dict[str, RowCount]:
        if self.database.missing_file:
            return {}
        return super().row_counts(schema, names)

    def _find_names(self, schema: str | None) -> tuple[list[str], list[str]]:
        if self.database.missing_file:
            return [], []
        found = self.database.rows_of(
            "SELECT table_name, table_type FROM information_schema.tables "
            "WHERE table_catalog = current_database() AND table_schema = :schema",
            schema=schema or "main",
        )
        return [row[0] for row in found if row[1] != "VIEW"], [row[0] for row in found if row[1] == "VIEW"]

    def reflect(self, schema: str | None, names: Collection[str]) -> None:
        """Nothing: each table is described by itself, at no cost."""

    def _told(self, function: str, what: str, schema: str | None, name: str, more: str = "") -> list[Any]:
        """What one of DuckDB's functions tells of a table."""
        return self.database.rows_of(
            f"SELECT {what} FROM {function}() WHERE database_name = current_database() "
            f"AND schema_name = :schema AND table_name = :name {more}",
            schema=schema or "main", name=name,
        )  # fmt: skip

    def describe(self, schema: str | None, table: str) -> TableInfo:
        name = self.find_table(schema, table)
        what = "column_name, data_type, is_nullable, column_default, comment"
        rows = self._told("duckdb_columns", what, schema, name, "ORDER BY column_index")
        primary, constraints = self._keys(schema, name)
        generated = self._generated(schema, name)
        columns = tuple(_described(row, primary, row[0] in generated) for row in rows)
        foreign = tuple(one.foreign_key for one in constraints if one.foreign_key is not None)
        keys = [one.columns for one in constraints if one.condition is None and one.foreign_key is None]
        unique = tuple(key for key in keys if key != primary)
        return TableInfo(schema, name, columns, primary, unique, foreign, name in self._names(schema)[1])

    def _generated(self, schema: str | None, name: str) -> set[str]:
        """The columns that the database computes, which the statement that made the table tells."""
        rows = self._told("duckdb_tables", "sql", schema, name)
        if not rows or "GENERATED ALWAYS" not in rows[0][0]:
            return set()
        made = sqlglot.parse_one(rows[0][0], read="duckdb")
        kinds = exp.ComputedColumnConstraint, exp.GeneratedAsIdentityColumnConstraint
        return {column.name for column in made.find_all(exp.ColumnDef) if column.find(*kinds) is not None}

    def constraints(self, schema: str | None, name: str) -> list[Constraint]:
        """The keys, references and conditions of a table."""
        return self._keys(schema, name)[1]

    def _keys(self, schema: str | None, name: str) -> tuple[tuple[str, ...], list[Constraint]]:
        """The primary key of a table, and all constraints."""
        what = (
            "constraint_type, constraint_name, constraint_column_names, expression, referenced_table, "
            "referenced_column_names"
        )
        primary: tuple[str, ...] = ()
        found = []
        for kind, label, columns, condition, referred, there in self._told(
            "duckdb_constraints", what, schema, name, "ORDER BY constraint_index"
        ):
            names = tuple(columns)
            if kind in ("PRIMARY KEY", "UNIQUE"):
                primary = names if kind == "PRIMARY KEY" else primary
                found.append(Constraint(label, names))
            elif kind == "FOREIGN KEY":
                key = ForeignKey(names, schema, referred, tuple(there), label)
                found.append(Constraint(label, names, foreign_key=key))
            elif kind == "CHECK":
                found.append(Constraint(label, (), condition=condition))
        return primary, found + [Constraint(None, names) for names in self._indexes(schema, name, unique=True)]

    def referring(self, table: TableInfo) -> list[TableInfo]:
        rows = self.database.rows_of(
            "SELECT DISTINCT table_name FROM duckdb_constraints() WHERE database_name = current_database() "
            "AND schema_name = :schema AND constraint_type = 'FOREIGN KEY' AND lower(referenced_table) = lower(:name) "
            "AND lower(table_name) <> lower(:name) ORDER BY 1",
            schema=table.schema or "main", name=table.name,
        )  # fmt: skip
        return [self.describe(table.schema, row[0]) for row in rows]

    def comment(self, table: TableInfo) -> str | None:
        rows = self._told("duckdb_tables", "comment", table.schema, table.name)
        return rows[0][0] if rows else None

    def indexes(self, table: TableInfo) -> list[tuple[str, ...]]:
        return self._indexes(table.schema, table.name, unique=False)

    def _indexes(self, schema: str | None, name: str, unique: bool) -> list[tuple[str, ...]]:
        """The columns of each index that was made by itself; not those of expressions."""
        rows = self._told("duckdb_indexes", "expressions", schema, name, f"AND is_unique = {str(unique).lower()}")
        parts = [[part.strip().strip("'\"") for part in str(row[0])[1:-1].split(",")] for row in rows]
        return [tuple(names) for names in parts if not any("(" in part for part in names)]

    def describe_query(self, query: str) -> TableInfo:
        text = query.rstrip().rstrip(";")
        with self.database.errors(), self.database.connect() as connection:
            driver: Any = connection.connection.driver_connection
            rows = self.database.ask(driver.driver, f"DESCRIBE SELECT * FROM ({text}\n) AS q")
        columns = tuple(column_of(row[0], row[1]) for row in rows)
        names = [column.name for column in columns]
        for name in names:
            if names.count(name) > 1:
                raise DatabaseError(f'the query gives two columns named "{name}"', "name them apart with AS")
        return TableInfo(None, "query", columns, is_view=True)
