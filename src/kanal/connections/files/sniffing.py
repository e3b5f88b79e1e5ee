"""Guesses how a file is written, if the job does not state it: its encoding, what divides its values, its header.

Nothing is loaded by a guess: it is shown by `kanal sample`, and written by `kanal draft` for the user to decide.
"""

from __future__ import annotations

import csv
import re
from collections import Counter
from collections.abc import Sequence
from typing import Any

from msgspec import Struct, field

from kanal.connections.files.formats import kind_of
from kanal.connections.files.packing import ending_of, unpacked
from kanal.connections.files.stores import FoundFile
from kanal.connections.files.text import encoding_of_mark
from kanal.connections.files.workbook import Workbook, text_of
from kanal.definition import Format

#: Bytes of a file, and records of it, that are looked at.
_BYTES, _RECORDS = 256 * 1024, 200
_DELIMITERS = {",": "a comma", ";": "a semicolon", "\t": "a tab", "|": "a bar"}
_VALUE = re.compile(r"[-+]?[0-9][0-9.,:/ +T-]*%?")
_CERTAIN = 0.95


class Sniffed(Struct, frozen=True):
    """A guessed format, and in sentences what is guessed and how sure that is; no format if the defaults do."""

    form: Format | None = None
    said: tuple[str, ...] = ()


class _Guess(Struct):
    keys: dict[str, Any] = field(default_factory=dict)
    said: list[str] = field(default_factory=list)

    def add(self, sure: bool, what: str, **keys: Any) -> None:
        """Guess something, and say how sure it is."""
        self.keys |= keys
        self.said.append(f"{what} ({'certain' if sure else 'likely'})")

    def made(self, kind: str) -> Sniffed:
        """The format that the guesses make."""
        if not self.keys:
            return Sniffed(None, tuple(self.said))
        return Sniffed(Format.model_validate({"kind": kind, **self.keys}), tuple(self.said))


def sniffed(file: FoundFile) -> Sniffed:
    """How a file seems to be written; raises KanalError if it cannot be read."""
    kind = kind_of(ending_of(file), file.name, None)
    if kind == "csv":
        with unpacked(file) as stream:
            content = stream.read(_BYTES)
        return sniff_text(content, len(content) < _BYTES, ending_of(file))
    if kind == "excel":
        rows = Workbook(Format(), ending_of(file)).first_rows(file, _RECORDS)
        return sniff_cells([[text_of(cell) or "" for cell in row] for row in rows])
    return Sniffed()


def sniff_cells(rows: Sequence[Sequence[str]]) -> Sniffed:
    """Where the table of a sheet seems to be, by its first rows."""
    guess = _Guess()
    left = min((place for row in rows for place, cell in enumerate(row) if cell.strip()), default=0)
    spans = [[place for place, cell in enumerate(row) if cell.strip()] for row in rows]
    if sum(1 for span in spans if len(span) > 1) > 1:  # a title alone says nothing of where the table begins
        left = min(span[0] for span in spans if len(span) > 1)
    _sniff_header([row[left:] for row in rows], list(range(len(rows))), guess, cells=True)
    top = int(guess.keys.pop("skip_lines", 0))
    if left or top:
        names = guess.keys.get("columns") or rows[top][left:]
        right = left + max((place + 1 for place, name in enumerate(names) if name.strip()), default=1) - 1
        place = f"{_letters(left)}{top + 1}:{_letters(right)}"
        guess.said = [said for said in guess.said if "come before" not in said]
        guess.add(False, f"the table is in {place}", range=place)
    return guess.made("excel")


def _letters(column: int) -> str:
    """The letters of a column, from 0."""
    letters = ""
    while column >= 0:
        letters = chr(65 + column % 26) + letters
        column = column // 26 - 1
    return letters


