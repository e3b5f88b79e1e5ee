"""Connections: places that hold tables, each kind behind the same few interfaces."""

from kanal.connections.description import ColumnInfo, ForeignKey, TableInfo
from kanal.connections.kinds import open_connection, open_database
from kanal.connections.secrets import expand, secret_value
from kanal.connections.urls import with_password_in_place

__all__ = [
    "ColumnInfo",
    "ForeignKey",
    "TableInfo",
    "expand",
    "open_connection",
    "open_database",
    "secret_value",
    "with_password_in_place",
]
