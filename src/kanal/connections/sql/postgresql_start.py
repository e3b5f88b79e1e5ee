"""Asks a PostgreSQL server in what state it takes a connection.

A client library has no SQLSTATE for a connection that failed, but its server's sentence in the server's language. So
the beginning of the protocol is gone through here (the manual, "Frontend/Backend Protocol", start-up message).
"""

from __future__ import annotations

import socket
import struct

#: Version 3.0 of the protocol.
_PROTOCOL = 196608


def state_at_start(host: str | None, port: int, user: str, database: str, timeout: float) -> str:
    """The SQLSTATE by which the server refuses a connection; "" if it would go on, or answers otherwise.

    Raises OSError if nothing answers.
    """
    texts = "".join(f"{part}\0" for part in ("user", user, "database", database)) + "\0"
    body = struct.pack("!i", _PROTOCOL) + texts.encode("utf-8")
    with _connected(host, port, timeout) as connection:
        connection.sendall(struct.pack("!i", len(body) + 4) + body)
        answer = b""
        while len(answer) < 5 or (answer[:1] == b"E" and len(answer) < 1 + struct.unpack("!i", answer[1:5])[0]):
            part = connection.recv(4096)
            if not part:
                raise ConnectionResetError("the server closed the connection")
            answer += part
    if answer[:1] != b"E":
        return ""
    fields = answer[5:].split(b"\0")
    return next((field[1:].decode("ascii", "replace") for field in fields if field[:1] == b"C"), "")


def _connected(host: str | None, port: int, timeout: float) -> socket.socket:
    """A connection over TCP, or over the socket in a folder; if no host is named, in one of the usual folders."""
    if host and not host.startswith("/"):
        return socket.create_connection((host, port), timeout)
    failure: OSError = FileNotFoundError("there is no socket")
    for folder in (host,) if host else ("/var/run/postgresql", "/tmp"):
        made = socket.socket(socket.AF_UNIX)
        made.settimeout(timeout)
        try:
            made.connect(f"{folder}/.s.PGSQL.{port}")
            return made
        except OSError as error:
            made.close()
            failure = error
    raise failure
