"""A driver for tests that plays a server which cannot run here: it takes its SQL, and answers by DuckDB."""

from __future__ import annotations

import re
import types
from collections.abc import Sequence
from typing import Any

import duckdb
import sqlglot

#: What each driver says of itself.
TOLD = {
    "oracle": {"SQL_DBMS_NAME": "Oracle", "SQL_DBMS_VER": "19.00.0000", "SQL_CATALOG_NAME": False},
    "tsql": {"SQL_DBMS_NAME": "Microsoft SQL Server", "SQL_DBMS_VER": "16.00.1000", "SQL_CATALOG_NAME": True},
    "db2": {"SQL_DBMS_NAME": "DB2/LINUXX8664", "SQL_DBMS_VER": "11.05.0900", "SQL_CATALOG_NAME": False},
    "unknown": {"SQL_DBMS_NAME": "Sillerbase", "SQL_DBMS_VER": "1.0", "SQL_CATALOG_NAME": False},
}
COMMON = {"SQL_DRIVER_NAME": "played", "SQL_DRIVER_VER": "1", "SQL_IDENTIFIER_QUOTE_CHAR": '"', "SQL_DATABASE_NAME": "",
          "SQL_SCHEMA_USAGE": 0, "SQL_DATA_SOURCE_READ_ONLY": False, "SQL_TXN_CAPABLE": 2,
          "SQL_MAX_IDENTIFIER_LEN": 128}  # fmt: skip
#: What DuckDB has for a server's own functions and statements.
READS = {"oracle": "oracle", "tsql": "tsql", "db2": None, "unknown": None}
INSTEAD = {
    "oracle": [
        (r"^(?:ALTER SESSION|SAVEPOINT|RELEASE) .*", ""),
        (r"^CREATE PRIVATE TEMPORARY TABLE (\S+) ON COMMIT DROP DEFINITION", r"CREATE TEMPORARY TABLE \1"),
        (r"to_char\(sys_extract_utc\((.+?)\), '[^']*'\)", r"CAST(timezone('UTC', \1) AS VARCHAR)"),
        (r"to_char\((.+?), '[^']*'\)", r"CAST(\1 AS VARCHAR)"),
        (r"lengthb\(", "strlen("),
        (r"nlssort\(([^,()]+), 'NLS_SORT=BINARY'\)", r"\1"),
        (r"(?s)WHEN MATCHED THEN UPDATE SET (.*?) WHERE (.*)$", r"WHEN MATCHED AND \2 THEN UPDATE SET \1"),
        (r"NUMBER\((\d+)\)", r"DECIMAL(\1,0)"), (r"NUMBER\(", "DECIMAL("), (r"VARCHAR2\((\d+) CHAR\)", r"VARCHAR(\1)"),
        (r"BINARY_DOUBLE", "DOUBLE PRECISION"), (r"BINARY_FLOAT", "REAL"), (r"CLOB", "VARCHAR"), (r"\bDATE\b", "TIMESTAMP"),
    ],
    "tsql": [
        (r"^SET .*", ""),
        (r"(?s)^SELECT \* INTO (\[\S+\]) FROM (.*)$", r"CREATE TABLE \1 AS SELECT * FROM \2"),
        (r"convert\(varchar\(40\), ([^,]+), 127\)", r"(CAST(\1 AS VARCHAR) || ':00')"),
        (r"convert\(varchar\(40\), ([^,]+), \d+\)", r"CAST(\1 AS VARCHAR)"),
        (r"datalength\(", "strlen("),
        (r"DATETIMEOFFSET\(6\)", "TIMESTAMPTZ"), (r"DATETIME2\(6\)", "TIMESTAMP"), (r"NVARCHAR\(MAX\)", "NVARCHAR(9999)"),
        (r"VARBINARY\(MAX\)", "VARBINARY"), (r"FLOAT\(53\)", "DOUBLE PRECISION"), (r'"#', '"'),
        (r'(?s)^(UPDATE ("\w+") .* FROM )\2, ', r"\1"),
    ],
    "db2": [
        (r'(?s)^DECLARE GLOBAL TEMPORARY TABLE SESSION\.("\S+") AS \((.*)\) DEFINITION ONLY.*$',
         r"CREATE TEMPORARY TABLE \1 AS \2"),
        (r'"?SESSION"?\.', ""),
        (r"varchar_format\((.+?), '[^']*'\)", r"CAST(\1 AS VARCHAR)"), (r"char\((.+?), (?:ISO|JIS)\)", r"CAST(\1 AS VARCHAR)"),
        (r"length\((.+?), OCTETS\)", r"strlen(\1)"), (r"CLOB\(1G\)", "VARCHAR"), (r"BLOB\(2G\)", "BLOB"),
        (r"TIMESTAMP\(6\)", "TIMESTAMP"),
    ],
    "unknown": [(r"octet_length\(", "strlen(")],
}  # fmt: skip
#: The numbers of SQL/CLI's types, by the first word of a declared one.
CODES = {"number": 2, "numeric": 2, "decimal": 2, "integer": 4, "int": 4, "smallint": 5, "bigint": -5, "double": 8,
         "float": 8, "binary_double": 8, "real": 7, "date": 91, "timestamp": 93, "datetime2": 93, "time": 92, "bit": -7,
         "boolean": -7, "blob": -4, "varbinary": -3, "clob": -1}  # fmt: skip


