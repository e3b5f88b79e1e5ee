"""JSON: lines each of which is an object, or a list of objects anywhere in a document.

Every value is delivered as it is written: a number with all its digits, a text as it is, lists and objects as JSON.
Pointers are those of RFC 6901, lines as in https://jsonlines.org.
"""

from __future__ import annotations

import codecs
import itertools
import json
from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
import pyarrow as pa

from kanal.connections.description import ColumnInfo
from kanal.connections.files.formats import Part, text_columns
from kanal.connections.files.packing import unpacked
from kanal.connections.files.stores import FoundFile
from kanal.connections.files.text import LONGEST, in_utf8, lines_of, shown, undecoded
from kanal.core.errors import KanalError, shortened
from kanal.core.frame import BadLine
from kanal.definition import Format

#: The columns of a file are the names in so many of its first rows, if the job does not state it.
_LOOKED_AT = 1000


class Number(str):
    """A number as it is written."""

    __slots__ = ()


class _NoObject(ValueError):
    """What is wrong with a value that should be a row."""


def _object(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    found = dict(pairs)
    if len(found) < len(pairs):
        names = [name for name, _ in pairs]
        raise _NoObject(f'it has "{next(name for name in names if names.count(name) > 1)}" twice')
    return found


def _constant(text: str) -> Any:
    raise _NoObject(f"{text} is no JSON")


DECODER = json.JSONDecoder(object_pairs_hook=_object, parse_float=Number, parse_int=Number, parse_constant=_constant)


def as_text(value: Any) -> str | None:
    """A value as a column has it: a text as it is, everything else as JSON; None for null."""
    if value is None or type(value) is str:
        return value
    if isinstance(value, Number):
        return str(value)
    if isinstance(value, bool):
        return "true" if value else "false"
    return written(value)


def written(value: Any) -> str:
    """A value as JSON, its numbers as they were written."""
    if isinstance(value, Number):
        return str(value)
    if isinstance(value, dict):
        return "{" + ", ".join(f"{json.dumps(k, ensure_ascii=False)}: {written(v)}" for k, v in value.items()) + "}"
    if isinstance(value, list):
        return "[" + ", ".join(map(written, value)) + "]"
    return json.dumps(value, ensure_ascii=False)


def pointed(pointer: str) -> list[str]:
    """The parts of a JSON Pointer."""
    return [part.replace("~1", "/").replace("~0", "~") for part in pointer.split("/")[1:]]


def pointer_to(parts: Sequence[str]) -> str:
    """The JSON Pointer of some parts."""
    return "".join("/" + part.replace("~", "~0").replace("/", "~1") for part in parts)


def found_at(value: Any, parts: Sequence[str]) -> Any:
    """What a pointer leads to in a value; None if the value has no such part."""
    return _found_at(value, parts)[0]


def is_at(value: Any, parts: Sequence[str]) -> bool:
    """True if a pointer leads to a part of a value, even to null."""
    return _found_at(value, parts)[1]


def _found_at(value: Any, parts: Sequence[str]) -> tuple[Any, bool]:
    for part in parts:
        if isinstance(value, dict) and part in value:
            value = value[part]
        elif isinstance(value, list) and part.isascii() and part.isdigit() and int(part) < len(value):
            value = value[int(part)]
        else:
            return None, False
    return value, True


#: The place of a row, the row or what is wrong with it, and its text.
_Row = tuple[int, dict[str, Any] | None, str, bytes]


class JsonText:
    """A document that has a list of objects, each of which is a row."""

    def __init__(self, form: Format, ending: str) -> None:
        del ending
        self._form = form
        self._pointers = {name: pointed(str(part)) for name, part in form.places.items()}

    def columns_of(self, file: FoundFile) -> tuple[ColumnInfo, ...]:
        if self._pointers:
            return text_columns(list(self._pointers))
        with unpacked(file, self._form.unpacked_bytes) as stream:
            first = [row for _, row, _, _ in itertools.islice(self.rows_of(stream, file), _LOOKED_AT) if row]
        names = list(dict.fromkeys(name for row in first for name in row))
        if not names:
            raise KanalError(f"{file.name} has no rows, so its columns are not known",
                             'name them in a [format.NAME]: columns = { NAME = "/POINTER" }')  # fmt: skip
        return text_columns(names)

    def doubt(self, file: FoundFile, columns: Sequence[ColumnInfo]) -> None:
        """Nothing: JSON says what it is."""

    def parts(self, file: FoundFile, wanted: Sequence[str], rows: int) -> Iterator[Part]:
        names = [column.name for column in self.columns_of(file)]
        known = frozenset(names)
        chosen = {name: self._pointers.get(name) for name in names if name in wanted}
        with unpacked(file, self._form.unpacked_bytes) as stream:
            content = self.rows_of(stream, file)
            while some := list(itertools.islice(content, rows)):
                good: list[dict[str, Any]] = []
                lines: list[int] = []
                bad: list[BadLine] = []
                for number, row, wrong, raw in some:
                    more = "" if row is None or self._pointers else next((n for n in row if n not in known), "")
                    unknown = (f'it has "{shortened(more, 60)}", which the first {_LOOKED_AT:,} rows have not: name '
                               "the columns in a [format.NAME]") if more else ""  # fmt: skip
                    if row is not None and self._pointers and not any(
                        is_at(row, parts) for parts in self._pointers.values()
                    ):  # fmt: skip
                        unknown = "it has none of the columns that the format names"
                    if row is None or wrong or unknown:
                        text = raw or json.dumps(row, ensure_ascii=False).encode("utf-8", "surrogateescape")
                        bad.append(BadLine(file.name, number, shown(text), wrong or unknown))
                    else:
                        good.append(row)
                        lines.append(number)
                columns = {
                    name: pa.array(
                        [as_text(row.get(name) if parts is None else found_at(row, parts)) for row in good],
                        pa.string(),
                    )
                    for name, parts in chosen.items()
                }
                yield Part(names, len(good), columns, np.array(lines, dtype=np.int64), bad)

    def rows_of(self, stream: Any, file: FoundFile) -> Iterator[_Row]:
        """The rows of a document, by their place in the list, from 1."""
        text = _Text(in_utf8(stream, self._form.encoding, file.name), file.name)
        for name in pointed(self._form.rows):
            text.enter(name, self._form.rows)
        if text.sign() != "[":
            what = f"at {self._form.rows}" if self._form.rows else "at its beginning"
            raise KanalError(f"{file.name} has no list {what}",
                             "say where the list of rows is by rows in a [format.NAME], such as rows = \"/items\"; "
                             'or set kind = "jsonl" if each line is a row')  # fmt: skip
        for place, value, raw in text.elements():
            row, wrong = checked(value)
            yield place, row, wrong, b"" if row is not None and not wrong else raw.encode("utf-8", "surrogateescape")
        if not self._form.rows:
            text.end()


class JsonLines(JsonText):
    """A file whose every line is an object."""

    def rows_of(self, stream: Any, file: FoundFile) -> Iterator[_Row]:
        for number, raw in enumerate(lines_of(in_utf8(stream, self._form.encoding, file.name), file.name), 1):
            text = raw.decode("utf-8", "surrogateescape")
            if not text.strip():
                continue
            try:
                row, wrong = checked(DECODER.decode(text))
            except _NoObject as error:
                row, wrong = None, str(error)
            except (ValueError, RecursionError) as error:
                if not raw.endswith(b"\n"):
                    raise KanalError(
                        f"{file.name} ends in the middle of a record, on line {number}", "have it sent again"
                    ) from None
                row, wrong = None, _no_json(error)
            yield number, row, wrong, raw


def checked(value: Any) -> tuple[dict[str, Any] | None, str]:
    """A value that should be a row, and what is wrong with it, if anything is."""
    if isinstance(value, _NoObject):
        return None, str(value)
    if not isinstance(value, dict):
        return None, "it is not an object, which a row must be"
    broken = [text for text in _texts(value) if not _is_unicode(text)]
    if any(map(undecoded, broken)):
        return None, "it has bytes that are no text of the encoding"
    if broken:
        return None, "it has half a character, such as \\ud800, which is no text"
    return value, ""


def _is_unicode(text: str) -> bool:
    if text.isascii():
        return True
    try:
        text.encode()
    except UnicodeEncodeError:
        return False
    return True


def _texts(value: Any) -> Iterator[str]:
    if isinstance(value, str):
        yield value
    elif isinstance(value, dict):
        for name, part in value.items():
            yield name
            yield from _texts(part)
    elif isinstance(value, list):
        for part in value:
            yield from _texts(part)


def _no_json(error: Exception) -> str:
    if isinstance(error, json.JSONDecodeError):
        return f"it is no JSON: {error.msg} at character {error.pos + 1}"
    return "it is nested too deeply" if isinstance(error, RecursionError) else f"it is no JSON: {error}"


class _Text:
    """A JSON text of which only as much is in memory as one value takes."""

    def __init__(self, blocks: Iterator[bytes], name: str) -> None:
        self._blocks = blocks
        self._name = name
        self._text = ""
        self._begins = 0
        self._decoder = codecs.getincrementaldecoder("utf-8")("surrogateescape")
        self._over = False

    def _more(self) -> bool:
        """Have another block in memory; False if there is none."""
        if len(self._text) - self._begins > LONGEST:
            raise KanalError(f"{self._name}: one value takes more than {LONGEST >> 20} MB",
                             "see whether it is JSON throughout")  # fmt: skip
        block = next(self._blocks, None)
        self._over = block is None
        self._text = self._text[self._begins :] + self._decoder.decode(block or b"", block is None)
        self._begins = 0
        return not self._over

    def sign(self) -> str:
        """The next character that is no space; "" at the end."""
        while True:
            while self._begins < len(self._text):
                if self._text[self._begins] not in " \t\r\n":
                    return self._text[self._begins]
                self._begins += 1
            if (self._over or not self._more()) and self._begins >= len(self._text):
                return ""

    def _take(self, wanted: str) -> None:
        found = self.sign()
        if found != wanted:
            self._fail(f'"{wanted}" is expected, and there is "{found}"' if found else "it ends too soon")
        self._begins += 1

    def _fail(self, why: str) -> None:
        if self._over and self._begins >= len(self._text.rstrip()):
            raise KanalError(f"{self._name} ends in the middle of a record", "have it sent again")
        near = shortened(self._text[self._begins : self._begins + 60].split("\n")[0], 40)
        raise KanalError(f"{self._name} is no JSON: {why}, near {near}", "have it sent again, or correct its kind")

    def value(self) -> tuple[Any, str]:
        """The next value and its text; raises KanalError if there is none."""
        self.sign()
        while True:
            wrong: Exception | None = None
            try:
                found, end = DECODER.raw_decode(self._text, self._begins)
            except _NoObject as error:
                found, end = error, self._end_of_value()
            except (ValueError, RecursionError) as error:
                wrong, found, end = error, None, len(self._text)
            if end < len(self._text) or self._over:
                if wrong is not None:
                    cut_off = isinstance(wrong, json.JSONDecodeError) and wrong.pos >= len(self._text.rstrip()) - 1
                    if cut_off or (isinstance(wrong, json.JSONDecodeError) and "Unterminated" in wrong.msg):
                        raise KanalError(f"{self._name} ends in the middle of a record", "have it sent again")
                    self._fail(_no_json(wrong).removeprefix("it is no JSON: "))
                raw = self._text[self._begins : end]
                self._begins = end
                return found, raw
            if isinstance(wrong, RecursionError):
                self._fail("it is nested too deeply")
            self._more()

    def _end_of_value(self) -> int:
        """Where a value ends that is JSON, but no row."""
        try:
            return json.JSONDecoder().raw_decode(self._text, self._begins)[1]
        except ValueError:
            return len(self._text)

    def enter(self, name: str, pointer: str) -> None:
        """Go to the value of a name in the object, or of a place in the list, that comes next."""
        opening = self.sign()
        if opening == "[" and name.isascii() and name.isdigit():
            self._take("[")
            for _ in range(int(name)):
                self.value()
                if self.sign() != ",":
                    break
                self._take(",")
            else:
                return
        elif opening == "{":
            self._take("{")
            while self.sign() == '"':
                key, _ = self.value()
                self._take(":")
                if key == name:
                    return
                self.value()
                if self.sign() != ",":
                    break
                self._take(",")
        raise KanalError(f"{self._name} has nothing at {pointer}", "correct rows in the [format.NAME]")

    def end(self) -> None:
        """Raise KanalError where more follows."""
        if self.sign():
            self._fail("more follows after its list")

    def elements(self) -> Iterator[tuple[int, Any, str]]:
        """The values of the list that comes next, with their places."""
        self._take("[")
        place = 0
        while self.sign() != "]" or place:
            place += 1
            value, raw = self.value()
            yield place, value, raw
            if self.sign() == "]":
                break
            self._take(",")
        self._take("]")