def sniff_text(content: bytes, whole: bool, ending: str) -> Sniffed:
    """How delimited text seems to be written, by its beginning, which may be all of it."""
    guess = _Guess()
    text = _decoded(content, whole, guess)
    if not whole:
        text = text[: text.rfind("\n") + 1]
    usual = "\t" if ending in (".tsv", ".tab") else ","
    found = {sign: _records(text, sign) for sign in _DELIMITERS}
    scores = {sign: _score([record for _, record in records]) for sign, records in found.items()}
    best = max(scores, key=lambda sign: (round(scores[sign], 2), sign == usual))
    if scores[best] == 0:
        return guess.made("csv")
    rivals = [sign for sign, score in scores.items() if sign != best and score >= scores[best] * 0.9]
    if best != usual or rivals:
        guess.add(scores[best] >= _CERTAIN and not rivals, f"{_DELIMITERS[best]} divides the values", delimiter=best)
    records = found[best]
    _sniff_header([record for _, record in records], [line for line, _ in records], guess)
    return guess.made("csv")


def _decoded(content: bytes, whole: bool, guess: _Guess) -> str:
    """The text, in the encoding that fits it."""
    marked = encoding_of_mark(content)
    if marked is not None:
        return content[marked[1] :].decode(marked[0], "replace")
    zeros = [content[place::2].count(0) * 2 / max(1, len(content)) for place in (0, 1)]
    if max(zeros) > 0.3:
        encoding = "utf-16-be" if zeros[0] > zeros[1] else "utf-16-le"
        guess.add(False, f"it is text in {encoding}", encoding=encoding)
        return content.decode(encoding, "replace")
    try:
        return content.decode("utf-8")
    except UnicodeDecodeError as error:
        if not whole and error.start > len(content) - 4:
            return content[: error.start].decode("utf-8")
    encoding = "latin-1" if any(sign in content for sign in b"\x81\x8d\x8f\x90\x9d") else "cp1252"
    guess.add(False, f"it is text in {encoding}, and not in UTF-8", encoding=encoding)
    return content.decode(encoding, "replace")


def _records(text: str, delimiter: str) -> list[tuple[int, list[str]]]:
    """The first records, each with how many lines come before it; blank lines are none."""
    reader = csv.reader(text.splitlines(keepends=True), delimiter=delimiter)
    found: list[tuple[int, list[str]]] = []
    before = 0
    try:
        for record in reader:
            if record:
                found.append((before, record))
            before = reader.line_num
            if len(found) == _RECORDS:
                break
    except csv.Error:
        pass
    return found


def _score(records: Sequence[Sequence[str]]) -> float:
    """Which share of the records has as many values as most have; 0 where most have one."""
    width, count = Counter(map(len, records)).most_common(1)[0] if records else (1, 0)
    return count / len(records) if width > 1 else 0.0


def _sniff_header(records: Sequence[Sequence[str]], before: Sequence[int], guess: _Guess, cells: bool = False) -> None:
    """Which record is the header, if any is: the first that is as wide as most are."""
    if cells:  # of which each row has as many as the sheet: its header is the first that has most filled
        widths = [sum(bool(cell.strip()) for cell in record) for record in records]
        usual = max(widths, default=0)
    else:
        widths = [len(record) for record in records]
        usual = Counter(widths).most_common(1)[0][0] if widths else 0
    if not usual:
        return
    first = next(place for place, width in enumerate(widths) if width >= usual)
    if first and before[first]:
        guess.add(usual > 1, f"{before[first]} lines come before the header", skip_lines=before[first])
    header, rows = list(records[first]), records[first + 1 :]
    while cells and not header[-1].strip():
        header.pop()
    named = all(cell.strip() for cell in header) and len(set(header)) == len(header)
    if any(_VALUE.fullmatch(cell.strip()) for cell in header) or not named:
        columns = [f"column_{number}" for number in range(1, len(header) + 1)]
        guess.add(False, "it has no header", header=False, columns=columns)
        return
    below = [[bool(_VALUE.fullmatch(row[place].strip())) for row in rows if place < len(row) and row[place].strip()]
             for place in range(len(header))]  # fmt: skip
    sure = any(cells and sum(cells) / len(cells) > _CERTAIN for cells in below)
    guess.said.append(f"the header is {', '.join(header[:4])}{', …' if len(header) > 4 else ''} "
                      f"({'certain' if sure else 'likely'})")  # fmt: skip
