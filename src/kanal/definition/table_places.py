"""Where tables are: sources, targets and looked-up tables."""

from __future__ import annotations

import re
from typing import Any, Self

from pydantic import Field, model_validator

from kanal.definition.base import Model
from kanal.definition.places import quote_part, split_place

#: A pattern of file names, or a name with two dots in it, which no table has.
_FILES = re.compile(r"[^\"]*[*?/{][^\"]*|[^.\"]+\.[^.\"]+\.[^\"]+")


def _place(text: str) -> dict[str, str]:
    """A place as text, by its parts."""
    connection, colon, rest = text.partition(":")
    if colon and _FILES.fullmatch(rest):
        return {"connection": connection.strip(), "files": rest.strip()}
    connection, schema, table = split_place(text)
    return {"connection": connection, "table": table} | ({"schema": schema} if schema else {})


class Place(Model):
    """A table, or the files of a pattern, on a connection."""

    connection: str
    table: str | None = None
    schema_: str | None = Field(default=None, alias="schema")
    files: str | None = None
    format: str | None = None

    def _check_given(self, *names: str) -> None:
        given = [name for name in names if getattr(self, name) is not None]
        if len(given) != 1:
            none = f"neither {', '.join(names[:-1])} nor {names[-1]} is given"
            several = f"{' and '.join(given)} are given"
            raise ValueError(f"{several if given else none}: name one of them")
        if self.schema_ is not None and self.files is not None:
            raise ValueError("a schema is given with files: remove it")

    @property
    def name(self) -> str:
        """The name of the table, or the pattern of the files."""
        return self.files if self.files is not None else self.table or ""

    @property
    def pattern(self) -> str:
        """The files that are meant, on a connection that has files."""
        return f"{self.schema_}.{self.name}" if self.schema_ else self.name

    @property
    def label(self) -> str:
        """The place for people."""
        if self.files is not None:
            return f"{self.connection}:{self.files}"
        schema = f"{quote_part(self.schema_)}." if self.schema_ else ""
        return f"{self.connection}:{schema}{quote_part(self.table or '')}"


class Source(Place):
    """Where rows come from: a table, a query, or the files of a pattern, on a connection. As text:
    `CONNECTION:SCHEMA.TABLE`, or `CONNECTION:PATTERN` for files."""

    query: str | None = None
    #: Rows of the Python program itself, which no job file can hold.
    data: Any = Field(default=None, exclude=True, repr=False)

    @model_validator(mode="before")
    @classmethod
    def _from_text(cls, value: Any) -> Any:
        if hasattr(value, "__arrow_c_stream__") or hasattr(value, "__arrow_c_array__"):
            return {"connection": f"data {id(value):x}", "table": "data", "data": value}
        return _place(value) if isinstance(value, str) else value

    @model_validator(mode="after")
    def _one(self) -> Self:
        self._check_given("table", "query", "files")
        if self.query is not None and self.schema_ is not None:
            raise ValueError("a schema is given with a query: name it inside the query")
        return self

    @property
    def label(self) -> str:
        """The source for people."""
        if self.data is not None:
            return f"a {type(self.data).__name__}"
        return f"{self.connection}: query" if self.query is not None else super().label


class Table(Place):
    """A table, or the files of a pattern, on a connection. As text: `CONNECTION:SCHEMA.TABLE`, or `CONNECTION:PATTERN`
    for files."""

    #: The program's own Memory, which no job file can hold.
    memory: Any = Field(default=None, exclude=True, repr=False)

    @model_validator(mode="before")
    @classmethod
    def _from_text(cls, value: Any) -> Any:
        if getattr(value, "kanal_target", False):
            return {"connection": f"memory {id(value):x}", "table": "memory", "memory": value}
        return _place(value) if isinstance(value, str) else value

    @model_validator(mode="after")
    def _one(self) -> Self:
        self._check_given("table", "files")
        return self

    @property
    def label(self) -> str:
        """The table for people."""
        return "memory" if self.memory is not None else super().label
