"""All that Kanal uses of PyMySQL next to its public interface; if a version lacks it, rows go a slower way.

By these names rows are read from the packets and written by LOAD DATA from memory, without Python objects for values.
"""

from __future__ import annotations

import socket
from collections.abc import Iterator
from typing import Any

import pyarrow as pa

from kanal.connections.batches import fetched
from kanal.connections.errors import DatabaseError

_SENT_AT_ONCE = 1024 * 1024
_NAMES = ("_execute_command", "_read_packet", "_force_close", "_rfile", "_result", "write_packet")


def is_known(connection: Any) -> bool:
    """True if this version of the driver has the private names."""
    return all(hasattr(connection, name) for name in _NAMES)


def notice_silence(connection: Any, record: Any = None) -> None:
    """Have a server that is gone without a word, as if a network was cut, be noticed within a minute."""
    del record
    channel = getattr(connection, "_sock", None)
    if isinstance(channel, socket.socket) and channel.family != getattr(socket, "AF_UNIX", None):
        for name, seconds in (("TCP_KEEPIDLE", 20), ("TCP_KEEPINTVL", 10), ("TCP_KEEPCNT", 3)):
            if hasattr(socket, name):
                channel.setsockopt(socket.IPPROTO_TCP, getattr(socket, name), seconds)
        if hasattr(socket, "TCP_USER_TIMEOUT"):
            channel.setsockopt(socket.IPPROTO_TCP, socket.TCP_USER_TIMEOUT, 60_000)
        channel.setsockopt(socket.SOL_SOCKET, socket.SO_KEEPALIVE, 1)


def stream_of(connection: Any) -> Any:
    """The stream in which the packets come, once a query was sent."""
    return connection._rfile


def end_result(connection: Any) -> None:
    """Tell the driver that its result has been read to the end, past its own reading of it."""
    connection._result.unbuffered_active = False
    connection._result = None


def give_up_result(connection: Any) -> bool:
    """Close a connection whose result was not read to the end, rather than read it all; False if there is none."""
    result = getattr(connection, "_result", None)
    if result is None or not getattr(result, "unbuffered_active", False):
        return False
    result.unbuffered_active = False
    connection._force_close()
    return True


def forbid_files(connection: Any) -> None:
    """Have the driver refuse files that the server asks for: only `begin_rows` answers, which never opens one."""
    connection._local_infile = False


def begin_rows(connection: Any, sql: str, name: str) -> None:
    """Begin a LOAD DATA LOCAL, which takes lines until it is ended. Raises PyMySQL's errors."""
    from pymysql.constants import COMMAND

    connection._execute_command(COMMAND.COM_QUERY, sql)
    answer = connection._read_packet()
    if not answer.is_load_local_packet():
        raise DatabaseError(f"connection {name}: the server does not take rows", "see its log")


def send_rows(connection: Any, content: memoryview) -> None:
    """Send lines to the LOAD DATA that has begun."""
    for start in range(0, len(content), _SENT_AT_ONCE):
        connection.write_packet(bytes(content[start : start + _SENT_AT_ONCE]))


def end_rows(connection: Any) -> tuple[int, int]:
    """End the LOAD DATA; the rows that it changed, and its warnings. Raises PyMySQL's errors."""
    from pymysql.connections import MySQLResult

    connection.write_packet(b"")
    result = MySQLResult(connection)
    result._read_ok_packet(connection._read_packet())
    connection._result = None
    return result.affected_rows, result.warning_count


def slow_batches(connection: Any, sql: str, kinds: list[pa.DataType], rows: int, size: int) -> Iterator[list[pa.Array]]:
    """What `mariadb_rows.row_batches` gives, by the driver's public cursor, which makes Python objects of values."""
    from pymysql.cursors import SSCursor

    with connection.cursor(SSCursor) as cursor:
        cursor.execute(sql)
        while found := fetched(cursor, rows, size, 1_000):
            yield [pa.array([_sent(row[place], kind) for row in found], kind) for place, kind in enumerate(kinds)]


def _sent(value: Any, kind: pa.DataType) -> str | bytes | None:
    """A value as the server sent it."""
    if value is None or isinstance(value, str if pa.types.is_string(kind) else bytes):
        return value
    if isinstance(value, bytes):
        return value.decode("utf-8")
    text = str(value)
    return text if pa.types.is_string(kind) else text.encode()
