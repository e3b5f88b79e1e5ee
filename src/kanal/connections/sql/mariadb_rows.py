"""Reads the rows that a MariaDB or MySQL server sends, in columns, without making a Python object for each value.

The form is described in the manual of MariaDB under "Result Set Packets": every row is a packet of length-encoded
texts. Where each packet begins is followed one by one; all else is done for many rows at once.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
import pyarrow as pa

from kanal.connections.pieces import Bytes, Places, array_of_pieces
from kanal.connections.sql.pymysql_private import end_result, stream_of

_READ_AT_ONCE = 1024 * 1024
_NULL, _TWO_BYTES, _THREE_BYTES, _EIGHT_BYTES, _ERROR = 0xFB, 0xFC, 0xFD, 0xFE, 0xFF
#: A packet of this length goes on in the next one.
_FULL = 0xFFFFFF


def row_batches(connection: Any, sql: str, kinds: list[pa.DataType], rows: int, size: int) -> Iterator[list[pa.Array]]:
    """The columns of a query's rows, each text or binary as its kind says, so many rows or bytes at a time.

    `connection` is one of PyMySQL, of which nothing else is asked meanwhile. Raises its errors.
    """
    connection.query(sql, unbuffered=True)
    for buffer, places in _packets(connection, rows, size):
        content = np.frombuffer(buffer, dtype=np.uint8)
        at = np.array(places, dtype=np.int64)
        columns = []
        for kind in kinds:
            values, at = _column(content, at, kind)
            columns.append(values)
        yield columns
    end_result(connection)


def _packets(connection: Any, rows: int, size: int) -> Iterator[tuple[bytes, list[int]]]:
    """Buffers of whole packets, with the places of the rows in each; of so many rows, or as many as come to a size."""
    buffer = _Buffer(stream_of(connection))
    content, held = buffer.content, len(buffer.content)
    place = 0
    places: list[int] = []
    while True:
        begin = place + 4
        if begin > held:
            held = buffer.fill(begin)
        length = content[place] | content[place + 1] << 8 | content[place + 2] << 16
        end = begin + length
        if end > held:
            held = buffer.fill(end)
        while length == _FULL:
            buffer.fill(end + 4)
            length = int.from_bytes(content[end : end + 3], "little")
            del content[end : end + 4]
            end += length
            held = buffer.fill(end)
        head = content[begin]
        if head == _ERROR:
            _raise_error(bytes(content[begin:end]))
        if head == _EIGHT_BYTES and end - begin < 9:
            if places:
                yield bytes(content), places
            return
        places.append(begin)
        place = end
        if len(places) == rows or place >= size:
            yield bytes(content[:end]), places
            del content[:end]
            place, places, held = 0, [], len(content)


class _Buffer:
    """What has come from the server and was not yet given on."""

    def __init__(self, stream: Any) -> None:
        self.stream = stream
        self.content = bytearray()

    def fill(self, size: int) -> int:
        """Read until it holds so many bytes; how many it holds."""
        while len(self.content) < size:
            more = self.stream.read1(_READ_AT_ONCE)
            if not more:
                raise EOFError("the server closed the connection while it sent rows")
            self.content += more
        return len(self.content)


def _raise_error(packet: bytes) -> None:
    from pymysql.err import raise_mysql_exception

    raise_mysql_exception(packet)


def _column(content: Bytes, at: Places, kind: pa.DataType) -> tuple[pa.Array, Places]:
    """The values that stand at these places, and the places behind them."""
    head = content[at].astype(np.int64)
    sizes, widths = head, np.ones(len(at), dtype=np.int64)
    valid = head != _NULL
    if (head >= _NULL).any():
        sizes = np.where(valid, head, 0)
        for mark, width in ((_TWO_BYTES, 2), (_THREE_BYTES, 3), (_EIGHT_BYTES, 8)):
            chosen = np.flatnonzero(head == mark)
            if len(chosen):
                size = np.zeros(len(chosen), dtype=np.int64)
                for byte in range(width):
                    size |= content[at[chosen] + 1 + byte].astype(np.int64) << (8 * byte)
                sizes[chosen] = size
                widths[chosen] = 1 + width
    starts = at + widths
    return array_of_pieces(content, starts, sizes, valid, kind), starts + sizes
