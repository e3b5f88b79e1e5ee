"""How the files of a connection are written."""

from __future__ import annotations

import codecs
import re
from typing import Annotated, Any, Literal, Self

from pydantic import BeforeValidator, Field, field_validator, model_validator

from kanal.definition.base import Model

_RANGE = re.compile(r"([A-Za-z]{1,3})([1-9]\d*):([A-Za-z]{1,3})([1-9]\d*)?")
#: The keys of each kind, besides the keys of every kind.
_KEYS = {
    "csv": {"delimiter", "quote", "escape", "encoding", "header", "columns", "skip_lines", "comment",
            "escape_formulas"},
    "fixed": {"encoding", "columns", "skip_lines", "comment", "pad_lines"},
    "json": {"encoding", "rows", "columns"},
    "jsonl": {"encoding", "columns"},
    "parquet": set[str](),
    "arrow": set[str](),
    "excel": {"header", "columns", "skip_lines", "sheet", "range"},
}  # fmt: skip


def _joined(value: Any) -> Any:
    """Several encodings, which are tried in order, as one text."""
    if isinstance(value, list) and value and all(isinstance(name, str) for name in value):
        return ",".join(name.strip() for name in value)
    return value


def encodings_of(value: str | None) -> list[str]:
    """The encodings that are tried, in order."""
    return [name.strip() for name in (value or "utf-8").split(",")]


class Format(Model):
    """How files are written; what is not said, the ending of a file says.

    `columns` are the names of the columns of a file without a header; with `kind = "fixed"` the first and last
    character of each, from 1; of JSON the JSON Pointer (RFC 6901) to each. `skip_lines` are the lines before the
    header; lines that begin with `comment` are left out. `rows` is the JSON Pointer to the list of rows. A packed file
    that unpacks to more than `unpacked_bytes` is refused.
    """

    kind: Literal["csv", "fixed", "json", "jsonl", "parquet", "arrow", "excel"] | None = None
    delimiter: str | None = Field(default=None, min_length=1, max_length=1)
    quote: str = Field(default='"', max_length=1)
    escape: str | None = Field(default=None, min_length=1, max_length=1)
    encoding: Annotated[str | None, BeforeValidator(_joined, json_schema_input_type=str | list[str] | None)] = None
    header: bool = True
    columns: tuple[str, ...] | dict[str, tuple[int, int]] | dict[str, str] = ()
    skip_lines: int = Field(default=0, ge=0)
    comment: str | None = Field(default=None, min_length=1)
    pad_lines: bool = False
    rows: str = ""
    sheet: str | int | None = None
    range: str | None = None
    escape_formulas: bool = False
    unpacked_bytes: int | None = Field(default=None, ge=1)

    @field_validator("columns", mode="before")
    @classmethod
    def _as_tuples(cls, value: Any) -> Any:
        if isinstance(value, list | tuple) and all(isinstance(name, str) for name in value):
            return tuple(value)
        if isinstance(value, dict) and value:
            if all(isinstance(part, str) for part in value.values()):
                return dict(value)
            pairs = {name: tuple(part) if isinstance(part, list | tuple) else () for name, part in value.items()}
            if all(len(part) == 2 and all(type(one) is int for one in part) for part in pairs.values()):
                return pairs
        raise ValueError('it is not understood: write ["NAME", …], { NAME = [FIRST, LAST] } or { NAME = "/POINTER" }')

    @field_validator("encoding")
    @classmethod
    def _known_encoding(cls, value: str | None) -> str | None:
        for name in encodings_of(value):
            try:
                codecs.lookup(name)
            except LookupError:
                raise ValueError(f'there is no encoding "{name}": write one such as utf-8, cp1252 or utf-16') from None
        return value

    @field_validator("range")
    @classmethod
    def _known_range(cls, value: str | None) -> str | None:
        if value is not None and _RANGE.fullmatch(value) is None:
            raise ValueError(f'"{value}" is no range of cells: write one such as B3:H, or B3:H200')
        return value

    @field_validator("rows")
    @classmethod
    def _known_pointer(cls, value: str) -> str:
        if value and not value.startswith("/"):
            raise ValueError(f'"{value}" is no JSON Pointer: begin with /, as in /data/items')
        return value

    @model_validator(mode="after")
    def _whole(self) -> Self:
        if self.kind is not None:
            for name in self.model_fields_set - {"kind", "unpacked_bytes", *_KEYS[self.kind]}:
                fitting = " or ".join(kind for kind, keys in _KEYS.items() if name in keys)
                raise ValueError(f"{name} does not go with kind {self.kind}: remove it; it is for {fitting}")
        self._check_columns()
        special = [sign for sign in (self.delimiter, self.quote, self.escape) if sign]
        if len(set(special)) < len(special) or set(special) & set("\r\n"):
            raise ValueError("delimiter, quote and escape must be three different characters, and no line breaks")
        return self

    def _check_columns(self) -> None:
        places = self.places
        pointers = [part for part in places.values() if isinstance(part, str)]
        if self.kind == "fixed":
            if not places or pointers:
                raise ValueError("a file of fixed width needs the first and last character of each column: add columns")
            for name, part in places.items():
                if isinstance(part, tuple) and not 1 <= part[0] <= part[1]:
                    raise ValueError(f"{name} ends before it begins, or begins before 1: write its first and last "
                                     "character")  # fmt: skip
            return
        if self.kind in ("json", "jsonl"):
            if self.columns and len(pointers) < len(self.columns):
                raise ValueError('columns of JSON are found by pointers: write columns = { NAME = "/POINTER" }')
            return
        if places:
            raise ValueError('columns by place go with kind "fixed", by pointer with "json" or "jsonl": set kind')
        if self.header and self.columns:
            raise ValueError("columns are given for a file with a header: set header = false, or remove them")
        if not self.header and not self.columns:
            raise ValueError("a file without a header needs the names of its columns: add columns")
        if len(set(self.columns)) < len(self.columns):
            raise ValueError("columns has a name twice: rename one of the two")

    @property
    def places(self) -> dict[str, tuple[int, int] | str]:
        """Where each column is, if that is said: its first and last character, or the JSON Pointer to it."""
        return dict(self.columns.items()) if isinstance(self.columns, dict) else {}

    @property
    def cells(self) -> tuple[int, int, int | None, int | None]:
        """The first column and row of the range, from 0, and the last ones if they are said."""
        found = _RANGE.fullmatch(self.range or "")
        if found is None:
            return 0, 0, None, None

        def number(letters: str) -> int:
            place = 0
            for letter in letters.upper():
                place = place * 26 + ord(letter) - 64
            return place - 1

        last = int(found[4]) - 1 if found[4] else None
        return number(found[1]), int(found[2]) - 1, number(found[3]), last
