"""Reads the rows that a MariaDB or MySQL server sends, in columns, without making a Python object for each value.

The form is described in the manual of MariaDB under "Result Set Packets": every row is a packet of length-encoded
texts. Where the packets begin is found for many at once too, and proven; else they are followed one by one.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
import pyarrow as pa

from kanal.connections.pieces import Bytes, Places, array_of_pieces
from kanal.connections.sql.pymysql_private import end_result, stream_of

_READ_AT_ONCE = 1024 * 1024
#: Bytes before each packet: its length and its number.
_HEADER = 4
_NONE: Places = np.zeros(0, dtype=np.int64)
_NULL, _TWO_BYTES, _THREE_BYTES, _EIGHT_BYTES, _ERROR = 0xFB, 0xFC, 0xFD, 0xFE, 0xFF
#: A packet of this length goes on in the next one.
_FULL = 0xFFFFFF


def row_batches(connection: Any, sql: str, kinds: list[pa.DataType], rows: int, size: int) -> Iterator[list[pa.Array]]:
    """The columns of a query's rows, each text or binary as its kind says, this many rows or bytes at a time.

    `connection` is one of PyMySQL, of which nothing else is asked meanwhile. Raises its errors.
    """
    connection.query(sql, unbuffered=True)
    for buffer, places in _packets(connection, len(kinds), rows, size):
        content, at = np.frombuffer(buffer, dtype=np.uint8), places
        columns = []
        for kind in kinds:
            values, at = _column(content, at, kind)
            columns.append(values)
        yield columns
    end_result(connection)


def _packets(connection: Any, columns: int, rows: int, size: int) -> Iterator[tuple[bytes, Places]]:
    """Buffers of whole packets, with the places of their rows; up to this many rows or bytes each."""
    packets = _Packets(stream_of(connection), columns)
    while True:
        packets.read()
        while packets.count >= rows or (packets.count and (packets.end >= size or packets.last is not None)):
            yield packets.taken(rows, size)
        if packets.last is not None:
            if packets.last[0] == _ERROR:
                _raise_error(packets.last)
            return


class _Packets:
    """The packets that have come from the server and were not yet given on."""

    def __init__(self, stream: Any, columns: int) -> None:
        self._stream = stream
        self._columns = columns
        self._content = bytearray()
        self._places: list[Places] = []
        #: How many bytes there must be for the next packet to be whole, as far as that is known.
        self._wanted = _HEADER
        #: How many rows there are, and where the last of their packets ends.
        self.count = self.end = 0
        #: The packet that ends the rows, once it has come.
        self.last: bytes | None = None

    def read(self) -> None:
        """Read until there are more rows, or they have ended."""
        while True:
            more = self._stream.read1(_READ_AT_ONCE)
            if not more:
                raise EOFError("the server closed the connection while it sent rows")
            self._content += more
            if len(self._content) >= self._wanted:
                break
        found = _found(self._content, self.end, self._columns)
        if len(found):
            self._add(found[:-1] + _HEADER)
            self.end = int(found[-1])
        self._follow()

    def _add(self, places: Places) -> None:
        self._places.append(places)
        self.count += len(places)

    def _follow(self) -> None:
        """Find packets one by one, to the first that is not whole, or ends the rows."""
        content, places = self._content, []
        while (headers := self._whole()) is not None:
            begin, *others, end = headers
            for other in reversed(others):
                del content[other - _HEADER : other]
            end -= _HEADER * len(others)
            head = content[begin] if end > begin else 0
            if head == _ERROR or (head == _EIGHT_BYTES and end - begin < 9):
                self.last = bytes(content[begin:end])
                break
            places.append(begin)
            self.end = end
        self._add(np.array(places, dtype=np.int64))

    def _whole(self) -> list[int] | None:
        """Where the parts of the next packet begin, behind their headers, and where it ends; None if it is not all
        there."""
        content, places, end, length = self._content, list[int](), self.end, _FULL
        while length == _FULL:
            places.append(end + _HEADER)
            self._wanted = places[-1]
            if self._wanted > len(content):
                return None
            length = int.from_bytes(content[end : end + 3], "little")
            self._wanted = end = places[-1] + length
            if self._wanted > len(content):
                return None
        return [*places, end]

    def taken(self, rows: int, size: int) -> tuple[bytes, Places]:
        """The first rows, so many or as many as come to a size; they are given on."""
        places = np.concatenate(self._places)
        count = min(rows, max(1, int(np.searchsorted(places, size))), len(places))
        end = int(places[count]) - _HEADER if count < len(places) else self.end
        content = bytes(memoryview(self._content)[:end])
        del self._content[:end]
        self._places, self.count = [places[count:] - end], len(places) - count
        self.end -= end
        self._wanted -= end
        return content, places[:count]


def _found(content: bytearray, place: int, least: int) -> Places:
    """Where packets of this many bytes at least begin, one behind the other, the first at a place; found by what their
    headers look like. None of them unless each ends where the next one begins; of the last one the header alone need be
    there."""
    part = np.frombuffer(content, dtype=np.uint8)[place:]
    if len(part) < 2 * _HEADER:
        return _NONE
    # A packet of less than 64 KiB has a 0 there, which is rare in texts, and is numbered one more than that before.
    zero = part[2:-1] == 0
    starts = np.flatnonzero(zero)
    ends = starts + _HEADER + part[starts] + (part[starts + 1].astype(np.int64) << 8)
    likely = (ends + _HEADER <= len(part)) & (ends >= starts + _HEADER + least)
    starts, ends = starts[likely], ends[likely]
    follows = zero[ends] & (part[ends + 3] == part[starts + 3] + np.uint8(1))
    starts, ends = starts[follows], ends[follows]
    # What looks like a header by chance, and ends where one begins, is itself hardly ever where one ends.
    reached = np.zeros(len(part), dtype=np.bool_)
    reached[0] = reached[ends] = True
    starts, ends = starts[reached[starts]], ends[reached[starts]]
    if not len(starts) or starts[0] != 0 or not (ends[:-1] == starts[1:]).all():
        return _NONE
    return np.append(starts, ends[-1]) + place


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
