"""Sends rows to a resource of an HTTP API, each request with a key by which the service knows it again."""

from __future__ import annotations

import datetime as dt
import hashlib
import json
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any
from urllib.parse import quote, urljoin

import pyarrow as pa
from msgspec import Struct

from kanal.connections.api_client import ApiError, Client, Page, path_of
from kanal.connections.bodies import whole_number
from kanal.connections.description import TableInfo
from kanal.connections.files.json_text import Number, as_text, found_at, pointed, written
from kanal.connections.files.text_writers import json_values
from kanal.connections.loading import RefusedRow
from kanal.connections.plain import PlainLoad
from kanal.core.types import TEXT

if TYPE_CHECKING:
    from kanal.connections.base import Target
    from kanal.definition.resources import Resource, Send

#: Answers by which a service refuses what it was sent, and not to be asked (RFC 9110, section 15.5).
_REFUSING = (400, 409, 413, 422)
#: After this many rows of which the service takes none, the load gives up.
_HOPELESS = 200


class _Outgoing(Struct, frozen=True):
    """A row: its object as JSON, and its values by column for the path."""

    text: str
    values: dict[str, str]


class ApiLoad(PlainLoad):
    """A load into an API. What was sent stays; what comes twice is known by its key."""

    def __init__(self, target: Target, resources: Mapping[str, Resource], client: Client) -> None:
        super().__init__(target)
        self._client = client
        self._resources = resources
        self._mark = ""
        self._taken = 0
        self._refused = 0

    def for_run(self, number: int, step: str, moment: dt.datetime) -> None:
        # A run that is continued is the same run, whose requests have the same keys.
        self._mark = f"{number} {step} {moment.isoformat()}"

    def encode(self, table: TableInfo, rows: pa.RecordBatch) -> list[_Outgoing]:
        fields = self._resources[table.name].fields
        names = rows.schema.names
        types = {column.name: column.type or TEXT for column in table.columns}
        cells = [json_values(values, types[name]) for name, values in zip(names, rows.columns, strict=True)]
        pointers = {name: pointed(fields[name].pointer or "") or [name] for name in names}
        made = []
        for row in zip(*cells, strict=True):
            whole: dict[str, Any] = {}
            for name, text in zip(names, row, strict=True):
                _put(whole, pointers[name], Number(text))
            made.append(_Outgoing(written(whole), dict(zip(names, row, strict=True))))
        return made

    def insert(self, table: TableInfo, encoded: list[_Outgoing]) -> Sequence[RefusedRow]:
        resource = self._resources[table.name]
        send = resource.send
        assert send is not None
        refused: list[RefusedRow] = []
        for start in range(0, len(encoded), send.rows):
            rows = encoded[start : start + send.rows]
            found = self._sent(resource, send, rows, start)
            refused += found
            self._refused += len(found)
            self._taken += len(rows) - len(found)
            if not self._taken and self._refused >= _HOPELESS:
                raise ApiError(
                    f"the service refused each of the first {self._refused} rows, the last with: {refused[-1].words}",
                    "correct the mapping, or what the resource says of it",
                )
        return refused

    def _sent(self, resource: Resource, send: Send, rows: list[_Outgoing], place: int) -> list[RefusedRow]:
        """Send some rows; those that the service refused."""
        if "{" in resource.path and (why := _not_in_path(resource.path, rows[0].values)):
            return [RefusedRow(place, why)]
        body = rows[0].text if send.list is None else _in_list(send.list, [row.text for row in rows])
        address = urljoin(self._client.base, _filled_path(resource.path, rows[0].values).lstrip("/"))
        key = hashlib.sha256(f"{self._mark} {send.method} {address} {body}".encode()).hexdigest()[:32]
        try:
            page = self._client.send(send.method, address, body.encode(), key, send.once)
        except ApiError as error:
            if error.status not in _REFUSING:
                if not self._taken:
                    raise
                # A step that is tried again would send the rows before it again.
                what = f"{error.what}; {self._taken:,} rows were sent before, and stay there"
                raise ApiError(what, error.remedy, error.passing and send.once) from None
            if len(rows) == 1:
                return [RefusedRow(place, error.what.removeprefix(f"{path_of(address)}: "))]
            half = len(rows) // 2  # which of them is refused is not told
            first = self._sent(resource, send, rows[:half], place)
            return first + self._sent(resource, send, rows[half:], place + half)
        return _told(page, send, len(rows), place)

    def commit(self) -> None:
        """Nothing: what was sent is there."""


def _put(whole: dict[str, Any], parts: Sequence[str], value: Any) -> None:
    """Put a value where a pointer leads."""
    for part in parts[:-1]:
        whole = whole.setdefault(part, {})
    whole[parts[-1]] = value


def _in_list(pointer: str, texts: Sequence[str]) -> str:
    """A body that has a list of objects where a pointer leads."""
    listed = Number("[" + ",".join(texts) + "]")
    parts = pointed(pointer)
    if not parts:
        return str(listed)
    whole: dict[str, Any] = {}
    _put(whole, parts, listed)
    return written(whole)


def _not_in_path(path: str, values: Mapping[str, str]) -> str:
    """Why a value of a row cannot be a part of a path, which would lead to another resource; "" if all can."""
    for name, text in values.items():
        if f"{{{name}}}" not in path:
            continue
        plain = json.loads(text) if text.startswith('"') else text
        if text == "null" or not plain:
            return f"{name} is {'NULL' if text == 'null' else 'empty'}, and is a part of the path {path}"
        if plain in (".", "..") or any(sign in "/\\" or not sign.isprintable() for sign in plain):
            return f"{name} cannot be a part of the path {path}: it would lead to another resource"
    return ""


def _filled_path(path: str, values: dict[str, str]) -> str:
    """A path with a row's values in the place of {column}."""
    for name, text in values.items():
        if f"{{{name}}}" in path:
            plain = json.loads(text) if text.startswith('"') else text
            path = path.replace(f"{{{name}}}", quote(plain, safe=""))
    if "{" in path:
        raise ApiError(f"the path {path} names a column that is not mapped", "map it, or correct path")
    return path


def _told(page: Page, send: Send, rows: int, place: int) -> list[RefusedRow]:
    """The rows that an answer says were not taken."""
    if send.refused is None:
        return []
    listed = found_at(page.content, pointed(send.refused.rows))
    refused = []
    for member in listed if isinstance(listed, list) else []:
        number = whole_number(as_text(found_at(member, pointed(send.refused.place))) or "")
        if number is None or number >= rows:
            raise ApiError("the service says that it refused a row, but not which", "correct refused in send")
        words = as_text(found_at(member, pointed(send.refused.message))) or "the service refused it"
        refused.append(RefusedRow(place + number, words))
    return refused
