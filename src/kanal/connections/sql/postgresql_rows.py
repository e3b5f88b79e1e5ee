"""Reads what PostgreSQL's COPY sends in binary form, in blocks, without making a Python object for each row.

The form is described in the manual of PostgreSQL under COPY, "Binary Format", the messages under "Frontend/Backend
Protocol". On a connection without encryption the messages are taken from the socket in blocks, which costs a tenth of
taking them row by row; else the driver hands them over.
"""

from __future__ import annotations

import contextlib
import os
import select
import socket
from collections.abc import Iterator
from typing import Any

import numpy as np

from kanal.connections.pieces import Bytes, Places, every_place

_BLOCK = 2 * 1024 * 1024
#: Bytes behind the last row, so that a field that is NULL can be looked at like others.
_SPARE = 16
_HEADER = 19
#: A buffer, if the first field of each row begins in it, one row behind the other, and where the last row ends.
Block = tuple[Bytes, Places, int]


class ServerError(Exception):
    """An error that the server sent, by the letters of its fields."""

    def __init__(self, fields: dict[str, str]) -> None:
        self.sqlstate = fields.get("C", "")
        self.words = ": ".join(fields[letter] for letter in "MDH" if fields.get(letter))
        super().__init__(self.words)


class DriverBlocks:
    """Blocks of rows of a COPY, which psycopg hands over row by row."""

    def __init__(self, connection: Any, sql: str) -> None:
        self._connection = connection
        self._sql = sql
        #: True once the server is ready for the next query.
        self.ended = False

    def close(self) -> None:
        """There is nothing to give up."""

    def __iter__(self) -> Iterator[Block]:
        """The blocks; raises the driver's errors."""
        with self._connection.cursor() as cursor, cursor.copy(self._sql) as copy:
            rows: list[Any] = []
            size, first = 0, True
            while data := copy.read():
                data = bytes(data)[_HEADER:] if first else data
                first = False
                if len(data) > 2:  # else the trailer
                    rows.append(data)
                    size += len(data)
                if size >= _BLOCK:
                    yield _joined(rows)
                    rows, size = [], 0
            if rows:
                yield _joined(rows)
        self.ended = True


def _joined(rows: list[Any]) -> Block:
    lengths = np.fromiter(map(len, rows), dtype=np.int64, count=len(rows))
    content = np.frombuffer(b"".join([*rows, bytes(_SPARE)]), dtype=np.uint8)
    ends = np.cumsum(lengths)
    return content, ends - lengths + 2, int(ends[-1])


