"""Databases, files and APIs, behind the same few interfaces.

The names are imported when first used, so that a command imports only what it needs.
"""

from typing import TYPE_CHECKING

from kanal.lazy import names_of

if TYPE_CHECKING:
    from kanal.connections.description import ColumnInfo as ColumnInfo
    from kanal.connections.description import ForeignKey as ForeignKey
    from kanal.connections.description import TableInfo as TableInfo
    from kanal.connections.kinds import open_connection as open_connection
    from kanal.connections.kinds import open_database as open_database
    from kanal.connections.kinds import open_log as open_log
    from kanal.connections.secrets import expand as expand
    from kanal.connections.secrets import secret_value as secret_value
    from kanal.connections.urls import with_password_in_place as with_password_in_place

_HOMES = {
    **dict.fromkeys(["ColumnInfo", "ForeignKey", "TableInfo"], "kanal.connections.description"),
    **dict.fromkeys(["open_connection", "open_database", "open_log"], "kanal.connections.kinds"),
    **dict.fromkeys(["expand", "secret_value"], "kanal.connections.secrets"),
    "with_password_in_place": "kanal.connections.urls",
}

__all__ = list(_HOMES)

__getattr__ = names_of(__name__, _HOMES)
