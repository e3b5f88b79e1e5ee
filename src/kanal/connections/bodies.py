"""Reads the bodies of HTTP answers: unpacks them, and stops if one is too long or comes too slowly."""

from __future__ import annotations

import time
import zlib
from collections.abc import Iterator
from typing import Any
from urllib.parse import urljoin, urlsplit

from kanal.connections.errors import DatabaseError
from kanal.core.errors import shortened

#: Seconds after which a body must have come at this many bytes per second.
_PATIENCE, _SLOWEST = 300.0, 100
#: Bytes that are unpacked at once.
_BLOCK = 1 << 20


def blocks(answer: Any, name: str, most: int, failure: type[DatabaseError]) -> Iterator[bytes]:
    """The body of an httpx answer that is streamed, in blocks, unpacked if it is packed with gzip.

    Raises `failure`, with `name` in its message, if there are more than `most` bytes, if they come at less than 100
    bytes per second, if they are packed otherwise or more than once, or if they are damaged.
    """
    packing = answer.headers.get("Content-Encoding", "").strip().casefold()
    if packing not in ("", "identity", "gzip", "x-gzip"):
        raise failure(f"{name}: the answer is packed as {shortened(packing, 40)}, and gzip alone was asked for",
                      "ask those who run the service")  # fmt: skip
    begun, came, size = time.monotonic(), 0, 0
    unpacking = _Unpacking() if "gzip" in packing else None
    for piece in answer.iter_raw():
        came += len(piece)
        seconds = time.monotonic() - begun
        if seconds > _PATIENCE and came < seconds * _SLOWEST:
            raise failure(f"{name}: only {came:,} bytes came in {seconds:.0f} s", "run it again later", True)
        try:
            for block in [piece] if unpacking is None else unpacking.blocks(piece):
                size += len(block)
                if size > most:
                    raise failure(f"{name}: the answer has more than {most:,} bytes", "ask for less at once")
                yield block
        except zlib.error as error:
            raise failure(f"{name}: the answer is damaged: {error}", "run it again", True) from None
    if unpacking is not None and not unpacking.is_complete:
        raise failure(f"{name}: the answer is not complete", "run it again", True)


class _Unpacking:
    """Unpacks gzip one block at a time, so that no piece fills the memory."""

    def __init__(self) -> None:
        self._member: Any = None

    @property
    def is_complete(self) -> bool:
        """True if nothing came, or the last member has ended."""
        return self._member is None or bool(self._member.eof)

    def blocks(self, piece: bytes) -> Iterator[bytes]:
        while piece:
            if self._member is None or self._member.eof:
                self._member = zlib.decompressobj(16 + zlib.MAX_WBITS)
            yield self._member.decompress(piece, _BLOCK)
            piece = self._member.unconsumed_tail or self._member.unused_data
        while self._member is not None and not self._member.eof and (rest := self._member.decompress(b"", _BLOCK)):
            yield rest


def is_web_address(address: str) -> bool:
    """True for an http or https address with a host."""
    try:
        parts = urlsplit(address)
        return parts.scheme in ("http", "https") and bool(parts.hostname) and (parts.port is None or parts.port > 0)
    except ValueError:
        return False


def led_to(address: str, location: str) -> str:
    """Where a link or a redirection leads; the location alone if it is no address."""
    try:
        return urljoin(address, location)
    except ValueError:
        return location


def whole_number(text: str, digits: int = 18) -> int | None:
    """A number as HTTP writes it, in digits; None for anything else, and for more digits than these."""
    return int(text) if text.isascii() and text.isdecimal() and len(text) <= digits else None
