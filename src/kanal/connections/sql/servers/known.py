"""Which servers are known, by the name that a driver tells."""

from __future__ import annotations

from importlib import import_module

from kanal.connections.sql.servers.base import Server

_KNOWN = {
    "postgresql": "postgresql:PostgreSQLServer",
    "mariadb": "mariadb:MariaDBServer",
    "mysql": "mariadb:MariaDBServer",
    "sqlite": "sqlite:SQLiteServer",
    "oracle": "oracle:OracleServer",
    "microsoft sql server": "mssql:SqlServer",
    "mssql": "mssql:SqlServer",
    "db2": "db2:Db2Server",
    "ibm": "db2:Db2Server",
}


def server_named(name: str) -> Server:
    """The kind of a server that calls itself so; one of which nothing is known where none begins like it."""
    for begin, place in _KNOWN.items():
        if name.casefold().startswith(begin):
            module, _, kind = place.partition(":")
            made: type[Server] = getattr(import_module(f"kanal.connections.sql.servers.{module}"), kind)
            return made()
    return Server()
