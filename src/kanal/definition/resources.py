"""The resources of an HTTP API that answers JSON: lists of objects, which are read as tables."""

from __future__ import annotations

import re
from typing import Any, Literal, Self

from pydantic import Field, field_validator, model_validator

from kanal.definition.base import Model, known_type

_POINTER = re.compile(r"(/[^/]*)*")


def _checked_pointer(value: str | None) -> str | None:
    if value is not None and not _POINTER.fullmatch(value):
        raise ValueError(f'"{value}" is no JSON Pointer: begin with /, as in /data/items')
    return value


class SignIn(Model):
    """How an API is signed in to: with the password as a bearer token, as basic authentication, in a header of its own;
    or with a token that is fetched from `token_url` for the URL's user and the password (RFC 6749, section 4.4). As
    text: `"bearer"` or `"basic"`."""

    way: Literal["bearer", "basic"] | None = None
    header: str | None = Field(default=None, min_length=1)
    token_url: str | None = None
    scope: str | None = None

    @model_validator(mode="before")
    @classmethod
    def _from_text(cls, value: Any) -> Any:
        return {"way": value} if isinstance(value, str) else value

    @model_validator(mode="after")
    def _one(self) -> Self:
        if sum(part is not None for part in (self.way, self.header, self.token_url)) != 1:
            raise ValueError(
                'it says no one way: write "bearer", "basic", { header = "NAME" } or { token_url = "URL" }'
            )
        if self.scope is not None and self.token_url is None:
            raise ValueError("scope goes with token_url: remove it, or name the address of the tokens")
        return self


class Next(Model):
    """Where the next page is: a pointer to its address, the answer's Link header (RFC 8288), or a parameter: the number
    of the page, how many rows come before, or the cursor that the last answer gave."""

    pointer: str | None = None
    link: bool = False
    page: str | None = None
    offset: str | None = None
    cursor: str | None = None
    parameter: str | None = None
    size: int | None = Field(default=None, ge=1)
    size_parameter: str = "limit"
    first: int | None = None

    _pointers = field_validator("pointer", "cursor")(_checked_pointer)

    @model_validator(mode="after")
    def _one(self) -> Self:
        ways = [name for name in ("pointer", "page", "offset", "cursor") if getattr(self, name) is not None]
        ways += ["link"] if self.link else []
        if len(ways) != 1:
            raise ValueError("it says no one way: give one of pointer, link = true, page, offset or cursor")
        if (self.cursor is None) != (self.parameter is None):
            raise ValueError("cursor and parameter go together: name the parameter that takes the cursor")
        if (self.page is not None or self.offset is not None) and self.size is None:
            raise ValueError("how many rows a page has is not said: add size")
        return self


class Refused(Model):
    """Where an answer lists the rows of a request that were not taken: `rows` points to the list, `place` and `message`
    in its members to the row's number in the request, from 0, and to why."""

    rows: str
    place: str = "/index"
    message: str = "/message"

    _pointers = field_validator("rows", "place", "message")(_checked_pointer)


class Send(Model):
    """How rows are sent: so many a request, in the list that a pointer names, or one as the whole body. `repeatable`
    says that the service takes a request once that comes twice with the same Idempotency-Key; PUT is so by itself."""

    method: Literal["POST", "PUT", "PATCH"] = "POST"
    rows: int = Field(default=1, ge=1)
    list: str | None = None
    repeatable: bool = False
    refused: Refused | None = None

    _pointers = field_validator("list")(_checked_pointer)

    @model_validator(mode="after")
    def _as_a_list(self) -> Self:
        if self.rows > 1 and self.list is None:
            raise ValueError('several rows need a list: say where, such as list = "/items", or list = "" for the whole')
        if self.refused is not None and self.list is None:
            raise ValueError("refused goes with a list: a row that is sent by itself is refused as a whole")
        return self

    @property
    def once(self) -> bool:
        """True if a request that comes twice does no harm."""
        return self.repeatable or self.method == "PUT"


class ResourceField(Model):
    """A column of a resource: its type, and the JSON Pointer to it in a row, or, of the members of a list in it, in
    their `parent`. As text: the type."""

    type: str = "text"
    pointer: str | None = None
    parent: bool = False

    _pointers = field_validator("pointer")(_checked_pointer)

    @model_validator(mode="before")
    @classmethod
    def _from_text(cls, value: Any) -> Any:
        return {"type": value} if isinstance(value, str) else value

    _type_is_known = field_validator("type")(known_type)


class Resource(Model):
    """A list of rows of an API. `path` is added to the connection's url; `rows` is the JSON Pointer to the list, `next`
    says where the next page is, `watermark_format` how {watermark} is written in `query`, `total` is the pointer to how
    many rows there are, `send` how rows are written. With `each`, the pointer to a list in each row, the members of
    that list are the rows."""

    path: str = ""
    rows: str = ""
    each: str | None = None
    next: Next | None = None
    query: dict[str, str | int | float | bool] = Field(default_factory=dict)
    watermark_format: str = "rfc3339"
    total: str | None = None
    send: Send | None = None
    fields: dict[str, ResourceField] = Field(default_factory=dict)

    _pointers = field_validator("rows", "total", "each")(_checked_pointer)

    @field_validator("watermark_format")
    @classmethod
    def _format_is_known(cls, value: str) -> str:
        if value not in ("rfc3339", "unix") and "%" not in value:
            raise ValueError(
                f'"{value}" is not a format of a moment: write "rfc3339", "unix" (seconds since 1970), or one such as '
                '"%Y-%m-%d %H:%M:%S"'
            )
        return value

    @model_validator(mode="after")
    def _can_be_sent(self) -> Self:
        if self.send is not None and not self.fields:
            raise ValueError("rows that are sent need fields: name them with their types")
        if self.send is not None and self.send.rows > 1 and "{" in self.path:
            raise ValueError("a path of one row's values takes one row: set rows = 1 in send")
        return self
