"""What a database says of itself by ODBC's catalogue functions (ISO/IEC 9075-3, SQL/CLI)."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Sequence
from contextlib import contextmanager, suppress
from functools import cached_property
from typing import Any

from msgspec.structs import replace

from kanal.connections.description import About, ColumnInfo, Constraint, ForeignKey, RowCount, TableInfo
from kanal.connections.errors import DatabaseError
from kanal.connections.sql.catalogue import Catalogue
from kanal.connections.sql.named_type import NamedType
from kanal.connections.sql.odbc_access import OdbcAccess
from kanal.connections.sql.servers import Detail
from kanal.core.types import (
    BIGINT,
    BINARY,
    BOOLEAN,
    DATE,
    DOUBLE,
    INTEGER,
    JSON,
    MAX_PRECISION,
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

#: Kanal's types by the words that servers declare theirs with.
_WORDS: dict[str, SqlType] = {
    **dict.fromkeys(("int2", "smallint", "tinyint", "short"), SMALLINT),
    **dict.fromkeys(("int4", "int", "integer", "mediumint", "serial", "counter", "long integer"), INTEGER),
    **dict.fromkeys(("int8", "bigint", "bigserial"), BIGINT),
    **dict.fromkeys(("float4", "real", "single"), REAL),
    **dict.fromkeys(("float8", "double", "double precision", "float"), DOUBLE),
    **dict.fromkeys(("bool", "boolean", "bit"), BOOLEAN),
    **dict.fromkeys(("timestamptz", "timestamp with time zone", "datetimeoffset"), TIMESTAMPTZ),
    **dict.fromkeys(("timestamp", "datetime", "datetime2", "smalldatetime", "timestamp without time zone"), TIMESTAMP),
    **dict.fromkeys(("time", "time without time zone"), TIME),
    **dict.fromkeys(("uuid", "uniqueidentifier"), UUID),
    **dict.fromkeys(("json", "jsonb"), JSON),
    **dict.fromkeys(("bytea", "blob", "binary", "varbinary", "tinyblob", "mediumblob", "longblob", "image"), BINARY),
    **dict.fromkeys(("text", "tinytext", "mediumtext", "longtext", "ntext", "clob", "memo", "longvarchar"), TEXT),
    "date": DATE,
}
_VARIABLE = ("varchar", "nvarchar", "character varying", "char", "nchar", "character", "bpchar", "varchar2")
_DECIMALS = ("numeric", "decimal", "number")
_DECLARED = re.compile(r"([a-z_0-9 ]+?)\s*(?:\(\s*(\d+)\s*(?:,\s*(\d+)\s*)?\))?((?: [a-z ]+)?)")

#: The types of SQL/CLI by number, for servers whose words are not known.
_CODES: dict[int, SqlType] = {
    -7: BOOLEAN, -6: SMALLINT, 5: SMALLINT, 4: INTEGER, -5: BIGINT, 7: REAL, 6: DOUBLE, 8: DOUBLE,
    9: DATE, 91: DATE, 10: TIME, 92: TIME, 11: TIMESTAMP, 93: TIMESTAMP, -11: UUID,
    -2: BINARY, -3: BINARY, -4: BINARY, -1: TEXT, -10: TEXT,
}  # fmt: skip
_TEXTS, _NUMERICS = (1, 12, -8, -9), (2, 3)


class OdbcCatalogue(Catalogue):
    """The catalogue as an ODBC driver tells it."""

    database: OdbcAccess

    def about(self) -> About:
        told = self.database.told
        self.database.connect().close()
        return About(told.server, told.version, told.driver)

    @contextmanager
    def _cursor(self) -> Iterator[Any]:
        with self.database.errors(), self.database.connect() as connection:
            driver: Any = connection.connection.driver_connection
            with self.database.driver_errors():
                yield driver.cursor()

    def _find_names(self, schema: str | None) -> tuple[list[str], list[str]]:
        told = self.database.told
        with self._cursor() as cursor:
            place = {"catalog": told.database} if told.has_catalogues and not told.has_schemas else {}
            if told.has_schemas and (schema or told.schema):
                place["schema"] = schema or told.schema
            elif schema is not None and told.has_catalogues:
                place["catalog"] = schema
            rows = [(row[2], str(row[3] or "").upper()) for row in cursor.tables(**place)]
        own = [name for name, kind in rows if kind in ("TABLE", "BASE TABLE")]
        return own, [name for name, kind in rows if kind == "VIEW"]

    def reflect(self, schema: str | None, names: Collection[str]) -> None:
        """Nothing: each table is described by itself."""

    def row_counts(self, schema: str | None, names: Sequence[str]) -> dict[str, RowCount]:
        found = {}
        for name in names:
            with suppress(DatabaseError):
                found[name] = self.counted(schema, name)
        return found

    def describe(self, schema: str | None, table: str) -> TableInfo:
        name = self.find_table(schema, table)
        place = self._place(schema)
        with self._cursor() as cursor:
            rows = [row for row in cursor.columns(table=name, **place) if row[2] == name]
            primary = tuple(
                row[3] for row in sorted(self._asked(cursor, "primaryKeys", name, place), key=lambda row: row[4])
            )
            unique, plain = self._keys(cursor, name, place)
            foreign = self._foreign_keys(cursor, name, place, schema)
        details = self.database.server.details(self.database.rows_of, schema, name)
        columns = tuple(self._column_of(row, details.get(row[3]), primary) for row in rows)
        self._indexes_of[schema, name] = plain
        is_view = name in self._names(schema)[1]
        own = tuple(key for key in unique if key != primary)
        return TableInfo(schema, name, columns, primary, own, foreign, is_view)

    def _place(self, schema: str | None) -> dict[str, Any]:
        told = self.database.told
        if told.has_schemas:
            return {"schema": schema or told.schema} if schema or told.schema else {}
        return {"catalog": schema or told.database} if told.has_catalogues else {}

    def _asked(self, cursor: Any, question: str, name: str, place: dict[str, Any]) -> list[Any]:
        """What a function of the catalogue answers; nothing if the driver has none such."""
        import pyodbc

        try:
            return list(getattr(cursor, question)(table=name, **place))
        except pyodbc.Error:
            return []

    def _keys(self, cursor: Any, name: str, place: dict[str, Any]) -> tuple[list[tuple[str, ...]], list[Any]]:
        """The columns of unique indexes, and of others."""
        found: dict[tuple[str, bool], list[str]] = {}
        for row in self._asked(cursor, "statistics", name, place):
            if row[5] is not None and row[8] and not row[12]:  # not of expressions, and not of some rows alone
                found.setdefault((row[5], not row[3]), []).append(str(row[8]).strip('"`'))
        unique = list(dict.fromkeys(tuple(names) for (_, once), names in found.items() if once))
        return unique, [tuple(names) for (_, once), names in found.items() if not once]

    def _foreign_keys(
        self, cursor: Any, name: str, place: dict[str, Any], schema: str | None
    ) -> tuple[ForeignKey, ...]:
        """The references of a table to others."""
        import pyodbc

        asked = {f"foreign{key.capitalize()}": value for key, value in place.items()}
        try:
            rows = list(cursor.foreignKeys(foreignTable=name, **asked))
        except pyodbc.Error:
            return ()
        keys: dict[Any, list[Any]] = {}
        number = 0
        for row in rows:
            number += row[8] == 1
            keys.setdefault((row[11] or number, row[1], row[2]), []).append((row[7], row[3]))
        return tuple(
            ForeignKey(
                tuple(own for own, _ in pairs), there if there not in (None, "", self.database.told.schema) else schema,
                referred, tuple(other for _, other in pairs), label if isinstance(label, str) else None,
            )
            for (label, there, referred), pairs in keys.items()
        )  # fmt: skip

    def referring(self, table: TableInfo) -> list[TableInfo]:
        import pyodbc

        with self._cursor() as cursor:
            try:
                rows = list(cursor.foreignKeys(table=table.name, **self._place(table.schema)))
            except pyodbc.Error:
                rows = []
        names = dict.fromkeys(row[6] for row in rows if row[6] != table.name)
        return [self.describe(table.schema, name) for name in names if self.has_table(table.schema, name)]

    def indexes(self, table: TableInfo) -> list[tuple[str, ...]]:
        return self._indexes_of.get((table.schema, table.name), [])

    @cached_property
    def _indexes_of(self) -> dict[tuple[str | None, str], list[tuple[str, ...]]]:
        return {}

    def comment(self, table: TableInfo) -> str | None:
        del table
        return None

    def constraints(self, table: TableInfo) -> list[Constraint]:
        """The keys and references of a table; its conditions are not told."""
        keys = dict.fromkeys([table.primary_key, *table.unique])
        found = [Constraint(None, key) for key in keys if key]
        return found + [Constraint(key.name, key.columns, foreign_key=key) for key in table.foreign_keys]

    # --- columns ---------------------------------------------------------------------------------------------------

    def _column_of(self, row: Any, detail: Detail | None, primary: tuple[str, ...]) -> ColumnInfo:
        name, code, word, size, digits = row[3], row[4], str(row[5]), row[6], row[8]
        if detail is None:
            default = None if row[12] is None or str(row[12]).upper() == "NULL" else str(row[12])
            numbered = re.search(r"identity|auto_increment|serial|counter|nextval\(", f"{word} {default}".lower())
            detail = Detail(_with_size(word, code, size, digits), default, numbered=numbered is not None)
        return replace(
            self.column_info(name, detail.declared, code, size, digits),
            nullable=bool(row[10]) and name not in primary,
            filled=detail.default is not None or detail.numbered or detail.generated,
            numbered=detail.numbered,
            generated=detail.generated,
            always=detail.always,
            default=detail.default,
        )

    def column_info(self, name: str, text: str, code: int, size: Any, digits: Any) -> ColumnInfo:
        """A column by its declared type, and what the driver says of it."""
        plain = text.lower().strip()
        sql_type = self.database.server.type_of(plain) or _by_words(plain)
        if sql_type is None and (code not in _TEXTS or not plain):  # else a type of the server's own, shown as text
            sql_type = _by_code(code, size, digits)
        stored = sql_type if sql_type is not None and sql_type.family in self.database.server.as_they_are else TEXT
        kept = self.database.server.decimals_of(plain)
        own = NamedType(text)
        return ColumnInfo(name, text, sql_type, stored, loose=stored == TEXT, decimals=kept, dialect_type=own)

    def query_column(self, name: str, described: Sequence[Any]) -> ColumnInfo:
        kind, size, digits = described[1], described[4], described[5]
        by_class = {"int": BIGINT, "float": DOUBLE, "bool": BOOLEAN, "date": DATE, "time": TIME, "datetime": TIMESTAMP,
                    "bytearray": BINARY, "bytes": BINARY}  # fmt: skip
        sql_type: SqlType = by_class.get(kind.__name__, TEXT)
        if kind.__name__ == "Decimal":
            sql_type = WIDE_DECIMAL if not size or size > MAX_PRECISION else decimal(size, max(0, digits or 0))
        stored = sql_type if sql_type.family in self.database.server.as_they_are else TEXT
        return ColumnInfo(name, "", sql_type, stored, loose=stored == TEXT)


def _with_size(word: str, code: int, size: Any, digits: Any) -> str:
    """A declared type with its size, if the driver's word for it has none."""
    if "(" in word or not size or size < 0:
        return word
    if code in _NUMERICS:
        return f"{word}({size},{digits or 0})"
    return f"{word}({size})" if code in _TEXTS and size < 65_535 else word