class Row(tuple):  # type: ignore[type-arg]
    """A row of an answer."""


class Server:
    """What is there, and all that was asked."""

    def __init__(self, kind: str) -> None:
        self.kind = kind
        self.base = duckdb.connect()
        self.asked: list[str] = []
        self.declared: dict[str, list[tuple[str, str, bool]]] = {}
        self.keys: dict[str, list[str]] = {}
        self.module = self._module()

    def _module(self) -> Any:
        module = types.ModuleType("pyodbc")
        error = type("Error", (Exception,), {})
        made: dict[str, Any] = {"Error": error, "version": "played", "paramstyle": "qmark"}
        for name in ("DatabaseError", "OperationalError", "IntegrityError", "ProgrammingError", "DataError",
                     "InterfaceError", "InternalError", "NotSupportedError"):  # fmt: skip
            made[name] = type(name, (error,), {})
        made |= {name: name for name in COMMON | TOLD["oracle"]}
        made |= {"drivers": lambda: ["Played"], "dataSources": dict, "connect": lambda *_, **__: Connection(self)}
        for name, value in made.items():
            setattr(module, name, value)
        return module

    def translated(self, sql: str) -> str:
        """A statement as DuckDB takes it; empty for what it need not be told."""
        for pattern, instead in INSTEAD[self.kind]:
            sql = re.sub(pattern, instead, sql)
        if not sql.strip():
            return ""
        made = sqlglot.transpile(sql, read=READS[self.kind], write="duckdb")[0]
        return re.sub(r"( NULLS FIRST)(?=[,)])", "", made) if made.startswith("CREATE") else made

    def learn(self, sql: str) -> None:
        """Remember how a table was declared."""
        found = re.match(r'(?s)CREATE TABLE "?(\w+)"? \((.*)\)\s*$', sql)
        if found is None:
            return
        lines = [line.strip().rstrip(",") for line in found[2].split("\n") if line.strip()]
        columns = [re.match(r'"(\w+)" (.*?)( NOT NULL)?$', line) for line in lines if line.startswith('"')]
        self.declared[found[1]] = [(one[1], one[2], not one[3]) for one in columns if one]
        key = re.search(r"PRIMARY KEY \((.*?)\)", found[2])
        self.keys[found[1]] = re.findall(r'"(\w+)"', key[1]) if key else []


