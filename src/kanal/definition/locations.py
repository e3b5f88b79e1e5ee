"""Finds the line on which each key of a TOML text stands, for messages: the parser itself does not keep it."""

from __future__ import annotations

import re
from collections.abc import Iterator

_HEADER = re.compile(r"\s*\[\[?\s*([^\[\]]+?)\s*\]\]?\s*(?:#.*)?")
_KEY = re.compile(
    r"""\s*((?:"(?:[^"\\]|\\.)*"|'[^']*'|[A-Za-z0-9_-]+)(?:\s*\.\s*(?:"(?:[^"\\]|\\.)*"|'[^']*'|[A-Za-z0-9_-]+))*)\s*="""
)
_PART = re.compile(r"""\s*(?:"((?:[^"\\]|\\.)*)"|'([^']*)'|([A-Za-z0-9_-]+))\s*\.?""")


#: So many parts of a key's path are told apart; a job has no deeper ones.
_DEEPEST = 8


def key_lines(text: str) -> dict[tuple[str, ...], int]:
    """The line, counted from 1, of each table header and key, by its whole path."""
    lines: dict[tuple[str, ...], int] = {}
    table: tuple[str, ...] = ()
    for number, line in _outside_of_long_texts(text):
        header = _HEADER.fullmatch(line)
        if header is not None:
            table = _parts(header[1])
            for length in range(1, min(len(table), _DEEPEST) + 1):
                lines.setdefault(table[:length], number)
            continue
        key = _KEY.match(line)
        if key is not None:
            path = table + _parts(key[1])
            for length in range(len(table) + 1, min(len(path), _DEEPEST) + 1):
                lines.setdefault(path[:length], number)
            for inner in re.finditer(r"""[{,]\s*([A-Za-z0-9_-]+)\s*=""", line[key.end() :]):
                lines.setdefault((*path, inner[1]), number)
    return lines


def _parts(text: str) -> tuple[str, ...]:
    return tuple(
        (double.replace('\\"', '"').replace("\\\\", "\\") if double else single or bare)
        for double, single, bare in _PART.findall(text)
    )


def _outside_of_long_texts(text: str) -> Iterator[tuple[int, str]]:
    """The lines of a text with their numbers, those inside of texts in triple quotes left out."""
    closing: str | None = None
    for number, line in enumerate(text.splitlines(), 1):
        if closing is not None:
            if closing in line:
                closing = None
            continue
        yield number, line
        for mark in ('"""', "'''"):
            if line.count(mark) % 2:
                closing = mark
