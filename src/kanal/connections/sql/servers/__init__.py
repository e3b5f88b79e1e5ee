"""How kinds of servers differ that are reached by a general way: one short file each."""

from kanal.connections.sql.servers.base import Detail, Server
from kanal.connections.sql.servers.known import server_named

__all__ = ["Detail", "Server", "server_named"]