class Connection:
    """A connection of the played driver."""

    def __init__(self, server: Server) -> None:
        self.server = server
        self.driver = server.base.cursor()
        self.driver.execute("SET TimeZone = 'UTC'")
        self.autocommit = False
        self.maxwrite = 0
        self.begun = False

    def getinfo(self, name: str) -> Any:
        return (COMMON | TOLD[self.server.kind])[name]

    def cursor(self) -> Cursor:
        return Cursor(self)

    def execute(self, sql: str) -> Cursor:
        made = self.cursor()
        made.execute(sql)
        return made

    def _end(self, word: str) -> None:
        if self.begun:
            self.driver.execute(word)
            self.begun = False

    def commit(self) -> None:
        self._end("COMMIT")

    def rollback(self) -> None:
        self._end("ROLLBACK")

    def close(self) -> None:
        self.rollback()
        self.driver.close()


class Cursor:
    """A cursor of the played driver, with ODBC's functions of the catalogue."""

    arraysize = 1

    def __init__(self, connection: Connection) -> None:
        self.connection = connection
        self.server, self.driver = connection.server, connection.driver
        self.description: Any = None
        self.rowcount = -1

    def execute(self, sql: str, *values: Any) -> Cursor:
        given = list(values[0]) if len(values) == 1 and isinstance(values[0], tuple | list) else list(values)
        given = [value.replace(" +00:00", "+00:00") if isinstance(value, str) else value for value in given]
        self.server.asked.append(sql)
        self.server.learn(sql)
        text = self.server.translated(sql)
        assert not sql.startswith("ROLLBACK TO"), self.server.asked[-2]
        if not text:
            return self
        if not self.connection.autocommit and not self.connection.begun:
            self.driver.execute("BEGIN")
            self.connection.begun = True
        try:
            self.driver.execute(text, given)
        except duckdb.Error as error:
            self.server.asked.append(f"!! {error}")
            kind = "IntegrityError" if isinstance(error, duckdb.ConstraintException) else "ProgrammingError"
            state = "23000" if kind == "IntegrityError" else "42000"
            raise getattr(self.server.module, kind)(state, f"[{state}] [Played]{error} (0) (SQLExecDirectW)") from None
        self.description, self.rowcount = self.driver.description, -1
        if self.description and self.description[0][0] == "Count":
            row = self.driver.fetchone()
            self.rowcount, self.description = row[0] if row else 0, None
        elif self.description:
            self.description = [(name, *_python(kind), None, True) for name, kind, *_ in self.description]
        return self

    def executemany(self, sql: str, rows: Sequence[Any]) -> None:
        for row in rows:
            self.execute(sql, row)

    def fetchone(self) -> Any:
        return self.driver.fetchone()

    def fetchmany(self, size: int | None = None) -> Any:
        return self.driver.fetchmany(size or 1)

    def fetchall(self) -> Any:
        return self.driver.fetchall()

    def close(self) -> None:
        pass

    def tables(self, **_: Any) -> list[Any]:
        return [Row((None, None, name, "TABLE", None)) for name in self.server.declared]

    def columns(self, table: str, **_: Any) -> list[Any]:
        found = []
        for place, (name, declared, nullable) in enumerate(self.server.declared.get(table, [])):
            word = declared.split("(")[0].lower()
            sizes = [int(size) for size in re.findall(r"\d+", declared)] + [0, 0]
            code = CODES.get(word, 12)
            found.append(Row((None, None, table, name, code, declared, sizes[0], 0, sizes[1], 10, int(nullable), None, None,
                              code, None, 0, place + 1, "")))  # fmt: skip
        return found

    def primaryKeys(self, table: str, **_: Any) -> list[Any]:  # noqa: N802
        return [
            Row((None, None, table, name, place + 1, None))
            for place, name in enumerate(self.server.keys.get(table, []))
        ]

    def foreignKeys(self, **_: Any) -> list[Any]:  # noqa: N802
        return []

    def statistics(self, **_: Any) -> list[Any]:
        return []


def _python(kind: Any) -> tuple[Any, None, int, int]:
    classes = {"INTEGER": int, "BIGINT": int, "DOUBLE": float}
    return classes.get(str(kind), str), None, 0, 0
