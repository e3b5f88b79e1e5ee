"""What stores on other machines share: files read by ranges, and written to a temporary file of this machine first."""

from __future__ import annotations

import io
import tempfile
from collections.abc import Callable
from typing import IO, Any, cast

from kanal.connections.errors import DatabaseError
from kanal.connections.files.stores import told

#: Bytes that are asked for at once.
RANGE = 4 * 1024 * 1024
#: Seconds after which what a killed process has left is taken for left.
OLD = 24 * 3600


class StoreError(DatabaseError):
    """A store that cannot be reached, or that refuses what it was asked."""


class _Ranged(io.RawIOBase):
    """A file of this many bytes, of which `fetch(start, stop)` gives a part."""

    def __init__(self, size: int, fetch: Callable[[int, int], bytes]) -> None:
        self._size = size
        self._fetch = fetch
        self._place = 0

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def tell(self) -> int:
        return self._place

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        start = {io.SEEK_SET: 0, io.SEEK_CUR: self._place, io.SEEK_END: self._size}[whence]
        self._place = max(0, start + offset)
        return self._place

    def readinto(self, room: Any) -> int:
        stop = min(self._size, self._place + len(room))
        if stop <= self._place:
            return 0
        found = self._fetch(self._place, stop)
        if len(found) != stop - self._place:
            raise EOFError(f"{len(found):,} bytes came in the place of {stop - self._place:,}")
        room[: len(found)] = found
        self._place = stop
        return len(found)


def ranged(size: int, fetch: Callable[[int, int], bytes]) -> IO[bytes]:
    """A file that can be read from any place on, by ranges that are fetched: bytes from `start` to before `stop`."""
    return cast("IO[bytes]", io.BufferedReader(_Ranged(size, fetch), RANGE))


def temporary() -> IO[bytes]:
    """A new file of this machine that nobody else sees, and that goes with this process; raises KanalError."""
    with told("no temporary file can be made"):
        return cast("IO[bytes]", tempfile.TemporaryFile(prefix="kanal-"))
