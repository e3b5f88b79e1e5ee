"""Text of files: decoded to UTF-8 in blocks, and divided into lines."""

from __future__ import annotations

import codecs
from collections.abc import Iterator
from typing import IO

from kanal.core.errors import KanalError

#: Bytes of a block, and bytes that a record may have at most.
BLOCK, LONGEST = 1 * 1024 * 1024, 64 * 1024 * 1024
_BYTE_ORDER_MARKS = {codecs.BOM_UTF8: "utf-8", codecs.BOM_UTF16_LE: "utf-16-le", codecs.BOM_UTF16_BE: "utf-16-be"}


def encoding_of_mark(first: bytes) -> tuple[str, int] | None:
    """The encoding that the byte order mark at the beginning of a text says, and the mark's length; None for none."""
    return next(((found, len(mark)) for mark, found in _BYTE_ORDER_MARKS.items() if first.startswith(mark)), None)


def in_utf8(stream: IO[bytes], encoding: str | None, name: str, block_bytes: int = BLOCK) -> Iterator[bytes]:
    """The blocks of a stream in UTF-8; bytes that are no text of the encoding stay as they are."""
    first = stream.read(max(block_bytes, 4))  # so that a byte order mark is seen whole
    marked = encoding_of_mark(first)
    if marked is not None and (encoding is None or marked[0].startswith(encoding.lower().replace("_", "-")[:6])):
        encoding, first = marked[0], first[marked[1] :]
    decoder = codecs.getincrementaldecoder(encoding or "utf-8")("surrogateescape")
    plain = codecs.lookup(encoding or "utf-8").name == "utf-8"

    def decoded(block: bytes, final: bool) -> bytes:
        try:
            return decoder.decode(block, final).encode("utf-8", "surrogateescape")
        except UnicodeError as error:
            raise KanalError(f"{name} is not text in {encoding}: {error}", "name its encoding") from None

    block = first
    while block:
        yield block if plain else decoded(block, False)
        block = stream.read(block_bytes)
    if not plain and (rest := decoded(b"", True)):
        yield rest


def lines_of(blocks: Iterator[bytes], name: str) -> Iterator[bytes]:
    """The lines of a text, with what ends them; raises KanalError for one that is too long to be one."""
    parts: list[bytes] = []
    length, number = 0, 1
    for block in blocks:
        lines = block.split(b"\n")
        for line in lines[:-1]:
            parts.append(line + b"\n")
            yield b"".join(parts)
            parts, length = [], 0
            number += 1
        parts.append(lines[-1])
        length += len(lines[-1])
        if length > LONGEST:
            raise KanalError(f"{name}: line {number} is longer than {LONGEST >> 20} MB",
                             "see whether it is such a file")  # fmt: skip
    if length:
        yield b"".join(parts)


def undecoded(text: str) -> bool:
    """True for a text that has bytes which are none of its encoding."""
    return not text.isascii() and any("\udc80" <= sign <= "\udcff" for sign in text)


def shown(raw: bytes) -> str:
    """Lines as rejects show them."""
    return raw.decode("utf-8", "replace").rstrip("\r\n")
