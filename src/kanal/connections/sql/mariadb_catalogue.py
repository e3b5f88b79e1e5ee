"""What MariaDB says of itself."""

from __future__ import annotations

import contextlib
from collections.abc import Hashable, Sequence
from functools import cached_property
from typing import Any

import sqlalchemy as sa
from msgspec.structs import replace
from sqlalchemy.dialects import mysql as dialect

from kanal.connections.description import About, ColumnInfo, Right, RowCount, TableInfo
from kanal.connections.errors import DatabaseError
from kanal.connections.sql.catalogue import Catalogue
from kanal.connections.sql.mariadb_access import MariaDBAccess
from kanal.core.types import (
    BIGINT,
    BINARY,
    BOOLEAN,
    DOUBLE,
    INTEGER,
    REAL,
    SMALLINT,
    TEXT,
    TIMESTAMPTZ,
    Family,
    SqlType,
    decimal,
)


class MariaDBCatalogue(Catalogue):
    """The catalogue of a MariaDB database."""

    database: MariaDBAccess
    system_schemas = ("information_schema", "performance_schema", "mysql", "sys")

    def about(self) -> About:
        (row,) = self.database.rows_of(
            "SELECT VERSION(), @@character_set_database, @@global.time_zone, @@system_time_zone"
        )
        kind = "MariaDB" if "mariadb" in row[0].lower() else "MySQL"
        zone = row[3] if row[2] == "SYSTEM" else row[2]
        return About(kind, row[0].partition("-")[0], "PyMySQL", row[1], zone)

    def decimals_of(self, declared: Any) -> int:
        kept = isinstance(declared, dialect.DATETIME | dialect.TIMESTAMP | dialect.TIME)
        return (declared.fsp or 0) if kept else 6

    def rights(self, schema: str | None = None) -> list[Right]:
        (row,) = self.database.rows_of(
            "SELECT CURRENT_USER(), COALESCE(:schema, DATABASE()), @@local_infile", schema=schema
        )
        account, place = row[0], row[1]
        user, _, host = account.rpartition("@")
        grantee = f"'{user}'@'{host}'"
        granted = {
            found[0]
            for found in self.database.rows_of(
                "SELECT privilege_type FROM information_schema.user_privileges WHERE grantee = :grantee UNION "
                "SELECT privilege_type FROM information_schema.schema_privileges "
                "WHERE grantee = :grantee AND :place LIKE table_schema",
                grantee=grantee,
                place=place or "",
            )
        }
        named = {
            "SELECT": "select", "INSERT": "insert", "UPDATE": "update", "DELETE": "delete", "CREATE": "create tables",
            "CREATE TEMPORARY TABLES": "temporary tables (for merges)", "LOCK TABLES": "lock tables (for split)",
        }  # fmt: skip
        ask = "GRANT {} ON " + f"{place}.* TO {grantee}"
        found = [Right(name, kind in granted, ask.format(kind)) for kind, name in named.items()]
        ask = "SET GLOBAL local_infile = 1; without it rows go in by INSERT, which is slower"
        return [*found, Right("load data local", bool(row[2]), ask)]

    def other_databases(self) -> list[str]:
        with contextlib.suppress(DatabaseError):
            other = type(self.database)(self.database.name, self.database.url.set(database=""))
            return [row[0] for row in other.rows_of("SHOW DATABASES")]
        return []

    def row_counts(self, schema: str | None, names: Sequence[str]) -> dict[str, RowCount]:
        rows = self.database.rows_of(
            "SELECT table_name, table_rows, update_time FROM information_schema.tables "
            "WHERE table_schema = COALESCE(:schema, DATABASE())",
            schema=schema,
        )
        known = {row[0]: (row[1], None if row[2] is None else str(row[2])) for row in rows}
        counts = {}
        for name in names:
            estimate, changed = known.get(name, (None, None))
            if estimate is not None and estimate > _COUNTED:
                counts[name] = RowCount(int(estimate), False, changed)
            else:
                counts[name] = replace(self.counted(schema, name), changed=changed)
        return counts

    @cached_property
    def _columns_known(self) -> dict[str | None, dict[str, tuple[int, bool]]]:
        return {}

    def _columns_of(self, schema: str | None, anew: bool = False) -> dict[str, tuple[int, bool]]:
        """How many columns the tables of a schema have, and whether a name has a line break, by which SQLAlchemy
        misses it."""
        if anew or schema not in self._columns_known:
            rows = self.database.rows_of(
                "SELECT table_name, count(*), "
                "max(column_name LIKE '%\n%' OR column_name LIKE '%\r%' OR table_name LIKE '%\n%') "
                "FROM information_schema.columns WHERE table_schema = COALESCE(:schema, DATABASE()) "
                "GROUP BY table_name",
                schema=schema,
            )
            self._columns_known[schema] = {row[0]: (int(row[1]), bool(row[2])) for row in rows}
        return self._columns_known[schema]

    def describe(self, schema: str | None, table: str) -> TableInfo:
        info = _with_plain_names(super().describe(schema, table))
        known = len(info.columns)
        good = known, False
        if self._columns_of(schema).get(info.name, good) != good:
            # It may have been changed since that was asked.
            count, broken = self._columns_of(schema, anew=True).get(info.name, good)
            if broken:
                raise DatabaseError(
                    f"table {info.name} of connection {self.database.name} has a name with a line break, "
                    "which is not read",
                    "rename the column or the table, or read it by a query",
                )
            if count != known:
                raise DatabaseError(
                    f"table {info.name} of connection {self.database.name} has {count} columns, and the definitions of "
                    f"only {known} are understood",
                    "read it by a query",
                )
        unknown = {column.name for column in info.columns if isinstance(column.dialect_type, sa.types.NullType)}
        if not unknown:
            return info
        query = sa.text(
            "SELECT column_name, column_type FROM information_schema.columns "
            "WHERE table_schema = COALESCE(:schema, DATABASE()) AND table_name = :name"
        ).bindparams(schema=schema, name=info.name)
        with self.database.errors(), self.database.engine.connect() as connection:
            texts: dict[str, str] = {row[0]: row[1] for row in connection.execute(query)}
        columns = (
            replace(column, declared=texts[column.name]) if column.name in unknown else column
            for column in info.columns
        )
        return replace(info, columns=tuple(columns))

    def sql_type(self, declared: Any) -> SqlType | None:
        unsigned = bool(getattr(declared, "unsigned", False))
        if isinstance(declared, dialect.TINYINT):
            return BOOLEAN if declared.display_width == 1 and not unsigned else SMALLINT
        if isinstance(declared, dialect.YEAR):
            return SMALLINT
        if isinstance(declared, dialect.MEDIUMINT):
            return INTEGER
        if isinstance(declared, dialect.BIT):
            return BOOLEAN if declared.length in (None, 1) else decimal(20, 0)
        if isinstance(declared, sa.BigInteger) and unsigned:
            return decimal(20, 0)
        if isinstance(declared, sa.SmallInteger) and unsigned:
            return INTEGER
        if isinstance(declared, sa.Integer) and not isinstance(declared, sa.BigInteger | sa.SmallInteger) and unsigned:
            return BIGINT
        if isinstance(declared, dialect.FLOAT):
            return REAL if (declared.precision or 0) <= 24 else DOUBLE
        if isinstance(declared, dialect.DOUBLE):
            return DOUBLE
        if isinstance(declared, sa.TIMESTAMP):
            return TIMESTAMPTZ
        if isinstance(declared, dialect.SET):
            return TEXT
        if isinstance(declared, dialect.TINYBLOB | dialect.MEDIUMBLOB | dialect.LONGBLOB):
            return BINARY
        return super().sql_type(declared)

    def stored_type(self, sql_type: SqlType | None, declared: Any) -> SqlType:
        if sql_type is None:
            return TEXT
        if sql_type.family in PARSED or sql_type.family in (Family.BINARY, Family.TIMESTAMPTZ):
            return sql_type
        return TEXT

    def is_loose(self, sql_type: SqlType | None) -> bool:
        return sql_type is None or sql_type == TIMESTAMPTZ

    def query_column(self, name: str, described: Sequence[Any]) -> ColumnInfo:
        from pymysql.constants import FIELD_TYPE

        number, precision, scale = described[1], described[4], described[5]
        numbers = {
            FIELD_TYPE.TINY: SMALLINT, FIELD_TYPE.SHORT: INTEGER, FIELD_TYPE.LONG: BIGINT, FIELD_TYPE.INT24: INTEGER,
            FIELD_TYPE.LONGLONG: decimal(20, 0), FIELD_TYPE.DOUBLE: DOUBLE, FIELD_TYPE.FLOAT: DOUBLE,
        }  # fmt: skip
        sql_type: SqlType = numbers.get(number, TEXT)
        if number in (FIELD_TYPE.DECIMAL, FIELD_TYPE.NEWDECIMAL):
            sql_type = decimal(min(65, precision or 65), scale or 0)
        times = {FIELD_TYPE.DATE: "date", FIELD_TYPE.DATETIME: "timestamp", FIELD_TYPE.TIME: "time"}
        if number in times:
            sql_type = SqlType(times[number])
        if number == FIELD_TYPE.TIMESTAMP:
            sql_type = TIMESTAMPTZ
        loose = self.is_loose(sql_type) or sql_type == TEXT  # which may be bytes
        return ColumnInfo(name, "", sql_type, self.stored_type(sql_type, None), loose=loose)

    def _collations(self, table: TableInfo) -> dict[str, str | None]:
        """The collations of a table's columns of text."""
        place = self.database.place_of(table)
        if place not in self._collations_of:
            rows = self.database.rows_of(
                "SELECT column_name, collation_name FROM information_schema.columns "
                "WHERE table_schema = COALESCE(:schema, DATABASE()) AND table_name = :name",
                schema=table.schema,
                name=table.name,
            )
            self._collations_of[place] = {row[0]: _whole_name(row[1]) for row in rows}
        return self._collations_of[place]

    @cached_property
    def _collations_of(self) -> dict[Hashable, dict[str, str | None]]:
        return {}


#: Tables of more rows, as the server thinks, are not counted.
_COUNTED = 200_000


#: Families that are parsed as they come; all others are handed on as text.
PARSED = (Family.INTEGER, Family.DECIMAL, Family.DOUBLE)


def _with_plain_names(info: TableInfo) -> TableInfo:
    """A table whose names SQLAlchemy has read from a CREATE TABLE, in which a backtick stands doubled."""
    if "``" not in "".join([*info.names, *(name for key in info.unique for name in key)]):
        return info

    def plain(names: Sequence[str]) -> tuple[str, ...]:
        return tuple(name.replace("``", "`") for name in names)

    return replace(
        info,
        columns=tuple(replace(column, name=column.name.replace("``", "`")) for column in info.columns),
        primary_key=plain(info.primary_key),
        unique=tuple(map(plain, info.unique)),
        foreign_keys=tuple(
            replace(key, columns=plain(key.columns), referred=plain(key.referred)) for key in info.foreign_keys
        ),
    )


def _whole_name(collation: str | None) -> str | None:
    """A collation with the character set that it belongs to."""
    return f"utf8mb4_{collation}" if collation is not None and collation.startswith("uca") else collation