class SocketBlocks:
    """Blocks of rows of a COPY, read from the socket of a psycopg connection that is otherwise idle.

    To be iterated to its end, else the connection is of no more use.
    """

    def __init__(self, connection: Any, sql: str) -> None:
        self._socket = socket.socket(fileno=os.dup(connection.pgconn.socket))
        self._poll = select.poll()
        self._poll.register(self._socket, select.POLLIN)
        self._columns = 0
        self._sql = sql
        self._first = self._copying = False
        self._error: ServerError | None = None
        #: True once the server is ready for the next query.
        self.ended = False

    def close(self) -> None:
        """Give up the second handle of the socket."""
        self._socket.close()

    def _send(self, content: bytes) -> None:
        view = memoryview(content)
        while view:
            try:
                view = view[self._socket.send(view) :]
            except BlockingIOError:
                writable = select.poll()
                writable.register(self._socket, select.POLLOUT)
                writable.poll()

    def _receive(self, into: memoryview) -> int:
        while True:
            try:
                count = self._socket.recv_into(into)
            except BlockingIOError:
                self._poll.poll()
                continue
            if not count:
                raise ServerError({"M": "the server closed the connection while it sent rows", "C": "08006"})
            return count

    def _gather(self, size: int) -> None:
        """Let bytes come for a moment, up to so many: the server sends 8 KiB at a time, and to wake up for each of them
        costs more than finding the rows in it."""
        with contextlib.suppress(OSError, AttributeError):  # if the system does not know how
            self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_RCVLOWAT, min(size, _AT_ONCE))
            try:
                self._poll.poll(_MOMENT)
            finally:  # else the driver, too, would wait for so many
                self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_RCVLOWAT, 1)

    def __iter__(self) -> Iterator[Block]:
        """The blocks; raises ServerError."""
        query = self._sql.encode() + b"\0"
        self._send(b"Q" + (len(query) + 4).to_bytes(4, "big") + query)
        held = b""
        room = _BLOCK
        while not self.ended:
            buffer = np.empty(room + _SPARE, dtype=np.uint8)
            view = memoryview(buffer.data)[:room]
            view[: len(held)] = held
            count = len(held)
            while count < room:
                if count > len(held):
                    self._gather(room - count)
                    if not self._poll.poll(_TRICKLING):
                        break  # rows that trickle are given on, not waited for until a block is full
                count += self._receive(view[count:])
                if not self._copying or bytes(view[count - 6 : count]) in _READY:
                    break
            place = 0
            # Few messages stand before the rows and behind them.
            if not self._copying:
                place = self._messages(view[:count], place)
            if self._copying:
                starts, end, place = self._rows(buffer, count, place)
                if len(starts):
                    yield buffer, starts, end
                place = self._messages(view[:count], place)
            held = bytes(view[place:count])
            grown = self._copying and len(held) >= room // 2  # by a row longer than the block
            room = 2 * room if grown else max(_BLOCK, 2 * len(held))
        if self._error is not None:
            raise self._error

    def _messages(self, view: memoryview, place: int) -> int:
        """Take in the messages that are no rows, up to a row or one not there yet; the place of that."""
        while len(view) - place >= 5:
            kind, length = view[place], int.from_bytes(view[place + 1 : place + 5], "big")
            if (kind == _DATA and self._copying) or len(view) - place < 1 + length:
                break
            body = bytes(view[place + 5 : place + 1 + length])
            place += 1 + length
            if kind == _ERROR:
                self._error = self._error or ServerError(_fields(body))
            elif kind == _COPY_OUT:
                self._copying = self._first = True
                self._columns = int.from_bytes(body[1:3], "big")
            elif kind == _COPY_DONE:
                self._copying = False
            elif kind == _READY_KIND:
                self.ended = True
        return place

    def _rows(self, buffer: Bytes, count: int, place: int = 0) -> tuple[Places, int, int]:
        """Where the first fields begin of the rows of which all is there, if the last one ends, and where what
        follows them begins."""
        if self._first:
            if count - place < 5 + _HEADER or buffer[place] != _DATA:
                return _NONE, place, place
            # The header is in the first row's message: as if it began behind it.
            length = int.from_bytes(buffer[place + 1 : place + 5].tobytes(), "big")
            place += _HEADER
            buffer[place] = _DATA
            buffer[place + 1 : place + 5] = np.frombuffer((length - _HEADER).to_bytes(4, "big"), dtype=np.uint8)
            self._first = False
        starts, end = self._found(buffer, count, place)
        if starts is None:
            starts, end = self._followed(buffer, count, place)
        following = end
        # The trailer is a message of its own, without fields.
        if count - end >= 7 and buffer[end] == _DATA and bytes(buffer[end + 1 : end + 7]) == _TRAILER:
            following += 7
        return starts + 7, end, following

    def _found(self, buffer: Bytes, count: int, place: int) -> tuple[Places | None, int]:
        """The messages of rows, found by how each begins; None unless each ends where the next one begins."""
        part = buffer[place:count]
        if len(part) < 8:
            return _NONE, place
        # The number of fields, wherever it stands, at even places and at odd ones.
        looked_for = int.from_bytes(self._columns.to_bytes(2, "big"), "little")
        looks = [
            2 * np.flatnonzero(part[odd : odd + (len(part) - odd) // 2 * 2].view("<u2") == looked_for) + (odd - 5)
            for odd in (0, 1)
        ]
        starts = np.concatenate(looks)
        starts.sort(kind="stable")
        starts = starts[np.searchsorted(starts, 0) :]
        starts = starts[(part[starts] == _DATA) & (part[starts + 1] == 0)] + place
        if not len(starts):
            return (None if part[0] == _DATA else _NONE), place
        ends = starts + 1 + every_place(buffer, 4)[starts + 1].view(">i4").astype(np.int64)
        if starts[0] != place or not (ends[:-1] == starts[1:]).all():
            return None, place
        if ends[-1] > count:
            starts, ends = starts[:-1], ends[:-1]
        return starts, int(ends[-1]) if len(ends) else place

    def _followed(self, buffer: Bytes, count: int, place: int) -> tuple[Places, int]:
        """The messages of rows, followed from one to the next."""
        content = memoryview(buffer.data)
        starts = []
        while count - place >= 7 and content[place] == _DATA:
            length = int.from_bytes(content[place + 1 : place + 5], "big")
            if place + 1 + length > count or length == 6:
                break
            starts.append(place)
            place += 1 + length
        return np.array(starts, dtype=np.int64), place


#: Milliseconds after which what has come is given on.
_TRICKLING = 100
#: So many bytes are waited for, and so many milliseconds, before more of a block is taken from the socket.
_AT_ONCE, _MOMENT = 128 * 1024, 2
_NONE: Places = np.zeros(0, dtype=np.int64)
_DATA, _ERROR, _COPY_OUT, _COPY_DONE, _READY_KIND = b"dEHcZ"
_TRAILER = b"\0\0\0\x06\xff\xff"
_READY = {b"Z\0\0\0\x05" + letter for letter in (b"I", b"T", b"E")}


def _fields(body: bytes) -> dict[str, str]:
    """The fields of an error, by their letters."""
    parts = [part.decode("utf-8", "replace") for part in body.split(b"\0") if part]
    return {part[0]: " ".join(part[1:].split()) for part in parts}
