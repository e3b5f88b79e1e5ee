"""SQLAlchemy's dialects by way of an ODBC driver: statements as the server has them, sent by pyodbc."""

from __future__ import annotations

import re
from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects import registry

#: SQLSTATEs of a connection that is gone (ODBC's reference, "SQLSTATE Mappings").
_LOST = ("08S01", "08003", "08007", "01002")


def told_by(connection: Any, name: str, otherwise: Any) -> Any:
    """What a driver says of itself (ODBC's reference, SQLGetInfo); something else if it says nothing."""
    import pyodbc

    try:
        return connection.getinfo(getattr(pyodbc, name))
    except pyodbc.Error:
        return otherwise


class OdbcWay:
    """What a dialect does otherwise by way of ODBC: it asks the driver, not the server, and sends `?`."""

    driver = "odbc"
    default_paramstyle = "qmark"
    supports_sane_multi_rowcount = False
    supports_native_boolean = False
    supports_server_side_cursors = False
    insert_returning = False
    update_returning = False
    delete_returning = False
    preexecute_autoincrement_sequences = False
    server_version_info: Any = None
    default_schema_name: Any = None

    def __init__(self, dbapi: Any = None, **settings: Any) -> None:
        super().__init__(**settings)  # some ask the module of their own driver for its version
        self.dbapi = dbapi

    @classmethod
    def import_dbapi(cls) -> Any:
        """The driver manager's module."""
        import pyodbc

        return pyodbc

    def initialize(self, connection: Any) -> None:
        """Take what the driver says of itself."""
        driver = connection.connection.driver_connection
        version = re.findall(r"\d+", str(told_by(driver, "SQL_DBMS_VER", "")))
        self.server_version_info = tuple(int(part) for part in version[:3])
        self.max_identifier_length = told_by(driver, "SQL_MAX_IDENTIFIER_LEN", 0) or 128

    def get_isolation_level(self, dbapi_connection: Any) -> Any:
        """The one that the driver has."""
        del dbapi_connection

    def is_disconnect(self, e: Any, connection: Any, cursor: Any) -> bool:
        """True for an error after which nothing more can be asked."""
        del connection, cursor
        return bool(e.args) and str(e.args[0]) in _LOST


_MADE: dict[tuple[Any, str], type[Any]] = {}


def dialect_of(base: type[Any], quote: str) -> type[Any]:
    """A dialect of SQLAlchemy by way of ODBC, whose names are quoted in this way."""
    if (base, quote) not in _MADE:
        _MADE[base, quote] = _dialect_of(base, quote)
    return _MADE[base, quote]


def _dialect_of(base: type[Any], quote: str) -> type[Any]:

    class _Quoted(base.preparer):  # type: ignore[name-defined,misc]
        """Every name in quotes, since which words are reserved is not known of every server."""

        def __init__(self, dialect: Any, **settings: Any) -> None:
            super().__init__(dialect, **settings)
            self.initial_quote = self.final_quote = self.escape_quote = quote
            self.escape_to_quote = quote * 2

        def _requires_quotes(self, value: str) -> bool:
            del value
            return bool(quote.strip())

    name = re.sub(r"\W", "", f"{base.__name__}ByOdbc")
    return type(name, (OdbcWay, base), {"preparer": _Quoted, "name": base.name, "supports_statement_cache": True})


def engine_by(dialect: type[Any], connect: Any) -> sa.Engine:
    """An engine of a dialect, with connections that are made so."""
    name = f"kanal_{dialect.__name__.lower()}_{id(dialect)}"
    registry.impls[name] = lambda: dialect
    return sa.create_engine(sa.URL.create(name), creator=connect, poolclass=sa.NullPool)
