"""What PostgreSQL says of itself."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from functools import cached_property
from typing import Any

import sqlalchemy as sa
from msgspec.structs import replace
from sqlalchemy.dialects import postgresql as dialect

from kanal.connections.description import About, ColumnInfo, Right, RowCount, SpecialIndex, TableInfo
from kanal.connections.errors import DatabaseError
from kanal.connections.sql.catalogue import Catalogue
from kanal.connections.sql.named_type import NamedType
from kanal.connections.sql.postgresql_access import PostgreSQLAccess
from kanal.connections.sql.postgresql_types import BY_NAME, comes_whole, is_direct
from kanal.core.errors import TypeNameError
from kanal.core.types import TEXT, WIDE_DECIMAL, Family, SqlType, parse_type


class PostgreSQLCatalogue(Catalogue):
    """The catalogue of a PostgreSQL database."""

    database: PostgreSQLAccess
    system_schemas = ("information_schema", "pg_catalog")

    def _whole_place(self, schema: str | None, name: str) -> tuple[str | None, str]:
        """A table with the schema in which it was found."""
        if schema is None:
            self._names(None)
            schema = self._schema_of.get(name)
        return schema, name

    def _line_of(self, place: tuple[str | None, str]) -> set[tuple[str | None, str]]:
        """A table and all those of which it is a part."""
        found, left = set(), [place]
        while left:
            found.add(left[-1])
            left += [parent for parent in self._parents.get(left.pop(), ()) if parent not in found]
        return found

    @cached_property
    def _parents(self) -> dict[tuple[str | None, str], list[tuple[str | None, str]]]:
        rows = self.database.rows_of(
            "SELECT n.nspname, c.relname, m.nspname, p.relname FROM pg_inherits AS i "
            "JOIN pg_class AS c ON c.oid = i.inhrelid JOIN pg_namespace AS n ON n.oid = c.relnamespace "
            "JOIN pg_class AS p ON p.oid = i.inhparent JOIN pg_namespace AS m ON m.oid = p.relnamespace"
        )
        found: dict[tuple[str | None, str], list[tuple[str | None, str]]] = {}
        for schema, name, parent_schema, parent in rows:
            found.setdefault((schema, name), []).append((parent_schema, parent))
        return found

    @cached_property
    def _schema_of(self) -> dict[str, str]:
        """The schemas in which tables were found whose schema was not given."""
        return {}

    def about(self) -> About:
        (row,) = self.database.rows_of(
            "SELECT current_setting('server_version'), current_setting('server_encoding'), current_setting('TimeZone')"
        )
        return About("PostgreSQL", row[0], "psycopg", row[1], row[2])

    def rights(self, schema: str | None = None) -> list[Right]:
        (row,) = self.database.rows_of(
            "SELECT s, has_schema_privilege(s, 'USAGE'), has_schema_privilege(s, 'CREATE'), "
            "has_database_privilege(current_database(), 'TEMP'), current_user, current_database() "
            "FROM (SELECT COALESCE(CAST(:schema AS text), current_schema()) AS s) AS q",
            schema=schema,
        )
        place, user = row[0], row[4]
        if place is None:
            return [Right("use a schema", False, f"GRANT USAGE ON SCHEMA public TO {user}")]
        found = [
            Right(f"use schema {place}", row[1], f"GRANT USAGE ON SCHEMA {place} TO {user}"),
            Right("create tables", row[2], f"GRANT CREATE ON SCHEMA {place} TO {user}"),
            Right("temporary tables (for merges)", row[3], f"GRANT TEMP ON DATABASE {row[5]} TO {user}"),
        ]
        kinds = ("SELECT", "INSERT", "UPDATE", "DELETE", "TRUNCATE")
        counts = ", ".join(f"count(*) FILTER (WHERE has_table_privilege(c.oid, '{kind}'))" for kind in kinds)
        (sums,) = self.database.rows_of(
            f"SELECT count(*), {counts} FROM pg_class AS c JOIN pg_namespace AS n ON n.oid = c.relnamespace "
            "WHERE n.nspname = :place AND c.relkind IN ('r', 'p')",
            place=place,
        )
        for kind, count in zip(kinds, sums[1:], strict=True):
            shown = kind.lower() if count in (0, sums[0]) else f"{kind.lower()} in {count} of {sums[0]} tables"
            ask = f"GRANT {kind} ON ALL TABLES IN SCHEMA {place} TO {user}"
            found.append(Right(shown, count == sums[0], ask))
        return found

    def table_rights(self, table: TableInfo) -> dict[str, bool]:
        kinds = ("select", "insert", "update", "delete")
        asked = ", ".join(f"has_table_privilege(:name, '{kind}')" for kind in kinds)
        name = self.database.written(table)
        return dict(zip(kinds, self.database.rows_of(f"SELECT {asked}", name=name)[0], strict=True))

    def other_databases(self) -> list[str]:
        for name in ("postgres", "template1"):
            with contextlib.suppress(DatabaseError):
                other = type(self.database)(self.database.name, self.database.url.set(database=name))
                return [row[0] for row in other.rows_of("SELECT datname FROM pg_database WHERE NOT datistemplate")]
        return []

    def row_counts(self, schema: str | None, names: Sequence[str]) -> dict[str, RowCount]:
        rows = self.database.rows_of(
            "SELECT c.relname, c.reltuples, c.relkind, c.relpages FROM pg_class AS c "
            "JOIN pg_namespace AS n ON n.oid = c.relnamespace "
            "WHERE n.nspname = COALESCE(CAST(:schema AS text), current_schema())",
            schema=schema,
        )
        large = {row[0]: int(row[1]) for row in rows if row[2] in ("r", "p", "m") and row[1] > _COUNTED}
        return {
            name: RowCount(large[name], exact=False) if name in large else self.counted(schema, name) for name in names
        }

    def _find_names(self, schema: str | None) -> tuple[list[str], list[str]]:
        where = "n.nspname = :schema" if schema else "pg_table_is_visible(c.oid) AND n.nspname <> 'pg_catalog'"
        rows = self.database.rows_of(
            "SELECT c.relname, c.relkind IN ('v', 'm'), p.relname, n.nspname FROM pg_class AS c "
            "JOIN pg_namespace AS n ON n.oid = c.relnamespace "
            "LEFT JOIN pg_inherits AS i ON i.inhrelid = c.oid AND c.relispartition "
            "LEFT JOIN pg_class AS p ON p.oid = i.inhparent "
            f"WHERE c.relkind IN ('r', 'p', 'f', 'v', 'm') AND c.relpersistence <> 't' AND {where}",
            **({"schema": schema} if schema else {}),
        )
        self._part_of |= {(schema, name): whole for name, _, whole, _ in rows if whole is not None}
        if schema is None:
            self._schema_of.update({name: place for name, _, _, place in rows})
        return [name for name, view, *_ in rows if not view], [name for name, view, *_ in rows if view]

    @cached_property
    def _part_of(self) -> dict[tuple[str | None, str], str]:
        return {}

    def describe(self, schema: str | None, table: str) -> TableInfo:
        info = super().describe(schema, table)
        info = replace(info, part_of=self._part_of.get((schema, info.name)))
        if all(is_direct(column.dialect_type) for column in info.columns):
            return info
        rows = self.database.rows_of(
            "SELECT attname, format_type(atttypid, atttypmod), "
            "CASE WHEN typtype = 'd' THEN format_type(typbasetype, typtypmod) END "
            "FROM pg_attribute JOIN pg_type AS t ON t.oid = atttypid "
            "WHERE attnum > 0 AND NOT attisdropped AND attrelid = to_regclass(:name)",
            name=self.database.written(info),
        )
        texts = {row[0]: (row[1], row[2]) for row in rows}

        def exact(column: ColumnInfo) -> ColumnInfo:
            if is_direct(column.dialect_type):
                return column
            text, base = texts[column.name]
            if base is not None and column.type == WIDE_DECIMAL:  # a domain, of which the digits are not told yet
                with contextlib.suppress(TypeNameError):
                    sql_type = parse_type(base)
                    stored = self.stored_type(sql_type, None)
                    column = replace(column, type=sql_type, stored=stored, loose=self.is_loose(sql_type))
            return replace(column, declared=text, dialect_type=NamedType(text))

        return replace(info, columns=tuple(map(exact, info.columns)))

    def special_indexes(self, table: TableInfo) -> list[SpecialIndex] | None:
        rows = self.database.rows_of(
            "SELECT indisunique, pg_get_indexdef(indexrelid), indpred IS NULL AND indexprs IS NULL "
            "FROM pg_index LEFT JOIN pg_constraint ON conindid = indexrelid "
            "WHERE indrelid = to_regclass(:name) AND conindid IS NULL AND indisvalid ORDER BY indexrelid",
            name=self.database.written(table),
        )
        # What is unique without conditions is a key.
        special = [(unique, definition) for unique, definition, plain in rows if not (unique and plain)]
        return [SpecialIndex(unique, f"USING {definition.partition(' USING ')[2]}") for unique, definition in special]

    def sql_type(self, declared: Any) -> SqlType | None:
        if isinstance(declared, sa.Time) and declared.timezone:
            return None
        if isinstance(declared, dialect.DOMAIN):
            return self.sql_type(declared.data_type)
        return super().sql_type(declared)

    def stored_type(self, sql_type: SqlType | None, declared: Any) -> SqlType:
        if sql_type is None or sql_type.family in (Family.UUID, Family.JSON):
            return TEXT
        return TEXT if sql_type.family is Family.DECIMAL and not comes_whole(sql_type) else sql_type

    def is_loose(self, sql_type: SqlType | None) -> bool:
        if sql_type is None:
            return False
        return comes_whole(sql_type) or sql_type.family in (
            Family.DATE,
            Family.TIME,
            Family.TIMESTAMP,
            Family.TIMESTAMPTZ,
        )

    def query_column(self, name: str, described: Sequence[Any]) -> ColumnInfo:
        import psycopg

        number = int(described[1])
        found = psycopg.adapters.types.get(number)
        if found is not None and found.oid != number:
            found = None  # an array of that type
        text = BY_NAME.get(found.name if found else "", "")
        precision, scale = described[4], described[5]
        if text == "decimal" and precision is not None:
            text = f"decimal({precision},{scale or 0})"
        sql_type = parse_type(text) if text else None
        return ColumnInfo(
            name,
            found.name if found else "",
            sql_type,
            self.stored_type(sql_type, None),
            loose=self.is_loose(sql_type),
            dialect_type=sa.CHAR() if found is not None and found.name == "bpchar" else None,
        )


#: Tables of more rows, as the server thinks, are not counted.
_COUNTED = 200_000