def _by_words(text: str) -> SqlType | None:
    """Kanal's type for a type as it was declared; None if the words are not known."""
    found = _DECLARED.fullmatch(text)
    if found is None:
        return None
    word, first, second, tail = found[1], found[2], found[3], found[4].strip()
    if word in _VARIABLE:
        return varchar(int(first)) if first else TEXT
    if word in _DECIMALS:
        digits, scale = int(first or 0), int(second or 0)
        return WIDE_DECIMAL if not digits or digits > MAX_PRECISION or scale > digits else decimal(digits, scale)
    known = _WORDS.get(f"{word} {tail}".strip()) or _WORDS.get(word)
    if known is not None and "unsigned" in tail and known.family is Family.INTEGER:
        return {SMALLINT: INTEGER, INTEGER: BIGINT}.get(known, decimal(20, 0))
    return known


def _by_code(code: int, size: Any, digits: Any) -> SqlType | None:
    """Kanal's type by the number of a type of SQL/CLI."""
    if code in _TEXTS:
        return varchar(size) if size and 0 < size < 65_535 else TEXT
    if code in _NUMERICS:
        known = size and 0 < size <= MAX_PRECISION and 0 <= (digits or 0) <= size
        return decimal(size, digits or 0) if known else WIDE_DECIMAL
    return _CODES.get(code)
